package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

func TestFaultsOnDemand(t *testing.T) {
	g := NewGannet(newMarket(t, 60, "2026-03-06T20:00:00Z"))
	g.Unlimited()
	server := httptest.NewServer(g)
	defer server.Close()
	client := &http.Client{Timeout: 300 * time.Millisecond, Transport: &http.Transport{DisableKeepAlives: true}}
	ask := func(symbols string) (int, string, error) {
		q, _ := http.NewRequest("GET", server.URL+"/v1/quotes?symbols="+symbols, nil)
		q.Header.Set("X-Gannet-Key", GannetKey)
		resp, err := client.Do(q)
		if err != nil {
			return 0, "", err
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text), err
	}
	order := func(f Fault) {
		body, _ := json.Marshal(f)
		resp, err := http.Post(server.URL+"/admin/faults", "application/json", strings.NewReader(string(body)))
		if err != nil || resp.StatusCode != 201 {
			t.Fatalf("%v %v", resp, err)
		}
		resp.Body.Close()
	}
	const both = "XCVH:KELP,XCVH:FERY"
	for _, c := range []struct {
		fault  Fault
		status int // 0: no whole answer
		says   string
	}{
		{Fault{Kind: "429"}, 429, "slow down"},
		{Fault{Kind: "500"}, 500, "something broke"},
		{Fault{Kind: "503"}, 503, "maintenance"},
		{Fault{Kind: "key"}, 401, "key_invalid"},
		{Fault{Kind: "plan"}, 403, "plan"},
		{Fault{Kind: "allowance"}, 402, "midnight"},
		{Fault{Kind: "html"}, 200, "<html>"},
		{Fault{Kind: "garbage"}, 200, "nonsense"},
		{Fault{Kind: "unknown", Symbol: "XCVH:FERY"}, 422, "XCVH:FERY"},
		{Fault{Kind: "truncated"}, 0, ""},
		{Fault{Kind: "reset"}, 0, ""},
		{Fault{Kind: "timeout", Millis: 5000}, 0, ""},
		{Fault{Kind: "latency", Millis: 10}, 200, "XCVH:FERY"},
	} {
		c.fault.Count = 1
		order(c.fault)
		status, text, err := ask(both)
		if c.status == 0 && err == nil || c.status != 0 && (err != nil || status != c.status || !strings.Contains(text, c.says)) {
			t.Errorf("%s: %d %s %v", c.fault.Kind, status, text, err)
		}
		if status, _, err := ask(both); err != nil || status != 200 {
			t.Errorf("after %s, which was to strike once: %d %v", c.fault.Kind, status, err)
		}
	}
	order(Fault{Kind: "half"})
	if _, text, _ := ask(both); !strings.Contains(text, "XCVH:KELP") || strings.Contains(text, "XCVH:FERY") {
		t.Errorf("half an answer: %s", text)
	}
	q, _ := http.NewRequest("DELETE", server.URL+"/admin/faults", nil)
	if resp, err := client.Do(q); err != nil || resp.StatusCode != 204 {
		t.Fatalf("%v %v", resp, err)
	}
	order(Fault{Kind: "500", Symbol: "XCVH:FERY", Dataset: "quotes"})
	if status, _, _ := ask("XCVH:KELP"); status != 200 {
		t.Errorf("a fault of another symbol strikes: %d", status)
	}
	if status, _, _ := ask(both); status != 500 {
		t.Errorf("a fault of this symbol does not strike: %d", status)
	}
}

func TestAllowanceAndTruth(t *testing.T) {
	m := newMarket(t, 60, "2026-03-06T20:00:00Z")
	g := NewGannet(m)
	if !g.spend(gannetAllowance) || g.spend(1) || g.left() != 0 {
		t.Error("the allowance is not what it says")
	}
	day := m.Clock()
	m.Clock = func() time.Time { return day.Add(24 * time.Hour) }
	if !g.spend(1) || g.left() != gannetAllowance-1 {
		t.Error("a new day does not begin with a new allowance")
	}
	server := httptest.NewServer(g)
	defer server.Close()
	var truth struct {
		Quote  Quote
		Splits []struct{ Ratio float64 }
	}
	for symbol, ratio := range map[string]float64{"WIND.XCVH": 3, "DREG.XPLR": 0.1} {
		resp, err := http.Get(fmt.Sprintf("%s/admin/truth?symbol=%s", server.URL, symbol))
		if err != nil {
			t.Fatal(err)
		}
		err = json.NewDecoder(resp.Body).Decode(&truth)
		resp.Body.Close()
		if err != nil || len(truth.Splits) != 1 || truth.Splits[0].Ratio != ratio || truth.Quote.Last <= 0 || truth.Quote.Low > truth.Quote.Last || truth.Quote.High < truth.Quote.Last {
			t.Errorf("%s: %+v, %v", symbol, truth, err)
		}
	}
}

// In mid-session a quote lies within the day, moves on with the clock, and ends
// in the day's close.
func TestQuotesThroughASession(t *testing.T) {
	m := newMarket(t, 60, "2026-03-06T20:00:00Z")
	l := m.Listings[0]
	open := time.Date(2026, 3, 6, 9, 30, 0, 0, time.UTC) // 08:30 in the Azores
	before, volume := "", 0.0
	for step := range 50 {
		q, ok := m.QuoteAt(l, open.Add(time.Duration(step)*10*time.Minute))
		if !ok || q.Last > q.High+1e-9 || q.Last < q.Low-1e-9 || q.Bid >= q.Ask || q.Volume < volume {
			t.Fatalf("step %d: %+v", step, q)
		}
		if now := q.Time.String(); now == before {
			t.Fatalf("step %d: the quote's time stands still", step)
		} else {
			before = now
		}
		volume = q.Volume
	}
	end, _ := m.QuoteAt(l, open.Add(9*time.Hour))
	bars := m.Bars(l)
	if end.Last != bars.Close[bars.Len()-1] || end.Previous != bars.Close[bars.Len()-2] {
		t.Errorf("after the close: %+v", end)
	}
}
