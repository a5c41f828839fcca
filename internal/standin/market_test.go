package standin

import (
	"encoding/json"
	"math"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/sources"
)

func newMarket(t *testing.T, listings int, now string) *Market {
	t.Helper()
	exchanges, err := source.ReadExchanges(sources.Exchanges)
	if err != nil {
		t.Fatal(err)
	}
	at, err := time.Parse(time.RFC3339, now)
	if err != nil {
		t.Fatal(err)
	}
	return New(exchanges, 7, listings, func() time.Time { return at })
}

func TestTheMarketIsAFunctionOfSeedAndClock(t *testing.T) {
	a, b := newMarket(t, 120, "2026-03-06T20:00:00Z"), newMarket(t, 120, "2026-03-06T20:00:00Z")
	for i, l := range a.Listings {
		if bars := a.Bars(l); !reflect.DeepEqual(bars, b.Bars(b.Listings[i])) {
			t.Fatalf("%s differs between two markets of one seed", l.Symbol)
		}
	}
	// Computed in two steps or in one, the bars are the same.
	early, late := newMarket(t, 60, "2025-11-03T20:00:00Z"), newMarket(t, 60, "2026-03-06T20:00:00Z")
	l := early.Find(market.Symbol{Ticker: "KELP", Exchange: "XCVH"})
	early.Bars(l)
	early.Clock = late.Clock
	if !reflect.DeepEqual(early.Bars(l), late.Bars(late.Find(l.Symbol))) {
		t.Error("extending a history changes it")
	}
}

func TestBarsAndListingsAreSound(t *testing.T) {
	m := newMarket(t, 500, "2026-03-06T20:00:00Z")
	if len(m.Listings) != 500 {
		t.Fatalf("%d listings", len(m.Listings))
	}
	for _, l := range m.Listings {
		if l.ISIN != "" {
			if _, err := market.ParseISIN(l.ISIN); err != nil {
				t.Errorf("%s: %v", l.Symbol, err)
			}
		}
		e := m.Exchanges.Of(&l.Listing)
		b := m.Bars(l)
		for i, day := range b.Day {
			if !e.Trades(day) || b.Low[i] > math.Min(b.Open[i], b.Close[i])+1e-9 || b.High[i] < math.Max(b.Open[i], b.Close[i])-1e-9 || b.Low[i] <= 0 {
				t.Fatalf("%s on %s: %v %v %v %v", l.Symbol, day, b.Open[i], b.High[i], b.Low[i], b.Close[i])
			}
		}
		for _, s := range l.Splits {
			i := b.OnOrBefore(s.Day)
			if ratio := b.Close[i-1] / b.Close[i]; math.Abs(ratio/s.Ratio-1) > 0.2 {
				t.Errorf("%s: the close falls by %.3f at a split of %.3f", l.Symbol, ratio, s.Ratio)
			}
		}
	}
}

func TestGannetsManners(t *testing.T) {
	g := NewGannet(newMarket(t, 120, "2026-03-06T20:00:00Z"))
	server := httptest.NewServer(g)
	defer server.Close()
	get := func(path, key string) (int, http.Header, map[string]any) {
		t.Helper()
		q, _ := http.NewRequest("GET", server.URL+path, nil)
		q.Header.Set("X-Gannet-Key", key)
		resp, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var body map[string]any
		if err := json.NewDecoder(resp.Body).Decode(&body); err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, resp.Header, body
	}
	if status, _, _ := get("/v1/quotes?symbols=XCVH:KELP", "wrong"); status != 401 {
		t.Errorf("a wrong key gives %d", status)
	}
	status, header, body := get("/v1/quotes?symbols=XNMK:CABL,XCVH:NONE,XCVH:KLPF", GannetKey)
	if status != 200 || header.Get("X-Units-Spent") != "3" {
		t.Fatalf("%d %v", status, header)
	}
	cabl := body["quotes"].([]any)[0].(map[string]any)
	q, _ := g.Market.QuoteAt(g.Market.Find(market.Symbol{Ticker: "CABL", Exchange: "XNMK"}), g.Market.Clock())
	if cabl["minor_unit"] != true || math.Abs(cabl["last"].(float64)-100*q.Last) > 1e-6 {
		t.Errorf("pence: %v, pounds: %v", cabl["last"], q.Last)
	}
	if u := body["unknown"].([]any); len(u) != 1 || u[0] != "XCVH:NONE" {
		t.Errorf("unknown: %v", u)
	}
	if e := body["errors"].([]any); len(e) != 1 || e[0].(map[string]any)["code"] != "plan" {
		t.Errorf("errors: %v", e)
	}
	for range gannetBurst {
		status, header, _ = get("/v1/quotes?symbols=XCVH:KELP", GannetKey)
	}
	if status != 429 || header.Get("Retry-After") != "1" {
		t.Errorf("a second request at once gives %d, Retry-After %q", status, header.Get("Retry-After"))
	}
	g.limiter.SetLimit(rate.Inf)
	if status, _, _ := get("/v1/quotes?symbols="+strings.Repeat("XCVH:KELP,", 100)+"XCVH:KELP", GannetKey); status != 400 {
		t.Errorf("101 symbols give %d", status)
	}
}
