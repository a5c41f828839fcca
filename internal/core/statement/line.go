// Package statement reads the accounts of an issuer: what a line was in a year, a
// quarter, a half or twelve months up to a quarter, put together from whatever the
// issuer has published.
package statement

import "strings"

// Nature says how a line of the accounts behaves over time.
type Nature uint8

// The natures of lines.
const (
	Flow     Nature = iota // adds up over time: revenue, cash paid
	Stock                  // stands at a day: cash, debt
	Average                // a mean over the period: shares behind earnings per share
	PerShare               // an amount for one share: never added up
)

// Line is one line of the accounts.
type Line struct {
	ID         string // group and name, as income.revenue
	Label      string
	Nature     Nature
	Shares     bool // counts shares; all others are amounts
	Definition string
}

// Lines lists every line that is known, in the order of the accounts. Outflows that
// are named for what is spent are positive: capital expenditure, dividends paid.
var Lines = []Line{
	{ID: "income.revenue", Label: "Revenue", Definition: "Sales of the period; of a bank or an insurer, its total income."},
	{ID: "income.cost_of_revenue", Label: "Cost of revenue", Definition: "Direct cost of what was sold."},
	{ID: "income.gross_profit", Label: "Gross profit", Definition: "Revenue less cost of revenue, as reported."},
	{ID: "income.research", Label: "Research", Definition: "Research and development expensed."},
	{ID: "income.selling_general", Label: "Selling and general", Definition: "Selling, general and administrative expense."},
	{ID: "income.depreciation", Label: "Depreciation", Definition: "Depreciation and amortisation."},
	{ID: "income.operating_income", Label: "Operating income", Definition: "What is left before interest and tax."},
	{ID: "income.interest_expense", Label: "Interest expense", Definition: "Interest on debt; positive."},
	{ID: "income.pretax_income", Label: "Pre-tax income", Definition: "Income before income tax."},
	{ID: "income.tax", Label: "Income tax", Definition: "Income tax; positive."},
	{ID: "income.net_income", Label: "Net income", Definition: "Income after tax."},
	{ID: "income.net_income_common", Label: "Net income to common", Definition: "Net income that belongs to the common shareholders."},
	{ID: "income.shares_basic", Label: "Shares, basic", Nature: Average, Shares: true, Definition: "Mean number of shares in the period, in today's shares."},
	{ID: "income.shares_diluted", Label: "Shares, diluted", Nature: Average, Shares: true, Definition: "Mean number of shares in the period with all that can become shares, in today's shares."},
	{ID: "income.eps_basic", Label: "Earnings a share, basic", Nature: PerShare, Definition: "Net income to common over the basic shares, in today's shares; over several reports recomputed from both."},
	{ID: "income.eps_diluted", Label: "Earnings a share", Nature: PerShare, Definition: "Net income to common over the diluted shares, in today's shares; over several reports recomputed from both."},

	{ID: "balance.cash", Label: "Cash", Nature: Stock, Definition: "Cash and cash equivalents."},
	{ID: "balance.short_investments", Label: "Short-term investments", Nature: Stock, Definition: "Investments to be turned into cash within a year."},
	{ID: "balance.receivables", Label: "Receivables", Nature: Stock, Definition: "Owed by customers."},
	{ID: "balance.inventory", Label: "Inventory", Nature: Stock, Definition: "Goods and materials."},
	{ID: "balance.current_assets", Label: "Current assets", Nature: Stock, Definition: "Assets to be turned into cash within a year."},
	{ID: "balance.property", Label: "Property", Nature: Stock, Definition: "Property, plant and equipment, net."},
	{ID: "balance.goodwill", Label: "Goodwill", Nature: Stock, Definition: "Paid for businesses beyond their net assets."},
	{ID: "balance.intangibles", Label: "Intangibles", Nature: Stock, Definition: "Intangible assets other than goodwill."},
	{ID: "balance.total_assets", Label: "Total assets", Nature: Stock, Definition: "All that is owned."},
	{ID: "balance.payables", Label: "Payables", Nature: Stock, Definition: "Owed to suppliers."},
	{ID: "balance.short_debt", Label: "Short-term debt", Nature: Stock, Definition: "Debt due within a year."},
	{ID: "balance.current_liabilities", Label: "Current liabilities", Nature: Stock, Definition: "All that is due within a year."},
	{ID: "balance.long_debt", Label: "Long-term debt", Nature: Stock, Definition: "Debt due after more than a year."},
	{ID: "balance.total_liabilities", Label: "Total liabilities", Nature: Stock, Definition: "All that is owed."},
	{ID: "balance.minority", Label: "Minority interest", Nature: Stock, Definition: "Share of others in subsidiaries."},
	{ID: "balance.equity", Label: "Equity", Nature: Stock, Definition: "What belongs to the shareholders of the parent."},
	{ID: "balance.retained_earnings", Label: "Retained earnings", Nature: Stock, Definition: "Earnings kept since the beginning."},
	{ID: "balance.shares_outstanding", Label: "Shares outstanding", Nature: Stock, Shares: true, Definition: "Shares in the hands of holders at the end of the period, in today's shares."},

	{ID: "cash.operating", Label: "Operating cash flow", Definition: "Cash from running the business."},
	{ID: "cash.capital_expenditure", Label: "Capital expenditure", Definition: "Spent on property and intangibles; positive."},
	{ID: "cash.investing", Label: "Investing cash flow", Definition: "Cash from investing; negative when invested."},
	{ID: "cash.financing", Label: "Financing cash flow", Definition: "Cash from financing."},
	{ID: "cash.dividends_paid", Label: "Dividends paid", Definition: "Paid to shareholders; positive."},
	{ID: "cash.buybacks", Label: "Buybacks", Definition: "Spent on own shares; positive."},
	{ID: "cash.shares_issued", Label: "Shares issued", Definition: "Received for new shares."},
	{ID: "cash.debt_issued", Label: "Debt issued", Definition: "Received as new debt."},
	{ID: "cash.debt_repaid", Label: "Debt repaid", Definition: "Debt paid back; positive."},
}

// At returns the position of a line among [Lines], or -1.
func At(id string) int {
	if i, known := positions[id]; known {
		return i
	}
	return -1
}

var positions = func() map[string]int {
	at := map[string]int{}
	for i := range Lines {
		at[Lines[i].ID] = i
	}
	return at
}()

// IsPerShare tells whether a line, by its id, is an amount for one share.
func IsPerShare(id string) bool {
	i := At(id)
	return i >= 0 && Lines[i].Nature == PerShare
}

// Group is the statement that a line is part of: income, balance or cash.
func (l *Line) Group() string { group, _, _ := strings.Cut(l.ID, "."); return group }
