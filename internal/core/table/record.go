// Package table evaluates tables: rows of listings by columns of fields, at an instant.
package table

import (
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// Feed positions of a record, one for each dataset that fields read.
const (
	Quotes = iota
	Bars
	Profiles
	Holdings
	feeds
)

// FeedOf returns the position of a dataset among a record's feeds, or -1.
func FeedOf(d catalogue.Dataset) int {
	switch d {
	case catalogue.Quotes:
		return Quotes
	case catalogue.Bars:
		return Bars
	case catalogue.Profiles:
		return Profiles
	case catalogue.Holdings:
		return Holdings
	}
	return -1
}

// Observation is one stored datum from one source, with both clocks.
type Observation struct {
	Source   string
	Observed time.Time     // the instant it describes
	Fetched  time.Time     // when Soba learned it
	Delay    time.Duration // by which the source holds it back
	Minor    bool          // prices came in a minor unit and were converted to the major one
	Suspect  bool          // passed validation but is improbable
	Values   []cell.Value  // by the slot of the dataset's observed fields
	Rejected map[int]string
	Response int64  // the stored response it came in
	Place    string // and where in it
}

// Attempt is the outcome of the latest request for a dataset of a listing.
type Attempt struct {
	Source   string
	At       time.Time
	Outcome  cell.Reason // NoReason: answered
	Detail   string
	Response int64
	Place    string
	From     period.Date // of bars: how far back has been asked for
}

// Feed is what is known of one dataset of a listing.
type Feed struct {
	Observation *Observation
	Attempt     *Attempt
	Refreshing  bool // a running refresh will bring it
}

// Record is everything known of one listing at an instant: a row before it is evaluated.
type Record struct {
	Listing  *market.Listing
	Exchange *market.Exchange
	Held     bool
	Bars     *series.Bars // adjusted for splits
	Feeds    [feeds]Feed
}

// Judge tells how fresh a feed of the record is. It must have an observation.
func (r *Record) Judge(feed int, now time.Time, limits freshness.Limits) freshness.Verdict {
	f := &r.Feeds[feed]
	switch feed {
	case Quotes:
		return limits.Quote(r.Exchange, f.Observation.Observed, now, f.Observation.Delay)
	case Bars:
		return limits.Bars(r.Exchange, r.Bars.Day[r.Bars.Len()-1], now)
	case Profiles:
		checked := f.Observation.Fetched
		if f.Attempt != nil && f.Attempt.Outcome == cell.NoReason {
			checked = f.Attempt.At
		}
		return freshness.Checked(checked, now, limits.Profile)
	}
	return freshness.Verdict{}
}

// account makes the cell, without a value yet, that all fields of a feed share,
// and the instant until which it holds.
func (r *Record) account(feed int, now time.Time, limits freshness.Limits) (cell.Cell, time.Time) {
	f := &r.Feeds[feed]
	ended := r.Listing.EndedBy(r.Exchange.Today(now))
	if f.Observation == nil {
		c := cell.Gap(cell.NeverFetched, "")
		switch {
		case feed == Holdings:
			c = cell.Gap(cell.NotApplicable, "not held")
		case f.Refreshing:
			c.State = cell.Pending
		case f.Attempt != nil:
			c = cell.Gap(f.Attempt.Outcome, f.Attempt.Detail)
			if f.Attempt.Outcome == cell.NoReason {
				c.Reason = cell.NotReported
			}
			c.Source, c.Fetched = f.Attempt.Source, f.Attempt.At
			if ended {
				c.Reason, c.Detail = cell.Ended, "on "+r.Listing.Ended.String()
			}
		}
		return c, time.Time{}
	}
	o := f.Observation
	c := cell.Cell{Observed: o.Observed, Fetched: o.Fetched, Source: o.Source}
	if f.Refreshing {
		c.Flags |= cell.Refreshing
	}
	if o.Delay > 0 {
		c.Flags |= cell.Delayed
	}
	if o.Suspect {
		c.Flags |= cell.Suspect
	}
	if feed == Holdings {
		return c, time.Time{}
	}
	if ended && feed != Profiles {
		c.State, c.Reason, c.Detail = cell.Stale, cell.Ended, "on "+r.Listing.Ended.String()
		return c, time.Time{}
	}
	v := r.Judge(feed, now, limits)
	if v.Stale {
		c.State, c.Reason = cell.Stale, v.Reason
		if a := f.Attempt; a != nil && a.At.After(o.Fetched) && a.Outcome != cell.NoReason {
			if a.Outcome == cell.FetchFailed {
				c.Reason, c.Detail = cell.SourceDown, a.Detail
			} else {
				c.Detail = a.Outcome.String() + ": " + a.Detail
			}
		}
	}
	return c, v.Until
}
