package httpapi

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/intake"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// largestImport is the largest list that is taken, in bytes.
const largestImport = 8 << 20

func (s *Server) addImports() {
	type importInput struct {
		EditInput
		Columns     string `query:"columns" doc:"Which column is which, as symbol=Code,quantity=Qty; guessed when left out, none when empty, as cost=" maxLength:"1000"`
		DryRun      bool   `query:"dry_run" doc:"Show what would be added, and add nothing"`
		ContentType string `header:"Content-Type"`
		RawBody     []byte `contentType:"text/csv"`
	}
	op := operation(http.MethodPost, "/api/v1/watchlists/{name}/import", "import-rows", "Add the rows of a CSV or XLSX file; lines that fail are reported, the others go in", "watchlists")
	op.MaxBodyBytes = largestImport
	op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"text/csv": {Schema: &huma.Schema{Type: "string"}},
		"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
	}}
	huma.Register(s.api, op, func(ctx context.Context, in *importInput) (*body[wire.Imported], error) {
		columns := map[intake.Role]string{}
		for _, pair := range strings.FieldsFunc(in.Columns, func(c rune) bool { return c == ',' }) {
			role, header, ok := strings.Cut(pair, "=")
			if !ok {
				return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "columns", "%q does not say which column is which: write it as symbol=Code", pair)
			}
			columns[intake.Role(strings.TrimSpace(role))] = strings.TrimSpace(header)
		}
		list, err := intake.Read(in.RawBody, columns)
		if err != nil {
			return nil, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "body", "%s", err), "The file is CSV or XLSX with a header; columns can be named, as symbol=Code,quantity=Qty.")
		}
		out := wire.Imported{Columns: map[string]string{}, Headers: list.Headers, DryRun: in.DryRun}
		for role, header := range list.Columns {
			out.Columns[string(role)] = header
		}
		return s.take(ctx, &in.EditInput, list.Lines, out)
	})
	type membersInput struct {
		EditInput
		Body struct {
			Universe string `json:"universe" doc:"Symbol of an index" maxLength:"60"`
		}
	}
	huma.Register(s.api, operation(http.MethodPost, "/api/v1/watchlists/{name}/members", "add-members", "Add the members of an index", "watchlists"),
		func(ctx context.Context, in *membersInput) (*body[wire.Imported], error) {
			members, err := s.members(ctx, in.Body.Universe)
			if err != nil {
				return nil, err
			}
			lines := make([]intake.Line, len(members.Members))
			for i, m := range members.Members {
				lines[i] = intake.Line{Number: i + 1, Text: m.Symbol, Name: m.Symbol}
			}
			return s.take(ctx, &in.EditInput, lines, wire.Imported{Headers: []string{}, Columns: map[string]string{}})
		})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/members", "get-members", "The members of an index, fetched when they are not known yet", "listings"),
		func(ctx context.Context, in *SymbolInput) (*body[wire.Members], error) {
			members, err := s.members(ctx, in.Symbol)
			if err != nil {
				return nil, err
			}
			return answer(*members), nil
		})
}

// take adds lines to a watchlist. What is there already gets the quantity and
// cost of its line.
func (s *Server) take(ctx context.Context, in *EditInput, lines []intake.Line, out wire.Imported) (*body[wire.Imported], error) {
	list, err := s.list(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	directory := s.Book.Directory()
	present := map[int64]bool{}
	for _, r := range list.Rows {
		present[r.ListingID] = true
	}
	var rows []store.Row
	seen := map[int64]int{}
	for _, line := range lines {
		told := wire.ImportedLine{Line: line.Number, Text: line.Text, Quantity: line.Quantity, Cost: line.Cost, Problem: line.Problem}
		l, row, err := rowOf(directory, &line)
		if line.Problem == "" && err == nil && seen[l.ID] != 0 {
			err = problem(http.StatusConflict, problemDuplicate, "symbol", "%s stands in line %d already", l.Symbol, seen[l.ID])
		}
		switch {
		case line.Problem != "":
		case err != nil:
			p := asProblem(err, "symbol")
			told.Problem, told.Hint = p.Detail, p.Hint
		default:
			seen[l.ID] = line.Number
			told.Symbol, told.Name, told.Present = l.Symbol.String(), l.Name, present[l.ID]
			rows = append(rows, row)
		}
		if told.Problem != "" {
			out.Problems++
		} else if told.Present {
			out.Present++
		} else {
			out.Added++
		}
		out.Lines = append(out.Lines, told)
	}
	out.Watchlist = watchlist(list.Watchlist)
	if out.DryRun || len(rows) == 0 {
		return answer(out), nil
	}
	changed, err := s.edit(ctx, in, func(e *store.Editor) error {
		for _, row := range rows {
			if !present[row.ListingID] {
				if _, err := e.Add(row, -1); err != nil {
					return err
				}
			} else if row.Quantity != nil {
				if err := e.Set(row); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out.Watchlist = changed.Body
	return answer(out), nil
}

func rowOf(directory *market.Directory, line *intake.Line) (*market.Listing, store.Row, error) {
	if line.Problem != "" {
		return nil, store.Row{}, errors.New(line.Problem)
	}
	l, err := directory.Resolve(line.Name)
	if err != nil && line.Exchange != "" {
		// An ISIN of several exchanges, told apart by another column.
		var several *market.AmbiguousError
		if errors.As(err, &several) {
			if i := slices.IndexFunc(several.Candidates, func(c *market.Listing) bool { return c.Symbol.Exchange == line.Exchange }); i >= 0 {
				l, err = several.Candidates[i], nil
			}
		}
	}
	if err != nil {
		return nil, store.Row{}, err
	}
	row := store.Row{ListingID: l.ID}
	if row.Quantity, err = amount(line.Quantity, "quantity"); err == nil && row.Quantity != nil {
		row.Cost, err = amount(line.Cost, "cost")
	}
	return l, row, err
}

// patience is how long a call waits for something that is fetched on its account.
const patience = 20 * time.Second

// members finds the members of an index, and has them fetched when they are not
// known or no longer fresh.
func (s *Server) members(ctx context.Context, symbol string) (*wire.Members, error) {
	l, err := s.Book.Directory().Resolve(symbol)
	if err != nil {
		return nil, asProblem(err, "universe")
	}
	if l.Kind != market.Index {
		return nil, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "universe", "%s is a %s, which has no members", l.Symbol, l.Kind), "Name an index; 'soba lookup' finds one.")
	}
	rows := []store.Row{{ListingID: l.ID}}
	for fetched := false; ; fetched = true {
		records, err := s.Book.Records(ctx, rows, 0)
		if err != nil {
			return nil, asProblem(err, "")
		}
		g, verdict := records[0].Pick(catalogue.Universes, s.Now(), s.Limits)
		if g != nil && (!verdict.Stale || fetched) {
			out := &wire.Members{Symbol: l.Symbol.String(), Name: l.Name, Source: g.Source, Members: []wire.Member{}}
			for _, e := range g.Entries {
				m := wire.Member{Symbol: e.Values[0].Text, Weight: e.Values[1].Num}
				if x, err := s.Book.Directory().Resolve(m.Symbol); err == nil {
					m.Name = x.Name
				}
				out.Members = append(out.Members, m)
			}
			return out, nil
		}
		if fetched {
			return nil, hinted(problem(http.StatusBadGateway, problemNotFound, "universe", "the members of %s could not be fetched", l.Symbol), "See 'soba requests' for what the source said.")
		}
		if err := s.fetchNow(ctx, l.ID, catalogue.Universes); err != nil {
			return nil, err
		}
	}
}

// fetchNow brings one dataset of one listing, and waits for it.
func (s *Server) fetchNow(ctx context.Context, listing int64, d catalogue.Dataset) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r, err := s.Engine.Ask(ctx, store.Asked{Listings: []int64{listing}, Datasets: []catalogue.Dataset{d}, Cause: store.ByTable})
	if err != nil {
		return asProblem(err, "")
	}
	happened, stop := s.Book.Listen(func(what string, id int64) bool { return what == "refresh" && id == r.ID })
	defer stop()
	for !r.Over() {
		select {
		case <-happened:
		case <-ctx.Done():
			return problem(http.StatusGatewayTimeout, problemNotFound, "", "the source takes too long; ask again in a moment")
		}
		if r, err = s.Store.Refresh(ctx, r.ID); err != nil {
			return asProblem(err, "")
		}
	}
	return asNil(s.Book.CatchUp(ctx))
}

func asNil(err error) error {
	if err == nil {
		return nil
	}
	return asProblem(err, "")
}
