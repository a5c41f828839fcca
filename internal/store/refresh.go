package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
)

// States of a refresh.
const (
	Queued    = "queued"
	Running   = "running"
	Done      = "done"
	Cancelled = "cancelled"
	Failed    = "failed"
)

// Refresh is one act of planning, fetching and storing what is due.
type Refresh struct {
	ID          int64
	WatchlistID *int64
	Watchlist   string  // its name; "" of a refresh of the directory
	Listings    []int64 // besides those of the watchlist
	Datasets    []string
	Visible     []string // datasets of the columns on screen
	Force       bool
	Compare     bool       // asks the other sources too
	FromDay     *time.Time // how far back histories are wanted; nil: as far as columns read
	Cause       string     // hand, schedule, stream or directory
	State       string
	AskedAt     time.Time
	StartedAt   *time.Time
	FinishedAt  *time.Time
	Cancel      bool
	Planned     int // requests
	Answered    int
	Failed      int
	Units       int // spent
	Skipped     int // needs not due
	Refused     int // needs that could not be planned
	Shared      int // needs that another refresh is bringing
	LastEvent   int
	Fault       string
}

// Over tells whether the refresh has ended.
func (r *Refresh) Over() bool { return r.State != Queued && r.State != Running }

const selectRefresh = `select id, watchlist_id, coalesce((select name from watchlist where watchlist.id = watchlist_id), '') as watchlist, listings, datasets, visible, force, compare, from_day, cause, state, asked_at, started_at, finished_at, cancel, planned, answered, failed, units, skipped, refused, shared, last_event, fault from refresh `

// Event is something that happened in a refresh. Data is its JSON.
type Event struct {
	Seq  int
	At   time.Time
	Kind string
	Data json.RawMessage
}

// Why refreshes are asked for.
const (
	ByHand     = "hand"
	ByTable    = "table"
	BySchedule = "schedule"
	ByStream   = "stream"
	ForListing = "directory"
)

// Asked is what someone asks a refresh for.
type Asked struct {
	Watchlist *int64  // nil: listings of no list, or the directory
	Listings  []int64 // besides those of the watchlist
	Datasets  []catalogue.Dataset
	Visible   []catalogue.Dataset
	Force     bool
	Compare   bool // ask the other sources too
	From      period.Date
	Cause     string
}

// QueueRefresh records a refresh that someone asked for; enqueue adds its job in
// the same transaction, so that neither is ever there without the other.
func (s *Store) QueueRefresh(ctx context.Context, a Asked, now time.Time, enqueue func(pgx.Tx, int64) error) (Refresh, error) {
	var id int64
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, "insert into refresh (watchlist_id, listings, datasets, visible, force, compare, from_day, cause, state, asked_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) returning id",
			a.Watchlist, append([]int64{}, a.Listings...), names(a.Datasets), names(a.Visible), a.Force, a.Compare, nullable(a.From), a.Cause, Queued, now).Scan(&id)
		if err != nil {
			return err
		}
		return enqueue(tx, id)
	})
	if err != nil {
		return Refresh{}, err
	}
	return s.Refresh(ctx, id)
}

// Refresh finds a refresh.
func (s *Store) Refresh(ctx context.Context, id int64) (Refresh, error) {
	return one[Refresh](ctx, s.Pool, selectRefresh+"where id = $1", id)
}

// Refreshes lists the newest refreshes, of one watchlist or (0) of all.
func (s *Store) Refreshes(ctx context.Context, watchlist int64, limit int) ([]Refresh, error) {
	return all[Refresh](ctx, s.Pool, selectRefresh+"where $1 = 0 or watchlist_id = $1 order by id desc limit $2", watchlist, limit)
}

// Unfinished lists the refreshes that are queued or were running.
func (s *Store) Unfinished(ctx context.Context) ([]Refresh, error) {
	return all[Refresh](ctx, s.Pool, selectRefresh+"where state in ('queued', 'running') order by id")
}

// StartRefresh marks a refresh as running and returns it as it is then.
func (s *Store) StartRefresh(ctx context.Context, id int64, now time.Time) (Refresh, error) {
	if _, err := s.Pool.Exec(ctx, "update refresh set state = 'running', started_at = coalesce(started_at, $2) where id = $1 and state in ('queued', 'running')", id, now); err != nil {
		return Refresh{}, err
	}
	return s.Refresh(ctx, id)
}

// CancelRefresh asks a refresh to stop; what it has stored stays.
func (s *Store) CancelRefresh(ctx context.Context, id int64) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "update refresh set cancel = true where id = $1", id)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return notify(ctx, tx, fmt.Sprintf("cancel %d", id))
	})
}

// NeedKey names one dataset of a listing.
type NeedKey struct {
	Dataset catalogue.Dataset
	Listing int64
}

// ClaimNeeds takes needs on for a refresh, all in one step: a need that another
// refresh has claimed stays with it. It returns those that are now claimed.
func (s *Store) ClaimNeeds(ctx context.Context, refresh int64, needs []NeedKey) (map[NeedKey]bool, error) {
	datasets, ids := make([]string, len(needs)), make([]int64, len(needs))
	for i, n := range needs {
		datasets[i], ids[i] = string(n.Dataset), n.Listing
	}
	claimed := make(map[NeedKey]bool, len(needs))
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		// In one order for all, so that two that claim at once do not block each other.
		rows, err := tx.Query(ctx, `
			insert into in_flight (dataset, listing_id, refresh_id)
			select distinct dataset, listing_id, $3::bigint from unnest($1::text[], $2::bigint[]) as n(dataset, listing_id) order by dataset, listing_id
			on conflict do nothing returning dataset, listing_id`, datasets, ids, refresh)
		if err != nil {
			return err
		}
		var n NeedKey
		if _, err := pgx.ForEachRow(rows, []any{&n.Dataset, &n.Listing}, func() error { claimed[n] = true; return nil }); err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("refresh %d", refresh))
	})
	return claimed, err
}

// letGo ends claims of a refresh, given as datasets and listings.
const letGo = `
	delete from in_flight using unnest($2::text[], $3::bigint[]) as n(dataset, listing_id)
	where refresh_id = $1 and in_flight.dataset = n.dataset and in_flight.listing_id = n.listing_id`

// ReleaseNeeds lets go of needs that a refresh had claimed.
func (s *Store) ReleaseNeeds(ctx context.Context, refresh int64, needs []NeedKey) error {
	datasets, ids := make([]string, len(needs)), make([]int64, len(needs))
	for i, n := range needs {
		datasets[i], ids[i] = string(n.Dataset), n.Listing
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, letGo, refresh, datasets, ids); err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("refresh %d", refresh))
	})
}

// Planned is what a refresh is about to do.
type Planned struct {
	Requests, Skipped, Refused, Shared int
	Event                              Event
}

// PlanRefresh records a plan. The first of a refresh says what it skips.
func (s *Store) PlanRefresh(ctx context.Context, id int64, p Planned, first bool) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `
			update refresh set planned = answered + failed + $2, refused = $4, shared = $5,
				skipped = case when $6 then $3 else skipped end where id = $1`, id, p.Requests, p.Skipped, p.Refused, p.Shared, first); err != nil {
			return err
		}
		return addEvent(ctx, tx, id, p.Event)
	})
}

// ExtendPlan adds requests that a plan could not foresee.
func (s *Store) ExtendPlan(ctx context.Context, refresh int64, requests int) error {
	_, err := s.Pool.Exec(ctx, "update refresh set planned = planned + $2 where id = $1", refresh, requests)
	return err
}

// FinishRefresh ends a refresh in a state.
func (s *Store) FinishRefresh(ctx context.Context, id int64, state, fault string, event Event) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "delete from in_flight where refresh_id = $1", id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "update refresh set state = $2, fault = $3, finished_at = $4 where id = $1", id, state, fault, event.At); err != nil {
			return err
		}
		return addEvent(ctx, tx, id, event)
	})
}

// addEvent numbers an event; the row of its refresh is locked meanwhile, so that
// numbers have no gaps and appear in order.
func addEvent(ctx context.Context, tx pgx.Tx, refresh int64, e Event) error {
	_, err := tx.Exec(ctx, `
		with numbered as (update refresh set last_event = last_event + 1 where id = $1 returning last_event)
		insert into refresh_event (refresh_id, seq, at, kind, data) select $1, last_event, $2, $3, $4 from numbered`, refresh, e.At, e.Kind, e.Data)
	if err != nil {
		return err
	}
	return notify(ctx, tx, fmt.Sprintf("refresh %d", refresh))
}

// progress counts a finished request in its refresh, and lets go of its needs.
func (w *writer) progress() error {
	answered, failed := 0, 0
	if w.r.Fault == nil {
		answered = 1
	} else if w.r.Final {
		failed = 1
	}
	if w.r.Final {
		var datasets []string
		var ids []int64
		for i := range w.r.Request.Needs {
			n := &w.r.Request.Needs[i]
			datasets, ids = append(datasets, string(n.Dataset)), append(ids, n.Listing)
		}
		if _, err := w.tx.Exec(w, letGo, w.r.Refresh, datasets, ids); err != nil {
			return err
		}
	}
	if _, err := w.tx.Exec(w, "update refresh set answered = answered + $2, failed = failed + $3, units = units + $4 where id = $1", w.r.Refresh, answered, failed, w.r.Answer.Units()); err != nil {
		return err
	}
	return addEvent(w, w.tx, w.r.Refresh, w.r.Event)
}

// Events lists what happened in a refresh after an event.
func (s *Store) Events(ctx context.Context, refresh int64, after int) ([]Event, error) {
	return all[Event](ctx, s.Pool, "select seq, at, kind, data from refresh_event where refresh_id = $1 and seq > $2 order by seq", refresh, after)
}

// Request is an entry of the request log.
type Request struct {
	ID           int64
	RefreshID    *int64
	Source       string
	Call         string
	Datasets     []string
	Address      string
	Symbols      int
	StartedAt    time.Time
	TookMs       float64
	Status       int
	Bytes        int64
	Units        int
	UnitsLeft    int
	Fault        string
	Remarks      []string
	ResponseHash []byte
}

const selectRequest = `select id, refresh_id, source, call, datasets, address, cardinality(listings) as symbols, started_at, took_ms, status, bytes, units, units_left, fault, remarks, response_hash from request `

// Requests lists the newest requests, of one refresh or (0) of all.
func (s *Store) Requests(ctx context.Context, refresh int64, limit int) ([]Request, error) {
	return all[Request](ctx, s.Pool, selectRequest+"where $1 = 0 or refresh_id = $1 order by id desc limit $2", refresh, limit)
}

// Request finds an entry of the request log.
func (s *Store) Request(ctx context.Context, id int64) (Request, error) {
	return one[Request](ctx, s.Pool, selectRequest+"where id = $1", id)
}

// SourceHealth is how a source has been doing.
type SourceHealth struct {
	SpentToday  int
	Requests    int // today
	Failures    int // today
	LastSuccess *time.Time
	LastFault   *time.Time
	Fault       string  // the last one, when it is newer than the last success
	MedianMs    float64 // of the last hundred answers
	SlowMs      float64 // below which 95 of a hundred stay
	Remark      string  // what the last answer had that is not as described
}

// SourceHealth sums a source's requests up. Today is the day of its allowance.
func (s *Store) SourceHealth(ctx context.Context, name string, dayStarts time.Time) (SourceHealth, error) {
	return one[SourceHealth](ctx, s.Pool, `
		with today as (select coalesce(sum(units), 0)::int as spent, count(*)::int as requests, (count(*) filter (where fault <> ''))::int as failures from request where source = $1 and started_at >= $2),
		success as (select id, started_at as at, remarks from request where source = $1 and fault = '' order by id desc limit 1),
		failure as (select id, started_at as at, fault from request where source = $1 and fault <> '' order by id desc limit 1),
		latest as (select took_ms from request where source = $1 and fault = '' order by id desc limit 100)
		select today.spent as spent_today, today.requests, today.failures, success.at as last_success, failure.at as last_fault,
			case when failure.id > success.id or success.id is null then coalesce(failure.fault, '') else '' end as fault,
			coalesce((select percentile_cont(0.5) within group (order by took_ms) from latest), 0) as median_ms,
			coalesce((select percentile_cont(0.95) within group (order by took_ms) from latest), 0) as slow_ms,
			coalesce(success.remarks[1], '') as remark
		from today left join success on true left join failure on true`, name, dayStarts)
}

// LastDirectory is when listings were last fetched from a source; nil: never.
func (s *Store) LastDirectory(ctx context.Context, name string) (*time.Time, error) {
	type last struct{ At *time.Time }
	l, err := one[last](ctx, s.Pool, "select max(started_at) as at from request where source = $1 and 'listings' = any(datasets) and fault = ''", name)
	return l.At, err
}

// ClearInFlight forgets what a refresh was bringing when it was interrupted.
func (s *Store) ClearInFlight(ctx context.Context, refresh int64) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "delete from in_flight where refresh_id = $1", refresh); err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("refresh %d", refresh))
	})
}

// Refuse records needs that were not asked for, with the reason.
func (s *Store) Refuse(ctx context.Context, refused map[NeedKey]*table.Attempt) error {
	if len(refused) == 0 {
		return nil
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		batch := &pgx.Batch{}
		for r, a := range refused {
			batch.Queue(`
				with old as (update attempt set known_to = $6 where known_to = 'infinity' and listing_id = $1 and dataset = $2 and source = $3 returning covered)
				insert into attempt (listing_id, dataset, source, outcome, detail, covered, known_from)
				values ($1, $2, $3, $4, $5, coalesce((select covered from old), '{}'), $6)`,
				r.Listing, string(r.Dataset), a.Source, a.Outcome.String(), a.Detail, a.At)
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return err
		}
		return notify(ctx, tx, "attempts 0")
	})
}
