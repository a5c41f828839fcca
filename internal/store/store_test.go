package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/cluster/clustertest"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
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
	f.save(catalogue.Listings, &source.Answer{Listings: []market.Listing{
		{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Name: "Aaa", Kind: market.Share, Currency: "EUR"},
		{Symbol: market.Symbol{Ticker: "BBB", Exchange: "XCVH"}, Name: "Bbb", Kind: market.Share, Currency: "EUR"},
		{Symbol: market.Symbol{Ticker: "EUR", Exchange: "USD"}, Name: "EUR/USD", Kind: market.Pair, Currency: "USD"},
	}}, noon.Add(-time.Hour))
	f.book, err = NewBook(t.Context(), s, market.Exchanges{}, []string{"gannet", "whimbrel"}, func() time.Time { return noon }, 0.01)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range f.book.Directory().Ordered {
		f.ids[l.Symbol.String()] = l.ID
	}
	return f
}

// result is a final answer of gannet for all listings.
func (f *fixture) result(d catalogue.Dataset, a *source.Answer) Result {
	if len(a.Pages) == 0 {
		a.Pages = []source.Page{{UnitsLeft: -1}}
	}
	r := Result{Request: plan.Request{Source: "gannet", Call: string(d)}, Answer: a, Final: true}
	for text, id := range f.ids {
		s, _ := market.ParseSymbol(text)
		r.Request.Needs = append(r.Request.Needs, plan.Need{Dataset: d, Listing: id, Symbol: s})
	}
	if len(f.ids) == 0 {
		r.Request.Needs = []plan.Need{{Dataset: d}}
	}
	return r
}

func (f *fixture) save(d catalogue.Dataset, a *source.Answer, now time.Time) {
	f.t.Helper()
	f.keep(f.result(d, a), now)
}

func (f *fixture) keep(r Result, now time.Time) {
	f.t.Helper()
	if err := f.Save(f.t.Context(), r, now); err != nil {
		f.t.Fatal(err)
	}
}

func quote(symbol string, last float64, at time.Time) source.Point {
	s, _ := market.ParseSymbol(symbol)
	p := source.Point{Origin: source.Origin{Symbol: s, Dataset: catalogue.Quotes, Place: "$.quotes[0]"}, Observation: table.Observation{Observed: at, Values: make([]cell.Value, len(catalogue.ObservedIn(catalogue.Quotes)))}}
	p.Values[catalogue.Find("quote.last").Slot()] = cell.Of(last)
	return p
}

func bars(symbol string, from period.Date, closes ...float64) source.Series {
	s, _ := market.ParseSymbol(symbol)
	out := source.Series{Origin: source.Origin{Symbol: s, Dataset: catalogue.Bars}}
	for i, x := range closes {
		out.Bars.Append(from.AddDays(i), x, x, x, x, 1)
	}
	return out
}

func (f *fixture) at(symbol string, at time.Time) *table.Record {
	f.t.Helper()
	records, err := f.book.RecordsAt(f.t.Context(), []Row{{ListingID: f.ids[symbol]}}, at, 0)
	if err != nil {
		f.t.Fatal(err)
	}
	return records[0]
}

// given is what a source has given of a dataset; empty where it has given nothing.
func given(r *table.Record, d catalogue.Dataset, source string) table.Given {
	if g := r.Feeds[table.FeedOf(d)].By(source); g != nil {
		return *g
	}
	return table.Given{}
}

func quotes(r *table.Record) table.Given { return given(r, catalogue.Quotes, "gannet") }

func (f *fixture) count(sql string, args ...any) (n int) {
	f.t.Helper()
	if err := f.Pool.QueryRow(f.t.Context(), sql, args...).Scan(&n); err != nil {
		f.t.Fatal(err)
	}
	return n
}

func TestSourcesListTheSameAtOnce(t *testing.T) {
	f := open(t)
	var listings []market.Listing
	for i := range 2000 {
		listings = append(listings, market.Listing{Symbol: market.Symbol{Ticker: fmt.Sprintf("T%04d", i), Exchange: "XCVH"}, Name: "named", Kind: market.Share, Currency: "EUR"})
	}
	answers := []*source.Answer{{Listings: listings}, {Listings: slices.Clone(listings)}}
	slices.Reverse(answers[1].Listings)
	failed := make(chan error, len(answers))
	for _, a := range answers {
		r := f.result(catalogue.Listings, a)
		go func() { failed <- f.Save(t.Context(), r, noon) }()
	}
	for range answers {
		if err := <-failed; err != nil {
			t.Error(err)
		}
	}
	if n := f.count("select count(*) from listing where name = 'named'"); n != len(listings) {
		t.Errorf("%d listings", n)
	}
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
		f.save(catalogue.Quotes, &source.Answer{Points: []source.Point{quote("AAA.XCVH", x, observed)}}, when)
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
		if o := quotes(f.at("AAA.XCVH", noon.Add(c.after))).Observation; o == nil || o.Values[last].Num != c.want {
			t.Errorf("after %s: %+v, want %v", c.after, o, c.want)
		}
	}
	if r := f.at("AAA.XCVH", noon.Add(-time.Minute)); quotes(r).Observation != nil {
		t.Error("a quote is known before it was fetched")
	}
}

func TestBarsExtendAndAreRestated(t *testing.T) {
	f := open(t)
	monday := period.MakeDate(2026, 3, 2)
	history := func(from period.Date, a *source.Answer) Result {
		r := f.result(catalogue.Bars, a)
		r.Request.From, r.Request.To = from, monday+3
		return r
	}
	f.keep(history(monday-400, &source.Answer{Series: []source.Series{bars("AAA.XCVH", monday, 90, 30, 31)}}), noon)
	// The third is restated, a fourth is new, and a split on the second day comes to light.
	f.keep(history(monday, &source.Answer{Series: []source.Series{bars("AAA.XCVH", monday, 90, 30, 32, 33)}}), noon.Add(time.Hour))
	split := []cell.Value{cell.OfText((monday + 1).String()), cell.Of(3)}
	f.save(catalogue.Splits, &source.Answer{Entries: []source.Entries{{
		Origin: source.Origin{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Dataset: catalogue.Splits}, Entries: entry.Entries{{Day: monday + 1, Values: split}},
	}}}, noon.Add(time.Hour))
	if n := f.count("select count(*) from bar"); n != 5 {
		t.Errorf("%d bars stored, want 3 + one restated + one new", n)
	}
	if g := given(f.at("AAA.XCVH", noon), catalogue.Bars, "gannet"); fmt.Sprint(g.Bars.Close) != "[90 30 31]" {
		t.Errorf("before: %v", g.Bars.Close)
	}
	g := given(f.at("AAA.XCVH", noon.Add(time.Hour)), catalogue.Bars, "gannet")
	if fmt.Sprint(g.Bars.Close) != "[30 30 32 33]" {
		t.Errorf("after, in today's shares: %v", g.Bars.Close)
	}
	// The history is answered up to its last bar; a name without any is answered
	// but for the days in which one may still come.
	if c := fmt.Sprint(g.Attempt.Covered); c != fmt.Sprint(period.Spans{{From: monday - 400, To: monday + 3}}) {
		t.Errorf("answered for %s", c)
	}
	if c := given(f.at("BBB.XCVH", noon.Add(time.Hour)), catalogue.Bars, "gannet").Attempt.Covered; len(c) != 1 || c[0].To != period.DateOf(noon)-14 {
		t.Errorf("a name without bars is answered for %v", c)
	}
}

// Dated records that change are restated, and those that the source no longer
// gives are closed; in a history, only within the days that were asked for.
// An exchange that is said to rest on Saturdays and Sundays, and whose shares trade
// from Sunday to Thursday.
func TestWeekendsAreLearnedFromWhatTraded(t *testing.T) {
	f := open(t)
	said := market.Exchanges{"XCVH": {Code: "XCVH", Zone: time.UTC, Closes: 17 * 60, Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true}, Index: market.Symbol{Ticker: "BBB", Exchange: "XCVH"}}}
	series := source.Series{Origin: source.Origin{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Dataset: catalogue.Bars}}
	friday := period.DateOf(noon)
	for d := friday - 200; d < friday; d++ {
		volume := 1.0
		if d.Weekday() == time.Friday {
			volume = 0 // repeated by the source, and not traded
		}
		if d.Weekday() != time.Saturday {
			series.Bars.Append(d, 1, 1, 1, 1, volume)
		}
	}
	book := func() *Book {
		b, err := NewBook(t.Context(), f.Store, said, []string{"gannet"}, func() time.Time { return noon }, 0.01)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	before := book()
	f.save(catalogue.Bars, &source.Answer{Series: []source.Series{series}}, noon)
	for name, c := range map[string]struct {
		book   *Book
		opens  bool
		sunday bool
	}{"before it traded": {before, true, false}, "once it has": {book(), false, true}} {
		if e := c.book.Exchanges()["XCVH"]; e.Trades(friday) != c.opens || e.Trades(friday+2) != c.sunday {
			t.Errorf("%s: %+v", name, e)
		}
	}
	if err := before.learnWeekends(t.Context()); err != nil {
		t.Fatal(err)
	}
	rows := []Row{{ListingID: f.ids["AAA.XCVH"]}}
	for name, read := range map[string]func() ([]*table.Record, error){
		"now":  func() ([]*table.Record, error) { return before.Records(t.Context(), rows, 0) },
		"then": func() ([]*table.Record, error) { return before.RecordsAt(t.Context(), rows, noon, 0) },
	} {
		records, err := read()
		if err != nil || len(records) != 1 {
			t.Fatalf("%s: %d records, %v", name, len(records), err)
		}
		if r := records[0]; r.Exchange.Trades(friday) || !r.Exchange.Learned[time.Sunday] || r.Index == nil || r.Index.Listing.Symbol.Ticker != "BBB" {
			t.Errorf("%s: %+v of the index %+v", name, r.Exchange, r.Index)
		}
	}
}

func TestDatedRecordsAreRestatedAndWithdrawn(t *testing.T) {
	f := open(t)
	day := func(text string) period.Date { d, _ := period.ParseDate(text); return d }
	entries := func(symbol string, d catalogue.Dataset, pairs ...any) *source.Answer {
		s, _ := market.ParseSymbol(symbol)
		out := source.Entries{Origin: source.Origin{Symbol: s, Dataset: d}}
		info := catalogue.Info(d)
		for i := 0; i < len(pairs); i += 2 {
			v := make([]cell.Value, len(info.Columns))
			v[0], v[1] = cell.OfText(pairs[i].(string)), cell.Of(pairs[i+1].(float64))
			out.Entries = append(out.Entries, entry.Entry{Day: day(pairs[i].(string)), Values: v})
		}
		return &source.Answer{Entries: []source.Entries{out}}
	}
	written := func(symbol string, d catalogue.Dataset, after time.Duration) (out string) {
		for _, e := range given(f.at(symbol, noon.Add(after)), d, "gannet").Entries {
			out += fmt.Sprint(e.Day, " ", e.Values[1].Num, "; ")
		}
		return out
	}
	f.save(catalogue.Dividends, entries("AAA.XCVH", catalogue.Dividends, "2025-03-03", 0.3, "2025-09-03", 0.3), noon)
	f.save(catalogue.Dividends, entries("AAA.XCVH", catalogue.Dividends, "2025-03-03", 0.3, "2026-03-03", 0.4), noon.Add(time.Hour))
	f.save(catalogue.Dividends, entries("AAA.XCVH", catalogue.Dividends, "2025-03-03", 0.35, "2026-03-03", 0.4), noon.Add(2*time.Hour))
	for after, want := range map[time.Duration]string{0: "2025-03-03 0.3; 2025-09-03 0.3; ", time.Hour: "2025-03-03 0.3; 2026-03-03 0.4; ", 2 * time.Hour: "2025-03-03 0.35; 2026-03-03 0.4; "} {
		if got := written("AAA.XCVH", catalogue.Dividends, after); got != want {
			t.Errorf("after %s: %s, want %s", after, got, want)
		}
	}
	if n := f.count("select count(*) from entry"); n != 4 {
		t.Errorf("%d records stored, want the four that ever were", n)
	}
	if o := given(f.at("BBB.XCVH", noon), catalogue.Dividends, "gannet").Observation; o == nil {
		t.Error("that a name has no dividends is not known")
	}
	rates := func(from, to string, pairs ...any) {
		r := f.result(catalogue.Rates, entries("EUR/USD", catalogue.Rates, pairs...))
		r.Request.From, r.Request.To = day(from), day(to)
		f.keep(r, noon)
	}
	rates("2026-03-02", "2026-03-03", "2026-03-02", 1.08, "2026-03-03", 1.09)
	rates("2026-03-04", "2026-03-05", "2026-03-04", 1.1)
	if got := written("EUR/USD", catalogue.Rates, 0); got != "2026-03-02 1.08; 2026-03-03 1.09; 2026-03-04 1.1; " {
		t.Errorf("rates: %s", got)
	}
}

// A year whose revenue is restated shows the new one, says so, and can be read as it was.
func TestReportsAreRestated(t *testing.T) {
	f := open(t)
	info := catalogue.Info(catalogue.Statements)
	report := func(revenue float64) *source.Answer {
		values := make([]cell.Value, len(info.Columns))
		for name, v := range map[string]cell.Value{
			"end": cell.OfText("2025-12-31"), "part": cell.OfText("FY"), "basis": cell.OfText("consolidated"), "year": cell.Of(2025), "currency": cell.OfText("EUR"),
			"income.revenue": cell.Of(revenue), "income.net_income": cell.Of(7),
		} {
			values[info.Column(name)] = v
		}
		return &source.Answer{Entries: []source.Entries{{
			Origin:  source.Origin{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Dataset: catalogue.Statements},
			Entries: entry.Entries{{Day: period.MakeDate(2025, 12, 31), Values: values}},
		}}}
	}
	revenue := func(r *table.Record) string {
		refs, err := catalogue.ParseColumns([]string{"income.revenue", "income.net_income"})
		if err != nil {
			t.Fatal(err)
		}
		p, err := table.Compile(refs, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		cells := p.Evaluate([]*table.Record{r}, noon, freshness.Standard).Rows[0].Cells
		return fmt.Sprintf("%v %s %q; %v %s", cells[0].Value.Num, cells[0].Flags, cells[0].Detail, cells[1].Value.Num, cells[1].Flags)
	}
	f.save(catalogue.Statements, report(100), noon.Add(-3*time.Hour))
	f.save(catalogue.Statements, report(90), noon.Add(-time.Hour))
	if got, want := revenue(f.at("AAA.XCVH", noon)), `90 restated "was 100.00 before"; 7 `; got != want {
		t.Errorf("now %s, want %s", got, want)
	}
	if got, want := revenue(f.at("AAA.XCVH", noon.Add(-2*time.Hour))), `100  ""; 7 `; got != want {
		t.Errorf("then %s, want %s", got, want)
	}
	// An answer may itself say what was reported before: that was never known as such.
	told := report(80)
	told.Entries[0].Symbol.Ticker = "BBB"
	told.Entries[0].Entries[0].Before = report(85).Entries[0].Entries[0].Values
	for range 2 {
		f.save(catalogue.Statements, told, noon.Add(-time.Hour))
		if got, want := revenue(f.at("BBB.XCVH", noon)), `80 restated "was 85.00 before"; 7 `; got != want {
			t.Errorf("told %s, want %s", got, want)
		}
	}
}

func TestPreferencesOrderWhatSourcesGave(t *testing.T) {
	f := open(t)
	ctx := t.Context()
	f.save(catalogue.Quotes, &source.Answer{Points: []source.Point{quote("AAA.XCVH", 10, noon)}}, noon)
	other := f.result(catalogue.Quotes, &source.Answer{Points: []source.Point{quote("AAA.XCVH", 11, noon)}})
	other.Request.Source = "whimbrel"
	f.keep(other, noon)
	first := func() string { return f.at("AAA.XCVH", noon).Feeds[table.FeedOf(catalogue.Quotes)].From[0].Source }
	if first() != "gannet" {
		t.Errorf("%s comes first", first())
	}
	if err := errors.Join(f.Prefer(ctx, catalogue.Quotes, []string{"whimbrel", "gannet"}, true), f.Enable(ctx, "gannet", false), f.book.readPreferences(ctx)); err != nil {
		t.Fatal(err)
	}
	p := f.book.Preferences()
	if first() != "whimbrel" || fmt.Sprint(p.Compare[catalogue.Quotes]) != "[gannet]" || !p.IsDisabled("gannet") || p.IsDisabled("whimbrel") {
		t.Errorf("%s comes first; %+v", first(), p)
	}
	if err := errors.Join(f.Prefer(ctx, catalogue.Quotes, nil, false), f.Enable(ctx, "gannet", true), f.book.readPreferences(ctx)); err != nil {
		t.Fatal(err)
	}
	if p = f.book.Preferences(); first() != "gannet" || len(p.Compare) != 0 || p.IsDisabled("gannet") {
		t.Errorf("after it is undone %s comes first; %+v", first(), p)
	}
}

// A need goes to whoever claims it first, and is free again when its refresh ends.
func TestANeedIsClaimedOnce(t *testing.T) {
	f := open(t)
	ctx := t.Context()
	var ids [8]int64
	for i := range ids {
		r, err := f.QueueRefresh(ctx, Asked{Datasets: []catalogue.Dataset{catalogue.Quotes}, Cause: ByHand}, noon, nopEnqueue)
		if err != nil {
			t.Fatal(err)
		}
		ids[i] = r.ID
	}
	needs := []NeedKey{{catalogue.Quotes, f.ids["AAA.XCVH"]}, {catalogue.Quotes, f.ids["BBB.XCVH"]}, {catalogue.Bars, f.ids["AAA.XCVH"]}}
	var wait sync.WaitGroup
	var got [8]map[NeedKey]bool
	for i, id := range ids {
		wait.Go(func() {
			var err error
			if got[i], err = f.ClaimNeeds(ctx, id, append([]NeedKey{}, needs[i%3], needs[(i+1)%3], needs[(i+2)%3])); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	for _, n := range needs {
		claims := 0
		for i := range got {
			if got[i][n] {
				claims++
			}
		}
		if claims != 1 {
			t.Errorf("%v is claimed %d times", n, claims)
		}
	}
	for _, id := range ids {
		if err := f.FinishRefresh(ctx, id, Done, "", Event{At: noon, Kind: "finished", Data: json.RawMessage("{}")}); err != nil {
			t.Fatal(err)
		}
	}
	if n := f.count("select count(*) from in_flight"); n != 0 {
		t.Errorf("%d needs are still claimed", n)
	}
}

func TestAResponseIsStoredWholeOrNotAtAll(t *testing.T) {
	f := open(t)
	before := f.count("select count(*) from request")
	body := []byte(`{"quotes": "…"}`)
	sum := sha256.Sum256(body)
	page := source.Page{UnitsLeft: -1, ContentType: "application/json", Size: int64(len(body)), Hash: sum[:], Packed: packed(body)}
	bad := f.result(catalogue.Quotes, &source.Answer{Pages: []source.Page{page}, Points: []source.Point{quote("AAA.XCVH", 1, noon), quote("ZZZ.XCVH", 1, noon)}})
	bad.Request.Needs = append(bad.Request.Needs, plan.Need{Dataset: catalogue.Quotes, Listing: 999, Symbol: market.Symbol{Ticker: "ZZZ", Exchange: "XCVH"}})
	if err := f.Save(t.Context(), bad, noon); err == nil {
		t.Fatal("a listing that does not exist is stored")
	}
	if f.count("select count(*) from observation")+f.count("select count(*) from response") != 0 || f.count("select count(*) from request") != before {
		t.Error("something of the failed response is there")
	}
	p := quote("AAA.XCVH", 1, noon)
	p.Raw = map[string]source.Raw{"quote.last": {Name: "Last", Text: "1.00*"}}
	f.save(catalogue.Quotes, &source.Answer{Pages: []source.Page{page}, Points: []source.Point{p}}, noon)
	if raw, err := f.Raw(t.Context(), f.ids["AAA.XCVH"], catalogue.Quotes, "gannet", noon); err != nil || raw["quote.last"] != p.Raw["quote.last"] {
		t.Errorf("the source's own text is %+v, %v", raw, err)
	}
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
	f.save(catalogue.Quotes, &source.Answer{Points: []source.Point{quote("AAA.XCVH", 1, noon)}, Failures: []source.Failure{{Symbol: market.Symbol{Ticker: "BBB", Exchange: "XCVH"}, Dataset: catalogue.Quotes, Reason: cell.NotCovered, Detail: "unknown"}}}, noon)
	failed := f.result(catalogue.Quotes, &source.Answer{})
	failed.Fault = &source.Fault{Kind: source.ServerFailed, Status: 503}
	f.keep(failed, noon.Add(time.Hour))
	a := quotes(f.at("AAA.XCVH", noon.Add(time.Hour)))
	if a.Observation == nil || a.Attempt.Outcome != cell.FetchFailed || !strings.Contains(a.Attempt.Detail, "503") {
		t.Errorf("got %+v %+v", a.Observation, a.Attempt)
	}
	if b := quotes(f.at("BBB.XCVH", noon)); b.Observation != nil || b.Attempt.Outcome != cell.NotCovered {
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
	r, err := f.QueueRefresh(ctx, Asked{Datasets: []catalogue.Dataset{catalogue.Quotes}, Cause: ByHand}, noon, nopEnqueue)
	if err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() {
			result := f.result(catalogue.Quotes, &source.Answer{Pages: []source.Page{{Units: 3}}})
			result.Refresh, result.Event = r.ID, Event{At: noon, Kind: "answered", Data: json.RawMessage("{}")}
			result.Request.Needs = result.Request.Needs[:0] // of no listing: only the log counts here
			if err := f.Save(ctx, result, noon); err != nil {
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
	if records, err := f.book.Records(ctx, rows, 0); err != nil || quotes(records[0]).Observation != nil {
		t.Fatalf("got %v", err)
	}
	r, err := f.QueueRefresh(ctx, Asked{Datasets: []catalogue.Dataset{catalogue.Quotes}, Cause: ByHand}, noon, nopEnqueue)
	if err != nil {
		t.Fatal(err)
	}
	result := f.result(catalogue.Quotes, &source.Answer{Points: []source.Point{quote("AAA.XCVH", 5, noon)}})
	result.Refresh, result.Event = r.ID, Event{At: noon, Kind: "answered", Data: json.RawMessage("{}")}
	f.keep(result, noon)
	<-happened
	records, err := f.book.Records(ctx, rows, 0)
	if err != nil || quotes(records[0]).Observation == nil {
		t.Fatalf("the book does not show what was stored: %v", err)
	}
}

func packed(body []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write(body) //nolint:errcheck // a buffer takes everything
	w.Close()     //nolint:errcheck
	return b.Bytes()
}

func nopEnqueue(pgx.Tx, int64) error { return nil }

// Assumptions of a model stay with the name, and what was set before stays in the table.
func TestModelsAreKeptWithANameAndMethod(t *testing.T) {
	f := open(t)
	ctx, id := t.Context(), f.ids["AAA.XCVH"]
	if _, err := f.Model(ctx, id, "cash"); !errors.Is(err, ErrNotFound) {
		t.Errorf("before any is saved: %v", err)
	}
	for i, discount := range []float64{0.08, 0.07} {
		if err := f.SaveModel(ctx, id, "cash", map[string]float64{"discount": discount, "years": 8}, noon.Add(time.Duration(i)*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	m, err := f.Model(ctx, id, "cash")
	if err != nil || m.Assumptions["discount"] != 0.07 || len(m.Assumptions) != 2 || !m.At.Equal(noon.Add(time.Hour)) {
		t.Errorf("got %+v, %v", m, err)
	}
	for _, other := range []struct {
		listing int64
		method  string
	}{{id, "gordon"}, {f.ids["BBB.XCVH"], "cash"}} {
		if _, err := f.Model(ctx, other.listing, other.method); !errors.Is(err, ErrNotFound) {
			t.Errorf("%+v: %v", other, err)
		}
	}
	// Clocks may stand still between two savings.
	if err := errors.Join(f.SaveModel(ctx, id, "cash", map[string]float64{"discount": 0.06}, noon.Add(time.Hour)), f.SaveModel(ctx, id, "cash", nil, noon)); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Model(ctx, id, "cash"); !errors.Is(err, ErrNotFound) {
		t.Errorf("taken away: %v", err)
	}
	var kept int
	if err := f.Pool.QueryRow(ctx, "select count(*) from model where known_from < known_to").Scan(&kept); err != nil || kept != 3 {
		t.Errorf("%d versions are kept (%v), want 3", kept, err)
	}
}

// Of a dataset of which sources give the newest records alone, those before stay; one that
// is no longer given within what they give is closed.
func TestOlderRecordsStayWhereSourcesRollOn(t *testing.T) {
	f := open(t)
	info := catalogue.Info(catalogue.Opinions)
	months := func(targets map[int]float64) *source.Answer {
		e := source.Entries{Origin: source.Origin{Symbol: market.Symbol{Ticker: "AAA", Exchange: "XCVH"}, Dataset: catalogue.Opinions}}
		for month := 1; month <= 12; month++ {
			if x, given := targets[month]; given {
				day := period.MakeDate(2025, time.Month(month), 1)
				values := make([]cell.Value, len(info.Columns))
				values[0], values[info.Column("target")] = cell.OfText(day.String()), cell.Of(x)
				e.Entries = append(e.Entries, entry.Entry{Day: day, Values: values})
			}
		}
		return &source.Answer{Entries: []source.Entries{e}}
	}
	f.save(catalogue.Opinions, months(map[int]float64{1: 10, 2: 11, 3: 12, 4: 13}), noon.Add(-2*time.Hour))
	f.save(catalogue.Opinions, months(map[int]float64{3: 12, 5: 14}), noon.Add(-time.Hour))
	got := ""
	for _, e := range f.at("AAA.XCVH", noon).Feeds[table.FeedOf(catalogue.Opinions)].From[0].Entries {
		got += fmt.Sprintf("%s %v; ", e.Day, e.Values[info.Column("target")].Num)
	}
	if want := "2025-01-01 10; 2025-02-01 11; 2025-03-01 12; 2025-05-01 14; "; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

// The records of other classes of shares come along with a row, in now and in the past, and
// are no rows of their own.
func TestOtherClassesComeAlong(t *testing.T) {
	f := open(t)
	chan1, chan2 := market.Symbol{Ticker: "CHAN.A", Exchange: "XCVH"}, market.Symbol{Ticker: "CHAN.B", Exchange: "XCVH"}
	f.save(catalogue.Listings, &source.Answer{Listings: []market.Listing{
		{Symbol: chan1, ISIN: "1", Name: "A", Kind: market.Share, Currency: "EUR", Issuer: "chan", Part: 0.6}, {Symbol: chan2, ISIN: "2", Name: "B", Kind: market.Share, Currency: "EUR", Issuer: "chan", Part: 0.4},
	}}, noon.Add(-time.Minute))
	book, err := NewBook(t.Context(), f.Store, market.Exchanges{}, []string{"gannet"}, func() time.Time { return noon }, 0.01)
	if err != nil {
		t.Fatal(err)
	}
	id := func(s market.Symbol) int64 { return book.Directory().Find(s).ID }
	one, both := []Row{{ListingID: id(chan1)}}, []Row{{ListingID: id(chan1)}, {ListingID: f.ids["AAA.XCVH"]}, {ListingID: id(chan2)}}
	for name, read := range map[string]func([]Row) ([]*table.Record, error){
		"now": func(rows []Row) ([]*table.Record, error) { return book.Records(t.Context(), rows, 0) },
		"long": func(rows []Row) ([]*table.Record, error) {
			return book.Records(t.Context(), rows, period.MakeDate(2010, 1, 1))
		},
		"before": func(rows []Row) ([]*table.Record, error) { return book.RecordsAt(t.Context(), rows, noon, 0) },
	} {
		alone, err := read(one)
		if err != nil || len(alone) != 1 || len(alone[0].Classes) != 1 || alone[0].Classes[0].Listing.Symbol != chan2 {
			t.Errorf("%s: %+v, %v", name, alone, err)
		}
		all, err := read(both)
		if err != nil || len(all) != 3 || all[0].Classes[0] != all[2] || all[2].Classes[0] != all[0] || all[1].Classes != nil {
			t.Errorf("%s: %+v, %v", name, all, err)
		}
	}
}
