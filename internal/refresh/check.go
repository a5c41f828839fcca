package refresh

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// SourceNames lists the sources in the order of their descriptions.
func (e *Engine) SourceNames() []string {
	names := make([]string, len(e.lanes))
	for i, l := range e.lanes {
		names[i] = l.source.Name
	}
	return names
}

// How many days of a history a check asks for: a few bars, and long enough for
// an event or two of those that come once a quarter or year.
const (
	sampleBarDays   = 14
	sampleEventDays = 800
)

// Check asks a source one thing by each of its calls that serve a dataset ("" for
// all), for one listing (0: any that it covers). It keeps to the source's limits
// and logs what it asks, and stores nothing else.
func (e *Engine) Check(ctx context.Context, name string, d catalogue.Dataset, listing int64) ([]source.Check, error) {
	l := e.lane(name)
	if err := l.take(ctx); err != nil {
		return nil, err
	}
	defer l.give()
	l.source.Forget() // so that the answers come whole
	var checks []source.Check
	for _, c := range l.source.Description.Calls {
		if d != "" && !slices.Contains(c.Serves, d) {
			continue
		}
		check := source.Check{Call: c.Name, Datasets: c.Serves}
		q, asked, ok := e.sampleRequest(l.source, c, listing)
		check.Asked = asked
		if !ok {
			check.Skipped = "no listing that is known is covered by it"
			checks = append(checks, check)
			continue
		}
		if err := l.enter(ctx); err != nil {
			return nil, err
		}
		a, samples, err := l.source.Try(ctx, q, l.pace)
		l.leave()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		check.Answer, check.Samples, check.Fault = a, samples, asFault(err)
		if err := e.store.Save(ctx, store.Result{Request: q, Answer: a, Fault: check.Fault, LogOnly: true}, e.now()); err != nil {
			return nil, err
		}
		checks = append(checks, check)
		if f := check.Fault; f != nil && (f.Kind == source.KeyRefused || f.Kind == source.AllowanceGone || f.Kind == source.Unreachable) {
			break // the others would fail alike
		}
	}
	if len(checks) == 0 {
		return nil, errors.New("no call of " + name + " serves " + string(d))
	}
	return checks, nil
}

// sampleRequest makes the smallest request of a call.
func (e *Engine) sampleRequest(s *source.Source, c *source.Call, listing int64) (q plan.Request, asked string, ok bool) {
	q = plan.Request{Source: s.Name, Call: c.Name, Units: c.Cost.Request + c.Cost.Symbol}
	if c.Serves[0] == catalogue.Listings {
		code := ""
		if s.ListsByExchange() {
			code = e.book.Exchanges().Codes()[0]
		}
		q.Needs = []plan.Need{{Dataset: catalogue.Listings, Symbol: market.Symbol{Exchange: code}}}
		return q, code, true
	}
	l := e.sampleListing(s, c, listing)
	if l == nil {
		return q, "", false
	}
	exchange := e.book.Exchanges().Of(l)
	to := exchange.LastClosed(e.now(), e.limits.BarGrace).Date
	if to == 0 {
		to = exchange.Today(e.now())
	}
	asked = l.Symbol.String()
	switch c.Takes {
	case "exchange":
		q.Exchange, asked = l.Symbol.Exchange, l.Symbol.Exchange
	case "day":
		q.Exchange, q.From, q.To = l.Symbol.Exchange, to, to
		asked = l.Symbol.Exchange + " on " + to.String()
	}
	for _, d := range c.Serves {
		info := catalogue.Info(d)
		if !info.Has(l.Kind) {
			continue
		}
		n := plan.Need{Dataset: d, Listing: l.ID, Symbol: l.Symbol, Kind: l.Kind, ISIN: l.ISIN, Currency: l.Currency}
		if info.Ranged {
			n.From, n.To = to-sampleEventDays, to
			if info.Shape == catalogue.Prices {
				n.From = to - sampleBarDays
			}
			if c.Takes != "day" {
				q.From, q.To = min(n.From, cmp.Or(q.From, n.From)), n.To
			}
		}
		q.Needs = append(q.Needs, n)
	}
	return q, asked, len(q.Needs) > 0
}

// sampleListing finds a listing that a call serves.
func (e *Engine) sampleListing(s *source.Source, c *source.Call, wanted int64) *market.Listing {
	now := e.now()
	for _, l := range e.book.Directory().Ordered {
		fits := s.Symbols.Covers(l.Symbol) && (c.Kinds == nil || slices.Contains(c.Kinds, l.Kind)) && catalogue.Info(c.Serves[0]).Has(l.Kind) && (c.Takes == "" || c.Takes == "symbols" || !l.Symbol.IsPair())
		if fits && (l.ID == wanted || wanted == 0 && !l.EndedBy(e.book.Exchanges().Of(l).Today(now))) {
			return l
		}
	}
	return nil
}
