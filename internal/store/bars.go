package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source"
)

// intradayKept is how long bars within the day are kept.
const intradayKept = 10 * 24 * time.Hour

// weekdaysTraded counts, for each exchange, the days since one on which any of its
// listings traded, by weekday.
func (s *Store) weekdaysTraded(ctx context.Context, since time.Time) (map[string][7]int, error) {
	type count struct {
		Exchange string
		Weekday  int
		Days     int
	}
	counts, err := all[count](ctx, s.Pool, `
		select exchange, extract(dow from day)::int as weekday, count(*)::int as days
		from (select distinct reverse(split_part(reverse(l.symbol), '.', 1)) as exchange, b.day
			from bar b join listing l on l.id = b.listing_id
			where b.known_to = 'infinity' and b.day > $1 and b.volume > 0) as traded
		group by 1, 2`, since)
	out := map[string][7]int{}
	for _, c := range counts {
		week := out[c.Exchange]
		week[c.Weekday] = c.Days
		out[c.Exchange] = week
	}
	return out, err
}

// barTable is where bars of one width go.
type barTable struct {
	name, at string // of the table and the column that tells bars apart
}

var (
	dailyBars    = barTable{"bar", "day"}
	intradayBars = barTable{"intraday_bar", "at"}
)

// barKey names one bar of a source: seconds since 1970 of its day or instant.
type barKey struct {
	listing int64
	at      int64
}

type barRow struct {
	ListingID int64
	At        time.Time
	Open      float64
	High      float64
	Low       float64
	Close     float64
	Volume    float64
}

// bars stores the bars that are new and closes those that changed. What is
// already there in the range is read once and compared here, so that the usual
// case, a first history or its extension, is one COPY.
func (w *writer) bars(d catalogue.Dataset) error {
	t := dailyBars
	if d == catalogue.Intraday {
		t = intradayBars
	}
	feed := &barFeed{w: w, now: w.now}
	var ids []int64
	var first, last time.Time
	for i := range w.r.Answer.Series {
		s := &w.r.Answer.Series[i]
		if n := s.Bars.Len(); s.Dataset == d && n > 0 {
			feed.series = append(feed.series, s)
			ids = append(ids, w.ids[s.Symbol])
			if at := instant(s, 0); first.IsZero() || at.Before(first) {
				first = at
			}
			if at := instant(s, n-1); at.After(last) {
				last = at
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	there, err := all[barRow](w, w.tx, fmt.Sprintf(`
		select listing_id, %[2]s::timestamptz as at, open, high, low, close, volume from %[1]s
		where known_to = 'infinity' and listing_id = any($1) and source = $2 and %[2]s between $3 and $4`, t.name, t.at), ids, w.r.Request.Source, first, last)
	if err != nil {
		return err
	}
	feed.before = make(map[barKey][5]float64, len(there))
	for _, b := range there {
		feed.before[barKey{b.ListingID, b.At.Unix()}] = [5]float64{b.Open, b.High, b.Low, b.Close, b.Volume}
	}
	if ids, times := feed.changed(); len(ids) > 0 {
		if _, err := w.tx.Exec(w, fmt.Sprintf(`
			update %[1]s set known_to = $1 from unnest($2::bigint[], $3::timestamptz[]) as c(listing_id, at)
			where %[1]s.known_to = 'infinity' and %[1]s.source = $4 and %[1]s.listing_id = c.listing_id and %[1]s.%[2]s = c.at`, t.name, t.at), w.now, ids, times, w.r.Request.Source); err != nil {
			return err
		}
	}
	if _, err = w.tx.CopyFrom(w, pgx.Identifier{t.name}, []string{"listing_id", "source", t.at, "open", "high", "low", "close", "volume", "request_id", "known_from"}, feed); err != nil {
		return err
	}
	if d == catalogue.Intraday {
		_, err = w.tx.Exec(w, "delete from intraday_bar where at < $1", w.now.Add(-intradayKept))
	}
	return err
}

// instant is when a bar is of: midnight of its day, or its own time.
func instant(s *source.Series, i int) time.Time {
	if s.Times != nil {
		return s.Times[i]
	}
	return s.Bars.Day[i].Time()
}

// barFeed hands the bars that are new or changed to COPY, one after the other.
type barFeed struct {
	w      *writer
	now    time.Time
	series []*source.Series
	before map[barKey][5]float64
	s, i   int // the next bar to look at: of which series, and which of it
	row    [10]any
}

func (f *barFeed) at() (k barKey, prices [5]float64) {
	s := f.series[f.s]
	b := &s.Bars
	return barKey{f.w.ids[s.Symbol], instant(s, f.i).Unix()}, [5]float64{b.Open[f.i], b.High[f.i], b.Low[f.i], b.Close[f.i], b.Volume[f.i]}
}

// changed lists the bars that differ from what is there.
func (f *barFeed) changed() (ids []int64, times []time.Time) {
	if len(f.before) == 0 {
		return nil, nil
	}
	for s := range f.series {
		for i := range f.series[s].Bars.Len() {
			f.s, f.i = s, i
			k, prices := f.at()
			if old, there := f.before[k]; there && old != prices {
				ids, times = append(ids, k.listing), append(times, time.Unix(k.at, 0).UTC())
			}
		}
	}
	f.s, f.i = 0, 0
	return ids, times
}

func (f *barFeed) Next() bool {
	for ; f.s < len(f.series); f.s, f.i = f.s+1, 0 {
		s := f.series[f.s]
		for f.i < s.Bars.Len() {
			k, prices := f.at()
			f.i++
			if old, there := f.before[k]; there && old == prices {
				continue
			}
			f.row = [10]any{k.listing, f.w.r.Request.Source, time.Unix(k.at, 0).UTC(), prices[0], prices[1], prices[2], prices[3], prices[4], f.w.pages[s.Page], f.now}
			return true
		}
	}
	return false
}

func (f *barFeed) Values() ([]any, error) { return f.row[:], nil }

// Err implements [pgx.CopyFromSource].
func (f *barFeed) Err() error { return nil }

// dateRanges is how the database holds spans of days.
type dateRanges = pgtype.Multirange[pgtype.Range[pgtype.Date]]

func multirange(s period.Spans) dateRanges {
	out := dateRanges{}
	for _, x := range s {
		out = append(out, pgtype.Range[pgtype.Date]{
			Lower: pgtype.Date{Time: x.From.Time(), Valid: true}, Upper: pgtype.Date{Time: (x.To + 1).Time(), Valid: true},
			LowerType: pgtype.Inclusive, UpperType: pgtype.Exclusive, Valid: true,
		})
	}
	return out
}

func spans(ranges dateRanges) (out period.Spans) {
	for _, r := range ranges {
		if r.LowerType != pgtype.Inclusive || r.UpperType != pgtype.Exclusive {
			continue // the database writes ranges of days in this form alone
		}
		out = out.Add(period.Span{From: period.DateOf(r.Lower.Time), To: period.DateOf(r.Upper.Time) - 1})
	}
	return out
}
