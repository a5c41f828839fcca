package dividend

import (
	"slices"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// cut is what a dividend takes off the prices before it: 1 − D/C₋₁, D being the
// amount and C₋₁ the last close before the ex-date, both in today's shares. A
// dividend with no close before it, or of at least that close, takes off nothing:
// it cannot be right.
func cut(b *series.Bars, p *Payment) float64 {
	before := b.OnOrBefore(p.Ex - 1)
	if before < 0 || p.Ex > b.Day[b.Len()-1] || p.Adjusted <= 0 || p.Adjusted >= b.Close[before] {
		return 1
	}
	return 1 - p.Adjusted/b.Close[before]
}

// Factor is what a price of a day is multiplied by to be comparable with the last
// one, dividends reinvested: the product of 1 − D/C₋₁ over the ex-dates after that
// day. It is the customary adjusted close over the close. The bars are adjusted
// for splits.
func (h History) Factor(b *series.Bars, day period.Date) float64 {
	factor := 1.0
	for i := len(h) - 1; i >= 0 && h[i].Ex > day; i-- {
		factor *= cut(b, &h[i])
	}
	return factor
}

// Return is the total return since the last session on or before a day: the ratio
// of the adjusted closes, less one. whole is false where the bars do not reach
// that far.
func (h History) Return(b *series.Bars, start period.Date) (x float64, whole bool) {
	i := b.OnOrBefore(start)
	if i < 0 {
		return 0, false
	}
	return b.Close[b.Len()-1]/(b.Close[i]*h.Factor(b, b.Day[i])) - 1, true
}

// Reinvest returns the bars with dividends reinvested: every price multiplied by
// the [History.Factor] of its day; volumes stay.
func (h History) Reinvest(b *series.Bars) *series.Bars {
	out := *b
	out.Open, out.High, out.Low, out.Close = slices.Clone(b.Open), slices.Clone(b.High), slices.Clone(b.Low), slices.Clone(b.Close)
	factor, next := 1.0, len(h)-1
	for i := b.Len() - 1; i >= 0; i-- {
		for ; next >= 0 && h[next].Ex > b.Day[i]; next-- {
			factor *= cut(b, &h[next])
		}
		out.Open[i] *= factor
		out.High[i] *= factor
		out.Low[i] *= factor
		out.Close[i] *= factor
	}
	return &out
}
