package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

// known is the condition for a row of a bitemporal table to have been the known
// one at an instant, given as the second argument; the first is the listings.
const known = " where listing_id = any($1) and known_from <= $2 and known_to > $2 "

// feeds is what is known of listings, by listing, before it is put together.
type feeds struct {
	points   map[catalogue.Dataset]map[int64]*table.Observation
	attempts map[catalogue.Dataset]map[int64]*table.Attempt
	bars     map[int64]*history
}

type history struct {
	bars        *series.Bars
	observation *table.Observation
}

// read loads some datasets of some listings as they were known at an instant.
func (s *Store) read(ctx context.Context, ids []int64, datasets []catalogue.Dataset, at time.Time) (*feeds, error) {
	f := &feeds{map[catalogue.Dataset]map[int64]*table.Observation{}, map[catalogue.Dataset]map[int64]*table.Attempt{}, map[int64]*history{}}
	names := make([]string, len(datasets))
	for i, d := range datasets {
		names[i] = string(d)
		f.points[d], f.attempts[d] = map[int64]*table.Observation{}, map[int64]*table.Attempt{}
	}
	if err := s.readPoints(ctx, f, ids, names, at); err != nil {
		return nil, fmt.Errorf("reading observations: %w", err)
	}
	if err := s.readAttempts(ctx, f, ids, names, at); err != nil {
		return nil, fmt.Errorf("reading attempts: %w", err)
	}
	for _, d := range datasets {
		if d == catalogue.Bars {
			if err := s.readBars(ctx, f, ids, at); err != nil {
				return nil, fmt.Errorf("reading bars: %w", err)
			}
		}
	}
	return f, nil
}

func (s *Store) readPoints(ctx context.Context, f *feeds, ids []int64, datasets []string, at time.Time) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, dataset, source, observed, delay_s, minor_unit, suspect, fields, rejected, place, request_id, known_from from observation"+known+"and dataset = any($3)", ids, at, datasets)
	if err != nil {
		return err
	}
	var id int64
	var dataset string
	var delay int
	var fields, rejected []byte
	var o table.Observation
	_, err = pgx.ForEachRow(rows, []any{&id, &dataset, &o.Source, &o.Observed, &delay, &o.Minor, &o.Suspect, &fields, &rejected, &o.Place, &o.Response, &o.Fetched}, func() error {
		stored := o
		stored.Delay = time.Duration(delay) * time.Second
		if err := decode(&stored, catalogue.Dataset(dataset), fields, rejected); err != nil {
			return fmt.Errorf("%s of listing %d: %w", dataset, id, err)
		}
		f.points[catalogue.Dataset(dataset)][id] = &stored
		return nil
	})
	return err
}

// decode reads the stored form of values back into their slots.
func decode(o *table.Observation, d catalogue.Dataset, fields, rejected []byte) error {
	var values map[string]any
	if err := json.Unmarshal(fields, &values); err != nil {
		return err
	}
	var texts map[string]string
	if len(rejected) > 0 {
		if err := json.Unmarshal(rejected, &texts); err != nil {
			return err
		}
		o.Rejected = map[int]string{}
	}
	o.Values = make([]cell.Value, len(catalogue.ObservedIn(d)))
	for _, field := range catalogue.ObservedIn(d) {
		v := &o.Values[field.Slot()]
		switch x := values[field.ID].(type) {
		case float64:
			*v = cell.Of(x)
		case string:
			*v = cell.OfText(x)
		}
		if field.Unit == catalogue.Time {
			*v = cell.OfTime(o.Observed)
		}
		if text, there := texts[field.ID]; there {
			o.Rejected[field.Slot()] = text
		}
	}
	return nil
}

func (s *Store) readAttempts(ctx context.Context, f *feeds, ids []int64, datasets []string, at time.Time) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, dataset, source, outcome, detail, coalesce(request_id, 0), place, from_day, known_from from attempt"+known+"and dataset = any($3)", ids, at, datasets)
	if err != nil {
		return err
	}
	var id int64
	var dataset, outcome string
	var from *time.Time
	var a table.Attempt
	_, err = pgx.ForEachRow(rows, []any{&id, &dataset, &a.Source, &outcome, &a.Detail, &a.Response, &a.Place, &from, &a.At}, func() error {
		stored := a
		stored.Outcome, _ = cell.ParseReason(outcome)
		stored.From = dateOf(from)
		f.attempts[catalogue.Dataset(dataset)][id] = &stored
		return nil
	})
	return err
}

func (s *Store) readBars(ctx context.Context, f *feeds, ids []int64, at time.Time) error {
	splits := map[int64][]series.Split{}
	rows, err := s.Pool.Query(ctx, "select listing_id, day, ratio from split"+known+"order by listing_id, day", ids, at)
	if err != nil {
		return err
	}
	var id, request int64
	var day, since time.Time
	var ratio float64
	if _, err = pgx.ForEachRow(rows, []any{&id, &day, &ratio}, func() error {
		splits[id] = append(splits[id], series.Split{Day: period.DateOf(day), Ratio: ratio})
		return nil
	}); err != nil {
		return err
	}
	rows, err = s.Pool.Query(ctx, "select listing_id, day, open, high, low, close, volume, source, request_id, known_from from bar"+known+"order by listing_id, day", ids, at)
	if err != nil {
		return err
	}
	var open, high, low, cl, volume float64
	var source string
	_, err = pgx.ForEachRow(rows, []any{&id, &day, &open, &high, &low, &cl, &volume, &source, &request, &since}, func() error {
		h := f.bars[id]
		if h == nil {
			h = &history{&series.Bars{}, &table.Observation{Source: source}}
			f.bars[id] = h
		}
		h.bars.Append(period.DateOf(day), open, high, low, cl, volume)
		if !since.Before(h.observation.Fetched) {
			h.observation.Fetched, h.observation.Response = since, request
		}
		return nil
	})
	for id, h := range f.bars {
		h.bars = h.bars.AdjustSplits(splits[id])
	}
	return err
}
