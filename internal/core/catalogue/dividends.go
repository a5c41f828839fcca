package catalogue

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

var dividendFields = []Field{
	paid("dividend.last_amount", "Last dividend", Price, "Amount of the latest dividend that has gone ex, in today's shares.", func(t *Told, h dividend.History) Said {
		if last := h.LastBy(t.Day); last != nil {
			return Said{Value: cell.Of(last.Adjusted)}
		}
		return none
	}),
	paid("dividend.last_ex_date", "Last ex-date", Date, "First day of trading without the latest dividend.", func(t *Told, h dividend.History) Said {
		if last := h.LastBy(t.Day); last != nil {
			return onDay(last.Ex, false)
		}
		return none
	}),
	paid("dividend.last_pay_date", "Last pay date", Date, "Day on which the latest dividend that has gone ex is paid.", func(t *Told, h dividend.History) Said {
		if last := h.LastBy(t.Day); last != nil {
			return onDay(last.Pay, false)
		}
		return none
	}),
	paid("dividend.next_ex_date", "Next ex-date", Date, "Next ex-date that has been announced, or the one that the rhythm of the last year lets expect, marked as an estimate.", func(t *Told, h dividend.History) Said {
		for _, p := range Coming(t.Listing, h, t.Day) {
			if p.Ex > t.Day {
				return onDay(p.Ex, p.Expected)
			}
		}
		return none
	}),
	paid("dividend.next_pay_date", "Next pay date", Date, "Next day of payment: of a dividend that is announced, or of one that is expected, marked as an estimate.", func(t *Told, h dividend.History) Said {
		var next *dividend.Payment
		coming := Coming(t.Listing, h, t.Day)
		for i := range coming {
			if p := &coming[i]; p.Pay > t.Day && (next == nil || p.Pay < next.Pay) {
				next = p
			}
		}
		if next == nil {
			return none
		}
		return onDay(next.Pay, next.Expected)
	}),
	paid("dividend.frequency", "Dividends a year", Count, "How often a year regular dividends are paid, read from the last two years: 1, 2, 4 or 12; 0 where they keep to no rhythm.", func(t *Told, h dividend.History) Said {
		n, known := h.Rhythm(t.Day)
		if !known {
			return Said{Reason: cell.ShortHistory, Detail: "fewer than two regular dividends in the last two years"}
		}
		return Said{Value: cell.Of(float64(n))}
	}),
	paid("dividend.ttm", "Dividends of the year", Price, "Regular dividends with an ex-date in the last 365 days, for one share.", func(t *Told, h dividend.History) Said {
		return Said{Value: cell.Of(h.Trailing(t.Day).Regular)}
	}),
	paid("dividend.ttm_total", "Dividends with specials", Price, "Regular and special dividends with an ex-date in the last 365 days, for one share.", func(t *Told, h dividend.History) Said {
		total := h.Trailing(t.Day)
		out := Said{Value: cell.Of(total.Regular + total.Special)}
		if total.Special > 0 {
			out.Flags = cell.Special
		}
		return out
	}),
	taking(AYear, paid("dividend.annual", "Dividends in year", Price, "Regular dividends with an ex-date in a calendar year, for one of today's shares; the last full year unless another is named.", func(t *Told, h dividend.History) Said {
		year := t.Day.Time().Year() - 1
		if t.Period.Kind() == period.Calendar {
			year = t.Period.Year()
		}
		return Said{Value: cell.Of(h.Year(year).Regular), Period: strconv.Itoa(year)}
	})),
	paid("dividend.forward", "Dividends ahead", Price, "The last regular dividend times the dividends a year; 0 where two in a row have not come.", func(t *Told, h dividend.History) Said {
		if len(h) == 0 || t.Listing.EndedBy(t.Day) {
			return Said{Value: cell.Of(0)}
		}
		x, known := h.Forward(t.Day)
		if !known {
			return Said{Reason: cell.ShortHistory, Detail: "regular dividends keep to no rhythm, or are fewer than two in the last two years"}
		}
		return Said{Value: cell.Of(x)}
	}),
	{ID: "dividend.yield", Label: "Yield", Unit: Percent, NotFor: noEquity, Formula: formula.MustParse("dividend.ttm / price.latest"), Definition: "Regular dividends of the last 365 days over the latest price."},
	{ID: "dividend.yield_forward", Label: "Yield ahead", Unit: Percent, NotFor: noEquity, Formula: formula.MustParse("dividend.forward / price.latest"), Definition: "Dividends ahead over the latest price."},
	taking(AQuarter, priced("dividend.yield_at", "Yield at quarter end", Percent, "Regular dividends of the 365 days up to the end of a calendar quarter, over the close then; the last full quarter unless another is named.", func(t *Told, h dividend.History) Said {
		year, quarter := lastQuarter(t.Day, t.Period)
		out := yieldAt(t, h, year, quarter)
		out.Period = fmt.Sprintf("%04d-Q%d", year, quarter)
		return out
	})),
	reading(366*(yieldQuarters+1)/4, priced("dividend.yield_5y_average", "Yield, 5-year average", Percent, "Mean of the yields at the ends of the last 20 calendar quarters.", func(t *Told, h dividend.History) Said {
		year, quarter := lastQuarter(t.Day, period.Period{})
		sum := 0.0
		for range yieldQuarters {
			at := yieldAt(t, h, year, quarter)
			if at.Reason != cell.NoReason {
				return at
			}
			sum += at.Value.Num
			if quarter--; quarter == 0 {
				year, quarter = year-1, 4
			}
		}
		return Said{Value: cell.Of(sum / yieldQuarters)}
	})),
	grown("dividend.growth_1y", 1), grown("dividend.growth_3y", 3), grown("dividend.growth_5y", 5), grown("dividend.growth_10y", 10),
	paid("dividend.streak", "Years of increase", Count, "Full calendar years in a row, up to the last, in which regular dividends rose.", func(t *Told, h dividend.History) Said {
		return Said{Value: cell.Of(float64(h.Streak(t.Day)))}
	}),
	paid("dividend.cut_year", "Last cut", Year, "The last full calendar year in which regular dividends fell.", func(t *Told, h dividend.History) Said {
		year := h.Cut(t.Day)
		if year == 0 {
			return Said{Reason: cell.NotApplicable, Detail: "they never fell in what is known"}
		}
		return Said{Value: cell.Of(float64(year))}
	}),
}

// yieldQuarters is how many quarters the average yield is over.
const yieldQuarters = 20

// none says that there is no dividend to tell of.
var none = Said{Reason: cell.NotReported, Detail: "no dividend is known"}

func onDay(day period.Date, expected bool) Said {
	if day == 0 {
		return Said{Reason: cell.NotReported}
	}
	out := Said{Value: cell.OfText(day.String())}
	if expected {
		out.Flags = cell.Estimate
	}
	return out
}

// paid is a field read off the dividends of a listing.
func paid(id, label string, unit Unit, definition string, tell func(*Told, dividend.History) Said) Field {
	return told(id, label, unit, Dividends, definition, func(t *Told) Said {
		if wrong := t.foreign(); wrong != nil {
			return *wrong
		}
		return tell(t, t.Payments)
	})
}

// priced is a field read off dividends and prices.
func priced(id, label string, unit Unit, definition string, tell func(*Told, dividend.History) Said) Field {
	f := paid(id, label, unit, definition, tell)
	f.With = Bars
	return f
}

// reading says how many days of bars a field reads back.
func reading(days int, f Field) Field {
	f.Back = days
	return f
}

func taking(form Form, f Field) Field {
	f.Takes = form
	return f
}

func grown(id string, years int) Field {
	label, over := "Growth, 1 year", "the year before"
	if years > 1 {
		label, over = fmt.Sprintf("Growth, %d years", years), fmt.Sprintf("%d years before, a year", years)
	}
	return paid(id, "Dividend "+lower(label), Percent, "Compound growth of the regular dividends of the last full calendar year against those of "+over+".", func(t *Told, h dividend.History) Said {
		x, whole := h.Growth(t.Day, years)
		switch {
		case len(h) == 0:
			return none
		case !whole:
			return Said{Reason: cell.ShortHistory, Detail: fmt.Sprintf("the first dividend known is of %d", h.First())}
		case math.IsNaN(x):
			return Said{Reason: cell.NotApplicable, Detail: fmt.Sprintf("there was no regular dividend in %d", t.Day.Time().Year()-1-years)}
		}
		return Said{Value: cell.Of(x)}
	})
}

func lower(s string) string { return string(s[0]|0x20) + s[1:] }

// lastQuarter is the calendar quarter that a period names: the last full one
// before a day, or one counted back from it, or one by name.
func lastQuarter(day period.Date, p period.Period) (year, quarter int) {
	if p.Kind() == period.QuarterNamed {
		return p.Year(), p.Offset()
	}
	t := day.Time()
	at := t.Year()*4 + (int(t.Month())-1)/3 - 1 + p.Offset()
	return at / 4, at%4 + 1
}

func quarterEnd(year, quarter int) period.Date {
	return period.MakeDate(year, time.Month(3*quarter+1), 0)
}

func yieldAt(t *Told, h dividend.History, year, quarter int) Said {
	end := quarterEnd(year, quarter)
	if end >= t.Day {
		return Said{Reason: cell.NotApplicable, Detail: "the quarter has not ended"}
	}
	i := t.Bars.OnOrBefore(end)
	if i < 0 {
		return t.tooShort()
	}
	return Said{Value: cell.Of(h.Trailing(end).Regular / t.Bars.Close[i])}
}

var paymentColumns = [...]int{columnOf(Dividends, "ex_date"), columnOf(Dividends, "amount"), columnOf(Dividends, "kind"), columnOf(Dividends, "record_date"), columnOf(Dividends, "pay_date"), columnOf(Dividends, "declared_date"), columnOf(Dividends, "currency")}

// Coming are the dividends ahead of a listing: one that has ended lets expect none.
func Coming(l *market.Listing, h dividend.History, day period.Date) dividend.History {
	coming := h.Coming(day)
	if l.EndedBy(day) {
		coming = slices.DeleteFunc(coming, func(p dividend.Payment) bool { return p.Expected })
	}
	return coming
}

// Payments reads the dividends of a listing off their records. Amounts are
// adjusted for the splits after each ex-date.
func Payments(entries entry.Entries, splits []series.Split) dividend.History {
	h := make(dividend.History, 0, len(entries))
	for i := range entries {
		at := func(column int) cell.Value { return entries[i].Values[paymentColumns[column]] }
		day := func(column int) period.Date {
			d, _ := period.ParseDate(at(column).Text) // checked when it came; 0 where it did not
			return d
		}
		h = append(h, dividend.Payment{
			Ex: day(0), Amount: at(1).Num, Kind: at(2).Text, Record: day(3), Pay: day(4), Declared: day(5), Currency: at(6).Text,
			Adjusted: at(1).Num / series.SplitFactor(splits, day(0)),
		})
	}
	return h
}
