package source

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/source/clean"
	"soba.invalid/soba/internal/source/format"
)

// decoder turns the records of an answer into observations, as the parts of a
// call say. What cannot be right is rejected with the text that came, and the
// rest is kept.
type decoder struct {
	source *Source
	call   *Call
	answer *Answer
	now    time.Time
	asked  map[string]market.Symbol // by the source's own writing
	needs  map[met]*plan.Need
	only   market.Symbol // the one listing asked for, where there is but one
	parts  []*reading

	page     int
	records  int // of the page
	root     format.Row
	index    format.Row // what an index says of the document that is read
	partial  string     // why not all documents of an index were read
	answered map[met]bool
	failed   map[met]*Failure
	about    map[market.Symbol]*Failure // what the answer says of a listing as a whole
	series   map[met]*building
	entries  map[met]*building
	order    []met                      // of series and entries
	spread   map[catalogue.Dataset]bool // datasets whose records stand in several parts of the answer
	shape    string                     // how the answer is not as described

	sampling bool
	samples  []Sample
}

// met is what a record answers: one need.
type met struct {
	symbol  market.Symbol
	dataset catalogue.Dataset
}

// reading is a part with what has been found of it.
type reading struct {
	*part
	rows   int // records
	met    int // of them, those of a listing that was asked for
	symbol *slot
	fields []*slot
	by     map[string]*slot
	line   struct{ name, value *slot } // of the long form
	near   []string                    // the names in the first record
}

// slot is a mapped value with how often it was found.
type slot struct {
	*pick
	name  string
	field *catalogue.Field // of an observation
	found int
	last  struct { // text that was cleaned; records that follow each other often have the same
		raw, text string
		there     bool
	}
}

// building is a series or a list of entries that is coming in.
type building struct {
	origin   Origin
	minor    bool
	prices   []priced // bars in the order in which they came
	sealed   *Series  // bars that have been put in order
	rows     []dated
	byKey    map[string]int              // positions of the rows of the long form, by their key
	byText   map[string]int              // and by what stands in their fields
	filed    map[period.Date]period.Date // by the end that documents report on, when they were published
	rejected int
	sample   string
}

// priced is one bar; at is its day, or its second since 1970.
type priced struct {
	at     int64
	prices [5]float64
}

type dated struct {
	day    period.Date
	values []cell.Value
	place  string
	page   int
	before []cell.Value // what the newest of older documents says of the same
	from   []stood      // by column, where its value stood; of XBRL
	was    []stood      // and where that before
}

// stood tells of a value which document it is from, by the end of the period that
// this reports on, and how exactly its concept is what the column is.
type stood struct {
	reported period.Date
	rank     int
	own      bool // of the period that is reported on, and not of one that it is compared with
}

// What the places of the long form are called where something is said of them.
const (
	lineName  = "the name of the line"
	lineValue = "the value of the line"
)

func newDecoder(s *Source, c *Call, q plan.Request, a *Answer) *decoder {
	d := &decoder{
		source: s, call: c, answer: a, now: s.now(), asked: make(map[string]market.Symbol, len(q.Needs)), needs: make(map[met]*plan.Need, len(q.Needs)),
		answered: map[met]bool{}, failed: map[met]*Failure{}, about: map[market.Symbol]*Failure{}, series: map[met]*building{}, entries: map[met]*building{},
	}
	for i := range q.Needs {
		n := &q.Needs[i]
		if text, ok := s.Symbols.Symbol(n.Symbol, n.ISIN); ok {
			d.asked[text] = n.Symbol
		}
		d.needs[met{n.Symbol, n.Dataset}] = n
		d.only = n.Symbol
	}
	if len(d.asked) != 1 {
		d.only = market.Symbol{}
	}
	for i, p := range c.compiled.parts {
		if p.info.Shape == catalogue.Dated && slices.ContainsFunc(c.compiled.parts[:i], func(x *part) bool { return x.dataset == p.dataset }) {
			if d.spread == nil {
				d.spread = map[catalogue.Dataset]bool{}
			}
			d.spread[p.dataset] = true
		}
		r := &reading{part: p, by: map[string]*slot{}}
		if p.symbol != nil {
			r.symbol = &slot{pick: p.symbol, name: "symbol"}
		}
		for name, pick := range p.fields {
			f := &slot{pick: pick, name: name}
			if p.info.Shape == catalogue.Point {
				for _, field := range catalogue.ObservedIn(p.dataset) {
					if shortName(field) == name {
						f.field = field
					}
				}
			}
			r.fields, r.by[name] = append(r.fields, f), f
		}
		if l := p.lines; l != nil {
			r.line.name, r.line.value = &slot{pick: l.name, name: lineName}, &slot{pick: l.value, name: lineValue}
			r.fields = append(r.fields, r.line.name, r.line.value)
		}
		slices.SortFunc(r.fields, func(a, b *slot) int { return strings.Compare(a.name, b.name) })
		d.parts = append(d.parts, r)
	}
	return d
}

// read reads one page.
func (d *decoder) read(doc *document, page int) (format.Row, error) {
	d.page, d.records = page, 0
	if doc.none {
		return nil, nil
	}
	selections := make([]format.Selection, len(d.parts))
	for i, p := range d.parts {
		selections[i] = p.selection
	}
	limits := format.Limits{Rows: d.source.Limits.Records, Depth: deepest}
	type held struct {
		part int
		row  format.Row
	}
	var later []held
	whole := d.call.compiled.whole
	root, err := format.Read(doc, doc.contentType, &d.call.Format, selections, whole, limits, func(i int, row format.Row) error {
		d.records++
		if whole {
			later = append(later, held{i, row})
			return nil
		}
		return d.record(d.parts[i], row)
	})
	if err != nil {
		return nil, err
	}
	d.root = root
	if r, said := root.(format.Remarked); said {
		for _, text := range r.Remarks() {
			d.remark("%s", text)
		}
	}
	if f := d.refused(root); f != nil {
		return nil, f
	}
	for _, h := range later {
		if err := d.record(d.parts[h.part], h.row); err != nil {
			return nil, err
		}
	}
	d.missingRows(root)
	return root, d.explain(root)
}

// refused recognises an answer that says of itself that it is none.
func (d *decoder) refused(root format.Row) *Fault {
	at := d.call.compiled.failed
	if at == nil {
		return nil
	}
	code, nature := root.At(at)
	if nature != format.Text && nature != format.Number || code == "" {
		return nil
	}
	f := &Fault{Kind: Refused, Detail: code}
	if word := d.source.Replies.Means[code]; word != "" {
		f.Kind = faultWords[word]
	}
	if d.call.Format.Kind == format.JSON {
		explain(f, d.source, d.call, root)
	}
	return f
}

// missingRows notices that there is no place for the records of a part.
func (d *decoder) missingRows(root format.Row) {
	for _, p := range d.parts {
		l := p.selection.Rows
		if p.rows > 0 || l == nil {
			continue
		}
		parent, name, ok := l.Parent()
		if !ok {
			continue
		}
		if _, nature := root.At(parent); nature == format.Nested || nature == format.Text && d.call.Format.Kind == format.XML {
			continue // there, and empty
		}
		d.shape = fmt.Sprintf("there is nothing at %s", l)
		if near := Nearest(name, root.Names()); near != "" {
			d.shape += fmt.Sprintf("; the nearest there is %q", near)
		}
	}
}

// explain sorts the listings that the answer names as having no data.
func (d *decoder) explain(root format.Row) error {
	c := d.call.compiled
	whole, err := format.Compile(d.call.Format.Kind, map[bool]string{true: "$", false: "."}[d.call.Format.Kind != format.XML])
	if err != nil {
		return nil
	}
	if c.unknown != nil {
		for row := range root.Within(c.unknown) {
			text, _ := row.At(whole)
			d.say(text, cell.NotCovered, "it does not carry this listing")
		}
	}
	if c.errors.rows == nil {
		return nil
	}
	text := func(row format.Row, l *format.Locator) string {
		if l == nil {
			return ""
		}
		s, _ := row.At(l)
		return s
	}
	for row := range root.Within(c.errors.rows) {
		code := text(row, c.errors.code)
		word, known := d.call.Errors.Means[code]
		if !known {
			word = d.call.Errors.Means["*"]
		}
		reason, known := cell.ParseReason(word)
		if !known || reason == cell.NoReason {
			reason = cell.FetchFailed
		}
		message := text(row, c.errors.message)
		if message == "" {
			message = code
		}
		d.say(text(row, c.errors.symbol), reason, message)
	}
	return nil
}

func (d *decoder) say(theirs string, reason cell.Reason, detail string) {
	if symbol, asked := d.asked[theirs]; asked {
		d.about[symbol] = &Failure{Symbol: symbol, Reason: reason, Detail: detail}
	}
}

// record reads one record of a part, or those inside it.
func (d *decoder) record(p *reading, row format.Row) error {
	if p.within == nil {
		return d.one(p, row, row)
	}
	if p.info.Shape == catalogue.Prices || p.info.Shape == catalogue.Dated {
		d.open(p, row) // a listing whose list is empty has been answered
	}
	for inner := range row.Within(p.within) {
		if err := d.one(p, inner, row); err != nil {
			return err
		}
	}
	if p.info.Shape == catalogue.Prices {
		// Years of bars are many: they are put in columns listing by listing.
		if m, ok := d.meets(p, row, row); ok && d.series[m] != nil {
			d.series[m].seal(p.dataset)
		}
	}
	return nil
}

// open notes that the answer holds a listing.
func (d *decoder) open(p *reading, row format.Row) {
	if p.symbol == nil || p.symbol.Of == "outer" || p.symbol.Of == "" {
		if m, ok := d.meets(p, row, row); ok {
			d.building(p, m, row)
		}
	}
}

func (d *decoder) one(p *reading, row, outer format.Row) error {
	p.rows++
	if p.near == nil {
		p.near = row.Names()
	}
	for _, w := range p.where {
		if text, _ := row.At(w.at); text != w.want {
			p.rows--
			return nil
		}
	}
	if p.info.Shape == catalogue.Directory {
		p.met++
		d.sample(p, met{}, row, outer)
		d.listing(p, row, outer)
		return nil
	}
	m, ok := d.meets(p, row, outer)
	if !ok {
		return nil
	}
	p.met++
	d.sample(p, m, row, outer)
	switch p.info.Shape {
	case catalogue.Point:
		d.point(p, m, row, outer)
	case catalogue.Prices:
		d.bar(p, m, row, outer)
	case catalogue.Dated:
		d.dated(p, m, row, outer)
	}
	return nil
}

// meets finds the need that a record answers: one for a listing that was not
// asked for answers none.
func (d *decoder) meets(p *reading, row, outer format.Row) (met, bool) {
	m := met{d.only, p.dataset}
	if p.symbol != nil {
		from := row
		if p.within != nil {
			from = outer
		}
		text, there := d.text(p.symbol, from, outer)
		if !there {
			return m, false
		}
		m.symbol = d.asked[text]
	}
	return m, d.needs[m] != nil
}

// raw is the text at a mapped place, before any cleaning.
func (d *decoder) raw(s *slot, row, outer format.Row) (string, format.Nature) {
	if s.at == nil {
		s.found++
		return s.Value, format.Text
	}
	from := row
	switch s.Of {
	case "outer":
		from = outer
	case "document":
		from = d.root
	case "index":
		if f, ok := row.(format.Fact); d.index == nil || ok && !f.Own() {
			return "", format.Absent // it speaks of the document, and not of what that compares with
		}
		from = d.index
	}
	text, nature := from.At(s.at)
	if nature != format.Absent {
		s.found++
	}
	if s.match != nil && nature > format.Null {
		m := s.match.FindStringSubmatch(text)
		if m == nil {
			return "", format.Null
		}
		text, nature = m[1], format.Text
	}
	return text, nature
}

// text reads a cleaned and translated text.
func (d *decoder) text(s *slot, row, outer format.Row) (string, bool) {
	raw, nature := d.raw(s, row, outer)
	if nature <= format.Null || nature == format.Nested {
		return "", false
	}
	if s.last.raw != raw || raw == "" {
		s.last.raw = raw
		s.last.text, s.last.there = s.clean(raw)
	}
	return s.last.text, s.last.there
}

// clean applies the rules for texts and the translation.
func (s *slot) clean(raw string) (string, bool) {
	text, there := s.rules.Text(raw)
	if !there {
		return "", false
	}
	if s.Map != nil {
		if to, known := s.Map[text]; known {
			return to, to != ""
		}
		if to, known := s.Map["*"]; known {
			return to, to != ""
		}
	}
	return text, true
}

// number reads a number in the unit of the catalogue. Where what came is none,
// the text is returned as rejected.
func (d *decoder) number(s *slot, row, outer format.Row) (x float64, there bool, rejected string) {
	raw, nature := d.raw(s, row, outer)
	var err error
	switch nature {
	case format.Absent, format.Null:
		return 0, false, ""
	case format.Number:
		x, err = strconv.ParseFloat(raw, 64)
		there = true
	case format.Text:
		x, there, err = s.rules.Number(raw)
	default:
		err = errors.New("not a number")
	}
	if err != nil || math.IsInf(x, 0) {
		return 0, false, shortened(raw)
	}
	return clean.Scale(x, s.scale), there, ""
}

func shortened(raw string) string {
	if raw == "" {
		return "(a list or an object)"
	}
	if r := []rune(raw); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return raw
}

// truth reads a yes or no; no where nothing is mapped or found.
func (d *decoder) truth(s *slot, row, outer format.Row) bool {
	if s == nil {
		return false
	}
	text, _ := d.text(s, row, outer)
	switch strings.ToLower(text) {
	case "true", "yes", "1", "y":
		return true
	}
	return false
}

func (d *decoder) fail(m met, reason cell.Reason, text string, args ...any) {
	if d.failed[m] == nil {
		d.failed[m] = &Failure{m.symbol, m.dataset, reason, fmt.Sprintf(text, args...)}
	}
}

// currency checks that amounts come in the currency of the listing.
func (d *decoder) currency(p *reading, m met, row, outer format.Row) bool {
	s := p.by["currency"]
	if s == nil || p.info.Column("currency") >= 0 {
		return true
	}
	text, there := d.text(s, row, outer)
	if want := d.needs[m].Currency; there && want != "" && text != want {
		d.fail(m, cell.Rejected, "the %s are in %q, the listing in %s", p.dataset, text, want)
		return false
	}
	return true
}

// clockSkew is how far ahead of ours a source's clock may run.
const clockSkew = 5 * time.Minute

func (d *decoder) point(p *reading, m met, row, outer format.Row) {
	if d.answered[m] || !d.currency(p, m, row, outer) {
		return // the first of several counts
	}
	fields := catalogue.ObservedIn(p.dataset)
	o := Point{Origin: Origin{Symbol: m.symbol, Dataset: p.dataset, Page: d.page, Place: row.Place()}, Raw: map[string]Raw{}}
	i := slices.IndexFunc(d.answer.Points, func(x Point) bool { return x.Symbol == m.symbol && x.Dataset == m.dataset && len(d.parts) > 1 })
	if i >= 0 {
		o = d.answer.Points[i] // another part of the call has brought some of its fields
	} else {
		o.Values, o.Observed = make([]cell.Value, len(fields)), d.now
		o.Standalone = d.call.Standalone
		o.Delay = d.source.Delay
		if p.dataset != catalogue.Quotes {
			o.Delay = 0
		}
	}
	if s := p.by["time"]; s != nil {
		text, there := d.text(s, row, outer)
		at, err := clean.Time(text, s.layout, s.zone)
		switch {
		case !there || err != nil:
			d.fail(m, cell.Rejected, "the time is %q", shortened(text))
			return
		case at.After(d.now.Add(clockSkew)):
			d.fail(m, cell.Rejected, "the time, %s, lies ahead: the source's clock or its data are wrong", at.UTC().Format(time.RFC3339))
			return
		}
		o.Observed = at
	}
	if s := p.by["delay"]; s != nil && p.dataset == catalogue.Quotes {
		if minutes, there, _ := d.number(s, row, outer); there && minutes >= 0 {
			o.Delay = time.Duration(minutes * float64(time.Minute))
		}
	}
	minor := d.truth(p.by["minor"], row, outer)
	o.Minor = o.Minor || minor
	for _, s := range p.fields {
		if s.field == nil || s.name == "time" || s.name == "delay" && p.dataset == catalogue.Quotes {
			continue
		}
		v, rejected := d.value(s, s.field.Unit, s.field.Symbol, minor, row, outer)
		o.Values[s.field.Slot()] = v
		if rejected != "" {
			if o.Rejected == nil {
				o.Rejected = map[int]string{}
			}
			o.Rejected[s.field.Slot()] = rejected
		}
		if s.at != nil {
			if raw, nature := d.raw(s, row, outer); nature > format.Null && nature != format.Nested {
				s.found--
				o.Raw[s.field.ID] = Raw{s.at.String(), shortened(raw)}
			}
		}
	}
	if p.dataset == catalogue.Quotes {
		o.Values[catalogue.Find("quote.time").Slot()] = cell.OfTime(o.Observed)
		o.Values[catalogue.Find("quote.delay").Slot()] = cell.Of(o.Delay.Minutes())
		o.Suspect = improbable(o.Values)
	}
	if i >= 0 {
		d.answer.Points[i] = o
		return
	}
	d.answer.Points = append(d.answer.Points, o)
	if len(d.parts) == 1 {
		d.answered[m] = true
	}
}

// value reads one value of a unit. What has the wrong type, or is a price of
// zero or less, is rejected: the text that came is returned.
func (d *decoder) value(s *slot, unit catalogue.Unit, symbol, minor bool, row, outer format.Row) (cell.Value, string) {
	switch unit {
	case catalogue.Text, catalogue.Date, catalogue.Time:
		text, there := d.text(s, row, outer)
		if !there {
			if raw, nature := d.raw(s, row, outer); nature == format.Nested {
				s.found--
				return cell.Value{}, shortened(raw)
			}
			return cell.Value{}, ""
		}
		if unit == catalogue.Date && !strings.HasPrefix(text, "--") {
			day, err := clean.Date(text, s.layout)
			if err != nil {
				return cell.Value{}, shortened(text)
			}
			text = day.String()
		}
		if symbol {
			if x, ok := d.source.Symbols.Read(text); ok {
				text = x.String()
			}
		}
		return cell.OfText(text), ""
	}
	x, there, rejected := d.number(s, row, outer)
	if !there {
		return cell.Value{}, rejected
	}
	if x <= 0 && unit == catalogue.Price || x < 0 && (unit == catalogue.Shares || unit == catalogue.Count) {
		return cell.Value{}, strconv.FormatFloat(x, 'g', -1, 64)
	}
	if minor && (unit == catalogue.Price || unit == catalogue.Money) {
		x /= 100
	}
	return cell.Of(x), ""
}

// improbable marks a quote that moved tenfold from its previous close, or whose
// last price lies outside of what its own day is said to have seen.
func improbable(values []cell.Value) bool {
	at := func(id string) (float64, bool) {
		v := values[catalogue.Find(id).Slot()]
		return v.Num, v.Kind == cell.Number
	}
	last, known := at("quote.last")
	if !known {
		return false
	}
	if previous, known := at("quote.previous_close"); known && (last/previous >= 10 || last/previous <= 0.1) {
		return true
	}
	high, hasHigh := at("quote.high")
	low, hasLow := at("quote.low")
	const rounding = 1e-9
	return hasHigh && last > high*(1+rounding) || hasLow && last < low*(1-rounding)
}

func (d *decoder) listing(p *reading, row, outer format.Row) {
	var symbol market.Symbol
	var text string
	ok := false
	if p.symbol != nil {
		text, _ = d.text(p.symbol, row, outer)
		symbol, ok = d.source.Symbols.Read(text)
	}
	field := func(name string) string {
		s := p.by[name]
		if s == nil {
			return ""
		}
		text, _ := d.text(s, row, outer)
		return text
	}
	if ticker := field("ticker"); ticker != "" {
		text = ticker
		if code, known := d.source.Symbols.ours(field("exchange")); known {
			x, err := market.ParseSymbol(ticker + "." + code)
			symbol, ok = x, err == nil
		}
	}
	l := market.Listing{Symbol: symbol, Name: field("name"), Kind: market.Kind(field("kind")), Currency: field("currency"), Issuer: field("issuer")}
	if !ok || l.Name == "" || !market.IsCurrency(l.Currency) || !slices.Contains(market.Kinds, l.Kind) {
		p.rows--
		d.remark("a listing at %s (%q) lacks a symbol of this source, a name, a known kind or a currency", row.Place(), text)
		return
	}
	if isin, err := market.ParseISIN(field("isin")); err == nil {
		l.ISIN = isin // a wrong number is worse than none
	}
	if s := p.by["part"]; s != nil {
		if x, there, _ := d.number(s, row, outer); there && x > 0 && x < 1 {
			l.Part = x
		}
	}
	if text := field("ended"); text != "" {
		if day, err := clean.Date(text, p.by["ended"].layout); err == nil {
			l.Ended = day
		}
	}
	d.answer.Listings = append(d.answer.Listings, l)
}

// manyRemarks is how many remarks are kept of one answer.
const manyRemarks = 20

func (d *decoder) remark(text string, args ...any) {
	if len(d.answer.Remarks) < manyRemarks {
		d.answer.Remarks = append(d.answer.Remarks, fmt.Sprintf(text, args...))
	}
}

// building finds or begins what is coming in for a need.
func (d *decoder) building(p *reading, m met, row format.Row) *building {
	all := d.series
	if p.info.Shape == catalogue.Dated {
		all = d.entries
	}
	b := all[m]
	if b == nil {
		b = &building{origin: Origin{Symbol: m.symbol, Dataset: p.dataset, Page: d.page, Place: row.Place()}}
		all[m] = b
		d.order = append(d.order, m)
	}
	return b
}

func (b *building) reject(row format.Row, why string) {
	if b.rejected++; b.rejected == 1 {
		b.sample = row.Place() + ": " + why
	}
}

func (d *decoder) bar(p *reading, m met, row, outer format.Row) {
	b := d.building(p, m, outer)
	if !d.currency(p, m, row, outer) {
		return
	}
	var r priced
	date, there := d.text(p.by["date"], row, outer)
	var err error
	if p.dataset == catalogue.Intraday {
		var at time.Time
		if at, err = clean.Time(date, p.by["date"].layout, p.by["date"].zone); err == nil && at.After(d.now.Add(clockSkew)) {
			err = errors.New("lies ahead")
		}
		r.at = at.Unix()
	} else {
		var day period.Date
		if day, err = clean.Date(date, p.by["date"].layout); err == nil && day > period.DateOf(d.now.UTC())+1 {
			err = errors.New("lies ahead")
		}
		r.at = int64(day)
	}
	if !there || err != nil {
		b.reject(row, fmt.Sprintf("the date %q", date))
		return
	}
	scale := 1.0
	if d.truth(p.by["minor"], row, outer) {
		b.minor, scale = true, 100
	}
	cl, there, bad := d.number(p.by["close"], row, outer)
	if !there || cl <= 0 {
		b.reject(row, fmt.Sprintf("the close %q", bad))
		return
	}
	r.prices = [5]float64{cl, cl, cl, cl, 0}
	for i, name := range []string{"open", "high", "low", "", "volume"} {
		s := p.by[name]
		if s == nil {
			continue
		}
		x, there, bad := d.number(s, row, outer)
		if bad != "" || there && x < 0 {
			b.reject(row, fmt.Sprintf("the %s %q", name, bad))
			return
		}
		if there {
			r.prices[i] = x
		}
	}
	open, high, low := r.prices[0], r.prices[1], r.prices[2]
	if !(low > 0 && low <= open && low <= cl && high >= open && high >= cl) {
		b.reject(row, fmt.Sprintf("open %v, high %v, low %v, close %v cannot all be right", open, high, low, cl))
		return
	}
	for i := range 4 {
		r.prices[i] /= scale
	}
	b.prices = append(b.prices, r)
}

// line reads one value of a record that comes in the long form.
func (d *decoder) line(p *reading, m met, row, outer format.Row) {
	name, _ := d.raw(p.line.name, row, outer)
	columns, known := p.lines.columns[name]
	if !known {
		name, _ = d.text(p.line.name, row, outer)
		if columns, known = p.lines.columns[name]; !known {
			return
		}
	}
	b := d.building(p, m, outer)
	at, ok := d.recordOf(b, p, row, outer)
	if !ok {
		return
	}
	for _, c := range columns {
		v, rejected := d.value(p.line.value, p.info.Columns[c.at].Unit, false, d.truth(p.by["minor"], row, outer), row, outer)
		if rejected != "" {
			b.reject(row, fmt.Sprintf("%s %q", name, rejected))
			return
		}
		v.Num *= c.sign
		if f, reports := row.(format.Fact); reports {
			d.published(b, p, f)
			b.rows[at].take(f, c, v, p.info)
		} else {
			b.rows[at].values[c.at] = v
		}
	}
}

// published notes when the document was published that is being read.
func (d *decoder) published(b *building, p *reading, f format.Fact) {
	s := p.by["filed"]
	if b.filed[f.Reported()] != 0 || s == nil || s.Of != "index" || d.index == nil {
		return
	}
	text, _ := d.index.At(s.at)
	if day, err := clean.Date(text, s.layout); err == nil {
		if b.filed == nil {
			b.filed = map[period.Date]period.Date{}
		}
		b.filed[f.Reported()] = day
	}
}

// take takes a value out of a document. Within one the concept counts that is most
// exactly what is meant; of several documents the newest, and what an older one says
// otherwise is what the value was before. What counts in shares is taken from the report
// of the period itself where that is there: what it is later compared with is in the
// shares of another day.
func (r *dated) take(f format.Fact, c lineColumn, v cell.Value, info *catalogue.DatasetInfo) {
	if r.from == nil {
		r.from, r.was, r.before = make([]stood, len(r.values)), make([]stood, len(r.values)), make([]cell.Value, len(r.values))
	}
	at, now := c.at, stood{f.Reported(), c.rank, f.Own()}
	had := r.from[at]
	inShares := countsShares(info, at)
	newer := had.reported < now.reported
	if inShares && had.reported != 0 && had.own != now.own {
		newer = now.own
	}
	switch {
	case had.reported == now.reported && had.rank <= now.rank:
	case had.reported == now.reported || newer:
		if had.reported != 0 && had.reported < now.reported && !inShares {
			r.before[at], r.was[at] = r.values[at], had
		}
		r.values[at], r.from[at] = v, now
	case !inShares && (r.was[at].reported < now.reported || r.was[at].reported == now.reported && r.was[at].rank > now.rank):
		r.before[at], r.was[at] = v, now
	}
}

// countsShares tells whether a column of reports counts in shares.
func countsShares(info *catalogue.DatasetInfo, at int) bool {
	return info.Columns[at].Unit == catalogue.Shares || statement.IsPerShare(info.Columns[at].Name)
}

// sharesOf says in the shares of which day a record counts, of which no report of its own
// has any: that of the document in which they stand, or else of the end that it reports on.
func (r *dated) sharesOf(info *catalogue.DatasetInfo, filed map[period.Date]period.Date) {
	own, compared := false, period.Date(0)
	for i, from := range r.from {
		switch {
		case !countsShares(info, i) || from.reported == 0:
		case from.own:
			own = true
		default:
			compared = max(compared, from.reported)
		}
	}
	for i, from := range r.from {
		if own && countsShares(info, i) && !from.own { // which would not go with its own
			r.values[i] = cell.Value{}
		}
	}
	if !own && compared != 0 {
		r.values[info.Column("shares_of")] = cell.OfText(max(compared, filed[compared]).String())
	}
}

// recordOf finds or begins the record that a value belongs to. What its fields are is
// read once for all values under which the same stands.
func (d *decoder) recordOf(b *building, p *reading, row, outer format.Row) (int, bool) {
	var written strings.Builder
	for _, s := range p.fields {
		if s != p.line.name && s != p.line.value {
			raw, _ := d.raw(s, row, outer)
			written.WriteString(raw)
			written.WriteByte(0)
		}
	}
	if at, read := b.byText[written.String()]; read {
		return at, true
	}
	r, ok := d.columns(b, p, row, outer)
	if !ok {
		return 0, false
	}
	if b.byKey == nil {
		b.byKey, b.byText = map[string]int{}, map[string]int{}
	}
	key := KeyOf(p.info, r.values)
	at, begun := b.byKey[key]
	if !begun {
		at = len(b.rows)
		b.byKey[key], b.rows = at, append(b.rows, r)
	}
	for i, v := range r.values { // what one document does not say of the report another may
		if b.rows[at].values[i].Kind == cell.None {
			b.rows[at].values[i] = v
		}
	}
	b.byText[written.String()] = at
	return at, true
}

func (d *decoder) dated(p *reading, m met, row, outer format.Row) {
	if p.lines != nil {
		d.line(p, m, row, outer)
		return
	}
	b := d.building(p, m, outer)
	if d.spread[p.dataset] {
		d.recordOf(b, p, row, outer)
		return
	}
	if r, ok := d.columns(b, p, row, outer); ok {
		b.rows = append(b.rows, r)
	}
}

// columns reads the mapped columns of a record; false where it is rejected.
func (d *decoder) columns(b *building, p *reading, row, outer format.Row) (dated, bool) {
	r := dated{place: row.Place(), page: d.page, values: make([]cell.Value, len(p.info.Columns))}
	minor := d.truth(p.by["minor"], row, outer)
	b.minor = b.minor || minor
	for i, col := range p.info.Columns {
		s := p.by[col.Name]
		if s == nil {
			continue
		}
		v, rejected := d.value(s, col.Unit, col.Symbol, minor, row, outer)
		if col.Required && v.Kind == cell.None {
			b.reject(row, fmt.Sprintf("the %s %q", strings.ReplaceAll(col.Name, "_", " "), rejected))
			return r, false
		}
		r.values[i] = v
		if i == 0 && col.Unit == catalogue.Date {
			r.day, _ = period.ParseDate(v.Text) // value has read it already
		}
	}
	if i := p.info.Column("ratio"); i >= 0 && r.values[i].Num <= 0 {
		b.reject(row, fmt.Sprintf("the ratio %v", r.values[i].Num))
		return r, false
	}
	return r, true
}

// remark says what was rejected.
func (b *building) remark(what string) string {
	if b.rejected == 1 {
		return fmt.Sprintf("one %s rejected, at %s", what, b.sample)
	}
	return fmt.Sprintf("%d %ss rejected, the first at %s", b.rejected, what, b.sample)
}

// Bounds of what passes as an answer with a few bad records: in one of at least
// manyRecords, no field may be unusable in more than half of them.
const manyRecords = 10

// spoiled tells of a field that is unusable in most records of an answer: then it
// is the answer that is wrong, rather than the records, and what was known before
// is better. Of quotes that holds for a last price that is missing, too.
func (d *decoder) spoiled() string {
	type field struct {
		dataset catalogue.Dataset
		slot    int
	}
	records := map[catalogue.Dataset]int{}
	bad := map[field]int{}
	example := map[field]string{}
	last := catalogue.Find("quote.last").Slot()
	for i := range d.answer.Points {
		p := &d.answer.Points[i]
		records[p.Dataset]++
		for slot, text := range p.Rejected {
			bad[field{p.Dataset, slot}]++
			example[field{p.Dataset, slot}] = text
		}
		if p.Dataset == catalogue.Quotes && p.Values[last].Kind == cell.None && p.Rejected[last] == "" {
			bad[field{p.Dataset, last}]++
			example[field{p.Dataset, last}] = "nothing"
		}
	}
	for f, n := range bad {
		if records[f.dataset] >= manyRecords && 2*n > records[f.dataset] {
			return fmt.Sprintf("%s is unusable in %d of %d records, as in %q", catalogue.ObservedIn(f.dataset)[f.slot].ID, n, records[f.dataset], example[f])
		}
	}
	return ""
}

// conclude finishes an answer; the error is the fault of one that turned out to be none.
func (d *decoder) conclude() error {
	d.finish()
	a := d.answer
	if text := d.spoiled(); text != "" {
		return &Fault{Kind: Malformed, Status: a.Last().Status, Detail: text}
	}
	if d.shape != "" && len(a.Points)+len(a.Series)+len(a.Entries)+len(a.Listings) == 0 {
		return &Fault{Kind: Reshaped, Status: a.Last().Status, Detail: d.shape}
	}
	return nil
}

// finish puts together what came in over all pages, and accounts for what did not.
func (d *decoder) finish() {
	for _, p := range d.parts {
		d.checkShape(p)
	}
	for _, m := range d.order {
		if b := d.series[m]; b != nil {
			d.finishSeries(m, b)
		}
		if b := d.entries[m]; b != nil {
			d.finishEntries(m, b)
		}
	}
	for _, x := range d.answer.Points {
		d.answered[met{x.Symbol, x.Dataset}] = true
	}
	for m, n := range d.needs {
		if d.answered[m] || n.Dataset == catalogue.Listings {
			continue
		}
		f := d.failed[m]
		switch {
		case f != nil:
		case d.about[m.symbol] != nil:
			said := *d.about[m.symbol]
			said.Dataset = m.dataset
			f = &said
		case catalogue.Info(m.dataset).Shape == catalogue.Dated && m.dataset != catalogue.Rates && m.dataset != catalogue.Statements && d.shape == "":
			// A listing without any record simply has none; but every issuer reports.
			d.answer.Entries = append(d.answer.Entries, Entries{Origin: Origin{Symbol: m.symbol, Dataset: m.dataset, Page: d.page}})
			continue
		default:
			f = &Failure{m.symbol, m.dataset, cell.NotReported, fmt.Sprintf("its answer leaves out %s", m.symbol)}
		}
		d.answer.Failures = append(d.answer.Failures, *f)
	}
	// Maps have no order; answers have.
	slices.SortFunc(d.answer.Failures, func(a, b Failure) int {
		if c := strings.Compare(string(a.Dataset), string(b.Dataset)); c != 0 {
			return c
		}
		return strings.Compare(a.Symbol.String(), b.Symbol.String())
	})
	slices.SortFunc(d.answer.Entries, func(a, b Entries) int {
		if c := strings.Compare(string(a.Dataset), string(b.Dataset)); c != 0 {
			return c
		}
		return strings.Compare(a.Symbol.String(), b.Symbol.String())
	})
}

// checkShape compares what was found with what the description promises.
func (d *decoder) checkShape(p *reading) {
	if p.rows == 0 {
		return
	}
	free := slices.DeleteFunc(slices.Clone(p.near), func(name string) bool {
		taken := func(s *slot) bool {
			return s != nil && s.at != nil && s.found > 0 && strings.TrimPrefix(s.at.String(), "$.") == name
		}
		return taken(p.symbol) || slices.ContainsFunc(p.fields, taken)
	})
	hint := func(s *slot) string {
		if near := Nearest(strings.TrimPrefix(s.at.String(), "$."), free); near != "" && s.Of == "" {
			return fmt.Sprintf("; the nearest there is %q", near)
		}
		return ""
	}
	if p.symbol != nil && p.symbol.found == 0 && p.symbol.at != nil {
		d.shape = fmt.Sprintf("%s: no record has the symbol at %q%s", p.dataset, p.symbol.at, hint(p.symbol))
		return
	}
	if p.met == 0 {
		return // nothing was looked for in records of others
	}
	required := requiredFields(p.info)
	for _, s := range p.fields {
		if s.found > 0 || s.at == nil {
			continue
		}
		text := fmt.Sprintf("%s: no record has %s at %q%s", p.dataset, s.name, s.at, hint(s))
		if s.name == lineName || s.name == lineValue || slices.Contains(required, s.name) && len(d.series) > 0 || p.info.Shape == catalogue.Dated && slices.Contains(required, s.name) {
			d.shape = text
		}
		d.remark("%s", text)
	}
}

// seal puts the bars that have come in into order and into columns. Of two that
// agree one is dropped; of two that do not, the later to come is rejected.
func (b *building) seal(d catalogue.Dataset) {
	if b.sealed != nil { // of a page before
		out := &b.sealed.Bars
		for i := range out.Len() {
			at := int64(out.Day[i])
			if b.sealed.Times != nil {
				at = b.sealed.Times[i].Unix()
			}
			b.prices = append(b.prices, priced{at, [5]float64{out.Open[i], out.High[i], out.Low[i], out.Close[i], out.Volume[i]}})
		}
	}
	slices.SortStableFunc(b.prices, func(x, y priced) int { return cmp.Compare(x.at, y.at) })
	s := &Series{Origin: b.origin}
	for i, r := range b.prices {
		if i > 0 && r.at == b.prices[i-1].at {
			if r.prices != b.prices[i-1].prices {
				if b.rejected++; b.rejected == 1 {
					b.sample = b.origin.Place + ": a second, different bar"
				}
			}
			continue
		}
		day := period.Date(r.at)
		if d == catalogue.Intraday {
			at := time.Unix(r.at, 0).UTC()
			s.Times = append(s.Times, at)
			day = period.DateOf(at)
		}
		s.Bars.Append(day, r.prices[0], r.prices[1], r.prices[2], r.prices[3], r.prices[4])
	}
	b.sealed, b.prices = s, nil
}

// finishSeries hands over a series with what is to be said of it.
func (d *decoder) finishSeries(m met, b *building) {
	if len(b.prices) > 0 || b.sealed == nil {
		b.seal(m.dataset)
	}
	s := b.sealed
	s.Minor = b.minor
	if b.rejected > 0 {
		s.Remark = b.remark("bar")
		if s.Bars.Len() == 0 {
			d.fail(m, cell.Rejected, "%s", s.Remark)
			return
		}
	}
	if d.failed[m] != nil {
		return
	}
	d.answered[m] = true
	d.answer.Series = append(d.answer.Series, *s)
	b.sealed = nil
}

func (d *decoder) finishEntries(m met, b *building) {
	info := catalogue.Info(m.dataset)
	out := Entries{Origin: b.origin}
	seen := map[string]bool{}
	for _, r := range b.rows {
		if r.from != nil {
			r.sharesOf(info, b.filed)
		}
		key := KeyOf(info, r.values)
		if seen[key] {
			if b.rejected++; b.rejected == 1 {
				b.sample = r.place + ": a second record of " + key
			}
			continue
		}
		seen[key] = true
		e := entry.Entry{Day: r.day, Values: r.values, Place: r.place, Page: r.page}
		for i, v := range r.before {
			if v.Kind == cell.None || v == r.values[i] {
				continue
			}
			if e.Before == nil {
				e.Before = slices.Clone(r.values)
			}
			e.Before[i] = v
		}
		out.Entries = append(out.Entries, e)
	}
	out.Entries.Sort()
	out.Remark = d.partial
	if b.rejected > 0 {
		out.Remark = b.remark("record")
		if len(out.Entries) == 0 {
			d.fail(m, cell.Rejected, "%s", out.Remark)
			return
		}
	}
	d.answered[m] = true
	d.answer.Entries = append(d.answer.Entries, out)
}

// KeyOf is what tells an entry from others of its listing: its key columns.
func KeyOf(info *catalogue.DatasetInfo, values []cell.Value) string {
	var parts []string
	for i, col := range info.Columns {
		if col.Key {
			parts = append(parts, values[i].Text)
		}
	}
	return strings.Join(parts, "|")
}
