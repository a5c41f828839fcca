package formula

import (
	"errors"
	"fmt"
	"math"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/cell"
)

type row map[string]cell.Cell

type rowEnv struct {
	expr  *Expr
	cells row
	total cell.Cell
	*Scratch
}

func (r rowEnv) Field(i int) *cell.Cell {
	c, ok := r.cells[r.expr.Refs()[i].String()]
	if !ok {
		c = cell.Gap(cell.NotReported, "")
	}
	return &c
}
func (r rowEnv) Ref(i int) Ref        { return r.expr.Refs()[i] }
func (r rowEnv) Total(int) *cell.Cell { return &r.total }

// Convert makes two of one.
func (r rowEnv) Convert(c *cell.Cell, from, to string) { c.Value.Num *= 2; c.Detail = from + ">" + to }

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
	e.Eval(rowEnv{e, sample, cell.Cell{Value: cell.Of(120)}, &Scratch{}}, &out)
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
		"over(quote.last, 12)":                 2.5,
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
		"over(quote.last, zero - 1)":       {cell.Missing, cell.NotApplicable, "what it is divided by is not above zero"},
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
		"":                       1,
		"1 +":                    4,
		"quote.last > 3 4":       16,
		"(1 + 2":                 7,
		"mean(quote.last)":       1,
		"if(1, 2)":               1,
		"quote.last ? 2":         12,
		`é = "open`:              5,
		"3x":                     1,
		"price.close@YESTERDAY":  1,
		"1 + and":                5,
		"share_of(1)":            1,
		`in(quote.last, "EURO")`: 16,
		"in(quote.last, 3)":      16,
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
		e.Eval(rowEnv{expr: e, cells: sample, Scratch: &Scratch{}}, &out)
		if (out.Value.Kind == cell.None) != (out.State >= cell.Pending) {
			t.Fatalf("%q gives a value without a reason or a reason beside a value: %+v", source, out)
		}
	})
}

func unitOf(ref Ref) Unit {
	return map[string]Unit{
		"price": AmountIn(Own), "cost": AmountIn(Own), "debt": AmountIn("GBP"), "sales": AmountIn(Accounts), "ex": {Dimension: Moment}, "pay": {Dimension: Moment}, "seen": {Dimension: Moment}, "sector": {Dimension: Text},
	}[ref.ID]
}

func TestUnitsOfFormulas(t *testing.T) {
	for source, want := range map[string]string{
		"price / cost - 1":                   "a number",
		"price - cost":                       "an amount in each listing's own currency",
		"price * shares + 5":                 "an amount in each listing's own currency",
		"(price * price) ^ 0.5":              "an amount in each listing's own currency",
		"price ^ 2":                          "an amount in each listing's own currency, to the power 2",
		"1 / price * cost":                   "a number",
		`in(price, "EUR") + in(debt, "EUR")`: "an amount in EUR",
		`in(price, "GBP") - debt`:            "an amount in GBP",
		"or_else(price, 3)":                  "an amount in each listing's own currency",
		"if(price > 3, sector, \"-\")":       "a text",
		"pay - ex":                           "a number",
		"ex + 30":                            "a date",
		"share_of(price) > 5%":               "a condition",
		`ex > "2026-01-31" and ex != pay`:    "a condition",
		"2 * 3":                              "a number",
		"over(price, own(sales))":            "a number",
		"own(sales) - price":                 "an amount in each listing's own currency",
		"sales / sales":                      "a number",
	} {
		e, err := Parse(source)
		if err != nil {
			t.Fatal(err)
		}
		if u, err := e.Check(unitOf); err != nil || u.String() != want {
			t.Errorf("%s is %s (%v), want %s", source, u, err, want)
		}
	}
	for source, want := range map[string]string{
		"price + debt":                       `1: price is an amount in each listing's own currency and debt is an amount in GBP: write in(price, "GBP")`,
		`debt > in(price, "EUR")`:            `1: debt is an amount in GBP and in(price, "EUR") is an amount in EUR: write in(price, "GBP")`,
		"price * price + debt * debt":        "1: price * price is an amount in each listing's own currency, to the power 2 and debt * debt is an amount in GBP, to the power 2: convert one before",
		"1 + price / debt":                   `5: price is an amount in each listing's own currency and debt is an amount in GBP: write in(price, "GBP")`,
		"price / sales":                      "1: price is an amount in each listing's own currency and sales is an amount in the currency of the accounts: write own(sales)",
		"own(shares)":                        "5: own() converts an amount, and shares is a number",
		"price + shares":                     "1: price is an amount in each listing's own currency and shares is a number: the two do not go together",
		"price > shares and 1 < 2":           "1: price is an amount in each listing's own currency and shares is a number: the two do not go together",
		"3 * sector":                         "5: only numbers can be calculated with, and sector is a text",
		"ex + pay":                           "1: only numbers can be calculated with, and ex is a date",
		`in(shares, "EUR")`:                  "4: in() converts an amount, and shares is a number",
		`ex > "soon"`:                        `6: "soon" is not a date: write it as "2026-01-31"`,
		"price and 1 > 2":                    "1: 'and', 'or' and 'not' join conditions, and price is an amount in each listing's own currency",
		"if(price, 1, 2)":                    "4: if() wants a condition first, not an amount in each listing's own currency",
		"or_else(price, sector)":             "1: price is an amount in each listing's own currency and sector is a text: the two do not go together",
		"cost ^ shares":                      "8: the exponent of an amount must be a number",
		`not (1 > 2) and -sector = "Kelp"`:   "18: only numbers can be calculated with, and sector is a text",
		`abs(in(debt, "EUR") - debt) > 1000`: `5: in(debt, "EUR") is an amount in EUR and debt is an amount in GBP: write in(debt, "EUR")`,
	} {
		e, err := Parse(source)
		if err != nil {
			t.Fatal(err)
		}
		_, err = e.Check(unitOf)
		var bad *SyntaxError
		if !errors.As(err, &bad) || fmt.Sprintf("%d: %s", bad.Column, bad.Problem) != want {
			t.Errorf("%s: %v, want %s", source, err, want)
		}
	}
	for source, wrong := range map[string]bool{"price > 3": false, "price": true, "2": true} {
		e := MustParse(source)
		if err := e.CheckCondition(unitOf); (err != nil) != wrong {
			t.Errorf("%s as a condition: %v", source, err)
		}
	}
}

func TestConversionIsAccountedFor(t *testing.T) {
	e := MustParse(`in(quote.last, "EUR") * 2`)
	if _, err := e.Check(func(Ref) Unit { return AmountIn("GBP") }); err != nil {
		t.Fatal(err)
	}
	var out cell.Cell
	if e.Eval(rowEnv{expr: e, cells: sample, Scratch: &Scratch{}}, &out); out.Value.Num != 120 || !e.Converts() {
		t.Errorf("%+v", out)
	}
	dates := row{"ex": {Value: cell.OfText("2026-03-02")}, "pay": {Value: cell.OfText("2026-03-12")}, "seen": {Value: cell.OfTime(time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC))}}
	for source, want := range map[string]float64{
		`if(ex > "2026-03-01" and ex < "2026-03-03", 1, 0)`: 1, "pay - ex": 10, "if(ex + 10 = pay and pay - 10 = ex, 1, 0)": 1,
		`if(seen > "2026-03-04" and seen < "2026-03-05" and seen > ex, 1, 0)`: 1, "seen - ex": 2.5,
	} {
		e, out := MustParse(source), cell.Cell{}
		if _, err := e.Check(unitOf); err != nil {
			t.Fatal(err)
		}
		if e.Eval(rowEnv{expr: e, cells: dates, Scratch: &Scratch{}}, &out); out.Value.Num != want {
			t.Errorf("%s = %+v, want %v", source, out, want)
		}
	}
}
