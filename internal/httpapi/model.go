package httpapi

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/core/valuation"
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
}

// What is assumed where neither the caller nor the history says otherwise.
const (
	assumedGrowth   = 0.03
	assumedTerminal = 0.02
	assumedDiscount = 0.09
	assumedYears    = 5
)

// Growth of the past is carried on within these bounds alone.
const (
	leastGrowth, mostGrowth = -0.05, 0.15
	mostForEver             = 0.04
)

func (s *Server) addModel() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/model", "get-model", "What a share is worth by a model of what it will pay", "history"),
		func(ctx context.Context, in *modelInput) (*body[wire.Model], error) {
			list, err := s.adHoc([]string{in.Symbol})
			if err != nil {
				return nil, err
			}
			l := s.Book.Directory().ByID(list.Rows[0].ListingID)
			t, err := s.evaluate(ctx, list, &TableQuery{Columns: strings.Join(modelFields, ","), In: l.Currency})
			if err != nil {
				return nil, err
			}
			out := wire.Model{Listing: s.listing(l), Of: in.Of, Assumptions: []wire.Assumption{}}
			if !catalogue.Info(catalogue.Statements).Has(l.Kind) {
				out.Refused = "its kind of instrument has no earnings of its own"
				return answer(out), nil
			}
			a := &assuming{t: t, out: &out}
			m, err := a.model(in)
			if err != nil {
				return nil, err
			}
			a.value(m)
			return answer(out), nil
		})
}

// modelFields are what the assumptions are taken from.
var modelFields = []string{
	"price.latest", "cash.free", "cash.free@TTM-5", "income.shares_diluted", "income.eps_diluted", "growth.eps_5y", "growth.revenue_5y", "dividend.forward", "dividend.growth_5y",
}

// assuming collects the assumptions of a model, each with where it is from.
type assuming struct {
	t     *table.Table
	out   *wire.Model
	wrong error
}

func (a *assuming) cell(id string) *cell.Cell {
	for i, c := range a.t.Program.Columns {
		if c.Ref.String() == id {
			return &a.t.Rows[0].Cells[i]
		}
	}
	return &cell.Cell{}
}

// is adds an assumption: what the caller says of it, or else what is found.
func (a *assuming) is(name, unit, said string, found float64, origin string) float64 {
	if said != "" {
		x, err := strconv.ParseFloat(said, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
			a.wrong = problem(http.StatusUnprocessableEntity, problemBadRequest, name, "%q is no number: write rates as fractions, 0.05 for 5 %%", said)
		}
		found, origin = x, "as you say"
	}
	w := wire.Assumption{Name: name, Unit: unit, Origin: origin, Yours: said != ""}
	if !math.IsNaN(found) {
		w.Value = &found
	}
	a.out.Assumptions = append(a.out.Assumptions, w)
	return found
}

// past is a growth of the past within bounds, or what is assumed without one.
func past(c *cell.Cell, what string, least, most float64) (float64, string, bool) {
	if c.Absent() {
		return assumedGrowth, "assumed: " + what + " is not known (" + c.Reason.String() + ")", false
	}
	x, origin := c.Value.Num, what
	if bounded := math.Max(least, math.Min(most, x)); bounded != x {
		origin += fmt.Sprintf(", which was %.1f %%, kept within %.0f and %.0f %%", 100*x, 100*least, 100*most)
		x = bounded
	}
	return x, origin, true
}

// model makes the assumptions.
func (a *assuming) model(in *modelInput) (*valuation.Model, error) {
	m := &valuation.Model{}
	base, origin := math.NaN(), ""
	growth, from := assumedGrowth, ""
	switch in.Of {
	case "cash":
		free, shares := a.cell("cash.free"), a.cell("income.shares_diluted")
		origin = "free cash flow of twelve months, after interest, over diluted shares"
		if !free.Absent() && !shares.Absent() {
			base = free.Value.Num / shares.Value.Num
		} else {
			origin += ": not known"
		}
		before := a.cell("cash.free@TTM-5")
		if !free.Absent() && !before.Absent() && free.Value.Num > 0 && before.Value.Num > 0 {
			five := cell.Cell{Value: cell.Of(math.Pow(free.Value.Num/before.Value.Num, 1./5) - 1)}
			growth, from, _ = past(&five, "growth of free cash flow a year over five years", leastGrowth, mostGrowth)
		} else {
			growth, from, _ = past(a.cell("growth.revenue_5y"), "growth of revenue a year over five years", leastGrowth, mostGrowth)
		}
	case "earnings":
		if c := a.cell("income.eps_diluted"); !c.Absent() {
			base, origin = c.Value.Num, "diluted earnings a share of twelve months"
		} else {
			origin = "diluted earnings a share: " + c.Reason.String()
		}
		growth, from, _ = past(a.cell("growth.eps_5y"), "growth of earnings a share a year over five years", leastGrowth, mostGrowth)
	default:
		if c := a.cell("dividend.forward"); !c.Absent() {
			base, origin = c.Value.Num, "dividends ahead: the last regular amount times its rhythm"
		} else {
			origin = "dividends ahead: " + c.Reason.String()
		}
		most := mostGrowth
		if in.Of == "gordon" {
			most = mostForEver
		}
		growth, from, _ = past(a.cell("dividend.growth_5y"), "growth of dividends a year over five years", leastGrowth, most)
	}
	m.Base = a.is("base", a.out.Currency, in.Base, base, origin)
	if in.Of == "gordon" {
		m.Terminal = a.is("terminal", "percent", in.Terminal, growth, from)
	} else {
		m.Growth = a.is("growth", "percent", in.Growth, growth, from)
		m.Years = int(a.is("years", "years", in.Years, assumedYears, "assumed"))
		terminal := assumedTerminal
		if x, err := strconv.ParseFloat(in.Terminal, 64); err == nil {
			terminal = x
		}
		m.Growth2 = a.is("growth2", "percent", in.Growth2, (m.Growth+terminal)/2, "half way to the growth for ever")
		m.Years2 = int(a.is("years2", "years", in.Years2, assumedYears, "assumed"))
		m.Terminal = a.is("terminal", "percent", in.Terminal, assumedTerminal, "assumed")
	}
	m.Discount = a.is("discount", "percent", in.Discount, assumedDiscount, "assumed")
	return m, a.wrong
}

// Steps by which the grid departs from what is assumed.
var (
	discountSteps = []float64{-0.02, -0.01, 0, 0.01, 0.02}
	growthSteps   = []float64{-0.04, -0.02, 0, 0.02, 0.04}
)

// value reckons the model and what it says of the price.
func (a *assuming) value(m *valuation.Model) {
	if err := m.Check(); err != nil {
		a.out.Refused = err.Error()
		return
	}
	v := m.Value()
	total := v.Total()
	a.out.Value = &total
	a.out.Parts = &wire.ModelParts{Stage1: v.Stage1, Stage2: v.Stage2, Terminal: v.Terminal}
	if c := a.cell("price.latest"); !c.Absent() {
		price := c.Value.Num
		distance := total/price - 1
		a.out.Price, a.out.Distance = &price, &distance
		if g, ok := m.Implied(price); ok {
			a.out.Implied = &g
		}
	}
	growth := m.Growth
	if m.Years == 0 && m.Years2 == 0 {
		growth = m.Terminal
	}
	grid := &wire.ModelGrid{}
	for _, step := range discountSteps {
		grid.Discounts = append(grid.Discounts, m.Discount+step)
	}
	for _, step := range growthSteps {
		grid.Growths = append(grid.Growths, growth+step)
	}
	for _, row := range m.Grid(grid.Discounts, grid.Growths) {
		var values []*float64
		for _, x := range row {
			if math.IsNaN(x) {
				values = append(values, nil)
			} else {
				values = append(values, &x)
			}
		}
		grid.Values = append(grid.Values, values)
	}
	a.out.Grid = grid
}
