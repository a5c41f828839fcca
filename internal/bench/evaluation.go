package main

import (
	"fmt"
	"math"
	"runtime"
	"slices"
	"sort"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
)

// evaluation compares the derived fields of 10,000 listings with loops written
// by hand over the same arrays, which know no states, reasons or sources.
func (b *bench) evaluation() error {
	const rows = 10_000
	saturday := time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)
	var refs []formula.Ref
	for _, id := range slices.Concat(reckonedByHand, accountsByHand) {
		refs = append(refs, formula.Ref{ID: id})
	}
	program, err := table.Compile(refs, "", nil)
	if err != nil {
		return err
	}
	records := b.records(rows, saturday)
	program.Evaluate(records, saturday, freshness.Standard) // what the reports add up to is remembered
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	program.Evaluate(records, saturday, freshness.Standard)
	runtime.ReadMemStats(&after)
	allocations := float64(after.Mallocs-before.Mallocs) / float64(rows*len(refs))
	ours := best(5, func() { program.Evaluate(records, saturday, freshness.Standard) })
	sink := make([]float64, rows*len(refs))
	theirs := best(5, func() { byHand(records, sink, len(refs), period.DateOf(saturday)) })
	if err := alike(program.Evaluate(records[:100], saturday, freshness.Standard), sink, len(refs), slices.Index(reckonedByHand, "holding.weight")); err != nil {
		return err
	}
	b.add(line{"B5", fmt.Sprintf("evaluate %d listings × %d derived fields (a year of bars and seven years of accounts each)", rows, len(refs)), seconds(ours), "fused loops by hand over the same arrays, " + seconds(theirs), times(ours, theirs), "≤ 3"})
	b.add(line{"B5", "allocations a cell, once accounts have been read", fmt.Sprintf("%.4f", allocations), "none", fmt.Sprintf("%.4f", allocations), "0"})
	return nil
}

func best(of int, f func()) time.Duration {
	times := make([]time.Duration, of)
	for i := range times {
		began := time.Now()
		f()
		times[i] = time.Since(began)
	}
	sort.Slice(times, func(i, j int) bool { return times[i] < times[j] })
	return times[0]
}

func (b *bench) records(rows int, now time.Time) []*table.Record {
	e := b.exchanges["XCVH"]
	last := e.LastClosed(now, 0)
	days := e.Sessions(last.Date.AddDays(-380), last.Date)
	records := make([]*table.Record, rows)
	for i := range records {
		bars := &series.Bars{}
		for j, d := range days {
			x := 30 + 5*math.Sin(float64(i+j)/7)
			bars.Append(d, x, x+1, x-1, x, 1000)
		}
		quote := &table.Observation{Source: "gannet", Observed: last.Close, Fetched: now, Values: make([]cell.Value, len(catalogue.ObservedIn(catalogue.Quotes)))}
		for k := range quote.Values {
			quote.Values[k] = cell.Of(30 + float64(k))
		}
		quote.Values[catalogue.Find("quote.last").Slot()] = cell.Of(bars.Close[bars.Len()-1])
		holding := &table.Observation{Source: "gannet", Observed: last.Close, Fetched: now, Values: []cell.Value{cell.Of(100), cell.Of(25)}}
		r := &table.Record{
			Listing: &market.Listing{ID: int64(i), Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Kind: market.Share, Currency: "EUR"}, Exchange: e, Held: true,
		}
		give := func(d catalogue.Dataset, g table.Given) { r.Feeds[table.FeedOf(d)].From = []table.Given{g} }
		give(catalogue.Quotes, table.Given{Source: "gannet", Observation: quote})
		give(catalogue.Holdings, table.Given{Source: "you", Observation: holding})
		give(catalogue.Bars, table.Given{Source: "gannet", Observation: &table.Observation{Source: "gannet", Observed: last.Close, Fetched: now}, Bars: bars})
		give(catalogue.Statements, table.Given{Source: "whimbrel", Observation: &table.Observation{Source: "whimbrel", Observed: last.Close, Fetched: now}, Accounts: statement.New(reports(i), nil)})
		records[i] = r
	}
	return records
}

func given(r *table.Record, d catalogue.Dataset) *table.Given {
	return &r.Feeds[table.FeedOf(d)].From[0]
}

// reckonedByHand are the fields that byHand computes, in its order: all that are
// derived from quotes, holdings and a year of bars.
var reckonedByHand = []string{
	"quote.change", "quote.change_pct", "quote.spread_pct", "price.latest",
	"price.open", "price.high", "price.low", "price.close", "price.volume",
	"price.high_52w", "price.low_52w", "price.range_position", "price.range_width",
	"price.return_1w", "price.return_4w", "price.return_13w", "price.return_26w", "price.return_52w", "price.return_ytd",
	"price.volatility_1y", "price.drawdown_1y", "price.average_volume_13w",
	"holding.cost_basis", "holding.market_value", "holding.gain", "holding.gain_pct", "holding.day_change", "holding.weight",
	"price.sma_50", "price.sma_200", "price.ema_20", "price.rsi_14", "price.atr_14",
}

// byHand computes the same numbers as the catalogue's derived fields, each
// listing's in one go, with a single pass over its year of bars.
func byHand(records []*table.Record, out []float64, width int, today period.Date) {
	slot := func(id string) int { return catalogue.Find(id).Slot() }
	lastAt, previousAt, bidAt, askAt := slot("quote.last"), slot("quote.previous_close"), slot("quote.bid"), slot("quote.ask")
	yearAgo, quarterAgo, total := today.AddYears(-1), today.AddDays(-91), 0.0
	starts := []period.Date{today.AddDays(-7), today.AddDays(-28), quarterAgo, today.AddDays(-182), today.AddDays(-364), period.MakeDate(today.Time().Year(), 1, 1).AddDays(-1)}
	for i, r := range records {
		o := out[i*width : (i+1)*width]
		q, h := given(r, catalogue.Quotes).Observation.Values, given(r, catalogue.Holdings).Observation.Values
		last, previous, bid, ask, quantity, cost := q[lastAt].Num, q[previousAt].Num, q[bidAt].Num, q[askAt].Num, h[0].Num, h[1].Num
		b := given(r, catalogue.Bars).Bars
		n := len(b.Day)
		from := sort.Search(n, func(j int) bool { return b.Day[j] > yearAgo })
		high, low, peak, fall := b.High[from], b.Low[from], b.Close[from], 0.0
		mean, squares, volume, count, sessions := 0.0, 0.0, 0.0, 0.0, 0.0
		for j := from; j < n; j++ {
			high, low, peak = math.Max(high, b.High[j]), math.Min(low, b.Low[j]), math.Max(peak, b.Close[j])
			fall = math.Min(fall, b.Close[j]/peak-1)
			if j > from {
				x := math.Log(b.Close[j] / b.Close[j-1])
				count++
				d := x - mean
				mean += d / count
				squares += d * (x - mean)
			}
			if b.Day[j] > quarterAgo {
				volume += b.Volume[j]
				sessions++
			}
		}
		o[0], o[1], o[2], o[3] = last-previous, (last-previous)/previous, (ask-bid)/((ask+bid)/2), last
		o[4], o[5], o[6], o[7], o[8] = b.Open[n-1], b.High[n-1], b.Low[n-1], b.Close[n-1], b.Volume[n-1]
		o[9], o[10], o[11], o[12] = high, low, (last-low)/(high-low), high/low-1
		for k, start := range starts {
			j := sort.Search(n, func(j int) bool { return b.Day[j] > start }) - 1
			o[13+k] = b.Close[n-1]/b.Close[j] - 1
		}
		o[19], o[20], o[21] = math.Sqrt(squares/(count-1))*math.Sqrt(252), fall, volume/sessions
		o[22], o[23], o[24], o[25], o[26] = quantity*cost, quantity*last, quantity*(last-cost), (last-cost)/cost, quantity*(last-previous)
		total += o[23]
		weighted, gain, loss, rangeOf := 0.0, 0.0, 0.0, 0.0
		for j := from; j < n; j++ {
			k := j - from // sessions of the year before it
			c := b.Close[j]
			if k < 20 {
				weighted += c / 20
			} else {
				weighted += (c - weighted) * 2 / 21
			}
			if k == 0 {
				continue
			}
			up, down := math.Max(c-b.Close[j-1], 0), math.Max(b.Close[j-1]-c, 0)
			x := math.Max(b.High[j]-b.Low[j], math.Max(math.Abs(b.High[j]-b.Close[j-1]), math.Abs(b.Low[j]-b.Close[j-1])))
			if k <= 14 {
				gain, loss, rangeOf = gain+up/14, loss+down/14, rangeOf+x/14
			} else {
				gain, loss, rangeOf = (gain*13+up)/14, (loss*13+down)/14, (rangeOf*13+x)/14
			}
		}
		fifty, twoHundred := 0.0, 0.0
		for j := n - 200; j < n; j++ {
			twoHundred += b.Close[j]
			if j >= n-50 {
				fifty += b.Close[j]
			}
		}
		o[28], o[29], o[30], o[31], o[32] = fifty/50, twoHundred/200, weighted, 100-100/(1+gain/loss), rangeOf
		readByHand(given(r, catalogue.Statements).Accounts.Reports, last, o[len(reckonedByHand):])
	}
	for i := range records {
		out[i*width+27] = out[i*width+23] / total
	}
}
