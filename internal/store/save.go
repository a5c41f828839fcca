package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source"
)

// Result is the outcome of one request, ready to be stored.
type Result struct {
	Refresh  int64
	Source   string
	Dataset  catalogue.Dataset
	Listings map[string]int64 // that were asked for, by symbol
	From     period.Date      // of bars: how far back was asked
	Answer   *source.Answer
	Fault    *source.Fault // nil when it was answered
	Final    bool          // the outcome stands: no further try of this request follows
	Event    Event
}

// Save stores one response in one transaction: the body under its hash, the
// request log, the observations that are new, the outcome for every listing
// asked for, and the event that tells of it. Either all of it is there or none.
func (s *Store) Save(ctx context.Context, r Result, now time.Time) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		request, err := logRequest(ctx, tx, r, now)
		if err != nil {
			return fmt.Errorf("logging the request: %w", err)
		}
		w := writer{ctx, tx, r, request, now}
		if r.Fault == nil {
			if err := w.observations(); err != nil {
				return err
			}
		}
		if r.Final {
			if err := w.outcomes(); err != nil {
				return err
			}
		}
		if r.Refresh == 0 {
			return nil
		}
		if err := w.progress(); err != nil {
			return err
		}
		return notify(ctx, tx, fmt.Sprintf("request %d", request))
	})
}

func notify(ctx context.Context, tx pgx.Tx, what string) error {
	_, err := tx.Exec(ctx, "select pg_notify('soba', $1)", what)
	return err
}

func logRequest(ctx context.Context, tx pgx.Tx, r Result, now time.Time) (id int64, err error) {
	var hash []byte
	a := r.Answer
	if len(a.Body) > 0 {
		sum := sha256.Sum256(a.Body)
		hash = sum[:]
		_, err := tx.Exec(ctx, "insert into response (hash, content_type, size, body, stored_at) values ($1, $2, $3, $4, $5) on conflict do nothing",
			hash, a.ContentType, len(a.Body), compressed(a.Body), now)
		if err != nil {
			return 0, err
		}
	}
	fault := ""
	if r.Fault != nil {
		fault = r.Fault.Error()
	}
	listings := make([]int64, 0, len(r.Listings))
	for _, id := range r.Listings {
		listings = append(listings, id)
	}
	var refresh *int64
	if r.Refresh != 0 {
		refresh = &r.Refresh
	}
	err = tx.QueryRow(ctx, `
		insert into request (refresh_id, source, dataset, address, listings, started_at, took_ms, status, bytes, units, units_left, fault, response_hash)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) returning id`,
		refresh, r.Source, string(r.Dataset), a.Call.Address, listings, now.Add(-a.Call.Took), float64(a.Call.Took.Microseconds())/1000, a.Call.Status, len(a.Body), a.Call.Units, a.Call.UnitsLeft, fault, hash).Scan(&id)
	return id, err
}

func compressed(body []byte) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is valid
	w.Write(body)                                   //nolint:errcheck // a buffer takes everything
	w.Close()                                       //nolint:errcheck
	return b.Bytes()
}

// StoredResponse is a raw response as it came.
type StoredResponse struct {
	ContentType string
	Body        []byte
	StoredAt    time.Time
}

// Response returns a stored response by the hash of its content.
func (s *Store) Response(ctx context.Context, hash []byte) (StoredResponse, error) {
	r, err := one[StoredResponse](ctx, s.Pool, "select content_type, body, stored_at from response where hash = $1", hash)
	if err != nil {
		return r, err
	}
	reader, err := gzip.NewReader(bytes.NewReader(r.Body))
	if err != nil {
		return r, err
	}
	r.Body, err = io.ReadAll(reader)
	return r, err
}

type writer struct {
	context.Context
	tx      pgx.Tx
	r       Result
	request int64
	now     time.Time
}

func (w *writer) observations() error {
	if len(w.r.Answer.Listings) > 0 {
		if err := saveListings(w, w.tx, w.r.Answer.Listings, w.now); err != nil {
			return fmt.Errorf("storing listings: %w", err)
		}
	}
	if len(w.r.Answer.Points) > 0 {
		if err := w.points(); err != nil {
			return fmt.Errorf("storing %s: %w", w.r.Dataset, err)
		}
	}
	if len(w.r.Answer.Series) > 0 {
		if err := w.bars(); err != nil {
			return fmt.Errorf("storing bars: %w", err)
		}
	}
	return nil
}

// encode writes values as {"quote.last": 31.42}, those that are missing left out.
func encode(d catalogue.Dataset, values []cell.Value) []byte {
	b := []byte{'{'}
	for _, f := range catalogue.ObservedIn(d) {
		if v := values[f.Slot()]; v.Kind != cell.None && f.Unit != catalogue.Time {
			if len(b) > 1 {
				b = append(b, ',')
			}
			b = append(b, '"')
			b = append(b, f.ID...)
			b = append(b, `":`...)
			b = v.AppendJSON(b)
		}
	}
	return append(b, '}')
}

func (w *writer) points() error {
	type known struct {
		ID        int64
		ListingID int64
		Observed  time.Time
		Fields    []byte
	}
	ids := make([]int64, 0, len(w.r.Answer.Points))
	for _, p := range w.r.Answer.Points {
		ids = append(ids, w.r.Listings[p.Symbol.String()])
	}
	// jsonb keeps no order of keys, so the comparison is left to the database's own form.
	current, err := all[known](w, w.tx, "select id, listing_id, observed, fields from observation where known_to = 'infinity' and listing_id = any($1) and dataset = $2 and source = $3 for update", ids, string(w.r.Dataset), w.r.Source)
	if err != nil {
		return err
	}
	before := make(map[int64]known, len(current))
	for _, k := range current {
		before[k.ListingID] = k
	}
	var closed []int64
	var added [][]any
	for i, p := range w.r.Answer.Points {
		fields := encode(w.r.Dataset, p.Values)
		if k, there := before[ids[i]]; there {
			if sameJSON(k.Fields, fields) && (k.Observed.Equal(p.Observed) || w.r.Dataset != catalogue.Quotes) {
				continue
			}
			closed = append(closed, k.ID)
		}
		var rejected []byte
		if len(p.Rejected) > 0 {
			texts := map[string]string{}
			for slot, text := range p.Rejected {
				texts[catalogue.ObservedIn(w.r.Dataset)[slot].ID] = text
			}
			rejected, _ = json.Marshal(texts) // texts always marshal
		}
		added = append(added, []any{ids[i], string(w.r.Dataset), w.r.Source, p.Observed, int32(p.Delay.Seconds()), p.Minor, p.Suspect, fields, rejected, p.Place, w.request, w.now})
	}
	if err := w.close("observation", closed); err != nil {
		return err
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"observation"},
		[]string{"listing_id", "dataset", "source", "observed", "delay_s", "minor_unit", "suspect", "fields", "rejected", "place", "request_id", "known_from"}, pgx.CopyFromRows(added))
	return err
}

func sameJSON(a, b []byte) bool {
	var x, y map[string]any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil || len(x) != len(y) {
		return false
	}
	for key, value := range x {
		if other, there := y[key]; !there || other != value {
			return false
		}
	}
	return true
}

func (w *writer) close(from string, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := w.tx.Exec(w, "update "+from+" set known_to = $1 where id = any($2)", w.now, ids)
	return err
}

// barKey names one bar of a source.
type barKey struct {
	listing int64
	day     period.Date
}

type barRow struct {
	ListingID int64
	Day       time.Time
	Open      float64
	High      float64
	Low       float64
	Close     float64
	Volume    float64
}

// bars stores the bars that are new and closes those that changed. What is
// already there in the range is read once and compared here, so that the usual
// case, a first history or its extension, is one COPY.
func (w *writer) bars() error {
	var ids []int64
	var first, last period.Date
	for _, s := range w.r.Answer.Series {
		if n := s.Bars.Len(); n > 0 {
			ids = append(ids, w.r.Listings[s.Symbol.String()])
			if first == 0 || s.Bars.Day[0] < first {
				first = s.Bars.Day[0]
			}
			last = max(last, s.Bars.Day[n-1])
		}
	}
	there, err := all[barRow](w, w.tx, `
		select listing_id, day, open, high, low, close, volume from bar
		where known_to = 'infinity' and listing_id = any($1) and source = $2 and day between $3 and $4`, ids, w.r.Source, first.Time(), last.Time())
	if err != nil {
		return err
	}
	before := make(map[barKey][5]float64, len(there))
	for _, b := range there {
		before[barKey{b.ListingID, period.DateOf(b.Day)}] = [5]float64{b.Open, b.High, b.Low, b.Close, b.Volume}
	}
	var changedIDs []int64
	var changedDays []time.Time
	feed := &barFeed{w: w, before: before, changed: func(k barKey) {
		changedIDs = append(changedIDs, k.listing)
		changedDays = append(changedDays, k.day.Time())
	}}
	feed.eachChanged()
	if len(changedIDs) > 0 {
		if _, err := w.tx.Exec(w, `
			update bar set known_to = $1 from unnest($2::bigint[], $3::date[]) as c(listing_id, day)
			where bar.known_to = 'infinity' and bar.source = $4 and bar.listing_id = c.listing_id and bar.day = c.day`, w.now, changedIDs, changedDays, w.r.Source); err != nil {
			return err
		}
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"bar"}, []string{"listing_id", "source", "day", "open", "high", "low", "close", "volume", "request_id", "known_from"}, feed)
	if err != nil {
		return err
	}
	return w.splits()
}

// barFeed hands the bars that are new or changed to COPY, one after the other.
type barFeed struct {
	w       *writer
	before  map[barKey][5]float64
	changed func(barKey)
	s, i    int // the next bar to look at: of which series, and which of it
	row     [10]any
}

func (f *barFeed) at() (k barKey, prices [5]float64) {
	s := &f.w.r.Answer.Series[f.s]
	b := &s.Bars
	return barKey{f.w.r.Listings[s.Symbol.String()], b.Day[f.i]}, [5]float64{b.Open[f.i], b.High[f.i], b.Low[f.i], b.Close[f.i], b.Volume[f.i]}
}

// eachChanged reports the bars that differ from what is there.
func (f *barFeed) eachChanged() {
	if len(f.before) == 0 {
		return
	}
	for s := range f.w.r.Answer.Series {
		for i := range f.w.r.Answer.Series[s].Bars.Len() {
			f.s, f.i = s, i
			if k, prices := f.at(); f.before[k] != prices {
				if _, there := f.before[k]; there {
					f.changed(k)
				}
			}
		}
	}
	f.s, f.i = 0, 0
}

func (f *barFeed) Next() bool {
	for ; f.s < len(f.w.r.Answer.Series); f.s, f.i = f.s+1, 0 {
		for f.i < f.w.r.Answer.Series[f.s].Bars.Len() {
			k, prices := f.at()
			f.i++
			if old, there := f.before[k]; there && old == prices {
				continue
			}
			f.row = [10]any{k.listing, f.w.r.Source, k.day.Time(), prices[0], prices[1], prices[2], prices[3], prices[4], f.w.request, f.w.now}
			return true
		}
	}
	return false
}

func (f *barFeed) Values() ([]any, error) { return f.row[:], nil }

// Err implements [pgx.CopyFromSource].
func (f *barFeed) Err() error { return nil }

func (w *writer) splits() error {
	batch := &pgx.Batch{}
	for _, s := range w.r.Answer.Series {
		for _, split := range s.Splits {
			id := w.r.Listings[s.Symbol.String()]
			batch.Queue("update split set known_to = $5 where known_to = 'infinity' and listing_id = $1 and source = $2 and day = $3 and ratio <> $4", id, w.r.Source, split.Day.Time(), split.Ratio, w.now)
			batch.Queue("insert into split (listing_id, source, day, ratio, request_id, known_from) values ($1, $2, $3, $4, $5, $6) on conflict (listing_id, source, day) where known_to = 'infinity' do nothing",
				id, w.r.Source, split.Day.Time(), split.Ratio, w.request, w.now)
		}
	}
	return w.tx.SendBatch(w, batch).Close()
}

// outcomes records, for every listing asked for, how the request ended for it.
func (w *writer) outcomes() error {
	type outcome struct {
		reason cell.Reason
		detail string
		place  string
	}
	outcomes := make(map[int64]outcome, len(w.r.Listings))
	for _, id := range w.r.Listings {
		outcomes[id] = outcome{}
		if w.r.Fault != nil {
			outcomes[id] = outcome{reason: w.r.Fault.Reason(), detail: w.r.Source + ": " + w.r.Fault.Error()}
		}
	}
	for _, f := range w.r.Answer.Failures {
		outcomes[w.r.Listings[f.Symbol.String()]] = outcome{reason: f.Reason, detail: w.r.Source + ": " + f.Detail}
	}
	for _, s := range w.r.Answer.Series {
		outcomes[w.r.Listings[s.Symbol.String()]] = outcome{detail: s.Remark, place: s.Place}
	}
	ids := make([]int64, 0, len(outcomes))
	rows := make([][]any, 0, len(outcomes))
	for _, id := range w.r.Listings {
		ids = append(ids, id)
	}
	earliest, err := w.askedFrom(ids)
	if err != nil {
		return err
	}
	for id, o := range outcomes {
		from := earliest[id]
		if w.r.Fault == nil && o.reason == cell.NoReason && w.r.From != 0 && (from == 0 || w.r.From < from) {
			from = w.r.From
		}
		rows = append(rows, []any{id, string(w.r.Dataset), w.r.Source, o.reason.String(), o.detail, w.request, o.place, nullable(from), w.now})
	}
	if _, err := w.tx.Exec(w, "update attempt set known_to = $1 where known_to = 'infinity' and listing_id = any($2) and dataset = $3 and source = $4", w.now, ids, string(w.r.Dataset), w.r.Source); err != nil {
		return err
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"attempt"}, []string{"listing_id", "dataset", "source", "outcome", "detail", "request_id", "place", "from_day", "known_from"}, pgx.CopyFromRows(rows))
	return err
}

// askedFrom is how far back bars of the listings have been asked for before.
func (w *writer) askedFrom(ids []int64) (map[int64]period.Date, error) {
	from := map[int64]period.Date{}
	if w.r.Dataset != catalogue.Bars {
		return from, nil
	}
	rows, err := w.tx.Query(w, "select listing_id, from_day from attempt where known_to = 'infinity' and listing_id = any($3) and dataset = $1 and source = $2 and from_day is not null", string(w.r.Dataset), w.r.Source, ids)
	if err != nil {
		return nil, err
	}
	var id int64
	var day time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &day}, func() error { from[id] = period.DateOf(day); return nil })
	return from, err
}
