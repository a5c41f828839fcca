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
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// Engine runs refreshes.
type Engine struct {
	store   *store.Store
	book    *store.Book
	lanes   []*lane // one for each source, in order of preference
	now     func() time.Time
	limits  freshness.Limits
	streams streams
	jobs    *river.Client[pgx.Tx]
	stop    context.CancelFunc
	ended   sync.WaitGroup
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
func New(s *store.Store, book *store.Book, sources []*source.Source, now func() time.Time, limits freshness.Limits) (*Engine, error) {
	e := &Engine{store: s, book: book, now: now, limits: limits}
	for _, src := range sources {
		e.lanes = append(e.lanes, newLane(src, s))
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
	e.ended.Go(func() { e.keepTime(ctx) })
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

// adopt gives a new job to each refresh that was running and that no instance
// holds, and to each that has been waiting for so long that the instance which
// took its job must have died before it began. A job too many finds the refresh
// leased or over, and ends.
func (e *Engine) adopt(ctx context.Context) error {
	unfinished, err := e.store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, r := range unfinished {
		if r.State != store.Running && e.now().Sub(r.AskedAt) < adoption {
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

// priorities of jobs by why they were asked for: a person who waits comes first.
var priorities = map[string]int{store.ByHand: 1, store.ByTable: 1, store.ForListing: 1, store.BySchedule: 2, store.ByStream: 3}

// Ask queues a refresh of a watchlist, or of the directory of listings.
func (e *Engine) Ask(ctx context.Context, a store.Asked) (store.Refresh, error) {
	return e.store.QueueRefresh(ctx, a, e.now(), func(tx pgx.Tx, id int64) error {
		_, err := e.jobs.InsertTx(ctx, tx, job{id}, &river.InsertOpts{Priority: priorities[a.Cause]})
		return err
	})
}

// AskForDirectory queues a refresh of the directory of listings if it is due
// from any source; nil where it is not.
func (e *Engine) AskForDirectory(ctx context.Context) (*store.Refresh, error) {
	due, err := e.directoryNeeds(ctx, false)
	if err != nil || len(due) == 0 {
		return nil, err
	}
	r, err := e.Ask(ctx, store.Asked{Datasets: []catalogue.Dataset{catalogue.Listings}, Cause: store.ForListing})
	return &r, err
}

// directoryNeeds are the exchanges whose listings are due, from each source.
func (e *Engine) directoryNeeds(ctx context.Context, force bool) ([]plan.Need, error) {
	var needs []plan.Need
	disabled := e.book.Preferences()
	for _, l := range e.lanes {
		if !l.source.Serves(catalogue.Listings) || disabled.IsDisabled(l.source.Name) {
			continue
		}
		last, err := e.store.LastDirectory(ctx, l.source.Name)
		if err != nil {
			return nil, err
		}
		if !force && last != nil && !freshness.StillHolds(*last, e.now(), e.limits.Holds(catalogue.Listings)).Stale {
			continue
		}
		codes := []string{""}
		if l.source.ListsByExchange() {
			codes = append(e.book.Exchanges().Codes(), "")
		}
		for _, code := range codes {
			if l.source.ListsByExchange() && l.source.Symbols.Exchange(code) == "" {
				continue
			}
			needs = append(needs, plan.Need{Dataset: catalogue.Listings, Symbol: market.Symbol{Exchange: code}, Only: l.source.Name})
		}
	}
	return needs, nil
}

// Preview plans a refresh without carrying it out.
func (e *Engine) Preview(ctx context.Context, rows []store.Row, a store.Asked) (*plan.Plan, error) {
	needs, err := e.assess(ctx, with(rows, a.Listings), e.ask(a))
	if err != nil {
		return nil, err
	}
	w, err := e.world(ctx)
	if err != nil {
		return nil, err
	}
	return plan.Make(needs, w), nil
}

// ask is what a refresh is for, as the planner is told.
func (e *Engine) ask(a store.Asked) plan.Ask {
	preferences := e.book.Preferences()
	ask := plan.Ask{Datasets: a.Datasets, Visible: a.Visible, Force: a.Force, From: a.From, Compare: preferences.Compare}
	if !a.Compare {
		return ask
	}
	ask.Compare = map[catalogue.Dataset][]string{}
	for _, d := range a.Datasets {
		if names := e.Serving(d); len(names) > 1 {
			ask.Compare[d] = names
		}
	}
	return ask
}

// assess finds what is due for listings, and with it what their fields need of
// others: all of the other classes of an issuer's shares, rates of the pairs that turn
// their amounts into one currency, bars of the indices that their prices are compared
// with.
func (e *Engine) assess(ctx context.Context, rows []store.Row, ask plan.Ask) ([]plan.Need, error) {
	if err := e.book.CatchUp(ctx); err != nil {
		return nil, err
	}
	records, err := e.book.Records(ctx, rows, 0)
	if err != nil {
		return nil, err
	}
	if slices.Contains(ask.Datasets, catalogue.Intraday) {
		if err := e.book.AddIntraday(ctx, records); err != nil {
			return nil, err
		}
	}
	for _, r := range records {
		for _, class := range r.Classes {
			if !slices.ContainsFunc(rows, func(row store.Row) bool { return row.ListingID == class.Listing.ID }) {
				rows, records = append(slices.Clip(rows), store.Row{ListingID: class.Listing.ID}), append(records, class)
			}
		}
	}
	needs := plan.Assess(records, ask, e.now(), e.limits)
	for _, besides := range []struct {
		dataset catalogue.Dataset
		rows    func([]store.Row) []store.Row
	}{{catalogue.Rates, e.ratesFor}, {catalogue.Bars, e.indicesFor}} {
		if !slices.Contains(ask.Datasets, besides.dataset) {
			continue
		}
		records, err := e.book.Records(ctx, besides.rows(rows), 0)
		if err != nil {
			return nil, err
		}
		of := ask
		of.Datasets = []catalogue.Dataset{besides.dataset}
		needs = append(needs, plan.Assess(records, of, e.now(), e.limits)...)
	}
	return needs, nil
}

// SourceState is a source with how it has been doing.
type SourceState struct {
	*source.Source
	store.SourceHealth
	Left     int       // of the day's allowance
	Resets   time.Time // when that starts anew
	Broken   bool      // its circuit is open: it failed too often and is left alone for a while
	Disabled bool      // by the user
}

// Sources tells the state of every source.
func (e *Engine) Sources(ctx context.Context) ([]SourceState, error) {
	var out []SourceState
	preferences := e.book.Preferences()
	for _, l := range e.lanes {
		starts, ends := l.source.Limits.DayOf(e.now())
		h, err := e.store.SourceHealth(ctx, l.source.Name, starts)
		if err != nil {
			return nil, err
		}
		out = append(out, SourceState{
			Source: l.source, SourceHealth: h, Left: max(0, l.source.Limits.UnitsPerDay-h.SpentToday), Resets: ends,
			Broken: l.breaker.IsOpen(), Disabled: preferences.IsDisabled(l.source.Name),
		})
	}
	return out, nil
}

// Serving names the sources that serve a dataset and are switched on.
func (e *Engine) Serving(d catalogue.Dataset) (names []string) {
	preferences := e.book.Preferences()
	for _, l := range e.lanes {
		if l.source.Serves(d) && !preferences.IsDisabled(l.source.Name) {
			names = append(names, l.source.Name)
		}
	}
	return names
}

// Source finds a connected source by name, or nil.
func (e *Engine) Source(name string) *source.Source {
	if l := e.lane(name); l != nil {
		return l.source
	}
	return nil
}

// guessedLatency stands in until a source has answered.
const guessedLatency = 300 * time.Millisecond

// world is what the planner needs to know of the sources.
func (e *Engine) world(ctx context.Context) (*plan.World, error) {
	states, err := e.Sources(ctx)
	if err != nil {
		return nil, err
	}
	w := &plan.World{Sources: make([]plan.Source, len(states)), Prefer: e.book.Preferences().Order, Exchanges: e.book.Exchanges()}
	for i, s := range states {
		p := s.Planned()
		if p.Latency = time.Duration(s.MedianMs * float64(time.Millisecond)); p.Latency == 0 {
			p.Latency = guessedLatency
		}
		p.UnitsLeft, p.Resets = s.Left, s.Resets
		switch {
		case s.Disabled:
			p.Closed = "is switched off"
		case s.Broken && p.Closed == "":
			p.Closed = e.lane(s.Name).aloneFor()
		}
		w.Sources[i] = p
	}
	return w, nil
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

// carryOut plans what is due and sends the requests of each source side by side.
// Where a source could not help, the next one is asked in another round; what
// other refreshes are bringing is waited for.
func (e *Engine) carryOut(ctx context.Context, r *store.Refresh) error {
	if err := e.store.ClearInFlight(ctx, r.ID); err != nil {
		return err
	}
	happened, stop := e.book.Listen(func(what string, _ int64) bool { return what == "refresh" || what == "request" })
	defer stop()
	for first := true; ; first = false {
		p, w, shared, err := e.plan(ctx, r)
		if err != nil {
			return err
		}
		if first || len(p.Requests) > 0 {
			if err := e.announce(ctx, r, p, shared, first); err != nil {
				return err
			}
		}
		if err := e.refuse(ctx, p.Refused); err != nil {
			return err
		}
		switch {
		case len(p.Requests) > 0:
			unmet, err := e.sendAll(ctx, r.ID, p.Requests)
			if err != nil {
				return err
			}
			// Exchanges have no attempts, so that they would be asked for again.
			if r.Cause == store.ForListing || shared == 0 && !helped(unmet, w) {
				return nil
			}
		case shared == 0:
			return nil
		default:
			select {
			case <-happened:
			case <-time.After(sharedCheck):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

// sharedCheck is how often a refresh looks after what others are bringing, should
// a notification be lost.
const sharedCheck = 2 * time.Second

// plan plans what is due now, and claims it: what another refresh was faster to
// claim is left to that one. What is due is looked at again after a claim, since
// another may have brought it, and let go of it, in between.
func (e *Engine) plan(ctx context.Context, r *store.Refresh) (p *plan.Plan, w *plan.World, shared int, err error) {
	claimed := map[store.NeedKey]bool{} // false for what others were faster to claim
	for {
		needs, err := e.needs(ctx, r, func(n *plan.Need) bool { return claimed[needKey(n)] })
		if err != nil {
			return nil, nil, 0, err
		}
		if w, err = e.world(ctx); err != nil {
			return nil, nil, 0, err
		}
		for i := range needs {
			if mine, known := claimed[needKey(&needs[i])]; known && !mine && needs[i].NotDue == "" {
				needs[i].Share()
			}
		}
		p = plan.Make(needs, w)
		var wanted []store.NeedKey
		for i := range p.Requests {
			for j := range p.Requests[i].Needs {
				n := &p.Requests[i].Needs[j]
				if _, known := claimed[needKey(n)]; !known && n.Listing != 0 {
					wanted = append(wanted, needKey(n))
				}
			}
		}
		if len(wanted) == 0 {
			break
		}
		won, err := e.store.ClaimNeeds(ctx, r.ID, wanted)
		if err != nil {
			return nil, nil, 0, err
		}
		for _, k := range wanted {
			claimed[k] = won[k]
		}
	}
	// What was claimed and then found to have been brought is let go of, or this
	// refresh would wait for itself.
	for i := range p.Requests {
		for j := range p.Requests[i].Needs {
			delete(claimed, needKey(&p.Requests[i].Needs[j]))
		}
	}
	var idle []store.NeedKey
	for k, mine := range claimed {
		if mine {
			idle = append(idle, k)
		}
	}
	if len(idle) > 0 {
		if err := e.store.ReleaseNeeds(ctx, r.ID, idle); err != nil {
			return nil, nil, 0, err
		}
	}
	for i := range p.Skipped {
		if p.Skipped[i].Shared() {
			shared++
		}
	}
	return p, w, shared, nil
}

func needKey(n *plan.Need) store.NeedKey {
	return store.NeedKey{Dataset: n.Dataset, Listing: n.Listing}
}

func (e *Engine) announce(ctx context.Context, r *store.Refresh, p *plan.Plan, shared int, first bool) error {
	units := 0
	for _, u := range p.Units {
		units += u
	}
	return e.store.PlanRefresh(ctx, r.ID, store.Planned{
		Requests: len(p.Requests), Skipped: len(p.Skipped), Refused: len(p.Refused), Shared: shared,
		Event: e.event("planned", map[string]any{
			"requests": len(p.Requests), "skipped": len(p.Skipped), "refused": len(p.Refused), "shared": shared, "units": units, "seconds": p.Duration().Seconds(),
		}),
	}, first)
}

// unmet is a need that a source did not meet.
type unmet struct {
	need   *plan.Need
	source string
}

// helped tells whether another source can be asked for what one did not bring.
func helped(all []unmet, w *plan.World) bool {
	for _, u := range all {
		for i := range w.Sources {
			if s := &w.Sources[i]; s.Name != u.source && s.Closed == "" && s.Offers(u.need) {
				return true
			}
		}
	}
	return false
}

// sendAll sends the requests of a plan, those of each source in the order of the
// plan: what matters most comes first. It returns what they did not bring.
func (e *Engine) sendAll(ctx context.Context, refresh int64, requests []plan.Request) ([]unmet, error) {
	var mu sync.Mutex
	var all []unmet
	lacks := func(source string, needs []*plan.Need) {
		mu.Lock()
		defer mu.Unlock()
		for _, n := range needs {
			all = append(all, unmet{n, source})
		}
	}
	var wait sync.WaitGroup
	failures := make(chan error, len(requests)+len(e.lanes))
	for _, l := range e.lanes {
		var own []plan.Request
		for _, q := range requests {
			if q.Source == l.source.Name {
				own = append(own, q)
			}
		}
		if len(own) == 0 {
			continue
		}
		wait.Go(func() {
			if err := l.take(ctx); err != nil {
				failures <- err
				return
			}
			var sent sync.WaitGroup
			defer func() { sent.Wait(); l.give() }()
			for _, q := range own {
				if err := l.enter(ctx); err != nil {
					failures <- err
					return
				}
				sent.Go(func() {
					if err := e.send(ctx, refresh, q, true, lacks); err != nil {
						failures <- err
					}
				})
			}
		})
	}
	wait.Wait()
	close(failures)
	return all, errors.Join(ctx.Err(), <-failures)
}

// needs finds what a refresh is to bring. What it has asked for since it began
// counts as brought, so that after an interruption only the rest is asked for.
func (e *Engine) needs(ctx context.Context, r *store.Refresh, claimed func(*plan.Need) bool) ([]plan.Need, error) {
	if r.Cause == store.ForListing {
		return e.directoryNeeds(ctx, r.Force)
	}
	var rows []store.Row
	if r.WatchlistID != nil {
		var err error
		if rows, err = e.store.Rows(ctx, *r.WatchlistID); err != nil {
			return nil, err
		}
	}
	rows = with(rows, r.Listings)
	asked := store.Asked{Datasets: datasets(r.Datasets), Visible: datasets(r.Visible), Force: r.Force, Compare: r.Compare}
	if r.FromDay != nil {
		asked.From = period.DateOf(*r.FromDay)
	}
	ask := e.ask(asked)
	ask.Since, ask.Claimed = *r.StartedAt, claimed
	return e.assess(ctx, rows, ask)
}

// with is rows and the listings that are not among them yet.
func with(rows []store.Row, listings []int64) []store.Row {
	there := map[int64]bool{}
	for _, row := range rows {
		there[row.ListingID] = true
	}
	rows = slices.Clip(rows) // which others hold too
	for _, id := range listings {
		if !there[id] {
			there[id] = true
			rows = append(rows, store.Row{ListingID: id})
		}
	}
	return rows
}

// PairsOf are the pairs that some source fixes a currency in.
func (e *Engine) PairsOf(currency string) (pairs []int64) {
	for _, l := range e.book.Directory().Ordered {
		if s := l.Symbol; s.IsPair() && (s.Ticker == currency || s.Exchange == currency) && e.fixes(s) {
			pairs = append(pairs, l.ID)
		}
	}
	return pairs
}

// fixes tells whether any source gives reference rates of a pair.
func (e *Engine) fixes(pair market.Symbol) bool {
	return slices.ContainsFunc(e.lanes, func(l *lane) bool { return l.source.Serves(catalogue.Rates) && l.source.Symbols.Covers(pair) })
}

// ratesFor are the pairs, besides those in a list, whose reference rates turn its
// amounts into one currency: those between the currencies of its listings and of
// the exchanges that are known.
func (e *Engine) ratesFor(rows []store.Row) (pairs []store.Row) {
	directory := e.book.Directory()
	wanted, inList := map[string]bool{}, map[int64]bool{}
	for _, row := range rows {
		inList[row.ListingID] = true
		if l := directory.ByID(row.ListingID); l != nil {
			wanted[l.Currency] = true
		}
	}
	exchanges := e.book.Exchanges()
	for _, l := range directory.Ordered {
		wanted[exchanges.Of(l).Currency] = true
	}
	for _, l := range directory.Ordered {
		s := l.Symbol
		if !s.IsPair() || inList[l.ID] || !wanted[s.Ticker] || !wanted[s.Exchange] {
			continue
		}
		if e.fixes(s) {
			pairs = append(pairs, store.Row{ListingID: l.ID})
		}
	}
	return pairs
}

// indicesFor are the main indices, besides those in a list, of the exchanges on
// which its shares and funds trade.
func (e *Engine) indicesFor(rows []store.Row) (indices []store.Row) {
	directory := e.book.Directory()
	seen := map[int64]bool{}
	for _, row := range rows {
		seen[row.ListingID] = true
	}
	compared := catalogue.Find("price.beta_2y")
	for _, row := range rows {
		l := directory.ByID(row.ListingID)
		if l == nil || !compared.AppliesTo(l.Kind) {
			continue
		}
		if index := directory.Find(e.book.Exchange(l).Index); index != nil && !seen[index.ID] {
			seen[index.ID] = true
			indices = append(indices, store.Row{ListingID: index.ID})
		}
	}
	return indices
}

func datasets(names []string) []catalogue.Dataset {
	out := make([]catalogue.Dataset, len(names))
	for i, name := range names {
		out[i] = catalogue.Dataset(name)
	}
	return out
}

// refuse records why needs are not even asked for, so that their cells can say
// it, unless that is known already.
func (e *Engine) refuse(ctx context.Context, refused []plan.Refusal) error {
	attempts := map[store.NeedKey]*table.Attempt{}
	for i := range refused {
		f := &refused[i]
		outcome := f.Reason
		if outcome == cell.SourceDown {
			outcome = cell.FetchFailed
		}
		if f.Need.Listing == 0 || f.Need.LastReason(f.Source) == outcome && outcome != cell.AllowanceSpent {
			continue
		}
		detail := f.Detail
		if f.Source != "" {
			detail = f.Source + ": " + detail
		}
		attempts[store.NeedKey{Listing: f.Need.Listing, Dataset: f.Need.Dataset}] = &table.Attempt{Source: f.Source, At: e.now(), Outcome: outcome, Detail: detail}
	}
	return e.store.Refuse(ctx, attempts)
}
