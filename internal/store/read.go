package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unique"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
)

// known is the condition for a row of a bitemporal table to have been the known
// one at an instant. What is known now has indexes of its own, and is told apart
// from what has been superseded so that they serve.
const known = " where listing_id = any($1) and known_from <= $2 and (known_to = 'infinity' or known_to < 'infinity' and known_to > $2) "

// knownAt is that condition in the form that is fastest for an instant.
func knownAt(at time.Time) string {
	if at.Equal(latest) {
		return " where listing_id = any($1) and known_from <= $2 and known_to = 'infinity' "
	}
	return known
}

// feeds is what sources have given of listings, before it is put together.
type feeds map[catalogue.Dataset]map[int64]map[string]*table.Given

func (f feeds) given(d catalogue.Dataset, id int64, source string) *table.Given {
	if f[d] == nil {
		f[d] = map[int64]map[string]*table.Given{}
	}
	if f[d][id] == nil {
		f[d][id] = map[string]*table.Given{}
	}
	g := f[d][id][source]
	if g == nil {
		g = &table.Given{Source: source}
		f[d][id][source] = g
	}
	return g
}

// read loads some datasets of some listings as they were known at an instant,
// histories from a day on.
func (s *Store) read(ctx context.Context, ids []int64, datasets []catalogue.Dataset, at time.Time, since period.Date) (feeds, error) {
	f := feeds{}
	datasetNames := names(datasets)
	shaped := func(shape catalogue.Shape) bool {
		return slices.ContainsFunc(datasets, func(d catalogue.Dataset) bool { return catalogue.Info(d).Shape == shape })
	}
	if shaped(catalogue.Point) {
		if err := s.readPoints(ctx, f, ids, datasetNames, at); err != nil {
			return nil, fmt.Errorf("reading observations: %w", err)
		}
	}
	if err := s.readAttempts(ctx, f, ids, datasetNames, at); err != nil {
		return nil, fmt.Errorf("reading attempts: %w", err)
	}
	if shaped(catalogue.Dated) {
		if err := s.readEntries(ctx, f, ids, datasetNames, at, since); err != nil {
			return nil, fmt.Errorf("reading dated records: %w", err)
		}
	}
	if slices.Contains(datasets, catalogue.Bars) {
		if err := s.readBars(ctx, f, ids, at, since); err != nil {
			return nil, fmt.Errorf("reading bars: %w", err)
		}
	}
	return f, nil
}

func (s *Store) readPoints(ctx context.Context, f feeds, ids []int64, datasets []string, at time.Time) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, dataset, source, observed, delay_s, minor_unit, suspect, standalone, fields, rejected, place, request_id, known_from from observation"+knownAt(at)+"and dataset = any($3)", ids, at, datasets)
	if err != nil {
		return err
	}
	var id int64
	var dataset string
	var delay int
	var fields, rejected []byte
	var o table.Observation
	_, err = pgx.ForEachRow(rows, []any{&id, &dataset, &o.Source, &o.Observed, &delay, &o.Minor, &o.Suspect, &o.Standalone, &fields, &rejected, &o.Place, &o.Response, &o.Fetched}, func() error {
		stored := o
		stored.Delay = time.Duration(delay) * time.Second
		if err := decode(&stored, catalogue.Dataset(dataset), fields, rejected); err != nil {
			return fmt.Errorf("%s of listing %d: %w", dataset, id, err)
		}
		f.given(catalogue.Dataset(dataset), id, o.Source).Observation = &stored
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
		*v = valueOf(values[field.ID])
		if field.Unit == catalogue.Time {
			*v = cell.OfTime(o.Observed)
		}
		if text, there := texts[field.ID]; there {
			o.Rejected[field.Slot()] = text
		}
	}
	return nil
}

func valueOf(stored any) cell.Value {
	switch x := stored.(type) {
	case float64:
		return cell.Of(x)
	case string:
		return cell.OfText(once(x))
	}
	return cell.Value{}
}

// longestWord is the longest text that is kept once for all that hold it.
const longestWord = 40

// once keeps one copy of a short text: dates, currencies and names of groups come by the
// hundred thousand, and are few.
func once(text string) string {
	if len(text) > longestWord {
		return text
	}
	return unique.Make(text).Value()
}

func (s *Store) readAttempts(ctx context.Context, f feeds, ids []int64, datasets []string, at time.Time) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, dataset, source, outcome, detail, coalesce(request_id, 0), place, covered, known_from from attempt"+knownAt(at)+"and dataset = any($3)", ids, at, datasets)
	if err != nil {
		return err
	}
	var id int64
	var dataset, outcome string
	var covered dateRanges
	var a table.Attempt
	_, err = pgx.ForEachRow(rows, []any{&id, &dataset, &a.Source, &outcome, &a.Detail, &a.Response, &a.Place, &covered, &a.At}, func() error {
		stored := a
		stored.Outcome, _ = cell.ParseReason(outcome)
		stored.Covered = spans(covered)
		f.given(catalogue.Dataset(dataset), id, a.Source).Attempt = &stored
		return nil
	})
	return err
}

// readEntries reads dated records. That a source was asked and has none is an
// observation too.
func (s *Store) readEntries(ctx context.Context, f feeds, ids []int64, datasets []string, at time.Time, since period.Date) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, dataset, source, day, fields, place, request_id, known_from from entry"+knownAt(at)+"and dataset = any($3) and (dataset <> 'rates' or day >= $4) order by listing_id, dataset, source, day, key", ids, at, datasets, since.Time())
	if err != nil {
		return err
	}
	var id, request int64
	var dataset, source, place string
	var day *time.Time
	var fields []byte
	var from time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &dataset, &source, &day, &fields, &place, &request, &from}, func() error {
		d := catalogue.Dataset(dataset)
		info := catalogue.Info(d)
		var values map[string]any
		if err := json.Unmarshal(fields, &values); err != nil {
			return fmt.Errorf("%s of listing %d: %w", dataset, id, err)
		}
		e := entry.Entry{Day: dateOf(day), Values: make([]cell.Value, len(info.Columns)), Place: once(place), Response: request}
		for i, col := range info.Columns {
			e.Values[i] = valueOf(values[col.Name])
		}
		g := f.given(d, id, source)
		g.Entries = append(g.Entries, e)
		if o := g.Observation; o == nil {
			g.Observation = &table.Observation{Source: source, Observed: from, Fetched: from, Response: request, Place: place}
		} else if from.After(o.Fetched) {
			o.Observed, o.Fetched, o.Response, o.Place = from, from, request, place
		}
		return nil
	})
	if err != nil {
		return err
	}
	if slices.Contains(datasets, string(catalogue.Statements)) {
		if err := s.readRestated(ctx, f, ids, at); err != nil {
			return err
		}
	}
	for d, byListing := range f {
		info := catalogue.Info(d)
		if info == nil || info.Shape != catalogue.Dated || !slices.Contains(datasets, string(d)) {
			continue
		}
		for _, bySource := range byListing {
			for _, g := range bySource {
				if a := g.Attempt; g.Observation == nil && a != nil && a.Outcome == cell.NoReason && d != catalogue.Rates {
					g.Observation = &table.Observation{Source: g.Source, Observed: a.At, Fetched: a.At, Response: a.Response, Place: a.Place}
				}
				if d == catalogue.Rates && len(g.Entries) > 0 {
					g.Observation.Observed = g.Entries[len(g.Entries)-1].Day.Time()
				}
			}
		}
	}
	return nil
}

// readRestated puts beside each report what its source had said before, as it was
// known at an instant.
func (s *Store) readRestated(ctx context.Context, f feeds, ids []int64, at time.Time) error {
	info := catalogue.Info(catalogue.Statements)
	rows, err := s.Pool.Query(ctx, `
		select distinct on (listing_id, source, key) listing_id, source, key, fields from entry
		where listing_id = any($1) and dataset = 'statements' and known_to < 'infinity' and known_to <= $2
		order by listing_id, source, key, known_to desc`, ids, at)
	if err != nil {
		return err
	}
	var id int64
	var from, key string
	var fields []byte
	_, err = pgx.ForEachRow(rows, []any{&id, &from, &key, &fields}, func() error {
		var values map[string]any
		if err := json.Unmarshal(fields, &values); err != nil {
			return err
		}
		before := make([]cell.Value, len(info.Columns))
		for i, col := range info.Columns {
			before[i] = valueOf(values[col.Name])
		}
		entries := f.given(catalogue.Statements, id, from).Entries
		for i := range entries {
			if source.KeyOf(info, entries[i].Values) == key {
				entries[i].Before = before
			}
		}
		return nil
	})
	return err
}

func (s *Store) readBars(ctx context.Context, f feeds, ids []int64, at time.Time, from period.Date) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, source, day, open, high, low, close, volume, request_id, known_from from bar"+knownAt(at)+"and day >= $3 order by listing_id, source, day", ids, at, from.Time())
	if err != nil {
		return err
	}
	var id, request int64
	var source string
	var day, since time.Time
	var open, high, low, cl, volume float64
	var g *table.Given
	var of int64
	_, err = pgx.ForEachRow(rows, []any{&id, &source, &day, &open, &high, &low, &cl, &volume, &request, &since}, func() error {
		if g == nil || of != id || g.Source != source {
			g, of = f.given(catalogue.Bars, id, source), id
			g.Bars, g.Observation = &series.Bars{}, &table.Observation{Source: source}
		}
		g.Bars.Append(period.DateOf(day), open, high, low, cl, volume)
		if !since.Before(g.Observation.Fetched) {
			g.Observation.Fetched, g.Observation.Response = since, request
		}
		return nil
	})
	return err
}

// readIntraday reads the bars within the day that are kept.
func (s *Store) readIntraday(ctx context.Context, f feeds, ids []int64) error {
	rows, err := s.Pool.Query(ctx, "select listing_id, source, at, open, high, low, close, volume, request_id, known_from from intraday_bar"+knownAt(latest)+"order by listing_id, source, at", ids, latest)
	if err != nil {
		return err
	}
	var id, request int64
	var source string
	var at, since time.Time
	var open, high, low, cl, volume float64
	_, err = pgx.ForEachRow(rows, []any{&id, &source, &at, &open, &high, &low, &cl, &volume, &request, &since}, func() error {
		g := f.given(catalogue.Intraday, id, source)
		if g.Bars == nil {
			g.Bars, g.Observation = &series.Bars{}, &table.Observation{Source: source}
		}
		g.Times = append(g.Times, at)
		g.Bars.Append(period.DateOf(at), open, high, low, cl, volume) // its day on the exchange is set later
		if !since.Before(g.Observation.Fetched) {
			g.Observation.Fetched, g.Observation.Response = since, request
		}
		return nil
	})
	return err
}

// arranged lists what sources have given in an order of preference; those that
// the order does not name follow by name.
func arranged(bySource map[string]*table.Given, order []string) []table.Given {
	out := make([]table.Given, 0, len(bySource))
	for _, g := range bySource {
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b table.Given) int {
		x, y := slices.Index(order, a.Source), slices.Index(order, b.Source)
		switch {
		case x == y:
			return strings.Compare(a.Source, b.Source)
		case x < 0:
			return 1
		case y < 0:
			return -1
		}
		return x - y
	})
	return out
}

// fill puts a dataset that was read into a record. Bars stay as traded.
func fill(r *table.Record, d catalogue.Dataset, f feeds, order []string) {
	feed := &r.Feeds[table.FeedOf(d)]
	feed.From = arranged(f[d][r.Listing.ID], order)
	if d == catalogue.Estimates {
		for i := range feed.From {
			feed.From[i].Outlook = catalogue.Outlook(feed.From[i].Entries)
		}
	}
	if d == catalogue.Statements {
		for i := range feed.From {
			g := &feed.From[i]
			g.Reports, g.Entries = catalogue.Reports(g.Entries), nil // which take a quarter of the space
		}
	}
	if d != catalogue.Bars {
		return
	}
	for i := range feed.From {
		g := &feed.From[i]
		if g.Bars == nil {
			continue
		}
		g.Observation.Observed = r.Exchange.SessionOn(g.Bars.Day[g.Bars.Len()-1]).Close
		if a := g.Attempt; a != nil && a.Response == g.Observation.Response {
			g.Observation.Place = a.Place
		}
	}
}

// adjust restates the bars of a record, given as traded, and its dividends in
// today's shares, each source's by its own splits, and compares the bars of
// several sources.
func adjust(r *table.Record, raw []table.Given, tolerance float64) {
	splits := r.Feeds[table.FeedOf(catalogue.Splits)].From
	r.Splits = nil
	feed := &r.Feeds[table.FeedOf(catalogue.Bars)]
	feed.From = slices.Clone(raw)
	if len(splits) > 0 {
		r.Splits = splitsOf(splits[0].Entries)
	}
	own := func(source string) []series.Split { return splitsBy(r, source) }
	for i := range feed.From {
		if g := &feed.From[i]; g.Bars != nil {
			g.Splits = own(g.Source)
			g.Bars = g.Bars.AdjustSplits(g.Splits)
		}
	}
	dividends := &r.Feeds[table.FeedOf(catalogue.Dividends)]
	dividends.From = slices.Clone(dividends.From)
	for i := range dividends.From {
		g := &dividends.From[i]
		g.Payments = catalogue.Payments(g.Entries, own(g.Source))
	}
	accounts := &r.Feeds[table.FeedOf(catalogue.Statements)]
	accounts.From = slices.Clone(accounts.From)
	for i := range accounts.From {
		g := &accounts.From[i]
		g.Accounts = statement.New(g.Reports, own(g.Source))
	}
	for i := range feed.From {
		for j := range feed.From {
			if i != j && feed.From[i].Bars != nil && feed.From[j].Bars != nil {
				compareCloses(&feed.From[i], &feed.From[j], tolerance)
			}
		}
	}
}

// splitsBy are the splits that a source knows of, or else those of the record.
func splitsBy(r *table.Record, source string) []series.Split {
	if g := r.Feeds[table.FeedOf(catalogue.Splits)].By(source); g != nil && g.Observation != nil {
		return splitsOf(g.Entries)
	}
	return r.Splits
}

func splitsOf(entries entry.Entries) (out []series.Split) {
	for _, e := range entries {
		out = append(out, series.Split{Day: e.Day, Ratio: e.Values[1].Num})
	}
	return out
}

// compareCloses notes where another source's last close of a day that both have
// differs.
func compareCloses(g, other *table.Given, tolerance float64) {
	i := g.Bars.Len() - 1
	j := other.Bars.OnOrBefore(g.Bars.Day[i])
	if j < 0 || g.Conflict != "" {
		return
	}
	if other.Bars.Day[j] != g.Bars.Day[i] {
		if i = g.Bars.OnOrBefore(other.Bars.Day[j]); i < 0 || g.Bars.Day[i] != other.Bars.Day[j] {
			return
		}
	}
	if a, b := g.Bars.Close[i], other.Bars.Close[j]; table.Differ(a, b, tolerance) {
		g.Conflict = fmt.Sprintf("%s gives a close of %v for %v", other.Source, b, g.Bars.Day[i])
	}
}
