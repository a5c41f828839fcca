package history

import (
	"slices"
	"sort"
	"time"

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

// Moment is what bars stand side by side on: a day, or for bars within the day the
// second since 1970 at which they begin.
type Moment int64

// moment is that of a bar.
func (p *Prices) moment(i int) Moment {
	if p.Times != nil {
		return Moment(p.Times[i].Unix())
	}
	return Moment(p.Bars.Day[i])
}

// Written is a moment as a date (ISO 8601), or as an instant (RFC 3339).
func (p *Prices) Written(m Moment) string {
	if p.Times != nil {
		return time.Unix(int64(m), 0).UTC().Format(time.RFC3339)
	}
	return period.Date(m).String()
}

// onOrBefore is the position of the last bar of a moment or before it; -1 for none.
func (p *Prices) onOrBefore(m Moment) int {
	return sort.Search(p.Bars.Len(), func(i int) bool { return p.moment(i) > m }) - 1
}

// At is where the bar of a moment stands.
type At struct {
	Index   int // -1 for none
	Carried bool
}

// Align puts the bars of several listings on common moments: those at which any has
// a bar or a hole, or for Drop those at which all have a bar. The result is by
// moment, then by listing.
func Align(all []*Prices, gaps Gaps) (moments []Moment, at [][]At) {
	seen := map[Moment]bool{}
	for _, p := range all {
		for i := range p.Bars.Len() {
			seen[p.moment(i)] = true
		}
		for _, h := range p.Holes {
			seen[Moment(h.Day)] = true
		}
	}
	for m := range seen {
		moments = append(moments, m)
	}
	slices.Sort(moments)
	moments = slices.DeleteFunc(moments, func(m Moment) bool {
		row := make([]At, len(all))
		missing := false
		for i, p := range all {
			row[i].Index = p.onOrBefore(m)
			switch {
			case row[i].Index < 0:
				missing = true
			case p.moment(row[i].Index) != m:
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
	return moments, at
}
