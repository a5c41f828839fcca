package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// SavedModel are assumptions of a valuation model that the user has set for a name.
type SavedModel struct {
	Assumptions map[string]float64
	At          time.Time
}

// Model returns the saved assumptions of a method for a listing; [ErrNotFound] where
// there are none.
func (s *Store) Model(ctx context.Context, listing int64, method string) (SavedModel, error) {
	type stored struct {
		Assumptions []byte
		KnownFrom   time.Time
	}
	r, err := one[stored](ctx, s.Pool, "select assumptions, known_from from model where listing_id = $1 and method = $2 and known_to = 'infinity'", listing, method)
	if err != nil {
		return SavedModel{}, err
	}
	m := SavedModel{At: r.KnownFrom}
	return m, json.Unmarshal(r.Assumptions, &m.Assumptions)
}

// SaveModel sets the assumptions of a method for a listing; none take what was set away.
// What was set before stays readable in the table.
func (s *Store) SaveModel(ctx context.Context, listing int64, method string, assumptions map[string]float64, now time.Time) error {
	before, err := s.Model(ctx, listing, method)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	now = now.UTC()
	if !now.After(before.At) {
		now = before.At.Add(time.Microsecond)
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "update model set known_to = $3 where listing_id = $1 and method = $2 and known_to = 'infinity'", listing, method, now); err != nil {
			return err
		}
		if len(assumptions) == 0 {
			return nil
		}
		text, err := json.Marshal(assumptions)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "insert into model (listing_id, method, assumptions, known_from) values ($1, $2, $3, $4)", listing, method, text, now)
		return err
	})
}
