package plan

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

var start = time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)

var exchanges = market.Exchanges{"XCVH": weekdays("XCVH"), "XNMK": weekdays("XNMK"), "XTSG": weekdays("XTSG")}

func weekdays(code string) *market.Exchange {
	return &market.Exchange{Code: code, Zone: time.UTC, Opens: 9 * 60, Closes: 17 * 60, Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true}}
}

var datasets = []catalogue.Dataset{catalogue.Quotes, catalogue.Bars, catalogue.Splits, catalogue.Profiles}

func pick[T any](r *rand.Rand, from ...T) T { return from[r.IntN(len(from))] }

func randomNeeds(r *rand.Rand, count, names int, from []catalogue.Dataset) []Need {
	var needs []Need
	for range count {
		n := Need{
			Dataset: pick(r, from...), Kind: market.Share, Held: r.IntN(4) == 0, Visible: r.IntN(3) == 0, Seen: start.Add(time.Duration(r.IntN(100)) * time.Hour),
			Symbol: market.Symbol{Ticker: fmt.Sprint("T", r.IntN(names)), Exchange: pick(r, "XCVH", "XNMK", "XTSG")},
		}
		if n.Dataset == catalogue.Bars {
			n.To = period.Date(20300 + r.IntN(3))
			n.From = n.To - period.Date(r.IntN(60))
			if r.IntN(2) == 0 {
				n.Known = []Known{{Source: "s0", Covered: period.Spans{}.Add(period.Span{From: n.From, To: n.From + period.Date(r.IntN(20))})}}
			}
		}
		switch r.IntN(8) {
		case 0:
			n.NotDue = "fresh"
		case 1:
			n.Known = append(n.Known, Known{Source: pick(r, "s1", "s2"), Wait: "asked a minute ago"})
		}
		for _, same := range needs { // a name in two lists: the same is known of it
			if same.Dataset == n.Dataset && same.Symbol == n.Symbol {
				n.Known, n.Seen, n.Kind = same.Known, same.Seen, same.Kind
			}
		}
		needs = append(needs, n)
	}
	return needs
}

func randomWorld(r *rand.Rand) *World {
	w := &World{Exchanges: exchanges, Prefer: map[catalogue.Dataset][]string{}}
	for i := range r.IntN(4) {
		s := Source{Name: fmt.Sprint("s", i), Limited: r.IntN(2) == 0, UnitsLeft: r.IntN(400), PerSecond: float64(r.IntN(4)), Concurrent: r.IntN(5), Latency: 300 * time.Millisecond}
		for _, d := range datasets {
			if r.IntN(3) > 0 {
				c := Call{Name: string(d), Serves: []catalogue.Dataset{d}, Batch: 1 + r.IntN(50), Length: pick(r, 0, 0, 40, 200), UnitsPerRequest: r.IntN(5), UnitsPerSymbol: r.IntN(3)}
				if d == catalogue.Bars {
					c.Days = pick(r, 0, 0, 10, 25)
				}
				s.Calls = append(s.Calls, c)
			}
			if d != catalogue.Bars && r.IntN(3) == 0 {
				s.Calls = append(s.Calls, Call{Name: string(d) + " of an exchange", Serves: []catalogue.Dataset{d}, Takes: Exchange, UnitsPerRequest: r.IntN(60)})
			}
		}
		if r.IntN(3) == 0 {
			s.Calls = append(s.Calls, Call{Name: "days", Serves: []catalogue.Dataset{catalogue.Bars}, Takes: Day, UnitsPerRequest: r.IntN(9)})
		}
		if r.IntN(2) == 0 {
			s.Calls = append(s.Calls, Call{Name: "history", Serves: []catalogue.Dataset{catalogue.Bars, catalogue.Splits}, Batch: 1 + r.IntN(30), UnitsPerRequest: r.IntN(4), UnitsPerSymbol: r.IntN(4)})
		}
		if r.IntN(4) == 0 {
			s.Closed = "has no key"
		}
		if r.IntN(3) == 0 {
			s.Covers = func(x market.Symbol) bool { return x.Exchange != "XTSG" }
		}
		s.Length = func(x market.Symbol) int { return len(x.String()) + 1 }
		w.Sources = append(w.Sources, s)
	}
	if len(w.Sources) > 1 {
		w.Prefer[catalogue.Quotes] = []string{"s1"}
	}
	return w
}

func key(n *Need) string { return fmt.Sprint(n.Dataset, " ", n.Symbol, " ", n.Only) }

func (w *World) find(name string) *Source {
	return &w.Sources[slices.IndexFunc(w.Sources, func(s Source) bool { return s.Name == name })]
}

// The rules that every plan keeps, over random needs, sources, limits and allowances.
func TestRulesOfAPlan(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	refusedFor, served := map[cell.Reason]int{}, map[Takes]int{}
	for range 1000 {
		needs, w := randomNeeds(r, r.IntN(200), 80, datasets), randomWorld(r)
		p := Make(needs, w)
		due := map[string]bool{}
		for i := range needs {
			if needs[i].NotDue == "" {
				due[key(&needs[i])] = true
			}
		}
		met, asked := map[string]int{}, map[string]period.Spans{}
		units := map[string]int{}
		for _, q := range p.Requests {
			s := w.find(q.Source)
			c := &s.Calls[slices.IndexFunc(s.Calls, func(c Call) bool { return c.Name == q.Call })]
			served[c.Takes]++
			length := 0
			for _, x := range q.Symbols() {
				length += s.Length(x)
			}
			switch {
			case len(q.Needs) == 0, s.Closed != "":
				t.Fatalf("%s: a request for nothing, or to a source that is closed", q.Call)
			case c.Takes == Symbols && (len(q.Symbols()) > c.Batch || c.Length > 0 && length > c.Length && len(q.Symbols()) > 1):
				t.Fatalf("%d symbols of %d characters in a request that takes %d of %d", len(q.Symbols()), length, c.Batch, c.Length)
			case c.Days > 0 && (period.Span{From: q.From, To: q.To}).Days() > c.Days:
				t.Fatalf("%v to %v in a request that takes %d days", q.From, q.To, c.Days)
			}
			for i := range q.Needs {
				n := &q.Needs[i]
				k := key(n)
				if n.Along {
					if len(c.Serves) < 2 || !c.serves(n.Dataset) {
						t.Fatalf("%s is brought along by a call that does not serve it", k)
					}
					continue
				}
				if c.Takes != Symbols && n.Symbol.Exchange != q.Exchange || !c.serves(n.Dataset) || !s.Offers(n) || n.known(s.Name) != nil && n.known(s.Name).Wait != "" {
					t.Fatalf("%s is asked of %s, call %s, exchange %s", k, q.Source, q.Call, q.Exchange)
				}
				if n.Dataset != catalogue.Bars {
					met[k]++
					continue
				}
				asked[q.Source+"|"+k] = asked[q.Source+"|"+k].Add(period.Span{From: q.From, To: q.To})
				met[k] = 1
			}
			units[q.Source] += q.Units
		}
		// Of a history every session that lacks is asked for, of one source.
		for _, q := range p.Requests {
			for i := range q.Needs {
				n := &q.Needs[i]
				if n.Dataset != catalogue.Bars {
					continue
				}
				for _, gap := range asked[q.Source+"|"+key(n)].Lacking(n.lacking(q.Source)) {
					for d := gap.From; d <= gap.To; d++ {
						if exchanges[n.Symbol.Exchange].Trades(d) {
							t.Fatalf("%s: nobody asks for %v", key(n), d)
						}
					}
				}
			}
		}
		for _, f := range p.Refused {
			met[key(&f.Need)]++
			refusedFor[f.Reason]++
		}
		skipped := map[string]bool{}
		for i := range p.Skipped {
			skipped[key(&p.Skipped[i])] = true
		}
		for k := range due {
			if met[k] != 1 && !skipped[k] {
				t.Fatalf("%s is planned or refused %d times, want once", k, met[k])
			}
		}
		for k := range met {
			if !due[k] || skipped[k] {
				t.Fatalf("%s is asked for though it is not due", k)
			}
		}
		for i := range w.Sources {
			s := &w.Sources[i]
			if s.Limited && units[s.Name] > s.UnitsLeft {
				t.Fatalf("%s: %d units planned, %d left", s.Name, units[s.Name], s.UnitsLeft)
			}
			if units[s.Name] != p.Units[s.Name] {
				t.Fatalf("%s: cost %d, requests add up to %d", s.Name, p.Units[s.Name], units[s.Name])
			}
		}
		for i := 1; i < len(p.Requests); i++ {
			if byWorth(&p.Requests[i-1].Needs[0], &p.Requests[i].Needs[0]) > 0 {
				t.Fatal("a request of less worth comes first")
			}
		}
		if again := Make(needs, w); !reflect.DeepEqual(p, again) {
			t.Fatal("the same needs give another plan")
		}
		r.Shuffle(len(needs), func(i, j int) { needs[i], needs[j] = needs[j], needs[i] })
		if again := Make(needs, w); len(again.Requests) != len(p.Requests) || len(again.Refused) != len(p.Refused) {
			t.Fatal("the order of the needs changes the plan")
		}
	}
	for _, reason := range []cell.Reason{cell.NotCovered, cell.AllowanceSpent, cell.SourceDown} {
		if refusedFor[reason] == 0 {
			t.Errorf("no need was ever refused for %s", reason)
		}
	}
	if served[Symbols] == 0 || served[Exchange] == 0 || served[Day] == 0 {
		t.Errorf("requests by what they take: %v", served)
	}
}

// exhaustive is the least cost of meeting needs from one source: it tries every
// way of putting them into requests.
func exhaustive(needs []Need, s *Source) cost {
	least := cost{1 << 30, 1 << 30}
	var blocks [][]Need
	var place func(k int)
	place = func(k int) {
		if k == len(needs) {
			total := cost{}
			for _, b := range blocks {
				c, ok := cheapest(b, s)
				if !ok {
					return
				}
				total = total.plus(c)
			}
			if total.less(least) {
				least = total
			}
			return
		}
		for i := range blocks {
			blocks[i] = append(blocks[i], needs[k])
			place(k + 1)
			blocks[i] = blocks[i][:len(blocks[i])-1]
		}
		blocks = append(blocks, []Need{needs[k]})
		place(k + 1)
		blocks = blocks[:len(blocks)-1]
	}
	place(0)
	return least
}

// cheapest is the cost of one request for a block of needs, of whichever call can take it.
func cheapest(block []Need, s *Source) (least cost, ok bool) {
	symbols, codes := map[market.Symbol]bool{}, map[string]bool{}
	length := 0
	for _, n := range block {
		if !symbols[n.Symbol] {
			length += s.Length(n.Symbol)
		}
		symbols[n.Symbol], codes[n.Symbol.Exchange] = true, true
	}
	for i := range s.Calls {
		c := &s.Calls[i]
		fits := !slices.ContainsFunc(block, func(n Need) bool { return !c.serves(n.Dataset) })
		if c.Takes == Symbols {
			fits = fits && len(symbols) <= c.Batch && (c.Length == 0 || length <= c.Length || len(symbols) == 1)
		} else {
			fits = fits && len(codes) == 1
		}
		if k := (cost{c.UnitsPerRequest + c.UnitsPerSymbol*len(symbols), 1}); fits && (!ok || k.less(least)) {
			least, ok = k, true
		}
	}
	return least, ok
}

// A plan costs no more than the cheapest that trying everything finds: in lists
// and whole exchanges of one dataset, and where a call serves two at once.
func TestNoCheaperPlanExists(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	wholes, joint := 0, 0
	for range 1500 {
		s := Source{Name: "s0", Length: func(x market.Symbol) int { return len(x.Ticker) + 1 }}
		of := []catalogue.Dataset{catalogue.Quotes}
		s.Calls = []Call{{Name: "list", Serves: of, Batch: 1 + r.IntN(4), Length: pick(r, 0, 0, 6, 9), UnitsPerRequest: r.IntN(4), UnitsPerSymbol: r.IntN(3)}}
		if r.IntN(2) == 0 {
			s.Calls = append(s.Calls, Call{Name: "exchange", Serves: of, Takes: Exchange, UnitsPerRequest: r.IntN(9)})
		}
		if r.IntN(2) == 0 { // all listings need both, so they are one class
			of = []catalogue.Dataset{catalogue.Quotes, catalogue.Profiles}
			s.Calls = []Call{
				{Name: "quotes", Serves: of[:1], Batch: 1 + r.IntN(4), UnitsPerRequest: r.IntN(4), UnitsPerSymbol: r.IntN(3)},
				{Name: "profiles", Serves: of[1:], Batch: 1 + r.IntN(4), UnitsPerRequest: r.IntN(4), UnitsPerSymbol: r.IntN(3)},
				{Name: "both", Serves: of, Batch: 1 + r.IntN(4), UnitsPerRequest: r.IntN(6), UnitsPerSymbol: r.IntN(5)},
			}
		}
		var needs []Need
		for i := range 1 + r.IntN(6/len(of)) {
			for _, d := range of {
				needs = append(needs, Need{Dataset: d, Kind: market.Share, Symbol: market.Symbol{Ticker: fmt.Sprint("TICKER"[:1+r.IntN(4)], i), Exchange: pick(r, "XCVH", "XNMK")}})
				if len(of) > 1 {
					needs[len(needs)-1].Symbol = market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}
				}
			}
		}
		p := Make(needs, &World{Sources: []Source{s}, Exchanges: exchanges})
		got := cost{p.Units["s0"], len(p.Requests)}
		for _, q := range p.Requests {
			if q.Call == "exchange" {
				wholes++
			}
			if q.Call == "both" {
				joint++
			}
		}
		if least := exhaustive(needs, &s); got != least {
			t.Fatalf("%d needs of %+v\ncost %v, %v is possible", len(needs), s.Calls, got, least)
		}
	}
	if wholes == 0 || joint == 0 {
		t.Errorf("%d whole exchanges and %d joint calls were chosen", wholes, joint)
	}
}

// Over several sources a plan takes no more requests than serving each need from
// its preferred source would.
func TestSeveralSourcesAreNeverWorseThanThePreferred(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 300 {
		needs, w := randomNeeds(r, r.IntN(100), 60, []catalogue.Dataset{catalogue.Quotes}), randomWorld(r)
		for i := range w.Sources {
			w.Sources[i].Limited = false
		}
		p := Make(needs, w)
		apart := 0
		for _, i := range w.order(catalogue.Quotes) {
			var own []Need
			for _, n := range merged(needs) {
				x := pendingNeed{Need: n}
				if at, ok := x.next(w.order(catalogue.Quotes), w); ok && at == i && n.NotDue == "" {
					own = append(own, n)
				}
			}
			if len(own) > 0 {
				apart += len(cover(own, &w.Sources[i], w))
			}
		}
		if len(p.Requests) > apart {
			t.Fatalf("%d requests, %d would do", len(p.Requests), apart)
		}
	}
}

// With less allowance the plan keeps the most valuable needs: none that is
// refused is worth more than one that is kept.
func TestTheMostValuableNeedsAreKept(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 300 {
		needs := randomNeeds(r, 60, 60, datasets)
		for i := range needs {
			needs[i].Known, needs[i].NotDue = nil, ""
		}
		s := Source{Name: "s0", Limited: true, UnitsLeft: r.IntN(80)}
		for _, d := range datasets {
			s.Calls = append(s.Calls, Call{Name: string(d), Serves: []catalogue.Dataset{d}, Batch: 7, UnitsPerSymbol: 1 + r.IntN(3)})
		}
		p := Make(needs, &World{Sources: []Source{s}, Exchanges: exchanges})
		for _, f := range p.Refused {
			for _, q := range p.Requests {
				for i := range q.Needs {
					if byWorth(&f.Need, &q.Needs[i]) < 0 {
						t.Fatalf("%s is refused and %s is kept", key(&f.Need), key(&q.Needs[i]))
					}
				}
			}
		}
	}
}

// What the first source cannot pay for goes to the second.
func TestAllowanceFallsThroughToTheNextSource(t *testing.T) {
	var needs []Need
	for i := range 10 {
		needs = append(needs, Need{Dataset: catalogue.Quotes, Kind: market.Share, Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Held: i >= 7})
	}
	quotes := []catalogue.Dataset{catalogue.Quotes}
	w := &World{Exchanges: exchanges, Sources: []Source{
		{Name: "first", Limited: true, UnitsLeft: 3, Calls: []Call{{Name: "q", Serves: quotes, Batch: 5, UnitsPerSymbol: 1}}},
		{Name: "second", Limited: true, UnitsLeft: 5, Calls: []Call{{Name: "q", Serves: quotes, Batch: 5, UnitsPerSymbol: 1}}},
	}}
	p := Make(needs, w)
	if p.Units["first"] != 3 || p.Units["second"] != 5 || len(p.Refused) != 2 || p.Refused[0].Reason != cell.AllowanceSpent || !p.Requests[0].Needs[2].Held {
		t.Errorf("%+v, refused %+v", p.Units, p.Refused)
	}
}

func TestFiveHundredNamesTakeFiveRequestsInTheLeastTime(t *testing.T) {
	var needs []Need
	for i := range 500 {
		needs = append(needs, Need{Dataset: catalogue.Quotes, Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Held: i >= 480})
	}
	source := Source{
		Name: "gannet", PerSecond: 5, Concurrent: 4, Latency: 300 * time.Millisecond, Limited: true, UnitsLeft: 1000,
		Calls: []Call{{Name: "quotes", Serves: []catalogue.Dataset{catalogue.Quotes}, Batch: 100, UnitsPerSymbol: 1}},
	}
	p := Make(needs, &World{Sources: []Source{source}, Exchanges: exchanges})
	if len(p.Requests) != 5 || p.Units["gannet"] != 500 {
		t.Fatalf("%d requests, %d units", len(p.Requests), p.Units["gannet"])
	}
	// The fifth starts 4/5 s after the first and takes 0.3 s.
	if p.Duration() != 1100*time.Millisecond {
		t.Errorf("expected time %s", p.Duration())
	}
	for i := range 20 {
		if !p.Requests[0].Needs[i].Held {
			t.Fatalf("need %d of the first request is not one of the held", i)
		}
	}
}

// A day that all names lack is asked for day by day where that is cheaper, and a
// year is not.
func TestOneDayForAllOrAHistoryForEach(t *testing.T) {
	bars := []catalogue.Dataset{catalogue.Bars}
	s := Source{Name: "s", Calls: []Call{
		{Name: "history", Serves: bars, Batch: 100, UnitsPerSymbol: 2},
		{Name: "day", Serves: bars, Takes: Day, UnitsPerRequest: 40},
	}}
	for _, c := range []struct {
		days int
		want string
	}{{1, "day"}, {4, "day"}, {300, "history"}} {
		var needs []Need
		friday := period.MakeDate(2026, 3, 6)
		for i := range 120 {
			needs = append(needs, Need{Dataset: catalogue.Bars, From: friday.AddDays(1 - c.days), To: friday, Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}})
		}
		if p := Make(needs, &World{Sources: []Source{s}, Exchanges: exchanges}); p.Requests[0].Call != c.want {
			t.Errorf("%d days are asked for by %s", c.days, p.Requests[0].Call)
		}
	}
}

func TestAssessAsksOnlyForWhatIsDue(t *testing.T) {
	friday := period.MakeDate(2026, 3, 6)
	record := func(quoted, asked time.Time, outcome cell.Reason) *table.Record {
		r := &table.Record{Listing: &market.Listing{Kind: market.Share, Symbol: market.Symbol{Ticker: "A", Exchange: "XCVH"}}, Exchange: exchanges["XCVH"]}
		g := table.Given{Source: "s0"}
		if !quoted.IsZero() {
			g.Observation = &table.Observation{Observed: quoted, Fetched: quoted}
		}
		if !asked.IsZero() {
			g.Attempt = &table.Attempt{Source: "s0", At: asked, Outcome: outcome}
		}
		if !quoted.IsZero() || !asked.IsZero() {
			r.Feeds[table.FeedOf(catalogue.Quotes)].From = []table.Given{g}
		}
		return r
	}
	closing, earlier := friday.In(time.UTC, 17, 0), friday.AddDays(-3).In(time.UTC, 17, 0)
	one := &World{Sources: []Source{{Name: "s0", Calls: []Call{{Serves: datasets}}}}, Exchanges: exchanges}
	two := &World{Sources: []Source{one.Sources[0], {Name: "s1", Calls: []Call{{Serves: datasets}}}}, Exchanges: exchanges}
	for _, c := range []struct {
		why   string
		r     *table.Record
		ask   Ask
		of    string // the source that is asked, of one
		ofTwo string // and of two
	}{
		{"never fetched", record(time.Time{}, time.Time{}, 0), Ask{}, "s0", "s0"},
		{"fresh", record(closing, closing, 0), Ask{}, "", ""},
		{"fresh but forced", record(closing, closing, 0), Ask{Force: true}, "s0", "s0"},
		{"forced, but asked since the refresh began", record(closing, start, 0), Ask{Force: true, Since: start}, "", ""},
		{"stale", record(earlier, earlier, 0), Ask{}, "s0", "s0"},
		{"stale, and the source had nothing newer just now", record(earlier, start.Add(-time.Minute), 0), Ask{}, "", "s1"},
		{"stale, and the source failed just now", record(earlier, start.Add(-time.Minute), cell.FetchFailed), Ask{}, "s0", "s0"},
		{"failed in this refresh", record(earlier, start, cell.FetchFailed), Ask{Since: start}, "", "s1"},
		{"answered in this refresh, without anything newer", record(earlier, start, 0), Ask{Since: start}, "", ""},
		{"not covered an hour ago", record(time.Time{}, start.Add(-time.Hour), cell.NotCovered), Ask{}, "", "s1"},
		{"not covered two days ago", record(time.Time{}, start.Add(-48*time.Hour), cell.NotCovered), Ask{}, "s0", "s0"},
	} {
		c.ask.Datasets = []catalogue.Dataset{catalogue.Quotes}
		needs := Assess([]*table.Record{c.r}, c.ask, start, freshness.Standard)
		for world, want := range map[*World]string{one: c.of, two: c.ofTwo} {
			got := ""
			if p := Make(needs, world); len(p.Requests) > 0 {
				got = p.Requests[0].Source
			}
			if got != want {
				t.Errorf("%s: asked of %q of %d sources, want %q", c.why, got, len(world.Sources), want)
			}
		}
	}
}

func TestHistoriesAreExtendedAndHolesFilled(t *testing.T) {
	friday := period.MakeDate(2026, 3, 6)
	r := &table.Record{Listing: &market.Listing{Kind: market.Share, Symbol: market.Symbol{Ticker: "A", Exchange: "XCVH"}}, Exchange: exchanges["XCVH"]}
	w := &World{Sources: []Source{{Name: "s0", Calls: []Call{{Serves: datasets}}}}, Exchanges: exchanges}
	year := friday.AddDays(-historyDays)
	covered := func(days ...period.Date) (s period.Spans) {
		for i := 0; i < len(days); i += 2 {
			s = s.Add(period.Span{From: days[i], To: days[i+1]})
		}
		return s
	}
	for _, c := range []struct {
		why      string
		covered  period.Spans
		back     period.Date
		from, to period.Date // 0: nothing is asked for
	}{
		{"nothing is there", nil, 0, year, friday},
		{"two sessions lack at the end", covered(year, friday-2), 0, friday - 1, friday},
		{"all is there", covered(year-9, friday), 0, 0, 0},
		{"a hole", covered(year, friday-100, friday-90, friday), 0, friday - 99, friday - 91},
		{"a hole at a weekend alone", covered(year, friday-7, friday-4, friday), 0, 0, 0},
		{"a longer history is wanted", covered(year, friday), friday - 1000, friday - 1000, year - 1},
	} {
		bars := &series.Bars{}
		bars.Append(friday, 1, 1, 1, 1, 1)
		then := start.Add(-time.Hour)
		r.Feeds[table.FeedOf(catalogue.Bars)].From = []table.Given{{Source: "s0", Bars: bars, Observation: &table.Observation{Source: "s0", Fetched: then}, Attempt: &table.Attempt{Source: "s0", At: then, Covered: c.covered}}}
		if c.covered == nil {
			r.Feeds[table.FeedOf(catalogue.Bars)].From = nil
		}
		p := Make(Assess([]*table.Record{r}, Ask{Datasets: []catalogue.Dataset{catalogue.Bars}, From: c.back}, start, freshness.Standard), w)
		var from, to period.Date
		if len(p.Requests) > 0 {
			from, to = p.Requests[0].From, p.Requests[0].To
		}
		if from != c.from || to != c.to {
			t.Errorf("%s: asked for %v..%v, want %v..%v", c.why, from, to, c.from, c.to)
		}
	}
}

// A source that lists what it has in an index takes a turn for every document of it; one
// that is asked to be compared is not refused for what it does not serve.
func TestIndicesAndComparisons(t *testing.T) {
	share := func(ticker, only string) Need {
		return Need{Dataset: catalogue.Statements, Kind: market.Share, Symbol: market.Symbol{Ticker: ticker, Exchange: "XCVH"}, Only: only}
	}
	w := &World{Sources: []Source{
		{Name: "vendor", Calls: []Call{{Name: "statements", Serves: []catalogue.Dataset{catalogue.Statements}, Batch: 25}}, PerSecond: 2, Latency: 100 * time.Millisecond},
		{
			Name: "register", Calls: []Call{{Name: "filings", Serves: []catalogue.Dataset{catalogue.Statements}, Batch: 1, Pages: 11}}, PerSecond: 1, Latency: 100 * time.Millisecond,
			Covers: func(s market.Symbol) bool { return s.Ticker != "B" },
		},
	}}
	p := Make([]Need{share("A", ""), share("B", ""), share("A", "register"), share("B", "register")}, w)
	if len(p.Requests) != 2 || len(p.Refused) != 0 || len(p.Skipped) != 1 || p.Skipped[0].NotDue != "register does not serve it" {
		t.Errorf("requests %+v, refused %+v, skipped %+v", p.Requests, p.Refused, p.Skipped)
	}
	if p.Time["vendor"] != 100*time.Millisecond || p.Time["register"] != 10*time.Second+100*time.Millisecond {
		t.Errorf("expected to take %v", p.Time)
	}
}
