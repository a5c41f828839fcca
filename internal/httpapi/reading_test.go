package httpapi_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/wire"
)

func as[T any](t *testing.T, r *reply) (v T) {
	t.Helper()
	if err := json.Unmarshal(r.text, &v); err != nil || r.StatusCode >= 300 {
		t.Fatalf("%s: %s", r.Status, r.text)
	}
	return v
}

func TestATableAsItWas(t *testing.T) {
	t.Parallel()
	s := start(t)
	first := s.table("columns=quote.last,quote.time")
	s.clock.set("2026-03-06T17:00:00Z")
	s.refresh(`{"only":["quotes"]}`)
	now := s.table("columns=quote.last,quote.time")
	then := s.table("columns=quote.last,quote.time&as_of=2026-03-06T16:24:00Z")
	if now.Rows[0].Cells[1].V == first.Rows[0].Cells[1].V || then.Rows[0].Cells[1].V != first.Rows[0].Cells[1].V || then.Rows[0].Cells[0].V != first.Rows[0].Cells[0].V {
		t.Errorf("first %v, now %v, as it was %v", first.Rows[0].Cells, now.Rows[0].Cells, then.Rows[0].Cells)
	}
	if then.Rows[0].Cells[0].State != "fresh" {
		t.Errorf("at the time it was fresh: %+v", then.Rows[0].Cells[0])
	}
	// A date means its end; before anything was known there is nothing.
	if today := s.table("columns=quote.last&as_of=2026-03-05"); today.Counts.Fresh != 0 || today.Rows[0].Cells[0].Reason != "never_fetched" {
		t.Errorf("the day before: %+v", today.Rows[0].Cells[0])
	}
}

func TestLookingUpWhileTyping(t *testing.T) {
	t.Parallel()
	s := start(t)
	for query, want := range map[string]string{
		"kel": "KELP.XCVH", "blue rope": "MUSL.XCVH MUSL.XNMK", "XA000BLUEM12": "MUSL.XCVH MUSL.XNMK", "s&t": "S&T.XNMK", "潮見": "SHIO.XTSG", "eur/": "EUR/GBP EUR/USD", "zzzz": "",
	} {
		var got []string
		for _, l := range as[wire.Listings](t, s.get("/api/v1/listings?query="+url.QueryEscape(query))).Listings {
			got = append(got, l.Symbol)
			if l.Name == "" || l.Exchange == "" || l.Currency == "" {
				t.Errorf("%s: %+v", query, l)
			}
		}
		if !strings.HasPrefix(strings.Join(got, " "), want) || want == "" && len(got) > 0 {
			t.Errorf("%q finds %v, want %s", query, got, want)
		}
	}
	if l := as[wire.Listing](t, s.get("/api/v1/listings/EUR-USD")); l.Kind != "pair" || l.Currency != "USD" {
		t.Errorf("got %+v", l)
	}
}

func TestManySymbolsByManyFields(t *testing.T) {
	t.Parallel()
	s := start(t)
	tab := as[wire.Table](t, s.get("/api/v1/values?symbols=KELP.XCVH,MUSL.XNMK,rope&fields=quote.last,price.close@2026-02-28,price.close@-1y"))
	if len(tab.Rows) != 3 || tab.Columns[1].Label != "Close of day 2026-02-28" || tab.Rows[0].Cells[1].Period != "2026-02-27" {
		t.Errorf("got %+v", tab)
	}
	pence := tab.Rows[1].Cells[0]
	if pence.Unit != "GBP" || fmt.Sprint(pence.Flags) != "[delayed minor_unit]" {
		t.Errorf("a quote in pence: %+v", pence)
	}
	if gone := s.get("/api/v1/value?symbol=LIME.XTSG&field=quote.last").problem(t); gone.Status != 404 || !strings.Contains(gone.Detail, "not_covered") || gone.Hint == "" {
		t.Errorf("got %+v", gone)
	}
}

func TestTheServiceTellsOfItself(t *testing.T) {
	t.Parallel()
	s := start(t)
	status := as[wire.Status](t, s.get("/api/v1/status"))
	phases := map[string]string{}
	for _, p := range status.Exchanges {
		phases[p.Exchange] = p.Phase
	}
	if status.Database != "ready" || status.Listings != 60 || phases["XCVH"] != "open" || phases["XTSG"] != "closed" || phases["XPLR"] != "open" {
		t.Errorf("got %+v", status)
	}
	src := as[wire.Sources](t, s.get("/api/v1/sources")).Sources[0]
	if src.Name != "gannet" || !src.HasKey || src.Spent <= 0 || src.Left+src.Spent != src.UnitsPerDay || src.LastSuccess == nil || src.Fault != "" {
		t.Errorf("got %+v", src)
	}
	http.Post(s.vendor+"/admin/faults", "application/json", strings.NewReader(`{"kind":"key","dataset":"quotes"}`))
	s.refresh(`{"force":true,"only":["quotes"]}`)
	src = as[wire.Sources](t, s.get("/api/v1/sources")).Sources[0]
	if !strings.Contains(src.Fault, "key refused (401)") || src.LastFault == nil {
		t.Errorf("after a refused key: %+v", src)
	}
	for _, view := range as[wire.Catalogue](t, s.get("/api/v1/fields?query=volatility")).Views {
		if tab := s.table("view=" + view.Name); len(tab.Columns) != len(view.Columns) {
			t.Errorf("view %s has %d columns", view.Name, len(tab.Columns))
		}
	}
}

func TestARefreshIsCancelledOverHTTP(t *testing.T) {
	t.Parallel()
	s := start(t)
	http.Post(s.vendor+"/admin/faults", "application/json", strings.NewReader(`{"kind":"latency","millis":3000,"dataset":"bars"}`))
	queued := as[wire.Refresh](t, s.send("POST", "/api/v1/watchlists/income/refreshes", `{"force":true}`))
	id := fmt.Sprint(queued.ID)
	// While it runs, what it will bring is marked and what is there stays.
	marked := false
	for _, e := range s.eventsUntil("/api/v1/refreshes/"+id+"/events", "planned") {
		marked = marked || e.kind == "planned"
	}
	if err := s.service.Book.CatchUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	if c := s.table("columns=price.close").Rows[0].Cells[0]; !marked || !strings.Contains(fmt.Sprint(c.Flags), "refreshing") || c.State != "fresh" {
		t.Errorf("while it is refreshed: %+v", c)
	}
	s.send("POST", "/api/v1/refreshes/"+id+"/cancel", "")
	s.events("/api/v1/refreshes/"+id+"/events", "")
	if r := as[wire.Refresh](t, s.get("/api/v1/refreshes/"+id)); r.State != "cancelled" || r.Finished == nil {
		t.Errorf("got %+v", r)
	}
	if list := as[wire.Refreshes](t, s.get("/api/v1/refreshes?watchlist=income&limit=1")); list.Refreshes[0].ID != queued.ID {
		t.Errorf("the newest is %+v", list.Refreshes)
	}
}

// Two instances on one database share the work and see what the other stores.
func TestTwoInstancesOnOneDatabase(t *testing.T) {
	t.Parallel()
	var options service.Options
	first := start(t, func(o *service.Options) { options = *o })
	other, err := service.Start(t.Context(), options)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Stop()
	second := &server{t, other.Address, first.vendor, first.clock, other}
	changed, stop := other.Book.Listen(func(what string, _ int64) bool { return what == "watchlist" })
	defer stop()
	first.send("PATCH", "/api/v1/watchlists/income/rows/KELP.XCVH", `{"quantity":"7"}`)
	<-changed
	if tab := second.table("columns=holding.quantity"); tab.Rows[0].Cells[0].V != 7.0 {
		t.Errorf("the other instance shows %v", tab.Rows[0].Cells[0].V)
	}
	var wait sync.WaitGroup
	var mu sync.Mutex
	answered := 0
	for i := range 4 {
		s := []*server{first, second}[i%2]
		wait.Go(func() {
			r := s.refresh(`{"force":true,"only":["quotes"]}`)
			mu.Lock()
			defer mu.Unlock()
			answered += r.Answered
			if r.State != "done" {
				t.Errorf("got %+v", r)
			}
		})
	}
	wait.Wait()
	log := as[wire.Requests](t, first.get("/api/v1/requests?limit=200"))
	quotes := 0
	for _, q := range log.Requests {
		if q.Call == "quotes" && q.Fault == "" {
			quotes++
		}
	}
	if quotes != answered+3 { // three for the demo's lists
		t.Errorf("the log has %d answered requests for quotes, the refreshes count %d", quotes, answered)
	}
}
