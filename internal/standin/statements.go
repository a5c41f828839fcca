package standin

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/period"
)

// Report is a published report: the sum of one to four quarters, with the balance
// sheet at their end.
type Report struct {
	Accounts
	Part     string // FY, Q1 to Q4, H1
	Filed    period.Date
	Currency string
	Standard string // of accounting
	Miskeyed bool   // the vendor has written a zero too many
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
	for i, q := range quarters {
		recent := i >= len(quarters)-quarterly
		part, n := fmt.Sprintf("Q%d", q.Quarter), 1
		if l.story.halves {
			part, n = "H1", 2
		}
		if recent && (!l.story.halves || q.Quarter == 2) {
			if r := m.report(l, quarters[i-n+1:i+1], part); m.isOut(l, &r, by) {
				out = append(out, r)
			}
		}
		if q.Quarter == 4 {
			if r := m.report(l, quarters[i-3:i+1], "FY"); m.isOut(l, &r, by) {
				out = append(out, r)
			}
		}
	}
	if l.story.miskeyed {
		newest := period.Date(0)
		for i := range out {
			if out[i].Part == "FY" {
				newest = out[i].End
			}
		}
		for i := range out {
			out[i].Miskeyed = out[i].End == newest
		}
	}
	return out
}

// report is what a listing's issuer publishes of some quarters.
func (m *Market) report(l *Listing, quarters []Accounts, part string) Report {
	r := Report{Accounts: quarters[len(quarters)-1], Part: part, Currency: m.issuer(l).Currency, Alone: l.story.standalone, Bank: l.Sector == "Finance", Standard: "IFRS"}
	if l.Symbol.Exchange == "XPLR" {
		r.Standard = "US GAAP"
	}
	for _, q := range quarters[:len(quarters)-1] {
		r.Start = min(r.Start, q.Start)
		r.Revenue, r.Cost, r.Selling, r.Depreciation, r.Interest, r.Tax = r.Revenue+q.Revenue, r.Cost+q.Cost, r.Selling+q.Selling, r.Depreciation+q.Depreciation, r.Interest+q.Interest, r.Tax+q.Tax
		r.OperatingCash, r.CapitalExpenditure, r.Dividends, r.Borrowed = r.OperatingCash+q.OperatingCash, r.CapitalExpenditure+q.CapitalExpenditure, r.Dividends+q.Dividends, r.Borrowed+q.Borrowed
	}
	lag := map[string]int{"FY": 60, "H1": 50}[part]
	if lag == 0 {
		lag = 35
	}
	r.Filed = r.End.AddDays(lag + int(l.own%20))
	// A report counts in the shares of the day on which it is published.
	r.Shares = int64(math.Round(float64(r.Shares) / splitFactor(l.Splits, r.End) * splitFactor(l.Splits, r.Filed)))
	return r
}

// isOut tells whether a report has been published by a day.
func (m *Market) isOut(l *Listing, r *Report, by period.Date) bool {
	return r.Filed <= by && !(l.story.late && r.End > by.AddDays(-overdue))
}

// statements are the reports as the vendor sends them: one line a value, amounts in
// thousands with separators.
func (w *Whimbrel) statements(_ *http.Request, codes []string) (*answer, *refusal) {
	return w.listing(codes, "Company,Period end,Fiscal year,Period,Published,Currency,Standard,Basis,In,Item,Value", func(b *strings.Builder, code string, l *Listing, today period.Date) {
		for _, r := range w.Market.Reports(l, today) {
			basis := "Consolidated"
			if r.Alone {
				basis = "Stand-alone"
			}
			about := fmt.Sprintf("%s,%s,%d,%s,%s,%s,%s,%s", code, r.End, r.Year, r.Part, r.Filed, r.Currency, r.Standard, basis)
			for _, x := range r.lines() {
				fmt.Fprintf(b, "%s,%s,%s,%s\r\n", about, x.in, x.item, x.text)
			}
		}
	})
}

// amounts are the values of a report: amounts in thousands, shares in units. A bank or
// an insurer does not have all of them; the two for one share are there without a value.
func (r *Report) amounts() map[string]int64 {
	short := r.Debt / 5
	all := map[string]int64{
		"revenue": r.Revenue, "selling": r.Selling, "depreciation": r.Depreciation, "operating": r.OperatingIncome(), "interest": r.Interest, "pretax": r.OperatingIncome() - r.Interest, "tax": r.Tax, "net": r.NetIncome(), "common": r.NetIncome(),
		"shares": r.Shares, "diluted": r.Shares + r.Shares/100, "eps": 0, "eps diluted": 0,
		"cash": r.Cash, "property": r.Property, "assets": r.Assets(), "short debt": short, "long debt": r.Debt - short, "liabilities": r.Liabilities(), "equity": r.Equity, "retained": r.Retained, "outstanding": r.Shares,
		"operating cash": r.OperatingCash, "capex": r.CapitalExpenditure, "investing": -r.CapitalExpenditure, "financing": r.Borrowed - r.Dividends, "dividends": r.Dividends, "borrowed": max(r.Borrowed, 0), "repaid": max(-r.Borrowed, 0),
	}
	if !r.Bank {
		all["cost"], all["gross"] = r.Cost, r.Revenue-r.Cost
		all["receivables"], all["inventory"], all["current assets"] = r.Receivables, r.Inventory, r.Cash+r.Receivables+r.Inventory
		all["payables"], all["current liabilities"] = r.Payables, r.Payables+short
	}
	return all
}

// whimbrelNames are the vendor's names of what reports hold, in the order of its pages.
var whimbrelNames = []struct{ line, name, in string }{
	{"revenue", "Total revenue", "thousands"},
	{"cost", "Cost of sales", "thousands"},
	{"gross", "Gross profit", "thousands"},
	{"selling", "SG&A", "thousands"},
	{"depreciation", "D&A", "thousands"},
	{"operating", "Operating profit", "thousands"},
	{"interest", "Interest cost", "thousands"},
	{"pretax", "Profit before tax", "thousands"},
	{"tax", "Income tax", "thousands"},
	{"net", "Profit for the period", "thousands"},
	{"common", "Attributable profit", "thousands"},
	{"shares", "Weighted shares", "units"},
	{"diluted", "Weighted shares (diluted)", "units"},
	{"eps", "EPS", "units"},
	{"eps diluted", "EPS (diluted)", "units"},
	{"cash", "Cash and equivalents", "thousands"},
	{"receivables", "Trade receivables", "thousands"},
	{"inventory", "Inventories", "thousands"},
	{"current assets", "Current assets", "thousands"},
	{"payables", "Trade payables", "thousands"},
	{"current liabilities", "Current liabilities", "thousands"},
	{"property", "PP&E", "thousands"},
	{"assets", "Total assets", "thousands"},
	{"short debt", "Short-term borrowings", "thousands"},
	{"long debt", "Long-term borrowings", "thousands"},
	{"liabilities", "Total liabilities", "thousands"},
	{"equity", "Shareholders' equity", "thousands"},
	{"retained", "Retained earnings", "thousands"},
	{"outstanding", "Shares outstanding", "units"},
	{"operating cash", "Operating cash flow", "thousands"},
	{"capex", "Capex", "thousands"},
	{"investing", "Investing cash flow", "thousands"},
	{"financing", "Financing cash flow", "thousands"},
	{"dividends", "Dividends paid", "thousands"},
	{"borrowed", "Borrowings raised", "thousands"},
	{"repaid", "Borrowings repaid", "thousands"},
}

type item struct{ in, item, text string }

// lines are the values of a report under the vendor's names.
func (r *Report) lines() (out []item) {
	all := r.amounts()
	for _, n := range whimbrelNames {
		x, known := all[n.line]
		if !known {
			continue
		}
		if r.Miskeyed && n.line == "receivables" {
			x *= 10
		}
		text := strconv.FormatInt(x, 10)
		switch {
		case n.line == "eps":
			text = strconv.FormatFloat(float64(r.NetIncome())*1000/float64(all["shares"]), 'f', 6, 64)
		case n.line == "eps diluted":
			text = strconv.FormatFloat(float64(r.NetIncome())*1000/float64(all["diluted"]), 'f', 6, 64)
		case x < 0:
			text = "(" + text[1:] + ")"
		}
		out = append(out, item{n.in, n.name, text})
	}
	return out
}
