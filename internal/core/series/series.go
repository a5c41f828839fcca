// Package series computes on daily bars: windows, adjusting for splits, and the
// measures taken from prices through time.
package series

import (
	"math"
	"sort"

	"gonum.org/v1/gonum/stat"

	"soba.invalid/soba/internal/core/period"
)

// Bars are the daily bars of one listing, oldest first, as parallel columns.
// Prices are in the major unit of the listing's currency.
type Bars struct {
	Day                    []period.Date
	Open, High, Low, Close []float64
	Volume                 []float64
}

// Len is the number of bars.
func (b *Bars) Len() int { return len(b.Day) }

// Append adds one bar at the end; its day must be later than the last.
func (b *Bars) Append(day period.Date, open, high, low, cl, volume float64) {
	b.Day = append(b.Day, day)
	b.Open = append(b.Open, open)
	b.High = append(b.High, high)
	b.Low = append(b.Low, low)
	b.Close = append(b.Close, cl)
	b.Volume = append(b.Volume, volume)
}

// Slice returns the bars from index i up to j; it shares memory with b.
func (b *Bars) Slice(i, j int) Bars {
	return Bars{b.Day[i:j], b.Open[i:j], b.High[i:j], b.Low[i:j], b.Close[i:j], b.Volume[i:j]}
}

// After returns the bars of days later than the given one.
func (b *Bars) After(day period.Date) Bars {
	return b.Slice(sort.Search(len(b.Day), func(i int) bool { return b.Day[i] > day }), len(b.Day))
}

// OnOrBefore returns the index of the last bar on or before a day, or -1.
func (b *Bars) OnOrBefore(day period.Date) int {
	return sort.Search(len(b.Day), func(i int) bool { return b.Day[i] > day }) - 1
}

// Reaches tells whether the history holds a bar on or before a day.
func (b *Bars) Reaches(day period.Date) bool { return len(b.Day) > 0 && b.Day[0] <= day }

// A Split multiplies the number of shares by Ratio from Day on: 3 for three new
// shares for one old, 0.1 for one new for ten old.
type Split struct {
	Day   period.Date `json:"day"`
	Ratio float64     `json:"ratio"`
}

// SplitFactor is by how much shares have multiplied after a day: what a price of
// that day is divided by to be in today's shares.
func SplitFactor(splits []Split, day period.Date) float64 {
	factor := 1.0
	for _, s := range splits {
		if day < s.Day {
			factor *= s.Ratio
		}
	}
	return factor
}

// AdjustSplits returns the bars restated in today's shares: prices before each
// split divided by its ratio, volumes multiplied by it. Without splits it
// returns b itself.
func (b *Bars) AdjustSplits(splits []Split) *Bars {
	if len(splits) == 0 {
		return b
	}
	n := len(b.Day)
	out := &Bars{Day: b.Day, Open: make([]float64, n), High: make([]float64, n), Low: make([]float64, n), Close: make([]float64, n), Volume: make([]float64, n)}
	for i, day := range b.Day {
		factor := SplitFactor(splits, day)
		out.Open[i], out.High[i], out.Low[i], out.Close[i] = b.Open[i]/factor, b.High[i]/factor, b.Low[i]/factor, b.Close[i]/factor
		out.Volume[i] = b.Volume[i] * factor
	}
	return out
}

// AsTraded undoes [Bars.AdjustSplits]. Prices are rounded to ten digits, which is
// what dividing and multiplying leaves of them.
func (b *Bars) AsTraded(splits []Split) *Bars {
	inverse := make([]Split, len(splits))
	for i, s := range splits {
		inverse[i] = Split{s.Day, 1 / s.Ratio}
	}
	out := b.AdjustSplits(inverse)
	if out == b {
		return b
	}
	for _, column := range [][]float64{out.Open, out.High, out.Low, out.Close, out.Volume} {
		for i, x := range column {
			column[i] = rounded(x)
		}
	}
	return out
}

func rounded(x float64) float64 {
	if x == 0 {
		return 0
	}
	scale := math.Pow(10, 9-math.Floor(math.Log10(math.Abs(x))))
	return math.Round(x*scale) / scale
}

// Highest is the highest high; NaN without bars.
func (b *Bars) Highest() float64 {
	most := math.NaN()
	for _, x := range b.High {
		if !(x <= most) {
			most = x
		}
	}
	return most
}

// Lowest is the lowest low; NaN without bars.
func (b *Bars) Lowest() float64 {
	least := math.NaN()
	for _, x := range b.Low {
		if !(x >= least) {
			least = x
		}
	}
	return least
}

// AverageVolume is the mean volume a session; NaN without bars.
func (b *Bars) AverageVolume() float64 { return stat.Mean(b.Volume, nil) }

// sessionsPerYear annualises daily figures: the customary count of sessions.
const sessionsPerYear = 252

// Volatility is the standard deviation (n−1) of daily log returns of the close,
// times √252: the usual annualised historical volatility (Hull, Options, Futures
// and Other Derivatives, chapter on estimating volatility). NaN for fewer than two returns.
func (b *Bars) Volatility() float64 {
	var mean, squares float64
	n := 0
	for i := 1; i < len(b.Close); i++ {
		r := math.Log(b.Close[i] / b.Close[i-1])
		n++
		delta := r - mean
		mean += delta / float64(n)
		squares += delta * (r - mean)
	}
	if n < 2 {
		return math.NaN()
	}
	return math.Sqrt(squares/float64(n-1)) * math.Sqrt(sessionsPerYear)
}

// Drawdown is the worst fall from a running high of the close, as a negative
// fraction, or 0 when it never fell; NaN without bars.
func (b *Bars) Drawdown() float64 {
	if len(b.Close) == 0 {
		return math.NaN()
	}
	high, worst := b.Close[0], 0.0
	for _, x := range b.Close {
		high = math.Max(high, x)
		worst = math.Min(worst, x/high-1)
	}
	return worst
}

// Return is the last close over the close of the last session on or before
// start, minus one; NaN when the history does not reach that far.
func (b *Bars) Return(start period.Date) float64 {
	i := b.OnOrBefore(start)
	if i < 0 {
		return math.NaN()
	}
	return b.Close[len(b.Close)-1]/b.Close[i] - 1
}
