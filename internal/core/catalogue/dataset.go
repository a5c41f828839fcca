package catalogue

import (
	"slices"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/statement"
)

// Dataset is one kind of data that a source serves.
type Dataset string

// The datasets. Holdings are the user's own and come from no source.
const (
	Listings      Dataset = "listings"
	Quotes        Dataset = "quotes"
	Bars          Dataset = "bars"
	Splits        Dataset = "splits"
	Dividends     Dataset = "dividends"
	Profiles      Dataset = "profiles"
	Announcements Dataset = "announcements"
	Statements    Dataset = "statements"
	Estimates     Dataset = "estimates"
	Opinions      Dataset = "recommendations"
	Holders       Dataset = "holders"
	Ratios        Dataset = "ratios"
	Funds         Dataset = "funds"
	Bonds         Dataset = "bonds"
	Contracts     Dataset = "contracts"
	Rates         Dataset = "rates"
	Universes     Dataset = "universes"
	Intraday      Dataset = "intraday"
	Holdings      Dataset = "holdings"
)

// Shape is what a dataset's records look like.
type Shape uint8

// The shapes.
const (
	Directory Shape = iota // what a source lists, exchange by exchange
	Point                  // one set of observed fields a listing
	Prices                 // open, high, low, close and volume through time
	Dated                  // dated records with columns of their own
)

// Column is one column of a dataset with dated records.
type Column struct {
	Name       string
	Unit       Unit
	Required   bool // a record without it is rejected
	Key        bool // tells records of one listing apart
	Symbol     bool // a text that names a listing
	Definition string
}

// DatasetInfo is what is known of a dataset.
type DatasetInfo struct {
	Name    Dataset
	Title   string
	Shape   Shape
	Kinds   []market.Kind // of listings that have it; nil: all
	Columns []Column      // of dated records; the first is their date, if they have one
	Holds   time.Duration // how long it counts as fresh after it was checked; 0: judged by sessions
	Ranged  bool          // asked for over a range of days
	Rolls   bool          // sources give the newest records alone: those before what they give stay
}

const day = 24 * time.Hour

// Infos lists every dataset that a source can serve, those that a reader waits
// for least first: that is the order in which they are fetched.
var Infos = []DatasetInfo{
	{Name: Listings, Title: "Listings", Shape: Directory, Holds: 30 * day},
	{Name: Quotes, Title: "Quotes", Shape: Point},
	{Name: Bars, Title: "Daily bars", Shape: Prices, Ranged: true},
	{Name: Splits, Title: "Splits", Shape: Dated, Kinds: []market.Kind{market.Share, market.ETF, market.Fund}, Holds: day, Columns: []Column{
		{Name: "date", Unit: Date, Required: true, Key: true, Definition: "First day of trading in the new shares."},
		{Name: "ratio", Unit: Ratio, Required: true, Definition: "New shares for one old: 3 for three for one, 0.1 for one for ten."},
	}},
	{Name: Dividends, Title: "Dividends", Shape: Dated, Kinds: []market.Kind{market.Share, market.ETF, market.Fund}, Holds: day, Columns: []Column{
		{Name: "ex_date", Unit: Date, Required: true, Key: true, Definition: "First day of trading without the dividend."},
		{Name: "amount", Unit: Price, Required: true, Definition: "Amount for one share of that day."},
		{Name: "kind", Unit: Text, Key: true, Definition: "regular, special or return_of_capital."},
		{Name: "record_date", Unit: Date, Definition: "Day whose holders are paid."},
		{Name: "pay_date", Unit: Date, Definition: "Day of payment."},
		{Name: "declared_date", Unit: Date, Definition: "Day on which it was announced."},
		{Name: "currency", Unit: Text, Definition: "Currency of the amount; the listing's when the source does not say."},
	}},
	{Name: Profiles, Title: "Profiles", Shape: Point, Kinds: []market.Kind{market.Share, market.ETF, market.Fund, market.Bond, market.Future, market.Option}, Holds: 30 * day},
	{Name: Announcements, Title: "Announcements", Shape: Dated, Kinds: []market.Kind{market.Share}, Holds: day, Columns: []Column{
		{Name: "date", Unit: Date, Required: true, Key: true, Definition: "Day of the event."},
		{Name: "kind", Unit: Text, Required: true, Key: true, Definition: "results, meeting, dividend or other."},
		{Name: "title", Unit: Text, Definition: "What is announced."},
	}},
	{Name: Statements, Title: "Accounts", Shape: Dated, Kinds: []market.Kind{market.Share}, Holds: 7 * day, Columns: statementColumns, Rolls: true},
	{Name: Estimates, Title: "Estimates", Shape: Dated, Kinds: []market.Kind{market.Share}, Holds: 7 * day, Columns: estimateColumns},
	{Name: Opinions, Title: "Recommendations", Shape: Dated, Kinds: []market.Kind{market.Share}, Holds: 7 * day, Rolls: true, Columns: []Column{
		{Name: "date", Unit: Date, Required: true, Key: true, Definition: "Day of the opinions."},
		{Name: "strong_buy", Unit: Count, Definition: "How many analysts say strong buy."},
		{Name: "buy", Unit: Count, Definition: "How many say buy."},
		{Name: "hold", Unit: Count, Definition: "How many say hold."},
		{Name: "reduce", Unit: Count, Definition: "How many say reduce."},
		{Name: "sell", Unit: Count, Definition: "How many say sell."},
		{Name: "recommendation", Unit: Ratio, Definition: "Their mean, from 1 (strong buy) to 5 (sell); counted from the numbers when the source does not say."},
		{Name: "target", Unit: Price, Definition: "Mean of the prices that they aim at."},
		{Name: "target_high", Unit: Price, Definition: "Highest of them."},
		{Name: "target_low", Unit: Price, Definition: "Lowest of them."},
		{Name: "growth_5y", Unit: Percent, Definition: "Growth of earnings a year that is expected over five years."},
		{Name: "next_report", Unit: Date, Definition: "Day on which the next report is expected."},
	}},
	{Name: Holders, Title: "Holders", Shape: Dated, Kinds: []market.Kind{market.Share}, Holds: 7 * day, Rolls: true, Columns: []Column{
		{Name: "date", Unit: Date, Required: true, Key: true, Definition: "Day for which the holding is reported."},
		{Name: "group", Unit: Text, Required: true, Key: true, Definition: "insiders or institutions."},
		{Name: "holder", Unit: Text, Key: true, Definition: "Who holds; nothing for the group together."},
		{Name: "role", Unit: Text, Definition: "What an insider is to the issuer."},
		{Name: "shares", Unit: Shares, Definition: "Shares held."},
		{Name: "part", Unit: Percent, Definition: "Part of all shares."},
	}},
	{Name: Ratios, Title: "Vendor's ratios", Shape: Point, Kinds: []market.Kind{market.Share}, Holds: 7 * day},
	{Name: Funds, Title: "Fund facts", Shape: Point, Kinds: []market.Kind{market.ETF, market.Fund}, Holds: day},
	{Name: Bonds, Title: "Bond terms", Shape: Point, Kinds: []market.Kind{market.Bond}, Holds: 30 * day},
	{Name: Contracts, Title: "Contract terms", Shape: Point, Kinds: []market.Kind{market.Future, market.Option}, Holds: 30 * day},
	{Name: Rates, Title: "Reference rates", Shape: Dated, Kinds: []market.Kind{market.Pair}, Ranged: true, Columns: []Column{
		{Name: "date", Unit: Date, Required: true, Key: true, Definition: "Day of the fixing."},
		{Name: "rate", Unit: Ratio, Required: true, Definition: "Units of the second currency for one of the first."},
	}},
	{Name: Universes, Title: "Members", Shape: Dated, Kinds: []market.Kind{market.Index}, Holds: 30 * day, Columns: []Column{
		{Name: "member", Unit: Text, Required: true, Key: true, Symbol: true, Definition: "Symbol of a member."},
		{Name: "weight", Unit: Percent, Definition: "Its share of the index."},
	}},
	{Name: Intraday, Title: "Intraday bars", Shape: Prices, Kinds: []market.Kind{market.Share, market.ETF, market.Index, market.Pair}},
}

// estimateColumns are what tells estimates apart, and after them the lines of
// [estimate.Line] in their order.
var estimateColumns = []Column{
	{Name: "end", Unit: Date, Required: true, Key: true, Definition: "Last day of the period."},
	{Name: "part", Unit: Text, Required: true, Key: true, Definition: "Part of the fiscal year: FY or Q1 to Q4."},
	{Name: "year", Unit: Count, Required: true, Definition: "Fiscal year, as the issuer counts it."},
	{Name: "currency", Unit: Text, Definition: "Currency of the estimates; that of the accounts when the source does not say."},
	{Name: "eps", Unit: Money, Definition: "Mean of the estimates of diluted earnings a share."},
	{Name: "eps_high", Unit: Money, Definition: "Highest of them."},
	{Name: "eps_low", Unit: Money, Definition: "Lowest of them."},
	{Name: "analysts", Unit: Count, Definition: "How many there are."},
	{Name: "eps_7d", Unit: Money, Definition: "Their mean 7 days ago."},
	{Name: "eps_30d", Unit: Money, Definition: "Their mean 30 days ago."},
	{Name: "eps_60d", Unit: Money, Definition: "Their mean 60 days ago."},
	{Name: "eps_90d", Unit: Money, Definition: "Their mean 90 days ago."},
	{Name: "revenue", Unit: Money, Definition: "Mean of the estimates of revenue."},
	{Name: "revenue_high", Unit: Money, Definition: "Highest of them."},
	{Name: "revenue_low", Unit: Money, Definition: "Lowest of them."},
	{Name: "revenue_analysts", Unit: Count, Definition: "How many there are."},
	{Name: "eps_actual", Unit: Money, Definition: "What earnings a share became; nothing while the period is to come."},
}

// statementColumns are what tells reports apart, and the lines of the accounts.
var statementColumns = func() []Column {
	columns := []Column{
		{Name: "end", Unit: Date, Required: true, Key: true, Definition: "Last day of what the report covers."},
		{Name: "part", Unit: Text, Required: true, Key: true, Definition: "Part of the fiscal year: FY, Q1 to Q4, H1, H2, 6M or 9M."},
		{Name: "basis", Unit: Text, Key: true, Definition: "consolidated or standalone; consolidated when the source does not say."},
		{Name: "year", Unit: Count, Required: true, Definition: "Fiscal year, as the issuer counts it."},
		{Name: "filed", Unit: Date, Definition: "Day of publication."},
		{Name: "currency", Unit: Text, Definition: "Currency of the accounts; the listing's when the source does not say."},
		{Name: "standard", Unit: Text, Definition: "Accounting standard, as IFRS."},
		{Name: "shares_of", Unit: Date, Definition: "Day in whose shares the report counts; that of publication when the source does not say."},
	}
	for i := range statement.Lines {
		l := &statement.Lines[i]
		unit := Money
		if l.Shares {
			unit = Shares
		}
		columns = append(columns, Column{Name: l.ID, Unit: unit, Definition: l.Definition})
	}
	return columns
}()

// Datasets lists the datasets that a refresh brings unless told otherwise, in
// the order in which they are fetched: all that fields read.
var Datasets []Dataset

var infos = func() map[Dataset]*DatasetInfo {
	byName := map[Dataset]*DatasetInfo{}
	for i := range Infos {
		byName[Infos[i].Name] = &Infos[i]
	}
	return byName
}()

// Info returns what is known of a dataset, or nil.
func Info(d Dataset) *DatasetInfo { return infos[d] }

// Has tells whether listings of a kind have the dataset.
func (i *DatasetInfo) Has(k market.Kind) bool { return i.Kinds == nil || slices.Contains(i.Kinds, k) }

// Column returns the position of a column by name, or -1.
func (i *DatasetInfo) Column(name string) int {
	return slices.IndexFunc(i.Columns, func(c Column) bool { return c.Name == name })
}

// IsDated tells whether the dataset's records have a date.
func (i *DatasetInfo) IsDated() bool { return len(i.Columns) > 0 && i.Columns[0].Unit == Date }

// Rank is a dataset's place in the order of fetching.
func Rank(d Dataset) int {
	return slices.IndexFunc(Infos, func(i DatasetInfo) bool { return i.Name == d })
}
