package statement

import (
	"math"

	"soba.invalid/soba/internal/core/period"
)

// A sheet is what the reports say of one span, all lines at once: most are read off the
// same reports, so these are looked for once and remembered. Lines that are read in
// another way, and those that were restated, are not on it.
type sheet struct {
	values []float64 // by line; NaN: not on the sheet

	over  Reading // of what adds up, but for the value
	atEnd Reading // of what stands at the end
}

// sheet finds or makes the sheet of a span.
func (h *History) sheet(at Span) *sheet {
	h.mu.RLock()
	s := h.sheets[at]
	h.mu.RUnlock()
	if s != nil {
		return s
	}
	s = h.makeSheet(at)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.sheets == nil {
		h.sheets = map[Span]*sheet{}
	}
	h.sheets[at] = s
	return s
}

func (h *History) makeSheet(at Span) *sheet {
	s := &sheet{values: make([]float64, len(Lines))}
	for i := range s.values {
		s.values[i] = math.NaN()
	}
	if end := h.endingIn(at.to); end != nil && end.Was == nil {
		s.atEnd = reading(0, 0, []*Report{end}, nil)
		s.atEnd.Label = s.atEnd.End.String()
		for line := range Lines {
			if Lines[line].Nature == Stock {
				s.values[line] = end.Values[line]
			}
		}
	}
	steps, ok := h.path(anyLine, at) // no line has a shorter one
	if !ok {
		return s
	}
	from, less := h.sides(steps)
	for _, r := range append(from[:len(from):len(from)], less...) {
		if r.Was != nil {
			return s
		}
	}
	s.over = reading(0, 0, from, less)
	s.over.derived = s.over.Derived()
	s.over.Label = "TTM " + s.over.End.String()
	for line := range Lines {
		switch n := Lines[line].Nature; {
		case n == Flow, n == Average, n == PerShare && len(steps) == 1:
			s.values[line] = h.sum(line, at, steps)
		}
	}
	if len(steps) > 1 { // an amount for one share is never added up
		earned := s.values[At("income.net_income_common")]
		s.values[At("income.eps_basic")] = earned / s.values[At("income.shares_basic")]
		s.values[At("income.eps_diluted")] = earned / s.values[At("income.shares_diluted")]
	}
	return s
}

// endingIn is the report of the shortest stretch that ends in a month; nil where none does.
func (h *History) endingIn(month int) *Report {
	for _, i := range h.at[month] {
		if h.ends[i] == month {
			return &h.Reports[i]
		}
	}
	return nil
}

// read returns a line off the sheet; false where it is not on it.
func (s *sheet) read(line int) (Reading, bool) {
	x := s.values[line]
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return Reading{}, false
	}
	r := s.over
	if Lines[line].Nature == Stock {
		r = s.atEnd
	}
	r.Value = x
	return r, true
}

// sum adds a line up over the steps of a path; NaN where one of them lacks it. A mean
// counts for as long as its report.
func (h *History) sum(line int, at Span, steps []step) (sum float64) {
	for _, s := range steps {
		r := &h.Reports[s.report]
		x := r.Values[line]
		if Lines[line].Nature == Average {
			x *= float64(parts[r.Part].months)
		}
		if s.back {
			x = -x
		}
		sum += x
	}
	if Lines[line].Nature == Average {
		sum /= float64(at.to - at.from)
	}
	return sum
}

// sides are the reports of a path that are added, and those that are subtracted.
func (h *History) sides(steps []step) (from, less []*Report) {
	for _, s := range steps {
		if r := &h.Reports[s.report]; s.back {
			less = append(less, r)
		} else {
			from = append(from, r)
		}
	}
	return from, less
}

// expectation is when the next report is expected.
type expectation struct {
	end, due period.Date
	ok       bool
}
