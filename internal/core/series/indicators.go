package series

import (
	"math"

	"gonum.org/v1/gonum/stat"

	"soba.invalid/soba/internal/core/period"
)

// Mean is the simple moving average of the last n closes; NaN for fewer.
func (b *Bars) Mean(n int) float64 {
	if len(b.Close) < n {
		return math.NaN()
	}
	sum := 0.0
	for _, x := range b.Close[len(b.Close)-n:] {
		sum += x
	}
	return sum / float64(n)
}

// ExponentialMean is the exponential moving average of the close with the weight
// 2/(n+1), begun with the simple average of the first n; NaN for fewer.
func (b *Bars) ExponentialMean(n int) float64 {
	if len(b.Close) < n {
		return math.NaN()
	}
	first := b.Slice(0, n)
	x := first.Mean(n)
	for _, c := range b.Close[n:] {
		x += (c - x) * 2 / float64(n+1)
	}
	return x
}

// RelativeStrength is the relative strength index of the last close, from 0 to
// 100, with the smoothing of its author (Wilder, New Concepts in Technical Trading
// Systems, 1978): the first averages are plain means of n changes, each later one
// is ((n−1)·average + change)/n. It is 100 where nothing fell, 50 where nothing
// moved; NaN for fewer than n changes.
func (b *Bars) RelativeStrength(n int) float64 {
	if len(b.Close) < n+1 {
		return math.NaN()
	}
	var gain, loss float64
	for i := 1; i < len(b.Close); i++ {
		change := b.Close[i] - b.Close[i-1]
		up, down := math.Max(change, 0), math.Max(-change, 0)
		if i <= n {
			gain, loss = gain+up/float64(n), loss+down/float64(n)
			continue
		}
		gain, loss = wilder(gain, up, n), wilder(loss, down, n)
	}
	switch {
	case gain == 0 && loss == 0:
		return 50
	case loss == 0:
		return 100
	}
	return 100 - 100/(1+gain/loss)
}

func wilder(average, x float64, n int) float64 {
	return (average*float64(n-1) + x) / float64(n)
}

// TrueRange is the average true range (Wilder 1978) of n sessions: the largest of
// high − low, |high − previous close| and |low − previous close|, smoothed as in
// [Bars.RelativeStrength]. NaN for fewer than n+1 bars, as the first has no
// previous close.
func (b *Bars) TrueRange(n int) float64 {
	if len(b.Close) < n+1 {
		return math.NaN()
	}
	average := 0.0
	for i := 1; i < len(b.Close); i++ {
		before := b.Close[i-1]
		x := math.Max(b.High[i]-b.Low[i], math.Max(math.Abs(b.High[i]-before), math.Abs(b.Low[i]-before)))
		if i <= n {
			average += x / float64(n)
			continue
		}
		average = wilder(average, x, n)
	}
	return average
}

// Beta is the slope of the weekly returns of the close on those of an index: their
// covariance over the variance of the index's (W. F. Sharpe, 1963). It reads the
// given number of weeks before the one that holds a day; a week in which either has
// no bar, or none the week before, is left out. NaN where half of the weeks are, or
// where the index does not move. There may be five years of weeks.
func (b *Bars) Beta(index *Bars, day period.Date, weeks int) float64 {
	monday, _ := Weekly.Around(day)
	start := monday - period.Date(7*(weeks+1))
	var own, other, x, y [mostWeeks + 1]float64
	b.weekly(start, own[:weeks+1])
	index.weekly(start, other[:weeks+1])
	n := 0
	for w := 1; w <= weeks; w++ {
		if r, m := own[w]/own[w-1]-1, other[w]/other[w-1]-1; !math.IsNaN(r) && !math.IsNaN(m) {
			x[n], y[n] = m, r
			n++
		}
	}
	if 2*n < weeks {
		return math.NaN()
	}
	_, slope := stat.LinearRegression(x[:n], y[:n], nil, false)
	return slope
}

const mostWeeks = 260

// weekly is the last close of each week from a Monday on; NaN for those without a bar.
func (b *Bars) weekly(monday period.Date, out []float64) {
	for w := range out {
		first := monday + period.Date(7*w)
		out[w] = math.NaN()
		if i := b.OnOrBefore(first + 6); i >= 0 && b.Day[i] >= first {
			out[w] = b.Close[i]
		}
	}
}
