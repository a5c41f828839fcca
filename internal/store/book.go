package store

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
)

// Book keeps what tables read in memory: the directory of listings, and the
// newest observations of the listings that have been asked for. It follows the
// database by its notifications, so that every instance of the service sees what
// any of them stores.
type Book struct {
	store     *Store
	described market.Exchanges // as their file has them
	sources   []string         // in the order of preference unless the user has set another
	now       func() time.Time
	tolerance float64
	version   atomic.Int64
	away      atomic.Bool
	listeners listeners

	heeding   sync.Mutex
	mu        sync.Mutex
	directory *market.Directory
	exchanges market.Exchanges // with the weekends that trading has taught
	learnedAt time.Time
	lists     map[string]*List // by name in lower case
	records   map[int64]*table.Record
	traded    map[int64][]table.Given // bars as traded, before they are adjusted
	prefer    Preferences
	loaded    map[catalogue.Dataset]map[int64]bool // which feeds of the records are current
	inFlight  map[catalogue.Dataset]map[int64]bool
	newest    int64          // request heeded
	heeded    map[int64]bool // of the most recent requests
}

// window is how many days of history the book keeps in memory: five years and
// some. What lies before it is read when it is asked for.
const window = 2200

// NewBook opens the book and reads the directory. Sources are in the order of
// preference that holds unless the user has set another.
func NewBook(ctx context.Context, s *Store, exchanges market.Exchanges, sources []string, now func() time.Time, tolerance float64) (*Book, error) {
	b := &Book{
		store: s, described: exchanges, exchanges: exchanges, sources: sources, now: now, tolerance: tolerance, records: map[int64]*table.Record{}, traded: map[int64][]table.Given{},
		loaded: map[catalogue.Dataset]map[int64]bool{}, heeded: map[int64]bool{}, lists: map[string]*List{},
	}
	for _, d := range kept {
		b.loaded[d] = map[int64]bool{}
	}
	// Nothing is in memory yet, so whatever is stored by now is heeded.
	if err := b.heedRequests(ctx, "id > (select coalesce(max(id), 0) from request) - $1", recent); err != nil {
		return nil, err
	}
	if err := b.readPreferences(ctx); err != nil {
		return nil, err
	}
	if err := b.readDirectory(ctx); err != nil {
		return nil, err
	}
	if err := b.learnWeekends(ctx); err != nil {
		return nil, err
	}
	return b, b.readInFlight(ctx)
}

// kept are the datasets that the book holds: all but bars within the day.
var kept = func() (out []catalogue.Dataset) {
	for _, info := range catalogue.Infos {
		if info.Shape != catalogue.Directory && info.Name != catalogue.Intraday {
			out = append(out, info.Name)
		}
	}
	return out
}()

// tracked are the datasets that can be in flight.
var tracked = append(slices.Clone(kept), catalogue.Intraday)

// Preferences returns what the user has set of sources.
func (b *Book) Preferences() Preferences {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.prefer
}

// order is the order of preference of sources for a dataset.
func (b *Book) order(d catalogue.Dataset) []string {
	return append(slices.Clone(b.prefer.Order[d]), b.sources...)
}

func (b *Book) readPreferences(ctx context.Context) error {
	p, err := b.store.Preferences(ctx)
	if err != nil {
		return fmt.Errorf("reading the preferences: %w", err)
	}
	b.mu.Lock()
	b.prefer = p
	b.mu.Unlock()
	b.forget()
	return nil
}

// Version counts the changes to what the book holds.
func (b *Book) Version() int64 { return b.version.Load() }

// Away tells whether the database has stopped answering; what the book holds is
// then what it last said.
func (b *Book) Away() bool { return b.away.Load() }

// Directory is the directory of listings.
func (b *Book) Directory() *market.Directory {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.directory
}

// Exchange returns the exchange of a listing.
func (b *Book) Exchange(l *market.Listing) *market.Exchange { return b.Exchanges().Of(l) }

// Exchanges returns all exchanges.
func (b *Book) Exchanges() market.Exchanges {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.exchanges
}

// Weekends are learned from so many weeks of bars, and so often.
const (
	learnedWeeks = 26
	learnEvery   = time.Hour
)

// learnWeekends looks on which weekdays exchanges have traded.
func (b *Book) learnWeekends(ctx context.Context) error {
	traded, err := b.store.weekdaysTraded(ctx, b.now().AddDate(0, 0, -7*learnedWeeks))
	if err != nil {
		return fmt.Errorf("learning the weekends of exchanges: %w", err)
	}
	exchanges := market.Exchanges{}
	for code, e := range b.described {
		exchanges[code] = e.Learn(traded[code], learnedWeeks)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.learnedAt = b.now()
	if maps.EqualFunc(exchanges, b.exchanges, func(x, y *market.Exchange) bool { return maps.Equal(x.Learned, y.Learned) }) {
		return nil
	}
	b.exchanges = exchanges
	for id, r := range b.records {
		changed := *r
		changed.Exchange = exchanges.Of(r.Listing)
		b.records[id] = &changed
	}
	b.version.Add(1)
	return nil
}

func (b *Book) readDirectory(ctx context.Context) error {
	listings, err := b.store.Listings(ctx)
	if err != nil {
		return fmt.Errorf("reading the directory of listings: %w", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.setDirectory(listings)
	return nil
}

func (b *Book) setDirectory(listings []*market.Listing) {
	b.directory = market.NewDirectory(listings)
	for _, l := range listings {
		if r := b.records[l.ID]; r != nil {
			changed := *r
			changed.Listing = l
			b.records[l.ID] = &changed
		}
	}
	b.version.Add(1)
}

func (b *Book) readInFlight(ctx context.Context) error {
	rows, err := b.store.Pool.Query(ctx, "select dataset, listing_id from in_flight")
	if err != nil {
		return err
	}
	inFlight := map[catalogue.Dataset]map[int64]bool{}
	var dataset string
	var id int64
	if _, err = pgx.ForEachRow(rows, []any{&dataset, &id}, func() error {
		d := catalogue.Dataset(dataset)
		if inFlight[d] == nil {
			inFlight[d] = map[int64]bool{}
		}
		inFlight[d][id] = true
		return nil
	}); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	same := maps.EqualFunc(b.inFlight, inFlight, maps.Equal)
	b.inFlight = inFlight
	if !same {
		b.version.Add(1)
	}
	return nil
}

// Records returns the rows of a list as they are known now, with histories from
// a day on; 0 asks for what the book has in memory.
func (b *Book) Records(ctx context.Context, rows []Row, since period.Date) ([]*table.Record, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	indices := b.indicesOf(rows)
	asked := len(rows)
	rows = b.withClasses(rows)
	if err := b.load(ctx, append(indices, rows...)); err != nil {
		return nil, err
	}
	shown := 0
	out := make([]*table.Record, 0, len(rows))
	for i, row := range rows {
		base := b.records[row.ListingID]
		if base == nil {
			continue // not in the directory that was read last; a notification is on its way
		}
		r := *base
		hold(&r, row)
		if index := b.directory.Find(r.Exchange.Index); index != nil {
			r.Index = b.records[index.ID]
		}
		for _, d := range tracked {
			r.Feeds[table.FeedOf(d)].Refreshing = b.inFlight[d][row.ListingID]
		}
		out = append(out, &r)
		if i < asked {
			shown++
		}
	}
	b.linkClasses(out)
	if since == 0 || since >= b.start() {
		return out[:shown], nil
	}
	deep := []catalogue.Dataset{catalogue.Bars, catalogue.Rates}
	f, err := b.store.read(ctx, idsOf(rows), deep, latest, since)
	if err != nil {
		return nil, err
	}
	for _, r := range out {
		for _, d := range deep {
			refreshing := r.Feeds[table.FeedOf(d)].Refreshing
			fill(r, d, f, b.order(d))
			r.Feeds[table.FeedOf(d)].Refreshing = refreshing
		}
		bars := &r.Feeds[table.FeedOf(catalogue.Bars)]
		refreshing := bars.Refreshing
		adjust(r, bars.From, b.tolerance)
		bars.Refreshing = refreshing
	}
	return out[:shown], nil
}

// withClasses is rows and, after them, the other classes of their issuers' shares that
// are not among them.
func (b *Book) withClasses(rows []Row) []Row {
	there := map[int64]bool{}
	for _, row := range rows {
		there[row.ListingID] = true
	}
	all := slices.Clip(rows) // which others hold too
	for _, row := range rows {
		if l := b.directory.ByID(row.ListingID); l != nil {
			for _, class := range b.directory.Classes(l) {
				if !there[class.ID] {
					there[class.ID] = true
					all = append(all, Row{ListingID: class.ID})
				}
			}
		}
	}
	return all
}

// linkClasses tells records of the other classes of their issuers' shares.
func (b *Book) linkClasses(records []*table.Record) {
	byListing := map[*market.Listing]*table.Record{}
	for _, r := range records {
		byListing[r.Listing] = r
	}
	for _, r := range records {
		for _, class := range b.directory.Classes(r.Listing) {
			if other := byListing[class]; other != nil {
				r.Classes = append(slices.Clip(r.Classes), other)
			}
		}
	}
}

// AddIntraday reads the bars within the day into records that [Book.Records] returned.
func (b *Book) AddIntraday(ctx context.Context, records []*table.Record) error {
	ids := make([]int64, len(records))
	for i, r := range records {
		ids[i] = r.Listing.ID
	}
	f := feeds{}
	if err := b.store.readAttempts(ctx, f, ids, []string{string(catalogue.Intraday)}, latest); err != nil {
		return fmt.Errorf("reading attempts: %w", err)
	}
	if err := b.store.readIntraday(ctx, f, ids); err != nil {
		return fmt.Errorf("reading bars within the day: %w", err)
	}
	b.mu.Lock()
	order := b.order(catalogue.Intraday)
	b.mu.Unlock()
	for _, r := range records {
		feed := &r.Feeds[table.FeedOf(catalogue.Intraday)]
		feed.From = arranged(f[catalogue.Intraday][r.Listing.ID], order)
		for i := range feed.From {
			if g := &feed.From[i]; g.Bars != nil {
				placeInDays(r, g)
			}
		}
	}
	return nil
}

// placeInDays finds the days of bars within the day, and their width: the least
// time between two of a day.
func placeInDays(r *table.Record, g *table.Given) {
	g.Step = 24 * time.Hour
	for i, at := range g.Times {
		g.Bars.Day[i] = period.DateOf(at.In(r.Exchange.Zone))
		if i > 0 && g.Bars.Day[i] == g.Bars.Day[i-1] {
			g.Step = min(g.Step, at.Sub(g.Times[i-1]))
		}
	}
	g.Splits = splitsBy(r, g.Source)
	g.Bars = g.Bars.AdjustSplits(g.Splits)
	g.Observation.Observed = g.Times[len(g.Times)-1].Add(g.Step)
	if quotes := r.Feeds[table.FeedOf(catalogue.Quotes)].By(g.Source); quotes != nil && quotes.Observation != nil {
		g.Observation.Delay = quotes.Observation.Delay // as it holds back its quotes, so its bars
	}
}

// indicesOf are the main indices of the exchanges of a list.
func (b *Book) indicesOf(rows []Row) (indices []Row) {
	seen := map[market.Symbol]bool{}
	for _, row := range rows {
		l := b.directory.ByID(row.ListingID)
		if l == nil {
			continue
		}
		symbol := b.exchanges.Of(l).Index
		if index := b.directory.Find(symbol); index != nil && !seen[symbol] {
			indices = append(indices, Row{ListingID: index.ID})
		}
		seen[symbol] = true
	}
	return indices
}

// start is the first day of the histories in memory.
func (b *Book) start() period.Date { return period.DateOf(b.now().UTC()) - window }

// earlier is the earlier of two days, where 0 is none.
func earlier(a, b period.Date) period.Date {
	if a == 0 || b < a {
		return b
	}
	return a
}

// latest is an instant after all others: what is known then is what is known now.
var latest = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

func idsOf(rows []Row) []int64 {
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ListingID
	}
	return ids
}

// load brings the feeds of the rows' listings that are not current up to date.
func (b *Book) load(ctx context.Context, rows []Row) error {
	unadjusted := map[int64]bool{}
	for _, d := range kept {
		info := catalogue.Info(d)
		var ids []int64
		for _, row := range rows {
			if b.loaded[d][row.ListingID] {
				continue
			}
			switch l := b.directory.ByID(row.ListingID); {
			case l == nil:
			case info.Has(l.Kind):
				ids = append(ids, row.ListingID)
			default:
				b.loaded[d][row.ListingID] = true // there can be none
			}
		}
		if len(ids) == 0 {
			continue
		}
		for some := range slices.Chunk(ids, readAtOnce) {
			if err := b.loadSome(ctx, d, some, unadjusted); err != nil {
				return err
			}
		}
	}
	for id := range unadjusted {
		r := *b.records[id]
		adjust(&r, b.traded[id], b.tolerance)
		b.records[id] = &r
	}
	for _, row := range rows {
		if l := b.directory.ByID(row.ListingID); l != nil && b.records[row.ListingID] == nil {
			b.records[row.ListingID] = &table.Record{Listing: l, Exchange: b.exchanges.Of(l)}
		}
	}
	return nil
}

// readAtOnce is of how many listings a dataset is read at once: what the database
// sends is several times as large as what is kept of it.
const readAtOnce = 25

// loadSome brings one feed of some listings up to date, and notes those whose prices
// are to be adjusted anew.
func (b *Book) loadSome(ctx context.Context, d catalogue.Dataset, ids []int64, unadjusted map[int64]bool) error {
	f, err := b.store.read(ctx, ids, []catalogue.Dataset{d}, latest, b.start())
	if err != nil {
		return err
	}
	order := b.order(d)
	for _, id := range ids {
		l := b.directory.ByID(id)
		r := table.Record{Listing: l, Exchange: b.exchanges.Of(l)}
		if old := b.records[id]; old != nil {
			r = *old
		}
		fill(&r, d, f, order)
		switch d {
		case catalogue.Bars:
			b.traded[id] = r.Feeds[table.FeedOf(d)].From
			unadjusted[id] = true
		case catalogue.Splits, catalogue.Dividends, catalogue.Statements:
			unadjusted[id] = true
		}
		b.records[id] = &r
		b.loaded[d][id] = true
	}
	return nil
}

// hold gives a record the quantity and cost of a row.
func hold(r *table.Record, row Row) {
	if row.Quantity == nil {
		return
	}
	r.Held = true
	o := &table.Observation{Source: "you", Observed: row.AddedAt, Fetched: row.AddedAt, Values: make([]cell.Value, len(catalogue.ObservedIn(catalogue.Holdings)))}
	for id, text := range map[string]*string{"holding.quantity": row.Quantity, "holding.cost": row.Cost} {
		if text == nil {
			continue
		}
		if x, err := strconv.ParseFloat(*text, 64); err == nil {
			o.Values[catalogue.Find(id).Slot()] = cell.Of(x)
		}
	}
	r.Feeds[table.Holdings].From = []table.Given{{Source: o.Source, Observation: o}}
}

// RecordsAt returns the rows of a list as they were known at an instant in the
// past, with histories from a day on.
func (b *Book) RecordsAt(ctx context.Context, rows []Row, at time.Time, since period.Date) ([]*table.Record, error) {
	since = earlier(since, period.DateOf(at.UTC())-window)
	b.mu.Lock()
	indices := b.indicesOf(rows)
	asked := len(rows)
	rows = b.withClasses(rows)
	b.mu.Unlock()
	f, err := b.store.read(ctx, idsOf(append(indices, rows...)), kept, at, since)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]*table.Record, 0, len(rows))
	byIndex := map[market.Symbol]*table.Record{}
	shown := 0
	for i, row := range append(indices, rows...) {
		l := b.directory.ByID(row.ListingID)
		if l == nil {
			continue
		}
		r := &table.Record{Listing: l, Exchange: b.exchanges.Of(l)}
		for _, d := range kept {
			if catalogue.Info(d).Has(l.Kind) {
				fill(r, d, f, b.order(d))
			}
		}
		adjust(r, r.Feeds[table.FeedOf(catalogue.Bars)].From, b.tolerance)
		hold(r, row)
		r.Index = byIndex[r.Exchange.Index]
		if len(byIndex) < len(indices) { // which come first
			byIndex[l.Symbol] = r
			continue
		}
		out = append(out, r)
		if i < len(indices)+asked {
			shown++
		}
	}
	b.linkClasses(out)
	return out[:shown], nil
}

// Follow listens to the database until the context ends, reconnecting when the
// connection is lost. What may have been missed meanwhile is read anew.
func (b *Book) Follow(ctx context.Context) {
	for ctx.Err() == nil {
		err := b.listen(ctx)
		if ctx.Err() != nil {
			return
		}
		if !b.away.Swap(true) {
			b.listeners.tell("everything", 0)
		}
		slog.Warn("lost the database's notifications; connecting again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (b *Book) listen(ctx context.Context) error {
	conn, err := b.store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// The connection goes on listening, so it must not return to the pool.
	raw := conn.Hijack()
	defer raw.Close(context.WithoutCancel(ctx)) //nolint:errcheck // it is given up
	if _, err := raw.Exec(ctx, "listen soba"); err != nil {
		return err
	}
	if err := b.readPreferences(ctx); err != nil { // which forgets everything
		return err
	}
	if err := b.readDirectory(ctx); err != nil {
		return err
	}
	if err := b.readInFlight(ctx); err != nil {
		return err
	}
	b.away.Store(false)
	b.listeners.tell("everything", 0)
	for {
		n, err := raw.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if err := b.heed(ctx, n.Payload); err != nil {
			return err
		}
	}
}

// forget drops what is in memory.
func (b *Book) forget() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, d := range kept {
		clear(b.loaded[d])
	}
	clear(b.lists)
	b.version.Add(1)
}

// List is a watchlist with its rows.
type List struct {
	Watchlist
	Rows []Row
}

// List finds a watchlist by name, in any case. It must not be changed.
func (b *Book) List(ctx context.Context, name string) (*List, error) {
	key := strings.ToLower(name)
	b.mu.Lock()
	list, version := b.lists[key], b.Version()
	b.mu.Unlock()
	if list != nil {
		return list, nil
	}
	w, err := b.store.Watchlist(ctx, name)
	if err != nil {
		return nil, err
	}
	rows, err := b.store.Rows(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	list = &List{w, rows}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.Version() == version { // else it may have changed while it was read
		b.lists[key] = list
	}
	return list, nil
}

// ForgetLists makes the next [Book.List] read anew, after a change made here.
func (b *Book) ForgetLists() {
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.lists)
	b.version.Add(1)
}

// heed acts on a notification: a word and a number.
func (b *Book) heed(ctx context.Context, payload string) error {
	what, number, _ := strings.Cut(payload, " ")
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return nil // not ours
	}
	switch what {
	case "request":
		if err := b.heedRequests(ctx, "id = $1", id); err != nil {
			return err
		}
	case "attempts":
		b.forget()
	case "sources":
		if err := b.readPreferences(ctx); err != nil {
			return err
		}
	case "watchlist":
		b.ForgetLists()
	case "refresh":
		if err := b.readInFlight(ctx); err != nil {
			return err
		}
		b.mu.Lock()
		due := b.now().Sub(b.learnedAt) >= learnEvery
		b.mu.Unlock()
		if due {
			if err := b.learnWeekends(ctx); err != nil {
				return err
			}
		}
	}
	b.listeners.tell(what, id)
	return nil
}

// recent is how many of the newest requests the book remembers to have heeded.
// Requests are numbered when they begin to be stored and appear when they are
// whole, so a lower number may appear after a higher one; never by this many.
const recent = 1000

// heedRequests marks what stored responses changed as no longer current. One
// call at a time: who catches up must not return while another is still reading.
func (b *Book) heedRequests(ctx context.Context, where string, args ...any) error {
	b.heeding.Lock()
	defer b.heeding.Unlock()
	rows, err := b.store.Pool.Query(ctx, "select id, datasets, listings from request where "+where+" order by id", args...)
	if err != nil {
		return err
	}
	directory := false
	var request int64
	var datasets []string
	var listings []int64
	_, err = pgx.ForEachRow(rows, []any{&request, &datasets, &listings}, func() error {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.newest = max(b.newest, request)
		b.heeded[request] = true
		for _, dataset := range datasets {
			directory = directory || dataset == string(catalogue.Listings)
			for _, listing := range listings {
				delete(b.loaded[catalogue.Dataset(dataset)], listing)
			}
		}
		b.version.Add(1)
		return nil
	})
	if err == nil && directory {
		err = b.readDirectory(ctx)
	}
	return err
}

// CatchUp reads what has been stored and whose notification is still on its way.
func (b *Book) CatchUp(ctx context.Context) error {
	b.mu.Lock()
	since := b.newest - recent
	maps.DeleteFunc(b.heeded, func(id int64, _ bool) bool { return id <= since })
	known := slices.Collect(maps.Keys(b.heeded))
	b.mu.Unlock()
	if err := b.heedRequests(ctx, "id > $1 and id <> all($2)", since, known); err != nil {
		return err
	}
	return b.readInFlight(ctx)
}

// listeners hand notifications on within the process.
type listeners struct {
	mu  sync.Mutex
	all map[chan struct{}]func(what string, id int64) bool
}

// Listen returns a channel that receives when something that concerns happens,
// at once or after; end it with stop. Several happenings may come as one.
func (b *Book) Listen(concerns func(what string, id int64) bool) (happened <-chan struct{}, stop func()) {
	ch := make(chan struct{}, 1)
	b.listeners.mu.Lock()
	defer b.listeners.mu.Unlock()
	if b.listeners.all == nil {
		b.listeners.all = map[chan struct{}]func(string, int64) bool{}
	}
	b.listeners.all[ch] = concerns
	return ch, func() {
		b.listeners.mu.Lock()
		defer b.listeners.mu.Unlock()
		delete(b.listeners.all, ch)
	}
}

func (l *listeners) tell(what string, id int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for ch, concerns := range l.all {
		if what == "everything" || concerns(what, id) {
			select {
			case ch <- struct{}{}:
			default:
			}
		}
	}
}
