// Package period names the stretches of time that values describe: civil dates,
// fiscal periods and ranges of either.
package period

import (
	"fmt"
	"time"
)

// Date is a civil date without a zone: the number of days since 1970-01-01.
// The zero Date means "no date".
type Date int32

// MakeDate returns the date of a year, month and day, normalised as [time.Date] does.
func MakeDate(year int, month time.Month, day int) Date {
	return Date(time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// DateOf returns the civil date of an instant in that instant's own zone.
func DateOf(t time.Time) Date {
	y, m, d := t.Date()
	return MakeDate(y, m, d)
}

// ParseDate reads an ISO 8601 calendar date, as 2026-03-06.
func ParseDate(text string) (Date, error) {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a date: write it as 2026-03-06", text)
	}
	return DateOf(t), nil
}

// Time returns midnight UTC at the start of the date.
func (d Date) Time() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// In returns the instant at which the clock in zone shows hour and minute on this date.
func (d Date) In(zone *time.Location, hour, minute int) time.Time {
	y, m, day := d.Time().Date()
	return time.Date(y, m, day, hour, minute, 0, 0, zone)
}

// Weekday returns the day of the week.
func (d Date) Weekday() time.Weekday { return d.Time().Weekday() }

// AddDays moves by whole days.
func (d Date) AddDays(n int) Date { return d + Date(n) }

// AddMonths moves by calendar months and stays in the month it lands in:
// a month after January 31 is the last day of February.
func (d Date) AddMonths(n int) Date {
	y, m, day := d.Time().Date()
	first := time.Date(y, m+time.Month(n), 1, 0, 0, 0, 0, time.UTC)
	last := first.AddDate(0, 1, -1).Day()
	return MakeDate(first.Year(), first.Month(), min(day, last))
}

// AddYears moves by calendar years; 29 February becomes the 28th where there is none.
func (d Date) AddYears(n int) Date { return d.AddMonths(12 * n) }

// String writes the date in the ISO 8601 form, or nothing for the zero Date.
func (d Date) String() string {
	if d == 0 {
		return ""
	}
	return d.Time().Format(time.DateOnly)
}

// MarshalText implements [encoding.TextMarshaler].
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements [encoding.TextUnmarshaler].
func (d *Date) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*d = 0
		return nil
	}
	*d, err = ParseDate(string(text))
	return err
}

// LongestBreak is how many days before a day its last session, or the last business
// day, may lie.
const LongestBreak = 14
