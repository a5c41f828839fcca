package refresh

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/robfig/cron/v3"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/store"
)

// tick is how often the engine looks at its timetables.
const tick = time.Second

// keepTime asks for the refreshes of schedules and streams when they are due.
func (e *Engine) keepTime(ctx context.Context) {
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if err := e.runSchedules(ctx); err != nil && ctx.Err() == nil && !e.book.Away() {
			slog.Warn("could not look for due schedules", "error", err)
		}
		e.runStreams(ctx)
	}
}

func (e *Engine) runSchedules(ctx context.Context) error {
	now := e.now()
	due, err := e.store.DueSchedules(ctx, now)
	if err != nil {
		return err
	}
	for _, s := range due {
		next, err := e.NextTime(ctx, s)
		if err != nil {
			slog.Warn("a schedule cannot be followed", "watchlist", s.WatchlistID, "error", err)
			next = nil
		}
		claimed, err := e.store.Claim(ctx, s, next, now)
		if err != nil {
			return err
		}
		if !claimed {
			continue // another instance has it
		}
		if _, err := e.Ask(ctx, store.Asked{Watchlist: &s.WatchlistID, Datasets: catalogue.Datasets, Cause: store.BySchedule}); err != nil {
			return err
		}
	}
	return nil
}

// ParseCron reads a schedule of five fields (minute, hour, day of month, month,
// day of week), in a time zone.
func ParseCron(text, zone string) (cron.Schedule, *time.Location, error) {
	location, err := time.LoadLocation(zone)
	if err != nil {
		return nil, nil, fmt.Errorf("%q is not a time zone: write it as Europe/London", zone)
	}
	s, err := cron.ParseStandard(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%q is not a schedule: write five fields, as \"0 8 * * 1-5\" for 8 o'clock from Monday to Friday (%w)", text, err)
	}
	return s, location, nil
}

// NextTime is when a schedule is due next; nil where it never is.
func (e *Engine) NextTime(ctx context.Context, s store.Schedule) (*time.Time, error) {
	var next time.Time
	if s.Cron != "" {
		schedule, zone, err := ParseCron(s.Cron, s.Zone)
		if err != nil {
			return nil, err
		}
		next = schedule.Next(e.now().In(zone))
	} else {
		exchanges, err := e.exchangesOf(ctx, s.WatchlistID)
		if err != nil {
			return nil, err
		}
		next = market.NextVisit(exchanges, e.now(), time.Duration(s.EveryS)*time.Second, e.limits.BarGrace)
	}
	if next.IsZero() {
		return nil, nil
	}
	return &next, nil
}

// exchangesOf are the exchanges of a watchlist's listings.
func (e *Engine) exchangesOf(ctx context.Context, watchlist int64) ([]*market.Exchange, error) {
	rows, err := e.store.Rows(ctx, watchlist)
	if err != nil {
		return nil, err
	}
	seen := map[*market.Exchange]bool{}
	var out []*market.Exchange
	for _, row := range rows {
		l := e.book.Directory().ByID(row.ListingID)
		if l == nil {
			continue
		}
		if x := e.book.Exchanges().Of(l); x != nil && !seen[x] {
			seen[x] = true
			out = append(out, x)
		}
	}
	return out, nil
}

// Stream is how the streaming of a watchlist's quotes stands.
type Stream struct {
	Live  bool
	Every time.Duration // while it is live
	Next  time.Time     // when quotes are asked for next, or when an exchange opens
	Why   string        // why it stands still
}

// streams are the watchlists that somebody is looking at.
type streams struct {
	mu  sync.Mutex
	all map[int64]*streaming
}

type streaming struct {
	viewers int
	next    time.Time // zero until it has been looked at once
	state   Stream
	changed chan struct{} // closed when the state changes
}

// fastest is how often streamed quotes are asked for when the allowance is no concern.
const fastest = time.Minute

// Watch streams a watchlist's quotes as long as somebody looks: until stop is called.
func (e *Engine) Watch(watchlist int64) (stop func()) {
	e.streams.mu.Lock()
	defer e.streams.mu.Unlock()
	if e.streams.all == nil {
		e.streams.all = map[int64]*streaming{}
	}
	s := e.streams.all[watchlist]
	if s == nil {
		s = &streaming{changed: make(chan struct{}), state: Stream{Why: "starting"}}
		e.streams.all[watchlist] = s
	}
	s.viewers++
	return func() {
		e.streams.mu.Lock()
		defer e.streams.mu.Unlock()
		if s.viewers--; s.viewers == 0 {
			delete(e.streams.all, watchlist)
		}
	}
}

// Streaming tells how a watched stream stands, and when that changes.
func (e *Engine) Streaming(watchlist int64) (Stream, <-chan struct{}) {
	e.streams.mu.Lock()
	defer e.streams.mu.Unlock()
	s := e.streams.all[watchlist]
	if s == nil {
		return Stream{Why: "nobody is looking"}, nil
	}
	return s.state, s.changed
}

func (e *Engine) runStreams(ctx context.Context) {
	now := e.now()
	e.streams.mu.Lock()
	due := map[int64]bool{} // and whether quotes are asked for: not at once, since pages are opened and closed
	for id, s := range e.streams.all {
		if !now.Before(s.next) {
			due[id] = !s.next.IsZero()
		}
	}
	e.streams.mu.Unlock()
	for id, fetch := range due {
		state := e.stream(ctx, id, now, fetch)
		e.streams.mu.Lock()
		if s := e.streams.all[id]; s != nil {
			if s.next = now.Add(fastest); state.Live || state.Next.After(now) && state.Next.Before(s.next) {
				s.next = state.Next
			}
			if s.state != state {
				s.state = state
				close(s.changed)
				s.changed = make(chan struct{})
			}
		}
		e.streams.mu.Unlock()
	}
}

// stream asks for a list's quotes once, if it is to, and says how it goes on.
func (e *Engine) stream(ctx context.Context, watchlist int64, now time.Time, fetch bool) Stream {
	exchanges, err := e.exchangesOf(ctx, watchlist)
	if err != nil {
		return Stream{Why: "the database does not answer"}
	}
	open, opens := false, time.Time{}
	for _, x := range exchanges {
		_, is := x.Current(now)
		open = open || is
		if s := x.Next(now); s.Date != 0 && (opens.IsZero() || s.Open.Before(opens)) {
			opens = s.Open
		}
	}
	if !open {
		return Stream{Next: opens, Why: "no exchange of this list is open"}
	}
	rows, err := e.store.Rows(ctx, watchlist)
	if err != nil {
		return Stream{Why: "the database does not answer"}
	}
	asked := store.Asked{Watchlist: &watchlist, Datasets: []catalogue.Dataset{catalogue.Quotes}, Visible: []catalogue.Dataset{catalogue.Quotes}, Force: true, Cause: store.ByStream}
	p, err := e.Preview(ctx, rows, asked)
	if err != nil {
		return Stream{Why: err.Error()}
	}
	if len(p.Requests) == 0 {
		return Stream{Why: "no source can be asked for quotes now"}
	}
	every, err := e.affordable(ctx, p.Units)
	if err != nil {
		return Stream{Why: err.Error()}
	}
	if every == 0 {
		return Stream{Why: "what is left of the day's allowance is kept for refreshes by hand"}
	}
	if fetch {
		if _, err := e.Ask(ctx, asked); err != nil {
			return Stream{Why: err.Error()}
		}
	}
	return Stream{Live: true, Every: every, Next: now.Add(every)}
}

// affordable is how often a stream may ask so that half of what is left of each
// allowance lasts until it starts anew; 0 where not even once.
func (e *Engine) affordable(ctx context.Context, units map[string]int) (time.Duration, error) {
	states, err := e.Sources(ctx)
	if err != nil {
		return 0, err
	}
	every := fastest
	for _, s := range states {
		cost := units[s.Name]
		if cost == 0 || s.Limits.UnitsPerDay == 0 {
			continue
		}
		times := s.Left / 2 / cost
		if times == 0 {
			return 0, nil
		}
		every = max(every, (s.Resets.Sub(e.now()) / time.Duration(times)).Round(time.Second))
	}
	return every, nil
}
