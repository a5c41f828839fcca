package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

type statementsInput struct {
	SymbolInput
	By     string `query:"by" enum:"year,half,quarter,ttm" default:"year"`
	Of     string `query:"of" enum:"all,income,balance,cash" default:"all"`
	Count  int    `query:"count" doc:"How many periods, the newest first" default:"5" minimum:"1" maximum:"40"`
	Growth bool   `query:"growth" doc:"With the growth of each line against the same period a year before"`
	In     string `query:"in" doc:"Convert amounts into one currency" maxLength:"3"`
}

func (s *Server) addStatements() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/statements", "get-statements", "The accounts of an issuer, line by line through time", "history"),
		func(ctx context.Context, in *statementsInput) (*body[wire.Statements], error) {
			r, standing, given, err := s.known(ctx, in.Symbol, catalogue.Statements)
			if err != nil {
				return nil, err
			}
			out := wire.Statements{Listing: s.listing(r.Listing), Standing: standing, By: in.By, Periods: []wire.StatementPeriod{}, Lines: []wire.StatementLine{}}
			if given == nil {
				return answer(out), nil
			}
			now := s.Now()
			to, err := s.conversion(in.In, false, now, func(rows []store.Row) ([]*table.Record, error) { return s.Book.Records(ctx, rows, 0) })
			if err != nil {
				return nil, err
			}
			periods := given.Accounts.Stretches(in.By, in.Count)
			p, err := s.statementProgram(in, periods)
			if err != nil {
				return nil, asProblem(err, "")
			}
			t := p.EvaluateIn(to, []*table.Record{r}, now, s.Limits)
			return answer(statements(out, in, given.Accounts, periods, t)), nil
		})
}

// statementFields are the fields of a statement, in the order of the catalogue: the
// lines, and after them the amounts that are derived from them.
func statementFields(of string) (fields []*catalogue.Field) {
	for _, group := range []string{"income", "balance", "cash"} {
		for i := range catalogue.Fields {
			if f := &catalogue.Fields[i]; f.Takes == catalogue.AFiscal && f.Group() == group && (of == "all" || of == group) {
				fields = append(fields, f)
			}
		}
	}
	return fields
}

// statementProgram is the program of [compileStatement], which is compiled once.
func (s *Server) statementProgram(in *statementsInput, periods []period.Period) (*table.Program, error) {
	key := fmt.Sprint(in.Of, in.By, in.Growth, len(periods)) // they are always the newest
	if p, known := s.programs.Load(key); known {
		return p.(*table.Program), nil
	}
	p, err := compileStatement(in, periods)
	if err == nil {
		s.programs.Store(key, p)
	}
	return p, err
}

// compileStatement makes the program that evaluates each field in each period, and a year
// before it where growth is asked for.
func compileStatement(in *statementsInput, periods []period.Period) (*table.Program, error) {
	seen := map[formula.Ref]bool{}
	var refs []formula.Ref
	add := func(ref formula.Ref) {
		if !seen[ref] {
			seen[ref] = true
			refs = append(refs, ref)
		}
	}
	for _, f := range statementFields(in.Of) {
		for _, p := range periods {
			add(formula.Ref{ID: f.ID, Period: p})
			if in.Growth {
				add(formula.Ref{ID: f.ID, Period: p.Before(1)})
			}
		}
	}
	return table.Compile(refs, "", nil)
}

func statements(out wire.Statements, in *statementsInput, h *statement.History, periods []period.Period, t *table.Table) wire.Statements {
	cells := map[formula.Ref]*cell.Cell{}
	for i, c := range t.Program.Columns {
		cells[c.Ref] = &t.Rows[0].Cells[i]
	}
	out.Currency = h.Currency()
	if in.In != "" {
		out.Currency = in.In
	}
	for _, p := range periods {
		about := wire.StatementPeriod{Period: p.String()}
		for _, id := range []string{"income.net_income", "balance.total_assets"} {
			if r, err := h.Read(statement.At(id), p, 0); err == nil {
				about.Label, about.End, about.Filed, about.Standalone, about.Derived = r.Label, r.End.String(), r.Filed.String(), r.Standalone, r.Derived()
				break
			}
		}
		out.Periods = append(out.Periods, about)
	}
	for _, f := range statementFields(in.Of) {
		line := wire.StatementLine{Field: f.ID, Label: f.Label, Definition: f.Definition, Cells: []wire.Cell{}}
		reported := false
		for _, p := range periods {
			c := cells[formula.Ref{ID: f.ID, Period: p}]
			line.Cells = append(line.Cells, account(c))
			reported = reported || !c.Absent()
			if in.Growth {
				line.Growth = append(line.Growth, grown(c, cells[formula.Ref{ID: f.ID, Period: p.Before(1)}]))
			}
		}
		if reported {
			out.Lines = append(out.Lines, line)
		} else if len(periods) > 0 {
			out.Unreported = append(out.Unreported, strings.ToLower(f.Label))
		}
	}
	return out
}

// grown is the growth of a line; nil where it has none: from nothing, or from below it.
func grown(now, before *cell.Cell) *float64 {
	if now.Absent() || before == nil || before.Absent() || before.Value.Num <= 0 {
		return nil
	}
	x := now.Value.Num/before.Value.Num - 1
	return &x
}
