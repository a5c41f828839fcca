package catalogue

import (
	"math"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/estimate"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

// estimateFields are what analysts expect. Without a period they are of the twelve
// months ahead.
var estimateFields = []Field{
	expected("estimate.eps", "Earnings a share expected", Price, estimate.EPS, "Mean of the estimates of diluted earnings a share; of the twelve months ahead unless a period is named."),
	expected("estimate.eps_high", "Highest estimate", Price, estimate.High, "Highest estimate of earnings a share."),
	expected("estimate.eps_low", "Lowest estimate", Price, estimate.Low, "Lowest estimate of earnings a share."),
	expected("estimate.revenue", "Revenue expected", Money, estimate.Revenue, "Mean of the estimates of revenue."),
	expected("estimate.revenue_high", "Highest revenue expected", Money, estimate.RevenueHigh, "Highest estimate of revenue."),
	expected("estimate.revenue_low", "Lowest revenue expected", Money, estimate.RevenueLow, "Lowest estimate of revenue."),
	followed("estimate.eps_analysts", "Analysts", estimate.Analysts, "How many estimate the earnings of a period; of the next fiscal year unless another is named."),
	followed("estimate.revenue_analysts", "Analysts of revenue", estimate.RevenueAnalysts, "How many estimate the revenue of a period; of the next fiscal year unless another is named."),
	estimated("estimate.eps_revision_30d", "Revision, 30 days", Percent, "Mean estimate of earnings a share against that of 30 days ago; of the next fiscal year unless another period is named.", func(t *Told) Said {
		p := nextYear(t.Period)
		now, label, ok := t.Outlook.Of(estimate.EPS, p, t.Day)
		before, _, known := t.Outlook.Of(estimate.Before30, p, t.Day)
		if ok && known && before <= 0 {
			return Said{Reason: cell.NotApplicable, Detail: "what was expected before is not above zero", Period: label}
		}
		return foreseen(now/before-1, label, ok && known)
	}),
	taking(AFiscal, estimated("estimate.surprise", "Surprise", Percent, "Earnings a share of a reported quarter less what was expected of it, over the size of that; of the newest unless another is named (Q-1).", func(t *Told) Said {
		if k := t.Period.Kind(); k != period.Latest && k != period.Quarter {
			return Said{Reason: cell.NotApplicable, Detail: "quarters alone are compared with what was expected: write Q, Q-1 and so on"}
		}
		x, label, ok := t.Outlook.Surprise(-t.Period.Offset())
		return foreseen(x, label, ok)
	})),
	opinion("estimate.target", "Target", Price, "target", "Mean of the prices that analysts aim at."),
	opinion("estimate.target_high", "Highest target", Price, "target_high", "Highest price that an analyst aims at."),
	opinion("estimate.target_low", "Lowest target", Price, "target_low", "Lowest price that an analyst aims at."),
	opinion("estimate.recommendation", "Recommendation", Ratio, "recommendation", "Mean recommendation, from 1 (strong buy) to 5 (sell)."),
	opinion("estimate.growth_5y", "Growth expected", Percent, "growth_5y", "Growth of earnings a year that is expected over five years."),
	toldColumn("estimate.next_report_date", "Next report", Date, Opinions, "next_report", entry.Entries.LastBy, "Day on which the next report is expected."),
	valued("estimate.upside", "Target over price", Percent, "over(estimate.target, price.latest) - 1", "Mean target over the latest price, less one."),
	valued("value.pe_forward", "Price/earnings ahead", Ratio, "over(price.latest, own(estimate.eps))", "Latest price over the earnings a share that are expected of the twelve months ahead."),
	valued("value.peg", "PEG", Ratio, "over(value.pe, 100 * estimate.growth_5y)", "Price/earnings over the growth that is expected over five years, in per cent."),
}

// opinion is a field read off the newest opinions of analysts by a day.
func opinion(id, label string, unit Unit, column, definition string) Field {
	at := columnOf(Opinions, column)
	f := told(id, label, unit, Opinions, definition, func(t *Told) Said {
		e := t.Entries.LastBy(t.date())
		if e == nil {
			return Said{Reason: cell.NotReported, Detail: "no opinion of an analyst is known by " + t.date().String()}
		}
		v := e.Values[at]
		if column == "recommendation" {
			v = MeanOpinion(e)
		}
		if v.Kind == cell.None {
			return Said{Reason: cell.NotReported, Period: e.Day.String()}
		}
		return Said{Value: v, Period: e.Day.String()}
	})
	f.Takes = ADate
	return f
}

// MeanOpinion is the mean recommendation of a record, from 1 (strong buy) to 5 (sell):
// what the source says, or else counted; nothing where nobody has one.
func MeanOpinion(e *entry.Entry) cell.Value {
	if v := e.Values[columnOf(Opinions, "recommendation")]; v.Kind == cell.Number {
		return v
	}
	sum, count := 0.0, 0.0
	for i, name := range []string{"strong_buy", "buy", "hold", "reduce", "sell"} {
		n := e.Values[columnOf(Opinions, name)].Num
		sum, count = sum+float64(i+1)*n, count+n
	}
	if count == 0 {
		return cell.Value{}
	}
	return cell.Of(sum / count)
}

// estimated is a field read off the estimates.
func estimated(id, label string, unit Unit, definition string, tell func(*Told) Said) Field {
	f := told(id, label, unit, Estimates, definition, tell)
	f.Takes = APeriodAhead
	return f
}

func expected(id, label string, unit Unit, line estimate.Line, definition string) Field {
	return estimated(id, label, unit, definition, func(t *Told) Said {
		p := t.Period
		if p == (period.Period{}) {
			p = period.AheadTwelveMonths
		}
		x, label, ok := t.Outlook.Of(line, p, t.Day)
		return foreseen(x, label, ok)
	})
}

// followed is how many analysts estimate a line.
func followed(id, label string, line estimate.Line, definition string) Field {
	return estimated(id, label, Count, definition, func(t *Told) Said {
		x, label, ok := t.Outlook.Of(line, nextYear(t.Period), t.Day)
		return foreseen(x, label, ok)
	})
}

// nextYear is the next fiscal year where no period is named.
func nextYear(p period.Period) period.Period {
	if p == (period.Period{}) {
		return period.NextYear
	}
	return p
}

func foreseen(x float64, label string, ok bool) Said {
	if !ok || math.IsNaN(x) {
		return Said{Reason: cell.NotReported, Detail: "no analyst estimates it", Period: label}
	}
	return Said{Value: cell.Of(x), Period: label, Flags: cell.Estimate}
}

// Outlook reads estimates off their records, the nearest period first.
func Outlook(entries entry.Entries) (out estimate.Outlook) {
	first := columnOf(Estimates, "eps")
	year, currency, part := columnOf(Estimates, "year"), columnOf(Estimates, "currency"), columnOf(Estimates, "part")
	for i := range entries {
		v := entries[i].Values
		p, err := statement.ParsePart(v[part].Text)
		if err != nil {
			continue
		}
		e := estimate.Estimate{End: entries[i].Day, Year: int(v[year].Num), Part: p, Currency: v[currency].Text}
		for k := range e.Values {
			e.Values[k] = math.NaN()
			if x := v[first+k]; x.Kind == cell.Number {
				e.Values[k] = x.Num
			}
		}
		out = append(out, e)
	}
	return out
}
