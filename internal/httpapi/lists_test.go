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
		if len(before[i].Bars.Date) != 0 || len(before[i].Remarks) != 1 || !strings.Contains(before[i].Remarks[0], "--fetch asks for more") || len(x.Bars.Date) != 12 || len(x.Bars.Partial) != 0 {
			t.Errorf("%s: before %v, now %v %v", x.Symbol, before[i].Remarks, x.Bars.Date, x.Remarks)
		}
	}
	if p := s.send("POST", "/api/v1/refreshes", `{"symbols":["NOPE.XCVH"]}`).problem(t); !strings.Contains(p.Detail, "NOPE.XCVH") {
		t.Errorf("got %+v", p)
	}
}
