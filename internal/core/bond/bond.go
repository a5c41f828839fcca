// Package bond computes on bonds with fixed coupons by the street convention:
// coupons lie whole periods before maturity, yields are compounded as often as
// coupons are paid, and the broken first period counts as the fraction of it that
// is left. Prices are for 100 of face value; settlement is on the day itself.
package bond

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"soba.invalid/soba/internal/core/period"
)

// DayCount says how days of interest are counted.
type DayCount string

// The day counts.
const (
	ActualActual DayCount = "ACT/ACT" // ICMA rule 251: days over the days of the coupon period
	Thirty360    DayCount = "30/360"  // bond basis: months of 30 days
	Actual365    DayCount = "ACT/365" // days over 365
	Actual360    DayCount = "ACT/360" // days over 360
)

// ParseDayCount reads a day count as sources write it.
func ParseDayCount(text string) (DayCount, error) {
	switch d := DayCount(strings.ToUpper(strings.TrimSpace(text))); d {
	case ActualActual, Thirty360, Actual365, Actual360:
		return d, nil
	}
	return "", fmt.Errorf("%q is not a day count that is known: ACT/ACT, 30/360, ACT/365 or ACT/360", text)
}

// Bond is what is known of a bond.
type Bond struct {
	Coupon    float64 // interest a year over face value, as a fraction
	Frequency int     // coupons a year: 1, 2, 4 or 12; 0 for a bond without any, whose yield is compounded yearly
	Maturity  period.Date
	Count     DayCount
}

const face = 100

// times is how often a year the yield is compounded.
func (b *Bond) times() int { return max(1, b.Frequency) }

// Payment is the interest of one coupon, for 100 of face value.
func (b *Bond) Payment() float64 { return face * b.Coupon / float64(b.times()) }

// Coupons lists the days after one and up to another on which a coupon is paid.
func (b *Bond) Coupons(after, to period.Date) (days []period.Date) {
	if b.Frequency == 0 {
		return nil
	}
	for n := 0; ; n++ {
		day := b.Maturity.AddMonths(-n * 12 / b.Frequency)
		if day <= after {
			break
		}
		if day <= to {
			days = append(days, day)
		}
	}
	slices.Reverse(days)
	return days
}

// schedule returns the coupon dates around a day, how many are left after it, and
// which fraction of the current period has passed.
func (b *Bond) schedule(day period.Date) (before, next period.Date, left int, passed float64) {
	months := 12 / b.times()
	for next = b.Maturity; ; next = before {
		left++
		before = b.Maturity.AddMonths(-left * months) // counted from maturity, so that the 31st comes back after a short month
		if before <= day {
			break
		}
	}
	switch b.Count {
	case Thirty360:
		passed = float64(days30(before, day)) * float64(b.times()) / 360
	default:
		passed = float64(day-before) / float64(next-before)
	}
	return before, next, left, passed
}

// days30 counts days in months of 30.
func days30(from, to period.Date) int {
	y1, m1, d1 := from.Time().Date()
	y2, m2, d2 := to.Time().Date()
	d1 = min(d1, 30)
	if d1 == 30 {
		d2 = min(d2, 30)
	}
	return 360*(y2-y1) + 30*int(m2-m1) + d2 - d1
}

// Accrued is the interest since the last coupon.
func (b *Bond) Accrued(day period.Date) float64 {
	if b.Frequency == 0 || day >= b.Maturity {
		return 0
	}
	before, _, _, passed := b.schedule(day)
	switch b.Count {
	case Actual365:
		return face * b.Coupon * float64(day-before) / 365
	case Actual360:
		return face * b.Coupon * float64(day-before) / 360
	}
	return b.Payment() * passed
}

// Full is the price, accrued interest included, at a yield: the present value of
// what is still paid. In the last period interest is simple.
func (b *Bond) Full(day period.Date, yield float64) float64 {
	_, _, left, passed := b.schedule(day)
	rate, ahead := yield/float64(b.times()), 1-passed
	if left == 1 {
		return (face + b.Payment()) / (1 + ahead*rate)
	}
	value := 0.0
	for k := range left {
		value += b.Payment() * math.Pow(1+rate, -(ahead+float64(k)))
	}
	return value + face*math.Pow(1+rate, -(ahead+float64(left-1)))
}

// Yield is the yield to maturity at a price without accrued interest, as a
// fraction a year. ok is false from maturity on, and where no yield fits.
func (b *Bond) Yield(day period.Date, clean float64) (yield float64, ok bool) {
	if day >= b.Maturity || clean <= 0 {
		return 0, false
	}
	full := clean + b.Accrued(day)
	// The price falls as the yield rises: halve the interval until it is one number.
	low, high := -0.99*float64(b.times()), 100.0
	if b.Full(day, low) < full || b.Full(day, high) > full {
		return 0, false
	}
	for range 200 {
		middle := (low + high) / 2
		if middle == low || middle == high {
			break
		}
		if b.Full(day, middle) > full {
			low = middle
		} else {
			high = middle
		}
	}
	return (low + high) / 2, true
}

// Duration is the mean time in years until what is paid, weighted by present value
// (Macaulay 1938), at a yield; and the modified duration, by which fraction the price
// falls when the yield rises by one.
func (b *Bond) Duration(day period.Date, yield float64) (macaulay, modified float64) {
	_, _, left, passed := b.schedule(day)
	times := float64(b.times())
	rate, ahead := yield/times, 1-passed
	if left == 1 {
		macaulay = ahead / times
		return macaulay, macaulay / (1 + ahead*rate)
	}
	sum := 0.0
	for k := range left {
		paid := b.Payment()
		if k == left-1 {
			paid += face
		}
		t := ahead + float64(k)
		sum += t / times * paid * math.Pow(1+rate, -t)
	}
	macaulay = sum / b.Full(day, yield)
	return macaulay, macaulay / (1 + rate)
}
