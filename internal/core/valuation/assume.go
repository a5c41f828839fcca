package valuation

import (
	"fmt"
	"math"

	"soba.invalid/soba/internal/core/cell"
)

// Kind is what a model discounts.
type Kind string

// The kinds.
const (
	Cash      Kind = "cash"      // free cash flow, in two stages and for ever
	Earnings  Kind = "earnings"  // earnings a share
	Dividends Kind = "dividends" // dividends
	Gordon    Kind = "gordon"    // dividends that grow alike for ever
)

// Fields are those that assumptions are taken from, in the currency of the price.
var Fields = []string{
	"price.latest", "cash.free", "cash.free@TTM-5", "income.shares_diluted", "income.eps_diluted", "growth.eps_5y", "growth.revenue_5y", "dividend.forward", "dividend.growth_5y",
}

// What is assumed where neither the user nor the history says otherwise.
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

// Assumption is one number that a model rests on, with where it is from.
type Assumption struct {
	Name   string  // base, growth, years, growth2, years2, terminal or discount
	Value  float64 // NaN where it is not known
	Origin string
	Yours  bool // said by the user
}

// Said is an assumption that the user makes.
type Said struct {
	Value float64
	When  string // as saved on a day; "" of one that is made now
}

// Names of assumptions.
var Names = []string{"base", "growth", "years", "growth2", "years2", "terminal", "discount"}

// Assume makes a model of what the user says, by the names of assumptions, and of the
// history for the rest. of returns the cells of [Fields].
func Assume(k Kind, of func(id string) *cell.Cell, said map[string]Said) (Model, []Assumption) {
	var all []Assumption
	is := func(name string, found float64, origin string) float64 {
		x, yours := said[name]
		if yours {
			found, origin = x.Value, "as you say"
			if x.When != "" {
				origin = "as you " + x.When
			}
		}
		all = append(all, Assumption{name, found, origin, yours})
		return found
	}
	base, from := baseOf(k, of)
	growth, since := growthOf(k, of)
	m := Model{Base: is("base", base, from)}
	if k == Gordon {
		m.Terminal = is("terminal", growth, since)
	} else {
		m.Growth = is("growth", growth, since)
		m.Years = int(is("years", assumedYears, "assumed"))
		m.Terminal = assumedTerminal
		if x, yours := said["terminal"]; yours {
			m.Terminal = x.Value
		}
		m.Growth2 = is("growth2", (m.Growth+m.Terminal)/2, "half way to the growth for ever")
		m.Years2 = int(is("years2", assumedYears, "assumed"))
		m.Terminal = is("terminal", assumedTerminal, "assumed")
	}
	m.Discount = is("discount", assumedDiscount, "assumed")
	return m, all
}

// baseOf is the payment of the past year for one share; NaN where it is not known.
func baseOf(k Kind, of func(string) *cell.Cell) (float64, string) {
	field, origin := "income.eps_diluted", "diluted earnings a share of twelve months"
	switch k {
	case Cash:
		field, origin = "cash.free", "free cash flow of twelve months, after interest, over diluted shares"
	case Dividends, Gordon:
		field, origin = "dividend.forward", "dividends ahead: the last regular amount times its rhythm"
	}
	c, shares := of(field), of("income.shares_diluted")
	switch {
	case c.Absent():
		return math.NaN(), origin + ": " + c.Reason.String()
	case k != Cash:
		return c.Value.Num, origin
	case shares.Absent():
		return math.NaN(), origin + ": " + shares.Reason.String()
	}
	return c.Value.Num / shares.Value.Num, origin
}

// growthOf carries the growth of the past five years on.
func growthOf(k Kind, of func(string) *cell.Cell) (float64, string) {
	switch k {
	case Cash:
		now, before := of("cash.free"), of("cash.free@TTM-5")
		if now.Absent() || before.Absent() || now.Value.Num <= 0 || before.Value.Num <= 0 {
			return carried(of("growth.revenue_5y"), "growth of revenue a year over five years", mostGrowth)
		}
		five := cell.Cell{Value: cell.Of(math.Pow(now.Value.Num/before.Value.Num, 1./5) - 1)}
		return carried(&five, "growth of free cash flow a year over five years", mostGrowth)
	case Earnings:
		return carried(of("growth.eps_5y"), "growth of earnings a share a year over five years", mostGrowth)
	case Gordon:
		return carried(of("dividend.growth_5y"), "growth of dividends a year over five years", mostForEver)
	}
	return carried(of("dividend.growth_5y"), "growth of dividends a year over five years", mostGrowth)
}

// carried is a growth of the past within bounds, or what is assumed without one.
func carried(c *cell.Cell, what string, most float64) (float64, string) {
	if c.Absent() {
		return assumedGrowth, "assumed: " + what + " is not known (" + c.Reason.String() + ")"
	}
	x := math.Max(leastGrowth, math.Min(most, c.Value.Num))
	if x != c.Value.Num {
		what += fmt.Sprintf(", which was %.1f %%, kept within %.0f and %.0f %%", 100*c.Value.Num, 100*leastGrowth, 100*most)
	}
	return x, what
}

// Steps by which a grid departs from what is assumed.
var (
	discountSteps = []float64{-0.02, -0.01, 0, 0.01, 0.02}
	growthSteps   = []float64{-0.04, -0.02, 0, 0.02, 0.04}
)

// Around are the discount rates and growths of a grid around what is assumed.
func (m *Model) Around() (discounts, growths []float64) {
	growth := m.Growth
	if m.Years == 0 && m.Years2 == 0 {
		growth = m.Terminal
	}
	for _, step := range discountSteps {
		discounts = append(discounts, m.Discount+step)
	}
	for _, step := range growthSteps {
		growths = append(growths, growth+step)
	}
	return discounts, growths
}
