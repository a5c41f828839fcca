package series

import (
	"math"
	"testing"

	"soba.invalid/soba/internal/core/period"
)

func day(d int) period.Date { return period.MakeDate(2026, 3, d) }

// closes makes bars on the given days of one month, with highs one above and lows one below.
func closes(days []int, prices ...float64) *Bars {
	b := &Bars{}
	for i, p := range prices {
		b.Append(day(days[i]), p, p+1, p-1, p, 100*float64(i+1))
	}
	return b
}

func near(a, b float64) bool {
	return math.Abs(a-b) <= 1e-12*math.Max(1, math.Abs(b)) || math.IsNaN(a) && math.IsNaN(b)
}

func TestMeasuresByHand(t *testing.T) {
	b := closes([]int{2, 3, 4, 6, 9}, 100, 110, 99, 99, 108.9)
	for _, c := range []struct {
		name      string
		got, want float64
	}{
		{"highest high", b.Highest(), 111},
		{"lowest low", b.Lowest(), 98},
		{"mean volume", b.AverageVolume(), 300},
		{"drawdown from 110 to 99", b.Drawdown(), -0.1},
		{"return from the 4th", b.Return(day(4)), 0.1},
		{"return from the 5th, no session: the 4th counts", b.Return(day(5)), 0.1},
		{"return from before the first bar", b.Return(day(1)), math.NaN()},
		// log returns: ln 1.1, ln 0.9, 0, ln 1.1
		{"volatility", b.Volatility(), volatilityOf(math.Log(1.1), math.Log(0.9), 0, math.Log(1.1))},
		{"volatility of one return", closes([]int{2, 3}, 1, 2).Volatility(), math.NaN()},
		{"highest of none", (&Bars{}).Highest(), math.NaN()},
	} {
		if !near(c.got, c.want) {
			t.Errorf("%s is %v, want %v", c.name, c.got, c.want)
		}
	}
}

// volatilityOf is the textbook two-pass form, apart from the one-pass form under test.
func volatilityOf(returns ...float64) float64 {
	var sum, squares float64
	for _, r := range returns {
		sum += r
	}
	mean := sum / float64(len(returns))
	for _, r := range returns {
		squares += (r - mean) * (r - mean)
	}
	return math.Sqrt(squares / float64(len(returns)-1) * 252)
}

func TestWindows(t *testing.T) {
	b := closes([]int{2, 3, 4, 6, 9}, 1, 2, 3, 4, 5)
	if w := b.After(day(4)); w.Len() != 2 || w.Day[0] != day(6) {
		t.Errorf("after the 4th: %v", w.Day)
	}
	for d, want := range map[int]int{1: -1, 2: 0, 5: 2, 9: 4, 20: 4} {
		if got := b.OnOrBefore(day(d)); got != want {
			t.Errorf("bar on or before the %d is %d, want %d", d, got, want)
		}
	}
}

func TestAdjustForATripleSplitAndAReverseSplit(t *testing.T) {
	b := closes([]int{2, 3, 4}, 90, 30, 300)
	adjusted := b.AdjustSplits([]Split{{day(3), 3}, {day(4), 0.1}})
	// The 2nd: 90 / (3 × 0.1) = 300; the 3rd: 30 / 0.1 = 300.
	for i, want := range []float64{300, 300, 300} {
		if !near(adjusted.Close[i], want) {
			t.Errorf("close %d is %v, want %v", i, adjusted.Close[i], want)
		}
	}
	if !near(adjusted.Volume[0], 100*3*0.1) || b.Close[0] != 90 {
		t.Errorf("volume %v; the raw close must stay: %v", adjusted.Volume[0], b.Close[0])
	}
	if r := adjusted.Return(day(2)); !near(r, 0) {
		t.Errorf("nothing was earned, but the return is %v", r)
	}
}
