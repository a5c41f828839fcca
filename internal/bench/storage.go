package main

import (
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// storage compares storing bars with PostgreSQL's COPY of the same rows into the same table.
func (b *bench) storage() error {
	const names, sessions, batch = 500, 3000, 100
	now := time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)
	s, known, err := b.emptyStore("bars", names, now)
	if err != nil {
		return err
	}
	defer s.Close()
	page := source.Page{UnitsLeft: -1}
	var batches []store.Result
	for first := 0; first < names; first += batch {
		r := store.Result{Request: plan.Request{Source: "gannet", Call: "bars", From: 14000, To: 14000 + sessions}, Final: true, Answer: &source.Answer{Pages: []source.Page{page}}}
		for _, l := range known[first : first+batch] {
			r.Request.Needs = append(r.Request.Needs, plan.Need{Dataset: catalogue.Bars, Listing: l.ID, Symbol: l.Symbol})
			history := source.Series{Origin: source.Origin{Symbol: l.Symbol, Dataset: catalogue.Bars}}
			for j := range sessions {
				x := 30 + float64(j%97)/10
				history.Bars.Append(period.Date(14000+j), x, x+1, x-1, x, 1000)
			}
			r.Answer.Series = append(r.Answer.Series, history)
		}
		batches = append(batches, r)
	}
	ours, theirs, err := b.inTurns(s, []string{"truncate bar, attempt", "checkpoint"}, func() error {
		for _, r := range batches {
			if err := s.Save(b.ctx, r, now); err != nil {
				return err
			}
		}
		return nil
	}, func() error { return b.copyBars(s, batches, now) })
	if err != nil {
		return err
	}
	rows := float64(names * sessions)
	b.add(line{"B6", fmt.Sprintf("store %.1f M bars", rows/1e6), fmt.Sprintf("%.0f rows/s", rows/ours.Seconds()), fmt.Sprintf("COPY of the same rows into the same table, %.0f", rows/theirs.Seconds()), fmt.Sprintf("%.2f", theirs.Seconds()/ours.Seconds()), "≥ 0.7"})
	return nil
}

// emptyStore makes a database with nothing but listings.
func (b *bench) emptyStore(name string, listings int, now time.Time) (*store.Store, []*market.Listing, error) {
	admin, err := pgx.Connect(b.ctx, b.cluster.URL)
	if err != nil {
		return nil, nil, err
	}
	defer admin.Close(b.ctx)
	if _, err := admin.Exec(b.ctx, "create database "+name); err != nil {
		return nil, nil, err
	}
	s, err := store.Open(b.ctx, strings.Replace(b.cluster.URL, "/soba?", "/"+name+"?", 1))
	if err != nil {
		return nil, nil, err
	}
	var listed []market.Listing
	for i := range listings {
		listed = append(listed, market.Listing{Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Name: "T", Kind: market.Share, Currency: "EUR"})
	}
	result := store.Result{
		Request: plan.Request{Source: "gannet", Call: "listings", Needs: []plan.Need{{Dataset: catalogue.Listings}}},
		Answer:  &source.Answer{Listings: listed, Pages: []source.Page{{UnitsLeft: -1}}}, Final: true,
	}
	if err := s.Save(b.ctx, result, now); err != nil {
		return nil, nil, err
	}
	known, err := s.Listings(b.ctx)
	return s, known, err
}

// inTurns measures two ways of filling a table, in turns and the best of three, so that
// a checkpoint falls on both alike. Before each, some SQL empties it.
func (b *bench) inTurns(s *store.Store, empty []string, one, other func() error) (first, second time.Duration, err error) {
	first, second = 1<<63-1, 1<<63-1
	for range 3 {
		for _, way := range []struct {
			fill  func() error
			least *time.Duration
		}{{one, &first}, {other, &second}} {
			for _, sql := range empty {
				if _, err := s.Pool.Exec(b.ctx, sql); err != nil {
					return 0, 0, err
				}
			}
			began := time.Now()
			if err := way.fill(); err != nil {
				return 0, 0, err
			}
			*way.least = min(*way.least, time.Since(began))
		}
	}
	return first, second, nil
}

// copyBars sends the same rows to the same table, a transaction a batch, with nothing else.
func (b *bench) copyBars(s *store.Store, batches []store.Result, now time.Time) error {
	var request int64
	if err := s.Pool.QueryRow(b.ctx, "select max(id) from request").Scan(&request); err != nil {
		return err
	}
	for _, r := range batches {
		which, i := 0, 0
		var row [10]any
		_, err := s.Pool.CopyFrom(b.ctx, pgx.Identifier{"bar"}, []string{"listing_id", "source", "day", "open", "high", "low", "close", "volume", "request_id", "known_from"}, pgx.CopyFromFunc(func() ([]any, error) {
			if i == r.Answer.Series[which].Bars.Len() {
				if which, i = which+1, 0; which == len(r.Answer.Series) {
					return nil, nil
				}
			}
			h := &r.Answer.Series[which]
			row = [10]any{r.Request.Needs[which].Listing, "gannet", h.Bars.Day[i].Time(), h.Bars.Open[i], h.Bars.High[i], h.Bars.Low[i], h.Bars.Close[i], h.Bars.Volume[i], request, now}
			i++
			return row[:], nil
		}))
		if err != nil {
			return err
		}
	}
	return nil
}
