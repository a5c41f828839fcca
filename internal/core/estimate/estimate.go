// Package estimate reads what analysts expect of an issuer: of its next quarters and
// years, and of the twelve months ahead.
package estimate

import (
	"fmt"
	"math"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// Line is what is estimated.
type Line int

// The lines. The means of earlier days are of earnings a share.
const (
	EPS Line = iota
	High
	Low
	Analysts
	Before7
	Before30
	Before60
	Before90
	Revenue
	RevenueHigh
	RevenueLow
	RevenueAnalysts
	Actual // what earnings a share became; NaN while the period is to come
	lines
)

// Estimate is what is expected of one period.
type Estimate struct {
	End      period.Date
	Year     int
	Part     statement.Part
	Currency string
	Values   [lines]float64 // NaN where there is none
}

// Label names the period, as FY2026 or 2026-Q3.
func (e *Estimate) Label() string {
	if e.Part == statement.Whole {
		return fmt.Sprintf("FY%04d", e.Year)
	}
	return fmt.Sprintf("%04d-%s", e.Year, e.Part)
}

func (e *Estimate) ahead() bool { return math.IsNaN(e.Values[Actual]) }

// Outlook is all that is expected of an issuer, the nearest period first.
type Outlook []Estimate

// Ahead lists the estimates of years, or of quarters, that are to come.
func (o Outlook) Ahead(years bool) (out []*Estimate) {
	for i := range o {
		if e := &o[i]; e.ahead() && (e.Part == statement.Whole) == years {
			out = append(out, e)
		}
	}
	return out
}

// Behind lists the estimates of quarters that have been reported, the newest first.
func (o Outlook) Behind() (out []*Estimate) {
	for i := len(o) - 1; i >= 0; i-- {
		if e := &o[i]; !e.ahead() && e.Part != statement.Whole {
			out = append(out, e)
		}
	}
	return out
}

// Of returns a line of a period ahead, with the name of the period: FY+1 and Q+1 are
// the next to be reported. The twelve months ahead are the next four quarters, or
// where fewer are estimated the next two years, each for the part of the twelve
// months from a day on that falls into it. ok is false where nobody estimates it.
func (o Outlook) Of(line Line, p period.Period, day period.Date) (value float64, label string, ok bool) {
	if p.Kind() == period.Next {
		return o.twelveMonths(line, day)
	}
	ahead := o.Ahead(p.Kind() == period.Year)
	n := p.Offset()
	if n < 1 || n > len(ahead) {
		return 0, "", false
	}
	e := ahead[n-1]
	return e.Values[line], e.Label(), !math.IsNaN(e.Values[line])
}

func (o Outlook) twelveMonths(line Line, day period.Date) (float64, string, bool) {
	if quarters := o.Ahead(false); len(quarters) >= 4 {
		sum := 0.0
		for _, e := range quarters[:4] {
			sum += e.Values[line]
		}
		return sum, quarters[0].Label() + " to " + quarters[3].Label(), !math.IsNaN(sum)
	}
	years := o.Ahead(true)
	if len(years) < 2 {
		return 0, "", false
	}
	first := math.Max(0, math.Min(1, float64(years[0].End-day)/365))
	x := first*years[0].Values[line] + (1-first)*years[1].Values[line]
	return x, fmt.Sprintf("%.0f %% of %s and %.0f %% of %s", 100*first, years[0].Label(), 100*(1-first), years[1].Label()), !math.IsNaN(x)
}

// Surprise is by how much earnings a share of a reported quarter differed from what
// was expected, over the size of that; 0 back is the newest.
func (o Outlook) Surprise(back int) (value float64, label string, ok bool) {
	behind := o.Behind()
	if back < 0 || back >= len(behind) || behind[back].Values[EPS] == 0 {
		return 0, "", false
	}
	e := behind[back]
	return (e.Values[Actual] - e.Values[EPS]) / math.Abs(e.Values[EPS]), e.Label(), true
}
