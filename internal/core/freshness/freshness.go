// Package freshness judges whether a stored observation is as new as its kind
// of data can be, by trading sessions and reporting dates rather than by age alone.
package freshness

import (
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Limits are the settings of the rules.
type Limits struct {
	QuoteGrace time.Duration // beyond a source's declared delay, while a session is open
	BarGrace   time.Duration // after a close, until the day's bar is due
	Fixing     time.Duration // after midnight UTC of a business day, until its reference rates are due

	Tolerance float64 // by which two sources may differ before they are said to conflict

	// Checked is how long other datasets hold after they were last checked, where
	// that differs from the catalogue.
	Checked map[catalogue.Dataset]time.Duration
}

// Standard are the limits that apply unless settings say otherwise.
var Standard = Limits{
	QuoteGrace: 5 * time.Minute,
	BarGrace:   2 * time.Hour,
	Fixing:     18 * time.Hour,
	Tolerance:  0.01,
}

// Holds is how long a dataset counts as fresh after it was checked; 0 where
// sessions decide.
func (l Limits) Holds(d catalogue.Dataset) time.Duration {
	if limit, set := l.Checked[d]; set {
		return limit
	}
	if info := catalogue.Info(d); info != nil {
		return info.Holds
	}
	return 0
}

// Verdict is a judgement and the instant until which it holds if nothing newer
// arrives. A stale verdict stays one for ever.
type Verdict struct {
	Stale  bool
	Reason cell.Reason
	Until  time.Time // zero for a stale verdict
}

func stale(reason cell.Reason) Verdict { return Verdict{Stale: true, Reason: reason} }

// Quote judges a quote observed at an instant, from a source that holds its
// quotes back by delay.
//
// While a session is closed a quote is fresh when it is from its last close, or
// from no longer before than the delay. While one is open it may be no older
// than the delay and the grace; for that long after the open no source can have
// a quote of the new session, so the last close still counts.
func (l Limits) Quote(e *market.Exchange, observed, now time.Time, delay time.Duration) Verdict {
	last := e.LastClosed(now, 0)
	if last.Date != 0 && observed.Before(last.Close.Add(-delay)) {
		return stale(cell.SessionPassed)
	}
	lag := delay + l.QuoteGrace
	session, open := e.Current(now)
	if !open {
		next := e.Next(now)
		if next.Date == 0 {
			return Verdict{}
		}
		return Verdict{Until: next.Open.Add(lag)}
	}
	if warm := session.Open.Add(lag); now.Before(warm) {
		return Verdict{Until: warm}
	}
	if observed.Before(now.Add(-lag)) {
		return stale(cell.Age)
	}
	until := observed.Add(lag)
	if session.Close.Before(until) {
		until = session.Close
	}
	// The limit is inclusive: the quote goes stale just after.
	return Verdict{Until: until.Add(time.Nanosecond)}
}

// Bars judges a history by its last day: the last completed session must be
// there, once the grace after its close is over.
func (l Limits) Bars(e *market.Exchange, lastDay period.Date, now time.Time) Verdict {
	if due := e.LastClosed(now, l.BarGrace); lastDay < due.Date {
		return stale(cell.SessionPassed)
	}
	session, open := e.Current(now)
	if !open {
		// A session that has closed but whose bar is not yet due comes before the next one.
		if session = e.LastClosed(now, 0); session.Date <= lastDay {
			session = e.Next(now)
		}
	}
	if session.Date == 0 {
		return Verdict{}
	}
	return Verdict{Until: session.Close.Add(l.BarGrace)}
}

// Rates judges reference rates by the day of the last fixing: that of the last
// business day must be there once it is due.
func (l Limits) Rates(lastDay period.Date, now time.Time) Verdict {
	day := l.LastFixing(now)
	if lastDay < day {
		return stale(cell.SessionPassed)
	}
	next := max(lastDay, day) + 1
	for !business(next) {
		next++
	}
	return Verdict{Until: next.Time().Add(l.Fixing)}
}

// LastFixing is the last business day whose reference rates are due.
func (l Limits) LastFixing(now time.Time) period.Date {
	day := period.DateOf(now.UTC())
	for !business(day) || now.Before(day.Time().Add(l.Fixing)) {
		day--
	}
	return day
}

func business(d period.Date) bool { return d.Weekday() != time.Saturday && d.Weekday() != time.Sunday }

// StillHolds judges facts that hold for a time after they were last checked.
func StillHolds(checked, now time.Time, limit time.Duration) Verdict {
	if until := checked.Add(limit); now.Before(until) {
		return Verdict{Until: until}
	}
	return stale(cell.Age)
}

// Patience is how long to wait before asking again for something that a source
// answered without bringing a fresh value: asking at once would cost allowance
// for the same answer. The outcome is NoReason for a plain answer.
func (l Limits) Patience(outcome cell.Reason) time.Duration {
	switch outcome {
	case cell.FetchFailed, cell.AllowanceSpent, cell.SourceDown:
		return 0
	case cell.NotCovered, cell.NotPermitted:
		return 24 * time.Hour
	}
	return l.QuoteGrace
}
