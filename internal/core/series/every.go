package series

import (
	"fmt"
	"math"
	"slices"

	"soba.invalid/soba/internal/core/period"
)

// Interval is the stretch of time that one bar sums up.
type Interval string

// The intervals. Weeks run from Monday to Sunday (ISO 8601).
const (
	Daily     Interval = "day"
	Weekly    Interval = "week"
	Monthly   Interval = "month"
	Quarterly Interval = "quarter"
	Yearly    Interval = "year"
)

// Intervals lists the intervals from the finest on.
var Intervals = []Interval{Daily, Weekly, Monthly, Quarterly, Yearly}

// ParseInterval reads the name of an interval.
func ParseInterval(text string) (Interval, error) {
	if i := Interval(text); slices.Contains(Intervals, i) {
		return i, nil
	}
	return "", fmt.Errorf("%q is not an interval: there are day, week, month, quarter and year", text)
}

// Around returns the first and the last day of the stretch that holds a day.
func (i Interval) Around(day period.Date) (first, last period.Date) {
	year, month, _ := day.Time().Date()
	switch i {
	case Weekly:
		first = day - period.Date((int(day.Weekday())+6)%7)
		return first, first + 6
	case Monthly:
		return period.MakeDate(year, month, 1), period.MakeDate(year, month+1, 0)
	case Quarterly:
		month -= (month - 1) % 3
		return period.MakeDate(year, month, 1), period.MakeDate(year, month+3, 0)
	case Yearly:
		return period.MakeDate(year, 1, 1), period.MakeDate(year, 12, 31)
	}
	return day, day
}

// Every sums bars up: the first open, the highest high, the lowest low, the last
// close and the sum of volumes of each stretch, on the day of its last session.
// Days from first to last are known; a stretch of which sessions lie outside them
// is not whole, and partial says so. trades tells the sessions of the exchange.
func (b *Bars) Every(i Interval, first, last period.Date, trades func(period.Date) bool) (out Bars, partial []bool) {
	known := b.Slice(b.OnOrBefore(first-1)+1, b.OnOrBefore(last)+1)
	session := func(from, to period.Date) bool {
		for d := from; d <= to; d++ {
			if trades(d) {
				return true
			}
		}
		return false
	}
	for at := 0; at < known.Len(); {
		from, to := i.Around(known.Day[at])
		end := known.OnOrBefore(to)
		out.appendSum(&known, at, end+1)
		partial = append(partial, session(from, min(first-1, to)) || session(max(last+1, from), to))
		at = end + 1
	}
	return out, partial
}

// appendSum appends a bar that sums up those from one to before another: the first
// open, the highest high, the lowest low, the last close and the sum of volumes, on
// the last day.
func (b *Bars) appendSum(of *Bars, from, to int) {
	high, low, volume := math.Inf(-1), math.Inf(1), 0.0
	for i := from; i < to; i++ {
		high, low = math.Max(high, of.High[i]), math.Min(low, of.Low[i])
		volume += of.Volume[i]
	}
	b.Append(of.Day[to-1], of.Open[from], high, low, of.Close[to-1], volume)
}

// Grouped sums bars up that follow each other and belong together; same tells
// whether two neighbours do. starts are the positions of the first of each group.
func (b *Bars) Grouped(same func(i, j int) bool) (out Bars, starts []int) {
	for at := 0; at < b.Len(); {
		end := at + 1
		for end < b.Len() && same(end-1, end) {
			end++
		}
		out.appendSum(b, at, end)
		starts = append(starts, at)
		at = end
	}
	return out, starts
}

// Line is the last close of each stretch from a day on, the oldest first: what a
// small chart draws.
func (b *Bars) Line(from period.Date, i Interval) []float64 {
	var line []float64
	end := period.Date(0)
	for k := b.OnOrBefore(from-1) + 1; k < len(b.Day); k++ {
		if b.Day[k] <= end {
			line[len(line)-1] = b.Close[k]
			continue
		}
		line = append(line, b.Close[k])
		_, end = i.Around(b.Day[k])
	}
	return line
}

// Holes lists the sessions from first to last of which there is no bar.
func (b *Bars) Holes(first, last period.Date, trades func(period.Date) bool) []period.Date {
	var holes []period.Date
	at := b.OnOrBefore(first-1) + 1
	for d := first; d <= last; d++ {
		if at < len(b.Day) && b.Day[at] == d {
			at++
			continue
		}
		if trades(d) {
			holes = append(holes, d)
		}
	}
	return holes
}
