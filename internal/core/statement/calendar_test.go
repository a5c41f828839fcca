package statement

import (
	"testing"
	"time"

	"soba.invalid/soba/internal/core/period"
)

func TestPlacesInAFiscalCalendar(t *testing.T) {
	day := func(text string) period.Date {
		d, err := period.ParseDate(text)
		if err != nil && text != "" {
			t.Fatal(err)
		}
		return d
	}
	june := CalendarOf(day("2025-06-30"), Whole, 2025)
	second := CalendarOf(day("2024-12-31"), Q2, 2025) // the same calendar, known by its second quarter
	weeks := CalendarOf(day("2025-01-04"), Whole, 2024)
	for _, c := range []struct {
		name       string
		calendar   Calendar
		first, end string
		part       Part
		year       int
	}{
		{"year", june, "2024-07-01", "2025-06-30", Whole, 2025},
		{"year before", june, "2023-07-01", "2024-06-30", Whole, 2024},
		{"first quarter of the next", june, "2025-07-01", "2025-09-30", Q1, 2026},
		{"last quarter", june, "2025-04-01", "2025-06-30", Q4, 2025},
		{"half", june, "2024-07-01", "2024-12-31", H1, 2025},
		{"second half", june, "2025-01-01", "2025-06-30", H2, 2025},
		{"nine months", june, "2023-07-01", "2024-03-31", NineMonths, 2024},
		{"long ago", june, "2005-07-01", "2006-06-30", Whole, 2006},
		{"far ahead", june, "2030-07-01", "2030-09-30", Q1, 2031},
		{"from a quarter", second, "2024-07-01", "2025-06-30", Whole, 2025},
		{"from a quarter, earlier", second, "2023-10-01", "2023-12-31", Q2, 2024},
		{"day of a year's end", june, "", "2024-06-30", Whole, 2024},
		{"day within a year", june, "", "2024-12-31", Q2, 2025},
		{"year of 53 weeks", weeks, "2023-12-31", "2025-01-04", Whole, 2024},
		{"year of 52 weeks before", weeks, "2023-01-01", "2023-12-30", Whole, 2023},
		{"two months", june, "2025-05-01", "2025-06-30", "", 0},
		{"across years", june, "2025-04-01", "2025-09-30", "", 0},
		{"day of no quarter's end", june, "", "2025-08-14", "", 0},
	} {
		part, year, ok := c.calendar.Place(day(c.first), day(c.end))
		if part != c.part || year != c.year || ok != (c.part != "") {
			t.Errorf("%s: %s to %s is %q of %d (%v), want %q of %d", c.name, c.first, c.end, part, year, ok, c.part, c.year)
		}
	}
	if n := Months(period.MakeDate(2024, time.January, 1), period.MakeDate(2024, time.September, 28)); n != 9 {
		t.Errorf("nine months of weeks are %d", n)
	}
}
