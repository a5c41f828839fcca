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
	admin, err := pgx.Connect(b.ctx, b.cluster.URL)
	if err != nil {
		return err
	}
	defer admin.Close(b.ctx)
	if _, err := admin.Exec(b.ctx, "create database bars"); err != nil {
		return err
	}
	s, err := store.Open(b.ctx, strings.Replace(b.cluster.URL, "/soba?", "/bars?", 1))
	if err != nil {
		return err
	}
	defer s.Close()
	var listed []market.Listing
	for i := range names {
		listed = append(listed, market.Listing{Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Name: "T", Kind: market.Share, Currency: "EUR"})
	}
	page := source.Page{UnitsLeft: -1}
	result := store.Result{
		Request: plan.Request{Source: "gannet", Call: "listings", Needs: []plan.Need{{Dataset: catalogue.Listings}}},
		Answer:  &source.Answer{Listings: listed, Pages: []source.Page{page}}, Final: true,
	}
	if err := s.Save(b.ctx, result, now); err != nil {
		return err
	}
	known, err := s.Listings(b.ctx)
	if err != nil {
		return err
	}
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
	ours := time.Duration(1<<63 - 1)
	theirs := ours
	// In turns and the best of three, so that a checkpoint falls on both alike.
	for range 3 {
		took, err := b.timed(s, func() error {
			for _, r := range batches {
				if err := s.Save(b.ctx, r, now); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		ours = min(ours, took)
		if took, err = b.timed(s, func() error { return b.copyBars(s, batches, now) }); err != nil {
			return err
		}
		theirs = min(theirs, took)
	}
	rows := float64(names * sessions)
	b.add(line{"B6", fmt.Sprintf("store %.1f M bars", rows/1e6), fmt.Sprintf("%.0f rows/s", rows/ours.Seconds()), fmt.Sprintf("COPY of the same rows into the same table, %.0f", rows/theirs.Seconds()), fmt.Sprintf("%.2f", theirs.Seconds()/ours.Seconds()), "≥ 0.7"})
	return nil
}

// timed empties the table and measures f.
func (b *bench) timed(s *store.Store, f func() error) (time.Duration, error) {
	for _, sql := range []string{"truncate bar, attempt", "checkpoint"} {
		if _, err := s.Pool.Exec(b.ctx, sql); err != nil {
			return 0, err
		}
	}
	began := time.Now()
	err := f()
	return time.Since(began), err
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
