package standin

import (
	"fmt"
	"math"
	"net/http"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Estimate is what analysts expect of a period, beside what became of it.
type Estimate struct {
	End            period.Date
	Year           int
	Part           string  // FY, Q1 to Q4
	EPS            float64 // mean of the estimates of earnings a share, diluted
	High, Low      float64
	Before         [4]float64 // the mean 7, 30, 60 and 90 days ago
	Revenue        float64
	Analysts       int
	Actual         float64 // NaN while it is to come
	ActualReported bool
}

// Estimates of a listing on a day: of the last four quarters with what they became, of
// the next four and of two years ahead; none where no analyst follows it.
func (m *Market) Estimates(l *Listing, day period.Date) (out []Estimate) {
	if l.story.unfollowed || l.YearEnd == "" {
		return nil
	}
	reported := map[string]bool{}
	for _, r := range m.Reports(l, day) {
		reported[fmt.Sprint(r.End, r.Part)] = true
	}
	ahead := m.Accounts(l, day.AddYears(3))
	estimate := func(part string, last, n int) {
		q := ahead[last]
		var income, revenue int64
		for _, x := range ahead[last-n+1 : last+1] {
			income, revenue = income+x.NetIncome(), revenue+x.Revenue
		}
		shares := float64(q.Shares) / splitFactor(l.Splits, q.End) * splitFactor(l.Splits, day)
		actual := float64(income) * 1000 / (shares * 1.01)
		r := m.random("estimate", l.Symbol.String(), q.End.String(), part)
		e := Estimate{End: q.End, Year: q.Year, Part: part, Analysts: 3 + r.IntN(15), Actual: math.NaN()}
		e.EPS = actual * (1 + 0.05*r.NormFloat64())
		e.Revenue = float64(revenue) * 1000 * (1 + 0.02*r.NormFloat64())
		spread := math.Abs(e.EPS) * (0.03 + 0.05*r.Float64())
		e.High, e.Low = e.EPS+spread, e.EPS-spread
		mean := e.EPS
		for i := range e.Before {
			mean *= 1 + 0.01*r.NormFloat64()
			e.Before[i] = mean
		}
		if reported[fmt.Sprint(q.End, part)] {
			e.Actual, e.ActualReported = actual, true
		}
		out = append(out, e)
	}
	next := 0 // the first quarter that is not reported
	for next < len(ahead) && (ahead[next].End <= day && reported[fmt.Sprint(ahead[next].End, fmt.Sprintf("Q%d", ahead[next].Quarter))] || ahead[next].End < day-400) {
		next++
	}
	for i := max(4, next-4); i < min(len(ahead), next+4) && !l.story.halves; i++ {
		estimate(fmt.Sprintf("Q%d", ahead[i].Quarter), i, 1)
	}
	years := 0
	for i := range ahead {
		if ahead[i].Quarter == 4 && ahead[i].End > day-400 && !reported[fmt.Sprint(ahead[i].End, "FY")] && years < 2 && i >= 3 {
			estimate("FY", i, 4)
			years++
		}
	}
	return out
}

func (w *Whimbrel) estimates(_ *http.Request, codes []string) (*answer, *refusal) {
	if len(codes) > whimbrelBatch {
		return nil, &refusal{status: 400, code: "too_many_companies", message: fmt.Sprintf("%d companies; at most %d", len(codes), whimbrelBatch)}
	}
	today := period.DateOf(w.Market.Clock().UTC())
	var b strings.Builder
	b.WriteString("Company,Period end,Fiscal year,Period,Currency,EPS,EPS high,EPS low,Analysts,EPS 7d ago,EPS 30d ago,EPS 60d ago,EPS 90d ago,Revenue,Actual EPS\r\n")
	for _, code := range codes {
		l := w.find(code)
		if l == nil || l.Kind != market.Share || l.story.uncovered {
			continue
		}
		for _, e := range w.Market.Estimates(l, today) {
			actual := "-"
			if e.ActualReported {
				actual = fmt.Sprintf("%.4f", e.Actual)
			}
			fmt.Fprintf(&b, "%s,%s,%d,%s,%s,%.4f,%.4f,%.4f,%d,%.4f,%.4f,%.4f,%.4f,%s,%s\r\n", code, e.End, e.Year, e.Part, w.Market.issuer(l).Currency,
				e.EPS, e.High, e.Low, e.Analysts, e.Before[0], e.Before[1], e.Before[2], e.Before[3], magnitude(e.Revenue), actual)
		}
	}
	return &answer{text: b.String(), contentType: "text/csv; charset=utf-8", units: 10 * len(codes)}, nil
}

// opinions are targets and recommendations, in words and numbers for people.
func (w *Whimbrel) opinions(_ *http.Request, codes []string) (*answer, *refusal) {
	if len(codes) > whimbrelBatch {
		return nil, &refusal{status: 400, code: "too_many_companies", message: fmt.Sprintf("%d companies; at most %d", len(codes), whimbrelBatch)}
	}
	today := period.DateOf(w.Market.Clock().UTC())
	var b strings.Builder
	b.WriteString("Company,Target,Target high,Target low,Mean recommendation,Growth 5y\r\n")
	for _, code := range codes {
		l := w.find(code)
		if l == nil || l.Kind != market.Share || l.story.uncovered || l.story.unfollowed || l.YearEnd == "" {
			continue
		}
		bars := w.Market.BarsIn(l, today-longestBreak, min(today, w.Market.Exchanges.Of(&l.Listing).LastClosed(w.Market.Clock(), 0).Date))
		if bars.Len() == 0 {
			continue
		}
		r := w.Market.random("opinion", l.Symbol.String())
		target := bars.Close[bars.Len()-1] * (1.08 + 0.12*r.NormFloat64())
		fmt.Fprintf(&b, "%s,%.2f,%.2f,%.2f,%.1f,%s\r\n", code, target, target*1.2, target*0.8, 1+4*r.Float64(), percent(0.02+0.05*r.Float64()))
	}
	return &answer{text: b.String(), contentType: "text/csv; charset=utf-8", units: 10 * len(codes)}, nil
}
