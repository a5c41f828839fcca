package httpapi

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

type acrossInput struct {
	Watchlist string `query:"watchlist" doc:"A watchlist or an index" maxLength:"80"`
	Symbols   string `query:"symbols" doc:"Names instead, joined by commas" maxLength:"8000"`
	Fields    string `query:"fields" doc:"Figures of accounts, joined by commas; twelve ratios when left out" maxLength:"8000"`
	By        string `query:"by" enum:"year,half,quarter,ttm" default:"year"`
	Count     int    `query:"count" doc:"How many periods, the newest first" default:"5" minimum:"1" maximum:"20"`
	Common    bool   `query:"common" doc:"Read all to the newest day to which every name has accounts"`
	In        string `query:"in" doc:"Convert amounts into one currency" maxLength:"3"`
}

func (s *Server) addAcross() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/across", "get-across", "Figures of accounts across names, period by period", "tables"),
		func(ctx context.Context, in *acrossInput) (*body[wire.Across], error) {
			list, err := s.readable(ctx, in.Watchlist)
			if in.Symbols != "" {
				list, err = s.adHoc(strings.Split(in.Symbols, ","))
			}
			if err != nil {
				return nil, err
			}
			fields := catalogue.TwelveRatios
			if in.Fields != "" {
				fields = strings.Split(in.Fields, ",")
			}
			now := s.Now()
			var refs []formula.Ref
			for _, id := range fields {
				refs = append(refs, formula.Ref{ID: strings.TrimSpace(id), Period: statement.Back(in.By, in.Count)})
			}
			since := catalogue.Since(refs, period.DateOf(now.UTC()))
			read := func(rows []store.Row) ([]*table.Record, error) { return s.Book.Records(ctx, rows, since) }
			records, err := read(list.Rows)
			if err != nil {
				return nil, asProblem(err, "")
			}
			to, err := s.conversion(in.In, true, now, read)
			if err != nil {
				return nil, err
			}
			a, err := table.AcrossOf(to, records, fields, in.By, in.Count, in.Common, now, s.Limits)
			if err != nil {
				return nil, badRequest(err, "fields")
			}
			return answer(across(s, a)), nil
		})
}

func across(s *Server, a *table.Across) wire.Across {
	out := wire.Across{Fields: []wire.AcrossField{}, Periods: []string{}, Rows: []wire.AcrossRow{}, Omitted: []string{}}
	if a.Common != 0 {
		out.Common = a.Common.String()
	}
	for _, f := range a.Fields {
		out.Fields = append(out.Fields, wire.AcrossField{ID: f.ID, Label: f.Label, Unit: string(f.Unit), Definition: f.Definition})
	}
	for _, p := range a.Periods {
		out.Periods = append(out.Periods, p.String())
	}
	for _, r := range a.Omitted {
		out.Omitted = append(out.Omitted, r.Listing.Symbol.String())
	}
	for i := range a.Rows {
		r := &a.Rows[i]
		row := wire.AcrossRow{Listing: s.listing(r.Record.Listing), Ends: []wire.PeriodEnd{}, Cells: [][]wire.Cell{}}
		for _, e := range r.Ends {
			w := wire.PeriodEnd{Label: e.Label, Apart: e.Apart}
			if e.End != 0 {
				w.End = e.End.String()
			}
			if e.Filed != 0 {
				w.Filed = e.Filed.String()
			}
			row.Ends = append(row.Ends, w)
		}
		for _, cells := range r.Cells {
			line := []wire.Cell{}
			for k := range cells {
				line = append(line, account(&cells[k]))
			}
			row.Cells = append(row.Cells, line)
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}
