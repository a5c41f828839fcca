package gannet

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/source"
)

// decoder turns the body of an answer into observations. What cannot be right
// is rejected with the text that came, and the rest is kept.
type decoder struct {
	needs   map[string]plan.Need // by the vendor's symbol
	request plan.Request
	now     time.Time
	answer  *source.Answer
}

type symbolError struct{ Symbol, Code, Message string }

// body holds the parts of any answer; each dataset fills its own.
type body struct {
	Listings     []listing
	DelayMinutes float64                      `json:"delay_minutes"`
	Quotes       []map[string]json.RawMessage `json:"quotes"`
	Profiles     []map[string]json.RawMessage `json:"profiles"`
	Series       []history
	Unknown      []string
	Errors       []symbolError
}

type listing struct {
	Symbol, ISIN, Name, Type, Currency string
	Ended                              period.Date
}

type history struct {
	Symbol    string
	MinorUnit bool `json:"minor_unit"`
	Bars      [][6]json.RawMessage
	Splits    []struct {
		Date  period.Date
		Ratio float64
	}
}

func (d *decoder) decode() error {
	var b body
	if err := json.Unmarshal(d.answer.Body, &b); err != nil {
		return fmt.Errorf("not the JSON that gannet sends: %w (it begins %q)", err, d.answer.Excerpt())
	}
	answered := map[market.Symbol]bool{}
	switch d.request.Dataset {
	case catalogue.Listings:
		if b.Listings == nil {
			return fmt.Errorf("the answer has no part %q", "listings")
		}
		return d.listings(b.Listings)
	case catalogue.Quotes, catalogue.Profiles:
		rows, list := b.Quotes, "quotes"
		if d.request.Dataset == catalogue.Profiles {
			rows, list = b.Profiles, "profiles"
		}
		if rows == nil {
			return fmt.Errorf("the answer has no part %q", list)
		}
		for i, row := range rows {
			d.point(row, fmt.Sprintf("$.%s[%d]", list, i), time.Duration(b.DelayMinutes)*time.Minute, answered)
		}
	case catalogue.Bars:
		if b.Series == nil {
			return fmt.Errorf("the answer has no part %q", "series")
		}
		for i := range b.Series {
			d.history(&b.Series[i], fmt.Sprintf("$.series[%d]", i), answered)
		}
	}
	d.explain(b.Unknown, b.Errors, answered)
	return nil
}

func (d *decoder) listings(rows []listing) error {
	for i, row := range rows {
		symbol, ok := readSymbol(row.Symbol)
		if !ok || row.Name == "" || !market.IsCurrency(row.Currency) {
			return fmt.Errorf("$.listings[%d] (%q) lacks a symbol, a name or a currency", i, row.Symbol)
		}
		if row.ISIN != "" {
			if _, err := market.ParseISIN(row.ISIN); err != nil {
				row.ISIN = "" // a wrong number is worse than none
			}
		}
		d.answer.Listings = append(d.answer.Listings, market.Listing{Symbol: symbol, ISIN: row.ISIN, Name: row.Name, Kind: market.Kind(row.Type), Currency: row.Currency, Ended: row.Ended})
	}
	return nil
}

// asked finds the need that a row answers: a symbol that was not asked for, or
// comes twice, answers none.
func (d *decoder) asked(symbol string, answered map[market.Symbol]bool) (plan.Need, bool) {
	n, ok := d.needs[symbol]
	if !ok || answered[n.Symbol] {
		return n, false
	}
	answered[n.Symbol] = true
	return n, true
}

// clockSkew is how far ahead of ours a vendor's clock may run.
const clockSkew = 5 * time.Minute

func (d *decoder) point(row map[string]json.RawMessage, place string, delay time.Duration, answered map[market.Symbol]bool) {
	n, ok := d.asked(plain(row["symbol"]), answered)
	if !ok {
		return
	}
	fail := func(format string, args ...any) {
		d.answer.Failures = append(d.answer.Failures, source.Failure{Symbol: n.Symbol, Reason: cell.Rejected, Detail: fmt.Sprintf(format, args...)})
	}
	p := source.Point{Symbol: n.Symbol}
	fields := catalogue.ObservedIn(d.request.Dataset)
	p.Place, p.Values = place, make([]cell.Value, len(fields))
	if d.request.Dataset == catalogue.Quotes {
		at, err := time.Parse(time.RFC3339, plain(row["time"]))
		if err != nil || at.After(d.now.Add(clockSkew)) {
			fail("the quote's time is %s", row["time"])
			return
		}
		if currency := plain(row["currency"]); currency != n.Currency {
			fail("the quote is in %q, the listing in %s", currency, n.Currency)
			return
		}
		p.Observed, p.Delay, p.Minor = at, delay, string(row["minor_unit"]) == "true"
	} else {
		p.Observed = d.now
	}
	for _, f := range fields {
		_, name, _ := strings.Cut(f.ID, ".")
		v, text := read(f, row[name], p.Minor)
		switch {
		case f.ID == "quote.time":
			v = cell.OfTime(p.Observed)
		case f.ID == "quote.delay":
			v = cell.Of(delay.Minutes())
		}
		p.Values[f.Slot()] = v
		if text != "" {
			if p.Rejected == nil {
				p.Rejected = map[int]string{}
			}
			p.Rejected[f.Slot()] = text
		}
	}
	if d.request.Dataset == catalogue.Quotes {
		p.Suspect = improbable(p.Values)
	}
	d.answer.Points = append(d.answer.Points, p)
}

// read turns one JSON value into that of a field. What has the wrong type, or
// is a price of zero or less, is rejected: the text that came is returned.
func read(f *catalogue.Field, raw json.RawMessage, minor bool) (v cell.Value, rejected string) {
	if len(raw) == 0 || string(raw) == "null" {
		return cell.Value{}, ""
	}
	switch f.Unit {
	case catalogue.Text, catalogue.Date:
		if text := plain(raw); text != "" {
			return cell.OfText(text), ""
		}
		return cell.Value{}, strings.Trim(string(raw), `"`)
	case catalogue.Time:
		return cell.Value{}, ""
	}
	var x float64
	if json.Unmarshal(raw, &x) != nil || math.IsInf(x, 0) || x < 0 || x == 0 && f.Unit == catalogue.Price {
		text := string(raw)
		return cell.Value{}, strings.Trim(text[:min(len(text), 80)], `"`)
	}
	if minor && (f.Unit == catalogue.Price || f.Unit == catalogue.Money) {
		x /= 100
	}
	return cell.Of(x), ""
}

// improbable marks a quote that moved tenfold from its previous close.
func improbable(values []cell.Value) bool {
	last, previous := values[catalogue.Find("quote.last").Slot()], values[catalogue.Find("quote.previous_close").Slot()]
	if last.Kind != cell.Number || previous.Kind != cell.Number {
		return false
	}
	jump := last.Num / previous.Num
	return jump >= 10 || jump <= 0.1
}

// plain reads a JSON string; anything else gives "".
func plain(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) != nil {
		return ""
	}
	return text
}

func (d *decoder) history(h *history, place string, answered map[market.Symbol]bool) {
	n, ok := d.asked(h.Symbol, answered)
	if !ok {
		return
	}
	s := source.Series{Symbol: n.Symbol, Minor: h.MinorUnit, Place: place}
	scale := 1.0
	if h.MinorUnit {
		scale = 100
	}
	tomorrow := period.DateOf(d.now.UTC()) + 1
	rejected := 0
	var sample string
	for _, row := range h.Bars {
		day, prices, ok := readBar(row, scale)
		if !ok || day > tomorrow || s.Bars.Len() > 0 && day <= s.Bars.Day[s.Bars.Len()-1] {
			if rejected++; rejected == 1 {
				raw, _ := json.Marshal(row) // raw JSON always marshals
				sample = string(raw)
			}
			continue
		}
		s.Bars.Append(day, prices[0], prices[1], prices[2], prices[3], prices[4])
	}
	if rejected > 0 {
		s.Remark = fmt.Sprintf("%d bars rejected, the first: %s", rejected, sample)
	}
	for _, split := range h.Splits {
		if split.Date > 0 && split.Ratio > 0 {
			s.Splits = append(s.Splits, series.Split{Day: split.Date, Ratio: split.Ratio})
		}
	}
	if s.Bars.Len() == 0 && rejected > 0 {
		d.answer.Failures = append(d.answer.Failures, source.Failure{Symbol: n.Symbol, Reason: cell.Rejected, Detail: s.Remark})
		return
	}
	d.answer.Series = append(d.answer.Series, s)
}

// readBar reads [day, open, high, low, close, volume] and checks that the prices
// are above zero and lie within the day's range.
func readBar(row [6]json.RawMessage, scale float64) (day period.Date, prices [5]float64, ok bool) {
	day, err := period.ParseDate(plain(row[0]))
	if err != nil {
		return 0, prices, false
	}
	for i := range prices {
		if json.Unmarshal(row[i+1], &prices[i]) != nil || string(row[i+1]) == "null" {
			return 0, prices, false
		}
		if i < 4 {
			prices[i] /= scale
		}
	}
	open, high, low, cl := prices[0], prices[1], prices[2], prices[3]
	return day, prices, low > 0 && low <= open && low <= cl && high >= open && high >= cl
}
