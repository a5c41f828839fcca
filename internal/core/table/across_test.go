package table

import (
	"fmt"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// told writes figures across names: each value with its period's label and end.
func told(a *Across) string {
	var lines []string
	for _, r := range a.Rows {
		for k, f := range a.Fields {
			line := r.Record.Listing.Symbol.Ticker + " " + f.ID
			for i, c := range r.Cells[k] {
				e := r.Ends[i]
				value := fmt.Sprint(c.Value.Num)
				if c.Absent() {
					value = c.Reason.String()
				}
				line += fmt.Sprintf(" | %s %s", value, e.Label)
				if e.End != 0 {
					line += " " + e.End.String()
				}
				if e.Apart {
					line += " apart"
				}
			}
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

func TestFiguresAcrossNames(t *testing.T) {
	june := func(year int, revenue float64) statement.Report {
		r := fiscalYear(year, map[string]float64{"income.revenue": revenue, "income.net_income": 1})
		r.End = period.MakeDate(year, 6, 30)
		return r
	}
	december := func(year int, revenue float64) statement.Report {
		return fiscalYear(year, map[string]float64{"income.revenue": revenue, "income.net_income": 2})
	}
	quarter := func(year, n int, revenue float64) statement.Report {
		r := december(year, revenue)
		r.End, r.Part = period.MakeDate(year, 1, 1).AddMonths(3*n)-1, statement.Part(fmt.Sprintf("Q%d", n))
		return r
	}
	a := listed("AAA", "EUR", 20, 20).accounts(december(2023, 90), quarter(2024, 1, 20), quarter(2024, 2, 21), quarter(2024, 3, 22), quarter(2024, 4, 37), december(2024, 100), quarter(2025, 1, 23), quarter(2025, 2, 24), quarter(2025, 3, 25), quarter(2025, 4, 38), december(2025, 110))
	b := listed("BBB", "EUR", 20, 20).accounts(june(2024, 50), june(2025, 60))
	none := listed("CCC", "EUR", 20, 20)
	index := &Record{Listing: &market.Listing{Symbol: market.Symbol{Ticker: "IDX", Exchange: "XCVH"}, Kind: market.Index}, Exchange: harbour}
	across := func(common bool, records ...*Record) *Across {
		t.Helper()
		x, err := AcrossOf(Conversion{}, records, []string{"income.revenue", "margin.net"}, statement.ByYear, 2, common, saturday, freshness.Standard)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	x := across(false, a, b, none, index)
	want := `AAA income.revenue | 110 FY2025 2025-12-31 | 100 FY2024 2024-12-31
AAA margin.net | ` + fmt.Sprint(2/110.) + ` FY2025 2025-12-31 | 0.02 FY2024 2024-12-31
BBB income.revenue | 60 FY2025 2025-06-30 apart | 50 FY2024 2024-06-30 apart
BBB margin.net | ` + fmt.Sprint(1/60.) + ` FY2025 2025-06-30 apart | 0.02 FY2024 2024-06-30 apart
CCC income.revenue | never_fetched  | never_fetched 
CCC margin.net | input_missing  | input_missing `
	if got := told(x); got != want || len(x.Omitted) != 1 || x.Omitted[0] != index || x.Common != 0 {
		t.Errorf("got\n%s\nwant\n%s\nomitted %v", got, want, x.Omitted)
	}
	// To the newest day that both have, the year of one is put together from its quarters.
	x = across(true, a, b)
	want = `AAA income.revenue | 106 TTM 2025-06-30 2025-06-30 | short_history 
AAA margin.net | ` + fmt.Sprint(8/106.) + ` TTM 2025-06-30 2025-06-30 | input_missing 
BBB income.revenue | 60 TTM 2025-06-30 2025-06-30 | 50 TTM 2024-06-30 2024-06-30
BBB margin.net | ` + fmt.Sprint(1/60.) + ` TTM 2025-06-30 2025-06-30 | 0.02 TTM 2024-06-30 2024-06-30`
	if got := told(x); got != want || x.Common.String() != "2025-06-30" {
		t.Errorf("to %s got\n%s\nwant\n%s", x.Common, got, want)
	}
	for _, field := range []string{"quote.last", "income.revenu"} {
		if _, err := AcrossOf(Conversion{}, []*Record{a}, []string{field}, statement.ByYear, 2, false, saturday, freshness.Standard); err == nil {
			t.Errorf("%s has no fiscal periods", field)
		}
	}
	for _, id := range catalogue.TwelveRatios {
		if f := catalogue.Find(id); f == nil || f.Takes != catalogue.AFiscal {
			t.Errorf("%s is no figure of accounts", id)
		}
	}
	if c := across(false, b).Rows[0].Cells[0][0]; c.Flags&cell.Restated != 0 {
		t.Errorf("a report that was never changed: %+v", c)
	}
}
