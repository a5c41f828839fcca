package statement

import (
	"errors"
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

// report writes a report as "end year part", with lines as "income.revenue 20".
func report(about string, lines ...string) Report {
	r := Report{Currency: "EUR", Values: make([]float64, len(Lines))}
	for i := range r.Values {
		r.Values[i] = math.NaN()
	}
	words := strings.Fields(about)
	r.End, r.Part = date(words[0]), Part(words[2])
	fmt.Sscan(words[1], &r.Year) //nolint:errcheck // written below
	if len(words) > 3 {
		r.Filed = date(words[3])
	}
	for _, line := range lines {
		id, number, _ := strings.Cut(line, " ")
		fmt.Sscan(number, &r.Values[At(id)]) //nolint:errcheck
	}
	return r
}

func revenue(about string, x float64) Report {
	return report(about, fmt.Sprintf("income.revenue %v", x), fmt.Sprintf("income.net_income %v", x/10))
}

// said is a value as it was read, or the reason why there is none.
func said(h *History, id, at string) string {
	var p period.Period
	if at != "" {
		var err error
		if p, err = period.Parse(at); err != nil {
			panic(err)
		}
	}
	r, err := h.Read(At(id), p, date("2026-06-01"))
	var gap *Gap
	switch {
	case errors.As(err, &gap) && gap.Short:
		return "short: " + gap.Detail
	case err != nil:
		return "none: " + err.Error()
	}
	text := fmt.Sprintf("%v in %s", math.Round(r.Value*1e9)/1e9, r.Label)
	if d := r.Derived(); d != "" {
		text += " = " + d
	}
	return text
}

func check(t *testing.T, name string, h *History, id string, want map[string]string) {
	t.Helper()
	for at, text := range want {
		if got := said(h, id, at); got != text {
			t.Errorf("%s, %s@%s:\n got %s\nwant %s", name, id, at, got, text)
		}
	}
}

// By quarters, but for the fourth, which only the year tells: 110 − 20 − 30 − 25.
var quarterly = []Report{
	revenue("2023-12-31 2023 FY", 100),
	revenue("2024-03-31 2024 Q1", 20), revenue("2024-06-30 2024 Q2", 30), revenue("2024-09-30 2024 Q3", 25), revenue("2024-12-31 2024 FY", 110),
	revenue("2025-03-31 2025 Q1", 24), revenue("2025-06-30 2025 Q2", 33),
}

func TestWhatTheReportsOfQuartersAddUpTo(t *testing.T) {
	check(t, "quarters", New(quarterly, nil), "income.revenue", map[string]string{
		"":           "117 in TTM 2025-06-30 = FY2024 + 2025-Q1 + 2025-Q2 − 2024-Q2 − 2024-Q1", // 25 + 35 + 24 + 33
		"TTM":        "117 in TTM 2025-06-30 = FY2024 + 2025-Q1 + 2025-Q2 − 2024-Q2 − 2024-Q1",
		"Q":          "33 in 2025-Q2",
		"Q-1":        "24 in 2025-Q1",
		"Q-2":        "35 in 2024-Q4 = FY2024 − 2024-Q3 − 2024-Q2 − 2024-Q1",
		"Q-5":        "20 in 2024-Q1",
		"Q-6":        "short: no reports add up to the 3 months to the end of December 2023; the oldest report is FY2023",
		"2024-Q3":    "25 in 2024-Q3",
		"FY":         "110 in FY2024",
		"FY-1":       "100 in FY2023",
		"FY2023":     "100 in FY2023",
		"FY-2":       "short: FY-2: of 2 years there are accounts; the oldest report is FY2023",
		"FY2019":     "short: no accounts of FY2019 are known; the oldest report is FY2023",
		"H":          "57 in 2025-H1 = 2025-Q1 + 2025-Q2",
		"TTM-1":      "short: no reports add up to the 12 months to the end of June 2024; the oldest report is FY2023",
		"2025-05-10": "114 in TTM 2025-03-31 = FY2024 + 2025-Q1 − 2024-Q1", // 110 + 24 − 20
		"2023-05-10": "short: no report had ended by 2023-05-10; the oldest report is FY2023",
		"NTM":        "none: accounts have no period NTM",
	})
	// With nine months published the fourth quarter is told by two reports.
	nine := append([]Report{revenue("2024-09-30 2024 9M", 75)}, quarterly...)
	check(t, "nine months", New(nine, nil), "income.revenue", map[string]string{
		"Q-2": "35 in 2024-Q4 = FY2024 − 2024-9M",
	})
	// A quarter that is missing breaks the twelve months, and not the year before.
	broken := append(append([]Report{}, quarterly[:5]...), quarterly[6])
	check(t, "a quarter missing", New(broken, nil), "income.revenue", map[string]string{
		"":   "short: no reports add up to the 12 months to the end of June 2025; the oldest report is FY2023",
		"FY": "110 in FY2024",
	})
}

func TestWhatHalvesAddUpTo(t *testing.T) {
	h := New([]Report{
		revenue("2024-09-30 2024 FY", 100), revenue("2025-03-31 2025 H1", 45), revenue("2025-09-30 2025 FY", 104), revenue("2026-03-31 2026 H1", 51),
	}, nil)
	check(t, "halves of a year from October", h, "income.revenue", map[string]string{
		"":        "110 in TTM 2026-03-31 = FY2025 + 2026-H1 − 2025-H1", // 59 + 51
		"H":       "51 in 2026-H1",
		"H-1":     "59 in 2025-H2 = FY2025 − 2025-H1",
		"Q":       "none: only halves or years are published",
		"FY":      "104 in FY2025",
		"2026-Q2": "none: only halves or years are published",
	})
	check(t, "a line it does not report", h, "income.research", map[string]string{
		"FY": "none: FY2025 has no research", "": "none: 2026-H1 has no research",
	})
}

// A year of 52 weeks ends some days before the month, one of 53 some after.
func TestYearsThatEndBesideTheMonth(t *testing.T) {
	h := New([]Report{
		revenue("2023-12-30 2023 FY", 100), revenue("2024-03-30 2024 Q1", 20), revenue("2025-01-04 2024 FY", 110), revenue("2025-04-05 2025 Q1", 26),
	}, nil)
	check(t, "weeks", h, "income.revenue", map[string]string{"": "116 in TTM 2025-04-05 = FY2024 + 2025-Q1 − 2024-Q1", "FY": "110 in FY2024"})
}

// The year ends in December up to 2023, in June from 2024 on, with six months between.
func TestAChangedEndOfTheYear(t *testing.T) {
	h := New([]Report{
		revenue("2022-12-31 2022 FY", 90), revenue("2023-12-31 2023 FY", 100), revenue("2024-06-30 2024 H1", 48), revenue("2025-06-30 2025 FY", 104), revenue("2025-12-31 2026 H1", 55),
	}, nil)
	check(t, "a short year between", h, "income.revenue", map[string]string{
		"FY": "104 in FY2025", "FY-1": "100 in FY2023", "H-2": "short: no reports add up to the 6 months to the end of December 2024; the oldest report is FY2022",
		"": "short: no reports add up to the 12 months to the end of December 2025; the oldest report is FY2022",
	})
}

// Thirty shares become ninety on 1 May 2025, after the first quarter was filed and
// before the second: earnings of 60, 30, 33 and 36 on 90 shares of today.
func TestEarningsAShareOverASplit(t *testing.T) {
	quarter := func(about string, income, shares, eps float64) Report {
		return report(about, fmt.Sprintf("income.net_income %v", income), fmt.Sprintf("income.net_income_common %v", income), fmt.Sprintf("income.shares_diluted %v", shares),
			fmt.Sprintf("income.eps_diluted %v", eps), fmt.Sprintf("balance.shares_outstanding %v", shares), fmt.Sprintf("balance.cash %v", income))
	}
	splits := []series.Split{{Day: date("2025-05-01"), Ratio: 3}}
	h := New([]Report{
		quarter("2024-09-30 2024 Q3 2024-11-01", 60, 30, 2), quarter("2024-12-31 2024 Q4 2025-02-20", 30, 30, 1),
		quarter("2025-03-31 2025 Q1 2025-04-25", 33, 30, 1.1), quarter("2025-06-30 2025 Q2 2025-08-01", 36, 90, 0.4),
	}, splits)
	check(t, "split", h, "income.eps_diluted", map[string]string{
		"":    "1.766666667 in TTM 2025-06-30 = 2024-Q3 + 2024-Q4 + 2025-Q1 + 2025-Q2", // 159 / 90, and not 2 + 1 + 1.1 + 0.4
		"Q":   "0.4 in 2025-Q2",
		"Q-1": "0.366666667 in 2025-Q1",
		"Q-3": "0.666666667 in 2024-Q3",
	})
	check(t, "split", h, "income.shares_diluted", map[string]string{"": "90 in TTM 2025-06-30 = 2024-Q3 + 2024-Q4 + 2025-Q1 + 2025-Q2"})
	check(t, "split", h, "balance.shares_outstanding", map[string]string{"": "90 in 2025-06-30", "Q-3": "90 in 2024-Q3"})
	check(t, "split", h, "balance.cash", map[string]string{"": "36 in 2025-06-30", "Q-1": "33 in 2025-Q1", "Q-9": "short: no report ends in March 2023; the oldest report is 2024-Q3"})
	// One that was filed after the split has counted in new shares itself.
	late := New([]Report{quarter("2025-03-31 2025 Q1 2025-05-10", 33, 90, 0.3666)}, splits)
	check(t, "filed after the split", late, "income.shares_diluted", map[string]string{"Q": "90 in 2025-Q1"})
	// Shares that were issued count for as long as they were there: 80 for three quarters, 120 for one.
	more := New([]Report{
		quarter("2024-12-31 2024 FY", 100, 80, 1.25), quarter("2025-03-31 2025 Q1", 30, 120, 0.25), quarter("2024-03-31 2024 Q1", 20, 80, 0.25),
	}, nil)
	check(t, "new shares", more, "income.shares_diluted", map[string]string{"": "90 in TTM 2025-03-31 = FY2024 + 2025-Q1 − 2024-Q1"})
}

func TestTheParentAloneOnlyWhereThereIsNoGroup(t *testing.T) {
	alone := revenue("2024-12-31 2024 FY", 70)
	alone.Standalone = true
	h := New([]Report{alone, revenue("2024-12-31 2024 FY", 110)}, nil)
	if r, err := h.Read(At("income.revenue"), period.Period{}, 0); err != nil || r.Value != 110 || r.Standalone || r.Filed != 0 || r.Currency != "EUR" {
		t.Errorf("%+v %v", r, err)
	}
	h = New([]Report{alone}, nil)
	if r, err := h.Read(At("income.revenue"), period.Period{}, 0); err != nil || r.Value != 70 || !r.Standalone || r.End != date("2024-12-31") {
		t.Errorf("%+v %v", r, err)
	}
	if got := said(New(nil, nil), "income.revenue", ""); got != "none: no report is known" {
		t.Error(got)
	}
}

func TestParts(t *testing.T) {
	for text, want := range map[string]Part{"FY": Whole, " q3 ": Q3, "6M": H1, "9m": NineMonths} {
		if p, err := ParsePart(text); err != nil || p != want {
			t.Errorf("%q is %s, %v", text, p, err)
		}
	}
	if _, err := ParsePart("Q5"); err == nil {
		t.Error("there is no fifth quarter")
	}
}

// A report that says in whose shares it counts is restated for the splits after that day
// alone: what a later report is compared with counts in that report's shares.
func TestSharesOfAnotherDay(t *testing.T) {
	year := func(end period.Date, filed, sharesOf period.Date) Report {
		r := Report{End: end, Filed: filed, SharesOf: sharesOf, Year: end.Time().Year(), Part: Whole, Values: make([]float64, len(Lines))}
		for i := range r.Values {
			r.Values[i] = math.NaN()
		}
		r.Values[At("income.eps_diluted")], r.Values[At("balance.shares_outstanding")] = 6, 100
		return r
	}
	d := func(y, m int) period.Date { return date(fmt.Sprintf("%d-%02d-28", y, m)) }
	splits := []series.Split{{Day: d(2024, 6), Ratio: 2}, {Day: d(2025, 6), Ratio: 3}}
	h := New([]Report{year(d(2022, 12), 0, d(2025, 3)), year(d(2023, 12), d(2024, 3), 0), year(d(2024, 12), 0, 0)}, splits)
	for back, want := range map[int][2]float64{2: {2, 300}, 1: {1, 600}, 0: {2, 300}} { // after one split, two, and one
		for i, id := range []string{"income.eps_diluted", "balance.shares_outstanding"} {
			r, err := h.Read(At(id), period.Back(period.Year, back), 0)
			if err != nil || r.Value != want[i] {
				t.Errorf("%s of %d years before is %v (%v), want %v", id, back, r.Value, err, want[i])
			}
		}
	}
	if n, first := h.Whole(); n != 3 || first.Year != 2022 {
		t.Errorf("%d whole years from %+v", n, first)
	}
	if n, first := New([]Report{year(d(2020, 12), 0, 0), year(d(2023, 12), 0, 0), year(d(2024, 12), 0, 0)}, nil).Whole(); n != 2 || first.Year != 2023 {
		t.Errorf("with a gap: %d whole years from %+v", n, first)
	}
	if n, first := (*History)(nil).Whole(); n != 0 || first != nil {
		t.Errorf("of nothing: %d", n)
	}
}
