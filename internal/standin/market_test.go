package standin

import (
	"encoding/json"
	"math"
	"net/http"
	"net/http/httptest"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/sources"
)

func newMarket(t *testing.T, listings int, now string) *Market {
	t.Helper()
	exchanges, err := source.ReadExchanges(sources.Files)
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
	for range burst {
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

// Any year can be walked alone, twenty years reach back, and what dividends take
// out of a price shows at their ex-dates.
func TestTwentyYearsAndTheirDividends(t *testing.T) {
	m := newMarket(t, 200, "2026-03-06T20:00:00Z")
	l := m.Listings[slices.IndexFunc(m.Listings, func(l *Listing) bool {
		return l.Payer.times > 1 && l.Since < period.MakeDate(epoch, 1, 1) && len(l.Splits) == 0
	})]
	whole := m.Bars(l)
	if whole.Len() < 20*250 {
		t.Fatalf("%d bars", whole.Len())
	}
	alone := newMarket(t, 200, "2026-03-06T20:00:00Z")
	from, to := period.MakeDate(2011, 5, 2), period.MakeDate(2012, 2, 28)
	part := alone.BarsIn(alone.Find(l.Symbol), from, to)
	i := whole.OnOrBefore(from - 1)
	if want := whole.Slice(i+1, i+1+part.Len()); !reflect.DeepEqual(part, want) {
		t.Error("a part of the history differs from the same part of the whole")
	}
	drops, others, n := 0.0, 0.0, 0
	paying := map[period.Date]float64{}
	for _, d := range m.Dividends(l, period.MakeDate(2026, 3, 6)) {
		paying[d.Ex] = d.Amount
	}
	for i := 1; i < whole.Len(); i++ {
		move := whole.Close[i]/whole.Close[i-1] - 1
		if amount := paying[whole.Day[i]]; amount > 0 {
			drops += move + amount/whole.Close[i-1]
			n++
		} else {
			others += move
		}
	}
	// Once the dividend is added back, ex-dates are days like others.
	if n < 20 || math.Abs(drops/float64(n)-others/float64(whole.Len()-n)) > 0.02 {
		t.Errorf("%d ex-dates move by %.4f beyond the dividend, other days by %.4f", n, drops/float64(n), others/float64(whole.Len()-n))
	}
}

// Statements articulate, for every company and quarter.
func TestAccountsArticulate(t *testing.T) {
	m := newMarket(t, 120, "2026-03-06T20:00:00Z")
	today := period.MakeDate(2026, 3, 6)
	companies, quarters := 0, 0
	for _, l := range m.Listings {
		accounts := m.Accounts(l, today)
		if len(accounts) == 0 || m.issuer(l) != l { // or they are those of another listing
			continue
		}
		companies++
		years := map[int]int64{}
		for i, a := range accounts {
			quarters++
			years[a.Year] += a.Revenue
			if a.Assets() != a.Liabilities()+a.Equity {
				t.Fatalf("%s %d-Q%d: assets %d, liabilities and equity %d", l.Symbol, a.Year, a.Quarter, a.Assets(), a.Liabilities()+a.Equity)
			}
			if i == 0 {
				continue
			}
			before := accounts[i-1]
			if change := a.OperatingCash - a.CapitalExpenditure - a.Dividends + a.Borrowed; a.Cash-before.Cash != change {
				t.Fatalf("%s %d-Q%d: cash changes by %d, the flows say %d", l.Symbol, a.Year, a.Quarter, a.Cash-before.Cash, change)
			}
			if a.Equity-before.Equity != a.NetIncome()-a.Dividends || a.Start != before.End+1 || a.Cash < 0 || a.Debt < 0 {
				t.Fatalf("%s %d-Q%d: %+v after %+v", l.Symbol, a.Year, a.Quarter, a, before)
			}
			if a.Quarter == 4 && years[a.Year] != accounts[i].Revenue+accounts[i-1].Revenue+accounts[max(i-2, 0)].Revenue+accounts[max(i-3, 0)].Revenue && i >= 3 {
				t.Fatalf("%s %d: four quarters do not add up to the year", l.Symbol, a.Year)
			}
		}
		// What was paid out over all quarters is what was declared, times the shares.
		paid, declared := int64(0), 0.0
		first, last := accounts[0].Start, accounts[len(accounts)-1].End
		for _, a := range accounts {
			paid += a.Dividends
		}
		for _, class := range m.Listings {
			part := class.part
			switch {
			case class == l && part == 0:
				part = 1
			case m.issuer(class) != m.issuer(l) || part == 0:
				continue
			}
			for _, d := range m.Dividends(class, today) {
				if d.Pay >= first && d.Pay <= last {
					declared += part * d.Amount * float64(accounts[0].Shares) / splitFactor(l.Splits, accounts[0].End) * splitFactor(l.Splits, d.Ex) / 1000
				}
			}
		}
		if math.Abs(float64(paid)-declared) > float64(len(accounts)) { // each quarter rounds to thousands
			t.Errorf("%s paid %d thousand, declared %.0f", l.Symbol, paid, declared)
		}
	}
	if companies < 90 || quarters < 7000 {
		t.Errorf("%d companies with %d quarters", companies, quarters)
	}
}

// A market of twenty thousand answers for all of them without holding them.
func TestTwentyThousandListings(t *testing.T) {
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	m := newMarket(t, 20_000, "2026-03-06T20:00:00Z")
	g := NewGannet(m)
	quoted := 0
	for _, l := range m.Listings {
		if g.quote(l) != nil {
			quoted++
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	if used := int64(after.HeapAlloc) - int64(before.HeapAlloc); quoted < 19_900 || used > 64<<20 {
		t.Errorf("%d quotes, %d MiB in use", quoted, used>>20)
	}
}
