package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// GannetKey is the key that the stand-in accepts.
const GannetKey = "demo-key"

// Gannet's limits and manners.
const (
	gannetBatch     = 100
	gannetPerSecond = 5
	gannetBurst     = 2 // so that a client that keeps to the rate is not refused for jitter
	gannetAtOnce    = 4
	gannetAllowance = 20_000
	gannetDelay     = 15 * time.Minute
)

// Gannet is a vendor that speaks JSON: listings, quotes, bars and profiles,
// with a key in a header, symbols written exchange first, and prices of some
// exchanges in hundredths.
type Gannet struct {
	Market  *Market
	Latency time.Duration // added to every answer

	mux     *http.ServeMux
	limiter *rate.Limiter
	slots   chan struct{}
	faults  faults

	mu      sync.Mutex
	day     period.Date // of the units below
	spent   int
	asked   map[string]int // requests by dataset, for tests and benchmarks
	tooFast int            // requests refused for coming too fast
}

// NewGannet returns the vendor as an [http.Handler].
func NewGannet(m *Market) *Gannet {
	g := &Gannet{Market: m, mux: http.NewServeMux(), limiter: rate.NewLimiter(gannetPerSecond, gannetBurst), slots: make(chan struct{}, gannetAtOnce), asked: map[string]int{}}
	g.mux.HandleFunc("GET /v1/listings", g.served("listings", g.listings))
	g.mux.HandleFunc("GET /v1/quotes", g.served("quotes", g.quotes))
	g.mux.HandleFunc("GET /v1/bars", g.served("bars", g.bars))
	g.mux.HandleFunc("GET /v1/profiles", g.served("profiles", g.profiles))
	g.mux.HandleFunc("POST /admin/faults", g.faults.add)
	g.mux.HandleFunc("DELETE /admin/faults", g.faults.clear)
	g.mux.HandleFunc("GET /admin/counts", g.counts)
	g.mux.HandleFunc("GET /admin/truth", g.truth)
	return g
}

// Unlimited lifts the limits on rate and concurrency.
func (g *Gannet) Unlimited() {
	g.limiter.SetLimit(rate.Inf)
	g.slots = make(chan struct{}, 1000)
}

func (g *Gannet) ServeHTTP(w http.ResponseWriter, r *http.Request) { g.mux.ServeHTTP(w, r) }

// A refusal is an answer that is not the data that was asked for.
type refusal struct {
	status  int
	code    string
	message string
	retry   string
	symbols []string
}

func (f *refusal) write(w http.ResponseWriter) {
	if f.retry != "" {
		w.Header().Set("Retry-After", f.retry)
	}
	writeJSON(w, f.status, map[string]any{"error": f.code, "message": f.message, "symbols": f.symbols})
}

func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the client is gone if this fails
}

type answer func(r *http.Request, symbols []string) (body any, units int, refused *refusal)

// served wraps an answer in the vendor's manners: faults on demand, key, rate,
// concurrency and allowance.
func (g *Gannet) served(dataset string, of answer) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g.mu.Lock()
		g.asked[dataset]++
		g.mu.Unlock()
		if r.Header.Get("X-Gannet-Key") != GannetKey {
			(&refusal{status: 401, code: "key_invalid", message: "this key is not known"}).write(w)
			return
		}
		select {
		case g.slots <- struct{}{}:
			defer func() { <-g.slots }()
		default:
			g.tooMany(w, fmt.Sprintf("more than %d requests at once", gannetAtOnce))
			return
		}
		if !g.limiter.Allow() {
			g.tooMany(w, fmt.Sprintf("more than %d requests a second", gannetPerSecond))
			return
		}
		var symbols []string
		if list := r.URL.Query().Get("symbols"); list != "" {
			symbols = strings.Split(list, ",")
		}
		time.Sleep(g.Latency)
		f := g.faults.take(dataset, symbols)
		if f.before(w, r) {
			return
		}
		if len(symbols) > gannetBatch {
			(&refusal{status: 400, code: "batch_too_large", message: fmt.Sprintf("%d symbols; at most %d", len(symbols), gannetBatch)}).write(w)
			return
		}
		body, units, refused := of(r, f.kept(symbols))
		if refused == nil && !g.spend(units) {
			refused = &refusal{status: 402, code: "allowance_spent", message: fmt.Sprintf("%d units a day; starts anew at midnight UTC", gannetAllowance)}
		}
		w.Header().Set("X-Units-Left", strconv.Itoa(g.left()))
		if refused != nil {
			refused.write(w)
			return
		}
		w.Header().Set("X-Units-Spent", strconv.Itoa(units))
		f.write(w, body)
	}
}

func (g *Gannet) tooMany(w http.ResponseWriter, message string) {
	g.mu.Lock()
	g.tooFast++
	g.mu.Unlock()
	(&refusal{status: 429, code: "too_many", message: message, retry: "1"}).write(w)
}

// spend takes units off the day's allowance, or none if they do not suffice.
func (g *Gannet) spend(units int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if today := period.DateOf(g.Market.Clock().UTC()); today != g.day {
		g.day, g.spent = today, 0
	}
	if g.spent+units > gannetAllowance {
		return false
	}
	g.spent += units
	return true
}

func (g *Gannet) left() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return gannetAllowance - g.spent
}

// The vendor's names: exchange first, currencies as one word.

func vendorSymbol(s market.Symbol) string {
	if s.IsPair() {
		return "FX:" + s.Ticker + s.Exchange
	}
	return s.Exchange + ":" + s.Ticker
}

func (g *Gannet) find(symbol string) *Listing {
	exchange, ticker, _ := strings.Cut(symbol, ":")
	if exchange == "FX" && len(ticker) == 6 {
		return g.Market.Find(market.Symbol{Ticker: ticker[:3], Exchange: ticker[3:]})
	}
	return g.Market.Find(market.Symbol{Ticker: ticker, Exchange: exchange})
}

// inMinor tells whether the vendor quotes a listing in hundredths.
func (g *Gannet) inMinor(l *Listing) bool {
	return g.Market.Exchanges.Of(&l.Listing).Minor && l.Kind != market.Index
}

func (g *Gannet) scale(l *Listing) float64 {
	if g.inMinor(l) {
		return 100
	}
	return 1
}

func (g *Gannet) listings(r *http.Request, _ []string) (any, int, *refusal) {
	exchange := r.URL.Query().Get("exchange")
	if g.Market.Exchanges[exchange] == nil && exchange != "FX" {
		return nil, 0, &refusal{status: 404, code: "unknown_exchange", message: "there is no exchange " + exchange}
	}
	rows := []map[string]any{}
	for _, l := range g.Market.Listings {
		if l.Symbol.Exchange != exchange && (exchange != "FX" || !l.Symbol.IsPair()) {
			continue
		}
		row := map[string]any{"symbol": vendorSymbol(l.Symbol), "isin": l.ISIN, "name": l.Name, "type": l.Kind, "currency": l.Currency}
		if l.Ended != 0 {
			row["ended"] = l.Ended
		}
		rows = append(rows, row)
	}
	return map[string]any{"listings": rows}, 10, nil
}

// each sorts symbols into answers and the kinds of failure that concern one alone.
func (g *Gannet) each(symbols []string, list string, of func(*Listing) any) map[string]any {
	rows, unknown, errors := []any{}, []string{}, []map[string]string{}
	for _, symbol := range symbols {
		l := g.find(symbol)
		switch {
		case l == nil || l.story.uncovered:
			unknown = append(unknown, symbol)
		case l.story.plan != "":
			errors = append(errors, map[string]string{"symbol": symbol, "code": "plan", "message": "in the plan '" + l.story.plan + "' only"})
		case l.story.unavailable != "" && list == "series":
			errors = append(errors, map[string]string{"symbol": symbol, "code": "unavailable", "message": l.story.unavailable})
		default:
			if row := of(l); row != nil {
				rows = append(rows, row)
			}
		}
	}
	return map[string]any{list: rows, "unknown": unknown, "errors": errors}
}

func (g *Gannet) quotes(_ *http.Request, symbols []string) (any, int, *refusal) {
	at := g.Market.Clock().Add(-gannetDelay)
	body := g.each(symbols, "quotes", func(l *Listing) any {
		q, ok := g.Market.QuoteAt(l, at)
		if !ok {
			return nil
		}
		k := g.scale(l)
		row := map[string]any{
			"symbol": vendorSymbol(l.Symbol), "currency": l.Currency, "minor_unit": g.inMinor(l), "time": q.Time.UTC().Format(time.RFC3339),
			"last": round(q.Last * k), "open": round(q.Open * k), "high": round(q.High * k), "low": round(q.Low * k), "previous_close": round(q.Previous * k),
			"change": fmt.Sprintf("%.2f%%", 100*(q.Last/q.Previous-1)), "bid": round(q.Bid * k), "ask": round(q.Ask * k),
			"volume": q.Volume, "turnover": round(q.Turnover * k),
		}
		if l.story.badText != "" {
			row["last"] = l.story.badText
		}
		if l.story.noDepth || l.Kind == market.Index {
			row["bid"], row["ask"] = nil, nil
		}
		if l.Kind == market.Index || l.Kind == market.Pair || l.Kind == market.Fund {
			row["volume"], row["turnover"] = nil, nil
		}
		return row
	})
	body["delay_minutes"] = int(gannetDelay.Minutes())
	return body, len(symbols), nil
}

// round keeps a scaled price from showing the noise of binary fractions.
func round(x float64) float64 { return math.Round(x*1e6) / 1e6 }

func (g *Gannet) bars(r *http.Request, symbols []string) (any, int, *refusal) {
	from, err := period.ParseDate(r.URL.Query().Get("from"))
	to, err2 := period.ParseDate(r.URL.Query().Get("to"))
	if err != nil || err2 != nil || from > to {
		return nil, 0, &refusal{status: 400, code: "bad_range", message: "from and to must be dates in order"}
	}
	return g.each(symbols, "series", func(l *Listing) any {
		bars := g.Market.Bars(l)
		k := g.scale(l)
		rows, splits := [][]any{}, []map[string]any{}
		for i, day := range bars.Day {
			if day < from || day > to || day >= l.story.gapFrom && day <= l.story.gapTo {
				continue
			}
			rows = append(rows, []any{day, round(bars.Open[i] * k), round(bars.High[i] * k), round(bars.Low[i] * k), round(bars.Close[i] * k), bars.Volume[i]})
		}
		for _, s := range l.Splits {
			splits = append(splits, map[string]any{"date": s.Day, "ratio": s.Ratio})
		}
		return map[string]any{"symbol": vendorSymbol(l.Symbol), "minor_unit": g.inMinor(l), "bars": rows, "splits": splits}
	}), 2 * len(symbols), nil
}

func (g *Gannet) profiles(_ *http.Request, symbols []string) (any, int, *refusal) {
	return g.each(symbols, "profiles", func(l *Listing) any {
		row := map[string]any{"symbol": vendorSymbol(l.Symbol), "country": l.Country, "website": l.Website, "listed_since": l.Since, "description": l.Description}
		for key, text := range map[string]string{"sector": l.Sector, "industry": l.Industry, "fiscal_year_end": l.YearEnd} {
			if text != "" {
				row[key] = text
			}
		}
		if l.Employees > 0 {
			row["employees"] = l.Employees
		}
		return row
	}), len(symbols), nil
}

// counts reports what was asked, for tests and benchmarks.
func (g *Gannet) counts(w http.ResponseWriter, _ *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	writeJSON(w, 200, map[string]any{"asked": g.asked, "spent": g.spent, "too_fast": g.tooFast})
}

// truth gives the exact numbers behind a listing, in the major unit.
func (g *Gannet) truth(w http.ResponseWriter, r *http.Request) {
	s, err := market.ParseSymbol(r.URL.Query().Get("symbol"))
	l := g.Market.Find(s)
	if err != nil || l == nil {
		writeJSON(w, 404, map[string]string{"error": "no such listing"})
		return
	}
	q, _ := g.Market.QuoteAt(l, g.Market.Clock().Add(-gannetDelay))
	b := g.Market.Bars(l)
	writeJSON(w, 200, map[string]any{"quote": q, "bars": b, "splits": l.Splits, "employees": l.Employees, "sector": l.Sector, "isin": l.ISIN, "ended": l.Ended})
}
