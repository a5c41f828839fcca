package statement

import (
	"math"
	"slices"

	"soba.invalid/soba/internal/core/period"
)

// How long after the end of a period a report may take where the issuer's own habit is
// not known, in days.
const (
	interimLag = 60
	yearLag    = 120
)

// A habit is known from habitual lags on: then a report may take as long as nine of
// ten did, and some days of grace.
const (
	habitual = 4
	grace    = 7
)

// Next is the report that is to come: the end of what it will cover, and the day by
// which it should be there. ok is false where the reports tell no rhythm.
func (h *History) Next() (end, due period.Date, ok bool) {
	if h == nil || len(h.Reports) == 0 {
		return 0, 0, false
	}
	h.once.Do(func() { h.next = h.expect() })
	return h.next.end, h.next.due, h.next.ok
}

func (h *History) expect() expectation {
	last := &h.Reports[len(h.Reports)-1]
	months := h.rhythm(last.End)
	end := (last.End + 1).AddMonths(months) - 1
	year := (parts[last.Part].over+months)%12 == 0
	return expectation{end, end.AddDays(h.lag(year)), true}
}

// rhythm is how many months lie between the ends of an issuer's reports: the least
// that its newest reports cover.
func (h *History) rhythm(last period.Date) int {
	least := 12
	for i := range h.Reports {
		if r := &h.Reports[i]; r.End > last.AddYears(-2) {
			least = min(least, parts[r.Part].months)
		}
	}
	return least
}

// lag is how many days a report of a year, or of a part of one, takes at most.
func (h *History) lag(year bool) int {
	var lags []int
	for i := range h.Reports {
		if r := &h.Reports[i]; r.Filed > r.End && (r.Part == Whole) == year {
			lags = append(lags, int(r.Filed-r.End))
		}
	}
	if len(lags) < habitual {
		if year {
			return yearLag
		}
		return interimLag
	}
	slices.Sort(lags)
	return lags[int(math.Ceil(0.9*float64(len(lags))))-1] + grace // the nearest rank
}
