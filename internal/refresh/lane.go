package refresh

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/failsafe-go/failsafe-go"
	"github.com/failsafe-go/failsafe-go/circuitbreaker"
	"github.com/failsafe-go/failsafe-go/retrypolicy"
	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// How patient a lane is.
const (
	retries      = 3
	firstBackoff = 250 * time.Millisecond
	lastBackoff  = 8 * time.Second
	longestWait  = time.Minute // that a Retry-After is obeyed; beyond it the request fails at once
	breakAfter   = 6           // passing faults in a row
	breakFor     = 10 * time.Second
)

// lane is the one way to a source: it keeps to its rate and concurrency, tries
// again after passing faults, and leaves it alone for a while when it keeps failing.
type lane struct {
	source  source.Source
	about   source.Description
	rate    *rate.Limiter
	slots   chan struct{}
	breaker circuitbreaker.CircuitBreaker[*source.Answer]
	retry   retrypolicy.RetryPolicy[*source.Answer]
}

func newLane(s source.Source) *lane {
	about := s.Describe()
	limit := rate.Inf
	if about.PerSecond > 0 {
		limit = rate.Limit(about.PerSecond)
	}
	return &lane{
		source: s, about: about, rate: rate.NewLimiter(limit, 1), slots: make(chan struct{}, max(about.Concurrent, 1)),
		breaker: circuitbreaker.NewBuilder[*source.Answer]().HandleIf(passing).WithFailureThreshold(breakAfter).WithDelay(breakFor).Build(),
		retry: retrypolicy.NewBuilder[*source.Answer]().HandleIf(worthRetrying).WithMaxRetries(retries).
			WithBackoff(firstBackoff, lastBackoff).WithJitterFactor(0.25).WithDelayFunc(askedToWait).ReturnLastFailure().Build(),
	}
}

func passing(_ *source.Answer, err error) bool {
	var f *source.Fault
	return errors.As(err, &f) && f.Passing() && f.Kind != source.Throttled
}

func worthRetrying(_ *source.Answer, err error) bool {
	var f *source.Fault
	return errors.As(err, &f) && f.Passing() && f.RetryAfter <= longestWait
}

// askedToWait obeys Retry-After; otherwise the policy's own backoff applies. The
// policy's jitter takes up to a quarter off, which must not make it too early.
func askedToWait(exec failsafe.ExecutionAttempt[*source.Answer]) time.Duration {
	var f *source.Fault
	if errors.As(exec.LastError(), &f) && f.RetryAfter > 0 {
		return f.RetryAfter * 4 / 3
	}
	return -1
}

// enter waits for a place among the requests under way, and for the rate to
// allow another. The place is given back by leave.
func (l *lane) enter(ctx context.Context) error {
	select {
	case l.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := l.rate.Wait(ctx); err != nil {
		l.leave()
		return err
	}
	return nil
}

func (l *lane) leave() { <-l.slots }

// fetch sends one request, again after passing faults. Each try that is followed
// by another is handed to between. The first try may have entered the lane already.
func (l *lane) fetch(ctx context.Context, q plan.Request, entered bool, between func(*source.Answer, *source.Fault)) (*source.Answer, *source.Fault, error) {
	try := func(exec failsafe.Execution[*source.Answer]) (*source.Answer, error) {
		if exec.Retries() > 0 {
			between(exec.LastResult(), asFault(exec.LastError()))
		}
		if exec.Retries() > 0 || !entered {
			if err := l.enter(ctx); err != nil {
				return nil, err
			}
		}
		defer l.leave()
		if !l.breaker.TryAcquirePermit() {
			return &source.Answer{Call: source.Call{UnitsLeft: -1}}, &source.Fault{Kind: source.Unreachable, Detail: fmt.Sprintf("left alone for %s after %d failures in a row", breakFor, breakAfter), RetryAfter: 2 * longestWait}
		}
		a, err := l.source.Fetch(ctx, q)
		if ctx.Err() != nil {
			l.breaker.RecordSuccess() // a permit must be given back
			return nil, ctx.Err()
		}
		if passing(a, err) {
			l.breaker.RecordFailure()
		} else {
			l.breaker.RecordSuccess()
		}
		return a, err
	}
	a, err := failsafe.With(l.retry).WithContext(ctx).GetWithExecution(try)
	if ctx.Err() != nil {
		return nil, nil, ctx.Err()
	}
	return a, asFault(err), nil
}

func asFault(err error) *source.Fault {
	if err == nil {
		return nil
	}
	var f *source.Fault
	if !errors.As(err, &f) {
		f = &source.Fault{Kind: source.Refused, Detail: err.Error()}
	}
	return f
}

func (e *Engine) lane(name string) *lane {
	for _, l := range e.lanes {
		if l.about.Name == name {
			return l
		}
	}
	return nil
}

// send carries out one planned request and stores what came of it. A batch that
// was refused because of a symbol is asked for again without it, so that the
// others get their data.
func (e *Engine) send(ctx context.Context, refresh int64, q plan.Request, entered bool) error {
	l := e.lane(q.Source)
	a, fault, err := l.fetch(ctx, q, entered, func(a *source.Answer, f *source.Fault) {
		e.keep(ctx, refresh, q, a, f, false) //nolint:errcheck // the log lacks a try; what matters is stored at the end
	})
	if err != nil {
		return err
	}
	if fault == nil || fault.Kind != source.UnknownInside || len(q.Needs) == 1 {
		return e.keep(ctx, refresh, q, a, fault, true)
	}
	if err := e.keep(ctx, refresh, q, a, fault, false); err != nil {
		return err
	}
	for _, part := range apart(q, fault.Culprits) {
		if err := e.send(ctx, refresh, part, false); err != nil {
			return err
		}
	}
	return nil
}

// apart splits a refused batch: the symbols that the source named each alone,
// and the rest together; in halves where it named none of them.
func apart(q plan.Request, culprits []market.Symbol) []plan.Request {
	part := func(needs []plan.Need) plan.Request {
		p := q
		p.Needs = needs
		return p
	}
	var rest, named []plan.Need
	for _, n := range q.Needs {
		if contains(culprits, n.Symbol) {
			named = append(named, n)
		} else {
			rest = append(rest, n)
		}
	}
	if len(named) == 0 {
		half := len(q.Needs) / 2
		return []plan.Request{part(q.Needs[:half]), part(q.Needs[half:])}
	}
	var parts []plan.Request
	if len(rest) > 0 {
		parts = append(parts, part(rest))
	}
	for _, n := range named {
		parts = append(parts, part([]plan.Need{n}))
	}
	return parts
}

func contains(symbols []market.Symbol, s market.Symbol) bool {
	for _, x := range symbols {
		if x == s {
			return true
		}
	}
	return false
}

// keep stores the outcome of one try; final when no other follows.
func (e *Engine) keep(ctx context.Context, refresh int64, q plan.Request, a *source.Answer, fault *source.Fault, final bool) error {
	listings := make(map[string]int64, len(q.Needs))
	for _, n := range q.Needs {
		if n.Listing != 0 {
			listings[n.Symbol.String()] = n.Listing
		}
	}
	kind := "answered"
	data := map[string]any{"source": q.Source, "dataset": q.Dataset, "symbols": len(q.Needs), "units": a.Call.Units, "units_left": a.Call.UnitsLeft, "milliseconds": a.Call.Took.Milliseconds()}
	if fault != nil {
		kind = "retrying"
		if final {
			kind = "failed"
		}
		data["fault"], data["advice"] = fault.Error(), fault.Advice()
	}
	// What was fetched is paid for, so a cancellation does not keep it from being stored.
	return e.store.Save(context.WithoutCancel(ctx), store.Result{
		Refresh: refresh, Source: q.Source, Dataset: q.Dataset, Listings: listings, From: q.From,
		Answer: a, Fault: fault, Final: final, Event: e.event(kind, data),
	}, e.now())
}
