package standin

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// GannetKey is the key that the stand-in accepts.
const GannetKey = "demo-key"

// Gannet's limits and manners.
const (
	gannetBatch     = 100
	gannetPerSecond = 5
	gannetAtOnce    = 4
	gannetAllowance = 20_000
	gannetDelay     = 15 * time.Minute
	gannetPage      = 2000 // listings
)

// Gannet is a vendor that speaks JSON, with a key in a header, symbols written
// exchange first, and prices of some exchanges in hundredths.
type Gannet struct{ *Vendor }

// NewGannet returns the vendor as an [http.Handler].
func NewGannet(m *Market) *Gannet {
	g := &Gannet{newVendor("gannet", m, gannetPerSecond, gannetAtOnce, gannetAllowance)}
	g.key = func(r *http.Request) bool { return r.Header.Get("X-Gannet-Key") == GannetKey }
	symbols := listed("symbols", ",")
	none := func(*http.Request) []string { return nil }
	g.serve("/v1/listings", "listings", none, g.listings)
	g.serve("/v1/quotes", "quotes", symbols, g.quotes)
	g.serve("/v1/history", "history", symbols, g.history)
	g.serve("/v1/actions", "actions", symbols, g.actions)
	g.serve("/v1/bars/day", "bars of a day", none, g.day)
	g.serve("/v1/intraday", "intraday", symbols, g.intraday)
	g.serve("/v1/profiles", "profiles", symbols, g.profiles)
	g.serve("/v1/announcements", "announcements", symbols, g.announcements)
	g.serve("/v1/funds", "funds", symbols, g.funds)
	g.serve("/v1/bonds", "bonds", symbols, g.bonds)
	g.serve("/v1/contracts", "contracts", symbols, g.contracts)
	g.serve("/v1/universes/{symbol}", "universes", func(r *http.Request) []string { return []string{r.PathValue("symbol")} }, g.members)
	return g
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

func (g *Gannet) onExchange(code string) ([]*Listing, *refusal) {
	if g.Market.Exchanges[code] == nil && code != "FX" {
		return nil, &refusal{status: 404, code: "unknown_exchange", message: "there is no exchange " + code}
	}
	var out []*Listing
	for _, l := range g.Market.Listings {
		if l.Symbol.Exchange == code || code == "FX" && l.Symbol.IsPair() {
			out = append(out, l)
		}
	}
	return out, nil
}

func (g *Gannet) listings(r *http.Request, _ []string) (*answer, *refusal) {
	all, refused := g.onExchange(r.URL.Query().Get("exchange"))
	if refused != nil {
		return nil, refused
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
	from = min(max(from, 0), len(all))
	page := all[from:min(from+gannetPage, len(all))]
	rows := []any{}
	for _, l := range page {
		row := map[string]any{"symbol": vendorSymbol(l.Symbol), "isin": l.ISIN, "name": l.Name, "type": l.Kind, "currency": l.Currency}
		if l.Ended != 0 {
			row["ended"] = l.Ended
		}
		if l.Kind == market.Share {
			row["issuer"], row["class_share"] = g.Market.issuer(l).ISIN, nil
		}
		if l.part != 0 {
			row["class_share"] = fmt.Sprintf("%g%%", 100*l.part)
		}
		rows = append(rows, row)
	}
	a := &answer{json: map[string]any{"listings": rows}, list: "listings", units: 10}
	if next := from + len(page); next < len(all) {
		a.json["next"] = strconv.Itoa(next)
	}
	return a, nil
}

// each sorts symbols into answers and the kinds of failure that concern one alone.
func (g *Gannet) each(symbols []string, list string, of func(*Listing) any) (*answer, *refusal) {
	if len(symbols) > gannetBatch {
		return nil, &refusal{status: 400, code: "batch_too_large", message: fmt.Sprintf("%d symbols; at most %d", len(symbols), gannetBatch)}
	}
	rows, unknown, errors := []any{}, []string{}, []map[string]string{}
	for _, symbol := range symbols {
		l := g.find(symbol)
		switch {
		case l == nil || l.story.uncovered:
			unknown = append(unknown, symbol)
		case l.story.plan != "" && list != "contracts": // their terms are free
			errors = append(errors, map[string]string{"symbol": symbol, "code": "plan", "message": "in the plan '" + l.story.plan + "' only"})
		case l.story.unavailable != "" && list == "series":
			errors = append(errors, map[string]string{"symbol": symbol, "code": "unavailable", "message": l.story.unavailable})
		default:
			switch row := of(l).(type) {
			case nil:
			case []any:
				rows = append(rows, row...)
			default:
				rows = append(rows, row)
			}
		}
	}
	return &answer{json: map[string]any{list: rows, "unknown": unknown, "errors": errors}, list: list, units: len(symbols)}, nil
}

func (g *Gannet) quotes(r *http.Request, symbols []string) (*answer, *refusal) {
	units := 0
	if code := r.URL.Query().Get("exchange"); code != "" {
		all, refused := g.onExchange(code)
		if refused != nil {
			return nil, refused
		}
		rows := []any{}
		for _, l := range all {
			if row := g.quote(l); row != nil && !l.story.uncovered && l.story.plan == "" {
				rows = append(rows, row)
			}
		}
		units = 250
		return &answer{json: map[string]any{"quotes": rows, "delay_minutes": int(gannetDelay.Minutes()), "unknown": []string{}, "errors": []string{}}, list: "quotes", units: units}, nil
	}
	a, refused := g.each(symbols, "quotes", func(l *Listing) any {
		if row := g.quote(l); row != nil {
			return row
		}
		return nil
	})
	if refused == nil {
		a.json["delay_minutes"] = int(gannetDelay.Minutes())
	}
	return a, refused
}

func (g *Gannet) quote(l *Listing) map[string]any {
	q, ok := g.Market.QuoteAt(l, g.Market.Clock().Add(-gannetDelay))
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
}

// round keeps a scaled price from showing the noise of binary fractions.
func round(x float64) float64 { return math.Round(x*1e6) / 1e6 }

func dates(r *http.Request) (from, to period.Date, refused *refusal) {
	from, err := period.ParseDate(r.URL.Query().Get("from"))
	to, err2 := period.ParseDate(r.URL.Query().Get("to"))
	if err != nil || err2 != nil || from > to {
		refused = &refusal{status: 400, code: "bad_range", message: "from and to must be dates in order"}
	}
	return from, to, refused
}

func (g *Gannet) history(r *http.Request, symbols []string) (*answer, *refusal) {
	from, to, refused := dates(r)
	if refused != nil {
		return nil, refused
	}
	a, refused := g.each(symbols, "series", func(l *Listing) any {
		closed := g.Market.Exchanges.Of(&l.Listing).LastClosed(g.Market.Clock(), 0).Date
		bars := g.Market.BarsIn(l, from, min(to, closed))
		k := g.scale(l)
		rows := make([]any, 0, bars.Len())
		for i, day := range bars.Day {
			if day >= l.story.gapFrom && day <= l.story.gapTo {
				continue
			}
			rows = append(rows, []any{day, round(bars.Open[i] * k), round(bars.High[i] * k), round(bars.Low[i] * k), round(bars.Close[i] * k), bars.Volume[i]})
		}
		row := g.action(l)
		row["bars"] = rows
		return row
	})
	if refused == nil {
		a.units *= 2
	}
	return a, refused
}

// action is a listing's splits and dividends.
func (g *Gannet) action(l *Listing) map[string]any {
	splits, dividends := []any{}, []any{}
	today := period.DateOf(g.Market.Clock().UTC())
	for _, s := range l.Splits {
		if s.Day <= today {
			splits = append(splits, map[string]any{"date": s.Day, "ratio": s.Ratio})
		}
	}
	for _, d := range g.Market.Dividends(l, today) {
		dividends = append(dividends, map[string]any{"ex": d.Ex, "record": d.Record, "pay": d.Pay, "declared": d.Declared, "amount": round(d.Amount * g.scale(l)), "kind": d.Kind})
	}
	return map[string]any{"symbol": vendorSymbol(l.Symbol), "currency": l.Currency, "minor_unit": g.inMinor(l), "splits": splits, "dividends": dividends}
}

func (g *Gannet) actions(_ *http.Request, symbols []string) (*answer, *refusal) {
	return g.each(symbols, "actions", func(l *Listing) any { return g.action(l) })
}

func (g *Gannet) day(r *http.Request, _ []string) (*answer, *refusal) {
	all, refused := g.onExchange(r.URL.Query().Get("exchange"))
	day, err := period.ParseDate(r.URL.Query().Get("day"))
	if refused == nil && err != nil {
		refused = &refusal{status: 400, code: "bad_day", message: "day must be a date"}
	}
	if refused != nil {
		return nil, refused
	}
	rows := []any{}
	for _, l := range all {
		bars := g.Market.BarsIn(l, day, min(day, g.Market.Exchanges.Of(&l.Listing).LastClosed(g.Market.Clock(), 0).Date))
		if bars.Len() == 0 || l.story.uncovered || l.story.plan != "" || l.story.unavailable != "" || day >= l.story.gapFrom && day <= l.story.gapTo {
			continue
		}
		k := g.scale(l)
		rows = append(rows, map[string]any{
			"symbol": vendorSymbol(l.Symbol), "date": day, "open": round(bars.Open[0] * k), "high": round(bars.High[0] * k), "low": round(bars.Low[0] * k), "close": round(bars.Close[0] * k),
			"volume": bars.Volume[0], "minor_unit": g.inMinor(l),
		})
	}
	return &answer{json: map[string]any{"bars": rows}, list: "bars", units: 60}, nil
}

// intradayStep is the width of the vendor's bars within the day.
const intradayStep = 5 * time.Minute

// intraday cuts the last sessions into bars of five minutes.
func (g *Gannet) intraday(_ *http.Request, symbols []string) (*answer, *refusal) {
	now := g.Market.Clock().Add(-gannetDelay)
	a, refused := g.each(symbols, "series", func(l *Listing) any {
		e := g.Market.Exchanges.Of(&l.Listing)
		k := g.scale(l)
		rows := []any{}
		today := e.Today(now)
		for _, day := range e.Sessions(today-9, today) {
			s := e.SessionOn(day)
			before, traded := 0.0, 0.0
			for at := s.Open.Add(intradayStep); !at.After(s.Close) && !at.After(now); at = at.Add(intradayStep) {
				q, ok := g.Market.QuoteAt(l, at)
				if !ok || q.Time.Before(s.Open) {
					continue
				}
				open := q.Open
				if before != 0 {
					open = before
				}
				begin := at.Add(-intradayStep).UTC().Format(time.RFC3339)
				rows = append(rows, []any{begin, round(open * k), round(math.Max(open, q.Last) * k), round(math.Min(open, q.Last) * k), round(q.Last * k), q.Volume - traded})
				before, traded = q.Last, q.Volume
			}
		}
		return map[string]any{"symbol": vendorSymbol(l.Symbol), "minor_unit": g.inMinor(l), "bars": rows}
	})
	if refused == nil {
		a.units *= 5
	}
	return a, refused
}

func (g *Gannet) profiles(_ *http.Request, symbols []string) (*answer, *refusal) {
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
	})
}

func (g *Gannet) announcements(_ *http.Request, symbols []string) (*answer, *refusal) {
	today := period.DateOf(g.Market.Clock().UTC())
	return g.each(symbols, "announcements", func(l *Listing) any {
		rows := []any{}
		for _, x := range g.Market.Announcements(l, today) {
			rows = append(rows, map[string]any{"symbol": vendorSymbol(l.Symbol), "date": x.Date, "kind": x.Kind, "title": x.Title})
		}
		return rows
	})
}

func (g *Gannet) funds(_ *http.Request, symbols []string) (*answer, *refusal) {
	return g.each(symbols, "funds", func(l *Listing) any {
		q, ok := g.Market.QuoteAt(l, g.Market.Clock())
		if !ok || l.Kind != market.Fund && l.Kind != market.ETF {
			return nil
		}
		return map[string]any{
			"symbol": vendorSymbol(l.Symbol), "nav": round(q.Last * 1.0005), "net_assets_millions": 40 + float64(l.own%9000)/10,
			"expense_ratio": fmt.Sprintf("%.2f%%", 0.05+float64(l.own%120)/100), "distribution_yield": fmt.Sprintf("%.2f%%", 100*l.Payer.yield),
		}
	})
}

// terms of the bonds, by ticker.
var terms = map[string]struct {
	issuer, maturity, count string
	coupon                  float64
	times                   int
}{
	"HB31": {"Harbour Bank of Vela", "2031-09-30", "ACT/ACT", 3.25, 1},
	"TD29": {"Slackwater Tidal Power", "2029-04-15", "30/360", 4.5, 2},
	"VZ28": {"Vela Treasury", "2028-12-15", "ACT/ACT", 0, 0},
	"VT25": {"Vela Treasury", "2025-06-30", "ACT/ACT", 1, 1},
}

func (g *Gannet) bonds(_ *http.Request, symbols []string) (*answer, *refusal) {
	return g.each(symbols, "bonds", func(l *Listing) any {
		t, known := terms[l.Symbol.Ticker]
		if !known {
			return nil
		}
		return map[string]any{"symbol": vendorSymbol(l.Symbol), "issuer": t.issuer, "maturity": t.maturity, "day_count": t.count, "coupon": fmt.Sprintf("%.2f%%", t.coupon), "coupons_a_year": t.times}
	})
}

func (g *Gannet) contracts(_ *http.Request, symbols []string) (*answer, *refusal) {
	return g.each(symbols, "contracts", func(l *Listing) any {
		if l.Kind != market.Future && l.Kind != market.Option {
			return nil
		}
		year := g.Market.Clock().Year() + 1
		row := map[string]any{"symbol": vendorSymbol(l.Symbol), "underlying": "XCVH:KELP", "expiry": fmt.Sprintf("%d-06-18", year), "multiplier": 100}
		if l.Kind == market.Option {
			row["strike"], row["right"] = 30, "call"
		}
		return row
	})
}

func (g *Gannet) members(_ *http.Request, symbols []string) (*answer, *refusal) {
	index := g.find(symbols[0])
	if index == nil || index.Kind != market.Index {
		return nil, &refusal{status: 404, code: "unknown_universe", message: "there is no universe " + symbols[0]}
	}
	members := g.Market.Members(index)
	rows := []any{}
	for _, l := range members {
		rows = append(rows, map[string]any{"symbol": vendorSymbol(l.Symbol), "weight": fmt.Sprintf("%.4f%%", 100/float64(len(members)))})
	}
	return &answer{json: map[string]any{"members": rows}, list: "members", units: 2}, nil
}
