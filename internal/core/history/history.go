// Package history answers what a listing cost through time: bars of any length,
// as traded or adjusted, with what is missing from them and why.
package history

import (
	"fmt"
	"slices"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

// Adjustment says what prices of the past are restated for.
type Adjustment string

// The adjustments.
const (
	Raw    Adjustment = "none"   // as traded that day
	Splits Adjustment = "splits" // in today's shares
	Full   Adjustment = "full"   // in today's shares, dividends reinvested
)

// Adjustments lists the adjustments.
var Adjustments = []Adjustment{Raw, Splits, Full}

// Query asks for the bars of the days from one to another, both included.
type Query struct {
	From, To period.Date
	Every    series.Interval
	Adjust   Adjustment
	On       bool          // only the last bar on or before To
	Within   time.Duration // bars of this width within the days instead; 0: none
}

// Hole is a session of which there is no bar.
type Hole struct {
	Day     period.Date
	Untaken bool // the source has been asked for the day: nothing was traded
}

// Prices are the bars of one listing.
type Prices struct {
	Record      *table.Record
	Account     cell.Cell // state, clocks and source of the bars; without a value
	Bars        series.Bars
	Times       []time.Time // at which bars within the day begin; nil for longer ones
	Partial     []bool      // bars that do not sum up all sessions of their stretch
	Provisional bool        // the last bar holds today's quote
	Holes       []Hole
	Splits      []series.Split   // within the days asked for
	Payments    dividend.History // within the days asked for
	Remarks     []string         // what the reader should know
}

func (p *Prices) remark(text string, args ...any) {
	p.Remarks = append(p.Remarks, fmt.Sprintf(text, args...))
}

// Of answers a query for one listing. A stretch at either end is summed up whole
// where the history is there: a week asked for from Wednesday has its Monday.
func Of(r *table.Record, q Query, now time.Time, limits freshness.Limits) *Prices {
	p := &Prices{Record: r}
	if q.Within > 0 {
		return p.within(q, now, limits)
	}
	account, given := r.Account(catalogue.Bars, now, limits)
	p.Account = account
	today := r.Exchange.Today(now)
	if !p.clip(&q, today) || given == nil {
		return p
	}
	bars := *given.Bars
	if bar, ok := todays(r, &bars, q.To, now, limits); ok {
		bars = with(&bars, bar)
		p.Provisional = true
	}
	h, wrong := payments(r, now, limits)
	switch q.Adjust {
	case Raw:
		bars = *bars.AsTraded(given.Splits)
	case Full:
		if wrong.Reason != cell.NoReason {
			p.Account.State, p.Account.Reason, p.Account.Detail = cell.Missing, cell.InputMissing, "dividends: "+wrong.Reason.String()+" "+wrong.Detail
			return p
		}
		p.Account.Absorb(&wrong)
		bars = *h.Reinvest(&bars)
	}
	if q.On {
		return p.on(q, &bars, r)
	}
	first, _ := q.Every.Around(q.From)
	if begin := bars.Day[0]; first < begin {
		if q.From < begin {
			p.remark("the history begins on %s%s", begin, deeper(given, q.From, begin))
		}
		first = begin
	}
	last := min(q.To, max(bars.Day[bars.Len()-1], answered(given, r, now)))
	p.Bars, p.Partial = bars.Every(q.Every, first, last, r.Exchange.Trades)
	if n := p.Bars.Len(); p.Provisional && n > 0 && p.Bars.Day[n-1] == today {
		p.Partial[n-1] = true
	} else {
		p.Provisional = false
	}
	p.holes(given, &bars, q.Every, first, min(q.To, r.Exchange.LastClosed(now, limits.BarGrace).Date))
	for _, s := range given.Splits {
		if s.Day >= q.From && s.Day <= q.To {
			p.Splits = append(p.Splits, s)
		}
	}
	for _, d := range h {
		if d.Ex >= q.From && d.Ex <= q.To {
			p.Payments = append(p.Payments, d)
		}
	}
	if p.Bars.Len() == 0 && len(p.Remarks) == 0 {
		p.remark("%s", silence(r, q))
	}
	return p
}

// clip ends a range today, and with the listing; false where nothing of it is left.
func (p *Prices) clip(q *Query, today period.Date) bool {
	if q.To > today {
		if q.From > today {
			p.remark("%s lies ahead", q.From)
			return false
		}
		p.remark("%s lies ahead: up to today", q.To)
		q.To = today
	}
	if end := p.Record.Listing.Ended; end != 0 && q.To > end {
		p.remark("ended on %s", end)
		q.To = end
	}
	return true
}

// on keeps the last bar on or before a day.
func (p *Prices) on(q Query, bars *series.Bars, r *table.Record) *Prices {
	i := bars.OnOrBefore(q.To)
	if i < 0 {
		p.remark("the history begins on %s", bars.Day[0])
		return p
	}
	p.Bars, p.Partial = bars.Slice(i, i+1), []bool{p.Provisional && i == bars.Len()-1}
	p.Provisional = p.Partial[0]
	if day := bars.Day[i]; day != q.To {
		why := "nothing is known of that day"
		if !r.Exchange.Trades(q.To) {
			why = silence(r, Query{From: q.To, To: q.To})
		}
		p.remark("%s: the session of %s", why, day)
	}
	return p
}

// silence says why there is no bar in a range without any.
func silence(r *table.Record, q Query) string {
	if len(r.Exchange.Sessions(q.From, q.To)) > 0 {
		return fmt.Sprintf("no bar is known from %s to %s", q.From, q.To)
	}
	for d := q.From; d <= q.To; d++ {
		if name := r.Exchange.Holidays[d]; name != "" {
			return fmt.Sprintf("the exchange was closed for %s", name)
		}
	}
	return "the exchange was closed"
}

// holes lists the sessions without a bar. A longer bar that lacks one which may have
// traded is not whole.
func (p *Prices) holes(g *table.Given, bars *series.Bars, every series.Interval, from, to period.Date) {
	for _, day := range bars.Holes(from, to, p.Record.Exchange.Trades) {
		asked := g.Attempt != nil && len(g.Attempt.Covered.Lacking(period.Span{From: day, To: day})) == 0
		p.Holes = append(p.Holes, Hole{Day: day, Untaken: asked})
		begin, end := every.Around(day)
		if i := p.Bars.OnOrBefore(end); !asked && i >= 0 && p.Bars.Day[i] >= begin {
			p.Partial[i] = true
		}
	}
}

// deeper offers to ask for what lies before a history, unless the source has been
// asked for it.
func deeper(g *table.Given, from, begin period.Date) string {
	if g.Attempt != nil && len(g.Attempt.Covered.Lacking(period.Span{From: from, To: begin - 1})) == 0 {
		return ""
	}
	return "; what lies before has not been asked for"
}

// answered is the last day for which the source has been asked with success.
func answered(g *table.Given, r *table.Record, now time.Time) period.Date {
	if g.Attempt == nil || len(g.Attempt.Covered) == 0 {
		return 0
	}
	return min(g.Attempt.Covered.Hull().To, r.Exchange.LastClosed(now, 0).Date)
}

var quoteSlots = func() (at [5]int) {
	for i, name := range []string{"open", "high", "low", "last", "volume"} {
		at[i] = catalogue.Find("quote." + name).Slot()
	}
	return at
}()

// todays makes a bar of the quote of a session that has none yet.
func todays(r *table.Record, bars *series.Bars, to period.Date, now time.Time, limits freshness.Limits) (bar [6]float64, ok bool) {
	g, _ := r.Pick(catalogue.Quotes, now, limits)
	if g == nil {
		return bar, false
	}
	day := period.DateOf(g.Observation.Observed.In(r.Exchange.Zone))
	if day > to || day <= bars.Day[bars.Len()-1] || !r.Exchange.Trades(day) {
		return bar, false
	}
	bar[0] = float64(day)
	for i, slot := range quoteSlots {
		v := g.Observation.Values[slot]
		if v.Kind != cell.Number && i < 4 {
			return bar, false
		}
		bar[i+1] = v.Num
	}
	return bar, true
}

// with is bars and one more.
func with(b *series.Bars, bar [6]float64) series.Bars {
	out := series.Bars{Day: slices.Clone(b.Day), Open: slices.Clone(b.Open), High: slices.Clone(b.High), Low: slices.Clone(b.Low), Close: slices.Clone(b.Close), Volume: slices.Clone(b.Volume)}
	out.Append(period.Date(bar[0]), bar[1], bar[2], bar[3], bar[4], bar[5])
	return out
}

// payments are the dividends to adjust by, with their account; or the reason why
// there are none.
func payments(r *table.Record, now time.Time, limits freshness.Limits) (dividend.History, cell.Cell) {
	if !catalogue.Info(catalogue.Dividends).Has(r.Listing.Kind) {
		return nil, cell.Cell{}
	}
	account, given := r.Account(catalogue.Dividends, now, limits)
	if given == nil {
		return nil, account
	}
	if c := given.Payments.Foreign(r.Listing.Currency); c != "" {
		return given.Payments, cell.Gap(cell.InputMissing, fmt.Sprintf("an exchange rate from %s to %s", c, r.Listing.Currency))
	}
	if account.State != cell.Missing {
		account.Reason = cell.NoReason
	}
	return given.Payments, account
}
