package statement

import (
	"math"
	"math/rand/v2"
	"testing"

	"soba.invalid/soba/internal/core/period"
)

// Whatever reports there are, and whatever they lack, a line that is read off the sheet of
// a span is what its own shortest way gives.
func TestTheSheetAgreesWithReadingLineByLine(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	compared := 0
	for range 300 {
		var reports []Report
		for year := 2020; year <= 2024; year++ {
			for part, at := range map[Part]int{Q1: 3, Q2: 6, Q3: 9, Q4: 12, H1: 6, H2: 12, NineMonths: 9, Whole: 12} {
				if r.IntN(3) == 0 {
					continue
				}
				x := Report{End: period.MakeDate(year, 1, 1).AddMonths(at) - 1, Filed: period.MakeDate(year, 1, 1).AddMonths(at + 2), Year: year, Part: part, Currency: "EUR", Values: make([]float64, len(Lines))}
				for k := range x.Values {
					x.Values[k] = float64(1 + r.IntN(1000))
					if r.IntN(12) == 0 {
						x.Values[k] = math.NaN()
					}
				}
				if r.IntN(10) == 0 {
					x.Was = make([]float64, len(Lines))
				}
				reports = append(reports, x)
			}
		}
		h := New(reports, nil)
		if len(h.Reports) == 0 {
			continue
		}
		for _, p := range []period.Period{{}, period.Back(period.Trailing, 1), period.Back(period.Year, 0), period.Back(period.Year, 2), period.Back(period.Quarter, 1), period.Back(period.Half, 0)} {
			at, label, err := h.span(p)
			if err != nil {
				continue
			}
			s := h.sheet(at)
			for line := range Lines {
				fast, there := s.read(line)
				if !there {
					continue
				}
				compared++
				slow, err := h.over(line, at)
				if err != nil || math.Abs(fast.Value-slow.Value) > 1e-9*math.Abs(slow.Value) || fast.Currency != slow.Currency {
					// Two ways of the same length may differ where reports contradict each other, but not in what they span.
					if err != nil || len(slow.From)+len(slow.Less) != len(fast.From)+len(fast.Less) {
						t.Fatalf("%s over %v: %v off the sheet, %v (%v) by itself", Lines[line].ID, at, fast, slow, err)
					}
				}
				if again, err := h.Read(line, p, 0); err != nil || again.Value != fast.Value || label != "" && again.Label != label || again.Derived() != fast.Derived() {
					t.Fatalf("%s in %s is %v (%v), off the sheet %v", Lines[line].ID, p, again, err, fast)
				}
			}
		}
	}
	if compared < 10_000 {
		t.Errorf("only %d readings were compared", compared)
	}
}

// What the sheet leaves out is read all the same: a line that one report lacks, and one
// that was restated.
func TestWhatIsNotOnTheSheet(t *testing.T) {
	report := func(year int, part Part, month int, revenue, assets float64) Report {
		x := Report{End: period.MakeDate(year, 1, 1).AddMonths(month) - 1, Year: year, Part: part, Values: make([]float64, len(Lines))}
		for k := range x.Values {
			x.Values[k] = math.NaN()
		}
		x.Values[At("income.net_income")], x.Values[At("income.revenue")], x.Values[At("balance.total_assets")] = 1, revenue, assets
		return x
	}
	half := report(2024, H1, 6, math.NaN(), 70)
	h := New([]Report{half, report(2024, Q1, 3, 10, 60), report(2024, Q2, 6, 20, math.NaN()), report(2024, Whole, 12, 100, 80)}, nil)
	first := Span{h.ends[0] - 3, h.ends[0] + 3}
	if _, there := h.sheet(first).read(At("income.revenue")); there {
		t.Error("the half has no revenue, and is on the sheet with it")
	}
	if r, err := h.over(At("income.revenue"), first); err != nil || r.Value != 30 || r.Derived() != "2024-Q1 + 2024-Q2" {
		t.Errorf("the half's revenue is %+v, %v", r, err)
	}
	if r, err := h.Read(At("balance.total_assets"), period.OnDay(period.MakeDate(2024, 7, 1)), 0); err != nil || r.Value != 70 {
		t.Errorf("assets at the end of the half: %+v, %v", r, err)
	}
	half.Was = make([]float64, len(Lines))
	for k := range half.Was {
		half.Was[k] = math.NaN()
	}
	half.Was[At("balance.total_assets")] = 65
	h = New([]Report{half}, nil)
	if r, err := h.Read(At("balance.total_assets"), period.Period{}, 0); err != nil || !r.Restated || r.Was != 65 || r.Value != 70 {
		t.Errorf("restated assets: %+v, %v", r, err)
	}
}
