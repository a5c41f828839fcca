// Package table evaluates tables: rows of listings by columns of fields, at an instant.
package table

import (
	"cmp"
	"fmt"
	"math"
	"strconv"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/currency"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/estimate"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/statement"
)

// feeds is how many datasets a record can hold: every one but the directory,
// and the user's holdings at the end.
const feeds = 18

// Holdings is the position of the user's own dataset among a record's feeds.
const Holdings = feeds - 1

var positions = func() map[catalogue.Dataset]int {
	at := map[catalogue.Dataset]int{catalogue.Holdings: Holdings}
	for _, info := range catalogue.Infos {
		if info.Shape != catalogue.Directory {
			at[info.Name] = len(at) - 1
		}
	}
	if len(at) != feeds {
		panic(fmt.Sprintf("there are %d datasets for %d feeds", len(at), feeds)) // feeds is out of date
	}
	return at
}()

// FeedOf returns the position of a dataset among a record's feeds, or -1.
func FeedOf(d catalogue.Dataset) int {
	if at, there := positions[d]; there {
		return at
	}
	return -1
}

// Observation is one stored datum from one source, with both clocks.
type Observation struct {
	Source     string
	Observed   time.Time     // the instant it describes
	Fetched    time.Time     // when Soba learned it
	Delay      time.Duration // by which the source holds it back
	Minor      bool          // prices came in a minor unit and were converted to the major one
	Suspect    bool          // passed validation but is improbable
	Standalone bool          // from accounts that are not consolidated, for want of those that are
	Values     []cell.Value  // by the slot of the dataset's observed fields
	Rejected   map[int]string
	Response   int64  // the stored response it came in
	Place      string // and where in it
}

// Attempt is the outcome of the latest request for a dataset of a listing.
type Attempt struct {
	Source   string
	At       time.Time
	Outcome  cell.Reason // NoReason: answered
	Detail   string
	Response int64
	Place    string
	Covered  period.Spans // of a dataset with ranges: the days that have been answered
}

// Given is what one source has given of one dataset of a listing.
type Given struct {
	Source      string
	Observation *Observation     // nil while it has given nothing
	Attempt     *Attempt         // nil while it has not been asked
	Entries     entry.Entries    // of dated records
	Payments    dividend.History // of dividends: the same, adjusted for splits
	Outlook     estimate.Outlook
	Reports     []statement.Report // of accounts, as published; in place of entries
	Accounts    *statement.History // the same, in today's shares
	Bars        *series.Bars       // adjusted for splits
	Times       []time.Time        // at which bars within the day begin
	Step        time.Duration      // and how wide they are
	Splits      []series.Split     // by which they are
	Conflict    string             // how another source's series differ from it
}

// Feed is what is known of one dataset of a listing.
type Feed struct {
	From       []Given // in order of preference
	Refreshing bool    // a running refresh will bring it
}

// By returns what a source has given, or nil.
func (f *Feed) By(source string) *Given {
	for i := range f.From {
		if f.From[i].Source == source {
			return &f.From[i]
		}
	}
	return nil
}

// Record is everything known of one listing at an instant: a row before it is evaluated.
type Record struct {
	Listing  *market.Listing
	Exchange *market.Exchange
	Held     bool
	Splits   []series.Split
	Feeds    [feeds]Feed
	Index    *Record   // of the exchange's main index; nil where none is known
	Classes  []*Record // of the issuer's other classes of shares
}

// Judge tells how fresh what a source has given is. It must have an observation.
func (r *Record) Judge(d catalogue.Dataset, g *Given, now time.Time, limits freshness.Limits) freshness.Verdict {
	switch d {
	case catalogue.Quotes:
		return limits.Quote(r.Exchange, g.Observation.Observed, now, g.Observation.Delay)
	case catalogue.Bars:
		return limits.Bars(r.Exchange, g.Bars.Day[g.Bars.Len()-1], now)
	case catalogue.Intraday:
		return limits.Quote(r.Exchange, g.Observation.Observed, now, g.Observation.Delay+g.Step)
	case catalogue.Rates:
		return limits.Rates(g.Entries[len(g.Entries)-1].Day, now)
	case catalogue.Holdings:
		return freshness.Verdict{}
	}
	checked := g.Observation.Fetched
	if a := g.Attempt; a != nil && a.Outcome == cell.NoReason {
		checked = a.At
	}
	return freshness.StillHolds(checked, now, limits.Holds(d))
}

// Pick chooses the source whose data a cell shows: the most preferred whose data
// is fresh; else the most preferred that has any, with the newer data where the
// preferred one has fallen behind. It is nil where no source has given anything.
func (r *Record) Pick(d catalogue.Dataset, now time.Time, limits freshness.Limits) (best *Given, verdict freshness.Verdict) {
	f := &r.Feeds[FeedOf(d)]
	for i := range f.From {
		g := &f.From[i]
		if g.Observation == nil {
			continue
		}
		v := r.Judge(d, g, now, limits)
		if !v.Stale {
			return g, v
		}
		if best == nil || g.Observation.Observed.After(best.Observation.Observed) {
			best, verdict = g, v
		}
	}
	return best, verdict
}

// gap accounts for a feed that no source has given anything of.
func (r *Record) gap(f *Feed, d catalogue.Dataset, ended bool) cell.Cell {
	if d == catalogue.Holdings {
		return cell.Gap(cell.NotApplicable, "not held")
	}
	c := cell.Gap(cell.NeverFetched, "")
	if f.Refreshing {
		c.State = cell.Pending
		return c
	}
	var told *Attempt
	for i := range f.From {
		if a := f.From[i].Attempt; a != nil && (told == nil || telling(a.Outcome) > telling(told.Outcome)) {
			told = a
		}
	}
	if told == nil {
		return c
	}
	c = cell.Gap(cmp.Or(told.Outcome, cell.NotReported), told.Detail)
	c.Source, c.Fetched = told.Source, told.At
	if ended {
		c.Reason, c.Detail = cell.Ended, "on "+r.Listing.Ended.String()
	}
	return c
}

// telling ranks the reasons of several sources by how much they tell the reader:
// first those that can be mended, last that a source does not know the name.
func telling(r cell.Reason) int {
	switch r {
	case cell.NotCovered:
		return 0
	case cell.NoReason, cell.NotReported:
		return 1
	case cell.NotPermitted:
		return 2
	}
	return 3
}

// account makes the cell, without a value yet, that all fields of a dataset
// share, the source that was picked for it, and the instant until which it holds.
func (r *Record) account(d catalogue.Dataset, now time.Time, limits freshness.Limits) (cell.Cell, *Given, time.Time) {
	f := &r.Feeds[FeedOf(d)]
	ended := r.Listing.EndedBy(r.Exchange.Today(now))
	g, v := r.Pick(d, now, limits)
	if g == nil {
		return r.gap(f, d, ended), nil, time.Time{}
	}
	c := accountOf(g)
	if f.Refreshing {
		c.Flags |= cell.Refreshing
	}
	if d == catalogue.Holdings {
		return c, g, time.Time{}
	}
	if d == catalogue.Quotes {
		if told := r.belied(g, now, limits); told != "" {
			c.Flags |= cell.Suspect
			c.Detail = told
		}
	}
	if d == catalogue.Dividends && !v.Stale && !ended {
		if due := g.Payments.Overdue(r.Exchange.Today(now), OverdueAfter); due != 0 {
			c.State, c.Reason, c.Detail = cell.Stale, cell.ReportDue, "by its usual rhythm a dividend was due on "+due.String()
		}
	}
	if d == catalogue.Statements && !v.Stale && !ended {
		if end, due, known := g.Accounts.Next(); known && r.Exchange.Today(now) > due {
			c.State, c.Reason, c.Detail = cell.Stale, cell.ReportDue, fmt.Sprintf("a report to %s was due by %s", end, due)
		} else if known {
			v.Until = sooner(v.Until, (due+1).In(r.Exchange.Zone, 0, 0))
		}
	}
	if ended && endsWithTrading(d) {
		c.State, c.Reason, c.Detail = cell.Stale, cell.Ended, "on "+r.Listing.Ended.String()
		return c, g, time.Time{}
	}
	if v.Stale {
		c.State, c.Reason = cell.Stale, v.Reason
		if a := g.Attempt; a != nil && a.At.After(g.Observation.Fetched) && a.Outcome != cell.NoReason {
			if a.Outcome == cell.FetchFailed {
				c.Reason, c.Detail = cell.SourceDown, a.Detail
			} else {
				c.Detail = a.Outcome.String() + ": " + a.Detail
			}
		}
	}
	return c, g, v.Until
}

// sooner is the sooner of two instants, where the zero time is never.
func sooner(a, b time.Time) time.Time {
	if a.IsZero() || b.Before(a) {
		return b
	}
	return a
}

// Account is the state, clocks and source of a dataset's values, and the source
// itself; nil where none has given anything.
func (r *Record) Account(d catalogue.Dataset, now time.Time, limits freshness.Limits) (cell.Cell, *Given) {
	c, g, _ := r.account(d, now, limits)
	return c, g
}

// RatesOf gathers the reference rates of the pairs among records.
func RatesOf(records []*Record, now time.Time, limits freshness.Limits) *currency.Rates {
	var pairs []*currency.Pair
	for _, r := range records {
		if !r.Listing.Symbol.IsPair() {
			continue
		}
		p := &currency.Pair{Base: r.Listing.Symbol.Ticker, Quote: r.Listing.Symbol.Exchange}
		account, given := r.Account(catalogue.Rates, now, limits)
		p.Account = account
		if given != nil {
			for i := range given.Entries {
				e := &given.Entries[i]
				p.Fixings = append(p.Fixings, currency.Fixing{Day: e.Day, Rate: e.Values[rateColumn].Num})
			}
		}
		pairs = append(pairs, p)
	}
	return currency.New(pairs)
}

var rateColumn = catalogue.Info(catalogue.Rates).Column("rate")

// OverdueAfter is how many days after the ex-date that the usual rhythm asks for a
// dividend is missed. What is known then counts as stale; it is asked for again
// no more often than before.
const OverdueAfter = 20

// belied tells how a quote from after a session's end differs from the close of
// that session's bar: an old price under a new time is found out by it.
func (r *Record) belied(g *Given, now time.Time, limits freshness.Limits) string {
	bars, _ := r.Pick(catalogue.Bars, now, limits)
	if bars == nil || len(g.Observation.Values) == 0 {
		return ""
	}
	last := g.Observation.Values[lastSlot]
	i := bars.Bars.Len() - 1
	closed := bars.Observation.Observed
	if last.Kind != cell.Number || g.Observation.Observed.Before(closed.Add(-g.Observation.Delay)) || g.Observation.Observed.After(closed.Add(limits.BarGrace)) {
		return ""
	}
	if cl := bars.Bars.Close[i]; Differ(last.Num, cl, limits.Tolerance) {
		return fmt.Sprintf("the bar of %v closes at %v", bars.Bars.Day[i], cl)
	}
	return ""
}

var lastSlot = catalogue.Find("quote.last").Slot()

// accountOf is a cell with what a source's observation says of itself.
func accountOf(g *Given) cell.Cell {
	o := g.Observation
	c := cell.Cell{Observed: o.Observed, Fetched: o.Fetched, Source: o.Source}
	if o.Delay > 0 {
		c.Flags |= cell.Delayed
	}
	if o.Suspect {
		c.Flags |= cell.Suspect
	}
	if o.Standalone {
		c.Flags |= cell.Standalone
	}
	if g.Conflict != "" {
		c.Flags |= cell.Conflict
		c.Detail = g.Conflict
	}
	return c
}

// endsWithTrading tells whether a dataset has nothing new once a listing has ended.
func endsWithTrading(d catalogue.Dataset) bool {
	return d == catalogue.Quotes || d == catalogue.Bars || d == catalogue.Rates || d == catalogue.Intraday
}

// comparable is how far apart in time two quotes may be to be compared.
const comparable = time.Hour

// conflicts tells whether another source gives a different number for a field,
// beyond the tolerance, and what it gives.
func (f *Feed) conflicts(field *catalogue.Field, shown *Given, value cell.Value, tolerance float64) string {
	if len(f.From) < 2 || value.Kind != cell.Number {
		return ""
	}
	for i := range f.From {
		other := &f.From[i]
		if other == shown || other.Observation == nil || field.Slot() >= len(other.Observation.Values) {
			continue
		}
		v := other.Observation.Values[field.Slot()]
		if v.Kind != cell.Number || field.Dataset == catalogue.Quotes && other.Observation.Observed.Sub(shown.Observation.Observed).Abs() > comparable {
			continue
		}
		if Differ(v.Num, value.Num, tolerance) {
			return gives(other.Source, v.Num)
		}
	}
	return ""
}

// gives says what a source gives, with all its digits.
func gives(source string, x float64) string {
	return source + " gives " + strconv.FormatFloat(x, 'f', -1, 64)
}

// disputed tells what another source gives for a line of the accounts, of the same
// stretch of time and in the same currency, where that is something else.
func (r *Record) disputed(s *step, shown *Given, said *catalogue.Said, today period.Date, tolerance float64) string {
	from := r.Feeds[accountsFeed].From
	if len(from) < 2 {
		return ""
	}
	line := statement.At(s.field.ID)
	if line < 0 {
		return ""
	}
	for i := range from {
		other := &from[i]
		if other.Source == shown.Source || other.Accounts == nil || other.Accounts.Currency() != shown.Accounts.Currency() {
			continue
		}
		theirs, err := other.Accounts.Read(line, s.ref.Period, today)
		if err != nil || theirs.End != said.End || theirs.Label != said.Period || !Differ(theirs.Value, said.Value.Num, tolerance) {
			continue
		}
		return gives(other.Source, theirs.Value)
	}
	return ""
}

// Differ tells whether two numbers are further apart than a fraction of the larger.
func Differ(a, b, tolerance float64) bool {
	return math.Abs(a-b) > tolerance*math.Max(math.Abs(a), math.Abs(b))
}
