package period

import (
	"slices"
)

// Span is a stretch of days, both ends included.
type Span struct{ From, To Date }

// Days is the number of days in the span; 0 for one that ends before it begins.
func (s Span) Days() int { return max(0, int(s.To-s.From)+1) }

// Spans are stretches of days in order that neither overlap nor touch.
type Spans []Span

// Add returns the spans with another one joined in.
func (s Spans) Add(more Span) Spans {
	if more.Days() == 0 {
		return s
	}
	var out Spans
	for _, x := range s {
		switch {
		case x.To+1 < more.From:
			out = append(out, x)
		case more.To+1 < x.From:
			out = append(out, more)
			more = x
		default:
			more = Span{min(x.From, more.From), max(x.To, more.To)}
		}
	}
	return append(out, more)
}

// Lacking returns the parts of a span that none of the spans cover.
func (s Spans) Lacking(of Span) Spans {
	var out Spans
	for _, x := range s {
		if x.To < of.From || x.From > of.To {
			continue
		}
		if before := (Span{of.From, x.From - 1}); before.Days() > 0 {
			out = append(out, before)
		}
		of.From = x.To + 1
	}
	if of.Days() > 0 {
		out = append(out, of)
	}
	return out
}

// Hull is the span from the first day of all to the last.
func (s Spans) Hull() Span {
	if len(s) == 0 {
		return Span{0, -1}
	}
	return Span{s[0].From, s[len(s)-1].To}
}

// Equal tells whether two sets of spans cover the same days.
func (s Spans) Equal(other Spans) bool { return slices.Equal(s, other) }
