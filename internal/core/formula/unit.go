package formula

import (
	"fmt"
	"strings"
	"time"
)

// Dimension is the kind of thing that a formula, or a part of one, gives.
type Dimension uint8

// The dimensions.
const (
	Number    Dimension = iota // a pure number: a ratio, a count, a length of time
	Amount                     // of money, or a price
	Text                       // words
	Moment                     // a day or an instant
	Condition                  // true or false
	Literal                    // a number that is written in the formula; it fits every quantity
)

// Stand-ins for currencies that are not the same for all listings.
const (
	Own      = ""         // that of the listing's prices
	Accounts = "accounts" // that of its issuer's accounts
)

// Unit is what a formula gives, as far as it is known before there are values.
type Unit struct {
	Dimension Dimension
	Currency  string  // of an amount: an ISO 4217 code, [Own] or [Accounts]
	Power     float64 // of the currency: 1 for an amount, 2 for its square
}

// AmountIn is the unit of an amount in a currency.
func AmountIn(currency string) Unit { return Unit{Amount, currency, 1} }

func (u Unit) String() string {
	switch u.Dimension {
	case Amount:
		text := "an amount in " + u.Currency
		switch u.Currency {
		case Own:
			text = "an amount in each listing's own currency"
		case Accounts:
			text = "an amount in the currency of the accounts"
		}
		if u.Power != 1 {
			text = fmt.Sprintf("%s, to the power %v", text, u.Power)
		}
		return text
	case Text:
		return "a text"
	case Moment:
		return "a date"
	case Condition:
		return "a condition"
	}
	return "a number"
}

// Check finds out what the formula gives, and refuses what cannot be calculated:
// two currencies added, a date multiplied. The error is a *[SyntaxError]. A formula
// that converts currencies must be checked before it is evaluated.
func (e *Expr) Check(of func(Ref) Unit) (Unit, error) {
	c := checker{e.source, e.refs, of}
	u, bad := c.unit(e.root)
	if bad != nil {
		return u, bad
	}
	if u.Dimension == Literal {
		u.Dimension = Number
	}
	return u, nil
}

// CheckCondition is Check for a formula that must be true or false.
func (e *Expr) CheckCondition(of func(Ref) Unit) error {
	u, err := e.Check(of)
	if err == nil && u.Dimension != Condition {
		err = problem(e.source, 0, fmt.Sprintf("a condition is wanted, such as a comparison; this is %s", u))
	}
	return err
}

type checker struct {
	source string
	refs   []Ref
	of     func(Ref) Unit
}

func (c *checker) problem(n *node, what string, args ...any) *SyntaxError {
	return problem(c.source, n.at, fmt.Sprintf(what, args...))
}

func (c *checker) text(n *node) string { return strings.TrimSpace(c.source[n.at:n.end]) }

func (c *checker) unit(n *node) (Unit, *SyntaxError) {
	units := make([]Unit, len(n.args))
	for i, arg := range n.args {
		u, bad := c.unit(arg)
		if bad != nil {
			return u, bad
		}
		units[i] = u
	}
	switch n.op {
	case opNumber:
		return Unit{Dimension: Literal}, nil
	case opText:
		return Unit{Dimension: Text}, nil
	case opField:
		return c.of(c.refs[n.ref]), nil
	case opIsMissing:
		return Unit{Dimension: Condition}, nil
	case opIf:
		if units[0].Dimension != Condition {
			return Unit{}, c.problem(n.args[0], "if() wants a condition first, not %s", units[0])
		}
		return c.same(n, 1, units)
	case opOrElse:
		return c.same(n, 0, units)
	case opIn:
		if units[0].Dimension != Amount || units[0].Power != 1 {
			return Unit{}, c.problem(n.args[0], "in() converts an amount, and %s is %s", c.text(n.args[0]), units[0])
		}
		n.from = units[0].Currency
		return AmountIn(n.text), nil
	case opOwn:
		if units[0].Dimension != Amount || units[0].Power != 1 {
			return Unit{}, c.problem(n.args[0], "own() converts an amount, and %s is %s", c.text(n.args[0]), units[0])
		}
		n.from = units[0].Currency
		return AmountIn(Own), nil
	case opShareOf:
		return Unit{}, c.calculable(n.args[0], units[0])
	case opNegate, opAbs:
		return units[0], c.calculable(n.args[0], units[0])
	case opNot, opAnd, opOr:
		for i, u := range units {
			if u.Dimension != Condition {
				return u, c.problem(n.args[i], "'and', 'or' and 'not' join conditions, and %s is %s", c.text(n.args[i]), u)
			}
		}
		return Unit{Dimension: Condition}, nil
	case opMultiply, opDivide, opOver:
		return c.product(n, units[0], units[1])
	case opPower:
		for i, u := range units {
			if bad := c.calculable(n.args[i], u); bad != nil {
				return u, bad
			}
		}
		u := units[0]
		if exponent := n.args[1]; u.Dimension == Amount {
			if exponent.op != opNumber {
				return u, c.problem(exponent, "the exponent of an amount must be a number")
			}
			u.Power *= exponent.num
		}
		return u, nil
	case opAdd, opSubtract:
		return c.sum(n, units)
	}
	if _, bad := c.comparable(n, units); bad != nil {
		return Unit{}, bad
	}
	return Unit{Dimension: Condition}, nil
}

func (c *checker) calculable(n *node, u Unit) *SyntaxError {
	if u.Dimension == Text || u.Dimension == Moment || u.Dimension == Condition {
		return c.problem(n, "only numbers can be calculated with, and %s is %s", c.text(n), u)
	}
	return nil
}

func (c *checker) sum(n *node, units []Unit) (Unit, *SyntaxError) {
	left, right := units[0], units[1]
	if left.Dimension == Moment { // a day and a number of days, or the days between two
		switch {
		case right.Dimension == Moment && n.op == opSubtract:
			return Unit{}, nil
		case right.Dimension == Number || right.Dimension == Literal:
			return left, nil
		}
	}
	for i, u := range units {
		if bad := c.calculable(n.args[i], u); bad != nil {
			return u, bad
		}
	}
	return c.same(n, 0, units)
}

// same is the unit that the arguments from one on share.
func (c *checker) same(n *node, from int, units []Unit) (Unit, *SyntaxError) {
	left, right := units[from], units[from+1]
	switch {
	case left == right || right.Dimension == Literal && left.Dimension < Text:
		return left, nil
	case left.Dimension == Literal && right.Dimension < Text:
		return right, nil
	case left.Dimension == Amount && right.Dimension == Amount && left.Power == right.Power:
		return left, c.currencies(n, n.args[from], n.args[from+1], left, right)
	}
	return left, c.problem(n, "%s is %s and %s is %s: the two do not go together", c.text(n.args[from]), left, c.text(n.args[from+1]), right)
}

// currencies refuses two of them, and offers to convert one.
func (c *checker) currencies(n, left, right *node, a, b Unit) *SyntaxError {
	if (a.Currency == Own || a.Currency == Accounts) && (b.Currency == Own || b.Currency == Accounts) {
		wrong := left
		if b.Currency == Accounts {
			wrong = right
		}
		return c.problem(n, "%s is %s and %s is %s: write own(%s)", c.text(left), a, c.text(right), b, c.text(wrong))
	}
	wrong, to := right, a.Currency
	if a.Currency == Own || a.Currency == Accounts {
		wrong, to = left, b.Currency
	}
	if wrong.op == opIn {
		wrong = wrong.args[0]
	}
	if a.Power != 1 || b.Power != 1 {
		return c.problem(n, "%s is %s and %s is %s: convert one before", c.text(left), a, c.text(right), b)
	}
	return c.problem(n, "%s is %s and %s is %s: write in(%s, %q)", c.text(left), a, c.text(right), b, c.text(wrong), to)
}

func (c *checker) product(n *node, left, right Unit) (Unit, *SyntaxError) {
	for i, u := range []Unit{left, right} {
		if bad := c.calculable(n.args[i], u); bad != nil {
			return u, bad
		}
	}
	if left.Dimension == Amount && right.Dimension == Amount && left.Currency != right.Currency {
		return left, c.currencies(n, n.args[0], n.args[1], left, right)
	}
	out := Unit{Power: left.Power + right.Power}
	if n.op != opMultiply {
		out.Power = left.Power - right.Power
	}
	if out.Power == 0 {
		if left.Dimension == Literal && right.Dimension == Literal {
			out.Dimension = Literal
		}
		return out, nil
	}
	out.Dimension, out.Currency = Amount, left.Currency
	if left.Dimension != Amount {
		out.Currency = right.Currency
	}
	return out, nil
}

// comparable is the unit that both sides of a comparison have. A date may be
// compared with a text that is one.
func (c *checker) comparable(n *node, units []Unit) (Unit, *SyntaxError) {
	for i, u := range units {
		other := n.args[1-i]
		if u.Dimension != Moment || units[1-i].Dimension != Text || other.op != opText {
			continue
		}
		if _, err := time.Parse(time.DateOnly, other.text); err != nil {
			return u, c.problem(other, "%q is not a date: write it as \"2026-01-31\"", other.text)
		}
		return u, nil
	}
	return c.same(n, 0, units)
}
