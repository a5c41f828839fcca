package catalogue

import (
	"fmt"
	"slices"
	"time"

	"soba.invalid/soba/internal/core/bond"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

var (
	unvolumed  = []market.Kind{market.Index, market.Pair, market.Fund}
	unquoted   = []market.Kind{market.Index, market.Fund} // no bid and ask
	staffless  = []market.Kind{market.ETF, market.Fund, market.Bond, market.Pair, market.Index, market.Future, market.Option}
	sectorless = []market.Kind{market.Pair, market.Index, market.Future, market.Option, market.ETF, market.Fund}
)

// Fields is the catalogue, in the order in which it is shown.
var Fields = slices.Concat(quoteFields, priceFields, holdingFields, dividendFields, statementFields, scoreFields, estimateFields, holderFields, otherFields)

var quoteFields = []Field{
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
}

var holdingFields = []Field{
	{ID: "holding.quantity", Label: "Quantity", Unit: Shares, Dataset: Holdings, Observed: true, Definition: "Shares or units held."},
	{ID: "holding.cost", Label: "Cost", Unit: Price, Dataset: Holdings, Observed: true, Definition: "What was paid for one share or unit, on average."},
	{ID: "holding.cost_basis", Label: "Cost basis", Unit: Money, Formula: formula.MustParse("holding.quantity * holding.cost"), Definition: "What was paid for the holding."},
	{ID: "holding.market_value", Label: "Value", Unit: Money, Formula: formula.MustParse("holding.quantity * price.latest"), Definition: "Quantity at the latest price."},
	{ID: "holding.gain", Label: "Gain", Unit: Money, Formula: formula.MustParse("holding.quantity * (price.latest - holding.cost)"), Definition: "Market value less cost basis, before fees, tax and dividends."},
	{ID: "holding.gain_pct", Label: "Gain %", Unit: Percent, Formula: formula.MustParse("(price.latest - holding.cost) / holding.cost"), Definition: "Gain over cost basis."},
	{ID: "holding.day_change", Label: "Day change", Unit: Money, Formula: formula.MustParse("holding.quantity * quote.change"), Definition: "What the holding gained or lost since the previous close."},
	{ID: "holding.annual_income", Label: "Income a year", Unit: Money, NotFor: unpaid, Formula: formula.MustParse("holding.quantity * or_else(dividend.forward, bond.interest)"), Definition: "Quantity times the dividends ahead, or the interest of a bond."},
	{ID: "holding.yield_on_cost", Label: "Yield on cost", Unit: Percent, NotFor: unpaid, Formula: formula.MustParse("or_else(dividend.forward, bond.interest) / holding.cost"), Definition: "Dividends ahead, or the interest of a bond, over what was paid for one share or unit."},
	{ID: "holding.weight", Label: "Weight", Unit: Percent, Formula: formula.MustParse("share_of(holding.market_value)"), Definition: "Market value over that of all holdings in the list; needs them all, in one currency."},
}

var otherFields = []Field{
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
	reckoned("bond.interest", "Interest a year", Price, "Interest a year for 100 of face value.", bondTerms, func(b *bond.Bond, in []cell.Value, day period.Date) Said {
		if day >= b.Maturity {
			return matured(b)
		}
		return Said{Value: cell.Of(b.Payment() * float64(b.Frequency))}
	}),
	reckoned("bond.accrued", "Accrued interest", Price, "Interest since the last coupon, for 100 of face value, by the bond's day count; settled on the day.", bondTerms, func(b *bond.Bond, in []cell.Value, day period.Date) Said {
		if day >= b.Maturity {
			return matured(b)
		}
		return Said{Value: cell.Of(b.Accrued(day))}
	}),
	{ID: "bond.price", Label: "Full price", Unit: Price, NotFor: unbonded, Formula: formula.MustParse("price.latest + bond.accrued"), Definition: "Latest price with accrued interest: what a buyer pays for 100 of face value."},
	reckoned("bond.yield_to_maturity", "Yield to maturity", Percent, "The yield at which the payments to come are worth the full price: compounded as often as coupons are paid, the broken period as its fraction (street convention).", pricedTerms, func(b *bond.Bond, in []cell.Value, day period.Date) Said {
		if day >= b.Maturity {
			return matured(b)
		}
		y, ok := b.Yield(day, in[len(bondTerms)].Num)
		if !ok {
			return Said{Reason: cell.NotApplicable, Detail: "no yield gives that price"}
		}
		return Said{Value: cell.Of(y)}
	}),
	reckoned("bond.duration", "Duration", Years, "Mean time until what is paid, weighted by present value, in years.", yieldedTerms, func(b *bond.Bond, in []cell.Value, day period.Date) Said {
		if day >= b.Maturity {
			return matured(b)
		}
		x, _ := b.Duration(day, in[len(bondTerms)].Num)
		return Said{Value: cell.Of(x)}
	}),
	reckoned("bond.duration_modified", "Modified duration", Ratio, "By how many per cent the full price falls when the yield rises by one percentage point.", yieldedTerms, func(b *bond.Bond, in []cell.Value, day period.Date) Said {
		if day >= b.Maturity {
			return matured(b)
		}
		_, x := b.Duration(day, in[len(bondTerms)].Num)
		return Said{Value: cell.Of(x)}
	}),
	{ID: "contract.underlying", Label: "Underlying", Unit: Text, Dataset: Contracts, Observed: true, Symbol: true, Definition: "Symbol of what the contract is on."},
	{ID: "contract.expiry", Label: "Expiry", Unit: Date, Dataset: Contracts, Observed: true, Definition: "Last day of the contract."},
	{ID: "contract.strike", Label: "Strike", Unit: Price, Dataset: Contracts, Observed: true, NotFor: []market.Kind{market.Future}, Definition: "Price at which the option may be exercised."},
	{ID: "contract.right", Label: "Right", Unit: Text, Dataset: Contracts, Observed: true, NotFor: []market.Kind{market.Future}, Definition: "call or put."},
	{ID: "contract.multiplier", Label: "Multiplier", Unit: Count, Dataset: Contracts, Observed: true, Definition: "Units of the underlying in one contract."},
	toldColumn("rate.spot", "Reference rate", Ratio, Rates, "rate", entry.Entries.LastBy, "Latest fixing: units of the second currency for one of the first."),
	told("universe.members", "Members", Count, Universes, "Number of members of the index.", func(t *Told) Said {
		return Said{Value: cell.Of(float64(len(t.Entries)))}
	}),

	{ID: "profile.name", Label: "Name", Unit: Text, Dataset: Listings, Definition: "Name of the listing.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return cell.OfText(l.Name) }},
	{ID: "profile.kind", Label: "Kind", Unit: Text, Dataset: Listings, Definition: "Kind of instrument: share, etf, fund, bond, pair, index, future or option.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value {
		return cell.OfText(string(l.Kind))
	}},
	{ID: "profile.isin", Label: "ISIN", Unit: Text, Dataset: Listings, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "International securities identification number.", Reference: "ISO 6166", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return optional(l.ISIN) }},
	{ID: "profile.exchange", Label: "Exchange", Unit: Text, Dataset: Listings, Definition: "Name of the exchange.", Fact: func(_ *market.Listing, e *market.Exchange, _ time.Time) cell.Value { return cell.OfText(e.Name) }},
	{ID: "profile.currency", Label: "Currency", Unit: Text, Dataset: Listings, Definition: "Currency of the listing's prices.", Reference: "ISO 4217", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return optional(l.Currency) }},
	{ID: "profile.issuer", Label: "Issuer", Unit: Text, Dataset: Listings, NotFor: othersThan([]market.Kind{market.Share}), Definition: "Identifier of who has issued the shares, as the source gives it.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value { return optional(l.Issuer) }},
	{ID: "share.class_part", Label: "Part of the class", Unit: Percent, Dataset: Listings, NotFor: othersThan([]market.Kind{market.Share}), Definition: "Part of the issuer's shares that are of this class: all where there is but one.", Fact: func(l *market.Listing, _ *market.Exchange, _ time.Time) cell.Value {
		if l.Part != 0 {
			return cell.Of(l.Part)
		}
		return cell.Of(1)
	}},
	{ID: "profile.country", Label: "Country", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "Country of the issuer.", Reference: "ISO 3166-1 alpha-2"},
	{ID: "profile.sector", Label: "Sector", Unit: Text, Dataset: Profiles, Observed: true, NotFor: sectorless, Definition: "The broad line of business, as the source classes it."},
	{ID: "profile.industry", Label: "Industry", Unit: Text, Dataset: Profiles, Observed: true, NotFor: sectorless, Definition: "The narrow line of business, as the source classes it."},
	{ID: "profile.employees", Label: "Employees", Unit: Count, Dataset: Profiles, Observed: true, NotFor: staffless, Definition: "Number of people employed, as last stated."},
	{ID: "profile.fiscal_year_end", Label: "Year end", Unit: Text, Dataset: Profiles, Observed: true, NotFor: staffless, Definition: "Last day of the issuer's fiscal year, as month and day (--12-31)."},
	{ID: "profile.website", Label: "Website", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "Address of the issuer's site."},
	{ID: "profile.description", Label: "Description", Unit: Text, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair}, Definition: "What the issuer does, in a sentence."},
	{ID: "profile.listed_since", Label: "Listed since", Unit: Date, Dataset: Profiles, Observed: true, NotFor: []market.Kind{market.Pair, market.Index}, Definition: "First day of trading."},
}

// unpaid are the kinds that pay their holders nothing.
var unpaid = slices.DeleteFunc(slices.Clone(noEquity), func(k market.Kind) bool { return k == market.Bond })

var unbonded = othersThan([]market.Kind{market.Bond})

func othersThan(kinds []market.Kind) []market.Kind {
	return slices.DeleteFunc(slices.Clone(market.Kinds), func(k market.Kind) bool { return slices.Contains(kinds, k) })
}

// What bonds are reckoned from: their terms, and behind them the price or the yield.
var (
	bondTerms    = []formula.Ref{{ID: "bond.coupon"}, {ID: "bond.frequency"}, {ID: "bond.maturity"}, {ID: "bond.day_count"}}
	pricedTerms  = append(slices.Clone(bondTerms), formula.Ref{ID: "price.latest"})
	yieldedTerms = append(slices.Clone(bondTerms), formula.Ref{ID: "bond.yield_to_maturity"})
)

// reckoned is a field computed from the terms of a bond.
func reckoned(id, label string, unit Unit, definition string, from []formula.Ref, reckon func(*bond.Bond, []cell.Value, period.Date) Said) Field {
	return Field{ID: id, Label: label, Unit: unit, Definition: definition, NotFor: unbonded, From: from, Reckon: func(in []cell.Value, day period.Date) Said {
		b, err := bondOf(in)
		if err != nil {
			return Said{Reason: cell.InputMissing, Detail: err.Error()}
		}
		return reckon(b, in, day)
	}}
}

// bondOf makes a bond of its terms, in the order of bondTerms.
func bondOf(terms []cell.Value) (*bond.Bond, error) {
	count, err := bond.ParseDayCount(terms[3].Text)
	if err != nil {
		return nil, err
	}
	maturity, err := period.ParseDate(terms[2].Text)
	if err != nil || !slices.Contains([]float64{0, 1, 2, 4, 12}, terms[1].Num) {
		return nil, fmt.Errorf("terms that can be reckoned with: %v coupons a year, due %q", terms[1].Num, terms[2].Text)
	}
	return &bond.Bond{Coupon: terms[0].Num, Frequency: int(terms[1].Num), Maturity: maturity, Count: count}, nil
}

// Bond reads the terms of a bond from the observed values of its dataset.
func Bond(observed []cell.Value) (*bond.Bond, error) {
	terms := make([]cell.Value, len(bondTerms))
	for i, ref := range bondTerms {
		if slot := Find(ref.ID).Slot(); slot < len(observed) {
			terms[i] = observed[slot]
		}
	}
	return bondOf(terms)
}

func matured(b *bond.Bond) Said {
	return Said{Reason: cell.Ended, Detail: "matured on " + b.Maturity.String()}
}

// columnOf is the position of a column in a dataset.
func columnOf(d Dataset, name string) int {
	i := slices.IndexFunc(Infos, func(i DatasetInfo) bool { return i.Name == d })
	return Infos[i].Column(name)
}

// told is a field read off the dated records of a dataset.
func told(id, label string, unit Unit, d Dataset, definition string, tell func(*Told) Said) Field {
	return Field{ID: id, Label: label, Unit: unit, Dataset: d, Definition: definition, Tell: tell}
}

// toldColumn is one column of the record that pick finds.
func toldColumn(id, label string, unit Unit, d Dataset, column string, pick func(entry.Entries, period.Date) *entry.Entry, definition string) Field {
	at := columnOf(d, column)
	return told(id, label, unit, d, definition, func(t *Told) Said {
		found := pick(t.Entries, t.Day)
		if found == nil || found.Values[at].Kind == cell.None {
			return Said{Reason: cell.NotReported}
		}
		return Said{Value: found.Values[at]}
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
