package refresh

import (
	"context"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"soba.invalid/soba/internal/cluster/clustertest"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/sources"
)

func TestMain(m *testing.M) { clustertest.Main(m, store.Prepare) }

// world is a service without its faces: a store, a book and an engine over the
// stand-in vendors, at a fixed start of the clock.
type world struct {
	t       *testing.T
	url     string
	store   *store.Store
	book    *store.Book
	engine  *Engine
	market  *standin.Market
	vendors map[string]*standin.Vendor
	sources []*source.Source
	list    store.Watchlist
	now     func() time.Time
	stop    func()
}

// newWorld makes a world whose vendors are those named, gannet where none is,
// and whose list holds every listing of the market.
func newWorld(t *testing.T, listings int, names ...string) *world {
	t.Helper()
	if len(names) == 0 {
		names = []string{"gannet"}
	}
	began, start := time.Now(), time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC) // a Saturday
	w := &world{t: t, url: clustertest.Database(t), vendors: map[string]*standin.Vendor{}, now: func() time.Time { return start.Add(time.Since(began)) }}
	exchanges, err := source.ReadExchanges(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	w.market = standin.New(exchanges, 1, listings, w.now)
	described, err := source.ReadAll(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		v := map[string]func(*standin.Market) *standin.Vendor{
			"gannet":         func(m *standin.Market) *standin.Vendor { return standin.NewGannet(m).Vendor },
			"whimbrel":       func(m *standin.Market) *standin.Vendor { return standin.NewWhimbrel(m).Vendor },
			"whimbrel-pages": func(m *standin.Market) *standin.Vendor { return standin.NewWhimbrel(m).Vendor },
			"fulmar":         func(m *standin.Market) *standin.Vendor { return standin.NewFulmar(m).Vendor },
			"dunlin":         func(m *standin.Market) *standin.Vendor { return standin.NewDunlin(m).Vendor },
		}[name](w.market)
		v.Unlimited()
		w.vendors[name] = v
		server := httptest.NewServer(v)
		t.Cleanup(server.Close)
		for _, d := range described {
			if d.Name == name {
				d.Limits.Timeout, d.Limits.LargestMiB, d.Limits.PerSecond = time.Minute, 8, 1000
				w.connect(d, source.Secret{Address: server.URL, Key: map[string]string{"gannet": standin.GannetKey, "whimbrel": standin.WhimbrelKey, "whimbrel-pages": standin.WhimbrelKey}[name]})
			}
		}
	}
	if w.store, err = store.Open(t.Context(), w.url); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.store.Close)
	w.book, w.engine = w.start(w.store)
	r, err := w.engine.AskForDirectory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	w.wait(r.ID)
	if err := w.book.CatchUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	w.list = w.newList("all", func(l *market.Listing) bool { return w.market.Find(l.Symbol) != nil })
	return w
}

func (w *world) connect(d *source.Description, secret source.Secret) {
	w.t.Helper()
	s, err := source.Connect(d, secret, w.now)
	if err != nil {
		w.t.Fatal(err)
	}
	w.sources = append(w.sources, s)
}

// newList makes a watchlist of the listings that are wanted.
func (w *world) newList(name string, wanted func(*market.Listing) bool) store.Watchlist {
	w.t.Helper()
	list, err := w.store.CreateWatchlist(w.t.Context(), name, w.now())
	if err != nil {
		w.t.Fatal(err)
	}
	list, err = w.store.Edit(w.t.Context(), list, 0, w.now(), func(e *store.Editor) error {
		for _, l := range w.book.Directory().Ordered {
			if wanted(l) {
				if _, err := e.Add(store.Row{ListingID: l.ID}, -1); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		w.t.Fatal(err)
	}
	return list
}

// start runs an engine on a store, with a book of its own.
func (w *world) start(s *store.Store) (*store.Book, *Engine) {
	w.t.Helper()
	var names []string
	for _, src := range w.sources {
		names = append(names, src.Name)
	}
	limits := freshness.Standard
	book, err := store.NewBook(w.t.Context(), s, w.market.Exchanges, names, w.now, limits.Tolerance)
	if err != nil {
		w.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	listening, stop := book.Listen(func(string, int64) bool { return false })
	go book.Follow(ctx)
	<-listening
	stop()
	engine, err := New(s, book, w.sources, w.now, limits)
	if err != nil {
		w.t.Fatal(err)
	}
	if err := engine.Start(ctx); err != nil {
		w.t.Fatal(err)
	}
	w.stop = sync.OnceFunc(func() {
		if err := engine.Stop(context.Background()); err != nil {
			w.t.Error(err)
		}
		cancel()
	})
	w.t.Cleanup(w.stop)
	return book, engine
}

// restart stops the engine and runs another with the sources as they are now.
func (w *world) restart() {
	w.t.Helper()
	w.stop()
	w.book, w.engine = w.start(w.store)
}

// wait follows the events of a refresh until it is over.
func (w *world) wait(id int64) store.Refresh {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 60*time.Second)
	defer cancel()
	happened, stop := w.book.Listen(func(what string, n int64) bool { return what == "refresh" && n == id })
	defer stop()
	for {
		r, err := w.store.Refresh(ctx, id)
		if err != nil {
			w.t.Fatal(err)
		}
		if r.Over() {
			return r
		}
		select {
		case <-happened:
		case <-ctx.Done():
			w.t.Fatalf("refresh %d does not end: %+v", id, r)
		}
	}
}

func (w *world) refresh(force bool, datasets ...catalogue.Dataset) store.Refresh {
	w.t.Helper()
	r, err := w.engine.Ask(w.t.Context(), store.Asked{Watchlist: &w.list.ID, Datasets: datasets, Force: force, Cause: store.ByHand})
	if err != nil {
		w.t.Fatal(err)
	}
	return w.wait(r.ID)
}

// records are the rows of the list as they are stored.
func (w *world) records() []*table.Record {
	w.t.Helper()
	rows, err := w.store.Rows(w.t.Context(), w.list.ID)
	if err != nil {
		w.t.Fatal(err)
	}
	if err := w.book.CatchUp(w.t.Context()); err != nil {
		w.t.Fatal(err)
	}
	records, err := w.book.Records(w.t.Context(), rows, 0)
	if err != nil {
		w.t.Fatal(err)
	}
	return records
}

func (w *world) fault(f standin.Fault) {
	w.t.Helper()
	if err := w.vendors["gannet"].Order(f); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) clearFaults() { w.vendors["gannet"].Clear() }

// asked counts the requests that came to a vendor, by dataset.
func (w *world) asked() map[string]int { return asked(w.vendors["gannet"]) }

func asked(v *standin.Vendor) map[string]int {
	counts := map[string]int{}
	for _, served := range v.Log() {
		counts[served.Dataset]++
	}
	return counts
}

// quotes evaluates the last price of every row.
func (w *world) quotes() map[string]cell.Cell {
	w.t.Helper()
	ctx := w.t.Context()
	if err := w.book.CatchUp(ctx); err != nil {
		w.t.Fatal(err)
	}
	rows, err := w.store.Rows(ctx, w.list.ID)
	if err != nil {
		w.t.Fatal(err)
	}
	records, err := w.book.Records(ctx, rows, 0)
	if err != nil {
		w.t.Fatal(err)
	}
	refs, _ := catalogue.ParseColumns([]string{"quote.last"})
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	cells := map[string]cell.Cell{}
	for _, row := range p.Evaluate(records, w.market.Clock(), freshness.Standard).Rows {
		cells[row.Record.Listing.Symbol.String()] = row.Cells[0]
	}
	return cells
}

func count(cells map[string]cell.Cell, s cell.State) (n int) {
	for _, c := range cells {
		if c.State == s {
			n++
		}
	}
	return n
}

func TestARefreshSendsTheFewestRequestsAndAsksForNothingFresh(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 250)
	r := w.refresh(false, catalogue.Quotes, catalogue.Bars, catalogue.Profiles)
	asked := w.asked()
	if r.State != store.Done || asked["quotes"] != 3 || asked["history"] != 3 || asked["profiles"] != 3 || r.Answered != 9 || r.Units != 2*250+2*250-7 {
		t.Fatalf("%+v, asked %v", r, asked)
	}
	cells := w.quotes()
	for symbol, want := range map[string]cell.Reason{
		"KELP.XCVH": cell.NoReason, "LIME.XTSG": cell.NotCovered, "KLPF.XCVH": cell.NotPermitted, "OARS.XCVH": cell.Rejected,
		"LAMP.XPLR": cell.SessionPassed, "ROPE.XNMK": cell.Ended, "VT25.XCVH": cell.Ended,
	} {
		if c := cells[symbol]; c.Reason != want {
			t.Errorf("%s: %+v, want %q", symbol, c, want)
		}
	}
	if c := cells["OARS.XCVH"]; c.Detail != "n/a*" {
		t.Errorf("the rejected text is %q", c.Detail)
	}
	// Saturday: the quotes are Friday's closes and stay fresh.
	// Only the one history that the vendor failed to give is asked for again.
	r = w.refresh(false, catalogue.Quotes, catalogue.Bars, catalogue.Profiles)
	if again := w.asked(); r.Answered != 1 || r.Units != 2 || r.Skipped != 978 || again["quotes"] != 3 || again["profiles"] != 3 {
		t.Errorf("a second refresh: %+v, asked %v", r, again)
	}
	if r = w.refresh(true, catalogue.Quotes); r.Answered != 3 {
		t.Errorf("a forced refresh: %+v", r)
	}
}

// Every value shown equals the market's own number, in the major unit.
func TestQuotesAreTheMarketsOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 120)
	w.refresh(false, catalogue.Quotes)
	checked := 0
	for _, l := range w.market.Listings {
		c := w.quotes()[l.Symbol.String()]
		if c.Absent() {
			continue
		}
		q, _ := w.market.QuoteAt(l, w.market.Clock().Add(-15*time.Minute))
		// A hundredth and a multiplication by a hundred may differ in the last bit.
		if diff := c.Value.Num - q.Last; diff > 1e-9*q.Last || diff < -1e-9*q.Last {
			t.Errorf("%s shows %v, the market says %v", l.Symbol, c.Value.Num, q.Last)
		}
		checked++
	}
	if checked < 100 {
		t.Errorf("only %d checked", checked)
	}
}

func TestWithoutOldValuesFaultsAreTheReason(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault  standin.Fault
		want   cell.Reason
		detail string
	}{
		{standin.Fault{Kind: "key"}, cell.FetchFailed, "key refused (401)"},
		{standin.Fault{Kind: "plan"}, cell.NotPermitted, "not in the key's plan (403)"},
		{standin.Fault{Kind: "allowance"}, cell.AllowanceSpent, "allowance spent (402)"},
		{standin.Fault{Kind: "503", Retry: "0"}, cell.FetchFailed, "server failed (503): down for maintenance"},
		{standin.Fault{Kind: "html"}, cell.FetchFailed, "malformed answer"},
	} {
		t.Run(c.fault.Kind, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, 60)
			w.fault(c.fault)
			w.refresh(false, catalogue.Quotes)
			got := w.quotes()["KELP.XCVH"]
			if got.State != cell.Missing || got.Reason != c.want || !strings.Contains(got.Detail, c.detail) {
				t.Errorf("got %+v", got)
			}
		})
	}
}

func TestHalfAnAnswerKeepsWhatCameAndSaysWhatDidNot(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 100)
	w.fault(standin.Fault{Kind: "half", Dataset: "quotes", Count: 1})
	w.refresh(false, catalogue.Quotes)
	cells := w.quotes()
	missing := 0
	for _, c := range cells {
		if c.Reason == cell.NotReported && strings.Contains(c.Detail, "leaves out") {
			missing++
		}
	}
	if fresh := count(cells, cell.Fresh); missing < 40 || fresh < 40 {
		t.Errorf("%d fresh, %d left out", fresh, missing)
	}
}

func TestCancelKeepsWhatIsThere(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 250)
	w.fault(standin.Fault{Kind: "latency", Millis: 1500, Dataset: "history"})
	r, err := w.engine.Ask(t.Context(), store.Asked{Watchlist: &w.list.ID, Datasets: []catalogue.Dataset{catalogue.Quotes, catalogue.Bars}, Cause: store.ByHand})
	if err != nil {
		t.Fatal(err)
	}
	w.until(r.ID, func(r store.Refresh) bool { return r.Answered >= 3 })
	if err := w.store.CancelRefresh(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	if r = w.wait(r.ID); r.State != store.Cancelled || r.Answered < 3 {
		t.Errorf("got %+v", r)
	}
	if n := count(w.quotes(), cell.Fresh); n < 200 {
		t.Errorf("%d quotes fresh after the cancellation", n)
	}
	var inFlight int
	if err := w.store.Pool.QueryRow(t.Context(), "select count(*) from in_flight").Scan(&inFlight); err != nil || inFlight != 0 {
		t.Errorf("%d still marked as in flight, %v", inFlight, err)
	}
}

// until waits for a state of a running refresh.
func (w *world) until(id int64, reached func(store.Refresh) bool) {
	w.t.Helper()
	happened, stop := w.book.Listen(func(what string, n int64) bool { return what == "refresh" && n == id })
	defer stop()
	for {
		r, err := w.store.Refresh(w.t.Context(), id)
		if err != nil || r.Over() {
			w.t.Fatalf("%+v, %v", r, err)
		}
		if reached(r) {
			return
		}
		<-happened
	}
}

// The allowance left decides what is asked for; the rest says until when it waits.
func TestASpentAllowanceIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 250)
	if _, err := w.store.Pool.Exec(t.Context(), `insert into request (source, datasets, address, listings, started_at, took_ms, status, bytes, units, units_left)
		values ('gannet', '{quotes}', '', '{}', $1, 1, 200, 1, $2, 0)`, w.market.Clock(), 20_000-50-120); err != nil {
		t.Fatal(err) // the directory took 50 units
	}
	r := w.refresh(false, catalogue.Quotes)
	if r.Answered != 2 || r.Refused != 130 || r.Units != 120 {
		t.Errorf("got %+v", r)
	}
	spent := 0
	for _, c := range w.quotes() {
		if c.Reason == cell.AllowanceSpent && strings.Contains(c.Detail, "starts anew at 2026-03-08 00:00") {
			spent++
		}
	}
	if spent < 125 { // a few of the refused ended long ago and say that instead
		t.Errorf("%d cells say that the allowance is spent", spent)
	}
}

// The price fields equal what a few plain lines make of the market's own bars.
func TestPriceFieldsAgainstTheMarket(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 60)
	w.refresh(false, catalogue.Quotes, catalogue.Bars)
	records := w.records()
	refs, _ := catalogue.ParseColumns([]string{"price.high_52w", "price.low_52w", "price.return_13w", "price.average_volume_13w", "price.close"})
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	today := period.MakeDate(2026, 3, 7)
	checked := 0
	for _, row := range p.Evaluate(records, w.market.Clock(), freshness.Standard).Rows {
		l := w.market.Find(row.Record.Listing.Symbol)
		if row.Cells[0].Absent() || l.Symbol.Ticker == "FOGG" { // FOGG's vendor lost a part
			continue
		}
		bars := w.market.Bars(l)
		shares := func(day period.Date) float64 { // today's shares for one of that day
			n := 1.0
			for _, s := range l.Splits {
				if day < s.Day {
					n *= s.Ratio
				}
			}
			return n
		}
		high, low, volume, sessions, start := 0.0, 1e18, 0.0, 0.0, 0.0
		last := bars.Len() - 1
		for i, day := range bars.Day {
			k := shares(day)
			if day > today.AddYears(-1) {
				high, low = max(high, bars.High[i]/k), min(low, bars.Low[i]/k)
			}
			if day <= today.AddDays(-91) {
				start = bars.Close[i] / k
			} else {
				volume += bars.Volume[i] * k
				sessions++
			}
		}
		for i, want := range []float64{high, low, bars.Close[last]/start - 1, volume / sessions, bars.Close[last]} {
			c := row.Cells[i]
			if c.Absent() && (c.Reason == cell.NotApplicable || c.Reason == cell.ShortHistory) {
				continue
			}
			if diff := c.Value.Num - want; diff > 1e-9*max(1, want) || diff < -1e-9*max(1, want) {
				t.Errorf("%s of %s is %v, the market's own is %v", refs[i], l.Symbol, c.Value.Num, want)
			}
			checked++
		}
	}
	if checked < 200 {
		t.Errorf("only %d values checked", checked)
	}
}
