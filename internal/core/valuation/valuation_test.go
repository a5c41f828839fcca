package valuation

import (
	"math"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/cell"
)

func near(a, b float64) bool { return math.Abs(a-b) <= 1e-9*math.Max(1, math.Abs(b)) }

// Where all stages grow alike the value is Gordon's closed form, however the years are
// cut; a stage alone is the sum of a geometric series.
func TestValuesAgainstClosedForms(t *testing.T) {
	gordon := 2 * 1.03 / (0.08 - 0.03)
	for _, years := range [][2]int{{0, 0}, {5, 5}, {10, 0}, {0, 7}, {50, 50}} {
		m := Model{Base: 2, Growth: 0.03, Years: years[0], Growth2: 0.03, Years2: years[1], Terminal: 0.03, Discount: 0.08}
		v := m.Value()
		if m.Check() != nil || !near(v.Total(), gordon) {
			t.Errorf("over %v years: %v, want %v", years, v.Total(), gordon)
		}
	}
	m := Model{Base: 4, Growth: 0.1, Years: 5, Growth2: 0.05, Years2: 3, Terminal: 0.02, Discount: 0.09}
	v := m.Value()
	q1, q2 := 1.1/1.09, 1.05/1.09
	first := 4 * q1 * (math.Pow(q1, 5) - 1) / (q1 - 1)
	second := 4 * math.Pow(q1, 5) * q2 * (math.Pow(q2, 3) - 1) / (q2 - 1)
	last := 4 * math.Pow(q1, 5) * math.Pow(q2, 3) * 1.02 / 0.07
	if !near(v.Stage1, first) || !near(v.Stage2, second) || !near(v.Terminal, last) {
		t.Errorf("got %+v, want %v, %v, %v", v, first, second, last)
	}
}

func TestModelsThatCannotApply(t *testing.T) {
	for says, m := range map[string]Model{
		"nothing to grow from":    {Base: 0, Terminal: 0.02, Discount: 0.09},
		"not above zero":          {Base: math.NaN(), Terminal: 0.02, Discount: 0.09},
		"above the growth":        {Base: 1, Terminal: 0.09, Discount: 0.09},
		"from 0 to 50 years":      {Base: 1, Years: 51, Terminal: 0.02, Discount: 0.09},
		"leaves nothing":          {Base: 1, Growth: -1, Years: 1, Terminal: 0.02, Discount: 0.09},
		"otherwise the value has": {Base: 1, Terminal: 0.05, Discount: 0.04},
	} {
		if err := m.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", m, err, says)
		}
	}
}

func TestGridAndImpliedGrowth(t *testing.T) {
	m := Model{Base: 2, Growth: 0.04, Years: 5, Growth2: 0.03, Years2: 5, Terminal: 0.02, Discount: 0.08}
	v := m.Value()
	grid := m.Grid([]float64{0.02, 0.08, 0.1}, []float64{0.04, 0.06})
	if !math.IsNaN(grid[0][0]) || !near(grid[1][0], v.Total()) || grid[1][1] <= grid[1][0] || grid[2][0] >= grid[1][0] {
		t.Errorf("grid %v of %v", grid, v.Total())
	}
	if g, ok := m.Implied(v.Total()); !ok || math.Abs(g-0.04) > 1e-9 {
		t.Errorf("the growth that its own value implies is %v", g)
	}
	if _, ok := m.Implied(1e9); ok {
		t.Error("no growth is worth that")
	}
	// Of Gordon's model the growth for ever is what changes.
	one := Model{Base: 2, Terminal: 0.03, Discount: 0.08}
	if grid := one.Grid([]float64{0.08}, []float64{0.03, 0.04}); !near(grid[0][0], 2*1.03/0.05) || !near(grid[0][1], 2*1.04/0.04) {
		t.Errorf("grid %v", grid)
	}
	if _, ok := one.Implied(50); ok {
		t.Error("there is no first stage")
	}
}

// What is assumed comes from the history, within bounds, unless the user says otherwise.
func TestWhatAModelAssumes(t *testing.T) {
	known := map[string]float64{"cash.free": 3200, "cash.free@TTM-5": 100, "income.shares_diluted": 100, "income.eps_diluted": -2, "dividend.forward": 1.5, "dividend.growth_5y": 0.06}
	of := func(id string) *cell.Cell {
		if x, ok := known[id]; ok {
			return &cell.Cell{Value: cell.Of(x)}
		}
		c := cell.Gap(cell.ShortHistory, "")
		return &c
	}
	// From 100 to 3200 in five years is twofold a year: kept at 15 %. Half way from that to 2 % is 8.5 %.
	m, all := Assume(Cash, of, nil)
	m.Growth2 = math.Round(m.Growth2*1e12) / 1e12
	if want := (Model{Base: 32, Growth: 0.15, Years: 5, Growth2: 0.085, Years2: 5, Terminal: 0.02, Discount: 0.09}); m != want {
		t.Errorf("got %+v, want %+v", m, want)
	}
	if len(all) != 7 || all[1].Origin != "growth of free cash flow a year over five years, which was 100.0 %, kept within -5 and 15 %" || all[1].Yours {
		t.Errorf("got %+v", all)
	}
	m, all = Assume(Dividends, of, map[string]Said{"growth": {Value: 0.04}, "terminal": {Value: 0.01, When: "saved on a day"}, "years": {Value: 8}})
	if want := (Model{Base: 1.5, Growth: 0.04, Years: 8, Growth2: 0.025, Years2: 5, Terminal: 0.01, Discount: 0.09}); m != want || !all[1].Yours || all[0].Yours {
		t.Errorf("got %+v of %+v", m, all)
	}
	m, _ = Assume(Gordon, of, nil)
	if want := (Model{Base: 1.5, Terminal: 0.04, Discount: 0.09}); m != want { // six per cent for ever are too many
		t.Errorf("got %+v, want %+v", m, want)
	}
	m, all = Assume(Earnings, of, nil)
	if m.Check() == nil || m.Growth != 0.03 || !strings.Contains(all[1].Origin, "not known (short_history)") {
		t.Errorf("of a loss: %+v of %+v", m, all)
	}
	discounts, growths := m.Around()
	if len(discounts) != 5 || discounts[2] != 0.09 || growths[2] != 0.03 {
		t.Errorf("around %v by %v", discounts, growths)
	}
}
