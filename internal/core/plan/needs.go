package plan

import (
	"fmt"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
)

// Ask says what a refresh is for.
type Ask struct {
	Datasets []catalogue.Dataset
	Force    bool      // ask again even for what is fresh
	Since    time.Time // when the refresh began: what was asked for since is done, so that a resumed one goes on
}

// historyDays is how far back bars are kept: a year, and enough before it that
// the session on or before its first day is there.
const historyDays = 366 + 14

// Assess turns what is known of listings into needs, and judges which are due.
// The rules are those of package freshness; a need that is not due says why.
func Assess(records []*table.Record, ask Ask, now time.Time, limits freshness.Limits) []Need {
	needs := make([]Need, 0, len(records)*len(ask.Datasets))
	for _, d := range ask.Datasets {
		feed := table.FeedOf(d)
		for _, r := range records {
			n := Need{Dataset: d, Listing: r.Listing.ID, Symbol: r.Listing.Symbol, Currency: r.Listing.Currency, Held: r.Held}
			if o := r.Feeds[feed].Observation; o != nil {
				n.Seen = o.Fetched
			}
			if d == catalogue.Bars {
				n.From, n.To = span(r, now, limits)
			}
			n.NotDue = notDue(r, feed, ask, now, limits)
			needs = append(needs, n)
		}
	}
	return needs
}

// span is the range of bars that a listing lacks: all of the wanted history, or
// its end alone when the beginning has been asked for before.
func span(r *table.Record, now time.Time, limits freshness.Limits) (from, to period.Date) {
	to = r.Exchange.LastClosed(now, limits.BarGrace).Date
	if to == 0 {
		to = r.Exchange.Today(now)
	}
	from = to.AddDays(-historyDays)
	f := &r.Feeds[table.Bars]
	if f.Attempt != nil && f.Attempt.From != 0 && f.Attempt.From <= from && r.Bars != nil && r.Bars.Len() > 0 {
		from = min(r.Bars.Day[r.Bars.Len()-1]+1, to)
	}
	return from, to
}

// notDue says why a feed need not be asked for; empty when it must be.
func notDue(r *table.Record, feed int, ask Ask, now time.Time, limits freshness.Limits) string {
	f := &r.Feeds[feed]
	if f.Attempt != nil && !ask.Since.IsZero() && !f.Attempt.At.Before(ask.Since) {
		return "already asked for in this refresh"
	}
	if f.Refreshing {
		return "another refresh is bringing it"
	}
	if ask.Force {
		return ""
	}
	if f.Attempt != nil && r.Listing.EndedBy(r.Exchange.Today(now)) && f.Attempt.Outcome != cell.FetchFailed {
		return "ended on " + r.Listing.Ended.String()
	}
	if f.Observation != nil && !r.Judge(feed, now, limits).Stale {
		return "fresh"
	}
	if f.Attempt != nil {
		if again := f.Attempt.At.Add(limits.Patience(f.Attempt.Outcome)); now.Before(again) {
			return fmt.Sprintf("asked at %s without anything newer; due again at %s", f.Attempt.At.UTC().Format("15:04"), again.UTC().Format("2006-01-02 15:04"))
		}
	}
	return ""
}
