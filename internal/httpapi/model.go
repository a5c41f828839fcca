package httpapi

import (
	"context"
	"errors"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/valuation"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

type modelInput struct {
	SymbolInput
	Of       string `query:"of" enum:"cash,earnings,dividends,gordon" default:"cash" doc:"What is discounted: free cash flow, earnings or dividends in two stages; gordon: dividends that grow alike for ever"`
	Base     string `query:"base" doc:"Payment of the past year, a share" maxLength:"30"`
	Growth   string `query:"growth" doc:"Growth of the first stage a year, as 0.05" maxLength:"30"`
	Years    string `query:"years" doc:"Years of the first stage" maxLength:"3"`
	Growth2  string `query:"growth2" doc:"Growth of the second stage a year" maxLength:"30"`
	Years2   string `query:"years2" doc:"Years of the second stage" maxLength:"3"`
	Terminal string `query:"terminal" doc:"Growth after both, for ever" maxLength:"30"`
	Discount string `query:"discount" doc:"Rate at which payments are discounted" maxLength:"30"`
	Plain    bool   `query:"plain" doc:"Leave out what is saved with the name"`
}

// said are the assumptions that the caller makes.
func (in *modelInput) said() (map[string]valuation.Said, error) {
	out := map[string]valuation.Said{}
	for name, text := range map[string]string{
		"base": in.Base, "growth": in.Growth, "years": in.Years, "growth2": in.Growth2, "years2": in.Years2, "terminal": in.Terminal, "discount": in.Discount,
	} {
		if text == "" {
			continue
		}
		x, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
			return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, name, "%q is no number: write rates as fractions, 0.05 for 5 %%", text)
		}
		out[name] = valuation.Said{Value: x}
	}
	return out, nil
}

func (s *Server) addModel() {
	const path = "/api/v1/listings/{symbol}/model"
	huma.Register(s.api, operation(http.MethodGet, path, "get-model", "What a share is worth by a model of what it will pay", "history"),
		func(ctx context.Context, in *modelInput) (*body[wire.Model], error) {
			said, err := in.said()
			if err != nil {
				return nil, err
			}
			return s.model(ctx, in.Symbol, in.Of, said, !in.Plain)
		})
	type saveInput struct {
		SymbolInput
		Body wire.ModelSaved
	}
	huma.Register(s.api, operation(http.MethodPut, path, "save-model", "Keep the assumptions of a model with the name; none take them away", "history"),
		func(ctx context.Context, in *saveInput) (*body[wire.Model], error) {
			list, err := s.adHoc([]string{in.Symbol})
			if err != nil {
				return nil, err
			}
			for name := range in.Body.Assumptions {
				if !slices.Contains(valuation.Names, name) {
					return nil, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "assumptions", "a model has no assumption %q", name), "There are "+strings.Join(valuation.Names, ", ")+".")
				}
			}
			if err := s.Store.SaveModel(ctx, list.Rows[0].ListingID, in.Body.Of, in.Body.Assumptions, s.Now()); err != nil {
				return nil, asProblem(err, "")
			}
			return s.model(ctx, in.Symbol, in.Body.Of, map[string]valuation.Said{}, true)
		})
}

// model values a share by what the caller says, what is saved with the name where that is
// wanted, and the history for the rest.
func (s *Server) model(ctx context.Context, symbol, method string, said map[string]valuation.Said, saved bool) (*body[wire.Model], error) {
	list, err := s.adHoc([]string{symbol})
	if err != nil {
		return nil, err
	}
	l := s.Book.Directory().ByID(list.Rows[0].ListingID)
	out := wire.Model{Listing: s.listing(l), Of: method, Assumptions: []wire.Assumption{}}
	if !catalogue.Info(catalogue.Statements).Has(l.Kind) {
		out.Refused = "its kind of instrument has no earnings of its own"
		return answer(out), nil
	}
	if saved {
		kept, err := s.Store.Model(ctx, l.ID, method)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, asProblem(err, "")
		}
		for name, x := range kept.Assumptions {
			if _, now := said[name]; !now {
				said[name] = valuation.Said{Value: x, When: "saved on " + kept.At.UTC().Format(time.DateOnly)}
			}
			out.Saved = moment(kept.At)
		}
	}
	t, err := s.evaluate(ctx, list, &TableQuery{Columns: strings.Join(valuation.Fields, ","), In: l.Currency})
	if err != nil {
		return nil, err
	}
	cells := map[string]*cell.Cell{}
	for i, c := range t.Program.Columns {
		cells[c.Ref.String()] = &t.Rows[0].Cells[i]
	}
	m, assumptions := valuation.Assume(valuation.Kind(method), func(id string) *cell.Cell { return cells[id] }, said)
	for _, x := range assumptions {
		out.Assumptions = append(out.Assumptions, assumption(x, l.Currency))
	}
	valued(&out, &m, cells["price.latest"])
	return answer(out), nil
}

func assumption(x valuation.Assumption, currency string) wire.Assumption {
	unit := map[string]string{"base": currency, "years": "years", "years2": "years"}[x.Name]
	if unit == "" {
		unit = string(catalogue.Percent)
	}
	return wire.Assumption{Name: x.Name, Value: finite(x.Value), Unit: unit, Origin: x.Origin, Yours: x.Yours}
}

// finite is a number for JSON, which has none that is not; nil for that.
func finite(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// valued adds what a share is worth and what that says of its price.
func valued(out *wire.Model, m *valuation.Model, price *cell.Cell) {
	if err := m.Check(); err != nil {
		out.Refused = err.Error()
		return
	}
	v := m.Value()
	total := v.Total()
	out.Value = &total
	out.Parts = &wire.ModelParts{Stage1: v.Stage1, Stage2: v.Stage2, Terminal: v.Terminal}
	if !price.Absent() {
		out.Price, out.Distance = finite(price.Value.Num), finite(total/price.Value.Num-1)
		if g, ok := m.Implied(price.Value.Num); ok {
			out.Implied = &g
		}
	}
	out.Grid = &wire.ModelGrid{}
	out.Grid.Discounts, out.Grid.Growths = m.Around()
	for _, row := range m.Grid(out.Grid.Discounts, out.Grid.Growths) {
		var values []*float64
		for _, x := range row {
			values = append(values, finite(x))
		}
		out.Grid.Values = append(out.Grid.Values, values)
	}
}
