package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/wire"
)

func TestASecondStartFindsItsDataAndCtrlCStopsAll(t *testing.T) {
	data := filepath.Join(folder, "again")
	args := []string{"demo", "--data", data, "--listen", "127.0.0.1:0", "--listings", "60", "--clock", "2026-03-07T12:00:00Z"}
	first := start(t, args...)
	first.must(t, nil, "watchlist", "new", "mine")
	first.must(t, nil, "watchlist", "add", "mine", "KELP.XCVH", "--quantity", "1.50", "--cost", "20")
	before := first.must(t, nil, "value", "KELP.XCVH", "quote.last", "price.volatility_1y", "--format", "csv")
	if err := first.interrupt(); err != nil {
		t.Fatalf("Ctrl-C: %v", err)
	}
	if _, err := os.Stat(filepath.Join(data, "postgresql", "postmaster.pid")); err == nil {
		t.Error("PostgreSQL is still running")
	}
	second := start(t, args...)
	if out := strings.Join(second.said, "\n"); !strings.Contains(out, "needs were fresh") || strings.Contains(out, "made the watchlist") {
		t.Errorf("the second start said:\n%s", out)
	}
	if show := second.must(t, nil, "watchlist", "show", "mine", "--format", "csv"); !strings.Contains(show, "KELP.XCVH") || !strings.Contains(show, "1.5") {
		t.Errorf("got %s", show)
	}
	if after := second.must(t, nil, "value", "KELP.XCVH", "quote.last", "price.volatility_1y", "--format", "csv"); after != before {
		t.Errorf("before %s, after %s", before, after)
	}
}

// A service that is killed in mid-refresh goes on when it is started again: all
// is there in the end, nothing was stored twice, and what had been stored is not
// asked for again.
func TestKilledInMidRefreshItGoesOn(t *testing.T) {
	const listings = 260
	clock := []string{"--clock", "2026-03-07T12:00:00Z"}
	vendor := start(t, append([]string{"standin", "--listen", "127.0.0.1:0", "--listings", fmt.Sprint(listings), "--latency", "120ms"}, clock...)...)
	serve := append([]string{"serve", "--data", filepath.Join(folder, "killed"), "--listen", "127.0.0.1:0", "--gannet-url", vendor.address, "--gannet-key", "demo-key"}, clock...)
	service := start(t, serve...)
	var found wire.Listings
	for deadline := time.Now().Add(30 * time.Second); ; {
		service.must(t, &found, "lookup", "x", "--limit", "200", "--format", "json")
		var log wire.Requests
		service.must(t, &log, "requests", "--format", "json")
		if len(log.Requests) == 5 && len(found.Listings) == 200 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the directory does not fill: %d listings", len(found.Listings))
		}
	}
	service.must(t, nil, "watchlist", "new", "many")
	add := []string{"watchlist", "add", "many"}
	for _, l := range found.Listings {
		add = append(add, l.Symbol)
	}
	service.must(t, nil, add...)
	service.must(t, nil, "refresh", "many", "--wait=false")
	for _, answered := range []int{1, 3} {
		service.until(t, func(r wire.Refresh) bool { return r.Answered >= answered })
		service.kill()
		service = start(t, serve...)
	}
	done := service.until(t, func(r wire.Refresh) bool { return r.Over() })
	if done.State != "done" || done.Answered != 6 {
		t.Errorf("200 names by 3 datasets in batches of 100: %+v", done)
	}
	var log wire.Requests
	service.must(t, &log, "requests", "--refresh", fmt.Sprint(done.ID), "--format", "json")
	names := map[string]int{}
	for _, q := range log.Requests {
		if q.Fault == "" {
			names[q.Dataset] += q.Symbols
		}
	}
	if names["quotes"] != 200 || names["bars"] != 200 || names["profiles"] != 200 {
		t.Errorf("stored answers for %v names, want each of 200 once", names)
	}
	resp, err := http.Get(vendor.address + "/admin/counts")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var counts struct{ Asked map[string]int }
	if err := json.NewDecoder(resp.Body).Decode(&counts); err != nil {
		t.Fatal(err)
	}
	// What was under way at a kill, at most four requests at once, may be asked for again.
	if n := counts.Asked["quotes"] + counts.Asked["bars"] + counts.Asked["profiles"]; n > 6+2*4 {
		t.Errorf("%d requests for what 6 bring", n)
	}
	var health wire.Health
	service.must(t, &health, "health", "many", "--view", "quotes", "--format", "json")
	for _, g := range health.Groups {
		if g.Reason == "never_fetched" || g.State == "pending" {
			t.Errorf("after the refresh: %+v", g)
		}
	}
}

// until waits for the newest refresh to reach a state.
func (p *process) until(t *testing.T, reached func(wire.Refresh) bool) wire.Refresh {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); ; {
		resp, err := http.Get(p.address + "/api/v1/refreshes?watchlist=many&limit=1")
		if err != nil {
			t.Fatal(err)
		}
		var all wire.Refreshes
		err = json.NewDecoder(resp.Body).Decode(&all)
		resp.Body.Close()
		if err != nil || len(all.Refreshes) != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
		if reached(all.Refreshes[0]) {
			return all.Refreshes[0]
		}
		if time.Now().After(deadline) {
			t.Fatalf("it does not get there: %+v", all.Refreshes[0])
		}
		time.Sleep(5 * time.Millisecond) // the state of another process can only be asked for
	}
}
