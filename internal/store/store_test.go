package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/cluster/clustertest"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
)

func TestMain(m *testing.M) { clustertest.Main(m, Prepare) }

var noon = time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)

type fixture struct {
	*Store
	t    *testing.T
	book *Book
	ids  map[string]int64
}

// open gives a store with two listings, AAA.XCVH and BBB.XCVH.
func open(t *testing.T) *fixture {
	t.Helper()
	s, err := Open(t.Context(), clustertest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	f := &fixture{Store: s, t: t, ids: map[string]int64{}}
	f.save(Result{Dataset: catalogue.Listings, Answer: &source.Answer{Listings: []market.Listing{
		{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Name: "Aaa", Kind: market.Share, Currency: "EUR"},
		{Symbol: market.Symbol{Ticker: "BBB", Exchange: "XCVH"}, Name: "Bbb", Kind: market.Share, Currency: "EUR"},
	}}}, noon.Add(-time.Hour))
	f.book, err = NewBook(t.Context(), s, market.Exchanges{})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range f.book.Directory().Ordered {
		f.ids[l.Symbol.String()] = l.ID
	}
	return f
}

func (f *fixture) save(r Result, now time.Time) {
	f.t.Helper()
	r.Source, r.Final = "gannet", true
	if r.Listings == nil {
		r.Listings = f.ids
	}
	if err := f.Save(f.t.Context(), r, now); err != nil {
		f.t.Fatal(err)
	}
}

func quote(symbol string, last float64, at time.Time) source.Point {
	s, _ := market.ParseSymbol(symbol)
	p := source.Point{Symbol: s, Observation: table.Observation{Observed: at, Place: "$.quotes[0]", Values: make([]cell.Value, len(catalogue.ObservedIn(catalogue.Quotes)))}}
	p.Values[catalogue.Find("quote.last").Slot()] = cell.Of(last)
	return p
}

func bars(symbol string, from period.Date, closes ...float64) source.Series {
	s, _ := market.ParseSymbol(symbol)
	out := source.Series{Symbol: s}
	for i, x := range closes {
		out.Bars.Append(from.AddDays(i), x, x, x, x, 1)
	}
	return out
}

func (f *fixture) at(symbol string, at time.Time) *table.Record {
	f.t.Helper()
	records, err := f.book.RecordsAt(f.t.Context(), []Row{{ListingID: f.ids[symbol]}}, at)
	if err != nil {
		f.t.Fatal(err)
	}
	return records[0]
}

func (f *fixture) count(sql string, args ...any) (n int) {
	f.t.Helper()
	if err := f.Pool.QueryRow(f.t.Context(), sql, args...).Scan(&n); err != nil {
		f.t.Fatal(err)
	}
	return n
}

func TestNothingIsOverwritten(t *testing.T) {
	f := open(t)
	last := catalogue.Find("quote.last").Slot()
	for i, x := range []float64{10, 10, 11} {
		when := noon.Add(time.Duration(i) * time.Hour)
		observed := noon
		if x == 11 {
			observed = when
		}
		f.save(Result{Dataset: catalogue.Quotes, Answer: &source.Answer{Points: []source.Point{quote("AAA.XCVH", x, observed)}}}, when)
	}
	if n := f.count("select count(*) from observation"); n != 2 {
		t.Errorf("%d observations; the repeated one should not be stored again", n)
	}
	if n := f.count("select count(*) from attempt where listing_id = $1", f.ids["AAA.XCVH"]); n != 3 {
		t.Errorf("%d attempts, want all 3", n)
	}
	for _, c := range []struct {
		after time.Duration
		want  float64
	}{{0, 10}, {time.Hour + time.Minute, 10}, {2 * time.Hour, 11}, {1000 * time.Hour, 11}} {
		if o := f.at("AAA.XCVH", noon.Add(c.after)).Feeds[table.Quotes].Observation; o == nil || o.Values[last].Num != c.want {
			t.Errorf("after %s: %+v, want %v", c.after, o, c.want)
		}
	}
	if r := f.at("AAA.XCVH", noon.Add(-time.Minute)); r.Feeds[table.Quotes].Observation != nil {
		t.Error("a quote is known before it was fetched")
	}
}

func TestBarsExtendAndAreRestated(t *testing.T) {
	f := open(t)
	monday := period.MakeDate(2026, 3, 2)
	f.save(Result{Dataset: catalogue.Bars, From: monday.AddDays(-400), Answer: &source.Answer{Series: []source.Series{bars("AAA.XCVH", monday, 90, 30, 31)}}}, noon)
	// The third is restated, a fourth is new, and a split on the second day comes to light.
	again := bars("AAA.XCVH", monday, 90, 30, 32, 33)
	again.Splits = []series.Split{{Day: monday.AddDays(1), Ratio: 3}}
	f.save(Result{Dataset: catalogue.Bars, From: monday, Answer: &source.Answer{Series: []source.Series{again}}}, noon.Add(time.Hour))
	if n := f.count("select count(*) from bar"); n != 5 {
		t.Errorf("%d bars stored, want 3 + one restated + one new", n)
	}
	if b := f.at("AAA.XCVH", noon).Bars; fmt.Sprint(b.Close) != "[90 30 31]" {
		t.Errorf("before: %v", b.Close)
	}
	r := f.at("AAA.XCVH", noon.Add(time.Hour))
	if fmt.Sprint(r.Bars.Close) != "[30 30 32 33]" {
		t.Errorf("after, in today's shares: %v", r.Bars.Close)
	}
	if from := r.Feeds[table.Bars].Attempt.From; from != monday.AddDays(-400) {
		t.Errorf("asked back to %s, want the earliest", from)
	}
}

func TestAResponseIsStoredWholeOrNotAtAll(t *testing.T) {
	f := open(t)
	before := f.count("select count(*) from request")
	body := []byte(`{"quotes": "…"}`)
	bad := Result{
		Source: "gannet", Final: true, Dataset: catalogue.Quotes, Listings: map[string]int64{"AAA.XCVH": f.ids["AAA.XCVH"], "ZZZ.XCVH": 999},
		Answer: &source.Answer{Body: body, Points: []source.Point{quote("AAA.XCVH", 1, noon), quote("ZZZ.XCVH", 1, noon)}},
	}
	if err := f.Save(t.Context(), bad, noon); err == nil {
		t.Fatal("a listing that does not exist is stored")
	}
	if f.count("select count(*) from observation")+f.count("select count(*) from response") != 0 || f.count("select count(*) from request") != before {
		t.Error("something of the failed response is there")
	}
	f.save(Result{Dataset: catalogue.Quotes, Answer: &source.Answer{Body: body, ContentType: "application/json", Points: []source.Point{quote("AAA.XCVH", 1, noon)}}}, noon)
	sum := sha256.Sum256(body)
	r, err := f.Response(t.Context(), sum[:])
	if err != nil || string(r.Body) != string(body) || r.ContentType != "application/json" {
		t.Errorf("got %+v, %v", r, err)
	}
	if _, err := f.Response(t.Context(), []byte("none")); !errors.Is(err, ErrNotFound) {
		t.Errorf("got %v", err)
	}
}

func TestFailuresAreOutcomesBesideOldValues(t *testing.T) {
	f := open(t)
	f.save(Result{Dataset: catalogue.Quotes, Answer: &source.Answer{Points: []source.Point{quote("AAA.XCVH", 1, noon)}, Failures: []source.Failure{{Symbol: market.Symbol{Ticker: "BBB", Exchange: "XCVH"}, Reason: cell.NotCovered, Detail: "unknown"}}}}, noon)
	f.save(Result{Dataset: catalogue.Quotes, Answer: &source.Answer{}, Fault: &source.Fault{Kind: source.ServerFailed, Status: 503}}, noon.Add(time.Hour))
	a := f.at("AAA.XCVH", noon.Add(time.Hour)).Feeds[table.Quotes]
	if a.Observation == nil || a.Attempt.Outcome != cell.FetchFailed || !strings.Contains(a.Attempt.Detail, "503") {
		t.Errorf("got %+v %+v", a.Observation, a.Attempt)
	}
	if b := f.at("BBB.XCVH", noon).Feeds[table.Quotes]; b.Observation != nil || b.Attempt.Outcome != cell.NotCovered {
		t.Errorf("got %+v", b.Attempt)
	}
}

func TestWatchlistsKeepOrderAndRefuseLostUpdates(t *testing.T) {
	f := open(t)
	ctx := t.Context()
	w, err := f.CreateWatchlist(ctx, "Income", noon)
	if err != nil {
		t.Fatal(err)
	}
	var taken *NameTakenError
	if _, err := f.CreateWatchlist(ctx, "INCOME", noon); !errors.As(err, &taken) {
		t.Errorf("a second list of the name: %v", err)
	}
	quantity := "120.5"
	w2, err := f.Edit(ctx, w, w.Version, noon, func(e *Editor) error {
		if _, err := e.Add(Row{ListingID: f.ids["AAA.XCVH"]}, -1); err != nil {
			return err
		}
		_, err := e.Add(Row{ListingID: f.ids["BBB.XCVH"], Quantity: &quantity}, 0)
		return err
	})
	if err != nil || w2.Version != w.Version+1 || w2.Rows != 2 || w2.Held != 1 {
		t.Fatalf("got %+v, %v", w2, err)
	}
	if _, err := f.Edit(ctx, w, w.Version, noon, func(e *Editor) error { return e.Remove(f.ids["AAA.XCVH"]) }); !errors.Is(err, ErrChanged) {
		t.Errorf("an edit based on an old version: %v", err)
	}
	order := func() string {
		rows, err := f.Rows(ctx, w.ID)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range rows {
			out = append(out, f.book.Directory().ByID(r.ListingID).Symbol.Ticker)
		}
		return strings.Join(out, " ")
	}
	if got := order(); got != "BBB AAA" {
		t.Errorf("order %s", got)
	}
	if _, err := f.Edit(ctx, w2, 0, noon, func(e *Editor) error { return e.Move(f.ids["AAA.XCVH"], 0) }); err != nil || order() != "AAA BBB" {
		t.Errorf("moved: %v, order %s", err, order())
	}
	copied, err := f.CopyWatchlist(ctx, w2, "Copy", noon)
	if err != nil || copied.Rows != 2 {
		t.Errorf("copy: %+v, %v", copied, err)
	}
	if _, err := f.Edit(ctx, w2, 0, noon, func(e *Editor) error { return e.Delete() }); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Watchlist(ctx, "income"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a deleted list is found: %v", err)
	}
	if back, err := f.RestoreWatchlist(ctx, "income", noon); err != nil || back.Rows != 2 {
		t.Errorf("restored: %+v, %v", back, err)
	}
}

func TestEventsAreNumberedWithoutGaps(t *testing.T) {
	f := open(t)
	ctx := t.Context()
	r, err := f.QueueRefresh(ctx, nil, []catalogue.Dataset{catalogue.Quotes}, false, noon, nopEnqueue)
	if err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() {
			err := f.Save(ctx, Result{Refresh: r.ID, Source: "gannet", Dataset: catalogue.Quotes, Answer: &source.Answer{Call: source.Call{Units: 3}}, Final: true, Event: Event{At: noon, Kind: "answered", Data: json.RawMessage("{}")}}, noon)
			if err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	events, err := f.Events(ctx, r.ID, 5)
	if err != nil || len(events) != 15 || events[0].Seq != 6 || events[14].Seq != 20 {
		t.Errorf("%d events after the fifth, %v", len(events), err)
	}
	if r, _ = f.Refresh(ctx, r.ID); r.Answered != 20 || r.Units != 60 {
		t.Errorf("got %+v", r)
	}
}

func TestTheBookFollowsWhatOthersStore(t *testing.T) {
	f := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	happened, stop := f.book.Listen(func(what string, _ int64) bool { return what == "request" })
	defer stop()
	go f.book.Follow(ctx)
	<-happened // it has begun to listen
	rows := []Row{{ListingID: f.ids["AAA.XCVH"]}}
	if records, err := f.book.Records(ctx, rows); err != nil || records[0].Feeds[table.Quotes].Observation != nil {
		t.Fatalf("got %v", err)
	}
	r, err := f.QueueRefresh(ctx, nil, []catalogue.Dataset{catalogue.Quotes}, false, noon, nopEnqueue)
	if err != nil {
		t.Fatal(err)
	}
	f.save(Result{Refresh: r.ID, Dataset: catalogue.Quotes, Answer: &source.Answer{Points: []source.Point{quote("AAA.XCVH", 5, noon)}}, Event: Event{At: noon, Kind: "answered", Data: json.RawMessage("{}")}}, noon)
	<-happened
	records, err := f.book.Records(ctx, rows)
	if err != nil || records[0].Feeds[table.Quotes].Observation == nil {
		t.Fatalf("the book does not show what was stored: %v", err)
	}
}

func nopEnqueue(pgx.Tx, int64) error { return nil }
