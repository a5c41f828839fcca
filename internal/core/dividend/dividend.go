// Package dividend computes on the cash dividends of one listing: totals, rhythm
// and growth, and what may be expected next. Amounts are in the major unit; days
// are ex-dates unless said otherwise.
package dividend

import (
	"math"
	"slices"

	"soba.invalid/soba/internal/core/period"
)

// Kinds of dividend. An empty kind is regular.
const (
	Regular = "regular"
	Special = "special"           // paid once, besides the usual ones
	Capital = "return_of_capital" // paid back out of what shareholders put in
)

// Payment is one cash dividend.
type Payment struct {
	Ex, Record, Pay, Declared period.Date // 0 where not known
	Amount                    float64     // for one share of its day, as paid
	Adjusted                  float64     // the same in today's shares
	Currency                  string      // "" is that of the listing
	Kind                      string
	Expected                  bool // it has not been announced
}

// IsRegular tells whether the payment is one of the usual ones.
func (p *Payment) IsRegular() bool { return p.Kind == Regular || p.Kind == "" }

// History is the dividends of a listing, the oldest first.
type History []Payment

// Foreign is a currency of the dividends other than that of the listing, or "".
func (h History) Foreign(currency string) string {
	for i := range h {
		if c := h[i].Currency; c != "" && c != currency {
			return c
		}
	}
	return ""
}

// By returns those that have gone ex by a day.
func (h History) By(day period.Date) History {
	i := 0
	for i < len(h) && h[i].Ex <= day {
		i++
	}
	return h[:i]
}

// Regular returns the usual ones.
func (h History) Regular() History {
	return slices.DeleteFunc(slices.Clone(h), func(p Payment) bool { return !p.IsRegular() })
}

// LastBy returns the last one that has gone ex by a day, or nil.
func (h History) LastBy(day period.Date) *Payment {
	if past := h.By(day); len(past) > 0 {
		return &past[len(past)-1]
	}
	return nil
}

// Total is what one of today's shares was paid over a time, by kind.
type Total struct {
	Regular, Special, Capital float64
	Payments                  int
}

func (t *Total) add(p *Payment) {
	t.Payments++
	switch p.Kind {
	case Special:
		t.Special += p.Adjusted
	case Capital:
		t.Capital += p.Adjusted
	default:
		t.Regular += p.Adjusted
	}
}

// trailing is the length of the trailing year in days.
const trailing = 365

// Trailing totals those with an ex-date in the 365 days up to and including a day.
func (h History) Trailing(day period.Date) (t Total) {
	for i := range h {
		if h[i].Ex > day-trailing && h[i].Ex <= day {
			t.add(&h[i])
		}
	}
	return t
}

// Year totals those with an ex-date in a calendar year.
func (h History) Year(year int) (t Total) {
	for i := range h {
		if h[i].Ex.Time().Year() == year {
			t.add(&h[i])
		}
	}
	return t
}

// First is the calendar year of the first one; 0 without any.
func (h History) First() int {
	if len(h) == 0 {
		return 0
	}
	return h[0].Ex.Time().Year()
}

// Rhythms that payments can keep to, as payments a year. Irregular keeps to none.
const Irregular = 0

var rhythms = []int{1, 2, 4, 12}

const (
	rhythmDays = 2 * trailing // how far back the rhythm is read
	uneven     = 1.8          // a gap this many times the mean breaks a rhythm; interim and final dividends are often 4 and 8 months apart
	near       = 0.2          // how far the mean gap may be from a rhythm's, as a fraction
)

// Rhythm is how often a year regular dividends are paid, read from the last two
// years: 1, 2, 4 or 12; 0 where they keep to no rhythm. It is not known for fewer
// than two.
func (h History) Rhythm(day period.Date) (perYear int, known bool) {
	var days []period.Date
	for _, p := range h.By(day).Regular() {
		if p.Ex > day-rhythmDays-30 { // so that a yearly one a little early is still seen twice
			days = append(days, p.Ex)
		}
	}
	if len(days) < 2 {
		return 0, false
	}
	mean := float64(days[len(days)-1]-days[0]) / float64(len(days)-1)
	for i := 1; i < len(days); i++ {
		if float64(days[i]-days[i-1]) > uneven*mean {
			return Irregular, true
		}
	}
	for _, n := range rhythms {
		if want := 365.25 / float64(n); math.Abs(mean-want) <= near*want {
			return n, true
		}
	}
	return Irregular, true
}

// Lapsed tells whether two payments in a row that the rhythm asked for have not
// come by a day.
func (h History) Lapsed(day period.Date, perYear int) bool {
	last := h.Regular().LastBy(day)
	return last == nil || perYear > 0 && float64(day-last.Ex) > 2*365.25/float64(perYear)
}

// Forward is the last regular dividend times the payments a year: what the coming
// year pays if nothing changes. It is not known without a rhythm, and 0 where the
// payments have lapsed: two in a row have not come, or none in two years.
func (h History) Forward(day period.Date) (amount float64, known bool) {
	n, known := h.Rhythm(day)
	last := h.Regular().LastBy(day)
	switch {
	case last != nil && (day-last.Ex > rhythmDays || n > 0 && h.Lapsed(day, n)):
		return 0, true
	case !known || n == Irregular:
		return 0, false
	}
	return last.Adjusted * float64(n), true
}

// Coming are the dividends with an ex-date or a payment after a day, within a
// year: those announced, and for the rest of the rhythm those expected. One is
// expected on the anniversary of each regular one of the trailing year, with the
// amount of the last, unless one is announced within half a gap of it.
func (h History) Coming(day period.Date) History {
	var out History
	for _, p := range h {
		if max(p.Ex, p.Pay) > day && p.Ex <= day+trailing {
			out = append(out, p)
		}
	}
	n, known := h.Rhythm(day)
	if !known || n == Irregular || h.Lapsed(day, n) {
		return out
	}
	regular := h.Regular()
	last := regular.LastBy(day)
	half := period.Date(trailing / n / 2)
	for _, p := range regular {
		if p.Ex <= day-trailing || p.Ex > day {
			continue
		}
		e := Payment{Ex: p.Ex.AddYears(1), Amount: last.Adjusted, Adjusted: last.Adjusted, Currency: last.Currency, Kind: Regular, Expected: true}
		if p.Pay != 0 {
			e.Pay = p.Pay.AddYears(1)
		}
		announced := slices.ContainsFunc(regular, func(x Payment) bool { return x.Ex > day && x.Ex > e.Ex-half && x.Ex < e.Ex+half })
		if e.Ex > day && !announced {
			out = append(out, e)
		}
	}
	slices.SortStableFunc(out, func(a, b Payment) int { return int(a.Ex) - int(b.Ex) })
	return out
}

// Overdue is the ex-date that the rhythm asked for and that passed more than some
// days before a day without a dividend; 0 where none is overdue.
func (h History) Overdue(day, grace period.Date) period.Date {
	n, known := h.Rhythm(day)
	if !known || n == Irregular {
		return 0
	}
	regular := h.Regular()
	last := regular.LastBy(day)
	var due period.Date
	for _, p := range regular {
		if next := p.Ex.AddYears(1); next > last.Ex+period.Date(trailing/n/2) && next <= day-grace && due == 0 {
			due = next
		}
	}
	return due
}

// Growth is the compound growth of the yearly totals of regular dividends over
// some years, up to the last full calendar year before a day. whole is false where
// the history does not reach back that far; the result is NaN where the first of
// the two totals is nothing.
func (h History) Growth(day period.Date, years int) (growth float64, whole bool) {
	end := day.Time().Year() - 1
	if first := h.First(); first == 0 || first > end-years {
		return 0, false
	}
	from, to := h.Year(end-years).Regular, h.Year(end).Regular
	if from <= 0 {
		return math.NaN(), true
	}
	return math.Pow(to/from, 1/float64(years)) - 1, true
}

// same is how far apart two yearly totals may be and count as equal: adjusting for
// splits leaves a trace.
const same = 1e-9

// Streak is the number of full calendar years in a row, up to the last one before
// a day, in which regular dividends rose.
func (h History) Streak(day period.Date) (years int) {
	first := h.First()
	for y := day.Time().Year() - 1; first != 0 && y > first; y-- {
		if h.Year(y).Regular <= h.Year(y-1).Regular*(1+same) {
			break
		}
		years++
	}
	return years
}

// Cut is the last full calendar year before a day in which regular dividends fell;
// 0 where they never did.
func (h History) Cut(day period.Date) int {
	first := h.First()
	for y := day.Time().Year() - 1; first != 0 && y > first; y-- {
		if h.Year(y).Regular < h.Year(y-1).Regular*(1-same) {
			return y
		}
	}
	return 0
}
