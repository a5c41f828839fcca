package table

import (
	"math"
	"slices"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// Conflict is a value of which two accounts differ: those of two sources of one field,
// or what is computed and what a vendor computes.
type Conflict struct {
	Row    *Row
	Ref    formula.Ref
	Cell   cell.Cell
	Theirs formula.Ref // the vendor's own field; zero where another source gives the same field
	Other  cell.Cell   // of it
}

// Conflicts finds the values of records of which two accounts differ: those of sources
// by more than the limits' tolerance, computed ratios by more than a fraction of the
// larger and what the vendor rounds.
func Conflicts(in Conversion, records []*Record, now time.Time, limits freshness.Limits, fraction float64) ([]Conflict, error) {
	var refs []formula.Ref
	for i := range catalogue.Fields {
		if f := &catalogue.Fields[i]; f.Observed && f.Dataset != catalogue.Holdings || f.ID == "price.close" {
			refs = append(refs, formula.Ref{ID: f.ID})
		}
	}
	if disputable(records) {
		for _, of := range disputedPeriods {
			for i := range statement.Lines {
				refs = append(refs, formula.Ref{ID: statement.Lines[i].ID, Period: of})
			}
		}
	}
	observed := len(refs)
	for _, pair := range catalogue.Compared {
		refs = append(refs, formula.Ref{ID: pair.Ours})
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i, ref := range refs {
		if ref.Period == (period.Period{}) {
			at[ref.ID] = i
		}
	}
	t := p.EvaluateIn(in, records, now, limits)
	var out []Conflict
	for i := range t.Rows {
		row := &t.Rows[i]
		for k := range observed {
			if c := &row.Cells[k]; c.Flags&cell.Conflict != 0 {
				out = append(out, Conflict{Row: row, Ref: refs[k], Cell: *c})
			}
		}
		for _, pair := range catalogue.Compared {
			ours, theirs := &row.Cells[at[pair.Ours]], &row.Cells[at[pair.Theirs]]
			if ours.Absent() || theirs.Absent() || apart(ours, theirs, fraction) <= 0 {
				continue
			}
			out = append(out, Conflict{Row: row, Ref: formula.Ref{ID: pair.Ours}, Cell: *ours, Theirs: formula.Ref{ID: pair.Theirs}, Other: *theirs})
		}
	}
	return out, nil
}

// disputable tells whether several sources have given accounts of any record.
func disputable(records []*Record) bool {
	return slices.ContainsFunc(records, func(r *Record) bool {
		given := 0
		for i := range r.Feeds[accountsFeed].From {
			if h := r.Feeds[accountsFeed].From[i].Accounts; h != nil && len(h.Reports) > 0 {
				given++
			}
		}
		return given > 1
	})
}

// disputedPeriods are those of which the lines of several sources are compared: the
// newest five years.
var disputedPeriods = func() (out []period.Period) {
	for back := range 5 {
		out = append(out, period.Back(period.Year, back))
	}
	return out
}()

// apart is by how much two numbers differ beyond a fraction of the larger and half of
// the last digit that vendors write of ratios (0.01) and percentages (0.01 %).
func apart(a, b *cell.Cell, fraction float64) float64 {
	rounding := 0.005
	if a.Unit == string(catalogue.Percent) {
		rounding = 0.00005
	}
	x, y := a.Value.Num, b.Value.Num
	return math.Abs(x-y) - fraction*math.Max(math.Abs(x), math.Abs(y)) - rounding
}
