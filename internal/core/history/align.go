package history

import (
	"slices"

	"soba.invalid/soba/internal/core/period"
)

// Gaps says what becomes of a day on which a listing has no bar.
type Gaps string

// What becomes of gaps.
const (
	Blank Gaps = "blank" // the day stays, without a value
	Carry Gaps = "carry" // the last bar before stands in, and says so
	Drop  Gaps = "drop"  // days that not all listings have go
)

// AllGaps lists what may become of gaps.
var AllGaps = []Gaps{Blank, Carry, Drop}

// At is where the bar of a day stands.
type At struct {
	Index   int // -1 for none
	Carried bool
}

// Align puts the bars of several listings on common days: those on which any has
// a bar or a hole, or for Drop those on which all have a bar. The result is by
// day, then by listing.
func Align(all []*Prices, gaps Gaps) (days []period.Date, at [][]At) {
	seen := map[period.Date]bool{}
	for _, p := range all {
		for _, d := range p.Bars.Day {
			seen[d] = true
		}
		for _, h := range p.Holes {
			seen[h.Day] = true
		}
	}
	for d := range seen {
		days = append(days, d)
	}
	slices.Sort(days)
	days = slices.DeleteFunc(days, func(d period.Date) bool {
		row := make([]At, len(all))
		missing := false
		for i, p := range all {
			row[i].Index = p.Bars.OnOrBefore(d)
			switch {
			case row[i].Index < 0:
				missing = true
			case p.Bars.Day[row[i].Index] != d:
				missing = true
				if row[i].Carried = gaps == Carry; !row[i].Carried {
					row[i].Index = -1
				}
			}
		}
		if missing && gaps == Drop {
			return true
		}
		at = append(at, row)
		return false
	})
	return days, at
}
