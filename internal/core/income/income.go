// Package income foresees what the holdings of a list will pay: dividends, and the
// coupons of bonds.
package income

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
)

// Payment is one dividend or coupon of one holding.
type Payment struct {
	dividend.Payment
	Record   *table.Record
	On       period.Date // day of payment; the ex-date where that is not known
	Quantity float64     // held now
	Amount   float64     // for all of it
	Currency string
}

// Name is what one holding will pay.
type Name struct {
	Record   *table.Record
	Account  cell.Cell // of what it is known from; the reason where they are not known
	Quantity float64
	Amount   float64 // within the year
	Currency string
	OnCost   float64 // amount over what was paid for the holding; 0 where that is not known
	Payments int
}

// Income is what a list will pay within a year.
type Income struct {
	From, To period.Date // both included
	Names    []Name      // in the order of the list; those that are held
	Payments []Payment   // in the order of their days
}

// ahead is how many days are foreseen.
const ahead = 365

// Of foresees the payments of the year after a day: those announced, those that the
// rhythm of each name lets expect, and the coupons that bonds owe. Amounts are turned into one currency where in
// names one, at the newest rates.
func Of(records []*table.Record, in table.Conversion, now time.Time, limits freshness.Limits) *Income {
	today := period.DateOf(now.UTC())
	out := &Income{From: today + 1, To: today + ahead}
	for _, r := range records {
		held := r.Feeds[table.Holdings].From
		if len(held) == 0 {
			continue
		}
		quantity, cost := held[0].Observation.Values[quantitySlot].Num, held[0].Observation.Values[costSlot]
		n := Name{Record: r, Quantity: quantity, Currency: r.Listing.Currency}
		var coming dividend.History
		coming, n.Account = paying(r, now, limits)
		basis := 0.0
		for _, p := range coming {
			x := Payment{Payment: p, Record: r, On: cmp.Or(p.Pay, p.Ex), Quantity: quantity, Currency: cmp.Or(p.Currency, r.Listing.Currency)}
			x.Amount = p.Adjusted * quantity
			if x.On < out.From || x.On > out.To {
				continue
			}
			if in.To != "" && x.Currency != in.To {
				rate := in.Rates.On(x.Currency, in.To, today)
				if rate.Value == 0 {
					n.Account = rate.Account
					continue
				}
				n.Account.Absorb(&rate.Account)
				x.Amount, x.Currency = x.Amount*rate.Value, in.To
			}
			out.Payments = append(out.Payments, x)
			n.Amount += x.Amount
			n.Currency = x.Currency
			n.Payments++
			basis += p.Adjusted
		}
		if cost.Kind == cell.Number && cost.Num > 0 && n.Account.State != cell.Missing {
			n.OnCost = basis / cost.Num
		}
		out.Names = append(out.Names, n)
	}
	slices.SortStableFunc(out.Payments, func(a, b Payment) int {
		if a.On != b.On {
			return int(a.On) - int(b.On)
		}
		return strings.Compare(a.Record.Listing.Symbol.String(), b.Record.Listing.Symbol.String())
	})
	return out
}

// Coupon is the kind of payment that a bond makes.
const Coupon = "coupon"

// paying are the payments of a listing after today, the account of what they are
// known from, or the reason why they are not known.
func paying(r *table.Record, now time.Time, limits freshness.Limits) (dividend.History, cell.Cell) {
	today := r.Exchange.Today(now)
	switch {
	case r.Listing.Kind == market.Bond:
		account, given := r.Account(catalogue.Bonds, now, limits)
		if given == nil {
			return nil, account
		}
		b, err := catalogue.Bond(given.Observation.Values)
		if err != nil {
			return nil, cell.Gap(cell.InputMissing, err.Error())
		}
		var coupons dividend.History
		for _, day := range b.Coupons(today, today+ahead) {
			coupons = append(coupons, dividend.Payment{Ex: day, Pay: day, Amount: b.Payment(), Adjusted: b.Payment(), Kind: Coupon})
		}
		return coupons, account
	case !catalogue.Info(catalogue.Dividends).Has(r.Listing.Kind):
		return nil, cell.Gap(cell.NotApplicable, "")
	}
	account, given := r.Account(catalogue.Dividends, now, limits)
	if given == nil {
		return nil, account
	}
	return catalogue.Coming(r.Listing, given.Payments, today), account
}

var (
	quantitySlot = catalogue.Find("holding.quantity").Slot()
	costSlot     = catalogue.Find("holding.cost").Slot()
)

// Sum is an amount in one currency, and the part of it that is not announced.
type Sum struct {
	Currency string
	Amount   float64
	Expected float64
}

// Month is what a calendar month pays, by currency.
type Month struct {
	Year  int
	Month time.Month
	Sums  []Sum
}

// Months totals the payments of each month from the first day to the last, those
// without any too.
func (i *Income) Months() []Month {
	var out []Month
	for day := period.MakeDate(i.From.Time().Year(), i.From.Time().Month(), 1); day <= i.To; day = day.AddMonths(1) {
		year, month, _ := day.Time().Date()
		m := Month{Year: year, Month: month}
		for k := range i.Payments {
			if y, mo, _ := i.Payments[k].On.Time().Date(); y == year && mo == month {
				m.Sums = add(m.Sums, &i.Payments[k])
			}
		}
		out = append(out, m)
	}
	return out
}

// Total sums all payments up, by currency.
func (i *Income) Total() (sums []Sum) {
	for k := range i.Payments {
		sums = add(sums, &i.Payments[k])
	}
	return sums
}

func add(sums []Sum, p *Payment) []Sum {
	at := slices.IndexFunc(sums, func(s Sum) bool { return s.Currency == p.Currency })
	if at < 0 {
		sums = append(sums, Sum{Currency: p.Currency})
		slices.SortFunc(sums, func(a, b Sum) int { return strings.Compare(a.Currency, b.Currency) })
		at = slices.IndexFunc(sums, func(s Sum) bool { return s.Currency == p.Currency })
	}
	sums[at].Amount += p.Amount
	if p.Expected {
		sums[at].Expected += p.Amount
	}
	return sums
}
