// Package xbrl reads what issuers file: XBRL 2.1 instance documents and their form in
// JSON (xBRL-JSON 1.0). It gives the facts of the issuer as a whole, each with its
// place in the issuer's fiscal years.
package xbrl

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// A Document is what one filing reports.
type Document struct {
	Entity   string      // that it is about, as the document identifies it
	End      period.Date // of the period that it reports on
	Currency string      // in which it is presented, ISO 4217
	Standard string      // of accounting: IFRS or US GAAP
	Facts    []Fact
	Remarks  []string // what was left out, and why
}

// Fact is one number of a document.
type Fact struct {
	Concept    string // prefix and name, as ifrs-full:Revenue
	Value      string // as reported
	Unit       string // ISO 4217 code, shares, a fraction of both as EUR/shares, or pure
	End        period.Date
	Part       statement.Part
	Year       int // fiscal
	Standalone bool
	Place      string // where in the document it stands
}

// Bounds of a document.
type Limits struct {
	Facts int // with contexts and units
	Depth int // of nesting
}

// Errors of documents that cannot be read.
var (
	ErrTooMany = errors.New("too many facts")
	errForm    = errors.New("is no XBRL instance document")
)

// Taxonomies whose concepts have the same name in every document, whatever prefix and
// version it declares.
const (
	ifrs   = "ifrs-full"
	usGAAP = "us-gaap"
	entity = "dei"
)

var standards = map[string]string{ifrs: "IFRS", usGAAP: "US GAAP"}

// taxonomy is the usual prefix of a public taxonomy, by the address of its namespace;
// "" for any other.
func taxonomy(namespace string) string {
	switch {
	case strings.HasSuffix(namespace, "/ifrs-full"):
		return ifrs
	case strings.Contains(namespace, "/us-gaap/"):
		return usGAAP
	case strings.Contains(namespace, "/dei/"):
		return entity
	}
	return ""
}

// The axis on which facts of the group and of the parent alone are told apart, and its
// two members.
const (
	basisAxis = ifrs + ":ConsolidatedAndSeparateFinancialStatementsAxis"
	ofGroup   = ifrs + ":ConsolidatedMember"
	ofParent  = ifrs + ":SeparateMember"
)

// Facts about the document.
const (
	focusYear     = entity + ":DocumentFiscalYearFocus"
	focusPart     = entity + ":DocumentFiscalPeriodFocus"
	documentEnd   = entity + ":DocumentPeriodEndDate"
	yearEnd       = entity + ":CurrentFiscalYearEndDate"
	reportingEnd  = ifrs + ":DateOfEndOfReportingPeriod2013"
	reportingKind = ifrs + ":DescriptionOfNatureOfFinancialStatements"
	ownedInAll    = ":Assets"
)

// span is the stretch of days that a fact is of; first is 0 where it is of a day.
type span struct{ first, end period.Date }

// context is what a fact is of.
type context struct {
	span
	entity string
	basis  string // member of the axis of the basis; "" where it is not on it
	other  bool   // it is of a part of the issuer only, along any other dimension
}

// entry is a fact as it was read, before it is known what is around it.
type entry struct {
	concept  string
	value    string
	unit     string
	decimals float64 // digits after the point that are right; +Inf: all
	of       context
	place    string
}

// raw is a document as it was read.
type raw struct {
	facts []entry
	about map[string]string // facts about the document
}

// assemble makes a document of what was read.
func (r *raw) assemble() (*Document, error) {
	d := &Document{}
	if len(r.facts) == 0 {
		return nil, fmt.Errorf("%w that has a number in it", errForm)
	}
	d.Currency = r.currency()
	foreign := 0
	kept := r.facts[:0]
	for _, f := range r.facts {
		money, _, _ := strings.Cut(f.unit, "/")
		switch {
		case f.of.other:
		case isCurrency(money) && money != d.Currency:
			foreign++
		default:
			kept = append(kept, f)
		}
	}
	if foreign > 0 {
		d.remark("%d facts are in another currency than %s and were left out", foreign, d.Currency)
	}
	kept = d.single(kept)
	d.Entity = r.about["entity"]
	if err := d.place(kept, r.about); err != nil {
		return nil, err
	}
	return d, nil
}

func (d *Document) remark(text string, args ...any) {
	d.Remarks = append(d.Remarks, fmt.Sprintf(text, args...))
}

// currency is the one that most facts are in.
func (r *raw) currency() (most string) {
	count := map[string]int{}
	for i := range r.facts {
		if u := r.facts[i].unit; isCurrency(u) && !r.facts[i].of.other {
			count[u]++
		}
	}
	for c, n := range count {
		if n > count[most] || n == count[most] && c < most {
			most = c
		}
	}
	return most
}

func isCurrency(unit string) bool {
	return len(unit) == 3 && strings.ToUpper(unit) == unit && unit != ""
}

// single keeps one of facts that say the same. Where they do not, all are left out:
// nobody can say which is right.
func (d *Document) single(facts []entry) []entry {
	type key struct {
		concept, unit, basis string
		span
	}
	at := make(map[key]int, len(facts))
	differ := map[key]bool{}
	kept := facts[:0]
	for _, f := range facts {
		k := key{f.concept, f.unit, f.of.basis, f.of.span}
		i, before := at[k]
		if !before {
			at[k] = len(kept)
			kept = append(kept, f)
			continue
		}
		if !agree(&kept[i], &f) {
			if !differ[k] {
				d.remark("%s of %s is both %s and %s: neither was taken", f.concept, f.of.end, kept[i].value, f.value)
			}
			differ[k] = true
		}
		if f.decimals > kept[i].decimals {
			kept[i] = f
		}
	}
	return slices.DeleteFunc(kept, func(f entry) bool { return differ[key{f.concept, f.unit, f.of.basis, f.of.span}] })
}

// agree tells whether two facts can both be roundings of one number.
func agree(a, b *entry) bool {
	x, err := strconv.ParseFloat(a.value, 64)
	y, err2 := strconv.ParseFloat(b.value, 64)
	if err != nil || err2 != nil {
		return a.value == b.value
	}
	half := func(decimals float64) float64 { return math.Pow(10, -decimals) / 2 } // 0 where all digits are right
	return math.Abs(x-y) <= (half(a.decimals)+half(b.decimals))*(1+1e-9)
}

// place finds what part of which fiscal year each fact is of.
func (d *Document) place(facts []entry, about map[string]string) error {
	calendar, err := d.calendar(facts, about)
	if err != nil {
		return err
	}
	parent := separate(about[reportingKind])
	shortest := map[period.Date]period.Date{} // by their end, the first day of the shortest stretches
	for i := range facts {
		if s := facts[i].of.span; s.first > shortest[s.end] {
			if _, _, ok := calendar.Place(s.first, s.end); ok {
				shortest[s.end] = s.first
			}
		}
	}
	type placed struct {
		part statement.Part
		year int
		ok   bool
	}
	known := map[span]placed{}
	strange := map[span]bool{}
	for i := range facts {
		f := &facts[i]
		at, seen := known[f.of.span]
		if !seen {
			at.part, at.year, at.ok = calendar.Place(f.of.first, f.of.end)
			if first := shortest[f.of.end]; f.of.first == 0 && first != 0 && at.part != statement.Whole {
				at.part, at.year, at.ok = calendar.Place(first, f.of.end)
			}
			known[f.of.span] = at
		}
		if !at.ok {
			if f.of.first != 0 {
				strange[f.of.span] = true
			}
			continue
		}
		prefix, _, _ := strings.Cut(f.concept, ":")
		if d.Standard == "" {
			d.Standard = standards[prefix]
		}
		d.Facts = append(d.Facts, Fact{f.concept, f.value, f.unit, f.of.end, at.part, at.year, f.of.basis == ofParent || f.of.basis == "" && parent, f.place})
	}
	if len(strange) > 0 {
		d.remark("%d stretches of time are no part of a fiscal year and were left out", len(strange))
	}
	return nil
}

// separate tells whether words say that accounts are of one company alone.
func separate(words string) bool {
	words = strings.ToLower(words)
	for _, w := range []string{"separate", "individual", "stand-alone", "standalone"} {
		if strings.Contains(words, w) {
			return true
		}
	}
	return false
}

// calendar finds the end of the document's period and the issuer's fiscal years: from
// what the document says of itself, or else from what its facts are of.
func (d *Document) calendar(facts []entry, about map[string]string) (statement.Calendar, error) {
	longest := 0 // of the stretches that end last
	var first, last, before period.Date
	for i := range facts {
		if s := facts[i].of.span; s.first != 0 {
			last = max(last, s.end)
		}
	}
	for _, name := range []string{documentEnd, reportingEnd} {
		if day, err := period.ParseDate(about[name]); err == nil && d.End == 0 {
			d.End = day
		}
	}
	if d.End == 0 {
		d.End = last
	}
	for i := range facts {
		s := facts[i].of.span
		switch {
		case s.first != 0 && s.end == d.End && statement.Months(s.first, s.end) > longest:
			longest, first = statement.Months(s.first, s.end), s.first
		case s.first == 0 && s.end < d.End && s.end > d.End.AddYears(-1).AddDays(15) && strings.HasSuffix(facts[i].concept, ownedInAll):
			before = max(before, s.end)
		}
	}
	year, err := strconv.Atoi(about[focusYear])
	named := err == nil
	of := func(end period.Date, part statement.Part) statement.Calendar {
		c := statement.CalendarOf(end, part, 0)
		if !named {
			year = c.Ends().Year()
		}
		return statement.CalendarOf(end, part, year)
	}
	if part, err := statement.ParsePart(about[focusPart]); err == nil && d.End != 0 {
		return of(d.End, part), nil
	}
	if day, err := time.Parse("--01-02", about[yearEnd]); err == nil && d.End != 0 {
		ends := period.MakeDate(d.End.Time().Year(), day.Month(), day.Day())
		if ends < d.End.AddDays(-15) {
			ends = ends.AddYears(1)
		}
		return of(ends, statement.Whole), nil
	}
	switch {
	case longest == 12:
		return of(d.End, statement.Whole), nil
	case before != 0:
		return of(before.AddYears(1), statement.Whole), nil // interim accounts show the balance sheet of the year before
	case longest >= 6 && longest < 12:
		return of((first - 1).AddYears(1), statement.Whole), nil
	}
	return statement.Calendar{}, errors.New("does not say what part of which fiscal year it is of")
}
