package table

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/currency"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// Program is a set of columns, a filter and an order, resolved against the
// catalogue and ready to be evaluated over any records. It is immutable.
type Program struct {
	Columns []Column
	steps   []step // by slot: first the columns, then the fields they need besides
	order   []int  // slots in the order in which they can be computed
	late    []int  // those that need a total over the rows
	totals  []int  // the slots of which totals are needed
	filter  *step
	keys    []sortKey
}

// Column is one column of a table.
type Column struct {
	Ref   formula.Ref
	Field *catalogue.Field
}

type step struct {
	ref    formula.Ref
	field  *catalogue.Field
	feed   int // that the field reads
	expr   *formula.Expr
	args   []int    // slots of the fields that it is derived from
	totals []int    // indices into the program's totals
	others *Program // of the field that is summed over other classes of shares
}

type sortKey struct {
	slot       int
	descending bool
}

// Compile resolves columns, a filter (may be empty) and sort keys (fields, with
// a leading minus for descending). Errors are those of the formula and the catalogue.
func Compile(columns []formula.Ref, where string, sortBy []string) (*Program, error) {
	p := &Program{}
	slots := map[formula.Ref]int{}
	for _, ref := range columns {
		if _, double := slots[ref]; double {
			return nil, fmt.Errorf("column %s is asked for twice", ref)
		}
		f, err := catalogue.Resolve(ref)
		if err != nil {
			return nil, err
		}
		slots[ref] = len(p.steps)
		p.steps = append(p.steps, step{ref: ref, field: f, feed: FeedOf(f.Dataset), expr: f.Formula})
		p.Columns = append(p.Columns, Column{ref, f})
	}
	placed := map[int]bool{}
	var place func(ref formula.Ref) (slot int, late bool, err error)
	isLate := map[int]bool{}
	link := func(s *step) (late bool, err error) {
		var inputs []formula.Ref
		if s.expr != nil {
			inputs = s.expr.Refs()
		} else {
			inputs = s.field.From
		}
		args := make([]int, 0, len(inputs))
		for _, input := range inputs {
			if s.field != nil {
				input = s.field.Within(s.ref.Period, input)
			}
			slot, inputLate, err := place(input)
			if err != nil {
				return false, err
			}
			args = append(args, slot)
			late = late || inputLate
		}
		s.args = args
		if s.expr != nil {
			for _, ref := range s.expr.Totals() {
				s.totals = append(s.totals, p.totalOf(args[ref]))
				late = true
			}
		}
		return late, nil
	}
	place = func(ref formula.Ref) (int, bool, error) {
		slot, known := slots[ref]
		if !known {
			f, err := catalogue.Resolve(ref)
			if err != nil {
				return 0, false, err
			}
			slot = len(p.steps)
			slots[ref] = slot
			p.steps = append(p.steps, step{ref: ref, field: f, feed: FeedOf(f.Dataset), expr: f.Formula})
		}
		if of := p.steps[slot].field.Others; of != "" && p.steps[slot].others == nil {
			others, err := Compile([]formula.Ref{{ID: of, Period: ref.Period}}, "", nil)
			if err != nil {
				return 0, false, err
			}
			p.steps[slot].others = others
		}
		if placed[slot] {
			return slot, isLate[slot], nil
		}
		placed[slot] = true
		if s := p.steps[slot]; len(s.field.Inputs()) > 0 {
			late, err := link(&s)
			if err != nil {
				return 0, false, err
			}
			p.steps[slot], isLate[slot] = s, late
		}
		if isLate[slot] {
			p.late = append(p.late, slot)
		} else {
			p.order = append(p.order, slot)
		}
		return slot, isLate[slot], nil
	}
	for i := range p.Columns {
		if _, _, err := place(p.Columns[i].Ref); err != nil {
			return nil, err
		}
	}
	if where != "" {
		expr, err := formula.Parse(where)
		if err != nil {
			return nil, err
		}
		p.filter = &step{expr: expr}
		if _, err := link(p.filter); err != nil {
			return nil, err
		}
		if err := expr.CheckCondition(catalogue.UnitOf); err != nil {
			return nil, err
		}
	}
	for _, key := range sortBy {
		name, descending := strings.CutPrefix(strings.TrimSpace(key), "-")
		ref, err := formula.ParseRef(name)
		if err != nil {
			return nil, err
		}
		slot, _, err := place(ref)
		if err != nil {
			return nil, err
		}
		p.keys = append(p.keys, sortKey{slot, descending})
	}
	return p, nil
}

func (p *Program) totalOf(slot int) int {
	if i := slices.Index(p.totals, slot); i >= 0 {
		return i
	}
	p.totals = append(p.totals, slot)
	return len(p.totals) - 1
}

// Refs lists every field the program reads, columns and filter included.
func (p *Program) Refs() []formula.Ref {
	refs := make([]formula.Ref, len(p.steps))
	for i := range p.steps {
		refs[i] = p.steps[i].ref
	}
	return refs
}

// Converts tells whether an evaluation of records needs exchange rates even in the
// listings' own currencies: to compare amounts, or for accounts in another.
func (p *Program) Converts(records []*Record) bool {
	if p.filter != nil && p.filter.expr.Converts() {
		return true
	}
	owns := slices.ContainsFunc(p.steps, func(s step) bool { return s.expr != nil && s.expr.Owns() }) || p.filter != nil && p.filter.expr.Owns()
	return owns && slices.ContainsFunc(records, func(r *Record) bool { return r.currencyOf(formula.Accounts) != r.Listing.Currency })
}

// Since is the earliest day of a history that the program's fields read; 0 where
// none says how far back it reads.
func (p *Program) Since(now time.Time) period.Date {
	return catalogue.Since(p.Refs(), period.DateOf(now.UTC()))
}

// Row is one evaluated row. Cells are in the order of the program's columns,
// followed by those of the fields they need.
type Row struct {
	Record *Record
	Cells  []cell.Cell
}

// Table is the result of an evaluation.
type Table struct {
	Program *Program
	Rows    []Row
	AsOf    time.Time
	Until   time.Time // until then an evaluation of the same records gives the same; zero: for ever
	Counts  [4]int    // cells of the columns by state
	Of      int       // rows before the filter

	limits freshness.Limits // by which it was judged
}

// Conversion turns amounts into one currency.
type Conversion struct {
	To    string // ISO 4217
	Rates *currency.Rates
}

// Evaluate computes the table of the records at an instant, each row in its own
// currency.
func (p *Program) Evaluate(records []*Record, now time.Time, limits freshness.Limits) *Table {
	return p.EvaluateIn(Conversion{}, records, now, limits)
}

// EvaluateIn computes the table with all prices and amounts in one currency: what
// is of a day at the rate of that day, all else at the newest. Derived fields are
// computed on what was converted.
func (p *Program) EvaluateIn(in Conversion, records []*Record, now time.Time, limits freshness.Limits) *Table {
	t := &Table{Program: p, AsOf: now, Rows: make([]Row, len(records)), Of: len(records), limits: limits}
	width := len(p.steps)
	matrix := make([]cell.Cell, width*len(records))
	env := &rowEnv{in: in, now: now, steps: p.steps}
	if env.in.Rates == nil {
		env.in.Rates = currency.New(nil)
	}
	for i, r := range records {
		cells := matrix[i*width : (i+1)*width : (i+1)*width]
		t.Rows[i] = Row{r, cells}
		p.evaluateRow(r, cells, env, now, limits, t)
	}
	if len(p.totals) > 0 || len(p.late) > 0 {
		env.totals = p.sum(t.Rows)
		for i := range t.Rows {
			env.enter(t.Rows[i].Record, t.Rows[i].Cells)
			for _, slot := range p.late {
				p.derive(slot, &t.Rows[i], env)
			}
		}
	}
	p.keep(t, env)
	p.arrange(t)
	for i := range t.Rows {
		for c := range p.Columns {
			t.Counts[t.Rows[i].Cells[c].State]++
		}
	}
	return t
}

// Moments at which phases change bound how long facts that read the clock hold.
func nextPhase(r *Record, now time.Time) time.Time {
	e := r.Exchange
	if s, open := e.Current(now); open {
		return s.Close
	}
	s := e.Next(now)
	if s.Date == 0 {
		return time.Time{}
	}
	if pre := s.Date.In(e.Zone, int(e.PreOpens)/60, int(e.PreOpens)%60); now.Before(pre) {
		return pre
	}
	return s.Open
}

func (t *Table) bound(until time.Time) {
	if !until.IsZero() {
		t.Until = sooner(t.Until, until)
	}
}

func (p *Program) evaluateRow(r *Record, cells []cell.Cell, env *rowEnv, now time.Time, limits freshness.Limits, t *Table) {
	in := &env.in
	var accounts [feeds]cell.Cell
	var picked [feeds]*Given
	var known [feeds]bool
	account := func(feed int, d catalogue.Dataset) {
		if !known[feed] {
			var until time.Time
			accounts[feed], picked[feed], until = r.account(d, now, limits)
			t.bound(until)
			known[feed] = true
		}
	}
	env.enter(r, cells)
	row := Row{r, cells}
	for _, slot := range p.order {
		s := &p.steps[slot]
		out := &cells[slot]
		if s.expr != nil || s.field.Reckon != nil {
			p.derive(slot, &row, env)
			if s.field.Reckon != nil {
				t.bound(env.dayEnds) // it is of a day
			}
			continue
		}
		unit := in.unitOf(s.field, r)
		switch {
		case !s.field.AppliesTo(r.Listing.Kind):
			*out = cell.Gap(cell.NotApplicable, "")
			out.Unit = unit
			continue
		case s.others != nil:
			p.sumOthers(s, r, env, limits, out)
			out.Unit = unit
			continue
		case s.field.Fact != nil:
			out.Value = s.field.Fact(r.Listing, r.Exchange, now)
			if out.Absent() {
				*out = cell.Gap(cell.NotReported, "")
			}
			out.Unit = unit
			t.bound(nextPhase(r, now))
			continue
		}
		feed := s.feed
		account(feed, s.field.Dataset)
		if s.field.Measure != nil || s.field.Tell != nil {
			t.bound(env.dayEnds) // windows move with the day
		}
		*out = accounts[feed]
		if g := picked[feed]; g != nil {
			switch {
			case s.field.Measure != nil:
				measure(s, r, g.Bars, out, env.today)
			case s.field.Tell != nil:
				with := -1
				if s.field.With != "" {
					with = FeedOf(s.field.With)
					account(with, s.field.With)
				}
				var index *series.Bars
				if s.field.Index {
					var until time.Time
					if index, until = indexOf(r, out, now, limits); index == nil {
						break
					}
					t.bound(until)
				}
				if env.off != g || with >= 0 || index != nil { // else it is read off the same as the field before
					env.told = catalogue.Told{Listing: r.Listing, Entries: g.Entries, Payments: g.Payments, Accounts: g.Accounts, Outlook: g.Outlook, Bars: g.Bars, Index: index, Day: env.today}
				}
				env.off = g
				if with >= 0 || index != nil {
					env.off = nil
				}
				env.told.Period = s.ref.Period
				tell(s, r, g, with, &accounts, &picked, &env.told, out, limits.Tolerance)
			default:
				observe(s.field, r, feed, g, out, limits)
			}
		}
		in.convert(s.field, r, out, now)
		out.Unit = unit
	}
}

// sumOthers sums a field over the issuer's other classes of shares, in the currency of
// the row.
func (p *Program) sumOthers(s *step, r *Record, env *rowEnv, limits freshness.Limits, out *cell.Cell) {
	out.Value = cell.Of(0)
	if len(r.Classes) == 0 {
		return
	}
	to := env.in.unitOf(s.field, r)
	for _, row := range s.others.EvaluateIn(Conversion{To: to, Rates: env.in.Rates}, r.Classes, env.now, limits).Rows {
		c := &row.Cells[0]
		if c.Absent() {
			*out = cell.Gap(cell.InputMissing, fmt.Sprintf("%s of %s: %s", s.others.Columns[0].Ref, row.Record.Listing.Symbol, c.Reason))
			out.State = c.State
			return
		}
		sum, names := out.Value.Num+c.Value.Num, out.Detail
		out.Absorb(c)
		out.Value = cell.Of(sum)
		out.Detail = strings.TrimPrefix(names+", "+row.Record.Listing.Symbol.String(), ", ")
	}
}

// hasCurrency tells whether what a listing costs is an amount: what an index or a
// pair stands at is none.
func hasCurrency(r *Record) bool {
	return r.Listing.Kind != market.Index && r.Listing.Kind != market.Pair
}

// currencyOf is the currency that [formula.Own] or [formula.Accounts] stands for.
func (r *Record) currencyOf(symbol string) string {
	if symbol == formula.Accounts {
		for i := range r.Feeds[accountsFeed].From {
			if h := r.Feeds[accountsFeed].From[i].Accounts; h != nil && h.Currency() != "" {
				return h.Currency()
			}
		}
	}
	return r.Listing.Currency
}

var accountsFeed = FeedOf(catalogue.Statements)

// converts tells whether a field of a listing changes with the currency.
func (in *Conversion) converts(f *catalogue.Field, r *Record) bool {
	return in.To != "" && hasCurrency(r) && (f.Unit == catalogue.Price || f.Unit == catalogue.Money) && r.currencyOf(f.Currency()) != in.To
}

func (in *Conversion) unitOf(f *catalogue.Field, r *Record) string {
	switch {
	case in.converts(f, r):
		return in.To
	case f.Unit == catalogue.Price || f.Unit == catalogue.Money:
		return r.currencyOf(f.Currency())
	}
	return string(f.Unit)
}

// convert turns a value into the currency of the table. The rate is in its account.
func (in *Conversion) convert(f *catalogue.Field, r *Record, out *cell.Cell, now time.Time) {
	if out.Value.Kind != cell.Number || !in.converts(f, r) {
		return
	}
	day := r.Exchange.Today(now)
	if d, err := period.ParseDate(out.Period); err == nil && f.Currency() == formula.Own {
		day = d // accounts all go at one rate, so that growth and ratios stay what they are
	}
	in.exchange(out, r.currencyOf(f.Currency()), in.To, day)
}

// exchange turns an amount into another currency at the rate of a day.
func (in *Conversion) exchange(out *cell.Cell, from, to string, day period.Date) {
	if from == to {
		return
	}
	rate := in.Rates.On(from, to, day)
	if rate.Value == 0 {
		*out = rate.Account
		return
	}
	observed := out.Observed
	out.Absorb(&rate.Account)
	out.Observed = observed // the price's; that of the rate is in the detail
	out.Value = cell.Of(out.Value.Num * rate.Value)
	out.Flags |= cell.Converted
	if out.Detail == "" || rate.Account.State > cell.Fresh {
		out.Detail = rate.Account.Detail
	}
}

// observe reads a field from the source that was picked, or where that lacks it
// from another.
func observe(f *catalogue.Field, r *Record, feed int, g *Given, out *cell.Cell, limits freshness.Limits) {
	from := &r.Feeds[feed]
	read := func(g *Given) {
		o := g.Observation
		if slot := f.Slot(); slot < len(o.Values) {
			out.Value = o.Values[slot]
		}
		if o.Minor && (f.Unit == catalogue.Price || f.Unit == catalogue.Money) {
			out.Flags |= cell.MinorUnit
		}
	}
	read(g)
	for i := 0; out.Absent() && i < len(from.From); i++ {
		if other := &from.From[i]; other != g && other.Observation != nil {
			whole := *out
			*out = accountOf(other)
			if read(other); out.Absent() {
				*out = whole
			} else if whole.State == cell.Stale {
				out.State, out.Reason = whole.State, whole.Reason
			}
		}
	}
	if !out.Absent() {
		if told := from.conflicts(f, g, out.Value, limits.Tolerance); told != "" {
			out.Flags |= cell.Conflict
			out.Detail = told
		}
		return
	}
	reason, detail := cell.NotReported, ""
	if text, rejected := g.Observation.Rejected[f.Slot()]; rejected {
		reason, detail = cell.Rejected, text
	}
	out.State, out.Reason, out.Detail = cell.Missing, reason, detail
}

// indexOf returns the bars of the main index of a listing's exchange, whose account
// goes into the cell's; nil where there are none, and the cell says why.
func indexOf(r *Record, out *cell.Cell, now time.Time, limits freshness.Limits) (*series.Bars, time.Time) {
	if r.Index == nil {
		*out = cell.Gap(cell.InputMissing, "no main index of the exchange is known")
		return nil, time.Time{}
	}
	account, g, until := r.Index.account(catalogue.Bars, now, limits)
	if g == nil {
		*out = cell.Gap(cell.InputMissing, r.Index.Listing.Symbol.String()+": "+account.Reason.String())
		out.State = account.State
		return nil, time.Time{}
	}
	out.Absorb(&account)
	return g.Bars, until
}

// tell reads a field off dated records, or off those and bars.
func tell(s *step, r *Record, g *Given, with int, accounts *[feeds]cell.Cell, picked *[feeds]*Given, t *catalogue.Told, out *cell.Cell, tolerance float64) {
	if with >= 0 {
		other := &accounts[with]
		if picked[with] == nil {
			*out = cell.Gap(cell.InputMissing, string(s.field.With)+": "+other.Reason.String())
			out.State = other.State
			return
		}
		out.Absorb(other)
		if t.Bars == nil {
			t.Bars = picked[with].Bars
		} else {
			t.Entries, t.Payments, t.Accounts = picked[with].Entries, picked[with].Payments, picked[with].Accounts
		}
	}
	said := s.field.Tell(t)
	if said.Value.Kind == cell.Number && s.field.Dataset == catalogue.Statements {
		if told := r.disputed(s, g, &said, t.Day, tolerance); told != "" {
			said.Flags |= cell.Conflict
			said.Detail = told
		}
	}
	out.Flags |= said.Flags
	out.Period = said.Period
	if said.Reason != cell.NoReason {
		out.State, out.Reason, out.Detail = cell.Missing, said.Reason, said.Detail
		return
	}
	out.Value = said.Value
	if out.Detail == "" {
		out.Detail = said.Detail
	}
	if said.End != 0 {
		out.Observed = said.End.Time()
	}
	if said.Session != 0 {
		out.Period, out.Observed = said.Session.String(), r.Exchange.SessionOn(said.Session).Close
	}
}

func measure(s *step, r *Record, bars *series.Bars, out *cell.Cell, today period.Date) {
	day := today
	if s.field.Takes == catalogue.ADate {
		last := bars.Day[bars.Len()-1]
		if s.ref.Period.IsDate() {
			day = s.ref.Period.Date(day)
			if day <= last && out.State == cell.Stale {
				out.State, out.Reason, out.Detail = cell.Fresh, cell.NoReason, "" // a past close cannot go stale
			}
		}
		if i := bars.OnOrBefore(day); i >= 0 && s.ref.Period.IsDate() {
			session := bars.Day[i]
			out.Period, out.Observed = session.String(), r.Exchange.SessionOn(session).Close
		}
	}
	x, reason := s.field.Measure(bars, day)
	if reason != cell.NoReason {
		out.State, out.Reason = cell.Missing, reason
		out.Detail = "the history begins on " + bars.Day[0].String()
		return
	}
	out.Value = cell.Of(x)
}

// derive evaluates a formula; the environment already holds the row's cells.
func (p *Program) derive(slot int, row *Row, env *rowEnv) {
	s := &p.steps[slot]
	out := &row.Cells[slot]
	if s.field.AppliesTo(row.Record.Listing.Kind) {
		env.step = s
		if s.expr != nil {
			s.expr.Eval(env, out)
		} else {
			reckon(s, row, env, out)
		}
	} else {
		*out = cell.Gap(cell.NotApplicable, "")
	}
	out.Unit = env.in.unitOf(s.field, row.Record)
}

// reckon computes a field from the values of others. Prices go in in the currency
// of the listing, whatever the table's is.
func reckon(s *step, row *Row, env *rowEnv, out *cell.Cell) {
	r := row.Record
	in := make([]cell.Value, len(s.args))
	for i := range s.args {
		c := env.Field(i)
		formula.Take(c, s.field.From[i], out)
		in[i] = c.Value
		if f := catalogue.Find(s.field.From[i].ID); in[i].Kind == cell.Number && env.in.converts(f, r) {
			in[i].Num /= env.in.Rates.On(r.Listing.Currency, env.in.To, env.today).Value
		}
	}
	if out.State >= cell.Pending {
		return
	}
	said := s.field.Reckon(in, env.today)
	if said.Reason != cell.NoReason {
		out.State, out.Reason, out.Detail = cell.Missing, said.Reason, said.Detail
		return
	}
	out.Value = said.Value
	env.in.convert(s.field, r, out, env.now)
}

type rowEnv struct {
	now    time.Time
	in     Conversion
	record *Record
	cells  []cell.Cell
	step   *step
	steps  []step
	totals []cell.Cell
	told   catalogue.Told // what a field is read off, used again for the next
	off    *Given         // that this is off; nil where it is of this field alone
	formula.Scratch

	exchange *market.Exchange // that the row's listing is traded on
	today    period.Date      // there
	dayEnds  time.Time
}

// enter turns to a row.
func (e *rowEnv) enter(r *Record, cells []cell.Cell) {
	e.record, e.cells, e.off = r, cells, nil
	if e.exchange == r.Exchange {
		return
	}
	e.exchange, e.today = r.Exchange, r.Exchange.Today(e.now)
	e.dayEnds = (e.today + 1).In(r.Exchange.Zone, 0, 0)
}

func (e *rowEnv) Ref(ref int) formula.Ref    { return e.steps[e.step.args[ref]].ref }
func (e *rowEnv) Field(ref int) *cell.Cell   { return &e.cells[e.step.args[ref]] }
func (e *rowEnv) Total(total int) *cell.Cell { return &e.totals[e.step.totals[total]] }

// Convert turns an amount of the row from one currency into another.
func (e *rowEnv) Convert(c *cell.Cell, from, to string) {
	if from == formula.Own && !hasCurrency(e.record) {
		*c = cell.Gap(cell.NotApplicable, "what "+e.record.Listing.Symbol.String()+" stands at is no amount")
		return
	}
	for _, side := range []*string{&from, &to} {
		switch {
		case *side != formula.Own && *side != formula.Accounts:
		case e.in.To != "":
			*side = e.in.To
		default:
			*side = e.record.currencyOf(*side)
		}
	}
	if from == to {
		return
	}
	day := e.today
	if d, err := period.ParseDate(c.Period); err == nil {
		day = d
	}
	e.in.exchange(c, from, to, day)
}

// sum totals each slot that a formula needs over the rows to which it applies.
// One missing value, or a second currency, leaves the total missing.
func (p *Program) sum(rows []Row) []cell.Cell {
	totals := make([]cell.Cell, len(p.totals))
	for i, slot := range p.totals {
		total := &totals[i]
		for _, row := range rows {
			c := &row.Cells[slot]
			switch {
			case total.State == cell.Missing, c.State == cell.Missing && c.Reason == cell.NotApplicable:
				continue
			case c.Absent():
				*total = cell.Gap(cell.InputMissing, p.steps[slot].ref.String()+" of "+row.Record.Listing.Symbol.String()+": "+c.Reason.String())
				total.State = c.State
			case total.Unit != "" && total.Unit != c.Unit:
				*total = cell.Gap(cell.InputMissing, "an exchange rate: the list holds both "+total.Unit+" and "+c.Unit+"; read it in one currency")
			default:
				total.Absorb(c)
				total.Value, total.Unit = cell.Of(total.Value.Num+c.Value.Num), c.Unit
			}
		}
	}
	return totals
}

// keep drops the rows that the filter does not find true.
func (p *Program) keep(t *Table, env *rowEnv) {
	if p.filter == nil {
		return
	}
	env.step = p.filter
	t.Rows = slices.DeleteFunc(t.Rows, func(row Row) bool {
		var verdict cell.Cell
		env.enter(row.Record, row.Cells)
		p.filter.expr.Eval(env, &verdict)
		return !verdict.Value.IsTrue()
	})
}

// arrange sorts by the keys; gaps come last in either direction, and equal rows
// keep the list's order.
func (p *Program) arrange(t *Table) {
	if len(p.keys) == 0 {
		return
	}
	sort.SliceStable(t.Rows, func(i, j int) bool {
		for _, k := range p.keys {
			a, b := &t.Rows[i].Cells[k.slot], &t.Rows[j].Cells[k.slot]
			if a.Absent() || b.Absent() {
				if a.Absent() != b.Absent() {
					return b.Absent()
				}
				continue
			}
			order := compareValues(a.Value, b.Value)
			if k.descending {
				order = -order
			}
			if order != 0 {
				return order < 0
			}
		}
		return false
	})
}

func compareValues(a, b cell.Value) int {
	switch {
	case a.Kind == cell.Text:
		return strings.Compare(strings.ToLower(a.Text), strings.ToLower(b.Text))
	case a.Num < b.Num:
		return -1
	case a.Num > b.Num:
		return 1
	}
	return 0
}
