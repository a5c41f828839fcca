package history

import (
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
)

// within answers a query for bars within the day. They begin with the session, and
// are as wide as was asked, or as the source's where it has none so narrow.
func (p *Prices) within(q Query, now time.Time, limits freshness.Limits) *Prices {
	r := p.Record
	p.Times = []time.Time{}
	if !catalogue.Info(catalogue.Intraday).Has(r.Listing.Kind) {
		p.Account = cell.Gap(cell.NotApplicable, "no bars within the day exist for a "+string(r.Listing.Kind))
		return p
	}
	account, given := r.Account(catalogue.Intraday, now, limits)
	p.Account = account
	if !p.clip(&q, r.Exchange.Today(now)) || given == nil {
		return p
	}
	width, step := q.Within, given.Step
	switch {
	case width < step:
		p.remark("the narrowest bars of %s are of %s", given.Source, minutes(step))
		width = step
	case width%step != 0:
		p.remark("bars of %s do not add up to %s; these are of %s", minutes(step), minutes(width), minutes(step))
		width = step
	}
	bars := given.Bars
	if q.Adjust == Raw {
		bars = bars.AsTraded(given.Splits)
	}
	if begin := bars.Day[0]; q.From < begin {
		p.remark("bars within the day are known from %s on", begin)
	}
	from := bars.OnOrBefore(q.From-1) + 1
	asked := bars.Slice(from, max(from, bars.OnOrBefore(q.To)+1))
	times := given.Times[from:]
	begins := func(i int) time.Time {
		open := r.Exchange.SessionOn(asked.Day[i]).Open
		return open.Add(times[i].Sub(open).Truncate(width))
	}
	sums, starts := asked.Grouped(func(i, j int) bool { return begins(i).Equal(begins(j)) })
	p.Bars = sums
	for _, i := range starts {
		p.Times = append(p.Times, begins(i).UTC())
	}
	p.Partial = make([]bool, sums.Len())
	if n := sums.Len(); n > 0 {
		ends := p.Times[n-1].Add(width)
		if s := r.Exchange.SessionOn(sums.Day[n-1]); ends.After(s.Close) {
			ends = s.Close
		}
		p.Partial[n-1] = times[asked.Len()-1].Add(step).Before(ends)
	} else if len(p.Remarks) == 0 {
		p.remark("%s", silence(r, q))
	}
	return p
}

// minutes writes a width as it is asked for.
func minutes(d time.Duration) string {
	text := strings.TrimSuffix(d.String(), "0s")
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}
