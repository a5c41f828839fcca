package series

import (
	"fmt"
	"math"
	"strings"
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

func TestIndicatorsByHand(t *testing.T) {
	wilder := closes([]int{2, 3, 4, 5, 6, 9}, 10, 11, 10.5, 11.5, 12, 11)
	ranges := &Bars{}
	for i, x := range [][3]float64{{11, 9, 10}, {12, 10, 11.5}, {11.8, 10.8, 11}, {13, 12, 12.5}} {
		ranges.Append(day(2+i), x[2], x[0], x[1], x[2], 0)
	}
	five := closes([]int{2, 3, 4, 5, 6}, 1, 2, 3, 4, 5)
	for _, c := range []struct {
		name      string
		got, want float64
	}{
		{"mean of 3, 4, 5", five.Mean(3), 4},
		{"mean of more than there are", five.Mean(6), math.NaN()},
		// Begun with 2, the mean of 1, 2, 3; then half way to 4 and half way to 5.
		{"exponential mean", five.ExponentialMean(3), 4},
		// Gains 1, 0, 1 and losses 0, ½, 0 average ⅔ and ⅙; after +½ they are 11/18 and
		// 1/9, after −1 both 11/27.
		{"relative strength", wilder.RelativeStrength(3), 50},
		{"relative strength one day before", first(wilder, 5).RelativeStrength(3), 100 - 100/(1+11.0/18*9)},
		{"relative strength of nothing but gains", five.RelativeStrength(3), 100},
		{"relative strength of no change", closes([]int{2, 3, 4, 5}, 7, 7, 7, 7).RelativeStrength(3), 50},
		{"relative strength of too few", five.RelativeStrength(5), math.NaN()},
		// True ranges 2, 1 and, over the gap from 11 up to 13, 2: the mean 1.5, then (1.5 + 2)/2.
		{"true range", ranges.TrueRange(2), 1.75},
		{"true range of too few", ranges.TrueRange(4), math.NaN()},
	} {
		if !near(c.got, c.want) {
			t.Errorf("%s is %v, want %v", c.name, c.got, c.want)
		}
	}
}

func first(b *Bars, n int) *Bars {
	out := b.Slice(0, n)
	return &out
}

// Weeks and months that run over a year's end, with New Year's Day closed.
func TestLongerBarsOverAYearsEnd(t *testing.T) {
	b := &Bars{}
	dec, jan := period.MakeDate(2025, 12, 29), period.MakeDate(2026, 1, 2)
	b.Append(dec, 1, 5, 1, 2, 10)
	b.Append(dec+1, 2, 3, 2, 3, 20)
	b.Append(dec+2, 3, 4, 2, 4, 30)
	b.Append(jan, 4, 6, 4, 5, 40)
	b.Append(jan+3, 5, 7, 3, 6, 50)
	trades := func(d period.Date) bool {
		return d.Weekday() >= 1 && d.Weekday() <= 5 && d != period.MakeDate(2026, 1, 1)
	}
	for _, c := range []struct {
		every       Interval
		first, last period.Date
		want        string
	}{
		{Weekly, dec, jan + 3, "2026-01-02 1 6 1 5 100; 2026-01-05 5 7 3 6 50 partial"},
		{Weekly, dec, jan + 7, "2026-01-02 1 6 1 5 100; 2026-01-05 5 7 3 6 50"}, // the other four days had no trade
		{Weekly, dec + 1, jan, "2026-01-02 2 6 2 5 90 partial"},
		{Weekly, dec - 2, jan + 2, "2026-01-02 1 6 1 5 100"}, // weekends make nothing partial
		{Monthly, dec, jan + 3, "2025-12-31 1 5 1 4 60 partial; 2026-01-05 4 7 3 6 90 partial"},
		{Monthly, period.MakeDate(2025, 12, 1), period.MakeDate(2026, 1, 31), "2025-12-31 1 5 1 4 60; 2026-01-05 4 7 3 6 90"},
		{Quarterly, period.MakeDate(2025, 10, 1), jan, "2025-12-31 1 5 1 4 60; 2026-01-02 4 6 4 5 40 partial"},
		{Yearly, period.MakeDate(2025, 1, 1), jan, "2025-12-31 1 5 1 4 60; 2026-01-02 4 6 4 5 40 partial"},
		{Daily, dec + 1, dec + 2, "2025-12-30 2 3 2 3 20; 2025-12-31 3 4 2 4 30"},
		{Daily, jan + 1, jan + 2, ""},
	} {
		bars, partial := b.Every(c.every, c.first, c.last, trades)
		var said []string
		for i := range bars.Len() {
			text := fmt.Sprint(bars.Day[i], bars.Open[i], bars.High[i], bars.Low[i], bars.Close[i], bars.Volume[i])
			if partial[i] {
				text += " partial"
			}
			said = append(said, text)
		}
		if got := strings.Join(said, "; "); got != c.want {
			t.Errorf("%s from %s to %s:\n got %s\nwant %s", c.every, c.first, c.last, got, c.want)
		}
	}
	if holes := b.Holes(dec-3, jan+4, trades); fmt.Sprint(holes) != "[2025-12-26 2026-01-06]" {
		t.Errorf("holes %v", holes)
	}
}

func TestStretchesOfTime(t *testing.T) {
	for _, c := range []struct {
		every Interval
		day   string
		want  string
	}{
		{Weekly, "2024-12-30", "2024-12-30 2025-01-05"},
		{Weekly, "2025-01-05", "2024-12-30 2025-01-05"},
		{Monthly, "2024-02-29", "2024-02-01 2024-02-29"},
		{Monthly, "2025-12-01", "2025-12-01 2025-12-31"},
		{Quarterly, "2025-11-15", "2025-10-01 2025-12-31"},
		{Quarterly, "2024-01-01", "2024-01-01 2024-03-31"},
		{Yearly, "2024-07-01", "2024-01-01 2024-12-31"},
		{Daily, "2024-07-01", "2024-07-01 2024-07-01"},
	} {
		d, err := period.ParseDate(c.day)
		if err != nil {
			t.Fatal(err)
		}
		if from, to := c.every.Around(d); fmt.Sprint(from, " ", to) != c.want {
			t.Errorf("the %s around %s is %s to %s, want %s", c.every, c.day, from, to, c.want)
		}
	}
	if _, err := ParseInterval("fortnight"); err == nil {
		t.Error("a fortnight is no interval")
	}
}

// The index returns 10 %, -10 % and 10 % a week; a name that returns twice that and
// one per cent more has a beta of 2, whatever it does within the weeks.
func TestBetaByHand(t *testing.T) {
	fridays := []int{6, 13, 20, 27}
	index := closes(fridays, 100, 110, 99, 108.9)
	price := 50.0
	twice := []float64{price}
	for _, r := range []float64{0.21, -0.19, 0.21} {
		price *= 1 + r
		twice = append(twice, price)
	}
	name := closes(fridays, twice...)
	within := closes([]int{4, 6, 12, 13, 16, 19, 26}, 3, twice[0], 70, twice[1], 1, twice[2], twice[3])
	april := period.MakeDate(2026, 4, 1) // a Wednesday, of a week that is not over
	for what, c := range map[string]struct {
		b    *Bars
		day  period.Date
		want float64
	}{
		"on Fridays": {name, april, 2}, "on other days": {within, april, 2}, "of itself": {index, april, 1},
		"over too few weeks": {name, april + 14, math.NaN()}, // one return of three is left
		"with a week amiss":  {closes([]int{6, 20, 27}, twice[0], twice[2], twice[3]), april, math.NaN()},
	} {
		if got := c.b.Beta(index, c.day, 3); !near(got, c.want) {
			t.Errorf("%s: %v, want %v", what, got, c.want)
		}
	}
	still := closes(fridays, 5, 5, 5, 5)
	if got := name.Beta(still, april, 3); !math.IsNaN(got) {
		t.Errorf("against an index that stands still: %v", got)
	}
}

func TestLines(t *testing.T) {
	// The 2nd of March 2026 is a Monday, the 9th the next.
	b := closes([]int{2, 3, 6, 9, 10, 18}, 1, 2, 3, 4, 5, 6)
	for _, c := range []struct {
		from  int
		every Interval
		want  string
	}{
		{3, Daily, "[2 3 4 5 6]"}, {1, Weekly, "[3 5 6]"}, {3, Weekly, "[3 5 6]"}, {1, Monthly, "[6]"}, {19, Daily, "[]"},
	} {
		if got := fmt.Sprint(b.Line(day(c.from), c.every)); got != c.want {
			t.Errorf("by %s from the %d: %s, want %s", c.every, c.from, got, c.want)
		}
	}
}
