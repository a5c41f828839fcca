package source

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/sources"
)

var noon = time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)

func shipped(t testing.TB, name string) *Description {
	t.Helper()
	all, err := ReadAll(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range all {
		if d.Name == name {
			return d
		}
	}
	t.Fatalf("no description %s ships", name)
	return nil
}

// request asks a call for symbols.
func request(d *Description, call string, symbols ...string) plan.Request {
	c := d.call(call)
	q := plan.Request{Source: d.Name, Call: call, From: period.MakeDate(2026, 3, 1), To: period.MakeDate(2026, 3, 6)}
	for i, text := range symbols {
		s, err := market.ParseSymbol(text)
		if err != nil || c.Serves[0] == catalogue.Listings {
			s = market.Symbol{Exchange: text} // an exchange
		}
		currency := "EUR"
		if s.Exchange == "XNMK" {
			currency = "GBP"
		}
		for _, dataset := range c.Serves {
			n := plan.Need{Dataset: dataset, Listing: int64(i + 1), Symbol: s, Currency: currency}
			if catalogue.Info(dataset).Ranged {
				n.From, n.To = q.From, q.To
			}
			q.Needs = append(q.Needs, n)
		}
	}
	return q
}

func now() time.Time { return noon }

// asked connects a description to a server and sends it one request.
func asked(t testing.TB, d *Description, serve http.HandlerFunc, call string, symbols ...string) (*Answer, error) {
	t.Helper()
	return askedFor(t, d, serve, request(d, call, symbols...))
}

func askedFor(t testing.TB, d *Description, serve http.HandlerFunc, q plan.Request) (*Answer, error) {
	t.Helper()
	server := httptest.NewServer(serve)
	defer server.Close()
	s, err := Connect(d, Secret{Address: server.URL, Key: "secret"}, now)
	if err != nil {
		t.Fatal(err)
	}
	return s.Fetch(t.Context(), q, anyTime)
}

// anyTime is the turn of who need not wait.
func anyTime(context.Context) error { return nil }

// gannet has the vendor answer with a status and a body.
func gannet(t testing.TB, call string, status int, body string, symbols ...string) (*Answer, *http.Request, error) {
	var sent *http.Request
	a, err := asked(t, shipped(t, "gannet"), func(w http.ResponseWriter, r *http.Request) {
		sent = r
		w.Header().Set("X-Units-Spent", "7")
		w.Header().Set("X-Units-Left", "93")
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}, call, symbols...)
	return a, sent, err
}

func value(p Point, id string) cell.Value { return p.Values[catalogue.Find(id).Slot()] }

func reasons(a *Answer) string {
	var out []string
	for _, f := range a.Failures {
		out = append(out, f.Symbol.String()+" "+f.Reason.String())
	}
	return strings.Join(out, ", ")
}

func TestQuotesAreTypedAndWhatCannotBeIsRejected(t *testing.T) {
	a, asked, err := gannet(t, "quotes", 200, `{"delay_minutes": 15, "quotes": [
		{"symbol": "XNMK:CABL", "currency": "GBP", "minor_unit": true, "time": "2026-03-06T11:45:00Z", "last": 473.5, "previous_close": 470, "volume": 1200, "bid": null, "turnover": 568200},
		{"symbol": "XCVH:AAA", "currency": "EUR", "time": "2026-03-06T11:45:00Z", "last": "n/a*", "previous_close": 0, "volume": -3, "open": 1e400},
		{"symbol": "XCVH:BBB", "currency": "USD", "time": "2026-03-06T11:45:00Z", "last": 1},
		{"symbol": "XCVH:CCC", "currency": "EUR", "time": "2026-03-06T12:30:00Z", "last": 1},
		{"symbol": "XCVH:DDD", "currency": "EUR", "time": "yesterday", "last": 1},
		{"symbol": "XCVH:EEE", "currency": "EUR", "time": "2026-03-06T11:45:00Z", "last": 120, "previous_close": 10},
		{"symbol": "XCVH:EEE", "currency": "EUR", "time": "2026-03-06T11:46:00Z", "last": 11, "previous_close": 10},
		{"symbol": "XCVH:NOTASKED", "currency": "EUR", "time": "2026-03-06T11:45:00Z", "last": 9}],
		"unknown": ["XCVH:FFF"], "errors": [{"symbol": "XCVH:GGG", "code": "plan", "message": "derivatives"}, {"symbol": "XCVH:III", "code": "unavailable", "message": "later"}]}`,
		"CABL.XNMK", "AAA.XCVH", "BBB.XCVH", "CCC.XCVH", "DDD.XCVH", "EEE.XCVH", "FFF.XCVH", "GGG.XCVH", "HHH.XCVH", "III.XCVH")
	if err != nil {
		t.Fatal(err)
	}
	if asked.Header.Get("X-Gannet-Key") != "secret" || strings.Contains(a.Last().Address, "secret") {
		t.Errorf("the key belongs into the header alone: %s", a.Last().Address)
	}
	if a.Units() != 7 || a.Last().UnitsLeft != 93 || len(a.Points) != 3 {
		t.Fatalf("got %+v, %d points", a.Last(), len(a.Points))
	}
	pence := a.Points[0]
	if v := value(pence, "quote.last"); v.Num != 4.735 || !pence.Minor || value(pence, "quote.turnover").Num != 5682 || value(pence, "quote.volume").Num != 1200 {
		t.Errorf("473.5 pence read as %+v", pence)
	}
	if raw := pence.Raw["quote.last"]; raw != (Raw{"last", "473.5"}) {
		t.Errorf("the vendor's own name and text are %+v", raw)
	}
	if v := value(pence, "quote.bid"); v.Kind != cell.None || len(pence.Rejected) != 0 {
		t.Errorf("a null is no rejection: %+v", pence)
	}
	if pence.Delay != 15*time.Minute || !value(pence, "quote.time").Time().Equal(noon.Add(-15*time.Minute)) || pence.Origin.Place != "$.quotes[0]" {
		t.Errorf("got %+v", pence)
	}
	bad := a.Points[1]
	for id, text := range map[string]string{"quote.last": "n/a*", "quote.previous_close": "0", "quote.volume": "-3", "quote.open": "1e400"} {
		if bad.Rejected[catalogue.Find(id).Slot()] != text {
			t.Errorf("%s: rejected text %q, want %q", id, bad.Rejected[catalogue.Find(id).Slot()], text)
		}
	}
	jump := a.Points[2]
	if !jump.Suspect || value(jump, "quote.last").Num != 120 {
		t.Errorf("twelvefold in a day is not suspect, or the second answer counts: %+v", jump)
	}
	if got, want := reasons(a), "BBB.XCVH rejected, CCC.XCVH rejected, DDD.XCVH rejected, FFF.XCVH not_covered, GGG.XCVH not_permitted, HHH.XCVH not_reported, III.XCVH fetch_failed"; got != want {
		t.Errorf("failures: %s\nwant:     %s", got, want)
	}
}

func TestBarsAreOrderedAndWhatCannotBeIsLeftOut(t *testing.T) {
	a, asked, err := gannet(t, "history", 200, `{"series": [
		{"symbol": "XNMK:CABL", "currency": "GBP", "minor_unit": true, "splits": [{"date": "2026-03-03", "ratio": 3}, {"date": "2026-03-04", "ratio": 0}],
			"dividends": [{"ex": "2026-02-02", "amount": 12.5, "kind": "regular"}, {"ex": "2025-02-02", "amount": "soon"}], "bars": [
			["2026-03-06", 100, 110, 90, 95, 20], ["2026-03-03", 100, 99, 90, 105, 10], ["2026-03-02", 100, 110, 90, 105, 10], ["2026-03-02", 100, 110, 90, 105, 10], ["2026-03-02", 100, 110, 90, 106, 10],
			["2026-03-04", 100, 110, 0, 105, 10], ["2026-03-05", 100, 110, 90, null, 10], ["2027-01-01", 1, 1, 1, 1, 1]]},
		{"symbol": "XCVH:AAA", "bars": [["soon", 1, 1, 1, 1, 1]]},
		{"symbol": "XCVH:BBB", "bars": []}]}`, "CABL.XNMK", "AAA.XCVH", "BBB.XCVH")
	if err != nil {
		t.Fatal(err)
	}
	if q := asked.URL.Query(); q.Get("from") != "2026-03-01" || q.Get("to") != "2026-03-06" || q.Get("symbols") != "XNMK:CABL,XCVH:AAA,XCVH:BBB" {
		t.Errorf("asked %s", asked.URL)
	}
	if len(a.Series) != 2 {
		t.Fatalf("%d series", len(a.Series))
	}
	s := a.Series[0]
	if s.Bars.Len() != 2 || s.Bars.Close[0] != 1.05 || s.Bars.Volume[1] != 20 || !strings.Contains(s.Remark, "5 bars rejected") || !strings.Contains(s.Remark, "open 100, high 99") {
		t.Errorf("got %+v", s)
	}
	if got := reasons(a); got != "AAA.XCVH rejected" {
		t.Errorf("failures: %s", got)
	}
	byName := map[string]*Entries{}
	for i := range a.Entries {
		byName[a.Entries[i].Symbol.String()+" "+string(a.Entries[i].Dataset)] = &a.Entries[i]
	}
	splits, dividends := byName["CABL.XNMK splits"], byName["CABL.XNMK dividends"]
	if len(splits.Entries) != 1 || splits.Entries[0].Values[1].Num != 3 || !strings.Contains(splits.Remark, "one record rejected") {
		t.Errorf("splits: %+v", splits)
	}
	if len(dividends.Entries) != 1 || dividends.Entries[0].Values[1].Num != 0.125 || dividends.Entries[0].Day.String() != "2026-02-02" || !strings.Contains(dividends.Remark, "soon") {
		t.Errorf("dividends: %+v", dividends)
	}
	if empty := byName["BBB.XCVH dividends"]; empty == nil || len(empty.Entries) != 0 {
		t.Errorf("a listing without dividends has been answered too: %+v", empty)
	}
}

func TestListingsAndProfiles(t *testing.T) {
	a, asked, err := gannet(t, "listings", 200, `{"listings": [
		{"symbol": "FX:EURUSD", "name": "EUR/USD", "type": "pair", "currency": "USD"},
		{"symbol": "XCVH:CHAN.A", "isin": "XA000KELP018", "name": "Chandlers A", "type": "share", "currency": "EUR", "ended": "2026-02-09"},
		{"symbol": "XCVH:A", "name": ""}, {"symbol": "XZZZ:B", "name": "Elsewhere", "type": "share", "currency": "EUR"}]}`, "")
	if err != nil || asked.URL.Query().Get("exchange") != "FX" {
		t.Fatalf("%v, asked %s", err, asked.URL)
	}
	if l := a.Listings[0]; l.Symbol.String() != "EUR/USD" || l.Kind != market.Pair {
		t.Errorf("got %+v", l)
	}
	if l := a.Listings[1]; l.Symbol.String() != "CHAN.A.XCVH" || l.ISIN != "" || l.Ended.String() != "2026-02-09" {
		t.Errorf("an ISIN with a wrong check digit is worse than none: %+v", l)
	}
	if len(a.Listings) != 2 || len(a.Remarks) < 2 {
		t.Errorf("listings without a name or of an unknown exchange pass, or nothing is said of them: %v", a.Remarks)
	}
	a, _, err = gannet(t, "profiles", 200, `{"profiles": [{"symbol": "XCVH:AAA", "sector": "Ferries", "employees": 12, "website": {}, "listed_since": "01.03.1999"}]}`, "AAA.XCVH")
	if err != nil {
		t.Fatal(err)
	}
	p := a.Points[0]
	if value(p, "profile.sector").Text != "Ferries" || value(p, "profile.employees").Num != 12 || p.Rejected[catalogue.Find("profile.listed_since").Slot()] != "01.03.1999" || !p.Observed.Equal(noon) {
		t.Errorf("got %+v", p)
	}
	if len(p.Rejected) != 2 {
		t.Errorf("an object passes as a text: %+v", p.Rejected)
	}
}

// Every way of not answering with data is told apart, with the source's words.
func TestRefusalsAreToldApart(t *testing.T) {
	for _, c := range []struct {
		status int
		body   string
		kind   FaultKind
		reason cell.Reason
		says   string
	}{
		{401, `{"error":"key_invalid","message":"this key is not known"}`, KeyRefused, cell.FetchFailed, "this key is not known"},
		{403, `{"error":"plan","message":"not in your plan"}`, PlanLacks, cell.NotPermitted, "not in your plan"},
		{402, `{"error":"allowance_spent","message":"used up"}`, AllowanceGone, cell.AllowanceSpent, "used up"},
		{422, `{"error":"unknown_symbol","message":"one is unknown","symbols":["XCVH:AAA"]}`, UnknownInside, cell.NotCovered, "one is unknown"},
		{404, `gone`, Moved, cell.FetchFailed, "gone"},
		{400, `{"message":"what?"}`, Refused, cell.FetchFailed, "what?"},
		{429, `{"error":"too_many","message":"slow down"}`, Throttled, cell.FetchFailed, "slow down"},
		{503, `<html>down</html>`, ServerFailed, cell.FetchFailed, "down"},
		{200, `<html>Please try again</html>`, Malformed, cell.FetchFailed, "Please try again"},
		{200, `{"qoutes": []}`, Reshaped, cell.FetchFailed, `the nearest there is "qoutes"`},
		{200, `{"quotes": [{"sym": "XCVH:AAA", "last": 1}]}`, Reshaped, cell.FetchFailed, `no record has the symbol at "symbol"; the nearest there is "sym"`},
	} {
		a, _, err := gannet(t, "quotes", c.status, c.body, "AAA.XCVH")
		var f *Fault
		if !errors.As(err, &f) || f.Kind != c.kind || f.Reason() != c.reason || !strings.Contains(f.Error(), c.says) || f.Advice() == "" || len(a.Pages) != 1 {
			t.Errorf("%d %s: %v", c.status, c.body, err)
			continue
		}
		if got := unpacked(t, a.Last()); got != c.body {
			t.Errorf("%d: the stored response is %q", c.status, got)
		}
		if c.status == 422 && (len(f.Culprits) != 1 || f.Culprits[0].String() != "AAA.XCVH") {
			t.Errorf("culprits %v", f.Culprits)
		}
		if AdviceFor(f.Error()) != f.Advice() && c.kind != Throttled {
			t.Errorf("%s: the advice changes when the fault is read from the log", c.kind)
		}
	}
	// A field that is nowhere to be found is remarked on, and the rest is kept.
	a, _, err := gannet(t, "quotes", 200, `{"quotes": [{"symbol": "XCVH:AAA", "time": "2026-03-06T11:45:00Z", "lastt": 5, "open": 4}]}`, "AAA.XCVH")
	if err != nil || value(a.Points[0], "quote.open").Num != 4 || !strings.Contains(strings.Join(a.Remarks, "\n"), `no record has last at "last"; the nearest there is "lastt"`) {
		t.Errorf("%v, %v", a.Remarks, err)
	}
}

func unpacked(t *testing.T, p *Page) string {
	t.Helper()
	r, err := gzip.NewReader(bytes.NewReader(p.Packed))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestACallKeepsItsLimits(t *testing.T) {
	d := shipped(t, "gannet")
	d.Limits.Timeout, d.Limits.LargestMiB = time.Second, 1
	for _, c := range []struct {
		name  string
		serve http.HandlerFunc
		want  FaultKind
		wait  time.Duration
	}{
		{"large", func(w http.ResponseWriter, r *http.Request) {
			for range 2000 {
				fmt.Fprint(w, strings.Repeat(" ", 1024))
			}
		}, TooLarge, 0},
		{"slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, TimedOut, 0},
		{"a drip", func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				fmt.Fprint(w, " ")
				http.NewResponseController(w).Flush() //nolint:errcheck
				time.Sleep(20 * time.Millisecond)
			}
		}, TimedOut, 0},
		{"cut", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, `{"quotes": [`)
		}, Truncated, 0},
		{"gone", func(w http.ResponseWriter, _ *http.Request) {
			conn, _, _ := http.NewResponseController(w).Hijack()
			conn.Close()
		}, Unreachable, 0},
		{"later", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "7")
			w.WriteHeader(429)
		}, Throttled, 7 * time.Second},
		{"at", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", time.Now().Add(90*time.Second).UTC().Format(http.TimeFormat))
			w.WriteHeader(503)
		}, ServerFailed, 90 * time.Second},
		{"another host", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", "http://10.0.0.1/x?key=1")
			w.WriteHeader(302)
		}, Moved, 0},
		{"damaged gzip", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			fmt.Fprint(w, "\x1f\x8bnothing of the kind")
		}, Malformed, 0},
		{"another type", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/csv")
			fmt.Fprint(w, `{"quotes": []}`)
		}, Malformed, 0},
		{"not UTF-8", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "{\"quotes\": [{\"symbol\": \"\xff\"}]}") }, Malformed, 0},
	} {
		a, err := asked(t, d, c.serve, "quotes", "AAA.XCVH")
		var f *Fault
		if !errors.As(err, &f) || f.Kind != c.want || len(a.Pages) != 1 || strings.Contains(f.Error(), "key=") {
			t.Errorf("%s: %v, want %s", c.name, err, c.want)
			continue
		}
		if f.RetryAfter > c.wait || f.RetryAfter < c.wait-2*time.Second {
			t.Errorf("%s: wait %s, want %s", c.name, f.RetryAfter, c.wait)
		}
	}
	// A private address is dialled only where the description allows it.
	d.Access.Private = false
	if _, err := asked(t, d, func(http.ResponseWriter, *http.Request) {}, "quotes", "AAA.XCVH"); err == nil || !strings.Contains(err.Error(), "private network") {
		t.Errorf("a private address is dialled: %v", err)
	}
}

// The key never stands in what is logged or told, wherever the source wants it.
func TestTheKeyGoesWhereItBelongs(t *testing.T) {
	for in, where := range map[string]func(*http.Request) bool{
		"header": func(r *http.Request) bool { return r.Header.Get("K") == "secret" },
		"query":  func(r *http.Request) bool { return r.URL.Query().Get("K") == "secret" },
		"bearer": func(r *http.Request) bool { return r.Header.Get("Authorization") == "Bearer secret" },
		"basic":  func(r *http.Request) bool { _, password, _ := r.BasicAuth(); return password == "secret" },
	} {
		d := shipped(t, "gannet")
		d.Access.Key = &Key{In: in, Name: "K"}
		for _, fail := range []bool{false, true} {
			a, err := asked(t, d, func(w http.ResponseWriter, r *http.Request) {
				if !where(r) {
					t.Errorf("%s: the key is not there", in)
				}
				if fail {
					conn, _, _ := http.NewResponseController(w).Hijack()
					conn.Close()
					return
				}
				fmt.Fprint(w, `{"quotes": []}`)
			}, "quotes", "AAA.XCVH")
			if strings.Contains(a.Last().Address, "secret") || err != nil && strings.Contains(err.Error(), "secret") {
				t.Errorf("%s: the key is told: %s, %v", in, a.Last().Address, err)
			}
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"delay_minutes":15,"quotes":[{"symbol":"XCVH:AAA","currency":"EUR","time":"2026-03-06T11:45:00Z","last":1}]}`), true)
	f.Add([]byte(`{"series":[{"symbol":"XCVH:AAA","bars":[["2026-03-02",1,1,1,1,1]],"splits":[{"date":"2026-03-02","ratio":2}]}]}`), false)
	d := shipped(f, "gannet")
	f.Fuzz(func(t *testing.T, body []byte, quotes bool) {
		call := "history"
		if quotes {
			call = "quotes"
		}
		q := request(d, call, "AAA.XCVH")
		a, err := Replay(d, body, "", now).Fetch(t.Context(), q, nil)
		if got := len(a.Points) + len(a.Series) + len(a.Entries) + len(a.Failures); err == nil && got != len(q.Needs) {
			t.Fatalf("%d needs, but %d points, %d series, %d entries and %d failures", len(q.Needs), len(a.Points), len(a.Series), len(a.Entries), len(a.Failures))
		}
	})
}
