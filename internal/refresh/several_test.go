package refresh

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

// skua is a vendor that the program has never seen: quotes in a shape of its own,
// two to a page with a link to the next, listings under its own numbers, texts
// with magnitudes, percent signs and marks; bars as XML, in pence, by path.
type skua struct {
	down   atomic.Bool
	drift  atomic.Int64 // per cent that its prices lie above
	pages  atomic.Int64
	served func(code string) float64
}

func (s *skua) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Authorization") != "Bearer feather" {
		w.WriteHeader(401)
		return
	}
	if s.down.Load() {
		w.Header().Set("Retry-After", "3600")
		w.WriteHeader(503)
		fmt.Fprint(w, `{"fault": {"text": "moulting"}}`)
		return
	}
	switch {
	case strings.HasPrefix(r.URL.Path, "/feed/prices"):
		codes := strings.Split(r.URL.Query().Get("ids"), ";")
		from := 0
		fmt.Sscan(r.URL.Query().Get("start"), &from)
		page := codes[from:min(from+2, len(codes))]
		s.pages.Add(1)
		if from+2 < len(codes) {
			next := *r.URL
			q := next.Query()
			q.Set("start", fmt.Sprint(from+2))
			next.RawQuery = q.Encode()
			w.Header().Set("Link", `<`+next.String()+`>; rel="next", </feed>; rel="up"`)
		}
		rows := []string{}
		for _, code := range page {
			price := s.served(code) * (1 + float64(s.drift.Load())/100)
			rows = append(rows, fmt.Sprintf(`{"id": {"no": %q}, "px": {"ltp": "%.4f*", "vol": "1.2k"}, "ts": 1772820000}`, code, price))
		}
		fmt.Fprintf(w, `{"feed": {"prices": [%s]}}`, strings.Join(rows, ","))
	case strings.HasPrefix(r.URL.Path, "/keyfigures/"):
		fmt.Fprint(w, "<html><body><h2>About us</h2><table><tr><th>Founded</th></tr><tr><td>1901</td></tr></table><h2>Key figures</h2><div><table>"+
			"<tr><th>Figure<th>Now</tr><tr><td>Market value<td>1.24B†</tr><tr><td>Price/earnings<td>(12.5)</tr><tr><td>Dividend yield<td>3.1%</tr><tr><td>Sales multiple<td>n/a</tr></table></div></body></html>")
	case strings.HasPrefix(r.URL.Path, "/hist/"):
		fmt.Fprint(w, `<?xml version="1.0"?><history><day on="05.03.2026"><o>100</o><h>120</h><l>90</l><c>110</c></day><day on="06.03.2026"><o>110</o><h>130</h><l>100</l><c>125</c></day></history>`)
	default:
		w.WriteHeader(404)
	}
}

// The description was written from docs/sources.md alone.
const skuaDescription = `
name: skua
title: Skua
access: {address: "%s", private: true, key: {in: bearer}}
limits: {at_once: 2}
symbols:
  write: "{code}"
  codes: {KELP.XCVH: "000451", FERY.XCVH: "000007", SALT.XCVH: "000119"}
replies: {message: $.fault.text}
clean:
  missing: [n/a]
  magnitudes: {k: 1000, B: 1000000000}
  parentheses: true
  footnotes: '[*†]'
calls:
  - serves: [quotes]
    path: /feed/prices
    query: {ids: "{symbols}"}
    batch: {symbols: 50, separator: ;}
    paging: {by: link}
    format: {kind: json}
    parts:
      - rows: $.feed.prices[*]
        symbol: $.id.no
        fields: {time: {at: ts, date: unix}, last: $.px.ltp, volume: $.px.vol}
  - serves: [ratios]
    path: /keyfigures/{symbol}
    format: {kind: html}
    parts:
      - table: {heading: Key figures, labels: true}
        fields: {market_cap: Market value, pe: Price/earnings, dividend_yield: Dividend yield, ps: Sales multiple}
  - serves: [bars]
    path: /hist/{symbol}/{from}/{to}
    dates: YYYYMMDD
    format: {kind: xml}
    parts:
      - rows: /history/day
        fields: {date: {at: "@on", date: DD.MM.YYYY}, open: o, high: h, low: l, close: c, minor: {value: "yes"}}
`

// flock is a world with gannet, and skua before or after it.
func flock(t *testing.T, first bool) (*world, *skua) {
	t.Helper()
	w := newWorld(t, 60)
	bird := &skua{served: func(code string) float64 {
		ticker := map[string]string{"000451": "KELP", "000007": "FERY", "000119": "SALT"}[code]
		q, _ := w.market.QuoteAt(w.market.Find(market.Symbol{Ticker: ticker, Exchange: "XCVH"}), w.now())
		return q.Last
	}}
	server := httptest.NewServer(bird)
	t.Cleanup(server.Close)
	d, err := source.Read("skua.yaml", fmt.Appendf(nil, skuaDescription, server.URL))
	if err != nil {
		t.Fatal(err)
	}
	w.connect(d, source.Secret{Key: "feather"})
	if first {
		slices.Reverse(w.sources)
	}
	w.restart()
	return w, bird
}

// cells evaluates columns of one listing.
func (w *world) cells(symbol string, columns ...string) []cell.Cell {
	w.t.Helper()
	ctx := w.t.Context()
	if err := w.book.CatchUp(ctx); err != nil {
		w.t.Fatal(err)
	}
	l, err := w.book.Directory().Resolve(symbol)
	if err != nil {
		w.t.Fatal(err)
	}
	records, err := w.book.Records(ctx, []store.Row{{ListingID: l.ID}}, 0)
	if err != nil {
		w.t.Fatal(err)
	}
	refs, err := catalogue.ParseColumns(columns)
	if err != nil {
		w.t.Fatal(err)
	}
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	return p.Evaluate(records, w.now(), freshness.Standard).Rows[0].Cells
}

func TestAVendorNeverSeenBefore(t *testing.T) {
	t.Parallel()
	w, bird := flock(t, true)
	r := w.refresh(false, catalogue.Quotes, catalogue.Ratios, catalogue.Bars)
	if r.State != store.Done || r.Failed != 0 || bird.pages.Load() != 2 {
		t.Errorf("%+v, %d pages", r, bird.pages.Load())
	}
	c := w.cells("KELP.XCVH", "quote.last", "quote.volume", "vendor.market_cap", "vendor.pe", "vendor.dividend_yield", "vendor.ps", "price.close", "price.close@2026-03-05")
	want := bird.served("000451")
	for i, x := range []float64{want, 1200, 1.24e9, -12.5, 0.031, 0, 1.25, 1.10} {
		switch {
		case i == 5:
			if c[i].Reason != cell.NotReported {
				t.Errorf("n/a is read as %+v", c[i])
			}
		case c[i].Source != "skua" || table.Differ(c[i].Value.Num, x, 1e-9):
			t.Errorf("column %d is %+v, want %v", i, c[i], x)
		}
	}
	if c[0].Flags&cell.Delayed != 0 || !c[0].Observed.Equal(time.Unix(1772820000, 0)) {
		t.Errorf("the quote's account: %+v", c[0])
	}
	// Names that skua does not know come from gannet in the same refresh.
	if c := w.cells("GLAS.XCVH", "quote.last"); c[0].Source != "gannet" || c[0].State != cell.Fresh {
		t.Errorf("got %+v", c[0])
	}
}

func TestTheSecondSourceHelpsOut(t *testing.T) {
	t.Parallel()
	w, bird := flock(t, true)
	bird.down.Store(true)
	r := w.refresh(false, catalogue.Quotes)
	c := w.cells("KELP.XCVH", "quote.last")[0]
	if r.State != store.Done || r.Failed == 0 || c.Source != "gannet" || c.State != cell.Fresh {
		t.Errorf("%+v, %+v", r, c)
	}
	if a := w.log("skua"); !strings.Contains(a, "moulting") {
		t.Errorf("the log says %q", a)
	}
	// Well again, it is the one that is shown.
	bird.down.Store(false)
	for _, l := range w.engine.lanes {
		l.reset()
	}
	w.refresh(true, catalogue.Quotes)
	if c := w.cells("KELP.XCVH", "quote.last")[0]; c.Source != "skua" {
		t.Errorf("got %+v", c)
	}
}

func TestComparedSourcesAreBothAskedAndConflictsFlagged(t *testing.T) {
	t.Parallel()
	w, bird := flock(t, false)
	if err := w.store.Prefer(t.Context(), catalogue.Quotes, []string{"gannet", "skua"}, true); err != nil {
		t.Fatal(err)
	}
	w.settings(func(p store.Preferences) bool { return len(p.Compare[catalogue.Quotes]) == 1 })
	w.refresh(false, catalogue.Quotes)
	if c := w.cells("KELP.XCVH", "quote.last")[0]; c.Source != "gannet" || c.Flags&cell.Conflict != 0 || bird.pages.Load() != 2 {
		t.Errorf("they agree, and still: %+v, %d pages", c, bird.pages.Load())
	}
	bird.drift.Store(5)
	w.refresh(true, catalogue.Quotes)
	if c := w.cells("KELP.XCVH", "quote.last")[0]; c.Source != "gannet" || c.Flags&cell.Conflict == 0 || !strings.Contains(c.Detail, "skua gives") {
		t.Errorf("they disagree by five per cent: %+v", c)
	}
	// Switched off, a source is not asked.
	before := bird.pages.Load()
	if err := w.store.Enable(t.Context(), "skua", false); err != nil {
		t.Fatal(err)
	}
	w.settings(func(p store.Preferences) bool { return p.IsDisabled("skua") })
	w.refresh(true, catalogue.Quotes)
	if bird.pages.Load() != before {
		t.Error("a source that is switched off is asked")
	}
}

// settings waits until the book has heard of a preference.
func (w *world) settings(heard func(store.Preferences) bool) {
	w.t.Helper()
	happened, stop := w.book.Listen(func(what string, _ int64) bool { return what == "sources" })
	defer stop()
	for !heard(w.book.Preferences()) {
		select {
		case <-happened:
		case <-time.After(10 * time.Second):
			w.t.Fatal("the book does not hear of the preference")
		}
	}
}

// log joins the faults that are logged of a source.
func (w *world) log(name string) string {
	w.t.Helper()
	requests, err := w.store.Requests(w.t.Context(), 0, 200)
	if err != nil {
		w.t.Fatal(err)
	}
	var out []string
	for _, r := range requests {
		if r.Source == name && r.Fault != "" {
			out = append(out, r.Fault)
		}
	}
	return strings.Join(out, "; ")
}

// A folder of files is a source like any other; a file that comes later is found.
func TestAFolderOfFiles(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 60)
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("prices-a.csv", "symbol,date,open,high,low,close,volume\nLIME.XTSG,2026-03-05,630,640,620,635,\"1,200\"\n")
	write("prices-b.csv", "symbol,date,open,high,low,close,volume\nLIME.XTSG,2026-03-06,635,650,630,645,900\nOTHER.XTSG,2026-03-06,1,1,1,1,1\n")
	text, err := os.ReadFile("../../sources/folder.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := source.Read("folder.yaml", text)
	if err != nil {
		t.Fatal(err)
	}
	w.connect(d, source.Secret{Address: dir})
	w.restart()
	r := w.refresh(false, catalogue.Bars)
	if r.State != store.Done {
		t.Fatalf("%+v", r)
	}
	// gannet does not carry it, so the folder is asked in the same refresh.
	c := w.cells("LIME.XTSG", "price.close", "price.close@2026-03-05", "price.volume@2026-03-05")
	if c[0].Source != "folder" || c[0].Value.Num != 645 || c[1].Value.Num != 635 || c[2].Value.Num != 1200 {
		t.Errorf("got %+v", c)
	}
	if c := w.cells("KELP.XCVH", "price.close")[0]; c.Source != "gannet" {
		t.Errorf("got %+v", c)
	}
	// A folder whose files are gone says so.
	if err := errors.Join(os.Remove(filepath.Join(dir, "prices-a.csv")), os.Remove(filepath.Join(dir, "prices-b.csv"))); err != nil {
		t.Fatal(err)
	}
	w.refresh(true, catalogue.Bars)
	if said := w.log("folder"); !strings.Contains(said, "no file matches prices*.csv") {
		t.Errorf("the log says %q", said)
	}
}

// Reference rates come with validators: an answer that has not changed is not
// sent again, and what was known stays.
func TestWhatHasNotChangedIsNotSentAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 60, "gannet", "dunlin")
	w.refresh(false, catalogue.Rates)
	first := w.cells("EUR/USD", "rate.spot")[0]
	want, _ := w.market.Fixing(w.market.Find(market.Symbol{Ticker: "EUR", Exchange: "USD"}), 20518) // 2026-03-06
	if first.Value.Num != want || first.Source != "dunlin" || first.State != cell.Fresh {
		t.Errorf("got %+v, want %v", first, want)
	}
	w.refresh(true, catalogue.Rates)
	requests, err := w.store.Requests(t.Context(), 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	if q := requests[0]; q.Source != "dunlin" || q.Status != http.StatusNotModified || q.Bytes != 0 {
		t.Errorf("got %+v", q)
	}
	if again := w.cells("EUR/USD", "rate.spot")[0]; again.Value != first.Value || again.State != cell.Fresh {
		t.Errorf("got %+v", again)
	}
}

// A history is fetched as far back as is asked for, and later only its end.
func TestHistoriesReachBackAndAreExtended(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 60)
	w.sources[0].Limits.LargestMiB = 64
	w.refresh(false, catalogue.Bars)
	year := w.number("select count(*) from bar")
	long, err := w.engine.Ask(t.Context(), store.Asked{Watchlist: &w.list.ID, Datasets: []catalogue.Dataset{catalogue.Bars}, From: 18262, Cause: store.ByHand}) // 2020-01-01
	if err != nil {
		t.Fatal(err)
	}
	w.wait(long.ID)
	all := w.number("select count(*) from bar")
	if all < 5*year || w.number("select count(*) from bar where known_to < 'infinity'") != 0 {
		t.Errorf("%d bars of a year, %d of all", year, all)
	}
	l := w.market.Find(market.Symbol{Ticker: "KELP", Exchange: "XCVH"})
	bars := w.market.BarsIn(l, 18262, 20518)
	stored := w.number("select count(*) from bar join listing on listing.id = listing_id where symbol = 'KELP.XCVH'")
	if stored != bars.Len() {
		t.Errorf("%d bars of KELP are stored, the market has %d", stored, bars.Len())
	}
	if again := w.refresh(false, catalogue.Bars); again.Answered > 1 { // PEAT's history fails each time
		t.Errorf("what is there is asked for again: %+v", again)
	}
}

// Ten refreshes of one list at once: whoever claims what another has just brought
// lets go of it again, all end, and each name is asked for once.
func TestManyRefreshesOfOneListAllEnd(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 120)
	w.fault(standin.Fault{Kind: "latency", Millis: 30})
	var ids []int64
	for range 10 {
		r, err := w.engine.Ask(t.Context(), store.Asked{Watchlist: &w.list.ID, Datasets: []catalogue.Dataset{catalogue.Quotes, catalogue.Profiles}, Cause: store.ByHand})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, r.ID)
	}
	for _, id := range ids {
		if r := w.wait(id); r.State != store.Done {
			t.Errorf("%+v", r)
		}
	}
	if n := w.number("select count(*) from in_flight"); n != 0 {
		t.Errorf("%d claims are left", n)
	}
	asked := map[string]int{}
	for _, served := range w.vendors["gannet"].Log() {
		if served.Dataset == "quotes" {
			for _, s := range served.Symbols() {
				asked[s]++
			}
		}
	}
	for s, n := range asked {
		if n != 1 {
			t.Errorf("%s is asked for %d times", s, n)
		}
	}
}

// A list of shares brings the rates between its currencies along, and the plan that
// is shown before says so.
func TestAListBringsTheRatesBetweenItsCurrencies(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 60, "gannet", "dunlin")
	list := w.newList("shares", func(l *market.Listing) bool { return l.Kind == market.Share })
	rows, err := w.store.Rows(t.Context(), list.ID)
	if err != nil {
		t.Fatal(err)
	}
	asked := store.Asked{Watchlist: &list.ID, Datasets: []catalogue.Dataset{catalogue.Rates}, Cause: store.ByHand}
	shown, err := w.engine.Preview(t.Context(), rows, asked)
	if err != nil {
		t.Fatal(err)
	}
	r, err := w.engine.Ask(t.Context(), asked)
	if err != nil {
		t.Fatal(err)
	}
	if r = w.wait(r.ID); r.State != store.Done || len(shown.Requests) == 0 || r.Planned != len(shown.Requests) {
		t.Errorf("%d requests are shown, %+v", len(shown.Requests), r)
	}
	var pairs []store.Row
	for _, l := range w.book.Directory().Ordered {
		if l.Symbol.IsPair() {
			pairs = append(pairs, store.Row{ListingID: l.ID})
		}
	}
	if err := w.book.CatchUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	records, err := w.book.Records(t.Context(), pairs, 0)
	if err != nil {
		t.Fatal(err)
	}
	rates := table.RatesOf(records, w.now(), freshness.Standard)
	for _, to := range []string{"EUR", "GBP", "USD", "JPY"} {
		if rate := rates.On("GBP", to, period.MakeDate(2026, 3, 7)); rate.Value <= 0 || rate.Account.State != cell.Fresh {
			t.Errorf("pounds in %s: %+v", to, rate)
		}
	}
}
