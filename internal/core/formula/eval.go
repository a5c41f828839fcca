package formula

import (
	"math"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/cell"
)

// Env gives an expression the cells it reads.
type Env interface {
	Field(ref int) *cell.Cell   // the cell of Refs()[ref] in this row
	Ref(ref int) Ref            // what it was read as: a field may be asked for a period that its inputs take over
	Total(total int) *cell.Cell // the sum of Refs()[Totals()[total]] over the rows of the table
	// Convert turns an amount from one currency into another; [Own] and [Accounts] are the row's.
	// What it does is in the cell's account.
	Convert(c *cell.Cell, from, to string)
	// Aside lends an empty cell for what is not part of the result yet, and Return takes
	// back as many as were lent last; [Scratch] does both.
	Aside() *cell.Cell
	Return(n int)
}

// Scratch lends cells, so that none need be made anew for each value.
type Scratch struct {
	cells [16]cell.Cell
	lent  int
}

// Aside lends an empty cell.
func (s *Scratch) Aside() *cell.Cell {
	if s.lent++; s.lent > len(s.cells) {
		return new(cell.Cell)
	}
	c := &s.cells[s.lent-1]
	*c = cell.Cell{}
	return c
}

// Return takes back as many cells as were lent last.
func (s *Scratch) Return(n int) { s.lent -= n }

// Eval computes the formula into out: its value, with the account that its
// inputs give it. Where an input is missing, so is the result: as
// not_applicable if that is why, otherwise as input_missing with the input
// named. A division by zero, or a result that is no real number, is not_applicable.
func (e *Expr) Eval(env Env, out *cell.Cell) {
	v := e.eval(e.root, env, out)
	if v.Kind == cell.Number && (math.IsNaN(v.Num) || math.IsInf(v.Num, 0)) {
		fail(out, cell.NotApplicable, "no finite result")
		v = cell.Value{}
	}
	if v.Kind == cell.None && out.State < cell.Pending {
		fail(out, cell.NotApplicable, "")
	}
	out.Value = v
}

func fail(out *cell.Cell, reason cell.Reason, detail string) {
	if out.State < cell.Missing {
		out.State, out.Reason, out.Detail = cell.Missing, reason, detail
	}
}

func (e *Expr) eval(n *node, env Env, out *cell.Cell) cell.Value {
	switch n.op {
	case opNumber:
		return cell.Of(n.num)
	case opText:
		return cell.OfText(n.text)
	case opField:
		input := env.Field(n.ref)
		Take(input, env.Ref(n.ref), out)
		return input.Value
	case opIsMissing:
		v := e.eval(n.args[0], env, env.Aside())
		env.Return(1)
		return cell.OfTruth(v.Kind == cell.None)
	case opOrElse:
		first, second := env.Aside(), env.Aside()
		account := first
		v := e.eval(n.args[0], env, first)
		if v.Kind == cell.None {
			if v = e.eval(n.args[1], env, second); v.Kind != cell.None {
				account = second // else the preferred input is the one worth explaining
			}
		}
		out.Absorb(account)
		env.Return(2)
		return v
	case opIf:
		switch c := e.eval(n.args[0], env, out); {
		case c.Kind == cell.None:
			return cell.Value{}
		case c.IsTrue():
			return e.eval(n.args[1], env, out)
		}
		return e.eval(n.args[2], env, out)
	case opShareOf:
		v, total := e.eval(n.args[0], env, out), env.Total(n.ref)
		if v.Kind != cell.Number || out.State >= cell.Pending {
			return cell.Value{}
		}
		if total.Absent() {
			fail(out, total.Reason, total.Detail)
			return cell.Value{}
		}
		return e.arithmetic(opDivide, v, total.Value, out)
	case opIn, opOwn:
		amount := env.Aside()
		amount.Value = e.eval(n.args[0], env, amount)
		if arg := n.args[0]; arg.op == opField && n.op == opIn { // what is of a day goes at its rate
			amount.Period = env.Field(arg.ref).Period
		}
		if !amount.Absent() {
			env.Convert(amount, n.from, n.text)
		}
		out.Absorb(amount)
		v := amount.Value
		env.Return(1)
		return v
	case opNegate, opNot, opAbs:
		v := e.eval(n.args[0], env, out)
		switch {
		case v.Kind == cell.Number && n.op == opNegate:
			return cell.Of(-v.Num)
		case v.Kind == cell.Number && n.op == opAbs:
			return cell.Of(math.Abs(v.Num))
		case v.Kind == cell.Truth && n.op == opNot:
			return cell.OfTruth(!v.IsTrue())
		}
		return cell.Value{}
	}
	left, right := e.eval(n.args[0], env, out), e.eval(n.args[1], env, out)
	if left.Kind == cell.None || right.Kind == cell.None {
		return cell.Value{}
	}
	if n.op == opAnd || n.op == opOr {
		if left.Kind != cell.Truth || right.Kind != cell.Truth {
			fail(out, cell.NotApplicable, "'and' and 'or' join conditions")
			return cell.Value{}
		}
		return cell.OfTruth(n.op == opAnd && left.IsTrue() && right.IsTrue() || n.op == opOr && (left.IsTrue() || right.IsTrue()))
	}
	if n.op >= opEqual && n.op != opOver {
		return compare(n.op, left, right, out)
	}
	return e.arithmetic(n.op, left, right, out)
}

// Take adds an input's account to that of a result; where the input is missing, so
// is the result, with the input named; where that has ended or cannot exist, nor can
// the result.
func Take(input *cell.Cell, ref Ref, out *cell.Cell) {
	if input.State != cell.Missing {
		out.Absorb(input)
		return
	}
	switch input.Reason {
	case cell.NotApplicable, cell.InputMissing, cell.Ended:
		fail(out, input.Reason, input.Detail)
	default:
		detail := ref.String() + ": " + input.Reason.String()
		if input.Detail != "" {
			detail += " (" + input.Detail + ")"
		}
		fail(out, cell.InputMissing, detail)
	}
}

func (e *Expr) arithmetic(o op, left, right cell.Value, out *cell.Cell) cell.Value {
	if date, ok := instant(left); ok && (o == opAdd || o == opSubtract) {
		return days(o, date, right)
	}
	if left.Kind != cell.Number || right.Kind != cell.Number {
		fail(out, cell.NotApplicable, "only numbers can be calculated with")
		return cell.Value{}
	}
	a, b := left.Num, right.Num
	switch o {
	case opAdd:
		return cell.Of(a + b)
	case opSubtract:
		return cell.Of(a - b)
	case opMultiply:
		return cell.Of(a * b)
	case opPower:
		return cell.Of(math.Pow(a, b))
	}
	if o == opOver && b <= 0 {
		fail(out, cell.NotApplicable, "what it is divided by is not above zero")
		return cell.Value{}
	}
	if b == 0 {
		fail(out, cell.NotApplicable, "division by zero")
		return cell.Value{}
	}
	return cell.Of(a / b)
}

// days adds days to a date, or counts those between two.
func days(o op, date time.Time, other cell.Value) cell.Value {
	if to, ok := instant(other); ok {
		return cell.Of(date.Sub(to).Hours() / 24)
	}
	number := int(other.Num)
	if o == opSubtract {
		number = -number
	}
	return cell.OfText(date.AddDate(0, 0, number).Format(time.DateOnly))
}

// instant reads a date, which is a text, or an instant.
func instant(v cell.Value) (time.Time, bool) {
	switch v.Kind {
	case cell.Moment:
		return v.Time(), true
	case cell.Text:
		day, err := time.Parse(time.DateOnly, v.Text)
		return day, err == nil
	}
	return time.Time{}, false
}

// compare orders numbers by size, instants by time, and texts without regard to case.
func compare(o op, left, right cell.Value, out *cell.Cell) cell.Value {
	if left.Kind == cell.Moment || right.Kind == cell.Moment { // and the other a date
		if a, ok := instant(left); ok {
			if b, ok := instant(right); ok {
				left, right = cell.OfTime(a), cell.OfTime(b)
			}
		}
	}
	if left.Kind != right.Kind {
		fail(out, cell.NotApplicable, "a number cannot be compared with a text")
		return cell.Value{}
	}
	order := 0
	switch {
	case left.Kind == cell.Text:
		order = strings.Compare(strings.ToLower(left.Text), strings.ToLower(right.Text))
	case left.Num < right.Num:
		order = -1
	case left.Num > right.Num:
		order = 1
	}
	switch o {
	case opEqual:
		return cell.OfTruth(order == 0)
	case opUnequal:
		return cell.OfTruth(order != 0)
	case opLess:
		return cell.OfTruth(order < 0)
	case opLessEqual:
		return cell.OfTruth(order <= 0)
	case opMore:
		return cell.OfTruth(order > 0)
	}
	return cell.OfTruth(order >= 0)
}
