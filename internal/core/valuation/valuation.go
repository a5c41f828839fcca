// Package valuation values a share by what it will pay: cash flows, earnings or
// dividends that grow in two stages and then for ever, discounted to today. With no
// years in either stage it is the model of M. J. Gordon (1959): the next payment over
// the discount rate less the growth.
package valuation

import (
	"errors"
	"fmt"
	"math"
)

// Model is what a value rests on. Rates are fractions a year; payments come at the
// ends of years.
type Model struct {
	Base     float64 // payment of the year that has just ended, a share
	Growth   float64 // of the first stage
	Years    int
	Growth2  float64 // of the second
	Years2   int
	Terminal float64 // growth after both, for ever
	Discount float64
}

// longest is how many years a stage may have.
const longest = 50

// Check says what a value cannot be reckoned from.
func (m *Model) Check() error {
	switch {
	case math.IsNaN(m.Base) || m.Base <= 0:
		return errors.New("there is nothing to grow from: the payment of the past year is not above zero")
	case m.Years < 0 || m.Years2 < 0 || m.Years > longest || m.Years2 > longest:
		return fmt.Errorf("a stage has from 0 to %d years", longest)
	case m.Growth <= -1 || m.Growth2 <= -1 || m.Terminal <= -1:
		return errors.New("a growth of −100 % or less leaves nothing")
	case m.Discount <= m.Terminal:
		return errors.New("the discount rate must be above the growth for ever: otherwise the value has no bound")
	}
	return nil
}

// Value is what a share is worth, by where it comes from.
type Value struct {
	Stage1, Stage2, Terminal float64 // present values
}

// Total is the value of a share.
func (v *Value) Total() float64 { return v.Stage1 + v.Stage2 + v.Terminal }

// Value discounts the payments. The model must pass [Model.Check].
func (m *Model) Value() (v Value) {
	payment, factor := m.Base, 1.0
	stage := func(growth float64, years int) (sum float64) {
		for range years {
			payment *= 1 + growth
			factor /= 1 + m.Discount
			sum += payment * factor
		}
		return sum
	}
	v.Stage1 = stage(m.Growth, m.Years)
	v.Stage2 = stage(m.Growth2, m.Years2)
	v.Terminal = payment * (1 + m.Terminal) / (m.Discount - m.Terminal) * factor
	return v
}

// Grid is the value for each discount rate by each growth of the first stage; NaN
// where it has none.
func (m *Model) Grid(discounts, growths []float64) [][]float64 {
	out := make([][]float64, len(discounts))
	for i, r := range discounts {
		out[i] = make([]float64, len(growths))
		for j, g := range growths {
			x := *m
			x.Discount, x.Growth = r, g
			if x.Years == 0 && x.Years2 == 0 {
				x.Terminal = g // there is but one growth
			}
			out[i][j] = math.NaN()
			if x.Check() == nil {
				v := x.Value()
				out[i][j] = v.Total()
			}
		}
	}
	return out
}

// Implied is the growth of the first stage at which the value is a price; ok is false
// where none between −50 % and 100 % is.
func (m *Model) Implied(price float64) (growth float64, ok bool) {
	at := func(g float64) float64 {
		x := *m
		x.Growth = g
		v := x.Value()
		return v.Total()
	}
	low, high := -0.5, 1.0
	if m.Check() != nil || m.Years == 0 || at(low) > price || at(high) < price {
		return 0, false
	}
	for range 100 { // the value rises with the growth
		if middle := (low + high) / 2; at(middle) < price {
			low = middle
		} else {
			high = middle
		}
	}
	return (low + high) / 2, true
}
