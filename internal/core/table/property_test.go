package table

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/series"
)

// randomRecord is a listing in any of the conditions a record can be in.
func randomRecord(r *rand.Rand, i int) *Record {
	rec := listed(fmt.Sprint("T", i), []string{"EUR", "EUR", "GBP"}[r.IntN(3)], 1+100*r.Float64(), 1+100*r.Float64())
	rec.Listing.Kind = market.Kinds[r.IntN(len(market.Kinds))]
	if r.IntN(6) == 0 {
		rec.Listing.Ended = friday.AddDays(-r.IntN(60))
	}
	if r.IntN(2) == 0 {
		rec.hold(1+float64(r.IntN(100)), 1+100*r.Float64())
	}
	if r.IntN(3) > 0 {
		b := &series.Bars{}
		for d := friday.AddDays(-r.IntN(500) - 1); d <= friday.AddDays(-r.IntN(3)*r.IntN(10)); d++ {
			if harbour.Trades(d) {
				x := 1 + 100*r.Float64()
				b.Append(d, x, x+1, max(x-1, 0.1), x, float64(r.IntN(10_000)))
			}
		}
		if b.Len() > 0 {
			rec.history(b)
		}
	}
	quotes, bars := FeedOf(catalogue.Quotes), FeedOf(catalogue.Bars)
	for feed := range rec.Feeds[:Holdings] {
		f := &rec.Feeds[feed]
		if len(f.From) == 0 {
			f.From = []Given{{Source: "gannet"}}
		}
		g := &f.From[0]
		switch r.IntN(8) {
		case 0:
			if feed != bars {
				g.Observation = nil
			}
		case 1:
			g.Attempt = &Attempt{At: saturday.Add(-time.Hour), Outcome: cell.Reason(r.IntN(int(cell.Rejected))), Detail: "x"}
		case 2:
			f.Refreshing = true
		case 3:
			if o := g.Observation; o != nil && feed == quotes {
				o.Values[r.IntN(len(o.Values))] = cell.Value{}
			}
		}
		if o := g.Observation; o != nil && feed == quotes && r.IntN(3) == 0 {
			o.Observed = o.Observed.AddDate(0, 0, -r.IntN(4))
		}
		if o := g.Observation; o != nil && feed == quotes && r.IntN(4) == 0 {
			other := *o
			other.Source, other.Values = "whimbrel", slices.Clone(o.Values)
			other.Values[0] = cell.Of(float64(1 + r.IntN(50)))
			f.From = append(f.From, Given{Source: "whimbrel", Observation: &other})
		}
	}
	return rec
}

func everything(t *testing.T) *Program {
	t.Helper()
	var refs []formula.Ref
	for i := range catalogue.Fields {
		refs = append(refs, formula.Ref{ID: catalogue.Fields[i].ID})
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Whatever the records are like, each cell has a value or a reason, never both
// lacking, and a derived cell is never in a better state than the inputs it used.
func TestEveryCellAccountsForItself(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	p := everything(t)
	seen := map[string]bool{}
	for range 100 {
		var records []*Record
		for i := range 25 {
			records = append(records, randomRecord(r, i))
		}
		tab := p.Evaluate(records, saturday, freshness.Standard)
		total := 0
		for i := range tab.Rows {
			row := &tab.Rows[i]
			for c := range p.Columns {
				x := &row.Cells[c]
				total++
				seen[x.State.String()+" "+x.Reason.String()] = true
				name := fmt.Sprintf("%s of %s", p.Columns[c].Ref, row.Record.Listing.Symbol)
				if x.Absent() != (x.State >= cell.Pending) {
					t.Fatalf("%s has a value beside its absence, or neither: %+v", name, x)
				}
				if (x.State == cell.Fresh) != (x.Reason == cell.NoReason) {
					t.Fatalf("%s: a state without its reason: %+v", name, x)
				}
				if x.Unit == "" {
					t.Fatalf("%s has no unit", name)
				}
				e := tab.Explain(row, c)
				if strings.Contains(e.Formula, "or_else") || strings.Contains(e.Formula, "share_of") || len(e.Inputs) == 0 {
					continue
				}
				for _, in := range e.Inputs {
					if in.Cell.State > x.State && x.Reason != cell.NotApplicable {
						t.Fatalf("%s is %s, its input %s is %s", name, x.State, in.Ref, in.Cell.State)
					}
				}
			}
		}
		if n := tab.Counts; n[0]+n[1]+n[2]+n[3] != total {
			t.Fatalf("counts %v of %d cells", n, total)
		}
	}
	for _, want := range []string{"fresh ", "stale ended", "stale session_passed", "stale source_down", "pending never_fetched", "missing ended", "missing never_fetched", "missing not_applicable", "missing short_history", "missing input_missing", "missing not_covered", "missing fetch_failed"} {
		if !seen[want] {
			t.Errorf("the random records never give %q", want)
		}
	}
}

// Until the instant that a table names, evaluating it again gives the same.
func TestATableHoldsAsLongAsItSays(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	p := everything(t)
	for range 20 {
		var records []*Record
		for i := range 10 {
			records = append(records, randomRecord(r, i))
		}
		now := saturday.Add(time.Duration(r.IntN(5*24*60)) * time.Minute)
		tab := p.Evaluate(records, now, freshness.Standard)
		if tab.Until.IsZero() || !tab.Until.After(now) {
			t.Fatalf("evaluated at %s, it holds until %s", now, tab.Until)
		}
		span := int(tab.Until.Sub(now) / time.Minute)
		for range 10 {
			later := now.Add(time.Duration(r.IntN(span+1)) * time.Minute)
			if !later.Before(tab.Until) {
				continue
			}
			again := p.Evaluate(records, later, freshness.Standard)
			for i := range tab.Rows {
				a, b := tab.Rows[i].Cells[:len(p.Columns)], again.Rows[i].Cells[:len(p.Columns)]
				for c := range a {
					if !reflect.DeepEqual(a[c], b[c]) {
						t.Fatalf("%s of %s at %s and at %s, though it should hold until %s:\n%+v\n%+v", p.Columns[c].Ref, tab.Rows[i].Record.Listing.Symbol, now, later, tab.Until, a[c], b[c])
					}
				}
			}
		}
	}
}

func TestSortingKeepsEveryRowAndItsOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	refs, _ := catalogue.ParseColumns([]string{"quote.last"})
	for range 50 {
		var records []*Record
		for i := range 40 {
			rec := randomRecord(r, i)
			for _, g := range rec.Feeds[FeedOf(catalogue.Quotes)].From {
				if o := g.Observation; o != nil && o.Values[0].Kind == cell.Number {
					o.Values[0] = cell.Of(float64(r.IntN(5))) // many equals
				}
			}
			records = append(records, rec)
		}
		for _, key := range []string{"quote.last", "-quote.last"} {
			p, err := Compile(refs, "", []string{key})
			if err != nil {
				t.Fatal(err)
			}
			tab := p.Evaluate(records, saturday, freshness.Standard)
			if len(tab.Rows) != len(records) {
				t.Fatalf("%d of %d rows", len(tab.Rows), len(records))
			}
			for i := 1; i < len(tab.Rows); i++ {
				a, b := &tab.Rows[i-1].Cells[0], &tab.Rows[i].Cells[0]
				switch {
				case a.Absent() && !b.Absent():
					t.Fatal("a gap comes before a value")
				case a.Absent() || b.Absent():
				case key[0] == '-' && a.Value.Num < b.Value.Num || key[0] != '-' && a.Value.Num > b.Value.Num:
					t.Fatalf("%s: %v before %v", key, a.Value.Num, b.Value.Num)
				}
				if a.Value == b.Value && slices.Index(records, tab.Rows[i-1].Record) > slices.Index(records, tab.Rows[i].Record) {
					t.Fatal("equal rows change their order")
				}
			}
		}
	}
}
