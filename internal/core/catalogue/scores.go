package catalogue

import "strings"

const (
	piotroski = "J. D. Piotroski, Value Investing: The Use of Historical Financial Statement Information, 2000"
	altman    = "E. I. Altman, Financial Ratios, Discriminant Analysis and the Prediction of Corporate Bankruptcy, 1968"
)

// criteria of the F-score: what must hold for a point. Up and down are strict.
var criteria = []struct{ id, label, test, definition string }{
	{"score.f_income", "Profitable", "income.net_income > 0", "Net income is above zero."},
	{"score.f_cash", "Earns cash", "cash.operating > 0", "Operating cash flow is above zero."},
	{"score.f_return", "Return up", "over(income.net_income, balance.total_assets@-1y) > over(income.net_income@-1y, balance.total_assets@-2y)", "Net income over the assets at the beginning is higher than a year before."},
	{"score.f_accruals", "Cash above income", "cash.operating > income.net_income", "Operating cash flow is above net income."},
	{"score.f_debt", "Debt down", "over(balance.long_debt, (balance.total_assets + balance.total_assets@-1y) / 2) < over(balance.long_debt@-1y, (balance.total_assets@-1y + balance.total_assets@-2y) / 2) or balance.long_debt = 0 and balance.long_debt@-1y = 0", "Long-term debt over mean assets is lower than a year before, or there is none in both years."},
	{"score.f_liquidity", "Liquidity up", "strength.current_ratio > strength.current_ratio@-1y", "The current ratio is higher than a year before."},
	{"score.f_shares", "No new shares", "balance.shares_outstanding <= balance.shares_outstanding@-1y", "There are no more shares than a year before, splits aside."},
	{"score.f_margin", "Gross margin up", "margin.gross > margin.gross@-1y", "The gross margin is higher than a year before."},
	{"score.f_turnover", "Turnover up", "over(income.revenue, balance.total_assets@-1y) > over(income.revenue@-1y, balance.total_assets@-2y)", "Revenue over the assets at the beginning is higher than a year before."},
}

// terms of the Z-score.
var terms = []struct{ id, label, text, definition string }{
	{"score.z_liquidity", "Working capital", "1.2 * over(balance.working_capital, balance.total_assets)", "1.2 times working capital over total assets."},
	{"score.z_retained", "Retained earnings", "1.4 * over(balance.retained_earnings, balance.total_assets)", "1.4 times retained earnings over total assets."},
	{"score.z_operating", "Operating income", "3.3 * over(income.operating_income, balance.total_assets)", "3.3 times operating income over total assets."},
	{"score.z_market", "Market value", "0.6 * over(value.market_cap, own(balance.total_liabilities))", "0.6 times market value over total liabilities."},
	{"score.z_turnover", "Revenue", "over(income.revenue, balance.total_assets)", "Revenue over total assets."},
}

// scoreFields are the scores and each of their parts. A part that cannot be decided
// leaves its score missing.
var scoreFields = func() (fields []Field) {
	var parts, sum []string
	for _, c := range criteria {
		fields = append(fields, fiscal(c.id, c.label, Count, "if("+c.test+", 1, 0)", "1 if so, else 0: "+c.definition, piotroski))
		parts = append(parts, c.id)
	}
	for _, t := range terms {
		f := fiscal(t.id, t.label, Ratio, t.text, t.definition, altman)
		fields, sum = append(fields, f), append(sum, t.id)
	}
	z := fiscal("strength.z_score", "Z-score", Ratio, strings.Join(sum, " + "), "Sum of five weighted ratios, for industrial companies: below 1.81 distress, above 2.99 none, by its author.", altman)
	return append(fields,
		fiscal("strength.f_score", "F-score", Count, strings.Join(parts, " + "), "How many of nine tests of improving strength are passed, from 0 to 9: a period against the same a year before.", piotroski), z)
}()
