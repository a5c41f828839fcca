package refresh

import (
	"cmp"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

// longestFault is how long a refresh may take whatever its source does, with a
// time-out of a second: a source that fails six times in a row is left alone.
const longestFault = 12 * time.Second

// effect is what a fault did.
type effect struct {
	kind, does  string
	sees        string // what a cell of the list says
	stored      string
	took        time.Duration
	wrongStored int // values that are neither the old ones nor marked
}

// Whatever goes wrong with a vendor while a list of 500 names is refreshed, no
// value is lost, none is wrong without a mark, and the refresh ends in time.
func TestEveryFaultOnFiveHundredNames(t *testing.T) {
	if testing.Short() {
		t.Skip("takes minutes under the race detector")
	}
	t.Parallel()
	const worlds = 3
	var mu sync.Mutex
	var effects []effect
	var wait sync.WaitGroup
	for part := range worlds {
		w := newWorld(t, 500)
		for _, s := range w.sources {
			s.Limits.Timeout, s.Limits.LargestMiB, s.Limits.Records = time.Second, 4, 100_000
		}
		w.refresh(false, catalogue.Quotes)
		if part == rank("restated")%worlds {
			w.patient(func() { w.refresh(false, catalogue.Bars) })
		}
		good := w.quotes()
		wait.Go(func() {
			for i, k := range standin.FaultKinds {
				if i%worlds == part {
					e := w.suffer(k.Kind, good)
					e.does = k.Does
					mu.Lock()
					effects = append(effects, e)
					mu.Unlock()
				}
			}
		})
	}
	wait.Wait()
	slices.SortFunc(effects, func(a, b effect) int { return cmp.Compare(rank(a.kind), rank(b.kind)) })
	for _, e := range effects {
		if e.took > longestFault && e.kind != "restated" { // its histories take the stand-in a while to make
			t.Errorf("%s: the refresh took %s", e.kind, e.took)
		}
		if e.wrongStored > 0 {
			t.Errorf("%s: %d values are wrong without a mark", e.kind, e.wrongStored)
		}
	}
	if path := os.Getenv("SOBA_FAULTS"); path != "" {
		if err := os.WriteFile(path, document(effects), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func rank(kind string) int {
	return slices.IndexFunc(standin.FaultKinds, func(k struct{ Kind, Does string }) bool { return k.Kind == kind })
}

// suffer refreshes the list under one fault, and then again without it.
func (w *world) suffer(kind string, good map[string]cell.Cell) effect {
	f := standin.Fault{Kind: kind, Dataset: "quotes", Millis: 60}
	dataset := catalogue.Quotes
	switch kind {
	case "timeout":
		f.Millis = 3000
	case "latency":
		f.Millis = 400
	case "restated":
		f.Dataset, dataset = "history", catalogue.Bars
	case "unknown":
		f.Symbol = "XCVH:KELP"
	}
	w.fault(f)
	began := time.Now()
	refresh := func() (r store.Refresh) {
		if dataset == catalogue.Bars {
			w.patient(func() { r = w.refresh(true, dataset) })
			return r
		}
		return w.refresh(true, dataset)
	}
	r := refresh()
	e := effect{kind: kind, took: time.Since(began)}
	w.clearFaults()
	for _, l := range w.engine.lanes {
		l.reset()
	}
	w.t.Logf("%s: %+v in %s", kind, r, e.took)
	if r.State != store.Done {
		w.t.Errorf("%s: %+v", kind, r)
	}
	bad := w.quotes()
	said := map[string]int{}
	changed, marked := 0, 0
	for symbol, was := range good {
		is := bad[symbol]
		if is.Absent() && !was.Absent() {
			w.t.Errorf("%s: %s had %v and has nothing: %+v", kind, symbol, was.Value, is)
		}
		if is.Value.Kind == cell.Number && table.Differ(is.Value.Num, was.Value.Num, freshness.Standard.Tolerance) {
			if changed++; is.Flags&cell.Suspect != 0 {
				marked++
			}
		}
		if was.State == cell.Fresh && (is.State != was.State || is.Flags != was.Flags) {
			said[strings.TrimSpace(is.State.String()+" "+is.Reason.String()+" "+is.Flags.String())]++
		}
	}
	outcomes, details := w.outcomes(dataset)
	e.sees = "the values that were there, fresh as before"
	if len(said) > 0 {
		e.sees = most(said)
	}
	for outcome, n := range outcomes {
		if outcome != "" && n > 30 { // beyond the names that never have data
			e.sees += fmt.Sprintf("; %d names say %s: %s", n, outcome, details[outcome])
		}
	}
	e.stored = "nothing but the log and the outcomes"
	switch {
	case kind == "restated":
		e.stored = fmt.Sprintf("%d restated bars beside the old ones", w.number("select count(*) from bar where known_to < 'infinity'"))
	case changed > 0:
		e.stored = fmt.Sprintf("%d values as they came, all %d marked", changed, marked)
	case r.Failed == 0:
		e.stored = "the values, as always"
	}
	e.wrongStored = changed - marked
	w.patient(func() {
		if r := refresh(); r.Failed > 0 {
			w.t.Errorf("after %s: %+v", kind, r)
		}
	})
	for symbol, c := range w.quotes() {
		if good[symbol].Value != c.Value {
			w.t.Errorf("after %s: %s was %v and is %v", kind, symbol, good[symbol].Value, c.Value)
		}
	}
	return e
}

// patient does something while the sources have a long time-out.
func (w *world) patient(do func()) {
	for _, s := range w.sources {
		before := s.Limits.Timeout
		s.Limits.Timeout = time.Minute
		defer func() { s.Limits.Timeout = before }()
	}
	do()
}

// outcomes counts how the newest attempts of a dataset ended, with an example of each.
func (w *world) outcomes(d catalogue.Dataset) (counts map[string]int, details map[string]string) {
	counts, details = map[string]int{}, map[string]string{}
	rows, err := w.store.Pool.Query(w.t.Context(), "select outcome, count(*), min(detail) from attempt where known_to = 'infinity' and dataset = $1 group by 1", string(d))
	if err != nil {
		w.t.Error(err)
		return
	}
	defer rows.Close()
	for rows.Next() {
		var outcome, detail string
		var n int
		if err := rows.Scan(&outcome, &n, &detail); err != nil {
			w.t.Error(err)
		}
		counts[outcome], details[outcome] = n, detail
	}
	return counts, details
}

func (w *world) number(sql string) (n int) {
	if err := w.store.Pool.QueryRow(w.t.Context(), sql).Scan(&n); err != nil {
		w.t.Error(err)
	}
	return n
}

func most(counts map[string]int) string {
	best := ""
	for text, n := range counts {
		if n > counts[best] || n == counts[best] && text < best {
			best = text
		}
	}
	return fmt.Sprintf("%d names %s", counts[best], best)
}

func document(effects []effect) []byte {
	var b strings.Builder
	b.WriteString("# What goes wrong, and what is seen of it\n\nWritten by `make faults`: a list of 500 names whose values are there is refreshed by force while its vendor misbehaves in one way with every request. Time-outs are set to one second and answers to 4 MiB. After each the vendor is well again and one more refresh brings every value back as it was.\n\n")
	fmt.Fprintf(&b, "In no case is a value lost, or wrong by more than the tolerance of one per cent without a mark; no refresh takes longer than %d s.\n\n| fault | the vendor | what the user sees | what is stored | time |\n| --- | --- | --- | --- | --- |\n", int(longestFault.Seconds()))
	for _, e := range effects {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %.1f s |\n", e.kind, e.does, strings.ReplaceAll(e.sees, "|", "\\|"), e.stored, e.took.Seconds())
	}
	return []byte(b.String())
}

// Hostile answers are refused with a plain word, and without filling the memory.
func TestHostileAnswersAreRefusedWithinBounds(t *testing.T) {
	if testing.Short() {
		t.Skip("takes minutes under the race detector")
	}
	w := newWorld(t, 60)
	for _, c := range []struct{ kind, says string }{
		{"oversize", "answer too large (200): more than 8 MiB"},
		{"rows", "answer too large"},
		{"bomb", "answer too large (200): more than 8 MiB"},
		{"deep", "malformed answer (200): not JSON: nested deeper than 64"},
		{"encoding", "malformed answer (200)"},
		{"redirect", "address moved (302): it redirects to http://10.0.0.1/internal"},
	} {
		w.fault(standin.Fault{Kind: c.kind, Dataset: "quotes"})
		var most uint64
		ended := make(chan struct{})
		measured := make(chan struct{})
		go func() {
			defer close(measured)
			for tick := time.NewTicker(5 * time.Millisecond); ; {
				select {
				case <-ended:
					return
				case <-tick.C:
					var m runtime.MemStats
					runtime.ReadMemStats(&m)
					most = max(most, m.HeapInuse)
				}
			}
		}()
		w.refresh(true, catalogue.Quotes)
		close(ended)
		<-measured
		w.clearFaults()
		for _, l := range w.engine.lanes {
			l.reset()
		}
		got := w.quotes()["KELP.XCVH"]
		if got.Reason != cell.FetchFailed || !strings.Contains(got.Detail, c.says) {
			t.Errorf("%s: %+v", c.kind, got)
		}
		if most > 400<<20 {
			t.Errorf("%s: %d MiB in use", c.kind, most>>20)
		}
	}
}

// Two lists that share names are refreshed at once: each name is asked for once.
func TestTwoListsShareTheirNames(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 500)
	all := w.book.Directory().Ordered
	in := func(from, to int) store.Watchlist {
		rows := all[from:to]
		return w.newList(fmt.Sprint(from, " to ", to), func(l *market.Listing) bool { return slices.Contains(rows, l) })
	}
	first, second := in(0, 400), in(100, 500) // 300 of 400 are shared
	w.fault(standin.Fault{Kind: "latency", Millis: 150})
	var done [2]store.Refresh
	var wait sync.WaitGroup
	for i, list := range []store.Watchlist{first, second} {
		r, err := w.engine.Ask(t.Context(), store.Asked{Watchlist: &list.ID, Datasets: []catalogue.Dataset{catalogue.Quotes, catalogue.Profiles}, Cause: store.ByHand})
		if err != nil {
			t.Fatal(err)
		}
		wait.Go(func() { done[i] = w.wait(r.ID) })
	}
	wait.Wait()
	symbols := map[string]int{}
	for _, served := range w.vendors["gannet"].Log() {
		if served.Dataset == "quotes" {
			for _, s := range served.Symbols() {
				symbols[s]++
			}
		}
	}
	for s, n := range symbols {
		if n != 1 {
			t.Errorf("%s is asked for %d times", s, n)
		}
	}
	if len(symbols) != 500 || done[0].State != store.Done || done[1].State != store.Done {
		t.Errorf("%d names asked for; %+v and %+v", len(symbols), done[0], done[1])
	}
	// Each refresh ends only when all of its names have been brought.
	for i, list := range []store.Watchlist{first, second} {
		rows, err := w.store.Rows(t.Context(), list.ID)
		if err != nil {
			t.Fatal(err)
		}
		if err := w.book.CatchUp(t.Context()); err != nil {
			t.Fatal(err)
		}
		records, err := w.book.Records(t.Context(), rows, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range records {
			if g := r.Feeds[table.FeedOf(catalogue.Quotes)].By("gannet"); g == nil || g.Attempt == nil || g.Attempt.At.After(*done[i].FinishedAt) {
				t.Fatalf("%s had not been brought when its refresh ended", r.Listing.Symbol)
			}
		}
	}
}
