package dividend

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

func date(text string) period.Date {
	d, err := period.ParseDate(text)
	if err != nil {
		panic(err)
	}
	return d
}

// paid makes a history of lines "2025-03-03 0.5 special".
func paid(lines ...string) (h History) {
	for _, line := range lines {
		var day, kind string
		var amount float64
		fmt.Sscan(line, &day, &amount, &kind) //nolint:errcheck // the kind may be left out
		h = append(h, Payment{Ex: date(day), Amount: amount, Adjusted: amount, Kind: kind})
	}
	return h
}

// yearly makes one payment in June of each year from the first on.
func yearly(first int, amounts ...float64) (h History) {
	for i, a := range amounts {
		h = append(h, Payment{Ex: period.MakeDate(first+i, 6, 10), Amount: a, Adjusted: a})
	}
	return h
}

func alike(a, b float64) bool { return math.Abs(a-b) <= 1e-9*math.Max(1, math.Abs(b)) }

// A share at 100 to 102 pays 2, splits two for one, and pays 0.50 and 1.02. In
// today's shares the closes are 50, 51, 50.5, 50, 51, 50 and the dividends 1, 0.50
// and 1.02, which take off 1/51, 1/100 and 2/100.
func TestAdjustedClosesOverASplitAndThreeDividends(t *testing.T) {
	b := &series.Bars{}
	for i, c := range []float64{100, 102, 101, 50, 51, 50} {
		b.Append(date("2026-03-02")+period.Date(i), c, c, c, c, 10)
	}
	b = b.AdjustSplits([]series.Split{{Day: date("2026-03-05"), Ratio: 2}})
	h := History{
		{Ex: date("2026-03-04"), Amount: 2, Adjusted: 1},
		{Ex: date("2026-03-06"), Amount: 0.5, Adjusted: 0.5},
		{Ex: date("2026-03-07"), Amount: 1.02, Adjusted: 1.02},
		{Ex: date("2026-03-20"), Amount: 9, Adjusted: 9}, // ahead
	}
	want := []float64{50 * 50.0 / 51 * 0.99 * 0.98, 50 * 0.99 * 0.98, 50.5 * 0.99 * 0.98, 50 * 0.99 * 0.98, 51 * 0.98, 50}
	adjusted := h.Reinvest(b)
	for i := range want {
		if !alike(adjusted.Close[i], want[i]) || !alike(b.Close[i]*h.Factor(b, b.Day[i]), want[i]) {
			t.Errorf("%s: adjusted close %v, factor %v, want %v", b.Day[i], adjusted.Close[i], h.Factor(b, b.Day[i]), want[i])
		}
	}
	if adjusted.Volume[0] != 20 || b.Close[0] != 50 {
		t.Errorf("volume %v is of the split alone, and the bars themselves stay: %v", adjusted.Volume[0], b.Close[0])
	}
	// On the 8th, a Sunday, the close of the 3rd is the last before the 4th.
	if x, whole := h.Return(b, date("2026-03-03")); !whole || !alike(x, 1/(0.99*0.98)-1) {
		t.Errorf("total return %v", x)
	}
	if _, whole := h.Return(b, date("2026-03-01")); whole {
		t.Error("the bars do not reach back to the 1st")
	}
	// What cannot be right takes off nothing.
	for _, wrong := range []Payment{{Ex: date("2026-03-02"), Adjusted: 1}, {Ex: date("2026-03-04"), Adjusted: 51}, {Ex: date("2026-03-04"), Adjusted: -1}} {
		if f := (History{wrong}).Factor(b, date("2026-03-01")); f != 1 {
			t.Errorf("%+v: factor %v", wrong, f)
		}
	}
}

func TestTotals(t *testing.T) {
	h := paid("2025-03-05 1", "2025-03-06 2", "2025-09-01 4 special", "2026-01-02 8 return_of_capital", "2026-03-05 16 regular", "2026-03-06 32")
	if got := h.Trailing(date("2026-03-05")); got != (Total{Regular: 2 + 16, Special: 4, Capital: 8, Payments: 4}) {
		t.Errorf("in the 365 days up to 5 March: %+v", got)
	}
	if got := h.Year(2025); got != (Total{Regular: 3, Special: 4, Payments: 3}) {
		t.Errorf("in 2025: %+v", got)
	}
}

func TestRhythms(t *testing.T) {
	day := date("2026-03-06")
	var monthly History
	for d := day - 600; d < day; d = d.AddMonths(1) {
		monthly = append(monthly, Payment{Ex: d, Adjusted: 0.1})
	}
	for _, c := range []struct {
		name    string
		h       History
		want    string
		forward string
	}{
		{"quarterly, with a special between", paid("2024-06-03 1", "2024-09-02 1", "2024-12-02 1", "2025-01-15 9 special", "2025-03-03 1.1", "2025-06-02 1.1", "2025-09-01 1.1", "2025-12-01 1.2"), "4", "4.8"},
		{"interim and final, four and eight months apart", paid("2024-05-10 3", "2024-09-10 1", "2025-05-10 3", "2025-09-10 1.5"), "2", "3"},
		{"once a year, a little late", paid("2024-05-02 2", "2025-05-12 2.5"), "1", "2.5"},
		{"monthly", monthly, "12", "1.2"},
		{"at no rhythm", paid("2024-05-10 1", "2024-06-10 1", "2025-11-10 1"), "0", "unknown"},
		{"once", paid("2025-11-10 1"), "unknown", "unknown"},
		{"none for two years", paid("2020-05-10 1", "2021-05-10 1"), "unknown", "0"},
		{"quarterly until last summer", paid("2024-09-02 1", "2024-12-02 1", "2025-03-03 1", "2025-06-02 1"), "4", "0"},
	} {
		got, forward := "unknown", "unknown"
		if n, known := c.h.Rhythm(day); known {
			got = fmt.Sprint(n)
		}
		if x, known := c.h.Forward(day); known {
			forward = strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.6f", x), "0"), ".")
		}
		if got != c.want || forward != c.forward {
			t.Errorf("%s: %s a year, %s ahead; want %s and %s", c.name, got, forward, c.want, c.forward)
		}
	}
}

func TestWhatIsComing(t *testing.T) {
	day := date("2026-03-06")
	h := paid("2025-03-03 1", "2025-06-02 1", "2025-09-01 1", "2025-12-01 1.2", "2026-02-27 1.2", "2026-06-05 1.3")
	h[3].Pay = date("2025-12-20")
	h[4].Pay = date("2026-03-20") // has gone ex and is still to be paid
	var said []string
	for _, p := range h.Coming(day) {
		text := fmt.Sprint(p.Ex, " ", p.Adjusted)
		if p.Expected {
			text += " expected"
		}
		if p.Pay != 0 {
			text += " paid " + p.Pay.String()
		}
		said = append(said, text)
	}
	want := "2026-02-27 1.2 paid 2026-03-20; 2026-06-05 1.3; 2026-09-01 1.2 expected; 2026-12-01 1.2 expected paid 2026-12-20; 2027-02-27 1.2 expected paid 2027-03-20"
	if got := strings.Join(said, "; "); got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if due := h[:4].Overdue(date("2026-03-22"), 20); due != 0 {
		t.Errorf("nineteen days after 3 March nothing is overdue: %s", due)
	}
	if due := h[:4].Overdue(date("2026-03-23"), 20); due != date("2026-03-03") {
		t.Errorf("overdue since %s", due)
	}
	if due := h.Overdue(date("2026-03-30"), 20); due != 0 {
		t.Errorf("it went ex four days early, and %s is overdue", due)
	}
}

func TestGrowthStreakAndCut(t *testing.T) {
	day := date("2026-03-06")
	// 1.00 in 2020 and 1.60 in 2025, a special of 5 not counted: 1.6^(1/5) = 1.0985605.
	h := append(yearly(2020, 1, 1.1, 1.1, 1.2, 1.4, 1.6), paid("2025-11-01 5 special", "2026-02-01 9")...)
	for years, want := range map[int]float64{1: 1.6/1.4 - 1, 3: math.Cbrt(1.6/1.1) - 1, 5: 0.09856054} {
		if x, whole := h.Growth(day, years); !whole || math.Abs(x-want) > 1e-8 {
			t.Errorf("growth over %d years is %v, want %v", years, x, want)
		}
	}
	if _, whole := h.Growth(day, 6); whole {
		t.Error("nothing is known of 2019")
	}
	if n := h.Streak(day); n != 3 {
		t.Errorf("it rose in 2023, 2024 and 2025, not %d years", n)
	}
	if y := h.Cut(day); y != 0 {
		t.Errorf("it never fell, not in %d", y)
	}
	skipped := yearly(2018, 1, 2, 0, 1, 1.5)[:2:2]
	skipped = append(skipped, yearly(2021, 1, 1.5, 1.4)...)
	if y := skipped.Cut(day); y != 2024 {
		t.Errorf("after 2023 came nothing: cut in %d", y)
	}
	if y := skipped.Cut(date("2024-01-01")); y != 2023 {
		t.Errorf("cut in %d, want 2023", y)
	}
	if y := skipped.Cut(date("2023-01-01")); y != 2020 {
		t.Errorf("nothing was paid in 2020: cut in %d", y)
	}
	if x, whole := skipped.Growth(date("2024-01-01"), 3); !whole || !math.IsNaN(x) {
		t.Errorf("there is no growth from nothing: %v", x)
	}
	if n := (History{}).Streak(day); n != 0 {
		t.Errorf("a streak of %d without dividends", n)
	}
}
