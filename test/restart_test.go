package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

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

// kills is how often the service is killed in TestKilledInMidRefreshItGoesOn;
// SOBA_KILLS asks for more.
func kills(t *testing.T) int {
	n := 6
	if text := os.Getenv("SOBA_KILLS"); text != "" {
		if _, err := fmt.Sscan(text, &n); err != nil {
			t.Fatal(err)
		}
	}
	return n
}

const longAgo = "2026-03-07T12:00:00Z" // a Saturday: nothing goes stale meanwhile

// vendors starts stand-ins, and returns the environment that connects to them.
func vendors(t *testing.T, listings int, latency string, more ...string) (*process, []string) {
	t.Helper()
	v := start(t, append([]string{"standin", "--listen", "127.0.0.1:0", "--listings", fmt.Sprint(listings), "--latency", latency, "--clock", longAgo}, more...)...)
	var environment []string
	for _, line := range v.said {
		if f := strings.Fields(line); len(f) == 3 && f[0] == "stand-in" {
			environment = append(environment, "SOBA_"+strings.ToUpper(f[1])+"_ADDRESS="+f[2])
		}
	}
	return v, append(environment, "SOBA_GANNET_KEY=demo-key", "SOBA_WHIMBREL_KEY=demo-whimbrel")
}

// described is a folder with the description of gannet alone, its pace set.
func described(t *testing.T, perSecond string) string {
	t.Helper()
	text, err := os.ReadFile("../sources/gannet.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "gannet.yaml"), []byte(strings.Replace(string(text), "per_second: 5", "per_second: "+perSecond, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

// fill makes a list of everything that is listed, once it is known.
func (p *process) fill(t *testing.T, name string, listings int) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); ; {
		var status wire.Status
		p.get(t, "/api/v1/status", &status)
		if status.Listings == listings {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the directory does not fill: %d listings", status.Listings)
		}
		time.Sleep(20 * time.Millisecond) // the state of another process can only be asked for
	}
	rows := []map[string]string{}
	var found wire.Listings
	for _, letter := range "abcdefghijklmnopqrstuvwxyz潮" {
		p.get(t, "/api/v1/listings?limit=200&query="+url.QueryEscape(string(letter)), &found)
		for _, l := range found.Listings {
			rows = append(rows, map[string]string{"symbol": l.Symbol})
		}
	}
	p.post(t, "/api/v1/watchlists", map[string]string{"name": name}, nil)
	p.post(t, "/api/v1/watchlists/"+name+"/rows", map[string]any{"rows": rows}, nil) // those found twice are refused
	var list wire.Watchlist
	p.get(t, "/api/v1/watchlists/"+name, &list)
	if list.Rows < listings-2 {
		t.Fatalf("%d of %d listings found", list.Rows, listings)
	}
}

func (p *process) get(t *testing.T, path string, into any) {
	t.Helper()
	resp, err := http.Get(p.address + path)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(into); err != nil {
		t.Fatalf("%s: %v", path, err)
	}
}

func (p *process) post(t *testing.T, path string, in, into any) {
	t.Helper()
	body, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := http.Post(p.address+path, "application/json", bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if into != nil {
		if err := json.NewDecoder(resp.Body).Decode(into); err != nil {
			t.Fatalf("%s: %v", path, err)
		}
	}
}

// asked is what came to the stand-in gannet, by dataset.
func asked(t *testing.T, v *process) map[string]int {
	t.Helper()
	var counts struct{ Asked map[string]int }
	v.get(t, "/admin/counts", &counts)
	delete(counts.Asked, "listings")
	return counts.Asked
}

func total(counts map[string]int) (n int) {
	for _, x := range counts {
		n += x
	}
	return n
}

// stored digests every row of data that a refresh stored, without what depends
// on the run: ids of requests and times of fetching.
const stored = `
	select 'observation', listing.symbol || dataset || source || fields::text, known_to = 'infinity' from observation join listing on listing.id = listing_id
	union all select 'entry', listing.symbol || dataset || source || key || fields::text, known_to = 'infinity' from entry join listing on listing.id = listing_id
	union all select 'bar', listing.symbol || source || day || ' ' || open || ' ' || high || ' ' || low || ' ' || close || ' ' || volume, known_to = 'infinity' from bar join listing on listing.id = listing_id
	order by 1, 2, 3`

func rowsStored(t *testing.T, url string) []string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	rows, err := conn.Query(t.Context(), stored)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	var table, text string
	var current bool
	if _, err := pgx.ForEachRow(rows, []any{&table, &text, &current}, func() error {
		out = append(out, fmt.Sprint(table, " ", text, " ", current))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

// A service that is killed at random points of a refresh goes on when it is
// started again: in the end the rows are those of an undisturbed run, nothing was
// stored twice, and of what had been stored nothing was asked for again.
func TestKilledInMidRefreshItGoesOn(t *testing.T) {
	const listings = 260
	clock := []string{"--clock", longAgo}
	random := rand.New(rand.NewPCG(11, 12))
	run := func(killed int) (rows []string, requests, batches int) {
		vendor, environment := vendors(t, listings, "25ms", "--unlimited")
		database := newDatabase(t)
		serve := append([]string{"serve", "--database", database, "--listen", "127.0.0.1:0", "--sources", described(t, "200")}, clock...)
		service := startWith(t, environment, serve...)
		service.fill(t, "many", listings)
		before := total(asked(t, vendor))
		var ask wire.Refresh
		service.post(t, "/api/v1/watchlists/many/refreshes", map[string]any{}, &ask)
		for range killed {
			// Sooner or later within what is left of the refresh.
			time.Sleep(time.Duration(random.IntN(250)) * time.Millisecond)
			service.kill()
			service = startWith(t, environment, serve...)
		}
		done := service.until(t, func(r wire.Refresh) bool { return r.Over() })
		if done.State != "done" || done.Failed != 0 {
			t.Errorf("after %d kills: %+v", killed, done)
		}
		if service.count(t, database, "select count(*) from (select d, l from request, unnest(datasets) d, unnest(listings) l where fault = '' group by 1, 2 having count(*) > 1) twice") != 0 {
			t.Error("an answer for the same need is stored twice")
		}
		return rowsStored(t, database), total(asked(t, vendor)) - before, done.Answered
	}
	whole, least, batches := run(0)
	n := kills(t)
	rows, sent, answered := run(n)
	t.Logf("%d rows; undisturbed %d requests, with %d kills %d", len(whole), least, n, sent)
	if !slices.Equal(whole, rows) {
		t.Errorf("%d rows after the kills, %d without", len(rows), len(whole))
	}
	if answered != batches {
		t.Errorf("%d answers are stored, want %d", answered, batches)
	}
	// What was under way at a kill, at most four requests at once, is asked for again.
	if sent > least+4*n {
		t.Errorf("%d requests for what %d bring, after %d kills", sent, least, n)
	}
}

// Two processes on one database refresh the same list at once: each request is
// sent once, the vendor's limits hold for both together, and when one of them is
// killed the other finishes.
func TestTwoProcessesShareTheWork(t *testing.T) {
	const listings = 260
	vendor, environment := vendors(t, listings, "60ms")
	database := newDatabase(t)
	serve := []string{"serve", "--database", database, "--listen", "127.0.0.1:0", "--sources", described(t, "5"), "--clock", longAgo}
	first := startWith(t, environment, serve...)
	first.fill(t, "many", listings)
	second := startWith(t, environment, serve...)
	quotes := map[string]any{"only": []string{"quotes", "profiles"}}
	var a, b wire.Refresh
	var wait sync.WaitGroup
	wait.Go(func() { first.post(t, "/api/v1/watchlists/many/refreshes", quotes, &a) })
	wait.Go(func() { second.post(t, "/api/v1/watchlists/many/refreshes", quotes, &b) })
	wait.Wait()
	both := func(r wire.Refresh) bool { return r.Over() }
	for _, id := range []int64{a.ID, b.ID} {
		if r := second.refresh(t, id, both); r.State != "done" || r.Failed != 0 {
			t.Errorf("got %+v", r)
		}
	}
	counts := asked(t, vendor)
	if counts["quotes"] != 3 || counts["profiles"] != 3 {
		t.Errorf("asked %v, want three requests of each", counts)
	}
	// One is killed while it has the work; the other takes it over.
	bars := map[string]any{"only": []string{"bars", "announcements"}}
	first.post(t, "/api/v1/watchlists/many/refreshes", bars, &a)
	first.refresh(t, a.ID, func(r wire.Refresh) bool { return r.Answered >= 1 })
	second.post(t, "/api/v1/watchlists/many/refreshes", bars, &b)
	first.kill()
	for _, id := range []int64{a.ID, b.ID} {
		if r := second.refresh(t, id, both); r.State != "done" || r.Failed != 0 {
			t.Errorf("after the kill: %+v", r)
		}
	}
	if counts = asked(t, vendor); counts["history"] < 3 || counts["history"] > 3+4 {
		t.Errorf("asked %v", counts)
	}
	var limits struct {
		TooFast int `json:"too_fast"`
	}
	if vendor.get(t, "/admin/counts", &limits); limits.TooFast != 0 {
		t.Errorf("the vendor refused %d requests for coming too fast", limits.TooFast)
	}
	if n := second.count(t, database, "select count(*) from in_flight"); n != 0 {
		t.Errorf("%d needs are still claimed", n)
	}
}

// newDatabase is an empty database on a cluster of the tests' own.
func newDatabase(t *testing.T) string {
	t.Helper()
	c, err := databases()
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(t.Context(), c.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	name := fmt.Sprintf("e2e_%d", time.Now().UnixNano())
	if _, err := conn.Exec(t.Context(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(c.URL)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}

func (p *process) count(t *testing.T, database, sql string) (n int) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if err := conn.QueryRow(t.Context(), sql).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// until waits for the newest refresh to reach a state.
func (p *process) until(t *testing.T, reached func(wire.Refresh) bool) wire.Refresh {
	t.Helper()
	var all wire.Refreshes
	p.get(t, "/api/v1/refreshes?watchlist=many&limit=1", &all)
	if len(all.Refreshes) != 1 {
		t.Fatalf("got %+v", all)
	}
	return p.refresh(t, all.Refreshes[0].ID, reached)
}

// refresh waits for a refresh to reach a state.
func (p *process) refresh(t *testing.T, id int64, reached func(wire.Refresh) bool) wire.Refresh {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); ; {
		var r wire.Refresh
		p.get(t, fmt.Sprintf("/api/v1/refreshes/%d", id), &r)
		if reached(r) {
			return r
		}
		if time.Now().After(deadline) {
			t.Fatalf("it does not get there: %+v", r)
		}
		time.Sleep(5 * time.Millisecond) // the state of another process can only be asked for
	}
}
