// Package store keeps everything in PostgreSQL: listings, watchlists,
// observations that are never overwritten, raw responses, and refreshes.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database. Its methods take the time from the caller, so that a
// fixed clock fixes what is stored.
type Store struct{ Pool *pgxpool.Pool }

// ErrNotFound is returned where what was named does not exist.
var ErrNotFound = errors.New("not found")

// ErrChanged is returned where a change was based on a version that is no longer the newest.
var ErrChanged = errors.New("changed by someone else in the meantime")

// Open connects to a database and brings its schema up to date. It may be
// called by several processes at once.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 24)
	config.ConnConfig.RuntimeParams["timezone"] = "UTC" // days are compared with instants
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	s := &Store{pool}
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bringing the database schema up to date: %w", err)
	}
	return s, nil
}

// Prepare brings the schema of a database up to date and leaves it.
func Prepare(ctx context.Context, url string) error {
	s, err := Open(ctx, url)
	if err == nil {
		s.Close()
	}
	return err
}

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

func (s *Store) migrate(ctx context.Context) error {
	if err := s.Pool.Ping(ctx); err != nil {
		return err
	}
	return s.locked(ctx, "soba schema", func() error {
		db := stdlib.OpenDBFromPool(s.Pool)
		defer db.Close()
		files, err := fs.Sub(migrations, "migrations")
		if err != nil {
			return err
		}
		provider, err := goose.NewProvider(database.DialectPostgres, db, files)
		if err != nil {
			return err
		}
		if _, err := provider.Up(ctx); err != nil {
			return err
		}
		jobs, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
		if err != nil {
			return err
		}
		_, err = jobs.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
}

// locked runs f while holding an advisory lock by name.
func (s *Store) locked(ctx context.Context, name string, f func() error) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock(hashtextextended($1, 0))", name); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock(hashtextextended($1, 0))", name) //nolint:errcheck // the lock ends with the connection
	return f()
}

// Lease is the right to do something that only one instance may do at a time.
// It ends with the database session that holds it.
type Lease struct {
	mu   sync.Mutex
	conn *pgxpool.Conn
}

// TryLease takes a lease by name; nil without an error when another has it.
func (s *Store) TryLease(ctx context.Context, name string) (*Lease, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	var got bool
	if err := conn.QueryRow(ctx, "select pg_try_advisory_lock(hashtextextended($1, 0))", name).Scan(&got); err != nil || !got {
		conn.Release()
		return nil, err
	}
	return &Lease{conn: conn}, nil
}

// AwaitLease takes a lease by name as soon as no other has it.
func (s *Store) AwaitLease(ctx context.Context, name string) (*Lease, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, "select pg_advisory_lock(hashtextextended($1, 0))", name); err != nil {
		conn.Release()
		return nil, err
	}
	return &Lease{conn: conn}, nil
}

// Held tells whether the database session that holds the lease is still there.
func (l *Lease) Held(ctx context.Context) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, err := l.conn.Exec(ctx, "select")
	return err == nil
}

// Release gives the lease back.
func (l *Lease) Release() {
	l.mu.Lock()
	defer l.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if _, err := l.conn.Exec(ctx, "select pg_advisory_unlock_all()"); err != nil {
		l.conn.Conn().Close(ctx) //nolint:errcheck // closing is what ends the lease
	}
	l.conn.Release()
}

// one runs a query that must give one row; none is [ErrNotFound].
func one[T any](ctx context.Context, q querier, sql string, args ...any) (T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		var none T
		return none, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// all runs a query and collects its rows by column name.
func all[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// Away tells whether an error means that the database cannot be reached, as
// opposed to one that it answered with.
func Away(err error) bool {
	var connect *pgconn.ConnectError
	var network *net.OpError
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) || errors.Is(err, io.ErrUnexpectedEOF)
}
