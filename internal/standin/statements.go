package standin

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Report is a published report: the sum of one to four quarters, with the balance
// sheet at their end.
type Report struct {
	Accounts
	Part     string // FY, Q1 to Q4, H1
	Filed    period.Date
	Currency string
	Alone    bool
	Bank     bool // reports the lines of a bank or an insurer
}

// quarterly is how many of the newest quarters the vendor keeps.
const quarterly = 24

// overdue is how long an issuer that is late with its reports has published nothing.
const overdue = 330

// Reports are the reports of a listing that were published by a day: all years, and
// the newest quarters or halves, the oldest first.
func (m *Market) Reports(l *Listing, by period.Date) (out []Report) {
	quarters := m.Accounts(l, by)
	bank := l.Sector == "Finance"
	publish := func(part string, last int, n int, lag int) {
		r := Report{Part: part, Currency: m.issuer(l).Currency, Alone: l.story.standalone, Bank: bank}
		r.Accounts = quarters[last]
		for _, q := range quarters[last-n+1 : last] {
			r.Start = min(r.Start, q.Start)
			r.Revenue, r.Cost, r.Selling, r.Depreciation, r.Interest, r.Tax = r.Revenue+q.Revenue, r.Cost+q.Cost, r.Selling+q.Selling, r.Depreciation+q.Depreciation, r.Interest+q.Interest, r.Tax+q.Tax
			r.OperatingCash, r.CapitalExpenditure, r.Dividends, r.Borrowed = r.OperatingCash+q.OperatingCash, r.CapitalExpenditure+q.CapitalExpenditure, r.Dividends+q.Dividends, r.Borrowed+q.Borrowed
		}
		r.Filed = r.End.AddDays(lag + int(l.own%20))
		if r.Filed > by || l.story.late && r.End > by.AddDays(-overdue) {
			return
		}
		// A report counts in the shares of the day on which it is published.
		r.Shares = int64(math.Round(float64(r.Shares) / splitFactor(l.Splits, r.End) * splitFactor(l.Splits, r.Filed)))
		out = append(out, r)
	}
	for i, q := range quarters {
		recent := i >= len(quarters)-quarterly
		switch {
		case l.story.halves && q.Quarter == 2 && recent:
			publish("H1", i, 2, 50)
		case !l.story.halves && recent:
			publish(fmt.Sprintf("Q%d", q.Quarter), i, 1, 35)
		}
		if q.Quarter == 4 {
			publish("FY", i, 4, 60)
		}
	}
	return out
}

// statements are the reports as the vendor sends them: one line a value, amounts in
// thousands with separators.
func (w *Whimbrel) statements(_ *http.Request, codes []string) (*answer, *refusal) {
	if len(codes) > whimbrelBatch {
		return nil, &refusal{status: 400, code: "too_many_companies", message: fmt.Sprintf("%d companies; at most %d", len(codes), whimbrelBatch)}
	}
	today := period.DateOf(w.Market.Clock().UTC())
	var b strings.Builder
	b.WriteString("Company,Period end,Fiscal year,Period,Published,Currency,Standard,Basis,In,Item,Value\r\n")
	for _, code := range codes {
		l := w.find(code)
		if l == nil || l.Kind != market.Share || l.story.uncovered {
			continue
		}
		for _, r := range w.Market.Reports(l, today) {
			basis := "Consolidated"
			if r.Alone {
				basis = "Stand-alone"
			}
			about := fmt.Sprintf("%s,%s,%d,%s,%s,%s,IFRS,%s", code, r.End, r.Year, r.Part, r.Filed, r.Currency, basis)
			for _, x := range r.lines() {
				fmt.Fprintf(&b, "%s,%s,%s,%s\r\n", about, x.in, x.item, x.text)
			}
		}
	}
	return &answer{text: b.String(), contentType: "text/csv; charset=utf-8", units: 10 * len(codes)}, nil
}

type item struct{ in, item, text string }

// lines are the values of a report under the vendor's names.
func (r *Report) lines() (out []item) {
	amount := func(name string, x int64) {
		text := strconv.FormatInt(x, 10)
		if x < 0 {
			text = "(" + text[1:] + ")"
		}
		out = append(out, item{"thousands", name, text})
	}
	perShare := func(name string, shares int64) {
		out = append(out, item{"units", name, strconv.FormatFloat(float64(r.NetIncome())*1000/float64(shares), 'f', 6, 64)})
	}
	diluted := r.Shares + r.Shares/100
	amount("Total revenue", r.Revenue)
	if !r.Bank {
		amount("Cost of sales", r.Cost)
		amount("Gross profit", r.Revenue-r.Cost)
	}
	amount("SG&A", r.Selling)
	amount("D&A", r.Depreciation)
	amount("Operating profit", r.OperatingIncome())
	amount("Interest cost", r.Interest)
	amount("Profit before tax", r.OperatingIncome()-r.Interest)
	amount("Income tax", r.Tax)
	amount("Profit for the period", r.NetIncome())
	amount("Attributable profit", r.NetIncome())
	out = append(out, item{"units", "Weighted shares", strconv.FormatInt(r.Shares, 10)}, item{"units", "Weighted shares (diluted)", strconv.FormatInt(diluted, 10)})
	perShare("EPS", r.Shares)
	perShare("EPS (diluted)", diluted)
	amount("Cash and equivalents", r.Cash)
	short := r.Debt / 5
	if !r.Bank {
		amount("Trade receivables", r.Receivables)
		amount("Inventories", r.Inventory)
		amount("Current assets", r.Cash+r.Receivables+r.Inventory)
		amount("Trade payables", r.Payables)
		amount("Current liabilities", r.Payables+short)
	}
	amount("PP&E", r.Property)
	amount("Total assets", r.Assets())
	amount("Short-term borrowings", short)
	amount("Long-term borrowings", r.Debt-short)
	amount("Total liabilities", r.Liabilities())
	amount("Shareholders' equity", r.Equity)
	amount("Retained earnings", r.Retained)
	out = append(out, item{"units", "Shares outstanding", strconv.FormatInt(r.Shares, 10)})
	amount("Operating cash flow", r.OperatingCash)
	amount("Capex", r.CapitalExpenditure)
	amount("Investing cash flow", -r.CapitalExpenditure)
	amount("Financing cash flow", r.Borrowed-r.Dividends)
	amount("Dividends paid", r.Dividends)
	amount("Borrowings raised", max(r.Borrowed, 0))
	amount("Borrowings repaid", max(-r.Borrowed, 0))
	return out
}
