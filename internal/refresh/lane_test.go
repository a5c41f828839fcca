package refresh

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
)

// scripted is a source that answers by a script and notes how it is asked.
type scripted struct {
	about  source.Description
	answer func(call int, q plan.Request) error

	mu      sync.Mutex
	calls   []time.Time
	now     int
	most    int // at once
	started chan struct{}
	release chan struct{}
}

func (s *scripted) Describe() source.Description { return s.about }

func (s *scripted) Fetch(ctx context.Context, q plan.Request) (*source.Answer, error) {
	s.mu.Lock()
	s.calls = append(s.calls, time.Now())
	call := len(s.calls)
	s.now++
	s.most = max(s.most, s.now)
	s.mu.Unlock()
	if s.started != nil {
		s.started <- struct{}{}
		select {
		case <-s.release:
		case <-ctx.Done():
		}
	}
	defer func() { s.mu.Lock(); s.now--; s.mu.Unlock() }()
	return &source.Answer{}, s.answer(call, q)
}

func ask(names ...string) plan.Request {
	q := plan.Request{Source: "scripted", Dataset: catalogue.Quotes}
	for i, n := range names {
		q.Needs = append(q.Needs, plan.Need{Dataset: catalogue.Quotes, Listing: int64(i + 1), Symbol: market.Symbol{Ticker: n, Exchange: "XCVH"}})
	}
	return q
}

func never(*source.Answer, *source.Fault) {}

func TestALaneKeepsToItsConcurrency(t *testing.T) {
	t.Parallel()
	s := &scripted{about: source.Description{Concurrent: 3}, answer: func(int, plan.Request) error { return nil }, started: make(chan struct{}), release: make(chan struct{})}
	l := newLane(s)
	var wait sync.WaitGroup
	for range 9 {
		wait.Go(func() {
			if _, fault, err := l.fetch(t.Context(), ask("A"), false, never); fault != nil || err != nil {
				t.Error(fault, err)
			}
		})
	}
	for range 3 {
		<-s.started
	}
	select {
	case <-s.started:
		t.Error("a fourth request at once")
	case <-time.After(50 * time.Millisecond): // the only way to see that nothing happens
	}
	go func() {
		for range 6 {
			s.release <- struct{}{}
			<-s.started
		}
		for range 3 {
			s.release <- struct{}{}
		}
	}()
	wait.Wait()
	if s.most != 3 || len(s.calls) != 9 {
		t.Errorf("%d at once, %d in all", s.most, len(s.calls))
	}
}

func TestALaneKeepsToItsRate(t *testing.T) {
	t.Parallel()
	s := &scripted{about: source.Description{PerSecond: 50, Concurrent: 10}, answer: func(int, plan.Request) error { return nil }}
	l := newLane(s)
	var wait sync.WaitGroup
	for range 6 {
		wait.Go(func() { l.fetch(t.Context(), ask("A"), false, never) })
	}
	wait.Wait()
	if took := s.calls[5].Sub(s.calls[0]); took < 90*time.Millisecond {
		t.Errorf("six requests within %s, though 50 a second allow them within 100 ms", took)
	}
}

func TestPassingFaultsAreTriedAgainAndTheOthersAreNot(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault source.Fault
		calls int
	}{
		{source.Fault{Kind: source.ServerFailed, RetryAfter: time.Millisecond}, 4},
		{source.Fault{Kind: source.Throttled, RetryAfter: time.Millisecond}, 4},
		{source.Fault{Kind: source.ServerFailed, RetryAfter: time.Hour}, 1}, // longer than it is worth waiting
		{source.Fault{Kind: source.KeyInvalid}, 1},
		{source.Fault{Kind: source.AllowanceGone}, 1},
	} {
		s := &scripted{answer: func(int, plan.Request) error { f := c.fault; return &f }}
		between := 0
		_, fault, err := newLane(s).fetch(t.Context(), ask("A"), false, func(*source.Answer, *source.Fault) { between++ })
		if err != nil || fault == nil || fault.Kind != c.fault.Kind || len(s.calls) != c.calls || between != c.calls-1 {
			t.Errorf("%+v: %d calls, %d told of, %v %v", c.fault, len(s.calls), between, fault, err)
		}
	}
	s := &scripted{answer: func(call int, _ plan.Request) error {
		if call == 1 {
			return &source.Fault{Kind: source.Throttled, RetryAfter: 120 * time.Millisecond}
		}
		return nil
	}}
	if _, fault, err := newLane(s).fetch(t.Context(), ask("A"), false, never); fault != nil || err != nil {
		t.Fatal(fault, err)
	}
	if waited := s.calls[1].Sub(s.calls[0]); waited < 120*time.Millisecond {
		t.Errorf("asked again after %s, though the source said 120 ms", waited)
	}
}

func TestASourceThatKeepsFailingIsLeftAlone(t *testing.T) {
	t.Parallel()
	s := &scripted{answer: func(int, plan.Request) error { return &source.Fault{Kind: source.Unreachable, RetryAfter: time.Hour} }}
	l := newLane(s)
	for i := range breakAfter + 5 {
		_, fault, err := l.fetch(t.Context(), ask("A"), false, never)
		if err != nil || fault == nil {
			t.Fatalf("call %d: %v %v", i, fault, err)
		}
	}
	if len(s.calls) != breakAfter || !l.breaker.IsOpen() {
		t.Errorf("%d calls reached it, want %d", len(s.calls), breakAfter)
	}
}

// A batch that is refused because of a symbol is taken apart until the culprit
// is alone, whether the source names it or not.
func TestARefusedBatchIsTakenApart(t *testing.T) {
	t.Parallel()
	for _, named := range []bool{true, false} {
		w := newWorld(t, 50)
		var served []string
		s := &scripted{about: source.Description{Name: "scripted", Concurrent: 1}}
		s.answer = func(_ int, q plan.Request) error {
			for _, n := range q.Needs {
				if n.Symbol.Ticker == "BAD" {
					f := &source.Fault{Kind: source.UnknownInside, Status: 422}
					if named {
						f.Culprits = []market.Symbol{n.Symbol}
					}
					return f
				}
			}
			for _, n := range q.Needs {
				served = append(served, n.Symbol.Ticker)
			}
			return nil
		}
		w.engine.lanes = append(w.engine.lanes, newLane(s))
		q := ask("A", "B", "C", "BAD", "D", "E", "F")
		if err := w.engine.send(t.Context(), 0, q, false); err != nil {
			t.Fatal(err)
		}
		if fmt.Sprint(len(served)) != "6" {
			t.Errorf("named %t: served %v", named, served)
		}
		if calls := map[bool]int{true: 3, false: 7}[named]; len(s.calls) > calls {
			t.Errorf("named %t: %d calls, want at most %d", named, len(s.calls), calls)
		}
		var outcome string
		if err := w.store.Pool.QueryRow(t.Context(), "select outcome from attempt where source = 'scripted' and listing_id = 4 and known_to = 'infinity'").Scan(&outcome); err != nil || outcome != "not_covered" {
			t.Errorf("named %t: the culprit's outcome is %q, %v", named, outcome, err)
		}
	}
}
