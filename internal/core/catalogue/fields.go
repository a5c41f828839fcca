package catalogue

import (
	"math"
	"slices"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

var (
	unvolumed  = []market.Kind{market.Index, market.Pair, market.Fund}
	unquoted   = []market.Kind{market.Index, market.Fund} // no bid and ask
	staffless  = []market.Kind{market.ETF, market.Fund, market.Bond, market.Pair, market.Index, market.Future, market.Option}
	sectorless = []market.Kind{market.Pair, market.Index, market.Future, market.Option, market.ETF, market.Fund}
)

// Fields is the catalogue, in the order in which it is shown.
var Fields = []Field{
	{ID: "quote.last", Label: "Last price", Unit: Price, Dataset: Quotes, Observed: true, Definition: "Price of the latest trade, or of the latest valuation where there are no trades."},
	{ID: "quote.time", Label: "Quote time", Unit: Time, Dataset: Quotes, Observed: true, Definition: "The instant that the quote describes, as the source states it."},
	{ID: "quote.phase", Label: "Session", Unit: Text, Dataset: Listings, Definition: "Where the exchange stands in its day: pre_open, open or closed.", Fact: phase},
	{ID: "quote.open", Label: "Open", Unit: Price, Dataset: Quotes, Observed: true, NotFor: unquoted[1:], Definition: "First price of the session."},
	{ID: "quote.high", Label: "High", Unit: Price, Dataset: Quotes, Observed: true, NotFor: unquoted[1:], Definition: "Highest price of the session."},
	{ID: "quote.low", Label: "Low", Unit: Price, Dataset: Quotes, Observed: true, NotFor: unquoted[1:], Definition: "Lowest price of the session."},
	{ID: "quote.volume", Label: "Volume", Unit: Shares, Dataset: Quotes, Observed: true, NotFor: unvolumed, Definition: "Shares or units traded in the session so far."},
	{ID: "quote.turnover", Label: "Turnover", Unit: Money, Dataset: Quotes, Observed: true, NotFor: unvolumed, Definition: "Value traded in the session so far."},
	{ID: "quote.previous_close", Label: "Previous close", Unit: Price, Dataset: Quotes, Observed: true, Definition: "Closing price of the session before."},
	{ID: "quote.bid", Label: "Bid", Unit: Price, Dataset: Quotes, Observed: true, NotFor: unquoted, Definition: "Highest price a buyer offers."},
	{ID: "quote.ask", Label: "Ask", Unit: Price, Dataset: Quotes, Observed: true, NotFor: unquoted, Definition: "Lowest price a seller asks."},
	{ID: "quote.delay", Label: "Delay", Unit: Minutes, Dataset: Quotes, Observed: true, Definition: "How long the source holds its quotes back, in minutes."},
	{ID: "quote.change", Label: "Change", Unit: Price, Formula: formula.MustParse("quote.last - quote.previous_close"), Definition: "Last price less the previous close."},
	{ID: "quote.change_pct", Label: "Change %", Unit: Percent, Formula: formula.MustParse("(quote.last - quote.previous_close) / quote.previous_close"), Definition: "Change over the previous close."},
	{ID: "quote.spread_pct", Label: "Spread %", Unit: Percent, NotFor: unquoted, Formula: formula.MustParse("(quote.ask - quote.bid) / ((quote.ask + quote.bid) / 2)"), Definition: "Ask less bid, over their mean."},

	{ID: "price.latest", Label: "Latest price", Unit: Price, Formula: formula.MustParse("or_else(quote.last, price.close)"), Definition: "The last price, or the last close where there is no quote. Ratios use it as their price."},
	dated("price.open", "Open of day", Price, nil, "Opening price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Open[i] }),
	dated("price.high", "High of day", Price, nil, "Highest price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.High[i] }),
	dated("price.low", "Low of day", Price, nil, "Lowest price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Low[i] }),
	dated("price.close", "Close of day", Price, nil, "Closing price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Close[i] }),
	dated("price.volume", "Volume of day", Shares, unvolumed, "Volume of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Volume[i] }),
	measured("price.high_52w", "Year high", Price, nil, "Highest high of the sessions after the day a year ago.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		w := b.After(day.AddYears(-1))
		return w.Highest(), 0
	}),
	measured("price.low_52w", "Year low", Price, nil, "Lowest low of the sessions after the day a year ago.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		w := b.After(day.AddYears(-1))
		return w.Lowest(), 0
	}),
	{ID: "price.range_position", Label: "Range position", Unit: Percent, Formula: formula.MustParse("(price.latest - price.low_52w) / (price.high_52w - price.low_52w)"), Definition: "Where the latest price lies between the year's low (0 %) and high (100 %); outside them when today's price is a new low or high."},
	{ID: "price.range_width", Label: "Range width", Unit: Percent, Formula: formula.MustParse("price.high_52w / price.low_52w - 1"), Definition: "The year's high over its low, less one."},
	returned("price.return_1w", "1 week", func(d period.Date) period.Date { return d.AddDays(-7) }),
	returned("price.return_4w", "4 weeks", func(d period.Date) period.Date { return d.AddDays(-28) }),
	returned("price.return_13w", "13 weeks", func(d period.Date) period.Date { return d.AddDays(-91) }),
	returned("price.return_26w", "26 weeks", func(d period.Date) period.Date { return d.AddDays(-182) }),
	returned("price.return_52w", "52 weeks", func(d period.Date) period.Date { return d.AddDays(-364) }),
	returned("price.return_ytd", "Year to date", func(d period.Date) period.Date { return period.MakeDate(d.Time().Year(), 1, 1).AddDays(-1) }),
	measured("price.volatility_1y", "Volatility", Percent, nil, "Standard deviation (n−1) of the daily log returns of a year, times √252.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		if !spans(b, day.AddYears(-1)) {
			return 0, cell.ShortHistory
		}
		w := b.After(day.AddYears(-1))
		return w.Volatility(), 0
	}),
	measured("price.drawdown_1y", "Drawdown", Percent, nil, "Worst fall of the close from a running high within a year.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		if !spans(b, day.AddYears(-1)) {
			return 0, cell.ShortHistory
		}
		w := b.After(day.AddYears(-1))
		return w.Drawdown(), 0
	}),
	measured("price.average_volume_13w", "Average volume", Shares, unvolumed, "Mean volume a session over 13 weeks.", "13 weeks", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		if !spans(b, day.AddDays(-91)) {
			return 0, cell.ShortHistory
		}
		w := b.After(day.AddDays(-91))
		return w.AverageVolume(), 0
	}),

	{ID: "holding.quantity", Label: "Quantity", Unit: Shares, Dataset: Holdings, Observed: true, Definition: "Shares or units held."},
	{ID: "holding.cost", Label: "Cost", Unit: Price, Dataset: Holdings, Observed: true, Definition: "What was paid for one share or unit, on average."},
	{ID: "holding.cost_basis", Label: "Cost basis", Unit: Money, Formula: formula.MustParse("holding.quantity * holding.cost"), Definition: "What was paid for the holding."},
	{ID: "holding.market_value", Label: "Value", Unit: Money, Formula: formula.MustParse("holding.quantity * price.latest"), Definition: "Quantity at the latest price."},
	{ID: "holding.gain", Label: "Gain", Unit: Money, Formula: formula.MustParse("holding.quantity * (price.latest - holding.cost)"), Definition: "Market value less cost basis, before fees, tax and dividends."},
	{ID: "holding.gain_pct", Label: "Gain %", Unit: Percent, Formula: formula.MustParse("(price.latest - holding.cost) / holding.cost"), Definition: "Gain over cost basis."},
	{ID: "holding.day_change", Label: "Day change", Unit: Money, Formula: formula.MustParse("holding.quantity * quote.change"), Definition: "What the holding gained or lost since the previous close."},
	{ID: "holding.weight", Label: "Weight", Unit: Percent, Formula: formula.MustParse("share_of(holding.market_value)"), Definition: "Market value over that of all holdings in the list; needs them all, in one currency."},

	told("dividend.last_amount", "Last dividend", Price, Dividends, "Amount of the latest dividend that has gone ex, in today's shares.", func(e entry.Entries, splits []series.Split, day period.Date) (cell.Value, cell.Reason) {
		last := e.LastBy(day)
		if last == nil {
			return cell.Value{}, cell.NotReported
		}
		return cell.Of(last.Values[amountColumn].Num / series.SplitFactor(splits, last.Day)), 0
	}),
	toldColumn("dividend.last_ex_date", "Last ex-date", Date, Dividends, "ex_date", entry.Entries.LastBy, "First day of trading without the latest dividend."),
	toldColumn("dividend.last_pay_date", "Last pay date", Date, Dividends, "pay_date", entry.Entries.LastBy, "Day on which the latest dividend that has gone ex is paid."),
	toldColumn("dividend.next_ex_date", "Next ex-date", Date, Dividends, "ex_date", entry.Entries.NextAfter, "Next ex-date that has been announced."),

	toldColumn("event.last", "Last announcement", Text, Announcements, "title", entry.Entries.LastBy, "The latest corporate announcement up to today."),
	toldColumn("event.last_date", "Last announced on", Date, Announcements, "date", entry.Entries.LastBy, "Day of the latest corporate announcement up to today."),
	toldColumn("event.next", "Next announcement", Text, Announcements, "title", entry.Entries.NextAfter, "The next corporate announcement: results, a meeting, a dividend or another."),
	toldColumn("event.next_date", "Next announced for", Date, Announcements, "date", entry.Entries.NextAfter, "Day of the next corporate announcement."),

	{ID: "vendor.market_cap", Label: "Vendor market cap", Unit: Money, Dataset: Ratios, Observed: true, Definition: "Market capitalisation as the vendor computes it."},
	{ID: "vendor.pe", Label: "Vendor P/E", Unit: Ratio, Dataset: Ratios, Observed: true, Definition: "Price over earnings as the vendor computes it."},
	{ID: "vendor.pb", Label: "Vendor P/B", Unit: Ratio, Dataset: Ratios, Observed: true, Definition: "Price over book value as the vendor computes it."},
	{ID: "vendor.ps", Label: "Vendor P/S", Unit: Ratio, Dataset: Ratios, Observed: true, Definition: "Price over sales as the vendor computes it."},
	{ID: "vendor.dividend_yield", Label: "Vendor yield", Unit: Percent, Dataset: Ratios, Observed: true, Definition: "Dividend yield as the vendor computes it."},
	{ID: "vendor.payout", Label: "Vendor payout", Unit: Percent, Dataset: Ratios, Observed: true, Definition: "Dividends over earnings as the vendor computes it."},
	{ID: "vendor.margin_net", Label: "Vendor net margin", Unit: Percent, Dataset: Ratios, Observed: true, Definition: "Net income over revenue as the vendor computes it."},
	{ID: "vendor.debt_to_equity", Label: "Vendor debt/equity", Unit: Ratio, Dataset: Ratios, Observed: true, Definition: "Total debt over equity as the vendor computes it."},

	{ID: "fund.nav", Label: "NAV", Unit: Price, Dataset: Funds, Observed: true, Definition: "Net asset value of one unit."},
	{ID: "fund.net_assets", Label: "Net assets", Unit: Money, Dataset: Funds, Observed: true, Definition: "Net assets of the fund."},
	{ID: "fund.expense_ratio", Label: "Expense ratio", Unit: Percent, Dataset: Funds, Observed: true, Definition: "Running costs a year over net assets."},
	{ID: "fund.distribution_yield", Label: "Distribution yield", Unit: Percent, Dataset: Funds, Observed: true, Definition: "Distributions of the last twelve months over net asset value, as the source states it."},
	{ID: "bond.issuer", Label: "Issuer", Unit: Text, Dataset: Bonds, Observed: true, Definition: "Who owes the money."},
	{ID: "bond.coupon", Label: "Coupon", Unit: Percent, Dataset: Bonds, Observed: true, Definition: "Interest a year over face value."},
	{ID: "bond.maturity", Label: "Maturity", Unit: Date, Dataset: Bonds, Observed: true, Definition: "Day of repayment."},
	{ID: "bond.frequency", Label: "Coupons a year", Unit: Count, Dataset: Bonds, Observed: true, Definition: "Number of coupons a year; 0 for none."},
	{ID: "bond.day_count", Label: "Day count", Unit: Text, Dataset: Bonds, Observed: true, Definition: "How days of interest are counted, as ACT/ACT or 30/360."},
	{ID: "contract.underlying", Label: "Underlying", Unit: Text, Dataset: Contracts, Observed: true, Symbol: true, Definition: "Symbol of what the contract is on."},
	{ID: "contract.expiry", Label: "Expiry", Unit: Date, Dataset: Contracts, Observed: true, Definition: "Last day of the contract."},
	{ID: "contract.strike", Label: "Strike", Unit: Price, Dataset: Contracts, Observed: true, NotFor: []market.Kind{market.Future}, Definition: "Price at which the option may be exercised."},
	{ID: "contract.right", Label: "Right", Unit: Text, Dataset: Contracts, Observed: true, NotFor: []market.Kind{market.Future}, Definition: "call or put."},
	{ID: "contract.multiplier", Label: "Multiplier", Unit: Count, Dataset: Contracts, Observed: true, Definition: "Units of the underlying in one contract."},
	toldColumn("rate.spot", "Reference rate", Ratio, Rates, "rate", entry.Entries.LastBy, "Latest fixing: units of the second currency for one of the first."),
	told("universe.members", "Members", Count, Universes, "Number of members of the index.", func(e entry.Entries, _ []series.Split, _ period.Date) (cell.Value, cell.Reason) {
		return cell.Of(float64(len(e))), 0
	}),

	{ID: "profile.name", Label: "Name", Unit: Text, Dataset: Listings, Definition: "Name of the listing.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return cell.OfText(l.Name) }},
	{ID: "profile.kind", Label: "Kind", Unit: Text, Dataset: Listings, Definition: "Kind of instrument: share, etf, fund, bond, pair, index, future or option.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value {
		return cell.OfText(string(l.Kind))
	}},
	{ID: "profile.isin", Label: "ISIN", Unit: Text, Dataset: Listings, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "International securities identification number.", Reference: "ISO 6166", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return optional(l.ISIN) }},
	{ID: "profile.exchange", Label: "Exchange", Unit: Text, Dataset: Listings, Definition: "Name of the exchange.", Fact: func(_ *market.Listing, e *market.Exchange, _ time.Time) cell.Value { return cell.OfText(e.Name) }},
	{ID: "profile.currency", Label: "Currency", Unit: Text, Dataset: Listings, Definition: "Currency of the listing's prices.", Reference: "ISO 4217", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return optional(l.Currency) }},
	{ID: "profile.country", Label: "Country", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "Country of the issuer.", Reference: "ISO 3166-1 alpha-2"},
	{ID: "profile.sector", Label: "Sector", Unit: Text, Dataset: Profiles, Observed: true, NotFor: sectorless, Definition: "The broad line of business, as the source classes it."},
	{ID: "profile.industry", Label: "Industry", Unit: Text, Dataset: Profiles, Observed: true, NotFor: sectorless, Definition: "The narrow line of business, as the source classes it."},
	{ID: "profile.employees", Label: "Employees", Unit: Count, Dataset: Profiles, Observed: true, NotFor: staffless, Definition: "Number of people employed, as last stated."},
	{ID: "profile.fiscal_year_end", Label: "Year end", Unit: Text, Dataset: Profiles, Observed: true, NotFor: staffless, Definition: "Last day of the issuer's fiscal year, as month and day (--12-31)."},
	{ID: "profile.website", Label: "Website", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "Address of the issuer's site."},
	{ID: "profile.description", Label: "Description", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair}, Definition: "What the issuer does, in a sentence."},
	{ID: "profile.listed_since", Label: "Listed since", Unit: Date, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "First day of trading."},
}

var amountColumn = columnOf(Dividends, "amount")

// columnOf is the position of a column in a dataset.
func columnOf(d Dataset, name string) int {
	i := slices.IndexFunc(Infos, func(i DatasetInfo) bool { return i.Name == d })
	return Infos[i].Column(name)
}

// told is a field read off the dated records of a dataset.
func told(id, label string, unit Unit, d Dataset, definition string, tell func(entry.Entries, []series.Split, period.Date) (cell.Value, cell.Reason)) Field {
	return Field{ID: id, Label: label, Unit: unit, Dataset: d, Definition: definition, Tell: tell}
}

// toldColumn is one column of the record that pick finds.
func toldColumn(id, label string, unit Unit, d Dataset, column string, pick func(entry.Entries, period.Date) *entry.Entry, definition string) Field {
	at := columnOf(d, column)
	return told(id, label, unit, d, definition, func(e entry.Entries, _ []series.Split, day period.Date) (cell.Value, cell.Reason) {
		found := pick(e, day)
		if found == nil || found.Values[at].Kind == cell.None {
			return cell.Value{}, cell.NotReported
		}
		return found.Values[at], 0
	})
}

func phase(l *market.Listing, e *market.Exchange, now time.Time) cell.Value {
	if l.EndedBy(e.Today(now)) {
		return cell.OfText(string(market.Closed))
	}
	return cell.OfText(string(e.PhaseAt(now)))
}

// optional is a text that may be unknown.
func optional(s string) cell.Value {
	if s == "" {
		return cell.Value{}
	}
	return cell.OfText(s)
}

// slack is how far after the start of a span the first bar may lie, so that a
// history cut at a weekend or a holiday still covers it.
const slack = 7

func spans(b *series.Bars, start period.Date) bool { return b.Reaches(start.AddDays(slack)) }

func measured(id, label string, unit Unit, notFor []market.Kind, definition, span string, m func(*series.Bars, period.Date) (float64, cell.Reason)) Field {
	return Field{ID: id, Label: label, Unit: unit, NotFor: notFor, Definition: definition, Dataset: Bars, Span: span, Measure: func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		x, reason := m(b, day)
		if reason == 0 && (math.IsNaN(x) || math.IsInf(x, 0)) {
			reason = cell.ShortHistory
		}
		return x, reason
	}}
}

// dated is a column of the bars on the last session on or before a day.
func dated(id, label string, unit Unit, notFor []market.Kind, definition string, at func(*series.Bars, int) float64) Field {
	f := measured(id, label, unit, notFor, definition, "the last session on or before the day", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		i := b.OnOrBefore(day)
		if i < 0 {
			return 0, cell.ShortHistory
		}
		return at(b, i), 0
	})
	f.Dated = true
	return f
}

func returned(id, label string, start func(period.Date) period.Date) Field {
	return measured(id, label, Percent, nil, "Last close over the close of the last session on or before the start of the span ("+label+"), less one; dividends are not counted.", label,
		func(b *series.Bars, day period.Date) (float64, cell.Reason) { return b.Return(start(day)), 0 })
}
