package store

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
)

// Result is the outcome of one request, ready to be stored.
type Result struct {
	Refresh int64
	Request plan.Request
	Answer  *source.Answer
	Fault   *source.Fault // nil when it was answered
	Final   bool          // the outcome stands: no further try of this request follows
	LogOnly bool          // it was a trial: what came is not stored as data
	Event   Event
}

// Save stores one response in one transaction: the body under its hash, the
// request log, the observations that are new, the outcome for every need asked
// for, and the event that tells of it. Either all of it is there or none.
func (s *Store) Save(ctx context.Context, r Result, now time.Time) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		w := &writer{Context: ctx, tx: tx, r: r, now: now, ids: map[market.Symbol]int64{}}
		for i := range r.Request.Needs {
			if n := &r.Request.Needs[i]; n.Listing != 0 {
				w.ids[n.Symbol] = n.Listing
			}
		}
		for i := range r.Answer.Pages {
			id, err := w.log(&r.Answer.Pages[i], i == len(r.Answer.Pages)-1)
			if err != nil {
				return fmt.Errorf("logging the request: %w", err)
			}
			w.pages = append(w.pages, id)
		}
		if r.LogOnly {
			return nil
		}
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
		return notify(ctx, tx, fmt.Sprintf("request %d", w.pages[len(w.pages)-1]))
	})
}

func notify(ctx context.Context, tx pgx.Tx, what string) error {
	_, err := tx.Exec(ctx, "select pg_notify('soba', $1)", what)
	return err
}

// writer stores one result.
type writer struct {
	context.Context
	tx    pgx.Tx
	r     Result
	now   time.Time
	ids   map[market.Symbol]int64
	pages []int64 // entries of the request log
}

// log writes the log entry of one page. The last one stands for the request: it tells
// of the fault.
func (w *writer) log(p *source.Page, last bool) (id int64, err error) {
	var hash []byte
	if p.Size > 0 {
		hash = p.Hash
		_, err := w.tx.Exec(w, "insert into response (hash, content_type, size, body, stored_at) values ($1, $2, $3, $4, $5) on conflict do nothing", hash, p.ContentType, p.Size, p.Packed, w.now)
		if err != nil {
			return 0, err
		}
	}
	fault, remarks := "", []string{}
	listings := []int64{}
	for _, id := range w.ids {
		listings = append(listings, id)
	}
	if last {
		if w.r.Fault != nil {
			fault = w.r.Fault.Error()
		}
		remarks = append(remarks, w.r.Answer.Remarks...)
	}
	var refresh *int64
	if w.r.Refresh != 0 {
		refresh = &w.r.Refresh
	}
	datasets := names(w.r.Request.Datasets())
	err = w.tx.QueryRow(w, `
		insert into request (refresh_id, source, call, datasets, address, listings, started_at, took_ms, status, bytes, units, units_left, fault, remarks, response_hash)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) returning id`,
		refresh, w.r.Request.Source, w.r.Request.Call, datasets, p.Address, listings, w.now.Add(-p.Took), float64(p.Took.Microseconds())/1000, p.Status, p.Size, p.Units, p.UnitsLeft, fault, remarks, hash).Scan(&id)
	return id, err
}

func names(datasets []catalogue.Dataset) []string {
	out := make([]string, len(datasets))
	for i, d := range datasets {
		out[i] = string(d)
	}
	return out
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

func (w *writer) observations() error {
	a := w.r.Answer
	if len(a.Listings) > 0 {
		if err := saveListings(w, w.tx, a.Listings, w.now); err != nil {
			return fmt.Errorf("storing listings: %w", err)
		}
	}
	for _, d := range w.r.Request.Datasets() {
		var err error
		switch catalogue.Info(d).Shape {
		case catalogue.Point:
			err = w.points(d)
		case catalogue.Prices:
			err = w.bars(d)
		case catalogue.Dated:
			err = w.entries(d)
		}
		if err != nil {
			return fmt.Errorf("storing %s: %w", d, err)
		}
	}
	return nil
}

// encode writes values as {"quote.last": 31.42}, those that are missing left out.
func encode(d catalogue.Dataset, values []cell.Value) []byte {
	b := []byte{'{'}
	for _, f := range catalogue.ObservedIn(d) {
		if v := values[f.Slot()]; v.Kind != cell.None && f.Unit != catalogue.Time {
			b = member(b, f.ID, v)
		}
	}
	return append(b, '}')
}

// encodeEntry writes the values of a dated record by the names of its columns, in the
// order in which the database keeps the members of an object, so that it need not sort
// them: the shorter name first.
func encodeEntry(info *catalogue.DatasetInfo, values []cell.Value) []byte {
	b := make([]byte, 1, 24*len(info.Columns))
	b[0] = '{'
	for _, i := range storedOrder[info.Name] {
		if values[i].Kind != cell.None {
			b = member(b, info.Columns[i].Name, values[i])
		}
	}
	return append(b, '}')
}

var storedOrder = func() map[catalogue.Dataset][]int {
	order := map[catalogue.Dataset][]int{}
	for _, info := range catalogue.Infos {
		for i := range info.Columns {
			order[info.Name] = append(order[info.Name], i)
		}
		slices.SortFunc(order[info.Name], func(i, j int) int {
			a, b := info.Columns[i].Name, info.Columns[j].Name
			return cmp.Or(len(a)-len(b), strings.Compare(a, b))
		})
	}
	return order
}()

func member(b []byte, name string, v cell.Value) []byte {
	if len(b) > 1 {
		b = append(b, ',')
	}
	b = append(b, '"')
	b = append(b, name...)
	b = append(b, `":`...)
	return v.AppendJSON(b)
}

func (w *writer) points(d catalogue.Dataset) error {
	type known struct {
		ID        int64
		ListingID int64
		Observed  time.Time
		Fields    []byte
	}
	var points []*source.Point
	var ids []int64
	for i := range w.r.Answer.Points {
		if p := &w.r.Answer.Points[i]; p.Dataset == d {
			points, ids = append(points, p), append(ids, w.ids[p.Symbol])
		}
	}
	if len(points) == 0 {
		return nil
	}
	// jsonb keeps no order of keys, so the comparison is left to the decoded form.
	current, err := all[known](w, w.tx, "select id, listing_id, observed, fields from observation where known_to = 'infinity' and listing_id = any($1) and dataset = $2 and source = $3 for update", ids, string(d), w.r.Request.Source)
	if err != nil {
		return err
	}
	before := make(map[int64]known, len(current))
	for _, k := range current {
		before[k.ListingID] = k
	}
	var closed []int64
	var added [][]any
	for i, p := range points {
		fields := encode(d, p.Values)
		if k, there := before[ids[i]]; there {
			if sameJSON(k.Fields, fields) && (k.Observed.Equal(p.Observed) || d != catalogue.Quotes) {
				continue
			}
			closed = append(closed, k.ID)
		}
		var rejected []byte
		if len(p.Rejected) > 0 {
			texts := map[string]string{}
			for slot, text := range p.Rejected {
				texts[catalogue.ObservedIn(d)[slot].ID] = text
			}
			rejected, _ = json.Marshal(texts) // texts always marshal
		}
		raw, _ := json.Marshal(p.Raw)
		added = append(added, []any{ids[i], string(d), w.r.Request.Source, p.Observed, int32(p.Delay.Seconds()), p.Minor, p.Suspect, p.Standalone, fields, rejected, raw, p.Origin.Place, w.pages[p.Page], w.now})
	}
	if len(closed) > 0 {
		if _, err := w.tx.Exec(w, "update observation set known_to = $1 where id = any($2)", w.now, closed); err != nil {
			return err
		}
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"observation"},
		[]string{"listing_id", "dataset", "source", "observed", "delay_s", "minor_unit", "suspect", "standalone", "fields", "rejected", "raw", "place", "request_id", "known_from"}, pgx.CopyFromRows(added))
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

// Raw returns the names and texts under which a source wrote the values of an
// observation, by field.
func (s *Store) Raw(ctx context.Context, listing int64, d catalogue.Dataset, from string, at time.Time) (map[string]source.Raw, error) {
	type stored struct{ Raw []byte }
	r, err := one[stored](ctx, s.Pool, "select raw from observation where listing_id = $1 and dataset = $2 and source = $3 and known_from <= $4 and known_to > $4", listing, string(d), from, at)
	if err != nil || r.Raw == nil {
		return nil, err
	}
	raw := map[string]source.Raw{}
	return raw, json.Unmarshal(r.Raw, &raw)
}

// entries stores the dated records that are new or changed, and closes those that
// the source no longer gives.
func (w *writer) entries(d catalogue.Dataset) error {
	info := catalogue.Info(d)
	type known struct {
		ListingID int64
		Key       string
		Day       *time.Time
		Fields    []byte
	}
	given := map[int64]*source.Entries{}
	var ids []int64
	for i := range w.r.Answer.Entries {
		if e := &w.r.Answer.Entries[i]; e.Dataset == d {
			id := w.ids[e.Symbol]
			given[id], ids = e, append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	where, args := "", []any{ids, string(d), w.r.Request.Source}
	if info.Ranged {
		where, args = " and day between $4 and $5", append(args, w.r.Request.From.Time(), w.r.Request.To.Time())
	}
	current, err := all[known](w, w.tx, "select listing_id, key, day, fields from entry where known_to = 'infinity' and listing_id = any($1) and dataset = $2 and source = $3"+where+" for update", args...)
	if err != nil {
		return err
	}
	type name struct {
		id  int64
		key string
	}
	before := make(map[name][]byte, len(current))
	for _, k := range current {
		if e := given[k.ListingID].Entries; info.Rolls && len(e) > 0 && dateOf(k.Day) < e[0].Day {
			continue // from before what the source still gives
		}
		before[name{k.ListingID, k.Key}] = k.Fields
	}
	var closedIDs []int64
	var closedKeys []string
	shut := func(n name) { closedIDs, closedKeys = append(closedIDs, n.id), append(closedKeys, n.key) }
	columns := []string{"listing_id", "dataset", "source", "key", "day", "fields", "place", "request_id", "known_from"}
	var added, replaced [][]any // replaced is what an answer says was so before
	for _, id := range ids {
		e := given[id]
		for i := range e.Entries {
			x := &e.Entries[i]
			n := name{id, source.KeyOf(info, x.Values)}
			fields := encodeEntry(info, x.Values)
			if old, there := before[n]; there {
				delete(before, n)
				if sameJSON(old, fields) {
					continue
				}
				shut(n)
			} else if x.Before != nil {
				replaced = append(replaced, []any{id, string(d), w.r.Request.Source, n.key, nullable(x.Day), encodeEntry(info, x.Before), x.Place, w.pages[x.Page], w.now, w.now})
			}
			added = append(added, []any{id, string(d), w.r.Request.Source, n.key, nullable(x.Day), fields, x.Place, w.pages[x.Page], w.now})
		}
	}
	for n := range before {
		if given[n.id].Remark == "" { // else it may be the one that was rejected
			shut(n)
		}
	}
	if len(closedIDs) > 0 {
		if _, err := w.tx.Exec(w, `
			update entry set known_to = $1 from unnest($2::bigint[], $3::text[]) as c(listing_id, key)
			where entry.known_to = 'infinity' and entry.dataset = $4 and entry.source = $5 and entry.listing_id = c.listing_id and entry.key = c.key`, w.now, closedIDs, closedKeys, string(d), w.r.Request.Source); err != nil {
			return err
		}
	}
	if len(replaced) > 0 {
		if _, err := w.tx.CopyFrom(w, pgx.Identifier{"entry"}, append(columns, "known_to"), pgx.CopyFromRows(replaced)); err != nil {
			return err
		}
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"entry"}, columns, pgx.CopyFromRows(added))
	return err
}

// outcomes records, for every need asked for, how the request ended for it.
func (w *writer) outcomes() error {
	type key struct {
		symbol  market.Symbol
		dataset catalogue.Dataset
	}
	type outcome struct {
		reason cell.Reason
		detail string
		place  string
		page   int
		last   period.Date // of a history
	}
	outcomes := make(map[key]outcome, len(w.r.Request.Needs))
	q, a := &w.r.Request, w.r.Answer
	for i := range q.Needs {
		n := &q.Needs[i]
		o := outcome{page: len(w.pages) - 1}
		if w.r.Fault != nil {
			o.reason, o.detail = w.r.Fault.Reason(), q.Source+": "+w.r.Fault.Error()
		}
		if n.Listing != 0 {
			outcomes[key{n.Symbol, n.Dataset}] = o
		}
	}
	for _, f := range a.Failures {
		outcomes[key{f.Symbol, f.Dataset}] = outcome{reason: f.Reason, detail: q.Source + ": " + f.Detail, page: len(w.pages) - 1}
	}
	for i := range a.Series {
		s := &a.Series[i]
		o := outcome{detail: s.Remark, place: s.Place, page: s.Page}
		if n := s.Bars.Len(); n > 0 {
			o.last = s.Bars.Day[n-1]
		}
		outcomes[key{s.Symbol, s.Dataset}] = o
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		o := outcome{detail: e.Remark, place: e.Place, page: e.Page}
		if n := len(e.Entries); n > 0 {
			o.last = e.Entries[n-1].Day
		}
		outcomes[key{e.Symbol, e.Dataset}] = o
	}
	ids := make([]int64, 0, len(w.ids))
	for _, id := range w.ids {
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return nil
	}
	datasets := names(q.Datasets())
	covered, err := w.covered(ids, datasets)
	if err != nil {
		return err
	}
	today := period.DateOf(w.now.UTC())
	var rows [][]any
	var closedIDs []int64
	var closedDatasets []string
	for k, o := range outcomes {
		id := w.ids[k.symbol]
		days := covered[need{id, string(k.dataset)}]
		if w.r.Fault == nil && o.reason == cell.NoReason && catalogue.Info(k.dataset).Ranged && q.To != 0 {
			if a.Same {
				o.last = q.To
			}
			days = days.Add(source.Covered(q.From, q.To, o.last, today))
		}
		closedIDs, closedDatasets = append(closedIDs, id), append(closedDatasets, string(k.dataset))
		rows = append(rows, []any{id, string(k.dataset), q.Source, o.reason.String(), o.detail, w.pages[o.page], o.place, multirange(days), w.now})
	}
	if _, err := w.tx.Exec(w, `
		update attempt set known_to = $1 from unnest($2::bigint[], $3::text[]) as c(listing_id, dataset)
		where attempt.known_to = 'infinity' and attempt.source = $4 and attempt.listing_id = c.listing_id and attempt.dataset = c.dataset`, w.now, closedIDs, closedDatasets, q.Source); err != nil {
		return err
	}
	_, err = w.tx.CopyFrom(w, pgx.Identifier{"attempt"}, []string{"listing_id", "dataset", "source", "outcome", "detail", "request_id", "place", "covered", "known_from"}, pgx.CopyFromRows(rows))
	return err
}

// need names one dataset of a listing.
type need struct {
	id      int64
	dataset string
}

// covered reads which days have been answered before.
func (w *writer) covered(ids []int64, datasets []string) (map[need]period.Spans, error) {
	rows, err := w.tx.Query(w, "select listing_id, dataset, covered from attempt where known_to = 'infinity' and listing_id = any($1) and dataset = any($2) and source = $3 and not isempty(covered)", ids, datasets, w.r.Request.Source)
	if err != nil {
		return nil, err
	}
	out := map[need]period.Spans{}
	var n need
	var days dateRanges
	_, err = pgx.ForEachRow(rows, []any{&n.id, &n.dataset, &days}, func() error { out[n] = spans(days); return nil })
	return out, err
}
