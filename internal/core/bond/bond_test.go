package bond

import (
	"fmt"
	"math"
	"testing"

	"soba.invalid/soba/internal/core/period"
)

func date(text string) period.Date {
	d, err := period.ParseDate(text)
	if err != nil {
		panic(err)
	}
	return d
}

// Prices and modified durations of bonds with two coupons a year at a yield of 9 %,
// from F. J. Fabozzi, Bond Markets, Analysis, and Strategies, in the chapter on the
// volatility of bond prices.
func TestPricesAndDurationsOfATextbook(t *testing.T) {
	day := date("2026-03-15")
	for _, c := range []struct {
		coupon          float64
		years           int
		price, modified float64
	}{
		{0.09, 5, 100, 3.96}, {0.09, 25, 100, 9.88}, {0.06, 5, 88.1309, 4.16}, {0.06, 25, 70.3570, 10.62}, {0, 5, 64.3928, 4.78}, {0, 25, 11.0710, 23.92},
	} {
		b := Bond{Coupon: c.coupon, Frequency: 2, Maturity: day.AddYears(c.years), Count: ActualActual}
		if got := b.Full(day, 0.09); math.Abs(got-c.price) > 6e-5 {
			t.Errorf("%v of %d years costs %v, want %v", c.coupon, c.years, got, c.price)
		}
		y, ok := b.Yield(day, c.price)
		if !ok || math.Abs(y-0.09) > 2e-6 {
			t.Errorf("%v of %d years at %v yields %v", c.coupon, c.years, c.price, y)
		}
		if _, got := b.Duration(day, 0.09); math.Abs(got-c.modified) > 0.006 {
			t.Errorf("%v of %d years: modified duration %v, want %v", c.coupon, c.years, got, c.modified)
		}
	}
	// The Macaulay duration at par is (1+i)/i · (1 − (1+i)^−n) periods, with i a half of 9 %.
	b := Bond{Coupon: 0.09, Frequency: 2, Maturity: day.AddYears(5), Count: ActualActual}
	if got, _ := b.Duration(day, 0.09); math.Abs(got-1.045/0.045*(1-math.Pow(1.045, -10))/2) > 1e-12 {
		t.Errorf("Macaulay duration %v", got)
	}
}

// A bond of two years with coupons of 6 % twice a year at 98.39 yields 6.76 %
// compounded continuously, in J. C. Hull, Options, Futures, and Other Derivatives, in
// the chapter on interest rates.
func TestAYieldOfATextbook(t *testing.T) {
	day := date("2026-01-01")
	b := Bond{Coupon: 0.06, Frequency: 2, Maturity: day.AddYears(2), Count: ActualActual}
	if y, ok := b.Yield(day, 98.39); !ok || math.Abs(2*math.Log(1+y/2)-0.0676) > 5e-5 {
		t.Errorf("%v", y)
	}
}

func TestAccruedInterest(t *testing.T) {
	for _, c := range []struct {
		name      string
		count     DayCount
		frequency int
		maturity  string
		day       string
		want      float64
	}{
		// From 15 February to 6 March are 19 days, of 181 to the next coupon.
		{"actual days", ActualActual, 2, "2031-08-15", "2026-03-06", 2.0 * 19 / 181},
		{"months of thirty days", Thirty360, 2, "2031-08-15", "2026-03-06", 2.0 * 21 / 180},
		{"over 365", Actual365, 2, "2031-08-15", "2026-03-06", 4.0 * 19 / 365},
		{"over 360", Actual360, 2, "2031-08-15", "2026-03-06", 4.0 * 19 / 360},
		{"once a year, with a leap day", ActualActual, 1, "2030-03-01", "2024-02-29", 4.0 * 365 / 366},
		{"on the day of a coupon", ActualActual, 2, "2031-08-15", "2026-02-15", 0},
		{"at the end of months", ActualActual, 2, "2031-08-31", "2026-03-31", 2.0 * 31 / 184},
		{"from the 31st", Thirty360, 1, "2031-05-31", "2026-07-31", 4.0 * 60 / 360},
		{"without coupons", ActualActual, 0, "2031-08-15", "2026-03-06", 0},
		{"at maturity", ActualActual, 2, "2026-03-06", "2026-03-06", 0},
	} {
		b := Bond{Coupon: 0.04, Frequency: c.frequency, Maturity: date(c.maturity), Count: c.count}
		if got := b.Accrued(date(c.day)); math.Abs(got-c.want) > 1e-12 {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

// Between coupons, for every convention, the yield of a price has that price, and
// the modified duration is how the price changes.
func TestYieldsBetweenCoupons(t *testing.T) {
	for _, count := range []DayCount{ActualActual, Thirty360, Actual365, Actual360} {
		for _, frequency := range []int{0, 1, 2, 4, 12} {
			for _, days := range []period.Date{1, 40, 200, 400, 3000} {
				day := date("2026-03-06")
				b := Bond{Coupon: 0.035, Frequency: frequency, Maturity: day + days, Count: count}
				y, ok := b.Yield(day, 97.5)
				if full := b.Full(day, y); !ok || math.Abs(full-97.5-b.Accrued(day)) > 1e-9 {
					t.Errorf("%s, %d a year, %d days: %v costs %v", count, frequency, days, y, full)
				}
				_, modified := b.Duration(day, y)
				const step = 1e-6
				slope := (b.Full(day, y+step) - b.Full(day, y-step)) / (2 * step) / b.Full(day, y)
				if math.Abs(slope+modified) > 1e-4*math.Max(1, modified) {
					t.Errorf("%s, %d a year, %d days: modified duration %v, the price changes by %v", count, frequency, days, modified, slope)
				}
			}
		}
	}
	b := Bond{Coupon: 0.035, Frequency: 2, Maturity: date("2026-03-06"), Count: ActualActual}
	if _, ok := b.Yield(date("2026-03-06"), 100); ok {
		t.Error("there is no yield from maturity on")
	}
	b.Maturity = date("2027-03-06")
	if _, ok := b.Yield(date("2026-03-06"), 0); ok {
		t.Error("there is no yield at no price")
	}
	if _, err := ParseDayCount("act/act"); err != nil {
		t.Error(err)
	}
	if _, err := ParseDayCount("30/365"); err == nil {
		t.Error("30/365 is no day count")
	}
}

// Due on 29 February: coupons are on the 29th, and on the last of a shorter
// February.
func TestCouponDates(t *testing.T) {
	b := &Bond{Coupon: 0.05, Frequency: 2, Maturity: period.MakeDate(2028, 2, 29)}
	for _, c := range []struct{ after, to, want string }{
		{"2026-03-01", "2027-03-01", "[2026-08-29 2027-02-28]"},
		{"2026-08-29", "2026-12-31", "[]"}, // the day itself is over
		{"2027-08-01", "2030-01-01", "[2027-08-29 2028-02-29]"},
		{"2028-02-29", "2030-01-01", "[]"},
	} {
		after, _ := period.ParseDate(c.after)
		to, _ := period.ParseDate(c.to)
		if got := fmt.Sprint(b.Coupons(after, to)); got != c.want {
			t.Errorf("after %s up to %s: %s, want %s", c.after, c.to, got, c.want)
		}
	}
	zero := &Bond{Maturity: b.Maturity}
	if days := zero.Coupons(0, b.Maturity); len(days) != 0 {
		t.Errorf("a zero bond pays on %v", days)
	}
}
