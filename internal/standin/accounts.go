package standin

import (
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Accounts are the statements of one quarter, in thousands of the listing's
// currency, so that every sum is exact.
//
// They articulate: the balance sheet balances, cash flow explains the change in
// cash, earnings less dividends roll into equity, and what is paid out is what
// was declared times the shares.
type Accounts struct {
	Start, End period.Date
	Year       int // fiscal, by the calendar year in which it ends
	Quarter    int // 1 to 4

	Revenue, Cost, Selling, Depreciation, Interest, Tax    int64
	Cash, Receivables, Inventory, Property                 int64 // at the end
	Payables, Debt, Equity, Retained                       int64
	OperatingCash, CapitalExpenditure, Dividends, Borrowed int64
	Shares                                                 int64 // at the end, in units
}

// OperatingIncome is revenue less the costs of running the business.
func (a *Accounts) OperatingIncome() int64 { return a.Revenue - a.Cost - a.Selling - a.Depreciation }

// NetIncome is what is left for the shareholders.
func (a *Accounts) NetIncome() int64 { return a.OperatingIncome() - a.Interest - a.Tax }

// Assets is the sum of what is owned.
func (a *Accounts) Assets() int64 { return a.Cash + a.Receivables + a.Inventory + a.Property }

// Liabilities is the sum of what is owed.
func (a *Accounts) Liabilities() int64 { return a.Payables + a.Debt }

// Accounts are the statements of a listing from the epoch up to the last quarter
// that had ended by a day, the oldest first.
func (m *Market) Accounts(l *Listing, by period.Date) []Accounts {
	l = m.issuer(l)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.accountsBy < by {
		l.accountsBy = by.AddYears(3) // and what is to come, for those who estimate it
		l.accounts = m.reckon(l, l.accountsBy)
	}
	n := sort.Search(len(l.accounts), func(i int) bool { return l.accounts[i].End > by })
	return slices.Clone(l.accounts[:n])
}

// issuer is the listing in whose currency and shares the issuer of another reports.
func (m *Market) issuer(l *Listing) *Listing {
	if l.story.issuer == "" {
		return l
	}
	s, _ := market.ParseSymbol(l.story.issuer) // written by hand
	return m.Find(s)
}

// reckon makes the accounts of a listing, quarter after quarter.
func (m *Market) reckon(l *Listing, by period.Date) (out []Accounts) {
	yearEnd, err := time.Parse("--01-02", l.YearEnd)
	if err != nil {
		return nil
	}
	end := period.MakeDate(epoch, yearEnd.Month(), 28)
	start := end.AddDays(-27).AddMonths(1) // the first of the month after the year's end
	shares := int64(20_000_000 + l.own%180_000_000)
	profit := 0.07 + 0.08*float64(l.own%97)/97
	if l.story.losing {
		profit = -0.06
	}
	// Sales are such that at the written price the earnings yield is ordinary.
	written := l.start
	sales := written * float64(shares) * 0.055 / math.Abs(profit) / 4 / 1000 * math.Pow(1.04, float64(epoch-writtenYear))
	now := Accounts{
		Cash: int64(sales * 0.6), Receivables: int64(sales * 0.5), Inventory: int64(sales * 0.4), Property: int64(sales * 5),
		Payables: int64(sales * 0.4), Debt: int64(sales * 1.8), Shares: shares,
	}
	now.Equity = now.Assets() - now.Liabilities()
	now.Retained = now.Equity / 2
	for {
		next := now
		next.Start, next.End = start, start.AddMonths(3)-1
		if next.End > by {
			return out
		}
		next.Quarter = len(out)%4 + 1
		next.Year = next.Start.AddMonths(3*(4-next.Quarter) + 2).Time().Year()
		r := rand.New(rand.NewPCG(l.own^0xacc0, uint64(next.End)))
		season := 1 + 0.08*math.Sin(float64(next.Quarter)*math.Pi/2)
		next.Revenue = int64(sales * season * (1 + 0.03*r.NormFloat64()))
		next.Depreciation = now.Property * 3 / 200
		next.Interest = now.Debt * 11 / 1000
		costs := float64(next.Revenue) * (1 - profit*1.5)
		next.Selling = int64(costs * 0.22)
		next.Cost = int64(costs*0.78) - next.Depreciation - next.Interest
		next.Tax = max(0, (next.OperatingIncome()-next.Interest)/4)
		next.Receivables, next.Inventory, next.Payables = next.Revenue/2, next.Revenue*2/5, next.Revenue*2/5
		next.CapitalExpenditure = next.Depreciation + next.Revenue/50
		next.Property = now.Property - next.Depreciation + next.CapitalExpenditure
		next.Shares = int64(float64(shares) * splitFactor(l.Splits, next.End))
		next.Dividends = m.paidOut(l, float64(shares), next.Start, next.End)
		for _, x := range m.Listings { // what is paid on its other classes
			if x.part != 0 && x != l && m.issuer(x) == l {
				next.Dividends = m.paidOut(l, float64(shares)*l.part, next.Start, next.End) + m.paidOut(x, float64(shares)*x.part, next.Start, next.End)
			}
		}
		next.OperatingCash = next.NetIncome() + next.Depreciation - (next.Receivables - now.Receivables) - (next.Inventory - now.Inventory) + (next.Payables - now.Payables)
		before := now.Cash + next.OperatingCash - next.CapitalExpenditure - next.Dividends
		// What is short of a month's sales is borrowed; what is beyond two quarters' repays debt.
		switch least, most := next.Revenue/3, next.Revenue*2; {
		case before < least:
			next.Borrowed = least - before
		case before > most:
			next.Borrowed = -min(before-most, now.Debt)
		default:
			next.Borrowed = 0
		}
		next.Cash, next.Debt = before+next.Borrowed, now.Debt+next.Borrowed
		next.Equity = now.Equity + next.NetIncome() - next.Dividends
		next.Retained = now.Retained + next.NetIncome() - next.Dividends
		out = append(out, next)
		now, start = next, next.End+1
		sales *= 1.01
	}
}

// paidOut is what the dividends paid in a span cost, in thousands.
func (m *Market) paidOut(l *Listing, shares float64, from, to period.Date) int64 {
	sum := 0.0
	for year := from.Time().Year() - 1; year <= to.Time().Year(); year++ {
		for _, d := range m.paid(l, year) {
			if d.Pay >= from && d.Pay <= to {
				sum += d.Amount * shares * splitFactor(l.Splits, d.Ex)
			}
		}
	}
	return int64(math.Round(sum / 1000))
}
