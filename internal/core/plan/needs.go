package plan

import (
	"fmt"
	"slices"
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
	Visible  []catalogue.Dataset            // those of the columns on screen
	Force    bool                           // ask again even for what is fresh
	Since    time.Time                      // when the refresh began: what was asked for since is done, so that a resumed one goes on
	From     period.Date                    // how far back histories are wanted; 0: as far as columns read
	Compare  map[catalogue.Dataset][]string // sources whose data is wanted beside the preferred one's
	Claimed  func(n *Need) bool             // what the asking refresh brings itself; nil: nothing yet
}

// historyDays is how far back histories are wanted unless told otherwise: a year,
// and enough before it that the session on or before its first day is there.
const historyDays = 366 + 14

// Assess turns what is known of listings into needs, and judges which are due.
// The rules are those of package freshness; a need that is not due says why.
func Assess(records []*table.Record, ask Ask, now time.Time, limits freshness.Limits) []Need {
	needs := make([]Need, 0, len(records)*len(ask.Datasets))
	for _, d := range withSplits(ask.Datasets) {
		info := catalogue.Info(d)
		visible := slices.Contains(ask.Visible, d)
		for _, r := range records {
			if !info.Has(r.Listing.Kind) {
				continue
			}
			n := Need{
				Dataset: d, Listing: r.Listing.ID, Symbol: r.Listing.Symbol, Kind: r.Listing.Kind, ISIN: r.Listing.ISIN, Currency: r.Listing.Currency,
				Held: r.Held, Visible: visible, Known: known(r, d, ask, now, limits),
			}
			if info.Ranged {
				n.From, n.To = span(r, d, ask, now, limits)
				bridge(&n, r)
				n.hurry()
			}
			best, _ := r.Pick(d, now, limits)
			if best != nil {
				n.Seen = best.Observation.Fetched
			}
			n.NotDue = notDue(r, &n, best, ask, now, limits)
			needs = append(needs, n)
			for _, source := range ask.Compare[d] {
				other := n
				other.Only = source
				other.NotDue = notDue(r, &other, r.Feeds[table.FeedOf(d)].By(source), ask, now, limits)
				needs = append(needs, other)
			}
		}
	}
	return needs
}

// withSplits adds splits to what is adjusted by them: a price in yesterday's
// shares is worse than none.
func withSplits(datasets []catalogue.Dataset) []catalogue.Dataset {
	adjusted := slices.Contains(datasets, catalogue.Bars) || slices.Contains(datasets, catalogue.Dividends)
	if !adjusted || slices.Contains(datasets, catalogue.Splits) {
		return datasets
	}
	return append(slices.Clone(datasets), catalogue.Splits)
}

// span is the range of days for which a listing's history is wanted.
func span(r *table.Record, d catalogue.Dataset, ask Ask, now time.Time, limits freshness.Limits) (from, to period.Date) {
	to = r.Exchange.LastClosed(now, limits.BarGrace).Date
	if to == 0 {
		to = r.Exchange.Today(now)
	}
	if d == catalogue.Rates {
		to = limits.LastFixing(now)
	}
	from = to.AddDays(-historyDays)
	if ask.From != 0 {
		from = min(ask.From, from)
	}
	if r.Listing.Ended != 0 {
		to = min(to, r.Listing.Ended)
		from = min(from, to)
	}
	return from, to
}

// bridge counts days without a session as answered where only they lie between
// days that were: answers for single days leave weekends open.
func bridge(n *Need, r *table.Record) {
	for i := range n.Known {
		k := &n.Known[i]
		if len(k.Covered) == 0 {
			continue
		}
		for _, gap := range k.Covered.Lacking(period.Span{From: n.From, To: n.To}) {
			open := gap.Days() > longestBreak
			for d := gap.From; d <= gap.To && !open; d++ {
				open = r.Exchange.Trades(d)
			}
			if !open {
				k.Covered = k.Covered.Add(gap)
			}
		}
	}
}

// hurry drops the patience with sources that can be asked for days that they have
// never been asked for: it is the newest day that they may not have yet.
func (n *Need) hurry() {
	for i := range n.Known {
		k := &n.Known[i]
		if k.Wait != askedAlready && k.Reason == cell.NoReason && n.lacking(k.Source).From <= n.To-lateDays {
			k.Wait = ""
		}
	}
}

// longestBreak is more days than any exchange stays closed.
const longestBreak = 21

// known is what is known of each source that has been asked, and whether it may
// be asked again now.
func known(r *table.Record, d catalogue.Dataset, ask Ask, now time.Time, limits freshness.Limits) []Known {
	feed := &r.Feeds[table.FeedOf(d)]
	if len(feed.From) == 0 {
		return nil
	}
	all := make([]Known, 0, len(feed.From))
	for i := range feed.From {
		a := feed.From[i].Attempt
		if a == nil {
			continue
		}
		k := Known{Source: feed.From[i].Source, Reason: a.Outcome, Covered: a.Covered}
		again := a.At.Add(limits.Patience(a.Outcome))
		switch {
		case askedSince(a, ask):
			k.Wait = askedAlready
		case ask.Force:
			k.Covered = nil
		case now.Before(again):
			k.Wait = fmt.Sprintf("asked at %s without anything newer; due again at %s", a.At.UTC().Format("15:04"), again.UTC().Format("2006-01-02 15:04"))
		}
		all = append(all, k)
	}
	return all
}

const askedAlready = "already asked for in this refresh"

func askedSince(a *table.Attempt, ask Ask) bool {
	return !ask.Since.IsZero() && !a.At.Before(ask.Since)
}

// notDue says why a need is not to be asked for, given the data that would be
// shown; empty when it must be.
func notDue(r *table.Record, n *Need, best *table.Given, ask Ask, now time.Time, limits freshness.Limits) string {
	feed := &r.Feeds[table.FeedOf(n.Dataset)]
	if feed.Refreshing && (ask.Claimed == nil || !ask.Claimed(n)) {
		return bringing
	}
	for i := range feed.From {
		g := &feed.From[i]
		if n.Only != "" && g.Source != n.Only {
			continue
		}
		if a := g.Attempt; a != nil && a.Outcome == cell.NoReason && askedSince(a, ask) && n.lacking(g.Source).From > n.To-lateDays {
			return askedAlready
		}
	}
	if ask.Force || best == nil || best.Observation == nil {
		return ""
	}
	if r.Listing.EndedBy(r.Exchange.Today(now)) && n.answered(best.Source) {
		return "ended on " + r.Listing.Ended.String()
	}
	if n.To != 0 {
		if n.answered(best.Source) {
			return IsFresh
		}
		return ""
	}
	if !r.Judge(n.Dataset, best, now, limits).Stale {
		return IsFresh
	}
	return ""
}

// lateDays is how many days at the end of a history a source may be late with:
// a refresh that has asked for them does not ask again.
const lateDays = 14

// IsFresh is why a need waits whose values are fresh.
const IsFresh = "fresh"

// bringing is why a need waits that a running refresh has claimed.
const bringing = "another refresh is bringing it"

// Shared tells whether the need is left to another refresh.
func (n *Need) Shared() bool { return n.NotDue == bringing }

// Share leaves the need to another refresh.
func (n *Need) Share() { n.NotDue = bringing }

// answered tells whether a source has answered for all of the days wanted.
func (n *Need) answered(source string) bool {
	if n.To == 0 {
		return true
	}
	k := n.known(source)
	return k != nil && len(k.Covered.Lacking(period.Span{From: n.From, To: n.To})) == 0
}
