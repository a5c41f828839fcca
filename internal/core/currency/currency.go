// Package currency converts amounts by the reference rates that central banks fix.
package currency

import (
	"fmt"
	"slices"
	"sort"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/period"
)

// Fixing is a rate of one day: units of the quote currency for one of the base.
type Fixing struct {
	Day  period.Date
	Rate float64
}

// Pair is what is known of the rates of one pair.
type Pair struct {
	Base, Quote string
	Fixings     []Fixing  // the oldest first
	Account     cell.Cell // state, clocks and source; the reason where there are none
}

// on returns the fixing of a day, or the last one before: rates are fixed on
// business days alone. One that lies [period.LongestBreak] before says nothing of the day.
func (p *Pair) on(day period.Date) (Fixing, bool) {
	i := sort.Search(len(p.Fixings), func(i int) bool { return p.Fixings[i].Day > day }) - 1
	if i < 0 || p.Fixings[i].Day < day-period.LongestBreak {
		return Fixing{}, false
	}
	return p.Fixings[i], true
}

// Rates are the pairs that are known.
type Rates struct {
	pairs  map[[2]string]*Pair
	pivots []string // currencies over which others can be crossed, in order
}

// New gathers pairs.
func New(pairs []*Pair) *Rates {
	r := &Rates{pairs: map[[2]string]*Pair{}}
	for _, p := range pairs {
		r.pairs[[2]string{p.Base, p.Quote}] = p
		for _, c := range []string{p.Base, p.Quote} {
			if !slices.Contains(r.pivots, c) {
				r.pivots = append(r.pivots, c)
			}
		}
	}
	slices.Sort(r.pivots)
	return r
}

// Rate is what one unit of a currency is worth in another, with its account.
type Rate struct {
	Value   float64
	Day     period.Date // of the older fixing
	Account cell.Cell   // of the fixings; its detail names them
}

// On returns the rate of a day. It is that of the pair, or its inverse, or crossed
// over a third currency that both have a rate with. Where there is none, the
// account of the result says why and its value is 0.
func (r *Rates) On(from, to string, day period.Date) Rate {
	if from == to {
		return Rate{Value: 1, Day: day}
	}
	if rate, ok := r.leg(from, to, day); ok {
		return rate
	}
	for _, pivot := range r.pivots {
		a, ok := r.leg(from, pivot, day)
		if !ok {
			continue
		}
		b, ok := r.leg(pivot, to, day)
		if !ok {
			continue
		}
		out := Rate{Value: a.Value * b.Value, Day: min(a.Day, b.Day), Account: a.Account}
		out.Account.Absorb(&b.Account)
		out.Account.Detail = a.Account.Detail + ", " + b.Account.Detail
		return out
	}
	return Rate{Account: cell.Gap(cell.InputMissing, r.why(from, to, day))}
}

// leg is the rate of a pair or its inverse.
func (r *Rates) leg(from, to string, day period.Date) (Rate, bool) {
	p, inverse := r.pairs[[2]string{from, to}], false
	if p == nil {
		p, inverse = r.pairs[[2]string{to, from}], true
	}
	if p == nil {
		return Rate{}, false
	}
	f, ok := p.on(day)
	if !ok || f.Rate <= 0 {
		return Rate{}, false
	}
	out := Rate{Value: f.Rate, Day: f.Day, Account: p.Account}
	if inverse {
		out.Value = 1 / f.Rate
	}
	out.Account.Detail = fmt.Sprintf("%s/%s %v of %s", p.Base, p.Quote, f.Rate, f.Day)
	return out, true
}

// why says what is missing for a rate.
func (r *Rates) why(from, to string, day period.Date) string {
	need := fmt.Sprintf("an exchange rate from %s to %s", from, to)
	for _, c := range []string{from, to} {
		if !slices.Contains(r.pivots, c) {
			return need + ": no source fixes " + c
		}
	}
	for _, p := range r.between(from, to) {
		switch {
		case len(p.Fixings) == 0:
			return need + fmt.Sprintf(": %s/%s is %s", p.Base, p.Quote, p.Account.Reason)
		case p.Fixings[0].Day > day:
			return need + fmt.Sprintf(": %s/%s is known from %s on", p.Base, p.Quote, p.Fixings[0].Day)
		}
	}
	return need + " on " + day.String()
}

// between are the pairs that lie on the way from one currency to another: the one
// of both, or else those of either.
func (r *Rates) between(from, to string) (out []*Pair) {
	for _, key := range [][2]string{{from, to}, {to, from}} {
		if p := r.pairs[key]; p != nil {
			return []*Pair{p}
		}
	}
	for _, pivot := range r.pivots {
		for _, key := range [][2]string{{from, pivot}, {pivot, from}, {to, pivot}, {pivot, to}} {
			if p := r.pairs[key]; p != nil {
				out = append(out, p)
			}
		}
	}
	return out
}
