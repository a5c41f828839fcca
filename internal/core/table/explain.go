package table

import (
	"slices"
	"sort"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// Explanation is the account of a cell as a tree: what it is, how it came
// about, and the same for each of its inputs.
type Explanation struct {
	Ref     formula.Ref
	Field   *catalogue.Field
	Cell    cell.Cell
	Today   period.Date // on the listing's exchange
	Formula string      // of a derived field
	Inputs  []Explanation
	Given   []Given      // by each source, of a field that was read: the one shown first
	Reports []ReportRead // of a line of the accounts, the oldest first
	Besides []Reading
}

// ReportRead is a report from which a line of the accounts was read.
type ReportRead struct {
	*statement.Report
	Less bool // subtracted, rather than added
}

// Reading is what a field reads besides its own dataset: another of the listing, or
// the bars of the index that it is compared with.
type Reading struct {
	Dataset catalogue.Dataset
	Record  *Record
	Account cell.Cell
	Given   *Given // nil where there is none
}

// Explain accounts for a column of a row of this table.
func (t *Table) Explain(row *Row, column int) Explanation {
	s := &t.Program.steps[column]
	e := Explanation{Ref: s.ref, Field: s.field, Cell: row.Cells[column], Today: row.Record.Exchange.Today(t.AsOf)}
	if len(s.args) > 0 {
		if s.expr != nil {
			e.Formula = s.expr.String()
		}
		for _, slot := range s.args {
			e.Inputs = append(e.Inputs, t.Explain(row, slot))
		}
	} else if s.feed >= 0 && s.field.Fact == nil {
		e.Given = slices.Clone(row.Record.Feeds[s.feed].From)
		slices.SortStableFunc(e.Given, func(a, b Given) int { return first(a.Source == e.Cell.Source, b.Source == e.Cell.Source) })
		e.Besides = t.besides(s.field, row.Record)
		e.Reports = t.reports(s, row.Record, e.Given)
	}
	return e
}

func (t *Table) reports(s *step, r *Record, given []Given) (out []ReportRead) {
	line := statement.At(s.field.ID)
	if line < 0 || len(given) == 0 {
		return nil
	}
	read, err := given[0].Accounts.Read(line, s.ref.Period, r.Exchange.Today(t.AsOf))
	if err != nil {
		return nil
	}
	for _, x := range read.From {
		out = append(out, ReportRead{x, false})
	}
	for _, x := range read.Less {
		out = append(out, ReportRead{x, true})
	}
	slices.SortStableFunc(out, func(a, b ReportRead) int { return int(a.End) - int(b.End) })
	return out
}

func (t *Table) besides(f *catalogue.Field, r *Record) (out []Reading) {
	read := func(d catalogue.Dataset, r *Record) {
		account, given := r.Account(d, t.AsOf, t.limits)
		out = append(out, Reading{d, r, account, given})
	}
	if f.With != "" {
		read(f.With, r)
	}
	if f.Index && r.Index != nil {
		read(f.Dataset, r.Index)
	}
	return out
}

func first(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// Health sorts what is not fresh in a table by reason.
type Health struct {
	Groups []HealthGroup
	Fields []FieldHealth
}

// HealthGroup is everything stale or missing for one reason.
type HealthGroup struct {
	State  cell.State
	Reason cell.Reason
	Cells  int
	Names  []NameHealth
}

// NameHealth is what one listing lacks for one reason.
type NameHealth struct {
	Record *Record
	Fields []string
	Detail string
}

// FieldHealth counts the cells of one field by state.
type FieldHealth struct {
	Ref           formula.Ref
	Counts        [4]int
	NotApplicable int // of the missing
}

// Diagnose finds what is stale or missing in the columns of a table, by reason,
// by name and by field. Groups that call for action come first: a value that
// cannot exist, or that only lacks an input, is last.
func (t *Table) Diagnose() Health {
	type key struct {
		state  cell.State
		reason cell.Reason
	}
	groups := map[key]*HealthGroup{}
	h := Health{Fields: make([]FieldHealth, len(t.Program.Columns))}
	for i, c := range t.Program.Columns {
		h.Fields[i].Ref = c.Ref
	}
	for _, row := range t.Rows {
		for i, column := range t.Program.Columns {
			c := &row.Cells[i]
			h.Fields[i].Counts[c.State]++
			if c.Reason == cell.NotApplicable {
				h.Fields[i].NotApplicable++
			}
			if c.State == cell.Fresh {
				continue
			}
			k := key{c.State, c.Reason}
			g := groups[k]
			if g == nil {
				g = &HealthGroup{State: c.State, Reason: c.Reason}
				groups[k] = g
			}
			g.Cells++
			if n := len(g.Names); n == 0 || g.Names[n-1].Record != row.Record {
				g.Names = append(g.Names, NameHealth{Record: row.Record, Detail: c.Detail})
			}
			name := &g.Names[len(g.Names)-1]
			name.Fields = append(name.Fields, column.Ref.String())
		}
	}
	for _, g := range groups {
		h.Groups = append(h.Groups, *g)
	}
	sort.Slice(h.Groups, func(i, j int) bool {
		a, b := h.Groups[i], h.Groups[j]
		if urgency(a.Reason) != urgency(b.Reason) {
			return urgency(a.Reason) < urgency(b.Reason)
		}
		if a.Cells != b.Cells {
			return a.Cells > b.Cells
		}
		return a.Reason < b.Reason || a.Reason == b.Reason && a.State < b.State
	})
	return h
}

// Urgencies of reasons: those a refresh or the user can mend, those to know of,
// those that follow from another, and those where nothing is wrong.
func urgency(r cell.Reason) int {
	switch r {
	case cell.NotApplicable:
		return 3
	case cell.InputMissing:
		return 2
	}
	if slices.Contains([]cell.Reason{cell.Ended, cell.ShortHistory, cell.NotReported}, r) {
		return 1
	}
	return 0
}
