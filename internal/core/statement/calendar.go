package statement

import (
	"time"

	"soba.invalid/soba/internal/core/period"
)

// Calendar is how an issuer counts its fiscal years: one of them, and the month in
// which it ends.
type Calendar struct {
	year int
	ends int // as counted by month
}

// CalendarOf is the calendar of an issuer of which a part of a fiscal year ends on a day.
func CalendarOf(end period.Date, part Part, year int) Calendar {
	return Calendar{year, month(end) + 12 - parts[part].over}
}

// Place finds what a stretch of days is to the issuer: the part of a fiscal year, and
// which one. Without a first day it is the shortest part that ends there, and the whole
// year at its end. ok is false where no part fits.
func (c Calendar) Place(first, end period.Date) (part Part, year int, ok bool) {
	to := month(end)
	back := c.ends - to // months from there to the end of the year that is known
	years := back / 12
	if back < 0 {
		years = -((11 - back) / 12)
	}
	over := 12 - (back - 12*years)
	months := 0
	switch {
	case first != 0:
		months = to - month(first-1)
	case over == 12:
		months = 12
	default:
		months = 3
	}
	for p, span := range parts {
		if span.months == months && span.over == over {
			return p, c.year - years, true
		}
	}
	return "", 0, false
}

// Months is how long a stretch of days is, in months.
func Months(first, end period.Date) int { return month(end) - month(first-1) }

// Ends is the first day of the month in which the year that is known ends.
func (c Calendar) Ends() time.Time { return firstOf(c.ends) }
