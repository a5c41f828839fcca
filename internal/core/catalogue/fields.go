package catalogue

import (
	"math"
	"time"

	"soba.invalid/soba/internal/core/cell"
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
