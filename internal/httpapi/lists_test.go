package httpapi_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"soba.invalid/soba/internal/wire"
)

func TestExchangesAndTheirCalendars(t *testing.T) {
	t.Parallel()
	s := start(t) // on Friday 6 March 2026 at 16:20 UTC
	all := as[wire.Exchanges](t, s.get("/api/v1/exchanges?days=30")).Exchanges
	i := slices.IndexFunc(all, func(e wire.Exchange) bool { return e.Exchange == "XCVH" })
	if len(all) != 4 || i < 0 {
		t.Fatalf("got %+v", all)
	}
	// Founders' Tide is in the range, Slack Friday on 3 April too, Slack Monday on the 6th not.
	want := "2026-03-10 Founders' Tide; 2026-04-03 Slack Friday"
	var days []string
	for _, d := range all[i].Days {
		days = append(days, d.Date+" "+d.Name+d.Closes)
	}
	if e := all[i]; strings.Join(days, "; ") != want || e.Phase.Phase != "open" || e.Opens != "08:30" || e.Zone != "Atlantic/Azores" || fmt.Sprint(e.Weekend) != "[Saturday Sunday]" || e.Index != "CV50.XCVH" {
		t.Errorf("got %+v, want %s", e, want)
	}
	eve := as[wire.Exchanges](t, s.get("/api/v1/exchanges?from=2025-12-22&days=4")).Exchanges[i].Days
	if fmt.Sprint(eve) != "[{2025-12-24  12:30} {2025-12-25 Midwinter }]" {
		t.Errorf("around Midwinter: %v", eve)
	}
	if p := s.get("/api/v1/exchanges?from=soon").problem(t); p.Status != 422 || !strings.Contains(p.Detail, `"soon" is not a day`) {
		t.Errorf("got %+v", p)
	}
}

// asks for a refresh and waits for its end.
func (s *server) asks(path, body string) wire.Refresh {
	s.t.Helper()
	r := s.send("POST", path, body)
	var asked wire.Refresh
	if err := json.Unmarshal(r.text, &asked); err != nil || r.StatusCode != 202 {
		s.t.Fatalf("%s %s", r.Status, r.text)
	}
	s.events(fmt.Sprintf("/api/v1/refreshes/%d/events", asked.ID), "")
	return as[wire.Refresh](s.t, s.get(fmt.Sprintf("/api/v1/refreshes/%d", asked.ID)))
}

func TestTheMembersOfAnIndexAreAList(t *testing.T) {
	t.Parallel()
	s := start(t)
	const members = "/api/v1/watchlists/TSUG.XTSG"
	r := s.asks(members+"/refreshes", `{"only":["quotes","bars"],"force":true}`)
	if r.State != "done" || r.Failed != 0 || r.Answered == 0 {
		t.Fatalf("got %+v", r)
	}
	tab := as[wire.Table](t, s.get(members+"/table?columns=quote.last,profile.kind,profile.exchange"))
	if len(tab.Rows) < 5 || tab.Watchlist != "TSUG.XTSG" {
		t.Fatalf("%d members of %s", len(tab.Rows), tab.Watchlist)
	}
	for _, row := range tab.Rows {
		if row.Cells[1].V != "share" || row.Cells[2].V != "Tsugumi Exchange" || row.Cells[0].State == "missing" && row.Cells[0].Reason != "not_covered" {
			t.Errorf("got %+v", row)
		}
	}
	if all := as[wire.Prices](t, s.get("/api/v1/prices?watchlist=TSUG.XTSG&from=-1w")); len(all.Series) != len(tab.Rows) {
		t.Errorf("prices of %d members, of %d", len(all.Series), len(tab.Rows))
	}
	// The index itself came too, and another listing is a list of one.
	if v := as[wire.Table](t, s.get("/api/v1/values?symbols=TSUG.XTSG&fields=quote.last")); v.Rows[0].Cells[0].State != "fresh" {
		t.Errorf("the index itself: %+v", v.Rows[0])
	}
	if one := as[wire.Table](t, s.get("/api/v1/watchlists/KELP.XCVH/table")); len(one.Rows) != 1 || one.Rows[0].Symbol != "KELP.XCVH" {
		t.Errorf("got %+v", one.Rows)
	}
	if p := s.get("/api/v1/watchlists/KELP.XXXX/table").problem(t); p.Status != 404 || !strings.Contains(p.Detail, "no watchlist") {
		t.Errorf("got %+v", p)
	}
	if p := s.send("PATCH", members, `{"name":"mine"}`, "If-Match", `"1"`).problem(t); p.Status != 404 {
		t.Errorf("an index is renamed: %+v", p)
	}
}

// A value that is read from two datasets, or against an index, names what brought each.
func TestAnExplanationNamesAllThatWasRead(t *testing.T) {
	t.Parallel()
	s := start(t)
	for field, want := range map[string]string{
		"price.total_return_52w": "dividends of KELP.XCVH from history", "price.beta_2y": "bars of CV50.XCVH from history", "price.return_52w": "",
	} {
		e := as[wire.Explanation](t, s.get("/api/v1/explain?symbol=KELP.XCVH&field="+field))
		var got []string
		for _, b := range e.Besides {
			got = append(got, fmt.Sprintf("%s of %s from %s", b.Dataset, b.Symbol, b.Request.Call))
			if b.Cell.State != "fresh" || b.Cell.Source != "gannet" {
				t.Errorf("%s: %+v", field, b)
			}
		}
		if strings.Join(got, "; ") != want || e.Request == nil {
			t.Errorf("%s was read from %v besides, want %s", field, got, want)
		}
	}
}

// One plan brings what several names lack, as far back as was asked or as columns read.
func TestARefreshReachesAsFarAsIsRead(t *testing.T) {
	t.Parallel()
	s := start(t)
	plan := func(body string) (from []string) {
		dry := as[wire.Refresh](t, s.send("POST", "/api/v1/refreshes", body)).Dry
		for _, q := range dry.Requests {
			from = append(from, q.From)
		}
		return from
	}
	for body, want := range map[string]string{
		`{"symbols":["MUSL.XCVH","MUSL.XNMK"],"only":["bars"],"dry_run":true}`:                                              "[2025-02-18]", // 380 days before the last session, of Thursday
		`{"symbols":["MUSL.XCVH","MUSL.XNMK"],"only":["bars"],"from":"2015-06-30","dry_run":true}`:                          "[2015-06-30]",
		`{"symbols":["MUSL.XCVH","MUSL.XNMK"],"only":["bars"],"columns":["price.return_156w","quote.last"],"dry_run":true}`: "[2023-02-24]", // 1092 days and two weeks
	} {
		if got := fmt.Sprint(plan(strings.Replace(body, `"dry_run"`, `"force":true,"dry_run"`, 1))); got != want {
			t.Errorf("%s asks from %s, want %s", body, got, want)
		}
	}
	before := as[wire.Prices](t, s.get("/api/v1/prices?symbols=MUSL.XCVH,MUSL.XNMK&from=2018-01-01&to=2018-12-31&every=month")).Series
	if r := s.asks("/api/v1/refreshes", `{"symbols":["MUSL.XCVH","MUSL.XNMK"],"only":["bars"],"from":"2017-12-18"}`); r.State != "done" || r.Planned != 1 {
		t.Errorf("got %+v", r)
	}
	for i, x := range as[wire.Prices](t, s.get("/api/v1/prices?symbols=MUSL.XCVH,MUSL.XNMK&from=2018-01-01&to=2018-12-31&every=month")).Series {
		if len(before[i].Bars.Date) != 0 || len(before[i].Remarks) != 1 || !strings.Contains(before[i].Remarks[0], "what lies before has not been asked for") || len(x.Bars.Date) != 12 || len(x.Bars.Partial) != 0 {
			t.Errorf("%s: before %v, now %v %v", x.Symbol, before[i].Remarks, x.Bars.Date, x.Remarks)
		}
	}
	if p := s.send("POST", "/api/v1/refreshes", `{"symbols":["NOPE.XCVH"]}`).problem(t); !strings.Contains(p.Detail, "NOPE.XCVH") {
		t.Errorf("got %+v", p)
	}
}

func TestBarsWithinTheDay(t *testing.T) {
	t.Parallel()
	s := start(t) // on Friday 6 March 2026 at 16:20 UTC: KELP trades from 9:30 to 18:00, and comes 15 minutes late
	const hours = "/api/v1/prices?symbols=KELP.XCVH&from=2026-03-05&every=1h"
	if x := as[wire.Prices](t, s.get(hours)).Series[0]; x.Reason != "never_fetched" || len(x.Bars.Date) != 0 {
		t.Errorf("before they are asked for: %+v", x)
	}
	ask := `{"symbols":["KELP.XCVH"],"only":["intraday"]}`
	if r := s.asks("/api/v1/refreshes", ask); r.State != "done" || r.Units != 5 {
		t.Fatalf("got %+v", r)
	}
	x := as[wire.Prices](t, s.get(hours)).Series[0]
	// Nine bars of Thursday, the last of half an hour, and seven of Friday up to 16:05.
	if n := len(x.Bars.Date); n != 16 || x.State != "fresh" || x.Bars.Date[0] != "2026-03-05T09:30:00Z" || x.Bars.Date[8] != "2026-03-05T17:30:00Z" || x.Bars.Date[15] != "2026-03-06T15:30:00Z" || fmt.Sprint(x.Bars.Partial) != "[15]" {
		t.Errorf("%d bars: %+v", n, x)
	}
	// The day ends where its daily bar does, and as much was traded.
	day := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH&on=2026-03-05")).Series[0].Bars
	volume := 0.0
	for _, v := range x.Bars.Volume[:9] {
		volume += *v
	}
	if *x.Bars.Close[8] != *day.Close[0] || *x.Bars.Open[0] != *day.Open[0] || volume != *day.Volume[0] {
		t.Errorf("hours close at %v after %v, the day at %v after %v", *x.Bars.Close[8], volume, *day.Close[0], *day.Volume[0])
	}
	// What is as new as it can be is not asked for again.
	if r := s.asks("/api/v1/refreshes", ask); r.Planned != 0 || r.Skipped == 0 {
		t.Errorf("asked again: %+v", r)
	}
	s.clock.set("2026-03-06T17:20:00Z")
	if later := as[wire.Prices](t, s.get(hours)).Series[0]; later.State != "stale" || later.Reason != "age" {
		t.Errorf("an hour later: %s %s", later.State, later.Reason)
	}
	if r := s.asks("/api/v1/refreshes", ask); r.Planned != 1 {
		t.Errorf("an hour later: %+v", r)
	}
	if fine := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH&on=2026-03-05&every=1m")).Series[0]; len(fine.Bars.Date) != 102 || !strings.Contains(fmt.Sprint(fine.Remarks), "the narrowest bars of gannet are of 5m") {
		t.Errorf("%d bars: %v", len(fine.Bars.Date), fine.Remarks)
	}
	if p := s.get(hours + "&adjust=full").problem(t); p.Status != 422 || !strings.Contains(p.Hint, "splits") {
		t.Errorf("got %+v", p)
	}
}
