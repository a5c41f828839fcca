// Package plan works out the fewest requests that bring everything a refresh
// needs, within the limits of the sources. It is pure: the same needs, sources
// and instant give the same plan.
package plan

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
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
	Kind     market.Kind
	ISIN     string
	Currency string // that prices must come in
	Held     bool
	Visible  bool        // a column on screen needs it
	From, To period.Date // of a dataset with ranges: the days that are wanted
	Seen     time.Time   // when it was last fetched; zero: never
	NotDue   string      // why it need not be asked for; empty when it must be
	Only     string      // the one source that is to be asked; "": by preference
	Along    bool        // fresh, but brought along by a call that is made for another dataset
	Known    []Known     // what is known of the sources that have been asked
}

// Known is what is known of one source for a need.
type Known struct {
	Source  string
	Wait    string       // why it is not to be asked now; empty when it may be
	Reason  cell.Reason  // how it answered last
	Covered period.Spans // days that it has answered already
}

func (n *Need) known(source string) *Known {
	for i := range n.Known {
		if n.Known[i].Source == source {
			return &n.Known[i]
		}
	}
	return nil
}

// LastReason is how a source answered last for the need; NoReason where it
// brought data or has not been asked.
func (n *Need) LastReason(source string) cell.Reason {
	if k := n.known(source); k != nil {
		return k.Reason
	}
	return cell.NoReason
}

// lacking is the span of days that a source has not answered yet. A hole makes
// the span wider than what is missing: one request brings it at no more cost.
func (n *Need) lacking(source string) period.Span {
	wanted := period.Span{From: n.From, To: n.To}
	if k := n.known(source); k != nil && len(k.Covered) > 0 {
		if lacks := k.Covered.Lacking(wanted); len(lacks) > 0 {
			return lacks.Hull()
		}
		return period.Span{From: n.To, To: n.To} // asked again though nothing lacks: the end alone can be new
	}
	return wanted
}

// Takes is what a call is asked with.
type Takes uint8

// What calls take.
const (
	Symbols  Takes = iota // a list of symbols
	Exchange              // an exchange: the answer holds all its listings
	Day                   // an exchange and a day
)

// Call is one way of asking a source.
type Call struct {
	Name            string
	Serves          []catalogue.Dataset
	Kinds           []market.Kind // of listings it serves; nil: all
	Takes           Takes
	Batch           int // most symbols in a request; 0: any number
	Length          int // most characters of all symbols with their separators; 0: any number
	Days            int // longest range in a request; 0: any
	Pages           int // that a request takes at most, where each waits for its turn; 0: one
	UnitsPerRequest int
	UnitsPerSymbol  int
}

func (c *Call) serves(d catalogue.Dataset) bool { return slices.Contains(c.Serves, d) }

func (c *Call) has(k market.Kind) bool { return c.Kinds == nil || slices.Contains(c.Kinds, k) }

// Source is what the planner knows of a source.
type Source struct {
	Name       string
	Calls      []Call
	Covers     func(market.Symbol) bool // nil: every symbol
	Length     func(market.Symbol) int  // characters that it takes in a list, separator included; nil: 1
	Closed     string                   // why it cannot be asked at all; empty when it can
	PerSecond  float64                  // requests a second; 0: no limit
	Concurrent int                      // requests at once; 0 counts as 1
	Latency    time.Duration            // of one request, as observed
	Limited    bool                     // there is a daily allowance
	UnitsLeft  int                      // of it
	Resets     time.Time                // when it starts anew
}

// Offers tells whether the source serves a need.
func (s *Source) Offers(n *Need) bool {
	if n.Only != "" && n.Only != s.Name || s.Covers != nil && n.Dataset != catalogue.Listings && !s.Covers(n.Symbol) {
		return false
	}
	return slices.ContainsFunc(s.Calls, func(c Call) bool { return c.serves(n.Dataset) && c.has(n.Kind) })
}

// World is what a plan is made for.
type World struct {
	Sources   []Source                       // in order of preference
	Prefer    map[catalogue.Dataset][]string // a different order for a dataset
	Exchanges market.Exchanges               // whose calendars say which days were sessions
}

// order lists the sources for a dataset, as indices.
func (w *World) order(d catalogue.Dataset) []int {
	order := make([]int, 0, len(w.Sources))
	for _, name := range w.Prefer[d] {
		if i := slices.IndexFunc(w.Sources, func(s Source) bool { return s.Name == name }); i >= 0 && !slices.Contains(order, i) {
			order = append(order, i)
		}
	}
	for i := range w.Sources {
		if !slices.Contains(order, i) {
			order = append(order, i)
		}
	}
	return order
}

// Request is one call to a source.
type Request struct {
	Source   string
	Call     string
	Needs    []Need
	From, To period.Date // of a dataset with ranges
	Exchange string      // of a call that takes one
	Units    int
}

// Datasets lists what the request brings, the first in the order of fetching first.
func (r *Request) Datasets() []catalogue.Dataset {
	var out []catalogue.Dataset
	for i := range r.Needs {
		if d := r.Needs[i].Dataset; !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(a, b catalogue.Dataset) int { return cmp.Compare(catalogue.Rank(a), catalogue.Rank(b)) })
	return out
}

// Symbols lists the symbols asked for, each once, in the order of the needs.
func (r *Request) Symbols() []market.Symbol {
	seen := make(map[market.Symbol]bool, len(r.Needs))
	var out []market.Symbol
	for i := range r.Needs {
		if s := r.Needs[i].Symbol; !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
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

// Make plans the requests for a set of needs.
//
// Each need goes to the most preferred source that serves it and may be asked;
// where a source's allowance does not suffice, its most valuable needs stay and
// the others go to the next source, or are refused.
func Make(needs []Need, w *World) *Plan {
	p := &Plan{Units: map[string]int{}, Time: map[string]time.Duration{}}
	pending := make([]pendingNeed, 0, len(needs))
	for _, n := range merged(needs) {
		if n.NotDue != "" {
			p.Skipped = append(p.Skipped, n)
			continue
		}
		pending = append(pending, pendingNeed{Need: n})
	}
	assigned := make([][]pendingNeed, len(w.Sources))
	plans := make([][]Request, len(w.Sources))
	orders := map[catalogue.Dataset][]int{}
	for len(pending) > 0 {
		grown := map[int]bool{}
		for _, n := range pending {
			if _, known := orders[n.Dataset]; !known {
				orders[n.Dataset] = w.order(n.Dataset)
			}
			if i, ok := n.next(orders[n.Dataset], w); ok {
				assigned[i] = append(assigned[i], n)
				grown[i] = true
				continue
			}
			p.drop(&n)
		}
		pending = nil
		for i := range w.Sources {
			if !grown[i] {
				continue
			}
			slices.SortStableFunc(assigned[i], byValue)
			kept, requests := affordable(assigned[i], &w.Sources[i], w)
			for _, n := range assigned[i][kept:] {
				n.refuse(w.Sources[i].Name, cell.AllowanceSpent, fmt.Sprintf("%d units left of today's; starts anew at %s", w.Sources[i].UnitsLeft, w.Sources[i].Resets.UTC().Format("2006-01-02 15:04")))
				pending = append(pending, n)
			}
			assigned[i], plans[i] = assigned[i][:kept], requests
		}
	}
	for i := range w.Sources {
		p.Requests = append(p.Requests, plans[i]...)
		p.estimate(&w.Sources[i], plans[i])
		p.skipIdle(assigned[i], plans[i])
	}
	p.bringAlong(w)
	slices.SortStableFunc(p.Requests, func(a, b Request) int { return byWorth(&a.Needs[0], &b.Needs[0]) })
	return p
}

// bringAlong adds to requests what they bring anyway, though it is still fresh:
// who fetches the bars of a day on which shares were split learns of the split.
func (p *Plan) bringAlong(w *World) {
	type name struct {
		dataset catalogue.Dataset
		symbol  market.Symbol
	}
	fresh := map[name]*Need{}
	for i := range p.Skipped {
		if n := &p.Skipped[i]; n.Only == "" && !n.Shared() && n.To == 0 {
			fresh[name{n.Dataset, n.Symbol}] = n
		}
	}
	for i := range p.Requests {
		r := &p.Requests[i]
		s := &w.Sources[slices.IndexFunc(w.Sources, func(s Source) bool { return s.Name == r.Source })]
		c := &s.Calls[slices.IndexFunc(s.Calls, func(c Call) bool { return c.Name == r.Call })]
		if len(c.Serves) < 2 || c.Takes != Symbols {
			continue
		}
		for _, symbol := range r.Symbols() {
			for _, d := range c.Serves {
				if n := fresh[name{d, symbol}]; n != nil {
					along := *n
					along.Along = true
					r.Needs = append(r.Needs, along)
					delete(fresh, name{d, symbol})
				}
			}
		}
	}
}

// skipIdle skips needs for which there is nothing to ask: no session lies in the
// days that they lack, and the source answers day by day.
func (p *Plan) skipIdle(assigned []pendingNeed, requests []Request) {
	type name struct {
		dataset catalogue.Dataset
		symbol  market.Symbol
		only    string
	}
	asked := make(map[name]bool, len(assigned))
	for _, r := range requests {
		for i := range r.Needs {
			asked[name{r.Needs[i].Dataset, r.Needs[i].Symbol, r.Needs[i].Only}] = true
		}
	}
	for _, n := range assigned {
		if !asked[name{n.Dataset, n.Symbol, n.Only}] {
			n.NotDue = "no session in the days that lack"
			p.Skipped = append(p.Skipped, n.Need)
		}
	}
}

// pendingNeed is a need on its way through the sources.
type pendingNeed struct {
	Need
	tried   int // how many of the sources have been passed by
	refusal Refusal
}

func (n *pendingNeed) refuse(source string, reason cell.Reason, detail string) {
	if n.refusal.Reason == cell.NoReason || reason == cell.AllowanceSpent {
		n.refusal = Refusal{Source: source, Reason: reason, Detail: detail}
	}
}

// next is the next source in order that can be asked.
func (n *pendingNeed) next(order []int, w *World) (int, bool) {
	for ; n.tried < len(order); n.tried++ {
		s := &w.Sources[order[n.tried]]
		if !s.Offers(&n.Need) {
			continue
		}
		if s.Closed != "" {
			n.refuse(s.Name, cell.SourceDown, s.Closed)
			continue
		}
		if k := n.known(s.Name); k != nil && k.Wait != "" {
			if n.refusal.Reason == cell.NoReason {
				n.NotDue = k.Wait
			}
			continue
		}
		n.tried++
		return order[n.tried-1], true
	}
	return 0, false
}

// drop records a need that no source is left for.
func (p *Plan) drop(n *pendingNeed) {
	switch {
	case n.refusal.Reason != cell.NoReason:
		n.NotDue = ""
		n.refusal.Need = n.Need
		p.Refused = append(p.Refused, n.refusal)
	case n.Only != "" && n.NotDue == "":
		n.NotDue = n.Only + " does not serve it"
		p.Skipped = append(p.Skipped, n.Need)
	case n.NotDue != "":
		p.Skipped = append(p.Skipped, n.Need)
	default:
		p.Refused = append(p.Refused, Refusal{Need: n.Need, Reason: cell.NotCovered, Detail: "no source serves " + string(n.Dataset) + " of it"})
	}
}

// merged drops repeated needs, keeping the wider range.
func merged(needs []Need) []Need {
	out := slices.Clone(needs)
	slices.SortStableFunc(out, func(a, b Need) int {
		return cmp.Or(cmp.Compare(a.Dataset, b.Dataset), strings.Compare(a.Only, b.Only), bySymbol(&a, &b))
	})
	n := 0
	for i, need := range out {
		if i > 0 && need.Dataset == out[n-1].Dataset && need.Symbol == out[n-1].Symbol && need.Only == out[n-1].Only {
			same := &out[n-1]
			same.Held = same.Held || need.Held
			same.Visible = same.Visible || need.Visible
			same.From, same.To = min(same.From, need.From), max(same.To, need.To)
			if need.NotDue == "" {
				same.NotDue = ""
			}
			continue
		}
		out[n] = need
		n++
	}
	return out[:n]
}

func bySymbol(a, b *Need) int {
	return cmp.Or(strings.Compare(a.Symbol.Exchange, b.Symbol.Exchange), strings.Compare(a.Symbol.Ticker, b.Symbol.Ticker))
}

// byWorth puts needs in the order in which they matter: held before watched, what
// is on screen first, quotes before slow datasets, never fetched before the oldest.
func byWorth(a, b *Need) int {
	return cmp.Or(first(a.Held, b.Held), first(a.Visible, b.Visible), cmp.Compare(catalogue.Rank(a.Dataset), catalogue.Rank(b.Dataset)), a.Seen.Compare(b.Seen))
}

func byValue(a, b pendingNeed) int {
	return cmp.Or(byWorth(&a.Need, &b.Need), bySymbol(&a.Need, &b.Need))
}

func first(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// affordable is how many of the needs, from the most valuable, the allowance pays
// for, and the requests for them.
func affordable(due []pendingNeed, s *Source, w *World) (int, []Request) {
	planned := func(n int) ([]Request, int) {
		needs := make([]Need, n)
		for i := range needs {
			needs[i] = due[i].Need
		}
		requests := cover(needs, s, w)
		units := 0
		for _, r := range requests {
			units += r.Units
		}
		return requests, units
	}
	requests, units := planned(len(due))
	if !s.Limited || units <= s.UnitsLeft {
		return len(due), requests
	}
	kept := sort.Search(len(due), func(n int) bool { _, units := planned(n + 1); return units > s.UnitsLeft })
	requests, _ = planned(kept)
	return kept, requests
}

// estimate is the cost and the least time of a source's requests under its limits.
func (p *Plan) estimate(s *Source, requests []Request) {
	if len(requests) == 0 {
		return
	}
	for _, r := range requests {
		p.Units[s.Name] += r.Units
	}
	count, atOnce := 0, max(s.Concurrent, 1)
	for _, r := range requests {
		i := slices.IndexFunc(s.Calls, func(c Call) bool { return c.Name == r.Call })
		count += max(1, s.Calls[i].Pages)
	}
	rounds := (count + atOnce - 1) / atOnce
	t := time.Duration(rounds) * s.Latency
	if s.PerSecond > 0 {
		t = max(t, time.Duration(float64(count-1)/s.PerSecond*float64(time.Second))+s.Latency)
	}
	p.Time[s.Name] = t
}
