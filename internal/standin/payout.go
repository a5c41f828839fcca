package standin

import (
	"math"
	"sort"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// payer is how a listing pays dividends.
type payer struct {
	yield   float64 // of a year's regular dividends, at the price it was written with; 0: none
	times   int     // a year
	growth  float64 // a year
	cut     int     // year from which it pays half
	stopped int     // year from which it pays nothing
	special int     // year in which it pays as much again
}

// Dividend is one dividend, in the shares of its ex-date.
type Dividend struct {
	Ex, Record, Pay, Declared period.Date
	Amount                    float64
	Kind                      string
}

// paid are the dividends that go ex within a year.
func (m *Market) paid(l *Listing, year int) (out []Dividend) {
	p := l.Payer
	if p.yield == 0 || p.times == 0 || p.stopped != 0 && year >= p.stopped {
		return nil
	}
	whole := p.yield * l.start * math.Pow(1+p.growth, float64(year-writtenYear))
	if p.cut != 0 && year >= p.cut {
		whole /= 2
	}
	e := m.Exchanges.Of(&l.Listing)
	session := func(d period.Date) period.Date {
		for !e.Trades(d) {
			d++
		}
		return d
	}
	add := func(month time.Month, day int, amount float64, kind string) {
		ex := session(period.MakeDate(year, month, day))
		amount = math.Round(amount/splitFactor(l.Splits, ex)*1e4) / 1e4
		if ex < l.Since || ex > l.lastDay() || amount <= 0 {
			return
		}
		out = append(out, Dividend{Ex: ex, Record: session(ex + 1), Pay: session(ex + 14), Declared: ex - 35, Amount: amount, Kind: kind})
	}
	shift := int(l.own % 3)
	for i := range p.times {
		add(time.Month(1+(i*12/p.times+shift+2)%12), 4+int(l.own>>8%20), whole/float64(p.times), "regular")
	}
	if p.special == year {
		add(time.November, 18, whole, "special")
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Ex < out[j].Ex })
	return out
}

// Dividends are all dividends declared by a day, the oldest first.
func (m *Market) Dividends(l *Listing, by period.Date) (out []Dividend) {
	for year := max(epoch, l.Since.Time().Year()); year <= by.Time().Year()+1; year++ {
		for _, d := range m.paid(l, year) {
			if d.Declared <= by {
				out = append(out, d)
			}
		}
	}
	return out
}

// Announcement is a corporate event with its day.
type Announcement struct {
	Date  period.Date
	Kind  string
	Title string
}

// Announcements are the events of about a year around a day.
func (m *Market) Announcements(l *Listing, today period.Date) (out []Announcement) {
	if l.Kind != market.Share {
		return nil
	}
	from, to := today.AddDays(-400), today.AddDays(120)
	for year := from.Time().Year(); year <= to.Time().Year(); year++ {
		for i, month := range []time.Month{time.February, time.May, time.August, time.November} {
			title := []string{"Annual results", "First-quarter results", "Half-year results", "Third-quarter results"}[i]
			out = append(out, Announcement{period.MakeDate(year, month, 10+int(l.own%15)), "results", title})
		}
		out = append(out, Announcement{period.MakeDate(year, time.April, 12+int(l.own%14)), "meeting", "Annual general meeting"})
	}
	for _, d := range m.Dividends(l, today) {
		out = append(out, Announcement{d.Ex, "dividend", d.Kind + " dividend goes ex"})
	}
	kept := out[:0]
	for _, a := range out {
		if a.Date >= from && a.Date <= to && a.Date >= l.Since && (l.Ended == 0 || a.Date <= l.Ended) {
			kept = append(kept, a)
		}
	}
	sort.SliceStable(kept, func(i, j int) bool { return kept[i].Date < kept[j].Date })
	return kept
}

// Members are the listings of an index: the first shares of its exchange.
func (m *Market) Members(index *Listing) (out []*Listing) {
	for _, l := range m.Listings {
		if l.Kind == market.Share && l.Symbol.Exchange == index.Symbol.Exchange && l.Ended == 0 && len(out) < indexSize {
			out = append(out, l)
		}
	}
	return out
}

const indexSize = 50
