package market

import (
	"sort"
	"time"

	"soba.invalid/soba/internal/core/period"
)

// Clock is a time of day in minutes after midnight, in an exchange's own zone.
type Clock int

// Phase is where an exchange stands in its day.
type Phase string

// The phases of a trading day.
const (
	PreOpen Phase = "pre_open"
	Open    Phase = "open"
	Closed  Phase = "closed"
)

// Exchange is a market with its calendar. Its methods take instants and know
// the zone; none of them reads a clock.
type Exchange struct {
	Code     string // ISO 10383 form
	Name     string
	Country  string
	Currency string
	Minor    bool // prices are quoted in hundredths of the currency
	Zone     *time.Location
	PreOpens Clock // when orders are first taken; equal to Opens where there is no such phase
	Opens    Clock
	Closes   Clock
	Weekend  map[time.Weekday]bool
	Learned  map[time.Weekday]bool  // days of the week whose trading shows that they are not what was said
	Index    Symbol                 // its main index; the zero Symbol where it has none
	Holidays map[period.Date]string // closed the whole day, with the name of the day
	HalfDays map[period.Date]Clock  // close early, at the given time
}

// Learn corrects the weekend by what is known of trading: on how many days of each
// weekday anything was traded in so many weeks. A weekday without trade is closed,
// one of the weekend that traded every other week is not. Too few days teach
// nothing. The exchange itself does not change.
func (e *Exchange) Learn(traded [7]int, weeks int) *Exchange {
	days := 0
	for _, n := range traded {
		days += n
	}
	if days < 2*weeks {
		return e
	}
	learned := *e
	learned.Weekend, learned.Learned = map[time.Weekday]bool{}, map[time.Weekday]bool{}
	for d, n := range traded {
		weekday := time.Weekday(d)
		closed := e.Weekend[weekday]
		if !closed && n == 0 || closed && 2*n >= weeks {
			closed = !closed
			learned.Learned[weekday] = true
		}
		if closed {
			learned.Weekend[weekday] = true
		}
	}
	if len(learned.Learned) == 0 {
		return e
	}
	return &learned
}

// Session is one continuous stretch of trading on one day.
type Session struct {
	Date        period.Date
	Open, Close time.Time
}

// Weekdays is the calendar of what trades around the clock from Monday to Friday, as currencies do.
var Weekdays = &Exchange{
	Name: "round the clock", Zone: time.UTC, Closes: 24 * 60,
	Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
}

// Trades tells whether there is a session on a day.
func (e *Exchange) Trades(day period.Date) bool {
	_, holiday := e.Holidays[day]
	return !holiday && !e.Weekend[day.Weekday()]
}

// SessionOn returns the session of a day on which the exchange [Exchange.Trades].
func (e *Exchange) SessionOn(day period.Date) Session {
	closes := e.Closes
	if early, ok := e.HalfDays[day]; ok {
		closes = early
	}
	return Session{day, e.at(day, e.Opens), e.at(day, closes)}
}

func (e *Exchange) at(day period.Date, c Clock) time.Time {
	return day.In(e.Zone, int(c)/60, int(c)%60)
}

// Today returns the civil date on the exchange's wall at an instant.
func (e *Exchange) Today(now time.Time) period.Date { return period.DateOf(now.In(e.Zone)) }

// longestBreak bounds the search for a session, so that a calendar that never trades ends it.
const longestBreak = 40

// LastClosed returns the newest session whose close, moved by grace, is not
// after now. The zero Session means that none was found in forty days.
func (e *Exchange) LastClosed(now time.Time, grace time.Duration) Session {
	day := e.Today(now)
	for back := range longestBreak {
		if d := day.AddDays(-back); e.Trades(d) {
			if s := e.SessionOn(d); !s.Close.Add(grace).After(now) {
				return s
			}
		}
	}
	return Session{}
}

// Next returns the first session that opens after an instant; the zero Session
// means that none was found in forty days.
func (e *Exchange) Next(now time.Time) Session {
	day := e.Today(now)
	for ahead := range longestBreak {
		if d := day.AddDays(ahead); e.Trades(d) {
			if s := e.SessionOn(d); s.Open.After(now) {
				return s
			}
		}
	}
	return Session{}
}

// Current returns the session that is open at an instant, if one is.
func (e *Exchange) Current(now time.Time) (Session, bool) {
	day := e.Today(now)
	if !e.Trades(day) {
		return Session{}, false
	}
	s := e.SessionOn(day)
	return s, !now.Before(s.Open) && now.Before(s.Close)
}

// PhaseAt tells whether the exchange is open, taking orders before it opens, or closed.
func (e *Exchange) PhaseAt(now time.Time) Phase {
	if _, open := e.Current(now); open {
		return Open
	}
	if day := e.Today(now); e.Trades(day) {
		if s := e.SessionOn(day); !now.Before(e.at(day, e.PreOpens)) && now.Before(s.Open) {
			return PreOpen
		}
	}
	return Closed
}

// Sessions lists the trading days between two dates, both included.
func (e *Exchange) Sessions(from, to period.Date) []period.Date {
	var days []period.Date
	for d := from; d <= to; d++ {
		if e.Trades(d) {
			days = append(days, d)
		}
	}
	return days
}

// Exchanges finds exchanges by code.
type Exchanges map[string]*Exchange

// Of returns the exchange of a listing; what trades on none keeps to [Weekdays].
func (x Exchanges) Of(l *Listing) *Exchange {
	if e := x[l.Symbol.Exchange]; e != nil {
		return e
	}
	return Weekdays
}

// Codes lists the codes in order.
func (x Exchanges) Codes() []string {
	codes := make([]string, 0, len(x))
	for code := range x {
		codes = append(codes, code)
	}
	sort.Strings(codes)
	return codes
}
