package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/shopspring/decimal"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// ListInput names a watchlist. Huma reads embedded inputs only when they are exported.
type ListInput struct {
	Name string `path:"name" doc:"Name of the watchlist, in any case" maxLength:"80"`
}

// EditInput names a watchlist to be changed, and the version the change is based on.
type EditInput struct {
	ListInput
	IfMatch string `header:"If-Match" doc:"The version the change is based on; when it is no longer the newest, nothing is changed"`
}

// basedOn reads If-Match: a version in quotation marks, * or nothing for any.
func (in *EditInput) basedOn() (int64, error) {
	text := strings.Trim(strings.TrimPrefix(in.IfMatch, "W/"), `"`)
	if text == "" || text == "*" {
		return 0, nil
	}
	version, err := strconv.ParseInt(text, 10, 64)
	if err != nil || version <= 0 {
		return 0, problem(http.StatusBadRequest, problemBadRequest, "If-Match", "%q is not a version: send the number of the watchlist's version in quotation marks", in.IfMatch)
	}
	return version, nil
}

type listOutput struct {
	ETag string `header:"ETag"`
	Body wire.Watchlist
}

func listAnswer(w store.Watchlist) *listOutput {
	return &listOutput{fmt.Sprintf(`"%d"`, w.Version), watchlist(w)}
}

func watchlist(w store.Watchlist) wire.Watchlist {
	return wire.Watchlist{Name: w.Name, Version: w.Version, Rows: w.Rows, Held: w.Held, Changed: w.ChangedAt.UTC()}
}

// NewList names a watchlist to be.
type NewList struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"80" doc:"Letters, digits, spaces, dashes and underscores"`
	}
}

// cleanName keeps names usable in addresses and on a command line.
func cleanName(name string) (string, error) {
	name = strings.TrimSpace(name)
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\\?#%\"<>|*\x00\n\r\t") {
		return "", hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "name", "%q cannot name a watchlist", name), "Use letters, digits, spaces, dashes and underscores.")
	}
	return name, nil
}

func (s *Server) addWatchlists() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists", "list-watchlists", "All watchlists", "watchlists"),
		func(ctx context.Context, _ *struct{}) (*body[wire.Watchlists], error) {
			all, err := s.Store.Watchlists(ctx)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := wire.Watchlists{Watchlists: make([]wire.Watchlist, len(all))}
			for i, w := range all {
				out.Watchlists[i] = watchlist(w)
			}
			return answer(out), nil
		})
	create := operation(http.MethodPost, "/api/v1/watchlists", "new-watchlist", "Make an empty watchlist", "watchlists")
	create.DefaultStatus = http.StatusCreated
	huma.Register(s.api, create, func(ctx context.Context, in *NewList) (*listOutput, error) {
		return s.named(in.Body.Name, func(name string) (store.Watchlist, error) { return s.Store.CreateWatchlist(ctx, name, s.Now()) })
	})
	copyOp := operation(http.MethodPost, "/api/v1/watchlists/{name}/copy", "copy-watchlist", "Make a copy under another name", "watchlists")
	copyOp.DefaultStatus = http.StatusCreated
	huma.Register(s.api, copyOp, func(ctx context.Context, in *struct {
		ListInput
		NewList
	},
	) (*listOutput, error) {
		from, err := s.list(ctx, in.ListInput.Name)
		if err != nil {
			return nil, err
		}
		return s.named(in.Body.Name, func(name string) (store.Watchlist, error) {
			return s.Store.CopyWatchlist(ctx, from.Watchlist, name, s.Now())
		})
	})
	huma.Register(s.api, operation(http.MethodPost, "/api/v1/watchlists/{name}/restore", "restore-watchlist", "Bring a deleted watchlist back", "watchlists"),
		func(ctx context.Context, in *ListInput) (*listOutput, error) {
			return s.named(in.Name, func(name string) (store.Watchlist, error) { return s.Store.RestoreWatchlist(ctx, name, s.Now()) })
		})
	huma.Register(s.api, operation(http.MethodPatch, "/api/v1/watchlists/{name}", "rename-watchlist", "Rename a watchlist", "watchlists"),
		func(ctx context.Context, in *struct {
			EditInput
			NewList
		},
		) (*listOutput, error) {
			name, err := cleanName(in.Body.Name)
			if err != nil {
				return nil, err
			}
			return s.edit(ctx, &in.EditInput, func(e *store.Editor) error { return e.Rename(name) })
		})
	huma.Register(s.api, operation(http.MethodDelete, "/api/v1/watchlists/{name}", "delete-watchlist", "Put a watchlist away; restore brings it back", "watchlists"),
		func(ctx context.Context, in *EditInput) (*struct{}, error) {
			_, err := s.edit(ctx, in, func(e *store.Editor) error { return e.Delete() })
			return nil, err
		})
	s.addRows()
}

// named makes a watchlist under a clean name.
func (s *Server) named(name string, make func(string) (store.Watchlist, error)) (*listOutput, error) {
	name, err := cleanName(name)
	if err != nil {
		return nil, err
	}
	w, err := make(name)
	s.Book.ForgetLists()
	if err != nil {
		return nil, asProblem(err, "name")
	}
	return listAnswer(w), nil
}

// list finds a watchlist; the problem names those that there are.
func (s *Server) list(ctx context.Context, name string) (*store.List, error) {
	list, err := s.Book.List(ctx, name)
	if err == nil {
		return list, nil
	}
	p := asProblem(err, "name")
	if p.Type == problemNotFound {
		p.Detail = fmt.Sprintf("there is no watchlist %q", name)
		p.Hint = "Make it with 'soba watchlist new'."
		if all, err := s.Store.Watchlists(ctx); err == nil && len(all) > 0 {
			names := make([]string, len(all))
			for i, w := range all {
				names[i] = w.Name
			}
			p.Hint = "There are: " + strings.Join(names, ", ") + "."
		}
	}
	return nil, p
}

// readable finds a list to read: a watchlist, or under the symbol of an index its
// members, or under that of another listing this alone. Only a watchlist has an ID.
func (s *Server) readable(ctx context.Context, name string) (*store.List, error) {
	list, err := s.list(ctx, name)
	if err == nil || !strings.ContainsAny(name, "./") {
		return list, err
	}
	l, unknown := s.Book.Directory().Resolve(name)
	if unknown != nil {
		return nil, err
	}
	list = &store.List{Watchlist: store.Watchlist{Name: l.Symbol.String()}, Rows: []store.Row{{ListingID: l.ID}}}
	if l.Kind != market.Index {
		return list, nil
	}
	records, err := s.Book.Records(ctx, list.Rows, 0)
	if err != nil {
		return nil, asProblem(err, "")
	}
	list.Rows = nil
	g, _ := records[0].Pick(catalogue.Universes, s.Now(), s.Limits)
	if g == nil {
		return nil, hinted(problem(http.StatusNotFound, problemNotFound, "name", "the members of %s are not known yet", l.Symbol), fmt.Sprintf("Fetch them and what is due for them: 'soba refresh %s'.", l.Symbol))
	}
	for _, e := range g.Entries {
		if member, err := s.Book.Directory().Resolve(e.Values[0].Text); err == nil {
			list.Rows = append(list.Rows, store.Row{ListingID: member.ID})
		}
	}
	return list, nil
}

func (s *Server) edit(ctx context.Context, in *EditInput, change func(*store.Editor) error) (*listOutput, error) {
	list, err := s.list(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	version, err := in.basedOn()
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Edit(ctx, list.Watchlist, version, s.Now(), change)
	s.Book.ForgetLists()
	if err != nil {
		return nil, asProblem(err, "")
	}
	return listAnswer(w), nil
}

// RowInput names a row of a watchlist.
type RowInput struct {
	EditInput
	Symbol string `path:"symbol" doc:"Symbol; a pair is EUR-USD" maxLength:"60"`
}

type rowChange struct {
	Quantity *string `json:"quantity,omitempty" doc:"Decimal; empty to watch only" maxLength:"40"`
	Cost     *string `json:"cost,omitempty" doc:"Decimal, for one share or unit; empty for unknown" maxLength:"40"`
	Position *int    `json:"position,omitempty" minimum:"0" doc:"Counted from 0"`
}

func (s *Server) addRows() {
	type rowsOutput struct {
		ETag string `header:"ETag"`
		Body wire.Rows
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists/{name}", "get-watchlist", "A watchlist with its rows", "watchlists"),
		func(ctx context.Context, in *ListInput) (*rowsOutput, error) {
			list, err := s.list(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			out := wire.Rows{Watchlist: watchlist(list.Watchlist), Listings: []wire.Row{}}
			directory := s.Book.Directory()
			for _, r := range list.Rows {
				if l := directory.ByID(r.ListingID); l != nil {
					out.Listings = append(out.Listings, wire.Row{Listing: s.listing(l), Quantity: text(r.Quantity), Cost: text(r.Cost), Added: r.AddedAt.UTC()})
				}
			}
			return &rowsOutput{fmt.Sprintf(`"%d"`, list.Version), out}, nil
		})
	type addInput struct {
		EditInput
		Body struct {
			Rows []wire.NewRow `json:"rows" minItems:"1" maxItems:"10000"`
		}
	}
	huma.Register(s.api, operation(http.MethodPost, "/api/v1/watchlists/{name}/rows", "add-rows", "Add listings; those that fail are reported, the others go in", "watchlists"),
		func(ctx context.Context, in *addInput) (*body[wire.Added], error) {
			return s.addTo(ctx, &in.EditInput, in.Body.Rows)
		})
	type changeInput struct {
		RowInput
		Body rowChange
	}
	huma.Register(s.api, operation(http.MethodPatch, "/api/v1/watchlists/{name}/rows/{symbol}", "change-row", "Set quantity and cost, or move a row", "watchlists"),
		func(ctx context.Context, in *changeInput) (*listOutput, error) {
			return s.changeRow(ctx, &in.RowInput, in.Body)
		})
	huma.Register(s.api, operation(http.MethodDelete, "/api/v1/watchlists/{name}/rows/{symbol}", "remove-row", "Take a listing out of a watchlist", "watchlists"),
		func(ctx context.Context, in *RowInput) (*listOutput, error) {
			l, _, err := s.row(ctx, in)
			if err != nil {
				return nil, err
			}
			return s.edit(ctx, &in.EditInput, func(e *store.Editor) error { return e.Remove(l.ID) })
		})
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// amount checks a decimal that a person typed; "" is no amount.
func amount(typed, field string) (*string, error) {
	typed = strings.TrimSpace(typed)
	if typed == "" {
		return nil, nil
	}
	d, err := decimal.NewFromString(typed)
	if err != nil || len(typed) > 40 || d.Exponent() > 20 || d.Exponent() < -20 {
		return nil, hinted(problem(http.StatusUnprocessableEntity, problemNumber, field, "the %s %q is not a number", field, typed), "Write it with a point and without separators, as 1250.50.")
	}
	if d.IsNegative() || field == "quantity" && d.IsZero() {
		return nil, hinted(problem(http.StatusUnprocessableEntity, problemNumber, field, "the %s %s is not above zero", field, typed), "Leave the quantity empty to watch without holding.")
	}
	exact := d.StringFixed(max(0, -d.Exponent())) // 21.40 stays 21.40
	return &exact, nil
}

func (s *Server) addTo(ctx context.Context, in *EditInput, rows []wire.NewRow) (*body[wire.Added], error) {
	added, problems := []string{}, []wire.RowProblem{}
	fail := func(i int, err error) {
		problems = append(problems, wire.RowProblem{Index: i, Symbol: rows[i].Symbol, Problem: asProblem(err, "symbol")})
	}
	directory := s.Book.Directory()
	out, err := s.edit(ctx, in, func(e *store.Editor) error {
		for i, r := range rows {
			l, err := directory.Resolve(r.Symbol)
			if err != nil {
				fail(i, err)
				continue
			}
			row := store.Row{ListingID: l.ID}
			if row.Quantity, err = amount(r.Quantity, "quantity"); err == nil {
				row.Cost, err = amount(r.Cost, "cost")
			}
			if err == nil && row.Cost != nil && row.Quantity == nil {
				err = hinted(problem(http.StatusUnprocessableEntity, problemNumber, "quantity", "there is a cost but no quantity"), "Give both to hold it, neither to watch it.")
			}
			if err != nil {
				fail(i, err)
				continue
			}
			position := -1
			if r.Position != nil {
				position = *r.Position
			}
			fresh, err := e.Add(row, position)
			if err != nil {
				return err
			}
			if !fresh {
				fail(i, hinted(problem(http.StatusConflict, problemDuplicate, "symbol", "%s is in the watchlist already", l.Symbol), "Set its quantity and cost with 'soba watchlist set'."))
				continue
			}
			added = append(added, l.Symbol.String())
		}
		if len(added) == 0 {
			if len(problems) == 1 {
				return problems[0].Problem
			}
			p := problem(http.StatusUnprocessableEntity, problemBadRequest, "rows", "none of the %d rows could be added", len(rows))
			for _, rp := range problems {
				p.Errors = append(p.Errors, wire.ProblemError{Message: rp.Problem.Detail, Location: fmt.Sprintf("rows[%d]", rp.Index), Value: rp.Symbol})
			}
			return p
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return answer(wire.Added{Watchlist: out.Body, Added: added, Problems: problems}), nil
}

// row finds a listing and its row in a watchlist.
func (s *Server) row(ctx context.Context, in *RowInput) (*market.Listing, *store.Row, error) {
	l, err := s.Book.Directory().Resolve(in.Symbol)
	if err != nil {
		return nil, nil, asProblem(err, "symbol")
	}
	list, err := s.list(ctx, in.Name)
	if err != nil {
		return nil, nil, err
	}
	for i := range list.Rows {
		if list.Rows[i].ListingID == l.ID {
			row := list.Rows[i]
			return l, &row, nil
		}
	}
	return nil, nil, hinted(problem(http.StatusNotFound, problemNotFound, "symbol", "%s is not in the watchlist %s", l.Symbol, list.Name), "Add it with 'soba watchlist add'.")
}

func (s *Server) changeRow(ctx context.Context, in *RowInput, change rowChange) (*listOutput, error) {
	l, row, err := s.row(ctx, in)
	if err != nil {
		return nil, err
	}
	if change.Quantity != nil {
		if row.Quantity, err = amount(*change.Quantity, "quantity"); err != nil {
			return nil, err
		}
		if row.Quantity == nil {
			row.Cost = nil
		}
	}
	if change.Cost != nil {
		if row.Cost, err = amount(*change.Cost, "cost"); err != nil {
			return nil, err
		}
		if row.Cost != nil && row.Quantity == nil {
			return nil, hinted(problem(http.StatusUnprocessableEntity, problemNumber, "quantity", "there is a cost but no quantity"), "Give both to hold it, neither to watch it.")
		}
	}
	return s.edit(ctx, &in.EditInput, func(e *store.Editor) error {
		if change.Quantity != nil || change.Cost != nil {
			if err := e.Set(*row); err != nil {
				return err
			}
		}
		if change.Position != nil {
			return e.Move(l.ID, *change.Position)
		}
		return nil
	})
}
