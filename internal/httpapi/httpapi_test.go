package httpapi_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"soba.invalid/soba/internal/cluster/clustertest"
	"soba.invalid/soba/internal/httpapi"
	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
	"soba.invalid/soba/sources"
)

func TestMain(m *testing.M) { clustertest.Main(m, store.Prepare) }

// clock is one that a test can set; it runs on from there.
type clock struct{ start, began atomic.Int64 }

func (c *clock) set(text string) {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		panic(err)
	}
	c.start.Store(at.UnixNano())
	c.began.Store(time.Now().UnixNano())
}

func (c *clock) now() time.Time {
	return time.Unix(0, c.start.Load()+time.Now().UnixNano()-c.began.Load()).UTC()
}

type server struct {
	t       *testing.T
	address string
	vendor  string
	clock   *clock
	service *service.Service
}

// start runs a service over a stand-in with 60 listings at a Friday's session.
func start(t *testing.T, change ...func(*service.Options)) *server {
	t.Helper()
	c := &clock{}
	c.set("2026-03-06T16:20:00Z")
	exchanges, err := source.ReadExchanges(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	vendors, err := service.StartStandIns(exchanges, "127.0.0.1:0", 1, 60, 0, c.now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { vendors.Stop() })
	o := service.Options{Database: clustertest.Database(t), Secrets: vendors.Secrets, Exchanges: exchanges, Now: c.now}
	for _, v := range vendors.Vendors {
		v.Unlimited() // what is tested here is not the pace
	}
	if o.Sources, err = service.ShippedSources("gannet"); err != nil {
		t.Fatal(err)
	}
	o.Sources[0].Limits.PerSecond = 1000
	o.HTTP.Listen = "127.0.0.1:0"
	for _, f := range change {
		f(&o)
	}
	s, err := service.Start(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	if err := s.Seed(t.Context(), io.Discard, c.now); err != nil {
		t.Fatal(err)
	}
	return &server{t, s.Address, vendors.Addresses["gannet"], c, s}
}

type reply struct {
	*http.Response
	text []byte
}

func (r *reply) problem(t *testing.T) wire.Problem {
	t.Helper()
	var p wire.Problem
	if err := json.Unmarshal(r.text, &p); err != nil || r.Header.Get("Content-Type") != "application/problem+json" {
		t.Fatalf("not a problem: %s %s %s", r.Status, r.Header.Get("Content-Type"), r.text)
	}
	if p.Status != r.StatusCode || p.Type == "" || p.Title == "" || p.Detail == "" {
		t.Errorf("an incomplete problem: %s", r.text)
	}
	return p
}

func (s *server) send(method, path, body string, header ...string) *reply {
	s.t.Helper()
	q, err := http.NewRequest(method, s.address+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	if body != "" {
		q.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			q.Host = header[i+1]
		}
		q.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	return &reply{resp, text}
}

func (s *server) get(path string, header ...string) *reply { return s.send("GET", path, "", header...) }

func (s *server) table(query string) wire.Table {
	s.t.Helper()
	r := s.get("/api/v1/watchlists/income/table?" + query)
	var t wire.Table
	if err := json.Unmarshal(r.text, &t); err != nil || r.StatusCode != 200 {
		s.t.Fatalf("%s: %s", r.Status, r.text)
	}
	return t
}

// The description is held against the schema that the OpenAPI Initiative
// publishes for version 3.1.
func TestTheDescriptionIsValidOpenAPI(t *testing.T) {
	t.Parallel()
	text, err := httpapi.Description()
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.NewCompiler().Compile("testdata/openapi-3.1.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(document); err != nil {
		t.Errorf("%+v", err)
	}
	if version := document.(map[string]any)["openapi"]; version != "3.1.0" {
		t.Errorf("version %s", version)
	}
	document.(map[string]any)["paths"] = []any{}
	if schema.Validate(document) == nil {
		t.Error("the schema accepts paths that are none")
	}
}

func TestATableInOneCall(t *testing.T) {
	t.Parallel()
	s := start(t)
	tab := s.table("columns=quote.last,quote.change_pct,holding.weight")
	if tab.Watchlist != "income" || len(tab.Rows) != 20 || tab.Columns[0].ID != "quote.last" || tab.Columns[0].Unit != "price" {
		t.Fatalf("got %+v", tab)
	}
	kelp := tab.Rows[0]
	c := kelp.Cells[0]
	if kelp.Symbol != "KELP.XCVH" || !kelp.Held || c.State != "fresh" || c.Unit != "EUR" || c.Source != "gannet" || len(c.Flags) != 1 || c.Flags[0] != "delayed" || c.Observed == nil || c.Fetched == nil {
		t.Errorf("got %+v", c)
	}
	sum, total := 0.0, 0
	for _, r := range tab.Rows {
		for _, c := range r.Cells {
			total++
			if (c.V == nil) != (c.State == "missing" || c.State == "pending") || c.V == nil && c.Reason == "" {
				t.Errorf("%s: a value without its account: %+v", r.Symbol, c)
			}
		}
		if w, ok := r.Cells[2].V.(float64); ok {
			sum += w
		}
	}
	if n := tab.Counts; n.Fresh+n.Stale+n.Missing+n.Pending != total || sum < 1-1e-9 || sum > 1+1e-9 {
		t.Errorf("counts %+v of %d cells; weights add up to %v", n, total, sum)
	}

	r := s.get("/api/v1/watchlists/income/table?columns=quote.last")
	etag := r.Header.Get("ETag")
	if again := s.get("/api/v1/watchlists/income/table?columns=quote.last", "If-None-Match", etag); again.StatusCode != 304 || len(again.text) > 0 {
		t.Errorf("unchanged, but %s", again.Status)
	}
	csv := s.get("/api/v1/watchlists/income/table?columns=quote.last,profile.name&where=quote.last>0", "Accept", "text/csv")
	if lines := strings.Split(string(csv.text), "\r\n"); lines[0] != "symbol,quote.last,profile.name" || !strings.HasPrefix(lines[1], "KELP.XCVH,") {
		t.Errorf("CSV: %s", csv.text)
	}
	if text := s.get("/api/v1/value?symbol=KELP.XCVH&field=quote.last"); strings.TrimSpace(string(text.text)) != strings.Split(strings.Split(string(csv.text), "\r\n")[1], ",")[1] {
		t.Errorf("one value as text: %s", text.text)
	}
}

func TestTheAccountReachesTheStoredResponse(t *testing.T) {
	t.Parallel()
	s := start(t)
	var e wire.Explanation
	if err := json.Unmarshal(s.get("/api/v1/explain?symbol=KELP&field=quote.change").text, &e); err != nil {
		t.Fatal(err)
	}
	last := e.Inputs[0]
	if e.Formula != "quote.last - quote.previous_close" || last.Request == nil || last.Request.Response == "" {
		t.Fatalf("got %+v", e)
	}
	var response struct {
		Quotes []struct {
			Symbol string
			Last   float64
		}
	}
	if err := json.Unmarshal(s.get("/api/v1/responses/"+last.Request.Response).text, &response); err != nil {
		t.Fatal(err)
	}
	var place int
	if _, err := fmt.Sscanf(last.Place, "$.quotes[%d]", &place); err != nil {
		t.Fatal(err)
	}
	if q := response.Quotes[place]; q.Symbol != "XCVH:KELP" || q.Last != last.Cell.V {
		t.Errorf("at %s the response says %+v, the cell %v", last.Place, q, last.Cell.V)
	}
	if strings.Contains(string(s.get("/api/v1/requests").text), standin.GannetKey) {
		t.Error("the request log shows the key")
	}
}

// Bad input: each a clear problem, and nothing changed.
func TestBadInputIsExplainedAndChangesNothing(t *testing.T) {
	t.Parallel()
	s := start(t)
	before := string(s.get("/api/v1/watchlists/income").text)
	rows := "/api/v1/watchlists/income/rows"
	for _, c := range []struct {
		name, method, path, body, kind string
		status                         int
		says                           string
	}{
		{"unknown symbol", "POST", rows, `{"rows":[{"symbol":"KLEP.XCVH"}]}`, "/problems/unknown-symbol", 422, "KELP.XCVH"},
		{"ambiguous ticker", "POST", rows, `{"rows":[{"symbol":"MUSL"}]}`, "/problems/ambiguous-symbol", 422, "MUSL.XNMK"},
		{"wrong ISIN digit", "POST", rows, `{"rows":[{"symbol":"XA000BLUEM13"}]}`, "/problems/not-a-symbol", 422, "check digit"},
		{"quantity that is no number", "POST", rows, `{"rows":[{"symbol":"TIDE.XPLR","quantity":"many"}]}`, "/problems/not-a-number", 422, `"many"`},
		{"negative cost", "POST", rows, `{"rows":[{"symbol":"TIDE.XPLR","quantity":"1","cost":"-3"}]}`, "/problems/not-a-number", 422, "above zero"},
		{"cost without quantity", "POST", rows, `{"rows":[{"symbol":"TIDE.XPLR","cost":"3"}]}`, "/problems/not-a-number", 422, "no quantity"},
		{"cost that is no number", "PATCH", rows + "/KELP.XCVH", `{"cost":"1,5"}`, "/problems/not-a-number", 422, `"1,5"`},
		{"duplicate row", "POST", rows, `{"rows":[{"symbol":"KELP.XCVH"}]}`, "/problems/duplicate-row", 409, "already"},
		{"row that is not there", "DELETE", rows + "/TIDE.XPLR", "", "/problems/not-found", 404, "not in the watchlist"},
		{"list that is not there", "GET", "/api/v1/watchlists/incme", "", "/problems/not-found", 404, "incme"},
		{"unknown field", "GET", "/api/v1/watchlists/income/table?columns=quote.lst", "", "/problems/unknown-field", 422, `nearest is "quote.last"`},
		{"unknown field in a filter", "GET", "/api/v1/watchlists/income/table?where=" + url.QueryEscape("quote.lst > 1"), "", "/problems/unknown-field", 422, "quote.last"},
		{"broken filter", "GET", "/api/v1/watchlists/income/table?where=" + url.QueryEscape("quote.last >"), "", "/problems/formula", 422, "column 13"},
		{"unknown view", "GET", "/api/v1/watchlists/income/table?view=nothing", "", "/problems/unknown-field", 422, "nothing"},
		{"instant in the future", "GET", "/api/v1/watchlists/income/table?as_of=2030-01-01", "", "/problems/bad-request", 422, "future"},
		{"malformed JSON", "POST", rows, `{"rows":[`, "/problems/bad-request", 400, ""},
		{"wrong type", "POST", rows, `{"rows":[{"symbol":7}]}`, "/problems/bad-request", 422, "validation"},
		{"unknown part", "POST", rows, `{"rows":[{"symbol":"TIDE.XPLR"}],"more":1}`, "/problems/bad-request", 422, "validation"},
		{"unknown parameter", "GET", "/api/v1/watchlists/income/table?colums=quote.last", "", "/problems/bad-request", 422, "validation"},
		{"body too large", "POST", rows, `{"rows":[{"symbol":"` + strings.Repeat("K", 1<<20) + `"}]}`, "/problems/too-large", 413, "KiB"},
		{"name taken", "POST", "/api/v1/watchlists", `{"name":"Income"}`, "/problems/name-taken", 409, "already"},
		{"name with a slash", "POST", "/api/v1/watchlists", `{"name":"a/b"}`, "/problems/bad-request", 422, "cannot name"},
		{"unknown dataset", "POST", "/api/v1/watchlists/income/refreshes", `{"only":["tides"]}`, "/problems/bad-request", 422, "tides"},
		{"unknown refresh", "GET", "/api/v1/refreshes/9999", "", "/problems/not-found", 404, "9999"},
		{"no such place", "GET", "/api/v1/nothing", "", "/problems/not-found", 404, "/api/v1/nothing"},
	} {
		r := s.send(c.method, c.path, c.body)
		p := r.problem(t)
		if p.Status != c.status || p.Type != c.kind || !strings.Contains(p.Detail, c.says) {
			t.Errorf("%s: %s", c.name, r.text)
		}
	}
	if after := string(s.get("/api/v1/watchlists/income").text); after != before {
		t.Errorf("something changed:\n%s\n%s", before, after)
	}
}

func TestGoodRowsGoInBesideBadOnes(t *testing.T) {
	t.Parallel()
	s := start(t)
	r := s.send("POST", "/api/v1/watchlists/income/rows", `{"rows":[{"symbol":"NOPE.XCVH"},{"symbol":"TIDE.XPLR","quantity":"10.50","cost":"16"},{"symbol":"KELP.XCVH"},{"symbol":"USD-JPY","position":0}]}`)
	var out wire.Added
	if err := json.Unmarshal(r.text, &out); err != nil || strings.Join(out.Added, " ") != "TIDE.XPLR USD/JPY" || len(out.Problems) != 2 || out.Problems[0].Index != 0 || out.Problems[1].Index != 2 {
		t.Fatalf("%s: %s", r.Status, r.text)
	}
	var list wire.Rows
	if err := json.Unmarshal(s.get("/api/v1/watchlists/income").text, &list); err != nil || list.Listings[0].Symbol != "USD/JPY" || list.Listings[len(list.Listings)-1].Quantity != "10.50" {
		t.Errorf("got %+v", list)
	}
	if r := s.send("DELETE", "/api/v1/watchlists/income/rows/USD-JPY", ""); r.StatusCode != 200 {
		t.Errorf("a pair by its address: %s %s", r.Status, r.text)
	}
	if r := s.send("DELETE", "/api/v1/watchlists/income/rows/S%26T.XNMK", ""); r.StatusCode != 200 {
		t.Errorf("a ticker with an ampersand: %s %s", r.Status, r.text)
	}
}

func TestLostUpdatesAreRefused(t *testing.T) {
	t.Parallel()
	s := start(t)
	etag := s.get("/api/v1/watchlists/income").Header.Get("ETag")
	first := s.send("PATCH", "/api/v1/watchlists/income/rows/KELP.XCVH", `{"quantity":"1"}`, "If-Match", etag)
	if first.StatusCode != 200 || first.Header.Get("ETag") == etag {
		t.Fatalf("%s %s", first.Status, first.text)
	}
	second := s.send("PATCH", "/api/v1/watchlists/income/rows/KELP.XCVH", `{"quantity":"2"}`, "If-Match", etag)
	if p := second.problem(t); p.Type != "/problems/changed-meanwhile" || p.Status != 412 {
		t.Errorf("got %s", second.text)
	}
	if tab := s.table("columns=holding.quantity"); tab.Rows[0].Cells[0].V != 1.0 {
		t.Errorf("the second change went in: %v", tab.Rows[0].Cells[0].V)
	}
}

func TestAFridayCloseOnSundayAndOnMonday(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.clock.set("2026-03-06T23:00:00Z") // all exchanges have closed
	s.refresh(`{"force":true,"only":["quotes"]}`)
	state := func(at string) string {
		s.clock.set(at)
		c := s.table("columns=quote.last").Rows[0].Cells[0]
		return c.State + " " + c.Reason
	}
	for _, c := range []struct{ at, want string }{
		{"2026-03-08T12:00:00Z", "fresh "},               // Sunday
		{"2026-03-09T09:00:00Z", "fresh "},               // Monday before the open at 09:30 UTC
		{"2026-03-09T10:30:00Z", "stale age"},            // an hour into the session
		{"2026-03-09T19:00:00Z", "stale session_passed"}, // after its close
	} {
		if got := state(c.at); got != c.want {
			t.Errorf("at %s: %q, want %q", c.at, got, c.want)
		}
	}
}

func (s *server) refresh(body string) wire.Refresh {
	s.t.Helper()
	r := s.send("POST", "/api/v1/watchlists/income/refreshes", body)
	var queued wire.Refresh
	if err := json.Unmarshal(r.text, &queued); err != nil || r.StatusCode != 202 || r.Header.Get("Location") == "" {
		s.t.Fatalf("%s %s", r.Status, r.text)
	}
	s.events(r.Header.Get("Location")+"/events", "")
	if err := json.Unmarshal(s.get(r.Header.Get("Location")).text, &queued); err != nil {
		s.t.Fatal(err)
	}
	return queued
}

type event struct{ id, kind, data string }

// events reads a stream to its end.
func (s *server) events(path, last string) []event { return s.stream(path, last, "") }

// eventsUntil reads a stream up to an event of a kind.
func (s *server) eventsUntil(path, kind string) []event { return s.stream(path, "", kind) }

func (s *server) stream(path, last, until string) []event {
	s.t.Helper()
	q, _ := http.NewRequest("GET", s.address+path, nil)
	if last != "" {
		q.Header.Set("Last-Event-ID", last)
	}
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.Header.Get("Content-Type") != "text/event-stream" {
		s.t.Fatalf("%s %s", resp.Status, resp.Header.Get("Content-Type"))
	}
	var all []event
	var e event
	for scan := bufio.NewScanner(resp.Body); scan.Scan(); {
		switch line := scan.Text(); {
		case strings.HasPrefix(line, "id: "):
			e.id = line[4:]
		case strings.HasPrefix(line, "event: "):
			e.kind = line[7:]
		case strings.HasPrefix(line, "data: "):
			e.data = line[6:]
		case line == "" && e.kind != "":
			all = append(all, e)
			if e.kind == until {
				return all
			}
			e = event{}
		}
	}
	return all
}

func TestEventsAndReadingOn(t *testing.T) {
	t.Parallel()
	s := start(t)
	r := s.refresh(`{"force":true,"only":["quotes","bars","profiles"]}`)
	if r.State != "done" || r.Answered != 3 || r.Units != 84+4 { // two pairs and an index have no profile; the main indices of the three other exchanges have bars; the other class of one issuer has all three
		t.Errorf("got %+v", r)
	}
	path := fmt.Sprintf("/api/v1/refreshes/%d/events", r.ID)
	all := s.events(path, "")
	if len(all) != 5 || all[0].kind != "planned" || all[4].kind != "finished" {
		t.Fatalf("got %+v", all)
	}
	if rest := s.events(path, all[2].id); len(rest) != 2 || rest[0] != all[3] {
		t.Errorf("after the third: %+v", rest)
	}
}

func TestADryRunAgreesWithTheRequestLog(t *testing.T) {
	t.Parallel()
	s := start(t)
	r := s.send("POST", "/api/v1/watchlists/everything/refreshes", `{"dry_run":true,"force":true,"only":["quotes","bars","profiles"]}`)
	var dry wire.Refresh
	if err := json.Unmarshal(r.text, &dry); err != nil || r.StatusCode != 200 || dry.Dry == nil {
		t.Fatalf("%s %s", r.Status, r.text)
	}
	done := s.refresh(`{"dry_run":false,"only":["quotes"]}`)
	if done.Answered != 0 || done.Skipped != 21 { // the other class of one issuer's shares comes along
		t.Errorf("nothing was due: %+v", done)
	}
	if len(dry.Dry.Requests) != 3 || dry.Dry.Units["gannet"] != 60+120+53 || dry.Dry.Left["gannet"] <= 0 {
		t.Errorf("60 names by 3 datasets: %+v", dry.Dry)
	}
}

func TestProtection(t *testing.T) {
	t.Parallel()
	s := start(t)
	r := s.get("/api/v1/watchlists")
	for _, name := range []string{"Content-Security-Policy", "X-Content-Type-Options", "Referrer-Policy", "Cross-Origin-Opener-Policy"} {
		if r.Header.Get(name) == "" {
			t.Errorf("no %s", name)
		}
	}
	if strings.Contains(r.Header.Get("Content-Security-Policy"), "script-src 'self' 'unsafe") {
		t.Error("inline scripts are allowed")
	}
	for _, c := range []struct {
		why    string
		header []string
		status int
	}{
		{"another site's page", []string{"Origin", "https://elsewhere.invalid"}, 403},
		{"a cross-site request", []string{"Sec-Fetch-Site", "cross-site"}, 403},
		{"a name that points here", []string{"Host", "elsewhere.invalid"}, 421},
		{"our own page", []string{"Origin", s.address, "Sec-Fetch-Site", "same-origin"}, 201},
		{"a token that is none", []string{"Authorization", "Bearer soba_wrong"}, 401},
	} {
		r := s.send("POST", "/api/v1/watchlists", fmt.Sprintf(`{"name":%q}`, c.why), c.header...)
		if r.StatusCode != c.status {
			t.Errorf("%s: %s", c.why, r.Status)
		}
	}
	if r := s.get("/metrics"); !bytes.Contains(r.text, []byte("soba_listings 60")) {
		t.Errorf("metrics: %s", r.text[:200])
	}
	if r := s.get("/readyz"); r.StatusCode != 200 {
		t.Errorf("readyz: %s", r.Status)
	}
}

func TestBeyondLoopbackNeedsProtectionAndAToken(t *testing.T) {
	t.Parallel()
	s := start(t)
	var made wire.Token
	if err := json.Unmarshal(s.send("POST", "/api/v1/tokens", `{"label":"test","scope":"read"}`).text, &made); err != nil {
		t.Fatal(err)
	}
	if _, err := httpapi.New(t.Context(), httpapi.Config{Store: s.service.Store, Listen: "0.0.0.0:0"}); err == nil || !strings.Contains(err.Error(), "TLS") {
		t.Errorf("without TLS: %v", err)
	}
	empty := start(t)
	if _, err := httpapi.New(t.Context(), httpapi.Config{Store: empty.service.Store, Listen: "0.0.0.0:0", BehindProxy: true}); err == nil || !strings.Contains(err.Error(), "token") {
		t.Errorf("without a token: %v", err)
	}
	// Behind a proxy a token is needed on loopback too.
	guarded, err := httpapi.New(t.Context(), httpapi.Config{Store: s.service.Store, Book: s.service.Book, Engine: s.service.Engine, Now: s.clock.now, Listen: "127.0.0.1:0", BehindProxy: true})
	if err != nil {
		t.Fatal(err)
	}
	address, err := guarded.Open()
	if err != nil {
		t.Fatal(err)
	}
	go guarded.Serve()
	defer guarded.Stop(context.Background())
	g := &server{t: t, address: address}
	for _, path := range []string{"/api/v1/watchlists", "/api/v1/events", "/api/v1/refreshes/1/events", "/metrics"} {
		if r := g.get(path); r.StatusCode != 401 {
			t.Errorf("%s without a token: %s", path, r.Status)
		}
	}
	bearer := []string{"Authorization", "Bearer " + made.Token}
	if r := g.get("/api/v1/watchlists", bearer...); r.StatusCode != 200 {
		t.Errorf("with it: %s", r.Status)
	}
	if r := g.send("POST", "/api/v1/watchlists", `{"name":"new"}`, bearer...); r.problem(t).Status != 403 {
		t.Errorf("writing with a token that reads: %s", r.text)
	}
}
