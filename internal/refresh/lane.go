package refresh

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
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
	breakAfter   = 6 // passing faults in a row
	breakFor     = 10 * time.Second
)

// lane is the one way to a source: it keeps to its rate and concurrency, tries
// again after passing faults, and leaves it alone for a while when it keeps
// failing. Of all instances one at a time has the lane, so that the source's
// limits hold for them together.
type lane struct {
	source  *source.Source
	store   *store.Store
	rate    *rate.Limiter
	slots   chan struct{}
	breaker circuitbreaker.CircuitBreaker[*source.Answer]
	retry   retrypolicy.RetryPolicy[*source.Answer]
	failed  atomic.Pointer[source.Fault] // the last passing fault

	turn  sync.Mutex // guards what follows, while the lease is being awaited too
	users int        // refreshes of this instance that are on the lane
	lease *store.Lease
	seen  time.Time // when the lease was last known to be held
}

func newLane(s *source.Source, kept *store.Store) *lane {
	limit := rate.Inf
	if s.Limits.PerSecond > 0 {
		limit = rate.Limit(s.Limits.PerSecond)
	}
	l := &lane{
		source: s, store: kept, rate: rate.NewLimiter(limit, 1), slots: make(chan struct{}, s.Limits.AtOnce),
	}
	l.reset()
	l.retry = retrypolicy.NewBuilder[*source.Answer]().HandleIf(l.worthRetrying).WithMaxRetries(retries).
		WithBackoff(firstBackoff, lastBackoff).WithJitterFactor(0.25).WithDelayFunc(askedToWait).ReturnLastFailure().Build()
	return l
}

// reset closes the circuit and forgets what failed.
func (l *lane) reset() {
	l.breaker = circuitbreaker.NewBuilder[*source.Answer]().HandleIf(passing).WithFailureThreshold(breakAfter).WithDelay(breakFor).Build()
}

// take gets onto the lane, which only one instance may be on.
func (l *lane) take(ctx context.Context) error {
	l.turn.Lock()
	defer l.turn.Unlock()
	if l.users == 0 {
		if err := l.lock(ctx); err != nil {
			return err
		}
	}
	l.users++
	return nil
}

func (l *lane) lock(ctx context.Context) (err error) {
	name := "source " + l.source.Name
	if l.lease, err = l.store.TryLease(ctx, name); err != nil {
		return err
	}
	if l.lease == nil {
		if l.lease, err = l.store.AwaitLease(ctx, name); err != nil {
			return err
		}
		l.rate.Allow() // the instance that had it may just have sent a request
	}
	l.seen = time.Now()
	return nil
}

// give leaves the lane to other instances once nobody here is on it.
func (l *lane) give() {
	l.turn.Lock()
	defer l.turn.Unlock()
	if l.users--; l.users == 0 && l.lease != nil {
		l.lease.Release()
		l.lease = nil
	}
}

// leaseCheck is how often the lease is looked after.
const leaseCheck = time.Second

// keep makes sure that the lane is still this instance's.
func (l *lane) keep(ctx context.Context) error {
	l.turn.Lock()
	defer l.turn.Unlock()
	if l.lease != nil && time.Since(l.seen) < leaseCheck {
		return nil
	}
	if l.lease != nil && l.lease.Held(ctx) {
		l.seen = time.Now()
		return nil
	}
	if l.lease != nil {
		l.lease.Release()
		l.lease = nil
	}
	return l.lock(ctx)
}

func passing(_ *source.Answer, err error) bool {
	var f *source.Fault
	return errors.As(err, &f) && f.Passing() && f.Kind != source.Throttled
}

func (l *lane) worthRetrying(_ *source.Answer, err error) bool {
	var f *source.Fault
	return errors.As(err, &f) && f.Passing() && f.RetryAfter <= l.source.Limits.LongestWait
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
	if err := l.pace(ctx); err != nil {
		l.leave()
		return err
	}
	return nil
}

// pace waits until the rate allows another request.
func (l *lane) pace(ctx context.Context) error {
	if err := l.keep(ctx); err != nil {
		return err
	}
	return l.rate.Wait(ctx)
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
			return unasked(), &source.Fault{Kind: source.Unreachable, Detail: l.aloneFor(), RetryAfter: 2 * l.source.Limits.LongestWait}
		}
		a, err := l.source.Fetch(ctx, q, l.pace)
		if ctx.Err() != nil {
			l.breaker.RecordSuccess() // a permit must be given back
			return nil, ctx.Err()
		}
		if passing(a, err) {
			l.failed.Store(asFault(err))
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
	if a == nil {
		a = unasked()
	}
	return a, asFault(err), nil
}

// aloneFor says why the source is not asked.
func (l *lane) aloneFor() string {
	text := fmt.Sprintf("left alone for %s after %d failures in a row", breakFor, breakAfter)
	if f := l.failed.Load(); f != nil {
		text += ", the last: " + f.Error()
	}
	return text
}

// unasked is the answer to a request that was not sent.
func unasked() *source.Answer {
	return &source.Answer{Pages: []source.Page{{Started: time.Now(), UnitsLeft: -1}}}
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
		if l.source.Name == name {
			return l
		}
	}
	return nil
}

// send carries out one planned request and stores what came of it. A batch that
// was refused because of a symbol is asked for again without it, so that the
// others get their data; listings that a call has nothing of are asked for by its
// fallback.
func (e *Engine) send(ctx context.Context, refresh int64, q plan.Request, entered bool, lacks func(source string, needs []*plan.Need)) error {
	l := e.lane(q.Source)
	a, fault, err := l.fetch(ctx, q, entered, func(a *source.Answer, f *source.Fault) {
		if a == nil {
			a = unasked()
		}
		e.keep(ctx, refresh, q, a, f, false) //nolint:errcheck // the log lacks a try; what matters is stored at the end
	})
	if err != nil {
		return err
	}
	var more []plan.Request
	split := fault != nil && fault.Kind == source.UnknownInside && len(q.Symbols()) > 1
	if split {
		more = apart(q, fault.Culprits)
	} else if fault == nil {
		more = l.source.Otherwise(q, a)
	}
	if err := e.keep(ctx, refresh, q, a, fault, !split); err != nil {
		return err
	}
	if !split {
		lacks(q.Source, slices.DeleteFunc(left(&q, a, fault), func(n *plan.Need) bool { // what is asked for otherwise may still come
			return slices.ContainsFunc(more, func(r plan.Request) bool {
				return slices.ContainsFunc(r.Needs, func(x plan.Need) bool { return x.Symbol == n.Symbol && x.Dataset == n.Dataset })
			})
		}))
	}
	if fault == nil {
		l.source.Remember(a)
	}
	if len(more) == 0 {
		return nil
	}
	added := len(more)
	if split {
		added-- // they take the place of the one that was planned
	}
	if err := e.store.ExtendPlan(ctx, refresh, added); err != nil {
		return err
	}
	for _, part := range more {
		if err := e.send(ctx, refresh, part, false, lacks); err != nil {
			return err
		}
	}
	return nil
}

// left are the needs of a request that its answer did not meet.
func left(q *plan.Request, a *source.Answer, fault *source.Fault) (out []*plan.Need) {
	for i := range q.Needs {
		n := &q.Needs[i]
		if fault != nil || slices.ContainsFunc(a.Failures, func(f source.Failure) bool { return f.Symbol == n.Symbol && f.Dataset == n.Dataset }) {
			out = append(out, n)
		}
	}
	return out
}

// apart splits a refused batch: the symbols that the source named each alone,
// and the rest together; in halves where it named none of them.
func apart(q plan.Request, culprits []market.Symbol) []plan.Request {
	symbols := q.Symbols()
	part := func(of func(market.Symbol) bool) plan.Request {
		p := q
		p.Needs = nil
		for i := range q.Needs {
			if of(q.Needs[i].Symbol) {
				p.Needs = append(p.Needs, q.Needs[i])
			}
		}
		return p
	}
	var named []market.Symbol
	for _, s := range symbols {
		if slices.Contains(culprits, s) {
			named = append(named, s)
		}
	}
	if len(named) == 0 {
		front := symbols[:len(symbols)/2]
		return []plan.Request{
			part(func(s market.Symbol) bool { return slices.Contains(front, s) }),
			part(func(s market.Symbol) bool { return !slices.Contains(front, s) }),
		}
	}
	var parts []plan.Request
	if len(named) < len(symbols) {
		parts = append(parts, part(func(s market.Symbol) bool { return !slices.Contains(named, s) }))
	}
	for _, culprit := range named {
		parts = append(parts, part(func(s market.Symbol) bool { return s == culprit }))
	}
	return parts
}

// keep stores the outcome of one try; final when no other follows.
func (e *Engine) keep(ctx context.Context, refresh int64, q plan.Request, a *source.Answer, fault *source.Fault, final bool) error {
	kind := "answered"
	last := a.Last()
	data := map[string]any{
		"source": q.Source, "call": q.Call, "datasets": q.Datasets(), "symbols": len(q.Symbols()), "units": a.Units(), "units_left": last.UnitsLeft, "milliseconds": last.Took.Milliseconds(),
	}
	if len(a.Remarks) > 0 {
		data["remark"] = a.Remarks[0]
	}
	if fault != nil {
		kind = "retrying"
		if final {
			kind = "failed"
		}
		data["fault"], data["advice"] = fault.Error(), fault.Advice()
	}
	// What was fetched is paid for, so a cancellation does not keep it from being stored.
	return e.store.Save(context.WithoutCancel(ctx), store.Result{
		Refresh: refresh, Request: q, Answer: a, Fault: fault, Final: final, Event: e.event(kind, data),
	}, e.now())
}
