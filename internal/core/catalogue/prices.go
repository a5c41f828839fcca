package catalogue

import (
	"math"
	"strconv"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// noEquity are the kinds that are no part of a company or a fund: they pay no
// dividends, and are not compared with an index.
var noEquity = []market.Kind{market.Bond, market.Pair, market.Index, market.Future, market.Option}

var priceFields = []Field{
	{ID: "price.latest", Label: "Latest price", Unit: Price, Formula: formula.MustParse("or_else(quote.last, price.close)"), Definition: "The last price, or the last close where there is no quote. Ratios use it as their price."},
	dated("price.open", "Open of day", Price, nil, "Opening price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Open[i] }),
	dated("price.high", "High of day", Price, nil, "Highest price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.High[i] }),
	dated("price.low", "Low of day", Price, nil, "Lowest price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Low[i] }),
	dated("price.close", "Close of day", Price, nil, "Closing price of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Close[i] }),
	dated("price.volume", "Volume of day", Shares, unvolumed, "Volume of a session, in today's shares.", func(b *series.Bars, i int) float64 { return b.Volume[i] }),
	{
		ID: "price.adjusted_close", Label: "Adjusted close", Unit: Price, Dataset: Bars, With: Dividends, NotFor: noEquity, Takes: ADate,
		Definition: "Close of a session in today's shares with dividends reinvested: closes before each ex-date are multiplied by 1 − D/C₋₁, the dividend over the close before it.",
		Tell:       adjustedClose,
	},
	drawn("price.line_30d", "30 days", 30, series.Daily, "Closes of the sessions of the last 30 days, as a small chart."),
	drawn("price.line_365d", "365 days", 365, series.Weekly, "Last closes of the weeks of the last 365 days, as a small chart."),
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
	returned("price.return_156w", "156 weeks", func(d period.Date) period.Date { return d.AddDays(-156 * 7) }),
	returned("price.return_260w", "260 weeks", func(d period.Date) period.Date { return d.AddDays(-260 * 7) }),
	returned("price.return_ytd", "Year to date", func(d period.Date) period.Date { return period.MakeDate(d.Time().Year(), 1, 1).AddDays(-1) }),
	reinvested("price.total_return_13w", "13 weeks", func(d period.Date) period.Date { return d.AddDays(-91) }),
	reinvested("price.total_return_26w", "26 weeks", func(d period.Date) period.Date { return d.AddDays(-182) }),
	reinvested("price.total_return_52w", "52 weeks", func(d period.Date) period.Date { return d.AddDays(-364) }),
	reinvested("price.total_return_156w", "156 weeks", func(d period.Date) period.Date { return d.AddDays(-156 * 7) }),
	reinvested("price.total_return_260w", "260 weeks", func(d period.Date) period.Date { return d.AddDays(-260 * 7) }),
	reinvested("price.total_return_ytd", "Year to date", func(d period.Date) period.Date { return period.MakeDate(d.Time().Year(), 1, 1).AddDays(-1) }),
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
	measured("price.sma_50", "50-day average", Price, nil, "Mean close of the last 50 sessions.", "50 sessions", func(b *series.Bars, _ period.Date) (float64, cell.Reason) {
		return b.Mean(50), 0
	}),
	measured("price.sma_200", "200-day average", Price, nil, "Mean close of the last 200 sessions.", "200 sessions", func(b *series.Bars, _ period.Date) (float64, cell.Reason) {
		return b.Mean(200), 0
	}),
	measured("price.ema_20", "20-day weighted average", Price, nil, "Exponential moving average of the close with the weight 2/21, over the sessions of a year.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		w := b.After(day.AddYears(-1))
		return w.ExponentialMean(20), 0
	}),
	referred(measured("price.rsi_14", "Relative strength", Ratio, nil, "Relative strength index of 14 sessions, from 0 to 100, smoothed over the sessions of a year.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		w := b.After(day.AddYears(-1))
		return w.RelativeStrength(14), 0
	}), wilder),
	referred(measured("price.atr_14", "Average true range", Price, nil, "Average true range of 14 sessions, smoothed over the sessions of a year.", "1 year", func(b *series.Bars, day period.Date) (float64, cell.Reason) {
		w := b.After(day.AddYears(-1))
		return w.TrueRange(14), 0
	}), wilder),
	{
		ID: "price.beta_2y", Label: "Beta", Unit: Ratio, Dataset: Bars, Index: true, Span: "104 weeks", Reference: "W. F. Sharpe, A Simplified Model for Portfolio Analysis, 1963",
		NotFor:     noEquity,
		Definition: "Slope of the weekly returns on those of the exchange's main index, over the 104 weeks before the current one; dividends are not counted.",
		Tell: func(t *Told) Said {
			x := t.Bars.Beta(t.Index, t.Day, 104)
			for _, b := range []*series.Bars{t.Bars, t.Index} {
				if math.IsNaN(x) || !spans(b, t.Day.AddDays(-7*104)) {
					return Said{Reason: cell.ShortHistory, Detail: "the history begins on " + b.Day[0].String()}
				}
			}
			return Said{Value: cell.Of(x)}
		},
	},
}

const wilder = "J. W. Wilder, New Concepts in Technical Trading Systems, 1978"

func referred(f Field, to string) Field {
	f.Reference = to
	return f
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
	f.Takes = ADate
	return f
}

func returned(id, label string, start func(period.Date) period.Date) Field {
	return measured(id, label, Percent, nil, "Last close over the close of the last session on or before the start of the span ("+label+"), less one; dividends are not counted.", label,
		func(b *series.Bars, day period.Date) (float64, cell.Reason) { return b.Return(start(day)), 0 })
}

// reinvested is the return of a span with dividends reinvested.
func reinvested(id, label string, start func(period.Date) period.Date) Field {
	return Field{
		ID: id, Label: "Total " + label, Unit: Percent, Dataset: Bars, With: Dividends, NotFor: noEquity, Span: label,
		Definition: "Last adjusted close over that of the last session on or before the start of the span (" + label + "), less one: the return with dividends reinvested.",
		Tell: func(t *Told) Said {
			if wrong := t.foreign(); wrong != nil {
				return *wrong
			}
			x, whole := t.Payments.Return(t.Bars, start(t.Day))
			if !whole {
				return t.tooShort()
			}
			return Said{Value: cell.Of(x)}
		},
	}
}

// drawn is closes through time, in today's shares and the listing's own currency.
func drawn(id, label string, days period.Date, every series.Interval, definition string) Field {
	return Field{ID: id, Label: label, Unit: Line, Dataset: Bars, Span: label, Definition: definition, Tell: func(t *Told) Said {
		if !spans(t.Bars, t.Day-days) {
			return t.tooShort()
		}
		var text []byte
		for i, x := range t.Bars.Line(t.Day-days, every) {
			if i > 0 {
				text = append(text, ' ')
			}
			text = strconv.AppendFloat(text, x, 'g', 6, 64)
		}
		if len(text) == 0 {
			reason := cell.NotReported
			if t.Listing.EndedBy(t.Day) {
				reason = cell.Ended
			}
			return Said{Reason: reason, Detail: "the last bar is of " + t.Bars.Day[t.Bars.Len()-1].String()}
		}
		return Said{Value: cell.OfText(string(text))}
	}}
}

func adjustedClose(t *Told) Said {
	if wrong := t.foreign(); wrong != nil {
		return *wrong
	}
	i := t.Bars.OnOrBefore(t.date())
	if i < 0 {
		return t.tooShort()
	}
	day := t.Bars.Day[i]
	return Said{Value: cell.Of(t.Bars.Close[i] * t.Payments.Factor(t.Bars, day)), Session: day}
}
