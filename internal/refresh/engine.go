// Package refresh carries plans out: durable jobs that fetch what is due within
// the limits of the sources, store every response as it comes, and go on where
// they stopped when the service is killed.
package refresh

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// Engine runs refreshes.
type Engine struct {
	store  *store.Store
	book   *store.Book
	lanes  []*lane // one for each source, in order of preference
	now    func() time.Time
	limits freshness.Limits
	jobs   *river.Client[pgx.Tx]
	stop   context.CancelFunc
	ended  sync.WaitGroup
}

// job is the durable form of a refresh.
type job struct {
	Refresh int64 `json:"refresh"`
}

// Kind implements [river.JobArgs].
func (job) Kind() string { return "refresh" }

type worker struct {
	river.WorkerDefaults[job]
	engine *Engine
}

func (w *worker) Work(ctx context.Context, j *river.Job[job]) error {
	return w.engine.run(ctx, j.Args.Refresh)
}

// Timeout lets a refresh take as long as its sources' limits make it take.
func (w *worker) Timeout(*river.Job[job]) time.Duration { return -1 }

// atOnce is how many refreshes an instance runs side by side; they share the lanes.
const atOnce = 4

// New makes an engine over sources in order of preference. It does not run yet.
func New(s *store.Store, book *store.Book, sources []source.Source, now func() time.Time, limits freshness.Limits) (*Engine, error) {
	e := &Engine{store: s, book: book, now: now, limits: limits}
	for _, src := range sources {
		e.lanes = append(e.lanes, newLane(src))
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{engine: e})
	var err error
	e.jobs, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: atOnce}},
		Workers: workers,
		Logger:  slog.New(warnings{slog.Default().Handler()}),
	})
	return e, err
}

// warnings passes on what is worth a person's attention.
type warnings struct{ slog.Handler }

func (w warnings) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// Start begins to run refreshes, first of all those that were interrupted.
func (e *Engine) Start(ctx context.Context) error {
	ctx, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	if err := e.jobs.Start(ctx); err != nil {
		return err
	}
	if err := e.adopt(ctx); err != nil {
		return err
	}
	e.ended.Go(func() { e.watch(ctx) })
	return nil
}

// Stop ends all running refreshes where they are; they go on at the next start.
func (e *Engine) Stop(ctx context.Context) error {
	e.stop()
	e.ended.Wait()
	return e.jobs.StopAndCancel(ctx)
}

// adoption is how often an engine looks for refreshes whose instance died.
const adoption = 10 * time.Second

func (e *Engine) watch(ctx context.Context) {
	tick := time.NewTicker(adoption)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := e.adopt(ctx); err != nil && ctx.Err() == nil {
				slog.Warn("could not look for interrupted refreshes", "error", err)
			}
		}
	}
}

// adopt gives a new job to each refresh that was running and that no instance holds.
func (e *Engine) adopt(ctx context.Context) error {
	unfinished, err := e.store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, r := range unfinished {
		if r.State != store.Running {
			continue // its job is waiting
		}
		lease, err := e.store.TryLease(ctx, leaseName(r.ID))
		if err != nil {
			return err
		}
		if lease == nil {
			continue
		}
		_, err = e.jobs.Insert(ctx, job{r.ID}, nil)
		lease.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

func leaseName(refresh int64) string { return fmt.Sprintf("refresh %d", refresh) }

// Ask queues a refresh of a watchlist, or with nil of the directory of listings.
func (e *Engine) Ask(ctx context.Context, watchlist *int64, datasets []catalogue.Dataset, force bool) (store.Refresh, error) {
	return e.store.QueueRefresh(ctx, watchlist, datasets, force, e.now(), func(tx pgx.Tx, id int64) error {
		_, err := e.jobs.InsertTx(ctx, tx, job{id}, nil)
		return err
	})
}

// AskForDirectory queues a refresh of the directory of listings if it is due;
// nil where it is not.
func (e *Engine) AskForDirectory(ctx context.Context) (*store.Refresh, error) {
	for _, l := range e.lanes {
		last, err := e.store.LastDirectory(ctx, l.about.Name)
		if err != nil {
			return nil, err
		}
		if last == nil || freshness.Checked(*last, e.now(), e.limits.Listing).Stale {
			r, err := e.Ask(ctx, nil, []catalogue.Dataset{catalogue.Listings}, false)
			return &r, err
		}
	}
	return nil, nil
}

// Preview plans a refresh without carrying it out.
func (e *Engine) Preview(ctx context.Context, rows []store.Row, datasets []catalogue.Dataset, force bool) (*plan.Plan, error) {
	if err := e.book.CatchUp(ctx); err != nil {
		return nil, err
	}
	records, err := e.book.Records(ctx, rows)
	if err != nil {
		return nil, err
	}
	sources, err := e.planned(ctx)
	if err != nil {
		return nil, err
	}
	return plan.Make(plan.Assess(records, plan.Ask{Datasets: datasets, Force: force}, e.now(), e.limits), sources), nil
}

// SourceState is a source with how it has been doing.
type SourceState struct {
	source.Description
	store.SourceHealth
	Broken bool // its circuit is open: it failed too often and is left alone for a while
}

// Sources tells the state of every source.
func (e *Engine) Sources(ctx context.Context) ([]SourceState, error) {
	var out []SourceState
	for _, l := range e.lanes {
		h, err := e.store.SourceHealth(ctx, l.about.Name, e.now())
		if err != nil {
			return nil, err
		}
		out = append(out, SourceState{l.about, h, l.breaker.IsOpen()})
	}
	return out, nil
}

// guessedLatency stands in until a source has answered.
const guessedLatency = 300 * time.Millisecond

// planned is what the planner needs to know of the sources.
func (e *Engine) planned(ctx context.Context) ([]plan.Source, error) {
	states, err := e.Sources(ctx)
	if err != nil {
		return nil, err
	}
	day := 24 * time.Hour
	sources := make([]plan.Source, len(states))
	for i, s := range states {
		latency := time.Duration(s.MedianMs * float64(time.Millisecond))
		if latency == 0 {
			latency = guessedLatency
		}
		sources[i] = plan.Source{
			Name: s.Name, Offers: s.Offers, PerSecond: s.PerSecond, Concurrent: s.Concurrent, Latency: latency,
			Limited: s.UnitsPerDay > 0, UnitsLeft: max(0, s.UnitsPerDay-s.SpentToday), Resets: e.now().UTC().Truncate(day).Add(day),
		}
	}
	return sources, nil
}

// run carries out one refresh from wherever it stands.
func (e *Engine) run(ctx context.Context, id int64) error {
	lease, err := e.store.TryLease(ctx, leaseName(id))
	if err != nil || lease == nil {
		return err // another instance has it
	}
	defer lease.Release()
	r, err := e.store.StartRefresh(ctx, id, e.now())
	if err != nil || r.Over() {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cancelled, stopListening := e.book.Listen(func(what string, n int64) bool { return what == "cancel" && n == id })
	defer stopListening()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-cancelled:
				if now, err := e.store.Refresh(ctx, id); err == nil && now.Cancel {
					cancel()
				}
			}
		}
	}()
	if r.Cancel {
		cancel()
	}
	err = e.carryOut(ctx, &r)
	return e.finish(context.WithoutCancel(ctx), id, err)
}

// finish records how a refresh ended. One that the service's stop interrupted
// stays running, and its job is tried again.
func (e *Engine) finish(ctx context.Context, id int64, failure error) error {
	r, err := e.store.Refresh(ctx, id)
	if err != nil {
		return err
	}
	state, fault := store.Done, ""
	switch {
	case r.Cancel && failure != nil:
		state = store.Cancelled
	case errors.Is(failure, context.Canceled):
		return failure
	case failure != nil:
		state, fault = store.Failed, failure.Error()
		slog.Error("a refresh failed", "refresh", id, "error", failure)
	}
	return e.store.FinishRefresh(ctx, id, state, fault, e.event("finished", map[string]any{
		"state": state, "fault": fault, "answered": r.Answered, "failed": r.Failed, "units": r.Units,
	}))
}

func (e *Engine) event(kind string, data map[string]any) store.Event {
	b, _ := json.Marshal(data) // plain values always marshal
	return store.Event{At: e.now(), Kind: kind, Data: b}
}

// carryOut plans what is due now and sends the requests of each source side by side.
func (e *Engine) carryOut(ctx context.Context, r *store.Refresh) error {
	if err := e.store.ClearInFlight(ctx, r.ID); err != nil {
		return err
	}
	needs, err := e.needs(ctx, r)
	if err != nil {
		return err
	}
	sources, err := e.planned(ctx)
	if err != nil {
		return err
	}
	p := plan.Make(needs, sources)
	inFlight := map[catalogue.Dataset][]int64{}
	for _, q := range p.Requests {
		for _, n := range q.Needs {
			if n.Listing != 0 {
				inFlight[n.Dataset] = append(inFlight[n.Dataset], n.Listing)
			}
		}
	}
	units := 0
	for _, u := range p.Units {
		units += u
	}
	err = e.store.PlanRefresh(ctx, r.ID, store.Planned{
		Requests: len(p.Requests), Skipped: len(p.Skipped), Refused: len(p.Refused), InFlight: inFlight,
		Event: e.event("planned", map[string]any{
			"requests": len(p.Requests), "skipped": len(p.Skipped), "refused": len(p.Refused), "units": units, "seconds": p.Duration().Seconds(),
		}),
	})
	if err != nil {
		return err
	}
	if err := e.refuse(ctx, p.Refused); err != nil {
		return err
	}
	var wait sync.WaitGroup
	failures := make(chan error, len(p.Requests)+len(e.lanes))
	for _, l := range e.lanes {
		wait.Go(func() {
			// A source's requests go out in the order of the plan: what matters most comes first.
			for _, q := range p.Requests {
				if q.Source != l.about.Name {
					continue
				}
				if err := l.enter(ctx); err != nil {
					failures <- err
					return
				}
				wait.Go(func() {
					if err := e.send(ctx, r.ID, q, true); err != nil {
						failures <- err
					}
				})
			}
		})
	}
	wait.Wait()
	close(failures)
	return errors.Join(ctx.Err(), <-failures)
}

// needs finds what a refresh is to bring. What it has asked for since it began
// counts as brought, so that after an interruption only the rest is asked for.
func (e *Engine) needs(ctx context.Context, r *store.Refresh) ([]plan.Need, error) {
	if len(r.Datasets) == 1 && r.Datasets[0] == string(catalogue.Listings) {
		var needs []plan.Need
		for _, code := range append(e.book.Exchanges().Codes(), "") {
			needs = append(needs, plan.Need{Dataset: catalogue.Listings, Symbol: market.Symbol{Exchange: code}})
		}
		return needs, nil
	}
	if r.WatchlistID == nil {
		return nil, nil
	}
	rows, err := e.store.Rows(ctx, *r.WatchlistID)
	if err != nil {
		return nil, err
	}
	if err := e.book.CatchUp(ctx); err != nil {
		return nil, err
	}
	records, err := e.book.Records(ctx, rows)
	if err != nil {
		return nil, err
	}
	ask := plan.Ask{Force: r.Force, Since: *r.StartedAt}
	for _, d := range r.Datasets {
		ask.Datasets = append(ask.Datasets, catalogue.Dataset(d))
	}
	return plan.Assess(records, ask, e.now(), e.limits), nil
}

// refuse records why needs are not even asked for, so that their cells can say it.
func (e *Engine) refuse(ctx context.Context, refused []plan.Refusal) error {
	attempts := map[store.Refusal]*table.Attempt{}
	for _, f := range refused {
		if f.Reason == cell.AllowanceSpent {
			attempts[store.Refusal{Listing: f.Need.Listing, Dataset: f.Need.Dataset}] = &table.Attempt{Source: f.Source, At: e.now(), Outcome: f.Reason, Detail: f.Source + ": " + f.Detail}
		}
	}
	return e.store.Refuse(ctx, attempts)
}
