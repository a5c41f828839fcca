package source

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Days outside of these years are not read from a calendar, however it recurs.
var (
	calendarFrom = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	calendarTo   = time.Date(2080, 1, 1, 0, 0, 0, 0, time.UTC)
)

// mostClosures bounds what one event can recur to.
const mostClosures = 5000

// readCalendar adds the days without trading of an iCalendar file (RFC 5545) to an
// exchange: events of whole days are holidays, one that begins within the session
// and lasts to its end closes it early. Cancelled and transparent events are no
// closures. Times without a zone are on the exchange's wall.
func readCalendar(file io.Reader, e *market.Exchange) error {
	calendar, err := ics.ParseCalendar(file)
	if err != nil {
		return fmt.Errorf("no iCalendar file: %w", err)
	}
	for _, event := range calendar.Events() {
		name := ""
		if p := event.GetProperty(ics.ComponentPropertySummary); p != nil {
			name = ics.FromText(p.Value)
		}
		if has(event, ics.ComponentPropertyStatus, "CANCELLED") || has(event, ics.ComponentPropertyTransp, "TRANSPARENT") {
			continue
		}
		if err := closures(event, name, e); err != nil {
			return fmt.Errorf("event %q: %w", name, err)
		}
	}
	return nil
}

func has(event *ics.VEvent, property ics.ComponentProperty, value string) bool {
	p := event.GetProperty(property)
	return p != nil && strings.EqualFold(p.Value, value)
}

func closures(event *ics.VEvent, name string, e *market.Exchange) error {
	p := event.GetProperty(ics.ComponentPropertyDtStart)
	if p == nil {
		return errors.New("has no DTSTART")
	}
	start, err := instantOf(p, e)
	if err != nil {
		return err
	}
	wholeDays := len(p.Value) == len("20060102")
	length := 24 * time.Hour
	if p := event.GetProperty(ics.ComponentPropertyDtEnd); p != nil {
		end, err := instantOf(p, e)
		if err != nil {
			return err
		}
		length = end.Sub(start)
	} else if !wholeDays {
		return errors.New("has no DTEND")
	}
	if length <= 0 {
		return errors.New("ends before it begins")
	}
	starts, err := occurrences(event, start, e)
	if err != nil {
		return err
	}
	for _, at := range starts {
		if !wholeDays {
			if err := closeWithin(at, at.Add(length), name, e); err != nil {
				return err
			}
			continue
		}
		first := period.DateOf(at)
		for day := range period.Date(length.Hours()+12) / 24 { // whole days, whatever the clocks do
			e.Holidays[first+day] = name
		}
	}
	return nil
}

// closeWithin takes a closure of some hours of one day.
func closeWithin(from, to time.Time, name string, e *market.Exchange) error {
	day := period.DateOf(from)
	s := market.Session{Open: day.In(e.Zone, int(e.Opens)/60, int(e.Opens)%60), Close: day.In(e.Zone, int(e.Closes)/60, int(e.Closes)%60)}
	switch {
	case !to.After(s.Open) || !from.Before(s.Close): // outside of the session
	case to.Before(s.Close):
		return fmt.Errorf("on %s it ends at %s, before the close: only whole days and early closes are understood", day, to.Format("15:04"))
	case !from.After(s.Open):
		e.Holidays[day] = name
	default:
		e.HalfDays[day] = market.Clock(from.Hour()*60 + from.Minute())
	}
	return nil
}

// instantOf reads a date or a time of an event, on the exchange's wall unless it
// names a zone of its own.
func instantOf(p *ics.IANAProperty, e *market.Exchange) (time.Time, error) {
	loc := e.Zone
	if zone := p.ICalParameters["TZID"]; len(zone) == 1 {
		var err error
		if loc, err = time.LoadLocation(zone[0]); err != nil {
			return time.Time{}, err
		}
	}
	at, err := rrule.StrToDatesInLoc(p.Value, loc)
	if err != nil || len(at) != 1 {
		return time.Time{}, fmt.Errorf("%q is neither a date nor a time", p.Value)
	}
	return at[0].In(e.Zone), nil
}

// occurrences are the beginnings of an event, by its rule and the dates beside it.
func occurrences(event *ics.VEvent, start time.Time, e *market.Exchange) ([]time.Time, error) {
	set := &rrule.Set{}
	set.DTStart(start)
	set.RDate(start)
	for _, p := range event.Properties {
		var err error
		var dates []time.Time
		switch p.IANAToken {
		case string(ics.ComponentPropertyRrule):
			var rule *rrule.ROption
			if rule, err = rrule.StrToROptionInLocation(p.Value, e.Zone); err != nil {
				return nil, fmt.Errorf("RRULE %s: %w", p.Value, err)
			}
			if rule.Freq > rrule.DAILY {
				return nil, fmt.Errorf("RRULE %s: recurs within the day", p.Value)
			}
			rule.Dtstart = start
			made, err := rrule.NewRRule(*rule)
			if err != nil {
				return nil, fmt.Errorf("RRULE %s: %w", p.Value, err)
			}
			set.RRule(made)
		case string(ics.ComponentPropertyRdate):
			dates, err = rrule.StrToDatesInLoc(p.Value, e.Zone)
			for _, at := range dates {
				set.RDate(at)
			}
		case string(ics.ComponentPropertyExdate):
			dates, err = rrule.StrToDatesInLoc(p.Value, e.Zone)
			for _, at := range dates {
				set.ExDate(at)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", p.IANAToken, p.Value, err)
		}
	}
	all := set.Between(calendarFrom, calendarTo, true)
	if len(all) > mostClosures {
		return nil, fmt.Errorf("recurs %d times", len(all))
	}
	return all, nil
}
