package standin

import (
	"fmt"
	"math"
	"net/http"
	"strings"

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
	return w.listing(codes, "Company,Period end,Fiscal year,Period,Currency,EPS,EPS high,EPS low,Analysts,EPS 7d ago,EPS 30d ago,EPS 60d ago,EPS 90d ago,Revenue,Revenue high,Revenue low,Revenue analysts,Actual EPS", func(b *strings.Builder, code string, l *Listing, today period.Date) {
		for _, e := range w.Market.Estimates(l, today) {
			actual := "-"
			if e.ActualReported {
				actual = fmt.Sprintf("%.4f", e.Actual)
			}
			fmt.Fprintf(b, "%s,%s,%d,%s,%s,%.4f,%.4f,%.4f,%d,%.4f,%.4f,%.4f,%.4f,%s,%s,%s,%d,%s\r\n", code, e.End, e.Year, e.Part, w.Market.issuer(l).Currency,
				e.EPS, e.High, e.Low, e.Analysts, e.Before[0], e.Before[1], e.Before[2], e.Before[3], magnitude(e.Revenue), magnitude(e.Revenue*1.04), magnitude(e.Revenue*0.96), max(1, e.Analysts-1), actual)
		}
	})
}

// Opinion is what analysts say of a share on the first day of a month.
type Opinion struct {
	Day                       period.Date
	Say                       [5]int // strong buy, buy, hold, reduce, sell
	Target, High, Low, Growth float64
	NextReport                period.Date // 0 where it is not known
}

// opinionMonths is how many months of opinions the vendor keeps.
const opinionMonths = 12

// Opinions of a listing over the last months, the oldest first; none where no analyst
// follows it.
func (m *Market) Opinions(l *Listing, today period.Date) (out []Opinion) {
	if l.story.unfollowed || l.YearEnd == "" {
		return nil
	}
	next := period.Date(0)
	for _, a := range m.Accounts(l, today.AddYears(1)) {
		part := fmt.Sprintf("Q%d", a.Quarter)
		if l.story.halves {
			part = map[int]string{2: "H1", 4: "FY"}[a.Quarter]
		}
		if r := m.report(l, []Accounts{a}, part); r.Filed > today && part != "" {
			next = r.Filed
			break
		}
	}
	first := period.MakeDate(today.Time().Year(), today.Time().Month(), 1)
	for back := opinionMonths - 1; back >= 0; back-- {
		day := first.AddMonths(-back)
		bars := m.BarsIn(l, day-longestBreak, min(day, m.Exchanges.Of(&l.Listing).LastClosed(m.Clock(), 0).Date))
		if bars.Len() == 0 {
			continue
		}
		r := m.random("opinion", l.Symbol.String(), day.String())
		o := Opinion{Day: day, NextReport: next}
		for i, mean := range []float64{3, 5, 4, 1.5, 0.5} {
			o.Say[i] = int(mean * 2 * r.Float64())
		}
		o.Target = bars.Close[bars.Len()-1] * (1.08 + 0.12*m.random("target", l.Symbol.String()).NormFloat64())
		o.High, o.Low, o.Growth = o.Target*1.2, o.Target*0.8, 0.02+0.05*m.random("growth", l.Symbol.String()).Float64()
		out = append(out, o)
	}
	return out
}

// mean of opinions from 1 to 5; NaN where nobody has one.
func (o *Opinion) mean() float64 {
	sum, count := 0, 0
	for i, n := range o.Say {
		sum, count = sum+(i+1)*n, count+n
	}
	return float64(sum) / float64(count)
}

// opinions are targets and recommendations, month by month.
func (w *Whimbrel) opinions(_ *http.Request, codes []string) (*answer, *refusal) {
	return w.listing(codes, "Company,Month,Strong buy,Buy,Hold,Reduce,Sell,Mean recommendation,Target,Target high,Target low,Growth 5y,Next results", func(b *strings.Builder, code string, l *Listing, today period.Date) {
		for _, o := range w.Market.Opinions(l, today) {
			next := "-"
			if o.NextReport != 0 {
				next = o.NextReport.String()
			}
			mean := "n/a"
			if x := o.mean(); !math.IsNaN(x) {
				mean = fmt.Sprintf("%.2f", x)
			}
			fmt.Fprintf(b, "%s,%s,%d,%d,%d,%d,%d,%s,%.2f,%.2f,%.2f,%s,%s\r\n", code, o.Day, o.Say[0], o.Say[1], o.Say[2], o.Say[3], o.Say[4], mean, o.Target, o.High, o.Low, percent(o.Growth), next)
		}
	})
}
