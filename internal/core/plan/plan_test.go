package plan

import (
	"fmt"
	"math/rand/v2"
	"reflect"
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

func randomCase(r *rand.Rand) ([]Need, []Source) {
	var needs []Need
	for i := range r.IntN(300) {
		n := Need{
			Dataset: catalogue.Datasets[r.IntN(3)], Symbol: market.Symbol{Ticker: fmt.Sprint("T", i%200), Exchange: "XCVH"},
			Held: r.IntN(4) == 0, Seen: start.Add(time.Duration(r.IntN(100)) * time.Hour),
		}
		if n.Dataset == catalogue.Bars {
			n.From = period.Date(20000 + r.IntN(300))
			n.To = n.From + period.Date(r.IntN(60))
		}
		if r.IntN(3) == 0 {
			n.NotDue = "fresh"
		}
		needs = append(needs, n)
	}
	var sources []Source
	for i := range r.IntN(3) {
		s := Source{Name: fmt.Sprint("s", i), Limited: r.IntN(2) == 0, UnitsLeft: r.IntN(400), PerSecond: float64(r.IntN(4)), Concurrent: r.IntN(5), Latency: 300 * time.Millisecond}
		for _, d := range catalogue.Datasets {
			if r.IntN(3) > 0 {
				s.Offers = append(s.Offers, Offer{d, 1 + r.IntN(50), r.IntN(5), r.IntN(3)})
			}
		}
		sources = append(sources, s)
	}
	return needs, sources
}

func key(n Need) string { return string(n.Dataset) + " " + n.Symbol.String() }

// The rules that every plan keeps, over random needs, sources and allowances.
func TestRulesOfAPlan(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		needs, sources := randomCase(r)
		p := Make(needs, sources)
		due := map[string]bool{}
		for _, n := range needs {
			if n.NotDue == "" {
				due[key(n)] = true
			}
		}
		met := map[string]int{}
		type served struct {
			source  string
			dataset catalogue.Dataset
		}
		requests, symbols, units := map[served]int{}, map[served]int{}, map[string]int{}
		for _, q := range p.Requests {
			var source *Source
			for i := range sources {
				if sources[i].Name == q.Source {
					source = &sources[i]
				}
			}
			o := source.offer(q.Dataset)
			if len(q.Needs) == 0 || len(q.Needs) > o.Batch {
				t.Fatalf("%d symbols in a request that takes %d", len(q.Needs), o.Batch)
			}
			for _, n := range q.Needs {
				met[key(n)]++
				if n.From < q.From || n.To > q.To {
					t.Fatalf("the request's range %v..%v leaves out %v..%v", q.From, q.To, n.From, n.To)
				}
			}
			requests[served{q.Source, q.Dataset}]++
			symbols[served{q.Source, q.Dataset}] += len(q.Needs)
			units[q.Source] += q.Units
		}
		for _, f := range p.Refused {
			met[key(f.Need)]++
			if f.Reason != cell.NotCovered && f.Reason != cell.AllowanceSpent {
				t.Fatalf("refused for %s", f.Reason)
			}
		}
		for k := range due {
			if met[k] != 1 {
				t.Fatalf("%s is planned or refused %d times, want once", k, met[k])
			}
		}
		for k := range met {
			if !due[k] {
				t.Fatalf("%s is asked for though it is not due", k)
			}
		}
		for i := range sources {
			s := &sources[i]
			if s.Limited && units[s.Name] > s.UnitsLeft {
				t.Fatalf("%s: %d units planned, %d left", s.Name, units[s.Name], s.UnitsLeft)
			}
			if units[s.Name] != p.Units[s.Name] {
				t.Fatalf("%s: cost %d, requests add up to %d", s.Name, p.Units[s.Name], units[s.Name])
			}
			for _, o := range s.Offers {
				k := served{s.Name, o.Dataset}
				if least := (symbols[k] + o.Batch - 1) / o.Batch; requests[k] != least {
					t.Fatalf("%d requests for %d symbols, %d would do", requests[k], symbols[k], least)
				}
			}
		}
		if again := Make(needs, sources); !reflect.DeepEqual(p, again) {
			t.Fatal("the same needs give another plan")
		}
		r.Shuffle(len(needs), func(i, j int) { needs[i], needs[j] = needs[j], needs[i] })
		if again := Make(needs, sources); len(again.Requests) != len(p.Requests) || len(again.Refused) != len(p.Refused) {
			t.Fatal("the order of the needs changes the plan")
		}
	}
}

func TestFiveHundredNamesTakeFiveRequestsInTheLeastTime(t *testing.T) {
	var needs []Need
	for i := range 500 {
		needs = append(needs, Need{Dataset: catalogue.Quotes, Symbol: market.Symbol{Ticker: fmt.Sprint("T", i), Exchange: "XCVH"}, Held: i >= 480})
	}
	source := Source{
		Name: "gannet", PerSecond: 5, Concurrent: 4, Latency: 300 * time.Millisecond, Limited: true, UnitsLeft: 1000,
		Offers: []Offer{{catalogue.Quotes, 100, 0, 1}},
	}
	p := Make(needs, []Source{source})
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
	source.UnitsLeft = 150
	p = Make(needs, []Source{source})
	if len(p.Requests) != 2 || len(p.Refused) != 350 || !p.Requests[0].Needs[19].Held || p.Refused[0].Reason != cell.AllowanceSpent {
		t.Errorf("with 150 units: %d requests, %d refused", len(p.Requests), len(p.Refused))
	}
}

func TestAssessAsksOnlyForWhatIsDue(t *testing.T) {
	e := &market.Exchange{Code: "XCVH", Zone: time.UTC, Opens: 9 * 60, Closes: 17 * 60, Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true}}
	friday := period.MakeDate(2026, 3, 6)
	record := func(quoted, asked time.Time, outcome cell.Reason) *table.Record {
		r := &table.Record{Listing: &market.Listing{Symbol: market.Symbol{Ticker: "A", Exchange: "XCVH"}}, Exchange: e}
		if !quoted.IsZero() {
			r.Feeds[table.Quotes].Observation = &table.Observation{Observed: quoted, Fetched: quoted}
		}
		if !asked.IsZero() {
			r.Feeds[table.Quotes].Attempt = &table.Attempt{At: asked, Outcome: outcome}
		}
		return r
	}
	closing, earlier := friday.In(time.UTC, 17, 0), friday.AddDays(-3).In(time.UTC, 17, 0)
	for _, c := range []struct {
		why string
		r   *table.Record
		ask Ask
		due bool
	}{
		{"never fetched", record(time.Time{}, time.Time{}, 0), Ask{}, true},
		{"fresh", record(closing, closing, 0), Ask{}, false},
		{"fresh but forced", record(closing, closing, 0), Ask{Force: true}, true},
		{"forced, but asked since the refresh began", record(closing, start, 0), Ask{Force: true, Since: start}, false},
		{"stale", record(earlier, earlier, 0), Ask{}, true},
		{"stale, and the source had nothing newer just now", record(earlier, start.Add(-time.Minute), 0), Ask{}, false},
		{"stale, and the source failed just now", record(earlier, start.Add(-time.Minute), cell.FetchFailed), Ask{}, true},
		{"not covered an hour ago", record(time.Time{}, start.Add(-time.Hour), cell.NotCovered), Ask{}, false},
		{"not covered two days ago", record(time.Time{}, start.Add(-48*time.Hour), cell.NotCovered), Ask{}, true},
	} {
		c.ask.Datasets = []catalogue.Dataset{catalogue.Quotes}
		n := Assess([]*table.Record{c.r}, c.ask, start, freshness.Standard)[0]
		if (n.NotDue == "") != c.due {
			t.Errorf("%s: not due because %q", c.why, n.NotDue)
		}
	}

	ask := Ask{Datasets: []catalogue.Dataset{catalogue.Bars}}
	r := record(time.Time{}, time.Time{}, 0)
	if n := Assess([]*table.Record{r}, ask, start, freshness.Standard)[0]; n.To != friday || n.From != friday.AddDays(-380) {
		t.Errorf("a first history is %s..%s", n.From, n.To)
	}
	r.Bars = &series.Bars{}
	r.Bars.Append(friday.AddDays(-2), 1, 1, 1, 1, 1)
	r.Feeds[table.Bars] = table.Feed{Observation: &table.Observation{Observed: earlier}, Attempt: &table.Attempt{At: earlier, From: friday.AddDays(-400)}}
	if n := Assess([]*table.Record{r}, ask, start, freshness.Standard)[0]; n.To != friday || n.From != friday.AddDays(-1) || n.NotDue != "" {
		t.Errorf("an extension is %s..%s, not due because %q", n.From, n.To, n.NotDue)
	}
}
