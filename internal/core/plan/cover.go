package plan

import (
	"cmp"
	"slices"
	"sort"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// cost is what requests cost, in the order in which costs are compared.
type cost struct{ units, requests int }

func (c cost) plus(d cost) cost { return cost{c.units + d.units, c.requests + d.requests} }

func (c cost) less(d cost) bool {
	return c.units < d.units || c.units == d.units && c.requests < d.requests
}

// cover finds the cheapest requests of one source that meet needs. The needs are
// in the order in which they matter.
func cover(needs []Need, s *Source, w *World) []Request {
	byCall := choose(needs, s)
	var requests []Request
	for i, group := range byCall {
		if len(group) > 0 {
			requests = append(requests, spread(group, &s.Calls[i], s, w)...)
		}
	}
	return requests
}

// choose gives each need to a call that takes symbols, or where its dataset has
// none to one that takes exchanges. A call that serves several datasets at once
// is chosen for the listings that need the same of them when that costs less.
func choose(needs []Need, s *Source) [][]Need {
	// Listings that lack the same datasets form a class: what is best for one is
	// best for all.
	type class struct {
		datasets []catalogue.Dataset
		kind     market.Kind
		needs    []Need
		listings int
	}
	joint := map[catalogue.Dataset]bool{} // datasets that some call serves along with others
	for _, c := range s.Calls {
		if len(c.Serves) > 1 {
			for _, d := range c.Serves {
				joint[d] = true
			}
		}
	}
	byListing := map[market.Symbol][]Need{}
	var symbols []market.Symbol
	out := make([][]Need, len(s.Calls))
	for _, n := range needs {
		if joint[n.Dataset] {
			if _, known := byListing[n.Symbol]; !known {
				symbols = append(symbols, n.Symbol)
			}
			byListing[n.Symbol] = append(byListing[n.Symbol], n)
			continue
		}
		best := -1
		for i := range s.Calls {
			if c := &s.Calls[i]; c.serves(n.Dataset) && c.has(n.Kind) && (best < 0 || c.Takes < s.Calls[best].Takes) {
				best = i
			}
		}
		out[best] = append(out[best], n)
	}
	var classes []*class
	for _, symbol := range symbols {
		all := byListing[symbol]
		var datasets []catalogue.Dataset
		for _, n := range all {
			datasets = append(datasets, n.Dataset)
		}
		slices.Sort(datasets)
		i := slices.IndexFunc(classes, func(c *class) bool { return slices.Equal(c.datasets, datasets) && c.kind == all[0].Kind })
		if i < 0 {
			i = len(classes)
			classes = append(classes, &class{datasets: datasets, kind: all[0].Kind})
		}
		classes[i].needs = append(classes[i].needs, all...)
		classes[i].listings++
	}
	// The classes meet in the batches of the calls they share, so they are chosen
	// for together: from what is best for each alone, one after the other is
	// changed as long as the whole gets cheaper.
	options := make([][][]int, len(classes))
	picked := make([]division, len(classes))
	total := func() cost {
		counts := make([]int, len(s.Calls))
		for c := range classes {
			for _, call := range options[c][picked[c].front] {
				counts[call] += picked[c].count
			}
			for _, call := range options[c][picked[c].back] {
				counts[call] += classes[c].listings - picked[c].count
			}
		}
		var sum cost
		for call, n := range counts {
			sum = sum.plus(s.Calls[call].list(n))
		}
		return sum
	}
	for c, cl := range classes {
		options[c] = covers(cl.datasets, cl.kind, s)
		price := func(calls []int) (sum cost) {
			for _, call := range calls {
				sum = sum.plus(s.Calls[call].list(cl.listings))
			}
			return sum
		}
		slices.SortStableFunc(options[c], func(a, b []int) int {
			x, y := price(a), price(b)
			return cmp.Or(cmp.Compare(x.units, y.units), cmp.Compare(x.requests, y.requests))
		})
		picked[c] = division{0, 0, cl.listings}
	}
	for changed := len(classes) > 0; changed; {
		changed = false
		for c, cl := range classes {
			best, least := picked[c], total()
			for _, d := range divisions(len(options[c]), cl.listings, s) {
				picked[c] = d
				if t := total(); t.less(least) {
					best, least, changed = d, t, true
				}
			}
			picked[c] = best
		}
	}
	for c, cl := range classes {
		nth := map[market.Symbol]int{}
		for _, n := range cl.needs {
			if _, known := nth[n.Symbol]; !known {
				nth[n.Symbol] = len(nth)
			}
			calls := options[c][picked[c].front]
			if nth[n.Symbol] >= picked[c].count {
				calls = options[c][picked[c].back]
			}
			for _, call := range calls {
				if s.Calls[call].serves(n.Dataset) {
					out[call] = append(out[call], n)
					break
				}
			}
		}
	}
	return out
}

// division says that the first so many listings of a class are served in one
// way, and the others in another.
type division struct{ front, back, count int }

// fewListings is how many listings of a class are divided in every way; more are
// divided where batches are full.
const fewListings = 24

func divisions(options, listings int, s *Source) []division {
	var counts []int
	for n := range listings + 1 {
		full := listings <= fewListings
		for i := 0; i < len(s.Calls) && !full; i++ {
			b := s.Calls[i].Batch
			full = b > 0 && (n == listings-listings%b || n == listings%b) || n == listings
		}
		if full {
			counts = append(counts, n)
		}
	}
	var out []division
	for front := range options {
		for back := range options {
			for _, n := range counts {
				if front != back || n == listings {
					out = append(out, division{front, back, n})
				}
			}
		}
	}
	return out
}

// covers lists the sets of calls that together serve datasets, without a call
// that the others make superfluous.
func covers(datasets []catalogue.Dataset, kind market.Kind, s *Source) [][]int {
	var out [][]int
	var extend func(chosen []int, left []catalogue.Dataset)
	extend = func(chosen []int, left []catalogue.Dataset) {
		if len(left) == 0 {
			out = append(out, slices.Clone(chosen))
			return
		}
		for i := range s.Calls {
			c := &s.Calls[i]
			if !c.serves(left[0]) || !c.has(kind) || c.Takes != Symbols && s.listed(left[0], kind) {
				continue
			}
			rest := slices.DeleteFunc(slices.Clone(left), c.serves)
			extend(append(chosen, i), rest)
		}
	}
	extend(nil, datasets)
	return out
}

// listed tells whether a call that takes symbols serves a dataset.
func (s *Source) listed(d catalogue.Dataset, kind market.Kind) bool {
	return slices.ContainsFunc(s.Calls, func(c Call) bool { return c.Takes == Symbols && c.serves(d) && c.has(kind) })
}

// list is what a number of symbols costs, as far as it depends on their number.
func (c *Call) list(symbols int) cost {
	if symbols == 0 {
		return cost{}
	}
	requests := 1
	if c.Batch > 0 {
		requests = (symbols + c.Batch - 1) / c.Batch
	}
	return cost{requests*c.UnitsPerRequest + symbols*c.UnitsPerSymbol, requests}
}

// whole is a way to serve all needs of one exchange at a cost that does not
// depend on their number.
type whole struct {
	call *Call
	cost cost
	days []period.Date // of a call that takes days
}

// spread makes the requests for the needs of one call, exchange by exchange by
// whichever is cheaper: a list of symbols or the exchange as a whole.
func spread(needs []Need, c *Call, s *Source, w *World) []Request {
	var codes []string
	byExchange := map[string][]Need{}
	for _, n := range needs {
		code := n.Symbol.Exchange
		if n.Symbol.IsPair() {
			code = ""
		}
		if _, known := byExchange[code]; !known {
			codes = append(codes, code)
		}
		byExchange[code] = append(byExchange[code], n)
	}
	slices.Sort(codes)
	wholes := make([]*whole, len(codes))
	for i, code := range codes {
		wholes[i] = cheapestWhole(byExchange[code], code, c, s, w)
	}
	chosen := wholesChosen(codes, byExchange, wholes, c, s)
	var requests []Request
	var listed []Need
	taken := map[string]bool{}
	for i, code := range codes {
		if !chosen[i] {
			continue
		}
		taken[code] = true
		if wholes[i] == nil {
			continue // no session in the days that are lacking: there is nothing to ask for
		}
		if wholes[i].days == nil {
			requests = append(requests, wholes[i].request(s, code, byExchange[code], period.Span{}))
		}
		for _, day := range wholes[i].days {
			met := slices.DeleteFunc(slices.Clone(byExchange[code]), func(n Need) bool { l := n.lacking(s.Name); return day < l.From || day > l.To })
			requests = append(requests, wholes[i].request(s, code, met, period.Span{From: day, To: day}))
		}
	}
	for _, n := range needs {
		code := n.Symbol.Exchange
		if n.Symbol.IsPair() {
			code = ""
		}
		if !taken[code] {
			listed = append(listed, n)
		}
	}
	return append(requests, lists(listed, c, s)...)
}

func (o *whole) request(s *Source, code string, needs []Need, span period.Span) Request {
	return Request{Source: s.Name, Call: o.call.Name, Exchange: code, Needs: needs, From: span.From, To: span.To, Units: o.call.UnitsPerRequest + o.call.UnitsPerSymbol*len(needs)}
}

// cheapestWhole finds the cheapest call that answers for a whole exchange; nil
// where there is none.
func cheapestWhole(needs []Need, code string, listing *Call, s *Source, w *World) (best *whole) {
	datasets := map[catalogue.Dataset]bool{}
	for _, n := range needs {
		datasets[n.Dataset] = true
	}
	for i := range s.Calls {
		c := &s.Calls[i]
		if c.Takes == Symbols {
			continue
		}
		serves := true
		for d := range datasets {
			serves = serves && c.serves(d)
		}
		for _, n := range needs {
			serves = serves && c.has(n.Kind)
		}
		if !serves {
			continue
		}
		o := &whole{call: c, cost: cost{c.UnitsPerRequest + c.UnitsPerSymbol*len(needs), 1}}
		if c.Takes == Day {
			if o.days = sessions(needs, code, s, w); len(o.days) == 0 || len(o.days) > manyDays && listing.Takes == Symbols {
				continue
			}
			o.cost = cost{c.UnitsPerRequest*len(o.days) + c.UnitsPerSymbol*len(needs)*len(o.days), len(o.days)}
		}
		if best == nil || o.cost.less(best.cost) {
			best = o
		}
	}
	return best
}

// manyDays is beyond what asking day by day could pay for.
const manyDays = 400

// sessions lists the days on which an exchange traded and that some need lacks.
func sessions(needs []Need, code string, s *Source, w *World) []period.Date {
	var lacks period.Spans
	for i := range needs {
		lacks = lacks.Add(needs[i].lacking(s.Name))
	}
	e := w.Exchanges[code]
	var days []period.Date
	for _, span := range lacks {
		for d := span.From; d <= span.To; d++ {
			if e == nil || e.Trades(d) {
				days = append(days, d)
			}
		}
	}
	return days
}

// wholesChosen decides exchange by exchange between a list and the whole. Lists
// of several exchanges share batches, so the choice is made over the number of
// symbols that stay listed: the cheapest wholes for each such number, found one
// exchange after the other, and then the cheapest sum.
func wholesChosen(codes []string, needs map[string][]Need, wholes []*whole, c *Call, s *Source) []bool {
	chosen := make([]bool, len(codes))
	if c.Takes != Symbols {
		for i := range chosen {
			chosen[i] = true
		}
		return chosen
	}
	if !slices.ContainsFunc(wholes, func(o *whole) bool { return o != nil }) {
		return chosen
	}
	type way struct {
		cost   cost
		listed []int // indices of exchanges that stay listed
	}
	ways := map[int]way{0: {}}
	for i, code := range codes {
		n := len(symbolsOf(needs[code]))
		next := make(map[int]way, 2*len(ways))
		offer := func(m int, w way) {
			if old, there := next[m]; !there || w.cost.less(old.cost) {
				next[m] = w
			}
		}
		for m, w := range ways {
			offer(m+n, way{w.cost, append(slices.Clone(w.listed), i)})
			if wholes[i] != nil {
				offer(m, way{w.cost.plus(wholes[i].cost), w.listed})
			}
		}
		ways = next
	}
	counts := make([]int, 0, len(ways))
	for m := range ways {
		counts = append(counts, m)
	}
	sort.Sort(sort.Reverse(sort.IntSlice(counts))) // of equals, the one with the longer lists
	best := counts[0]
	ranged := slices.ContainsFunc(needs[codes[0]], func(n Need) bool { return n.To != 0 })
	value := func(m int) cost {
		if c.Length == 0 && !ranged {
			return c.list(m).plus(ways[m].cost)
		}
		listed := make([]Need, 0)
		for _, i := range ways[m].listed {
			listed = append(listed, needs[codes[i]]...)
		}
		var sum cost
		for _, r := range lists(listed, c, s) {
			sum = sum.plus(cost{r.Units, 1})
		}
		return sum.plus(ways[m].cost)
	}
	least := value(best)
	for _, m := range counts[1:] {
		if v := value(m); v.less(least) {
			best, least = m, v
		}
	}
	for i := range codes {
		chosen[i] = !slices.Contains(ways[best].listed, i)
	}
	return chosen
}

func symbolsOf(needs []Need) map[market.Symbol]bool {
	set := make(map[market.Symbol]bool, len(needs))
	for i := range needs {
		set[needs[i].Symbol] = true
	}
	return set
}

// lists makes the requests of a call that takes symbols: as few as the limits on
// their number, length and range allow.
func lists(needs []Need, c *Call, s *Source) []Request {
	if len(needs) == 0 {
		return nil
	}
	if !slices.ContainsFunc(needs, func(n Need) bool { return n.To != 0 }) {
		return batches(needs, period.Span{}, c, s)
	}
	// Needs that lack about as much go together, so that those lacking a day do
	// not ask for years along with those lacking all of them.
	needs = slices.Clone(needs)
	last := period.Date(0)
	for i := range needs {
		last = max(last, needs[i].lacking(s.Name).To)
	}
	slices.SortStableFunc(needs, func(a, b Need) int {
		return cmp.Compare(b.lacking(s.Name).From, a.lacking(s.Name).From)
	})
	if c.Days == 0 {
		return batches(needs, period.Span{}, c, s)
	}
	// Windows of the longest range are laid back from the last day that is lacking.
	var requests []Request
	for end := last; ; end = end.AddDays(-c.Days) {
		window := period.Span{From: end.AddDays(1 - c.Days), To: end}
		met := slices.DeleteFunc(slices.Clone(needs), func(n Need) bool { l := n.lacking(s.Name); return l.To < window.From || l.From > window.To })
		requests = append(requests, batches(met, window, c, s)...)
		if !slices.ContainsFunc(needs, func(n Need) bool { return n.lacking(s.Name).From < window.From }) {
			return requests
		}
	}
}

// batches packs needs into requests. The needs of one listing stay together.
func batches(needs []Need, window period.Span, c *Call, s *Source) []Request {
	type item struct {
		needs  []Need
		length int
	}
	var items []*item
	at := map[market.Symbol]*item{}
	for _, n := range needs {
		it := at[n.Symbol]
		if it == nil {
			it = &item{length: 1}
			if s.Length != nil {
				it.length = s.Length(n.Symbol)
			}
			at[n.Symbol] = it
			items = append(items, it)
		}
		it.needs = append(it.needs, n)
	}
	lengths := make([]int, len(items))
	for i, it := range items {
		lengths[i] = it.length
	}
	bins := pack(lengths, c.Batch, c.Length)
	requests := make([]Request, 0, len(bins))
	for _, bin := range bins {
		r := Request{Source: s.Name, Call: c.Name, Units: c.UnitsPerRequest + c.UnitsPerSymbol*len(bin)}
		for _, i := range bin {
			r.Needs = append(r.Needs, items[i].needs...)
		}
		var spans period.Spans
		for i := range r.Needs {
			if r.Needs[i].To != 0 {
				spans = spans.Add(r.Needs[i].lacking(s.Name))
			}
		}
		if len(spans) > 0 {
			hull := spans.Hull()
			if window.To != 0 {
				hull = period.Span{From: max(hull.From, window.From), To: min(hull.To, window.To)}
			}
			r.From, r.To = hull.From, hull.To
		}
		requests = append(requests, r)
	}
	return requests
}

// pack puts items into as few bins as it can: no more than most items in each,
// and no longer than the longest together (0: no bound). In order one after the
// other where that is as few as any, so that what matters most comes first; else
// the longest first, each into the first bin with room.
func pack(lengths []int, most, longest int) [][]int {
	inOrder := make([]int, len(lengths))
	sum := 0
	for i, l := range lengths {
		inOrder[i] = i
		sum += l
	}
	fits := func(count, length int) bool {
		return count == 0 || (most == 0 || count < most) && (longest == 0 || length <= longest)
	}
	var next [][]int
	room := 0
	for _, i := range inOrder {
		if n := len(next); n == 0 || !fits(len(next[n-1]), room+lengths[i]) {
			next, room = append(next, nil), 0
		}
		n := len(next) - 1
		next[n], room = append(next[n], i), room+lengths[i]
	}
	if longest == 0 {
		return next
	}
	least := (sum + longest - 1) / longest
	if most > 0 {
		least = max(least, (len(lengths)+most-1)/most)
	}
	if len(next) <= least {
		return next
	}
	slices.SortStableFunc(inOrder, func(a, b int) int { return cmp.Compare(lengths[b], lengths[a]) })
	best := next
	if d := decreasing(inOrder, lengths, fits); len(d) < len(best) {
		best = d
	}
	if len(best) > least && len(lengths) <= fewItems {
		search(inOrder, lengths, fits, &best, least)
	}
	for _, bin := range best {
		slices.Sort(bin)
	}
	slices.SortStableFunc(best, func(a, b []int) int { return cmp.Compare(a[0], b[0]) })
	return best
}

// fewItems is how many items are packed by trying all ways.
const fewItems = 10

func decreasing(order, lengths []int, fits func(count, length int) bool) (bins [][]int) {
	var filled []int
	for _, i := range order {
		b := 0
		for b < len(bins) && !fits(len(bins[b]), filled[b]+lengths[i]) {
			b++
		}
		if b == len(bins) {
			bins, filled = append(bins, nil), append(filled, 0)
		}
		bins[b], filled[b] = append(bins[b], i), filled[b]+lengths[i]
	}
	return bins
}

// search tries every way of packing that uses fewer bins than the best so far.
func search(order, lengths []int, fits func(count, length int) bool, best *[][]int, least int) {
	var bins [][]int
	var filled []int
	var place func(k int)
	place = func(k int) {
		if len(bins) >= len(*best) || len(*best) <= least {
			return
		}
		if k == len(order) {
			*best = make([][]int, len(bins))
			for b := range bins {
				(*best)[b] = slices.Clone(bins[b])
			}
			return
		}
		i := order[k]
		for b := range bins {
			if fits(len(bins[b]), filled[b]+lengths[i]) {
				bins[b], filled[b] = append(bins[b], i), filled[b]+lengths[i]
				place(k + 1)
				bins[b], filled[b] = bins[b][:len(bins[b])-1], filled[b]-lengths[i]
			}
		}
		bins, filled = append(bins, []int{i}), append(filled, lengths[i])
		place(k + 1)
		bins, filled = bins[:len(bins)-1], filled[:len(filled)-1]
	}
	place(0)
}
