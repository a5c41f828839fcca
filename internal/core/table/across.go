package table

import (
	"fmt"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// Across puts figures of accounts of several names side by side, period by period. Each
// name has periods of its own, whose ends are told.
type Across struct {
	Fields  []*catalogue.Field
	Periods []period.Period // the newest first
	Common  period.Date     // day to which all are read; 0 where each is read to its own newest
	Rows    []AcrossRow
	Omitted []*Record // those of a kind that publishes no accounts
}

// AcrossRow is one name.
type AcrossRow struct {
	Record *Record
	Ends   []PeriodEnd   // by period
	Cells  [][]cell.Cell // by field and period
}

// PeriodEnd is which stretch of time a period is for a name; its zero value where there
// are no accounts of it.
type PeriodEnd struct {
	Label string
	End   period.Date
	Filed period.Date
	Apart bool // it ends more than apartDays before that of another name
}

// apartDays is how far apart ends may be for figures to be compared without a word: a
// quarter.
const apartDays = 92

// AcrossOf evaluates figures across names in the newest periods of a kind, a number of
// them. Common reads all to the newest day to which every name has accounts: there and on
// the same day of years before. The error names a field that is of no fiscal period.
func AcrossOf(in Conversion, records []*Record, fields []string, by string, count int, common bool, now time.Time, limits freshness.Limits) (*Across, error) {
	a := &Across{}
	accounted := make([]*Record, 0, len(records))
	for _, r := range records {
		if catalogue.Info(catalogue.Statements).Has(r.Listing.Kind) {
			accounted = append(accounted, r)
		} else {
			a.Omitted = append(a.Omitted, r)
		}
	}
	records = accounted
	for _, id := range fields {
		f, err := catalogue.Resolve(formula.Ref{ID: id})
		if err != nil {
			return nil, err
		}
		if f.Takes != catalogue.AFiscal {
			return nil, fmt.Errorf("%s is of no fiscal period: figures across names are those of accounts, and what is derived from them", id)
		}
		a.Fields = append(a.Fields, f)
	}
	if common {
		a.Common = commonEnd(records, by, now, limits)
	}
	for back := range count {
		if a.Common != 0 {
			a.Periods = append(a.Periods, period.OnDay(a.Common.AddYears(-back)))
		} else {
			a.Periods = append(a.Periods, statement.Back(by, back))
		}
	}
	var refs []formula.Ref
	for _, f := range a.Fields {
		for _, p := range a.Periods {
			refs = append(refs, formula.Ref{ID: f.ID, Period: p})
		}
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		return nil, err
	}
	newest := make([]period.Date, count)
	for _, row := range p.EvaluateIn(in, records, now, limits).Rows {
		out := AcrossRow{Record: row.Record, Ends: make([]PeriodEnd, count)}
		_, given := row.Record.Account(catalogue.Statements, now, limits)
		for i, of := range a.Periods {
			if given == nil {
				continue
			}
			for _, id := range []string{"income.net_income", "balance.total_assets"} {
				if r, err := given.Accounts.Read(statement.At(id), of, row.Record.Exchange.Today(now)); err == nil {
					out.Ends[i] = PeriodEnd{Label: r.Label, End: r.End, Filed: r.Filed}
					newest[i] = max(newest[i], r.End)
					break
				}
			}
		}
		for i := range a.Fields {
			out.Cells = append(out.Cells, row.Cells[i*count:(i+1)*count])
		}
		a.Rows = append(a.Rows, out)
	}
	for i := range a.Rows {
		for k := range a.Rows[i].Ends {
			e := &a.Rows[i].Ends[k]
			e.Apart = e.End != 0 && newest[k]-e.End > apartDays
		}
	}
	return a, nil
}

// commonEnd is the newest day to which every name that has accounts at all has them.
func commonEnd(records []*Record, by string, now time.Time, limits freshness.Limits) (earliest period.Date) {
	for _, r := range records {
		_, given := r.Account(catalogue.Statements, now, limits)
		if given == nil {
			continue
		}
		read, err := given.Accounts.Read(statement.At("income.net_income"), statement.Back(by, 0), r.Exchange.Today(now))
		if err == nil && (earliest == 0 || read.End < earliest) {
			earliest = read.End
		}
	}
	return earliest
}
