// Package plan works out the fewest requests that bring everything a refresh
// needs, within the limits of the sources. It is pure: the same needs, sources
// and instant give the same plan.
package plan

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Need is one dataset of one listing. A need of the listings dataset is a whole
// exchange: its symbol has no ticker.
type Need struct {
	Dataset  catalogue.Dataset
	Listing  int64
	Symbol   market.Symbol
	Currency string      // that prices must come in
	From, To period.Date // of bars: the range that is lacking
	Held     bool
	Seen     time.Time // when it was last fetched; zero: never
	NotDue   string    // why it need not be asked for; empty when it must be
}

// Offer is how a source serves one dataset.
type Offer struct {
	Dataset         catalogue.Dataset
	Batch           int // most symbols in a request
	UnitsPerRequest int
	UnitsPerSymbol  int
}

// units is what a number of symbols costs in as few requests as the batch allows.
func (o Offer) units(symbols int) int {
	return (symbols+o.Batch-1)/o.Batch*o.UnitsPerRequest + symbols*o.UnitsPerSymbol
}

// Source is what the planner knows of a source.
type Source struct {
	Name       string
	Offers     []Offer
	PerSecond  float64       // requests a second; 0: no limit
	Concurrent int           // requests at once; 0 counts as 1
	Latency    time.Duration // of one request, as observed
	Limited    bool          // there is a daily allowance
	UnitsLeft  int           // of it
	Resets     time.Time     // when it starts anew
}

func (s *Source) offer(d catalogue.Dataset) *Offer {
	for i := range s.Offers {
		if s.Offers[i].Dataset == d {
			return &s.Offers[i]
		}
	}
	return nil
}

// Request is one call to a source.
type Request struct {
	Source   string
	Dataset  catalogue.Dataset
	Needs    []Need
	From, To period.Date
	Units    int
}

// Refusal is a need that the plan cannot meet.
type Refusal struct {
	Need   Need
	Source string
	Reason cell.Reason
	Detail string
}

// Plan is what a refresh will do.
type Plan struct {
	Requests []Request
	Skipped  []Need // not due; each says why
	Refused  []Refusal
	Units    map[string]int           // cost by source
	Time     map[string]time.Duration // expected time by source; they run side by side
}

// Duration is the expected time of the whole plan.
func (p *Plan) Duration() time.Duration {
	var longest time.Duration
	for _, d := range p.Time {
		longest = max(longest, d)
	}
	return longest
}

// Make plans the requests for a set of needs. Sources are in order of preference.
func Make(needs []Need, sources []Source) *Plan {
	p := &Plan{Units: map[string]int{}, Time: map[string]time.Duration{}}
	left := map[string]int{}
	for _, s := range sources {
		left[s.Name] = s.UnitsLeft
	}
	groups := map[catalogue.Dataset][]Need{}
	for _, n := range merged(needs) {
		if n.NotDue != "" {
			p.Skipped = append(p.Skipped, n)
			continue
		}
		groups[n.Dataset] = append(groups[n.Dataset], n)
	}
	for _, d := range append([]catalogue.Dataset{catalogue.Listings}, catalogue.Datasets...) {
		due := groups[d]
		if len(due) == 0 {
			continue
		}
		source := slices.IndexFunc(sources, func(s Source) bool { return s.offer(d) != nil })
		if source < 0 {
			for _, n := range due {
				p.Refused = append(p.Refused, Refusal{Need: n, Reason: cell.NotCovered, Detail: "no source serves " + string(d)})
			}
			continue
		}
		s := &sources[source]
		o := s.offer(d)
		kept := affordable(due, s, o, left[s.Name])
		for _, n := range due[kept:] {
			p.Refused = append(p.Refused, Refusal{n, s.Name, cell.AllowanceSpent, fmt.Sprintf("%d units left of today's; starts anew at %s", left[s.Name], s.Resets.UTC().Format("2006-01-02 15:04"))})
		}
		left[s.Name] -= o.units(kept)
		for batch := range slices.Chunk(due[:kept], o.Batch) {
			p.Requests = append(p.Requests, request(s.Name, o, batch))
		}
	}
	for i := range sources {
		p.estimate(&sources[i])
	}
	return p
}

// merged drops repeated needs, keeping the wider range, and puts them in the
// order in which they matter: held before watched, never fetched before the
// oldest. Bars go by the length of their range first, so that those lacking a
// day do not ask for a year along with those lacking all of it.
func merged(needs []Need) []Need {
	out := slices.Clone(needs)
	slices.SortStableFunc(out, func(a, b Need) int {
		return cmp.Or(cmp.Compare(a.Dataset, b.Dataset), cmp.Compare(a.Symbol.Exchange, b.Symbol.Exchange), cmp.Compare(a.Symbol.Ticker, b.Symbol.Ticker))
	})
	n := 0
	for i, need := range out {
		if i > 0 && need.Dataset == out[n-1].Dataset && need.Symbol == out[n-1].Symbol {
			same := &out[n-1]
			same.Held = same.Held || need.Held
			same.From, same.To = min(same.From, need.From), max(same.To, need.To)
			if need.NotDue == "" {
				same.NotDue = ""
			}
			continue
		}
		out[n] = need
		n++
	}
	out = out[:n]
	slices.SortStableFunc(out, func(a, b Need) int {
		return cmp.Or(cmp.Compare(b.From, a.From), byHeld(a, b), a.Seen.Compare(b.Seen))
	})
	return out
}

func byHeld(a, b Need) int {
	switch {
	case a.Held == b.Held:
		return 0
	case a.Held:
		return -1
	}
	return 1
}

// affordable is how many of the needs, from the first, the allowance pays for.
func affordable(due []Need, s *Source, o *Offer, left int) int {
	if !s.Limited {
		return len(due)
	}
	kept := len(due)
	for kept > 0 && o.units(kept) > left {
		kept--
	}
	return kept
}

func request(source string, o *Offer, batch []Need) Request {
	r := Request{Source: source, Dataset: o.Dataset, Needs: batch, Units: o.units(len(batch)), From: batch[0].From, To: batch[0].To}
	for _, n := range batch {
		r.From, r.To = min(r.From, n.From), max(r.To, n.To)
	}
	return r
}

// estimate is the cost and the least time of a source's requests under its limits.
func (p *Plan) estimate(s *Source) {
	count := 0
	for _, r := range p.Requests {
		if r.Source == s.Name {
			count++
			p.Units[s.Name] += r.Units
		}
	}
	if count == 0 {
		return
	}
	atOnce := max(s.Concurrent, 1)
	rounds := (count + atOnce - 1) / atOnce
	t := time.Duration(rounds) * s.Latency
	if s.PerSecond > 0 {
		t = max(t, time.Duration(float64(count-1)/s.PerSecond*float64(time.Second))+s.Latency)
	}
	p.Time[s.Name] = t
}
