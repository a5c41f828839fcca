// Package formula reads and evaluates the language of derived fields and filters.
//
//	quote.last / quote.previous_close - 1
//	dividend.yield > 3% and profile.sector = "Ferries"
//	or_else(quote.last, price.close@-5d)
//	in(holding.market_value, "EUR") > 5k
//
// Quantities are checked before anything is calculated: see [Unit].
package formula

import (
	"fmt"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Ref names a field, at a period where one is given.
type Ref struct {
	ID     string
	Period period.Period
}

// String writes the reference as it stands in a formula: value.pe@FY-1.
func (r Ref) String() string {
	if r.Period == (period.Period{}) {
		return r.ID
	}
	return r.ID + "@" + r.Period.String()
}

// ParseRef reads a field id with an optional @period.
func ParseRef(source string) (Ref, error) {
	id, at, found := strings.Cut(source, "@")
	if !found {
		return Ref{ID: id}, nil
	}
	p, err := period.Parse(at)
	return Ref{id, p}, err
}

// Expr is a formula that has been read.
type Expr struct {
	source string
	root   *node
	refs   []Ref // every field it reads, once
	totals []int // the refs of which it needs the total across rows

	converts bool
	owns     bool
}

// String is the formula as it was written.
func (e *Expr) String() string { return e.source }

// Refs lists the fields that the formula reads; [Env.Field] is asked by their index.
func (e *Expr) Refs() []Ref { return e.refs }

// Totals lists the indices into Refs of which [Env.Total] will be asked.
func (e *Expr) Totals() []int { return e.totals }

// Owns tells whether the formula turns amounts of the accounts into the currency of
// prices.
func (e *Expr) Owns() bool { return e.owns }

// Converts tells whether the formula needs exchange rates.
func (e *Expr) Converts() bool { return e.converts }

type op uint8

const (
	opNumber op = iota
	opText
	opField
	opNegate
	opNot
	opAdd
	opSubtract
	opMultiply
	opDivide
	opPower
	opEqual
	opUnequal
	opLess
	opLessEqual
	opMore
	opMoreEqual
	opAnd
	opOr
	opIf
	opOrElse
	opIsMissing
	opAbs
	opShareOf
	opIn
	opOwn
	opOver
)

type node struct {
	op      op
	num     float64
	text    string // of a text; the currency that in() converts to
	from    string // that it converts from; known once the formula is checked
	ref     int
	args    []*node
	at, end int // where it stands in the formula, in bytes
}

var binary = map[string]struct {
	op       op
	strength int
}{
	"or": {opOr, 1}, "and": {opAnd, 2},
	"=": {opEqual, 4}, "==": {opEqual, 4}, "!=": {opUnequal, 4},
	"<": {opLess, 4}, "<=": {opLessEqual, 4}, ">": {opMore, 4}, ">=": {opMoreEqual, 4},
	"+": {opAdd, 5}, "-": {opSubtract, 5}, "*": {opMultiply, 6}, "/": {opDivide, 6}, "^": {opPower, 8},
}

const (
	notStrength    = 3
	negateStrength = 7
	deepest        = 200 // nesting beyond this is refused rather than followed
)

var functions = map[string]struct {
	op    op
	count int
	usage string
}{
	"if":         {opIf, 3, "if(condition, then, otherwise)"},
	"or_else":    {opOrElse, 2, "or_else(a, b)"},
	"is_missing": {opIsMissing, 1, "is_missing(x)"},
	"abs":        {opAbs, 1, "abs(x)"},
	"share_of":   {opShareOf, 1, "share_of(field)"},
	"over":       {opOver, 2, "over(a, b)"},
	"own":        {opOwn, 1, "own(amount)"},
	"in":         {opIn, 2, `in(amount, "EUR")`},
}

type parser struct {
	source string
	tokens []token
	read   int // up to where, in bytes
	expr   *Expr
	depth  int
}

// Parse reads a formula. The error is a *[SyntaxError].
func Parse(source string) (*Expr, error) {
	tokens, bad := lex(source)
	if bad != nil {
		return nil, bad
	}
	p := &parser{source: source, tokens: tokens, expr: &Expr{source: source}}
	root, bad := p.expression(0)
	if bad == nil && p.tokens[0].kind != end {
		bad = p.problem(p.tokens[0], fmt.Sprintf("%s does not belong here; an operator such as + or 'and' may be missing", p.tokens[0]))
	}
	if bad != nil {
		return nil, bad
	}
	p.expr.root = root
	return p.expr, nil
}

// MustParse is Parse for formulas that are part of the program.
func MustParse(source string) *Expr {
	e, err := Parse(source)
	if err != nil {
		panic(err)
	}
	return e
}

func (p *parser) problem(t token, what string) *SyntaxError { return problem(p.source, t.offset, what) }

func (p *parser) next() token {
	t := p.tokens[0]
	if t.kind != end {
		p.tokens = p.tokens[1:]
		p.read = t.offset + len(t.text)
	}
	return t
}

func (p *parser) expression(strength int) (*node, *SyntaxError) {
	if p.depth++; p.depth > deepest {
		return nil, p.problem(p.tokens[0], "the formula is nested too deeply")
	}
	defer func() { p.depth-- }()
	at := p.tokens[0].offset
	left, bad := p.operand()
	if bad == nil {
		left.at, left.end = at, p.read
	}
	for bad == nil {
		o, known := binary[p.tokens[0].text]
		if !known || p.tokens[0].kind != name && p.tokens[0].kind != operator || o.strength <= strength {
			break
		}
		p.next()
		bind := o.strength
		if o.op == opPower {
			bind-- // 2^3^2 is 2^(3^2)
		}
		var right *node
		if right, bad = p.expression(bind); bad == nil {
			left = &node{op: o.op, args: []*node{left, right}, at: at, end: p.read}
		}
	}
	return left, bad
}

func (p *parser) operand() (*node, *SyntaxError) {
	switch t := p.next(); {
	case t.kind == number:
		return &node{op: opNumber, num: t.num}, nil
	case t.kind == text:
		return &node{op: opText, text: t.text[1 : len(t.text)-1]}, nil
	case t.kind == operator && t.text == "-":
		return p.unary(opNegate, negateStrength)
	case t.kind == name && t.text == "not":
		return p.unary(opNot, notStrength)
	case t.kind == operator && t.text == "(":
		inner, bad := p.expression(0)
		if bad == nil {
			bad = p.expect(")")
		}
		return inner, bad
	case t.kind == name && p.tokens[0].text == "(":
		return p.call(t)
	case t.kind == name && t.text != "and" && t.text != "or":
		return p.field(t)
	default:
		return nil, p.problem(t, fmt.Sprintf("a value is expected here, not %s", t))
	}
}

func (p *parser) unary(o op, strength int) (*node, *SyntaxError) {
	inner, bad := p.expression(strength)
	return &node{op: o, args: []*node{inner}}, bad
}

func (p *parser) expect(mark string) *SyntaxError {
	if t := p.next(); t.text != mark {
		return p.problem(t, fmt.Sprintf("%q is expected here, not %s", mark, t))
	}
	return nil
}

func (p *parser) call(t token) (*node, *SyntaxError) {
	f, known := functions[t.text]
	if !known {
		return nil, p.problem(t, fmt.Sprintf("there is no function %s; functions are abs, if, in, is_missing, or_else, over, own and share_of", t))
	}
	p.next()
	n := &node{op: f.op}
	for {
		arg, bad := p.expression(0)
		if bad != nil {
			return nil, bad
		}
		n.args = append(n.args, arg)
		if p.tokens[0].text != "," {
			break
		}
		p.next()
	}
	if bad := p.expect(")"); bad != nil {
		return nil, bad
	}
	if len(n.args) != f.count {
		return nil, p.problem(t, fmt.Sprintf("write it as %s", f.usage))
	}
	p.expr.owns = p.expr.owns || f.op == opOwn
	if f.op == opIn {
		currency := n.args[1]
		if currency.op != opText || !market.IsCurrency(currency.text) {
			return nil, problem(p.source, currency.at, `the second part of in() is a currency by its ISO 4217 code, as "EUR"`)
		}
		n.text, n.args = currency.text, n.args[:1]
		p.expr.converts = true
	}
	if f.op == opShareOf {
		if n.args[0].op != opField {
			return nil, p.problem(t, "share_of takes a field")
		}
		n.ref = len(p.expr.totals)
		p.expr.totals = append(p.expr.totals, n.args[0].ref)
	}
	return n, nil
}

func (p *parser) field(t token) (*node, *SyntaxError) {
	ref, err := ParseRef(t.text)
	if err != nil {
		return nil, p.problem(t, err.Error())
	}
	for i, seen := range p.expr.refs {
		if seen == ref {
			return &node{op: opField, ref: i}, nil
		}
	}
	p.expr.refs = append(p.expr.refs, ref)
	return &node{op: opField, ref: len(p.expr.refs) - 1}, nil
}
