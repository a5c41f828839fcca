package store

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
)

// Preferences are what the user has set of sources.
type Preferences struct {
	Order    map[catalogue.Dataset][]string // preferred sources, the first first
	Compare  map[catalogue.Dataset][]string // sources that are asked besides, to be compared
	Disabled []string
}

// Preferences reads what the user has set of sources.
func (s *Store) Preferences(ctx context.Context) (Preferences, error) {
	p := Preferences{Order: map[catalogue.Dataset][]string{}, Compare: map[catalogue.Dataset][]string{}}
	rows, err := s.Pool.Query(ctx, "select dataset, source, compare from source_preference order by dataset, place")
	if err != nil {
		return p, err
	}
	var dataset, source string
	var compare bool
	if _, err = pgx.ForEachRow(rows, []any{&dataset, &source, &compare}, func() error {
		d := catalogue.Dataset(dataset)
		p.Order[d] = append(p.Order[d], source)
		if compare {
			p.Compare[d] = append(p.Compare[d], source)
		}
		return nil
	}); err != nil {
		return p, err
	}
	rows, err = s.Pool.Query(ctx, "select source from source_setting where not enabled order by source")
	if err != nil {
		return p, err
	}
	p.Disabled, err = pgx.CollectRows(rows, pgx.RowTo[string])
	return p, err
}

// Prefer sets the order of sources for a dataset; those of compare are asked
// besides the preferred one. An empty order leaves it to the standard again.
func (s *Store) Prefer(ctx context.Context, d catalogue.Dataset, order []string, compare bool) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "delete from source_preference where dataset = $1", string(d)); err != nil {
			return err
		}
		for i, source := range order {
			if _, err := tx.Exec(ctx, "insert into source_preference (dataset, place, source, compare) values ($1, $2, $3, $4)", string(d), i, source, compare && i > 0); err != nil {
				return err
			}
		}
		return notify(ctx, tx, "sources 0")
	})
}

// Enable switches a source on or off.
func (s *Store) Enable(ctx context.Context, source string, enabled bool) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "insert into source_setting (source, enabled) values ($1, $2) on conflict (source) do update set enabled = excluded.enabled", source, enabled); err != nil {
			return err
		}
		return notify(ctx, tx, "sources 0")
	})
}

// IsDisabled tells whether the user has switched a source off.
func (p *Preferences) IsDisabled(source string) bool { return slices.Contains(p.Disabled, source) }

// Schedule is when a watchlist refreshes by itself: at set times, or every so
// often while an exchange of its listings is open and once after it has closed.
type Schedule struct {
	WatchlistID int64
	Cron        string // five fields; "" for none
	Zone        string // in which the fields are read
	EveryS      int    // seconds, while a session is open; 0 for none
	NextAt      *time.Time
	LastAt      *time.Time
}

const selectSchedule = "select watchlist_id, cron, zone, every_s, next_at, last_at from schedule "

// ScheduleOf returns the schedule of a watchlist; [ErrNotFound] where it has none.
func (s *Store) ScheduleOf(ctx context.Context, watchlist int64) (Schedule, error) {
	return one[Schedule](ctx, s.Pool, selectSchedule+"where watchlist_id = $1", watchlist)
}

// SetSchedule sets when a watchlist refreshes by itself.
func (s *Store) SetSchedule(ctx context.Context, x Schedule) error {
	_, err := s.Pool.Exec(ctx, `
		insert into schedule (watchlist_id, cron, zone, every_s, next_at) values ($1, $2, $3, $4, $5)
		on conflict (watchlist_id) do update set cron = excluded.cron, zone = excluded.zone, every_s = excluded.every_s, next_at = excluded.next_at`,
		x.WatchlistID, x.Cron, x.Zone, x.EveryS, x.NextAt)
	return err
}

// EndSchedule makes a watchlist refresh by hand only.
func (s *Store) EndSchedule(ctx context.Context, watchlist int64) error {
	_, err := s.Pool.Exec(ctx, "delete from schedule where watchlist_id = $1", watchlist)
	return err
}

// DueSchedules lists the schedules of living watchlists whose time has come.
func (s *Store) DueSchedules(ctx context.Context, now time.Time) ([]Schedule, error) {
	return all[Schedule](ctx, s.Pool, selectSchedule+"where next_at <= $1 and exists (select from watchlist w where w.id = watchlist_id and w.deleted_at is null)", now)
}

// Claim takes a due schedule on for this instance and sets its next time; false
// when another instance was faster.
func (s *Store) Claim(ctx context.Context, x Schedule, next *time.Time, now time.Time) (bool, error) {
	tag, err := s.Pool.Exec(ctx, "update schedule set next_at = $3, last_at = $4 where watchlist_id = $1 and next_at = $2", x.WatchlistID, x.NextAt, next, now)
	return tag.RowsAffected() == 1, err
}
