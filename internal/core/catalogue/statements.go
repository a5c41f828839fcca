package catalogue

import (
	"errors"
	"math"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// statementFields are the lines of the accounts, each read off the reports, and what
// is derived from them. Without a period, what adds up over time is of the twelve
// months to the newest report, and what stands at a day of its end.
var statementFields = func() (fields []Field) {
	for i := range statement.Lines {
		l := &statement.Lines[i]
		unit := Money
		switch {
		case l.Shares:
			unit = Shares
		case l.Nature == statement.PerShare:
			unit = Price
		}
		fields = append(fields, Field{
			ID: l.ID, Label: l.Label, Unit: unit, Definition: l.Definition, Dataset: Statements, Takes: AFiscal,
			Tell: func(t *Told) Said { return accountLine(t, i) },
		})
	}
	return append(fields,
		fiscal("income.ebitda", "EBITDA", Money, "income.operating_income + income.depreciation", "Operating income before depreciation and amortisation.", ""),
		fiscal("balance.total_debt", "Total debt", Money, "or_else(balance.short_debt, 0) + balance.long_debt", "Short-term and long-term debt.", ""),
		fiscal("balance.net_debt", "Net debt", Money, "balance.total_debt - balance.cash - or_else(balance.short_investments, 0)", "Total debt less cash and short-term investments.", ""),
		fiscal("balance.working_capital", "Working capital", Money, "balance.current_assets - balance.current_liabilities", "Current assets less current liabilities.", ""),
		fiscal("cash.free", "Free cash flow", Money, "cash.operating - cash.capital_expenditure", "Operating cash flow less capital expenditure.", ""),

		fiscal("margin.gross", "Gross margin", Percent, "over(income.gross_profit, income.revenue)", "Gross profit over revenue.", ""),
		fiscal("margin.operating", "Operating margin", Percent, "over(income.operating_income, income.revenue)", "Operating income over revenue.", ""),
		fiscal("margin.net", "Net margin", Percent, "over(income.net_income, income.revenue)", "Net income over revenue.", ""),
		fiscal("margin.ebitda", "EBITDA margin", Percent, "over(income.ebitda, income.revenue)", "EBITDA over revenue.", ""),
		fiscal("margin.fcf", "Free cash margin", Percent, "over(cash.free, income.revenue)", "Free cash flow over revenue.", ""),

		fiscal("return.assets", "Return on assets", Percent, "over(income.net_income, (balance.total_assets + balance.total_assets@-1y) / 2)", "Net income over the mean of total assets at the beginning and the end.", ""),
		fiscal("return.equity", "Return on equity", Percent, "over(income.net_income_common, (balance.equity + balance.equity@-1y) / 2)", "Net income to common over the mean of equity at the beginning and the end.", ""),
		fiscal("return.invested", "Return on invested capital", Percent, "over(income.operating_income * (1 - over(income.tax, income.pretax_income)), (balance.equity + balance.total_debt - balance.cash + balance.equity@-1y + balance.total_debt@-1y - balance.cash@-1y) / 2)", "Operating income after tax over the mean of equity and debt less cash.", ""),
		fiscal("return.capital_employed", "Return on capital employed", Percent, "over(income.operating_income, balance.total_assets - balance.current_liabilities)", "Operating income over total assets less current liabilities.", ""),

		fiscal("strength.current_ratio", "Current ratio", Ratio, "over(balance.current_assets, balance.current_liabilities)", "Current assets over current liabilities.", ""),
		fiscal("strength.quick_ratio", "Quick ratio", Ratio, "over(balance.current_assets - balance.inventory, balance.current_liabilities)", "Current assets without inventory over current liabilities.", ""),
		fiscal("strength.debt_to_equity", "Debt to equity", Ratio, "over(balance.total_debt, balance.equity)", "Total debt over equity.", ""),
		fiscal("strength.debt_to_assets", "Debt to assets", Ratio, "over(balance.total_debt, balance.total_assets)", "Total debt over total assets.", ""),
		fiscal("strength.net_debt_to_ebitda", "Net debt to EBITDA", Ratio, "over(balance.net_debt, income.ebitda)", "Net debt over EBITDA.", ""),
		fiscal("strength.interest_cover", "Interest cover", Ratio, "over(income.operating_income, income.interest_expense)", "Operating income over interest expense.", ""),

		fiscal("efficiency.asset_turnover", "Asset turnover", Ratio, "over(income.revenue, (balance.total_assets + balance.total_assets@-1y) / 2)", "Revenue over the mean of total assets at the beginning and the end.", ""),
		fiscal("efficiency.inventory_days", "Inventory days", Days, "365 * over(balance.inventory, income.cost_of_revenue)", "Inventory over the cost of revenue of a day; meant for twelve months.", ""),
		fiscal("efficiency.receivable_days", "Receivable days", Days, "365 * over(balance.receivables, income.revenue)", "Receivables over the revenue of a day; meant for twelve months.", ""),
		fiscal("efficiency.payable_days", "Payable days", Days, "365 * over(balance.payables, income.cost_of_revenue)", "Payables over the cost of revenue of a day; meant for twelve months.", ""),

		fiscal("growth.revenue", "Revenue growth", Percent, "over(income.revenue - income.revenue@-1y, income.revenue@-1y)", "Revenue against the same period a year before.", ""),
		fiscal("growth.net_income", "Income growth", Percent, "over(income.net_income - income.net_income@-1y, income.net_income@-1y)", "Net income against the same period a year before.", ""),
		fiscal("growth.eps", "Growth of earnings a share", Percent, "over(income.eps_diluted - income.eps_diluted@-1y, income.eps_diluted@-1y)", "Diluted earnings a share against the same period a year before.", ""),
		fiscal("growth.fcf", "Free cash growth", Percent, "over(cash.free - cash.free@-1y, cash.free@-1y)", "Free cash flow against the same period a year before.", ""),
		fiscal("growth.revenue_3y", "Revenue growth, 3 years", Percent, "over(income.revenue, income.revenue@-3y) ^ (1 / 3) - 1", "Compound growth of revenue a year over three years.", ""),
		fiscal("growth.revenue_5y", "Revenue growth, 5 years", Percent, "over(income.revenue, income.revenue@-5y) ^ (1 / 5) - 1", "Compound growth of revenue a year over five years.", ""),
		fiscal("growth.eps_3y", "Earnings growth, 3 years", Percent, "over(income.eps_diluted, income.eps_diluted@-3y) ^ (1 / 3) - 1", "Compound growth of diluted earnings a share a year over three years.", ""),
		fiscal("growth.eps_5y", "Earnings growth, 5 years", Percent, "over(income.eps_diluted, income.eps_diluted@-5y) ^ (1 / 5) - 1", "Compound growth of diluted earnings a share a year over five years.", ""),
		fiscal("share.change_1y", "Change of shares", Percent, "over(balance.shares_outstanding - balance.shares_outstanding@-1y, balance.shares_outstanding@-1y)", "Shares outstanding against a year before.", ""),

		atFiling,
		fiscal("value.class_cap", "Market value of the class", Money, "price.latest * balance.shares_outstanding * share.class_part", "Latest price times the shares of this class that were outstanding by the newest report.", ""),
		Field{ID: "value.other_classes", Label: "Market value of other classes", Unit: Money, NotFor: unaccounted, Takes: AFiscal, Others: "value.class_cap", Definition: "Market value of the issuer's other classes of shares; nought where there is but one."},
		fiscal("value.market_cap", "Market value", Money, "value.class_cap + value.other_classes", "Market value of all the issuer's classes of shares.", ""),
		fiscal("value.enterprise", "Enterprise value", Money, "value.market_cap + own(balance.total_debt) + or_else(own(balance.minority), 0) - own(balance.cash) - or_else(own(balance.short_investments), 0)", "Market value and debt and minority interest, less cash and short-term investments.", ""),
		fiscal("value.pe", "Price/earnings", Ratio, "over(price.latest, own(income.eps_diluted))", "Latest price over diluted earnings a share of twelve months.", ""),
		fiscal("value.ps", "Price/sales", Ratio, "over(value.market_cap, own(income.revenue))", "Market value over revenue of twelve months.", ""),
		fiscal("value.pb", "Price/book", Ratio, "over(value.market_cap, own(balance.equity))", "Market value over equity.", ""),
		fiscal("value.pcf", "Price/cash flow", Ratio, "over(value.market_cap, own(cash.operating))", "Market value over operating cash flow of twelve months.", ""),
		fiscal("value.pfcf", "Price/free cash", Ratio, "over(value.market_cap, own(cash.free))", "Market value over free cash flow of twelve months.", ""),
		fiscal("value.ev_sales", "EV/sales", Ratio, "over(value.enterprise, own(income.revenue))", "Enterprise value over revenue of twelve months.", ""),
		fiscal("value.ev_ebitda", "EV/EBITDA", Ratio, "over(value.enterprise, own(income.ebitda))", "Enterprise value over EBITDA of twelve months.", ""),
		fiscal("value.ev_ebit", "EV/EBIT", Ratio, "over(value.enterprise, own(income.operating_income))", "Enterprise value over operating income of twelve months.", ""),
		fiscal("value.earnings_yield", "Earnings yield", Percent, "over(own(income.eps_diluted), price.latest)", "Diluted earnings a share of twelve months over the latest price.", ""),
		fiscal("value.fcf_yield", "Free cash yield", Percent, "over(own(cash.free), value.market_cap)", "Free cash flow of twelve months over market value.", ""),

		valued("dividend.payout", "Payout", Percent, "over(dividend.ttm, own(income.eps_diluted))", "Regular dividends of the last 365 days over diluted earnings a share of twelve months."),
		valued("dividend.cover", "Cover", Ratio, "over(own(income.eps_diluted), dividend.ttm)", "Diluted earnings a share of twelve months over the regular dividends of the last 365 days."),
		valued("dividend.payout_cash", "Payout of free cash", Percent, "over(cash.dividends_paid, cash.free)", "Dividends paid over free cash flow, of twelve months."),
	)
}()

// Compared are computed ratios with what vendors compute under the same name.
var Compared = []struct{ Ours, Theirs string }{
	{"value.market_cap", "vendor.market_cap"},
	{"value.pe", "vendor.pe"},
	{"value.pb", "vendor.pb"},
	{"value.ps", "vendor.ps"},
	{"dividend.yield", "vendor.dividend_yield"},
	{"dividend.payout", "vendor.payout"},
	{"margin.net", "vendor.margin_net"},
	{"strength.debt_to_equity", "vendor.debt_to_equity"},
}

// atFiling is what takes the place of the latest price where a valuation is asked for
// of a past period: a series of valuations must not know of reports before their day.
var atFiling = Field{
	ID: "price.at_filing", Label: "Price at filing", Unit: Price, Dataset: Bars, With: Statements, NotFor: unaccounted, Takes: AFiscal,
	Definition: "Close of the last session on or before the day on which the accounts of a period were published, or where that is not known 60 days after its end. Valuations of past periods use it as their price.",
	Tell: func(t *Told) Said {
		r, err := t.Accounts.Read(statement.At("income.net_income"), t.Period, t.Day)
		var gap *statement.Gap
		switch {
		case errors.As(err, &gap) && gap.Short:
			return Said{Reason: cell.ShortHistory, Detail: gap.Detail, Period: r.Label}
		case err != nil:
			return Said{Reason: cell.NotReported, Detail: err.Error(), Period: r.Label}
		}
		day := r.Filed
		if day == 0 {
			day = r.End.AddDays(unknownFiling)
		}
		i := t.Bars.OnOrBefore(min(day, t.Day))
		if i < 0 {
			return t.tooShort()
		}
		return Said{Value: cell.Of(t.Bars.Close[i]), Session: t.Bars.Day[i]}
	},
}

// unknownFiling is how many days after its end a report counts as published where its
// source does not say.
const unknownFiling = 60

// fiscal is a field derived from lines of the accounts in the period that it is asked
// for; @-1y in its formula is the same period a year before.
func fiscal(id, label string, unit Unit, text, definition, reference string) Field {
	f := valued(id, label, unit, text, definition)
	f.Takes, f.Reference = AFiscal, reference
	return f
}

// valued is a field derived from the newest accounts.
func valued(id, label string, unit Unit, text, definition string) Field {
	return Field{ID: id, Label: label, Unit: unit, NotFor: unaccounted, Formula: formula.MustParse(text), Definition: definition}
}

// unaccounted are the kinds that publish no accounts of their own.
var unaccounted = othersThan(Info(Statements).Kinds)

// accountLine reads a line of the accounts.
func accountLine(t *Told, line int) Said {
	r, err := t.Accounts.Read(line, t.Period, t.Day)
	said := Said{Period: r.Label, End: r.End, Detail: r.Derived()}
	if r.Standalone {
		said.Flags |= cell.Standalone
	}
	if r.Restated {
		said.Flags |= cell.Restated
		if !math.IsNaN(r.Was) {
			was := cell.Cell{Value: cell.Of(r.Was)}
			said.Detail = "was " + was.Readable() + " before"
		}
	}
	if err == nil {
		said.Value = cell.Of(r.Value)
		return said
	}
	var gap *statement.Gap
	switch {
	case errors.As(err, &gap) && gap.Short:
		said.Reason, said.Detail = cell.ShortHistory, gap.Detail
	case t.Accounts.Lacks(line):
		said.Reason, said.Detail = cell.NotApplicable, "its accounts are those of a bank or an insurer"
	default:
		said.Reason, said.Detail = cell.NotReported, err.Error()
	}
	return said
}

var reportColumns = [...]int{columnOf(Statements, "end"), columnOf(Statements, "part"), columnOf(Statements, "basis"), columnOf(Statements, "year"), columnOf(Statements, "filed"), columnOf(Statements, "currency"), columnOf(Statements, "standard"), columnOf(Statements, "shares_of")}

// replaced are the values of lines that were others before; nil where none was.
func replaced(before []cell.Value, values []float64, first int) (was []float64) {
	for k := range values {
		if before == nil || before[first+k].Kind != cell.Number || before[first+k].Num == values[k] || math.IsNaN(values[k]) {
			continue
		}
		if was == nil {
			was = make([]float64, len(values))
			for i := range was {
				was[i] = math.NaN()
			}
		}
		was[k] = before[first+k].Num
	}
	return was
}

// Reports reads the reports of a listing's issuer off their records. Those whose part
// of the year is not known are left out.
func Reports(entries entry.Entries) []statement.Report {
	reports := make([]statement.Report, 0, len(entries))
	first := columnOf(Statements, statement.Lines[0].ID)
	for i := range entries {
		v := entries[i].Values
		part, err := statement.ParsePart(v[reportColumns[1]].Text)
		if err != nil {
			continue
		}
		filed, _ := period.ParseDate(v[reportColumns[4]].Text) // 0 where there is none
		sharesOf, _ := period.ParseDate(v[reportColumns[7]].Text)
		r := statement.Report{
			End: entries[i].Day, Filed: filed, SharesOf: sharesOf, Year: int(v[reportColumns[3]].Num), Part: part, Standalone: v[reportColumns[2]].Text == "standalone",
			Currency: v[reportColumns[5]].Text, Standard: v[reportColumns[6]].Text, Response: entries[i].Response, Place: entries[i].Place, Values: make([]float64, len(statement.Lines)),
		}
		for k := range statement.Lines {
			r.Values[k] = math.NaN()
			if x := v[first+k]; x.Kind == cell.Number {
				r.Values[k] = x.Num
			}
		}
		r.Was = replaced(entries[i].Before, r.Values, first)
		reports = append(reports, r)
	}
	return reports
}
