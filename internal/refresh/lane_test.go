package refresh

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"soba.invalid/soba/internal/cluster/clustertest"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// scripted is a vendor that answers by a script and notes how it is asked.
type scripted struct {
	answer  func(call int, symbols []string) (status int, retryAfter string, culprits []string)
	started chan struct{}
	release chan struct{}

	mu    sync.Mutex
	calls []time.Time
	now   int
	most  int // at once
}

func (s *scripted) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.calls = append(s.calls, time.Now())
	call := len(s.calls)
	s.now++
	s.most = max(s.most, s.now)
	s.mu.Unlock()
	defer func() { s.mu.Lock(); s.now--; s.mu.Unlock() }()
	if s.started != nil {
		s.started <- struct{}{}
		<-s.release
	}
	symbols := strings.Split(r.URL.Query().Get("s"), ",")
	status, retry, culprits := s.answer(call, symbols)
	if retry != "" {
		w.Header().Set("Retry-After", retry)
	}
	w.WriteHeader(status)
	rows := []map[string]any{}
	for _, x := range symbols {
		rows = append(rows, map[string]any{"symbol": x, "last": 1})
	}
	json.NewEncoder(w).Encode(map[string]any{"rows": rows, "culprits": culprits}) //nolint:errcheck
}

// lane connects the vendor with limits, on a store of its own.
func (s *scripted) lane(t *testing.T, limits string) *lane {
	t.Helper()
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	d, err := source.Read("scripted.yaml", []byte(`name: scripted
access: {address: "`+server.URL+`", private: true}
limits: {`+limits+`}
replies: {culprits: "$.culprits[*]", means: {422: unknown_symbol}}
calls:
  - serves: [quotes]
    path: /
    query: {s: "{symbols}"}
    batch: {symbols: 100}
    format: {kind: json}
    parts: [{rows: "$.rows[*]", symbol: symbol, fields: {last: last}}]
`))
	if err != nil {
		t.Fatal(err)
	}
	src, err := source.Connect(d, source.Secret{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := store.Open(t.Context(), clustertest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(kept.Close)
	l := newLane(src, kept)
	if err := l.take(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.give)
	return l
}

func ask(names ...string) plan.Request {
	q := plan.Request{Source: "scripted", Call: "quotes"}
	for i, n := range names {
		q.Needs = append(q.Needs, plan.Need{Dataset: catalogue.Quotes, Listing: int64(i + 1), Symbol: market.Symbol{Ticker: n, Exchange: "XCVH"}})
	}
	return q
}

func never(*source.Answer, *source.Fault) {}

func fine(int, []string) (int, string, []string) { return 200, "", nil }

func TestALaneKeepsToItsConcurrency(t *testing.T) {
	t.Parallel()
	s := &scripted{answer: fine, started: make(chan struct{}), release: make(chan struct{})}
	l := s.lane(t, "at_once: 3")
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
	s := &scripted{answer: fine}
	l := s.lane(t, "per_second: 50, at_once: 10")
	var wait sync.WaitGroup
	began := time.Now() // the first may arrive late
	for range 6 {
		wait.Go(func() { l.fetch(t.Context(), ask("A"), false, never) })
	}
	wait.Wait()
	if took := s.calls[5].Sub(began); took < 99*time.Millisecond {
		t.Errorf("six requests within %s, though 50 a second allow them within 100 ms", took)
	}
}

func TestPassingFaultsAreTriedAgainAndTheOthersAreNot(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		status int
		retry  string
		calls  int
		kind   source.FaultKind
	}{
		{503, "0", 4, source.ServerFailed},
		{429, "0", 4, source.Throttled},
		{503, "3600", 1, source.ServerFailed}, // longer than it is worth waiting
		{401, "", 1, source.KeyRefused},
		{402, "", 1, source.AllowanceGone},
	} {
		s := &scripted{answer: func(int, []string) (int, string, []string) { return c.status, c.retry, nil }}
		between := 0
		_, fault, err := s.lane(t, "").fetch(t.Context(), ask("A"), false, func(*source.Answer, *source.Fault) { between++ })
		if err != nil || fault == nil || fault.Kind != c.kind || len(s.calls) != c.calls || between != c.calls-1 {
			t.Errorf("%+v: %d calls, %d told of, %v %v", c, len(s.calls), between, fault, err)
		}
	}
	s := &scripted{answer: func(call int, _ []string) (int, string, []string) {
		if call == 1 {
			return 429, "1", nil
		}
		return 200, "", nil
	}}
	if _, fault, err := s.lane(t, "").fetch(t.Context(), ask("A"), false, never); fault != nil || err != nil {
		t.Fatal(fault, err)
	}
	if waited := s.calls[1].Sub(s.calls[0]); waited < time.Second {
		t.Errorf("asked again after %s, though the source said a second", waited)
	}
}

func TestASourceThatKeepsFailingIsLeftAlone(t *testing.T) {
	t.Parallel()
	s := &scripted{answer: func(int, []string) (int, string, []string) { return 503, "3600", nil }}
	l := s.lane(t, "")
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
		s := &scripted{answer: func(_ int, symbols []string) (int, string, []string) {
			if slices.Contains(symbols, "BAD.XCVH") {
				if named {
					return 422, "", []string{"BAD.XCVH"}
				}
				return 422, "", nil
			}
			served = append(served, symbols...)
			return 200, "", nil
		}}
		w.engine.lanes = append(w.engine.lanes, s.lane(t, "at_once: 1"))
		q := ask("A", "B", "C", "BAD", "D", "E", "F")
		if err := w.engine.send(t.Context(), 0, q, false, func(string, []*plan.Need) {}); err != nil {
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
