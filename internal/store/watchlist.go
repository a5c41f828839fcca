package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Watchlist is an ordered list of listings.
type Watchlist struct {
	ID        int64
	Name      string
	Version   int64 // counts every change; changes name the version they are based on
	CreatedAt time.Time
	ChangedAt time.Time
	Rows      int
	Held      int
}

// Row is one listing of a watchlist. Quantity and cost are exact decimals, nil
// where the listing is watched and not held.
type Row struct {
	ListingID int64
	Quantity  *string
	Cost      *string
	AddedAt   time.Time
}

// NameTakenError names a watchlist that already exists.
type NameTakenError struct{ Name string }

func (e *NameTakenError) Error() string {
	return fmt.Sprintf("there already is a watchlist %q", e.Name)
}

const selectWatchlists = `
	select w.id, w.name, w.version, w.created_at, w.changed_at, count(r.listing_id) as rows, count(r.quantity) as held
	from watchlist w left join watchlist_row r on r.watchlist_id = w.id `

// Watchlists lists all watchlists by name.
func (s *Store) Watchlists(ctx context.Context) ([]Watchlist, error) {
	return all[Watchlist](ctx, s.Pool, selectWatchlists+"where w.deleted_at is null group by w.id order by lower(w.name)")
}

// Watchlist finds a watchlist by name, in any case.
func (s *Store) Watchlist(ctx context.Context, name string) (Watchlist, error) {
	return one[Watchlist](ctx, s.Pool, selectWatchlists+"where w.deleted_at is null and lower(w.name) = lower($1) group by w.id", name)
}

// WatchlistByID finds a watchlist, also a deleted one.
func (s *Store) WatchlistByID(ctx context.Context, id int64) (Watchlist, error) {
	return one[Watchlist](ctx, s.Pool, selectWatchlists+"where w.id = $1 group by w.id", id)
}

// CreateWatchlist makes an empty watchlist.
func (s *Store) CreateWatchlist(ctx context.Context, name string, now time.Time) (Watchlist, error) {
	_, err := s.Pool.Exec(ctx, "with made as (insert into watchlist (name, created_at, changed_at) values ($1, $2, $2) returning id) select pg_notify('soba', 'watchlist ' || id) from made", name, now)
	if err != nil {
		return Watchlist{}, named(err, name)
	}
	return s.Watchlist(ctx, name)
}

// named turns a collision of names into a [NameTakenError].
func named(err error, name string) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return &NameTakenError{name}
	}
	return err
}

// CopyWatchlist makes a new watchlist with the rows of another.
func (s *Store) CopyWatchlist(ctx context.Context, from Watchlist, name string, now time.Time) (Watchlist, error) {
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var id int64
		if err := tx.QueryRow(ctx, "insert into watchlist (name, created_at, changed_at) values ($1, $2, $2) returning id", name, now).Scan(&id); err != nil {
			return named(err, name)
		}
		_, err := tx.Exec(ctx, `
			insert into watchlist_row (watchlist_id, listing_id, position, quantity, cost, added_at)
			select $1, listing_id, position, quantity, cost, $2 from watchlist_row where watchlist_id = $3`, id, now, from.ID)
		if err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("watchlist %d", id))
	})
	if err != nil {
		return Watchlist{}, err
	}
	return s.Watchlist(ctx, name)
}

// RestoreWatchlist brings the last deleted watchlist of a name back.
func (s *Store) RestoreWatchlist(ctx context.Context, name string, now time.Time) (Watchlist, error) {
	tag, err := s.Pool.Exec(ctx, `
		update watchlist set deleted_at = null, changed_at = $2, version = version + 1
		where id = (select id from watchlist where lower(name) = lower($1) and deleted_at is not null order by deleted_at desc limit 1)`, name, now)
	if err != nil {
		return Watchlist{}, named(err, name)
	}
	if tag.RowsAffected() == 0 {
		return Watchlist{}, ErrNotFound
	}
	w, err := s.Watchlist(ctx, name)
	if err == nil {
		_, err = s.Pool.Exec(ctx, "select pg_notify('soba', $1)", fmt.Sprintf("watchlist %d", w.ID))
	}
	return w, err
}

// Rows lists the rows of a watchlist in order.
func (s *Store) Rows(ctx context.Context, watchlist int64) ([]Row, error) {
	return all[Row](ctx, s.Pool, "select listing_id, quantity::text, cost::text, added_at from watchlist_row where watchlist_id = $1 order by position, added_at, listing_id", watchlist)
}

// Edit changes a watchlist in one transaction, which also counts its version
// up. Where basedOn is not 0 and not the newest version, nothing is changed and
// the error is [ErrChanged].
func (s *Store) Edit(ctx context.Context, w Watchlist, basedOn int64, now time.Time, change func(e *Editor) error) (Watchlist, error) {
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var version int64
		err := tx.QueryRow(ctx, "select version from watchlist where id = $1 and deleted_at is null for update", w.ID).Scan(&version)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case basedOn != 0 && basedOn != version:
			return ErrChanged
		}
		if err := change(&Editor{ctx, tx, w.ID, now}); err != nil {
			return err
		}
		if _, err = tx.Exec(ctx, "update watchlist set version = version + 1, changed_at = $2 where id = $1", w.ID, now); err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("watchlist %d", w.ID))
	})
	if err != nil {
		return Watchlist{}, err
	}
	return s.WatchlistByID(ctx, w.ID)
}

// Editor makes the changes of one [Store.Edit].
type Editor struct {
	ctx context.Context
	tx  pgx.Tx
	id  int64
	now time.Time
}

// Rename gives the watchlist another name.
func (e *Editor) Rename(name string) error {
	_, err := e.tx.Exec(e.ctx, "update watchlist set name = $2 where id = $1", e.id, name)
	return named(err, name)
}

// Delete puts the watchlist away; [Store.RestoreWatchlist] brings it back.
func (e *Editor) Delete() error {
	_, err := e.tx.Exec(e.ctx, "update watchlist set deleted_at = $2 where id = $1", e.id, e.now)
	return err
}

// Add puts a listing at a position, counted from 0, or at the end for -1. It
// reports false when the list already has it.
func (e *Editor) Add(r Row, position int) (added bool, err error) {
	if position >= 0 {
		if _, err := e.tx.Exec(e.ctx, "update watchlist_row set position = position + 1 where watchlist_id = $1 and position >= $2", e.id, position); err != nil {
			return false, err
		}
	}
	tag, err := e.tx.Exec(e.ctx, `
		insert into watchlist_row (watchlist_id, listing_id, position, quantity, cost, added_at)
		values ($1, $2, case when $3 >= 0 then $3 else (select coalesce(max(position), -1) + 1 from watchlist_row where watchlist_id = $1) end, $4::numeric, $5::numeric, $6)
		on conflict do nothing`, e.id, r.ListingID, position, r.Quantity, r.Cost, e.now)
	return tag.RowsAffected() == 1, err
}

// Set gives a row its quantity and cost; nil leaves it watched only.
func (e *Editor) Set(r Row) error {
	return e.must(e.tx.Exec(e.ctx, "update watchlist_row set quantity = $3::numeric, cost = $4::numeric where watchlist_id = $1 and listing_id = $2", e.id, r.ListingID, r.Quantity, r.Cost))
}

// Remove takes a row out.
func (e *Editor) Remove(listing int64) error {
	return e.must(e.tx.Exec(e.ctx, "delete from watchlist_row where watchlist_id = $1 and listing_id = $2", e.id, listing))
}

// Move puts a row at a position, counted from 0 among the others.
func (e *Editor) Move(listing int64, position int) error {
	return e.must(e.tx.Exec(e.ctx, `
		with others as (
			select listing_id, row_number() over (order by position, added_at, listing_id) - 1 as place
			from watchlist_row where watchlist_id = $1 and listing_id <> $2
		), placed as (
			select listing_id, case when place >= $3 then place + 1 else place end as place from others
			union all select $2, least($3, (select count(*) from others))
		)
		update watchlist_row r set position = p.place from placed p
		where r.watchlist_id = $1 and r.listing_id = p.listing_id and exists (select from watchlist_row x where x.watchlist_id = $1 and x.listing_id = $2)`, e.id, listing, position))
}

func (e *Editor) must(tag pgconn.CommandTag, err error) error {
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}
