package formula

import (
	"errors"
	"math"
	"testing"

	"soba.invalid/soba/internal/core/cell"
)

type row map[string]cell.Cell

type rowEnv struct {
	expr  *Expr
	cells row
	total cell.Cell
}

func (r rowEnv) Field(i int) *cell.Cell {
	c, ok := r.cells[r.expr.Refs()[i].String()]
	if !ok {
		c = cell.Gap(cell.NotReported, "")
	}
	return &c
}
func (r rowEnv) Total(int) *cell.Cell { return &r.total }

var sample = row{
	"quote.last":      {Value: cell.Of(30), Source: "gannet"},
	"price.close@-1y": {Value: cell.Of(24), State: cell.Stale, Reason: cell.SessionPassed},
	"profile.sector":  {Value: cell.OfText("Ferries")},
	"value.pe":        cell.Gap(cell.NotApplicable, ""),
	"zero":            {Value: cell.Of(0)},
}

func evaluate(t *testing.T, source string) cell.Cell {
	t.Helper()
	e, err := Parse(source)
	if err != nil {
		t.Fatalf("%s: %v", source, err)
	}
	var out cell.Cell
	e.Eval(rowEnv{e, sample, cell.Cell{Value: cell.Of(120)}}, &out)
	return out
}

func TestArithmeticAndPrecedence(t *testing.T) {
	for source, want := range map[string]float64{
		"1 + 2 * 3":                            7,
		"(1 + 2) * 3":                          9,
		"10 - 3 - 2":                           5,
		"2 ^ 3 ^ 2":                            512,
		"-2 ^ 2":                               -4,
		"8 / 4 / 2":                            1,
		"3% * 1.5k + 2m - 0.002bn":             45,
		"quote.last / price.close@-1y - 1":     0.25,
		"or_else(quote.bid, quote.last)":       30,
		"if(quote.last > 20, 1, 2)":            1,
		"abs(quote.last - 50)":                 20,
		"share_of(quote.last)":                 0.25,
		"if(is_missing(value.pe), -1, 1) + .5": -0.5,
	} {
		c := evaluate(t, source)
		if c.Value.Kind != cell.Number || math.Abs(c.Value.Num-want) > 1e-9 {
			t.Errorf("%s = %+v, want %v", source, c, want)
		}
	}
	for source, want := range map[string]bool{
		`profile.sector = "ferries" and quote.last >= 30`:      true,
		`not profile.sector = 'Ferries'`:                       false,
		`quote.last < 3 or quote.last != 30 or 1 <= 1`:         true,
		`not quote.last > 40 and not profile.sector == 'Kelp'`: true,
	} {
		if c := evaluate(t, source); c.Value.IsTrue() != want || c.Value.Kind != cell.Truth {
			t.Errorf("%s = %+v, want %v", source, c, want)
		}
	}
}

func TestTheAccountOfAResult(t *testing.T) {
	for source, want := range map[string]struct {
		state  cell.State
		reason cell.Reason
		detail string
	}{
		"quote.last + 1":                   {cell.Fresh, cell.NoReason, ""},
		"quote.last / price.close@-1y":     {cell.Stale, cell.SessionPassed, ""},
		"quote.last - quote.bid":           {cell.Missing, cell.InputMissing, "quote.bid: not_reported"},
		"quote.last * value.pe":            {cell.Missing, cell.NotApplicable, ""},
		"quote.last / zero":                {cell.Missing, cell.NotApplicable, "division by zero"},
		"(0 - quote.last) ^ 0.5":           {cell.Missing, cell.NotApplicable, "no finite result"},
		"quote.last + profile.sector":      {cell.Missing, cell.NotApplicable, "only numbers can be calculated with"},
		"quote.last = profile.sector":      {cell.Missing, cell.NotApplicable, "a number cannot be compared with a text"},
		"quote.last and profile.sector":    {cell.Missing, cell.NotApplicable, "'and' and 'or' join conditions"},
		"or_else(quote.bid, value.pe) * 2": {cell.Missing, cell.InputMissing, "quote.bid: not_reported"},
	} {
		c := evaluate(t, source)
		if c.State != want.state || c.Reason != want.reason || c.Detail != want.detail || c.Absent() != (want.state == cell.Missing) {
			t.Errorf("%s = %+v", source, c)
		}
	}
}

func TestSyntaxErrorsPointAtTheColumn(t *testing.T) {
	for source, column := range map[string]int{
		"":                      1,
		"1 +":                   4,
		"quote.last > 3 4":      16,
		"(1 + 2":                7,
		"mean(quote.last)":      1,
		"if(1, 2)":              1,
		"quote.last ? 2":        12,
		`é = "open`:             5,
		"3x":                    1,
		"price.close@YESTERDAY": 1,
		"1 + and":               5,
		"share_of(1)":           1,
	} {
		var bad *SyntaxError
		if _, err := Parse(source); !errors.As(err, &bad) || bad.Column != column {
			t.Errorf("Parse(%q): %v, want column %d", source, err, column)
		}
	}
}

func FuzzParse(f *testing.F) {
	for source := range map[string]bool{"1 + 2 * (3 - x.y@FY-1)": true, `a = "b" and not c`: true, "((((": true, "if(1,2,3)": true} {
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, source string) {
		e, err := Parse(source)
		if err != nil {
			_ = err.Error()
			return
		}
		var out cell.Cell
		e.Eval(rowEnv{expr: e, cells: sample}, &out)
		if (out.Value.Kind == cell.None) != (out.State >= cell.Pending) {
			t.Fatalf("%q gives a value without a reason or a reason beside a value: %+v", source, out)
		}
	})
}
