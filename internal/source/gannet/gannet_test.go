package gannet

import (
	"errors"
	"fmt"
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
	"soba.invalid/soba/internal/source"
)

var noon = time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)

// fetch has gannet answer with a status and a body, and reads it.
func fetch(t *testing.T, dataset catalogue.Dataset, status int, body string, symbols ...string) (*source.Answer, *http.Request, error) {
	t.Helper()
	var asked *http.Request
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = r
		w.Header().Set("X-Units-Spent", "7")
		w.Header().Set("X-Units-Left", "93")
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}))
	defer server.Close()
	g := &Gannet{Base: server.URL, Key: "secret", Client: server.Client(), Limits: source.StandardLimits, Now: func() time.Time { return noon }}
	q := plan.Request{Source: Name, Dataset: dataset, From: period.MakeDate(2026, 3, 1), To: period.MakeDate(2026, 3, 6)}
	for _, text := range symbols {
		s, err := market.ParseSymbol(text)
		if err != nil {
			s = market.Symbol{Exchange: text} // an exchange
		}
		currency := "EUR"
		if s.Exchange == "XNMK" {
			currency = "GBP"
		}
		q.Needs = append(q.Needs, plan.Need{Dataset: dataset, Symbol: s, Currency: currency})
	}
	a, err := g.Fetch(t.Context(), q)
	return a, asked, err
}

func value(p source.Point, id string) cell.Value { return p.Values[catalogue.Find(id).Slot()] }

func reasons(a *source.Answer) string {
	var out []string
	for _, f := range a.Failures {
		out = append(out, f.Symbol.String()+" "+f.Reason.String())
	}
	return strings.Join(out, ", ")
}

func TestQuotesAreTypedAndWhatCannotBeIsRejected(t *testing.T) {
	a, asked, err := fetch(t, catalogue.Quotes, 200, `{"delay_minutes": 15, "quotes": [
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
	if asked.Header.Get("X-Gannet-Key") != "secret" || strings.Contains(a.Call.Address, "secret") {
		t.Errorf("the key belongs into the header alone: %s", a.Call.Address)
	}
	if a.Call.Units != 7 || a.Call.UnitsLeft != 93 || len(a.Points) != 3 {
		t.Fatalf("got %+v, %d points", a.Call, len(a.Points))
	}
	pence := a.Points[0]
	if v := value(pence, "quote.last"); v.Num != 4.735 || !pence.Minor || value(pence, "quote.turnover").Num != 5682 || value(pence, "quote.volume").Num != 1200 {
		t.Errorf("473.5 pence read as %+v", pence)
	}
	if v := value(pence, "quote.bid"); v.Kind != cell.None || len(pence.Rejected) != 0 {
		t.Errorf("a null is no rejection: %+v", pence)
	}
	if pence.Delay != 15*time.Minute || !value(pence, "quote.time").Time().Equal(noon.Add(-15*time.Minute)) || pence.Place != "$.quotes[0]" {
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
	if got, want := reasons(a), "BBB.XCVH rejected, CCC.XCVH rejected, DDD.XCVH rejected, FFF.XCVH not_covered, GGG.XCVH not_permitted, III.XCVH fetch_failed, HHH.XCVH not_reported"; got != want {
		t.Errorf("failures: %s\nwant:     %s", got, want)
	}
}

func TestBarsOutOfOrderOrOutOfRangeAreLeftOut(t *testing.T) {
	a, asked, err := fetch(t, catalogue.Bars, 200, `{"series": [
		{"symbol": "XNMK:CABL", "minor_unit": true, "splits": [{"date": "2026-03-03", "ratio": 3}, {"date": "2026-03-04", "ratio": 0}], "bars": [
			["2026-03-02", 100, 110, 90, 105, 10], ["2026-03-03", 100, 99, 90, 105, 10], ["2026-03-02", 100, 110, 90, 105, 10],
			["2026-03-04", 100, 110, 0, 105, 10], ["2026-03-05", null, 110, 90, 105, 10], ["2026-03-06", 100, 110, 90, 95, 20], ["2027-01-01", 1, 1, 1, 1, 1]]},
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
	if s.Bars.Len() != 2 || s.Bars.Close[0] != 1.05 || s.Bars.Volume[1] != 20 || len(s.Splits) != 1 || s.Splits[0].Ratio != 3 || !strings.Contains(s.Remark, "5 bars rejected") || !strings.Contains(s.Remark, `"2026-03-03",100,99`) {
		t.Errorf("got %+v", s)
	}
	if got := reasons(a); got != "AAA.XCVH rejected" {
		t.Errorf("failures: %s", got)
	}
}

func TestListingsAndProfiles(t *testing.T) {
	a, asked, err := fetch(t, catalogue.Listings, 200, `{"listings": [
		{"symbol": "FX:EURUSD", "name": "EUR/USD", "type": "pair", "currency": "USD"},
		{"symbol": "XCVH:CHAN.A", "isin": "XA000KELP018", "name": "Chandlers A", "type": "share", "currency": "EUR", "ended": "2026-02-09"}]}`, "")
	if err != nil || asked.URL.Query().Get("exchange") != "FX" {
		t.Fatalf("%v, asked %s", err, asked.URL)
	}
	if l := a.Listings[0]; l.Symbol.String() != "EUR/USD" || l.Kind != market.Pair {
		t.Errorf("got %+v", l)
	}
	if l := a.Listings[1]; l.Symbol.String() != "CHAN.A.XCVH" || l.ISIN != "" || l.Ended.String() != "2026-02-09" {
		t.Errorf("an ISIN with a wrong check digit is worse than none: %+v", l)
	}
	if _, _, err = fetch(t, catalogue.Listings, 200, `{"listings": [{"symbol": "XCVH:A", "name": ""}]}`, "XCVH"); err == nil {
		t.Error("a listing without a name passes")
	}
	a, _, err = fetch(t, catalogue.Profiles, 200, `{"profiles": [{"symbol": "XCVH:AAA", "sector": "Ferries", "employees": 12, "website": 7, "listed_since": "1999-03-01"}]}`, "AAA.XCVH")
	if err != nil {
		t.Fatal(err)
	}
	p := a.Points[0]
	if value(p, "profile.sector").Text != "Ferries" || value(p, "profile.employees").Num != 12 || p.Rejected[catalogue.Find("profile.website").Slot()] != "7" || !p.Observed.Equal(noon) {
		t.Errorf("got %+v", p)
	}
}

func TestRefusalsAreToldApart(t *testing.T) {
	for _, c := range []struct {
		status int
		body   string
		kind   source.FaultKind
		reason cell.Reason
		says   string
	}{
		{401, `{"error":"key_invalid","message":"this key is not known"}`, source.KeyInvalid, cell.FetchFailed, "this key is not known"},
		{403, `{"error":"plan","message":"not in your plan"}`, source.PlanLacks, cell.NotPermitted, "not in your plan"},
		{402, `{"error":"allowance_spent","message":"used up"}`, source.AllowanceGone, cell.AllowanceSpent, "used up"},
		{422, `{"error":"unknown_symbol","message":"one is unknown","symbols":["XCVH:AAA"]}`, source.UnknownInside, cell.NotCovered, "one is unknown"},
		{404, `gone`, source.Refused, cell.FetchFailed, "gone"},
		{429, `{"error":"too_many","message":"slow down"}`, source.Throttled, cell.FetchFailed, "slow down"},
		{503, `<html>down</html>`, source.ServerFailed, cell.FetchFailed, "down"},
		{200, `<html>Please try again</html>`, source.Malformed, cell.FetchFailed, "Please try again"},
		{200, `{}`, source.Malformed, cell.FetchFailed, `no part "quotes"`},
	} {
		a, _, err := fetch(t, catalogue.Quotes, c.status, c.body, "AAA.XCVH")
		var f *source.Fault
		if !errors.As(err, &f) || f.Kind != c.kind || f.Reason() != c.reason || !strings.Contains(f.Error(), c.says) || f.Advice() == "" || a == nil || string(a.Body) != c.body {
			t.Errorf("%d %s: %v", c.status, c.body, err)
		}
		if c.status == 422 && (len(f.Culprits) != 1 || f.Culprits[0].String() != "AAA.XCVH") {
			t.Errorf("culprits %v", f.Culprits)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"delay_minutes":15,"quotes":[{"symbol":"XCVH:AAA","currency":"EUR","time":"2026-03-06T11:45:00Z","last":1}]}`), true)
	f.Add([]byte(`{"series":[{"symbol":"XCVH:AAA","bars":[["2026-03-02",1,1,1,1,1]]}]}`), false)
	f.Fuzz(func(t *testing.T, body []byte, quotes bool) {
		dataset := catalogue.Bars
		if quotes {
			dataset = catalogue.Quotes
		}
		s := market.Symbol{Ticker: "AAA", Exchange: "XCVH"}
		n := plan.Need{Dataset: dataset, Symbol: s, Currency: "EUR"}
		a := &source.Answer{Body: body}
		d := decoder{needs: map[string]plan.Need{"XCVH:AAA": n}, request: plan.Request{Dataset: dataset, Needs: []plan.Need{n}}, now: noon, answer: a}
		if d.decode() == nil && len(a.Points)+len(a.Series)+len(a.Failures) != 1 {
			t.Fatalf("one need, but %d points, %d series and %d failures", len(a.Points), len(a.Series), len(a.Failures))
		}
	})
}
