package store

import (
	"context"
	"time"
)

// AddToken keeps the hash of a token with its scope.
func (s *Store) AddToken(ctx context.Context, hash []byte, label, scope string, now time.Time) error {
	_, err := s.Pool.Exec(ctx, "insert into token (hash, label, scope, created_at) values ($1, $2, $3, $4)", hash, label, scope, now)
	return err
}

// TokenScope returns what the token with a hash may do.
func (s *Store) TokenScope(ctx context.Context, hash []byte) (string, error) {
	type scoped struct{ Scope string }
	t, err := one[scoped](ctx, s.Pool, "select scope from token where hash = $1", hash)
	return t.Scope, err
}

// Tokens counts the tokens.
func (s *Store) Tokens(ctx context.Context) (n int, err error) {
	err = s.Pool.QueryRow(ctx, "select count(*) from token").Scan(&n)
	return n, err
}
