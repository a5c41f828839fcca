package table

import (
	"math"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/bond"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/currency"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

var (
	saturday = time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)
	friday   = period.MakeDate(2026, 3, 6)
	harbour  = &market.Exchange{
		Code: "XCVH", Name: "Harbour", Zone: time.UTC, PreOpens: 8 * 60, Opens: 9 * 60, Closes: 17 * 60,
		Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
	}
)

type values map[string]cell.Value

func observe1(d catalogue.Dataset, at time.Time, v values) *Observation {
	o := &Observation{Source: "gannet", Observed: at, Fetched: at.Add(time.Minute), Values: make([]cell.Value, len(catalogue.ObservedIn(d)))}
	for id, value := range v {
		o.Values[catalogue.Find(id).Slot()] = value
	}
	return o
}

// feed is the feed of a dataset, with what one source has given in it.
func (r *Record) feed(d catalogue.Dataset) *Given {
	f := &r.Feeds[FeedOf(d)]
	if len(f.From) == 0 {
		f.From = []Given{{Source: "gannet"}}
	}
	return &f.From[0]
}

// listed makes a share whose last close and quote are from Friday's close.
func listed(ticker, currency string, last, previous float64) *Record {
	r := &Record{Listing: &market.Listing{Symbol: market.Symbol{Ticker: ticker, Exchange: "XCVH"}, Kind: market.Share, Currency: currency}, Exchange: harbour}
	r.feed(catalogue.Quotes).Observation = observe1(catalogue.Quotes, friday.In(time.UTC, 17, 0), values{
		"quote.last": cell.Of(last), "quote.previous_close": cell.Of(previous),
	})
	return r
}

func (r *Record) hold(quantity, cost float64) *Record {
	r.Held = true
	r.feed(catalogue.Holdings).Observation = observe1(catalogue.Holdings, friday.In(time.UTC, 17, 0), values{
		"holding.quantity": cell.Of(quantity), "holding.cost": cell.Of(cost),
	})
	return r
}

func (r *Record) history(b *series.Bars) *Record {
	r.feed(catalogue.Bars).Bars = b
	r.feed(catalogue.Bars).Observation = &Observation{Source: "gannet", Observed: b.Day[b.Len()-1].In(time.UTC, 17, 0), Fetched: saturday}
	return r
}

func evaluate(t *testing.T, records []*Record, columns, where string, sortBy ...string) *Table {
	t.Helper()
	refs, err := catalogue.ParseColumns(strings.Split(columns, ","))
	if err != nil {
		t.Fatal(err)
	}
	p, err := Compile(refs, where, sortBy)
	if err != nil {
		t.Fatal(err)
	}
	return p.Evaluate(records, saturday, freshness.Standard)
}

func symbols(t *Table) string {
	var names []string
	for _, row := range t.Rows {
		names = append(names, row.Record.Listing.Symbol.Ticker)
	}
	return strings.Join(names, " ")
}

func TestDerivedCellsByHand(t *testing.T) {
	bars := &series.Bars{}
	bars.Append(period.MakeDate(2025, 3, 6), 10, 99, 1, 20, 100) // just outside the year that begins after 2025-03-07
	bars.Append(period.MakeDate(2025, 3, 10), 20, 26, 19, 25, 100)
	bars.Append(period.MakeDate(2026, 2, 27), 27, 28, 26, 27, 200)
	bars.Append(friday, 28, 31, 27, 30, 300)
	a := listed("AAA", "EUR", 30, 29).hold(100, 24).history(bars)
	b := listed("BBB", "EUR", 10, 12.5).hold(50, 20)
	tab := evaluate(t, []*Record{a, b},
		"quote.change,quote.change_pct,holding.market_value,holding.gain,holding.gain_pct,holding.day_change,holding.weight,price.high_52w,price.low_52w,price.range_position,price.range_width,price.return_1w,price.return_52w,price.close@2026-03-01,holding.cost_basis", "")
	want := []float64{
		1, 1.0 / 29, 3000, 600, 0.25, 100, 3000.0 / 3500,
		31, 19, 11.0 / 12, 31.0/19 - 1,
		30.0/27 - 1, // from Saturday 28 February: the session before it is the 27th
		30.0/20 - 1, // from 8 March 2025: the session before it is the 6th
		27, 2400,
	}
	for i, x := range want {
		c := tab.Rows[0].Cells[i]
		if c.Value.Kind != cell.Number || math.Abs(c.Value.Num-x) > 1e-12 || c.State != cell.Fresh {
			t.Errorf("%s is %+v, want %v", tab.Program.Columns[i].Ref, c, x)
		}
	}
	if c := tab.Rows[0].Cells[13]; c.Period != "2026-02-27" {
		t.Errorf("the close of a Sunday must say its session: %+v", c)
	}
	if c := tab.Rows[0].Cells[2]; c.Unit != "EUR" || c.Source != "gannet" {
		t.Errorf("got %+v", c)
	}
	if c := tab.Rows[1].Cells[7]; c.Reason != cell.NeverFetched || c.Unit != "EUR" {
		t.Errorf("no bars: %+v", c)
	}
	if c := tab.Rows[1].Cells[9]; c.Reason != cell.InputMissing || c.Detail != "price.low_52w: never_fetched" {
		t.Errorf("no bars: %+v", c)
	}
}

func TestWeightNeedsOneCurrencyAndEveryValue(t *testing.T) {
	eur, gbp, watched := listed("EUR", "EUR", 30, 29).hold(1, 1), listed("GBP", "GBP", 30, 29).hold(1, 1), listed("WAT", "JPY", 1, 1)
	if c := evaluate(t, []*Record{eur, gbp, watched}, "holding.weight", "").Rows[0].Cells[0]; c.Reason != cell.InputMissing || !strings.Contains(c.Detail, "EUR and GBP") {
		t.Errorf("two currencies: %+v", c)
	}
	gbp.Listing.Currency = "EUR"
	tab := evaluate(t, []*Record{eur, gbp, watched}, "holding.weight", "")
	if c := tab.Rows[1].Cells[0]; c.Value.Num != 0.5 {
		t.Errorf("half each: %+v", c)
	}
	if c := tab.Rows[2].Cells[0]; c.Reason != cell.NotApplicable || c.Detail != "not held" {
		t.Errorf("a watched row has no weight: %+v", c)
	}
	gbp.Feeds[FeedOf(catalogue.Quotes)].From = []Given{{Source: "gannet", Attempt: &Attempt{Outcome: cell.FetchFailed, Detail: "503"}}}
	if c := evaluate(t, []*Record{eur, gbp}, "holding.weight", "").Rows[0].Cells[0]; c.Reason != cell.InputMissing || !strings.Contains(c.Detail, "GBP.XCVH") {
		t.Errorf("a holding without a price: %+v", c)
	}
}

func TestEveryAbsenceHasItsReason(t *testing.T) {
	attempt := func(outcome cell.Reason, detail string) Feed {
		return Feed{From: []Given{{Source: "gannet", Attempt: &Attempt{Outcome: outcome, Detail: detail, At: saturday, Source: "gannet"}}}}
	}
	base := func(f Feed) *Record { r := listed("AAA", "EUR", 1, 1); r.Feeds[FeedOf(catalogue.Quotes)] = f; return r }
	rejected := listed("AAA", "EUR", 1, 1)
	rejected.feed(catalogue.Quotes).Observation.Values[0] = cell.Value{}
	rejected.feed(catalogue.Quotes).Observation.Rejected = map[int]string{0: "n/a*"}
	delisted := listed("AAA", "EUR", 1, 1)
	delisted.Listing.Ended = friday.AddDays(-100)
	gone := base(attempt(cell.NotCovered, ""))
	gone.Listing.Ended = friday.AddDays(-100)
	index := base(Feed{})
	index.Listing.Kind = market.Index
	old := listed("AAA", "EUR", 1, 1)
	old.feed(catalogue.Quotes).Observation.Observed = friday.AddDays(-3).In(time.UTC, 17, 0)
	down := listed("AAA", "EUR", 1, 1)
	down.feed(catalogue.Quotes).Observation.Observed = old.feed(catalogue.Quotes).Observation.Observed
	down.feed(catalogue.Quotes).Attempt = attempt(cell.FetchFailed, "503").From[0].Attempt
	for _, c := range []struct {
		name   string
		record *Record
		column string
		state  cell.State
		reason cell.Reason
		detail string
	}{
		{"never asked", base(Feed{}), "quote.last", cell.Missing, cell.NeverFetched, ""},
		{"being asked", base(Feed{Refreshing: true}), "quote.last", cell.Pending, cell.NeverFetched, ""},
		{"not covered", base(attempt(cell.NotCovered, "")), "quote.last", cell.Missing, cell.NotCovered, ""},
		{"plan", base(attempt(cell.NotPermitted, "derivatives")), "quote.last", cell.Missing, cell.NotPermitted, "derivatives"},
		{"failed", base(attempt(cell.FetchFailed, "503")), "quote.last", cell.Missing, cell.FetchFailed, "503"},
		{"answered without it", base(attempt(cell.NoReason, "")), "quote.last", cell.Missing, cell.NotReported, ""},
		{"null in the answer", listed("AAA", "EUR", 1, 1), "quote.bid", cell.Missing, cell.NotReported, ""},
		{"text in the answer", rejected, "quote.last", cell.Missing, cell.Rejected, "n/a*"},
		{"bid of an index", index, "quote.bid", cell.Missing, cell.NotApplicable, ""},
		{"spread of an index", index, "quote.spread_pct", cell.Missing, cell.NotApplicable, ""},
		{"delisted with last values", delisted, "quote.last", cell.Stale, cell.Ended, "on 2025-11-26"},
		{"delisted without", gone, "quote.last", cell.Missing, cell.Ended, "on 2025-11-26"},
		{"session passed", old, "quote.last", cell.Stale, cell.SessionPassed, ""},
		{"derived from stale", old, "quote.change", cell.Stale, cell.SessionPassed, ""},
		{"source down", down, "quote.last", cell.Stale, cell.SourceDown, "503"},
		{"listed lately", listed("AAA", "EUR", 1, 1).history(recent()), "price.return_52w", cell.Missing, cell.ShortHistory, "the history begins on 2026-03-05"},
	} {
		got := evaluate(t, []*Record{c.record}, c.column, "").Rows[0].Cells[0]
		if got.State != c.state || got.Reason != c.reason || got.Detail != c.detail || got.Absent() != (c.state >= cell.Pending) {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
}

func recent() *series.Bars {
	b := &series.Bars{}
	b.Append(friday.AddDays(-1), 1, 1, 1, 1, 1)
	b.Append(friday, 1, 1, 1, 1, 1)
	return b
}

func TestFilterAndSort(t *testing.T) {
	records := []*Record{listed("AAA", "EUR", 30, 29), listed("BBB", "EUR", 10, 12), listed("CCC", "EUR", 20, 20), listed("DDD", "EUR", 20, 10)}
	records[2].feed(catalogue.Quotes).Observation.Values[catalogue.Find("quote.previous_close").Slot()] = cell.Value{}
	for _, c := range []struct{ where, sort, want string }{
		{"", "-quote.change_pct", "DDD AAA BBB CCC"},
		{"", "quote.change_pct", "BBB AAA DDD CCC"},
		{"quote.change_pct > 3%", "quote.last", "DDD AAA"},
		{"quote.last = 20", "", "CCC DDD"},
		{"is_missing(quote.change)", "", "CCC"},
		{"", "quote.last,-profile.name", "BBB CCC DDD AAA"},
	} {
		var keys []string
		if c.sort != "" {
			keys = strings.Split(c.sort, ",")
		}
		tab := evaluate(t, records, "quote.last", c.where, keys...)
		if got := symbols(tab); got != c.want {
			t.Errorf("where %q sort %q: %s, want %s", c.where, c.sort, got, c.want)
		}
		if tab.Of != 4 || tab.Counts[cell.Fresh] != len(tab.Rows) {
			t.Errorf("counts %v of %d", tab.Counts, tab.Of)
		}
	}
	for _, bad := range []struct{ columns, where, sort string }{
		{"quote.last", "quote.lasst > 1", ""}, {"quote.last", "quote.last >", ""}, {"quote.last", "", "quote.lasst"}, {"quote.last,quote.last", "", "quote.last"},
	} {
		refs, err := catalogue.ParseColumns(strings.Split(bad.columns, ","))
		if err == nil {
			_, err = Compile(refs, bad.where, []string{bad.sort})
		}
		if err == nil {
			t.Errorf("%+v compiles", bad)
		}
	}
}

func TestTheTableHoldsUntilASessionMayChangeIt(t *testing.T) {
	tab := evaluate(t, []*Record{listed("AAA", "EUR", 30, 29)}, "quote.last,profile.name", "")
	if want := time.Date(2026, 3, 9, 8, 0, 0, 0, time.UTC); !tab.Until.Equal(want) {
		t.Errorf("holds until %s, want Monday's pre-open, %s", tab.Until, want)
	}
}

func TestExplainReachesTheObservation(t *testing.T) {
	r := listed("AAA", "EUR", 30, 29).hold(10, 20)
	tab := evaluate(t, []*Record{r}, "holding.weight", "")
	e := tab.Explain(&tab.Rows[0], 0)
	value := e.Inputs[0]
	latest := value.Inputs[1]
	last := latest.Inputs[0]
	if value.Ref.ID != "holding.market_value" || latest.Formula != "or_else(quote.last, price.close)" || last.Given[0].Observation == nil || last.Cell.Value.Num != 30 {
		t.Errorf("got %+v", e)
	}
}

func TestDiagnoseGroupsByReason(t *testing.T) {
	never := listed("AAA", "EUR", 1, 1)
	never.Feeds[FeedOf(catalogue.Quotes)] = Feed{}
	h := evaluate(t, []*Record{never, listed("BBB", "EUR", 1, 1)}, "quote.last,quote.bid,holding.gain", "").Diagnose()
	if len(h.Groups) != 3 || h.Groups[0].Reason != cell.NeverFetched || h.Groups[0].Cells != 2 || len(h.Groups[0].Names) != 1 ||
		h.Groups[1].Reason != cell.NotReported || h.Groups[2].Reason != cell.NotApplicable || h.Fields[0].Counts != [4]int{1, 0, 0, 1} {
		t.Errorf("got %+v", h)
	}
}

func BenchmarkEvaluate(b *testing.B) {
	var refs []formula.Ref
	for i := range catalogue.Fields {
		if f := &catalogue.Fields[i]; f.Measure != nil || f.Formula != nil {
			refs = append(refs, formula.Ref{ID: f.ID})
		}
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		b.Fatal(err)
	}
	r := listed("AAA", "EUR", 30, 29).hold(10, 20)
	for i := range r.feed(catalogue.Quotes).Observation.Values {
		r.feed(catalogue.Quotes).Observation.Values[i] = cell.Of(30)
	}
	bars := &series.Bars{}
	for d := friday.AddYears(-1).AddDays(-10); d <= friday; d++ {
		if harbour.Trades(d) {
			x := 30 + math.Sin(float64(d))
			bars.Append(d, x, x+1, x-1, x, 100)
		}
	}
	r.history(bars)
	records := make([]*Record, 1000)
	for i := range records {
		records[i] = r
	}
	b.ReportAllocs()
	for b.Loop() {
		p.Evaluate(records, saturday, freshness.Standard)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(records)*len(refs)), "ns/cell")
}

// Of several sources a cell shows the most preferred that is fresh, takes what
// that one lacks from the next, and says when they disagree.
func TestSeveralSources(t *testing.T) {
	closing, earlier := friday.In(time.UTC, 17, 0), friday.AddDays(-3).In(time.UTC, 17, 0)
	give := func(source string, at time.Time, last, bid float64) Given {
		v := values{}
		if last != 0 {
			v["quote.last"] = cell.Of(last)
		}
		if bid != 0 {
			v["quote.bid"] = cell.Of(bid)
		}
		o := observe1(catalogue.Quotes, at, v)
		o.Source = source
		return Given{Source: source, Observation: o}
	}
	failed := func(source string, reason cell.Reason) Given {
		return Given{Source: source, Attempt: &Attempt{Source: source, Outcome: reason, At: closing}}
	}
	for _, c := range []struct {
		name     string
		from     []Given
		last     float64 // 0: missing
		source   string
		state    cell.State
		reason   cell.Reason
		conflict bool
	}{
		{"both fresh", []Given{give("one", closing, 30, 1), give("two", closing, 30.2, 1)}, 30, "one", cell.Fresh, 0, false},
		{"they disagree", []Given{give("one", closing, 30, 1), give("two", closing, 33, 1)}, 30, "one", cell.Fresh, 0, true},
		{"apart in time they cannot disagree", []Given{give("one", closing, 30, 1), give("two", earlier, 33, 1)}, 30, "one", cell.Fresh, 0, false},
		{"the first is stale", []Given{give("one", earlier, 30, 1), give("two", closing, 30.2, 1)}, 30.2, "two", cell.Fresh, 0, false},
		{"both stale, the second newer", []Given{give("one", earlier.AddDate(0, 0, -1), 30, 1), give("two", earlier, 31, 1)}, 31, "two", cell.Stale, cell.SessionPassed, false},
		{"the first lacks the field", []Given{give("one", closing, 0, 1), give("two", closing, 30, 1)}, 30, "two", cell.Fresh, 0, false},
		{"the first does not know the name", []Given{failed("one", cell.NotCovered), give("two", closing, 30, 1)}, 30, "two", cell.Fresh, 0, false},
		{"neither has it", []Given{failed("one", cell.NotCovered), failed("two", cell.FetchFailed)}, 0, "two", cell.Missing, cell.FetchFailed, false},
		{"neither knows it", []Given{failed("one", cell.NotCovered), failed("two", cell.NotCovered)}, 0, "one", cell.Missing, cell.NotCovered, false},
	} {
		r := listed("AAA", "EUR", 1, 1)
		r.Feeds[FeedOf(catalogue.Quotes)].From = c.from
		tab := evaluate(t, []*Record{r}, "quote.last", "")
		got := tab.Rows[0].Cells[0]
		if got.Value.Num != c.last || got.Source != c.source || got.State != c.state || got.Reason != c.reason || (got.Flags&cell.Conflict != 0) != c.conflict {
			t.Errorf("%s: %+v", c.name, got)
		}
		if e := tab.Explain(&tab.Rows[0], 0); len(e.Given) != 2 || e.Given[0].Source != c.source {
			t.Errorf("%s: the explanation begins with %q", c.name, e.Given[0].Source)
		}
	}
}

// Worked out by hand at 0.8 pounds for a euro on the day of the close, 0.5 now,
// and 2 dollars.
func TestATableInOneCurrency(t *testing.T) {
	pair := func(quote string, fixings ...entry.Entry) *Record {
		r := &Record{Listing: &market.Listing{Symbol: market.Symbol{Ticker: "EUR", Exchange: quote}, Kind: market.Pair, Currency: quote}, Exchange: market.Weekdays}
		g := r.feed(catalogue.Rates)
		g.Entries = fixings
		g.Observation = &Observation{Source: "dunlin", Observed: friday.In(time.UTC, 16, 0), Fetched: saturday}
		return r
	}
	fixing := func(day period.Date, rate float64) entry.Entry {
		return entry.Entry{Day: day, Values: []cell.Value{cell.OfText(day.String()), cell.Of(rate)}}
	}
	bars := &series.Bars{}
	bars.Append(friday-10, 16, 16, 16, 16, 100)
	bars.Append(friday, 20, 20, 20, 20, 100)
	rates := RatesOf([]*Record{pair("GBP", fixing(friday-10, 0.8), fixing(friday, 0.5)), pair("USD", fixing(friday, 2))}, saturday, freshness.Standard)
	records := []*Record{
		listed("AAA", "EUR", 30, 29).hold(2, 10), listed("BBB", "GBP", 20, 16).hold(1, 5).history(bars),
		listed("CCC", "USD", 10, 9), listed("DDD", "JPY", 7, 7),
	}
	refs, err := catalogue.ParseColumns([]string{"quote.last", "quote.change_pct", "holding.market_value", "holding.weight", "price.close@" + (friday - 9).String(), "holding.gain_pct"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := Compile(refs, "quote.last > 4", []string{"-quote.last"})
	if err != nil {
		t.Fatal(err)
	}
	tab := p.EvaluateIn(Conversion{"EUR", rates}, records, saturday, freshness.Standard)
	if got := symbols(tab); got != "BBB AAA CCC" { // 40, 30 and 5 euro; the yen cannot be compared
		t.Errorf("in order of euro: %s", got)
	}
	bbb := tab.Rows[0].Cells
	for i, want := range []float64{40, 0.25, 40, 0.4, 20, 3} {
		if math.Abs(bbb[i].Value.Num-want) > 1e-12 {
			t.Errorf("%s is %+v, want %v", refs[i], bbb[i], want)
		}
	}
	if c := bbb[0]; c.Unit != "EUR" || c.Flags&cell.Converted == 0 || c.Detail != "EUR/GBP 0.5 of "+friday.String() || c.Source != cell.SeveralSources {
		t.Errorf("got %+v", c)
	}
	if c := bbb[1]; c.Unit != "percent" {
		t.Errorf("a fraction has no currency: %+v", c)
	}
	if c := tab.Rows[1].Cells[0]; c.Flags&cell.Converted != 0 || c.Value.Num != 30 {
		t.Errorf("euro need no rate: %+v", c)
	}
	all, _ := Compile(refs[:1], "", nil)
	if c := all.EvaluateIn(Conversion{"EUR", rates}, records, saturday, freshness.Standard).Rows[3].Cells[0]; c.Reason != cell.InputMissing || c.Unit != "EUR" || !strings.Contains(c.Detail, "no source fixes JPY") {
		t.Errorf("yen: %+v", c)
	}
	// 20 pounds are 40 euro, 30 euro are those, and 10 dollars are 5: in any currency of the table.
	for _, in := range []Conversion{{"", rates}, {"USD", rates}} {
		dear, err := Compile(refs[:1], `in(quote.last, "EUR") > 29 and in(price.latest, "USD") > 59.9`, nil)
		if err != nil || !dear.Converts(nil) {
			t.Fatal(err)
		}
		if got := symbols(dear.EvaluateIn(in, records, saturday, freshness.Standard)); got != "AAA BBB" {
			t.Errorf("dear in euro, in a table in %q: %s", in.To, got)
		}
	}
	index := listed("EEE", "EUR", 3000, 3000)
	index.Listing.Kind = market.Index
	level, err := Compile(refs[:1], `is_missing(in(quote.last, "EUR"))`, nil)
	if err != nil {
		t.Fatal(err)
	}
	if got := symbols(level.Evaluate([]*Record{index, records[0]}, saturday, freshness.Standard)); got != "EEE" {
		t.Errorf("the level of an index as an amount: %s", got)
	}
	if c := p.Evaluate(records[:2], saturday, freshness.Standard).Rows[0].Cells[3]; c.Reason != cell.InputMissing || !strings.Contains(c.Detail, "in one currency") {
		t.Errorf("a weight over two currencies: %+v", c)
	}
}

// A quote of 473.5 pence is 4.735 pounds; dividends of 9 pence and of 11, given in
// pounds, yield 0.20/4.735. On the evening before the second went ex the close was
// 440 pence, so that a close before it counts for 1 − 0.11/4.40 = 97.5 % of itself.
func TestAQuoteInPenceAndADividendInPounds(t *testing.T) {
	r := listed("PEN", "GBP", 4.735, 4.7)
	r.feed(catalogue.Quotes).Observation.Minor = true
	bars := &series.Bars{}
	bars.Append(friday-30, 4, 4, 4, 4, 1)
	bars.Append(friday-20, 4.4, 4.4, 4.4, 4.4, 1)
	bars.Append(friday-19, 4.3, 4.3, 4.3, 4.3, 1)
	bars.Append(friday, 4.735, 4.735, 4.735, 4.735, 1)
	r.history(bars)
	g := r.feed(catalogue.Dividends)
	g.Observation = &Observation{Source: "gannet", Observed: saturday, Fetched: saturday}
	g.Payments = dividend.History{{Ex: friday - 200, Amount: 0.09, Adjusted: 0.09, Currency: "GBP"}, {Ex: friday - 19, Amount: 0.11, Adjusted: 0.11, Currency: "GBP"}}
	row := evaluate(t, []*Record{r}, "quote.last,dividend.ttm,dividend.yield,price.adjusted_close@"+(friday-25).String(), "").Rows[0].Cells
	for i, want := range []float64{4.735, 0.2, 0.2 / 4.735, 4 * 0.975} {
		if math.Abs(row[i].Value.Num-want) > 1e-12 {
			t.Errorf("%d: %+v, want %v", i, row[i], want)
		}
	}
	if row[0].Unit != "GBP" || row[0].Flags&cell.MinorUnit == 0 || row[2].Flags&cell.MinorUnit == 0 {
		t.Errorf("got %+v and %+v", row[0], row[2])
	}
}

// A bond of 4 %, twice a year, due in August, at 97: nineteen days after a coupon.
func TestReckonedFields(t *testing.T) {
	b := listed("BBB", "GBP", 97, 96)
	b.Listing.Kind = market.Bond
	terms := b.feed(catalogue.Bonds)
	terms.Observation = observe1(catalogue.Bonds, saturday, values{
		"bond.coupon": cell.Of(0.04), "bond.frequency": cell.Of(2), "bond.maturity": cell.OfText("2031-08-15"), "bond.day_count": cell.OfText("30/360"),
	})
	columns := "bond.accrued,bond.price,bond.yield_to_maturity,bond.duration,bond.duration_modified"
	row := evaluate(t, []*Record{b}, columns, "").Rows[0].Cells
	day := harbour.Today(saturday)
	want := bond.Bond{Coupon: 0.04, Frequency: 2, Maturity: period.MakeDate(2031, 8, 15), Count: bond.Thirty360}
	y, _ := want.Yield(day, 97)
	mean, modified := want.Duration(day, y)
	for i, x := range []float64{want.Accrued(day), 97 + want.Accrued(day), y, mean, modified} {
		if math.Abs(row[i].Value.Num-x) > 1e-12 || row[i].State != cell.Fresh || row[i].Source != "gannet" {
			t.Errorf("%d: %+v, want %v", i, row[i], x)
		}
	}
	// In another currency the price changes, and neither the yield nor the time.
	refs, err := catalogue.ParseColumns(strings.Split(columns, ","))
	if err != nil {
		t.Fatal(err)
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	rates := currency.New([]*currency.Pair{{Base: "EUR", Quote: "GBP", Fixings: []currency.Fixing{{Day: friday, Rate: 0.5}}}})
	inEuro := p.EvaluateIn(Conversion{"EUR", rates}, []*Record{b}, saturday, freshness.Standard).Rows[0].Cells
	for i, factor := range []float64{2, 2, 1, 1, 1} {
		if math.Abs(inEuro[i].Value.Num-factor*row[i].Value.Num) > 1e-9 {
			t.Errorf("%d in euro: %+v", i, inEuro[i])
		}
	}
	terms.Observation.Values[catalogue.Find("bond.maturity").Slot()] = cell.OfText("2026-01-15")
	if c := evaluate(t, []*Record{b}, columns, "").Rows[0].Cells[2]; c.Reason != cell.Ended || c.Detail != "matured on 2026-01-15" {
		t.Errorf("past maturity: %+v", c)
	}
	terms.Observation.Values[catalogue.Find("bond.day_count").Slot()] = cell.OfText("guess")
	if c := evaluate(t, []*Record{b}, columns, "").Rows[0].Cells[0]; c.Reason != cell.InputMissing || !strings.Contains(c.Detail, "guess") {
		t.Errorf("an unknown day count: %+v", c)
	}
	if c := evaluate(t, []*Record{listed("AAA", "EUR", 1, 1)}, columns, "").Rows[0].Cells[2]; c.Reason != cell.NotApplicable {
		t.Errorf("a share has no yield to maturity: %+v", c)
	}
}

// A name that moves twice as much as its index has a beta of 2, as fresh as the
// older of the two.
func TestBetaAgainstTheMainIndex(t *testing.T) {
	level, price := 1000.0, 10.0
	index, name := &series.Bars{}, &series.Bars{}
	for week := range 120 {
		move := 0.01 * float64(week%3-1)
		level, price = level*(1+move), price*(1+2*move)
		day := friday - period.Date(7*(119-week))
		index.Append(day, level, level, level, level, 0)
		name.Append(day, price, price, price, price, 10)
	}
	older := index.Slice(0, index.Len()-1)
	young := name.Slice(60, name.Len())
	for what, c := range map[string]struct {
		own, index *series.Bars
		state      cell.State
		reason     cell.Reason
		detail     string
	}{
		"both fresh":       {name, index, cell.Fresh, cell.NoReason, ""},
		"an older index":   {name, &older, cell.Stale, cell.SessionPassed, ""},
		"a young name":     {&young, index, cell.Missing, cell.ShortHistory, "the history begins on " + young.Day[0].String()},
		"no bars of it":    {name, nil, cell.Missing, cell.InputMissing, "XXX.XCVH: never_fetched"},
		"no index is said": {name, &series.Bars{}, cell.Missing, cell.InputMissing, "no main index of the exchange is known"},
	} {
		r := listed("AAA", "EUR", 30, 29).history(c.own)
		if main := listed("XXX", "EUR", 1, 1); c.index == nil {
			r.Index = main
		} else if c.index.Len() > 0 {
			r.Index = main.history(c.index)
		}
		got := evaluate(t, []*Record{r}, "price.beta_2y", "").Rows[0].Cells[0]
		if got.State != c.state || got.Reason != c.reason || got.State == cell.Missing && got.Detail != c.detail || got.State != cell.Missing && math.Abs(got.Value.Num-2) > 1e-9 {
			t.Errorf("%s: %+v", what, got)
		}
	}
}

func TestToldFields(t *testing.T) {
	r := listed("AAA", "EUR", 30, 29)
	info := catalogue.Info(catalogue.Dividends)
	record := func(day period.Date, amount float64) entry.Entry {
		v := make([]cell.Value, len(info.Columns))
		v[info.Column("ex_date")], v[info.Column("amount")] = cell.OfText(day.String()), cell.Of(amount)
		return entry.Entry{Day: day, Values: v}
	}
	g := r.feed(catalogue.Dividends)
	g.Observation = &Observation{Source: "gannet", Observed: saturday, Fetched: saturday}
	g.Entries = entry.Entries{record(friday-100, 0.9), record(friday+20, 0.4)}
	r.Splits = []series.Split{{Day: friday - 50, Ratio: 3}}
	g.Payments = catalogue.Payments(g.Entries, r.Splits)
	tab := evaluate(t, []*Record{r}, "dividend.last_amount,dividend.last_ex_date,dividend.next_ex_date,dividend.last_pay_date,event.next", "")
	row := tab.Rows[0].Cells
	if math.Abs(row[0].Value.Num-0.3) > 1e-12 || row[0].Unit != "EUR" || row[1].Value.Text != (friday-100).String() || row[2].Value.Text != (friday+20).String() {
		t.Errorf("got %+v", row)
	}
	if row[3].Reason != cell.NotReported || row[4].Reason != cell.NeverFetched {
		t.Errorf("got %+v", row[3:])
	}
	if row[2].Flags != 0 {
		t.Errorf("what is announced is no estimate: %v", row[2].Flags)
	}
	// Prices and dividends together, by hand: 0.3 in today's shares is 1 % of 30.
	r.feed(catalogue.Bars).Bars = &series.Bars{}
	bars := r.feed(catalogue.Bars)
	bars.Observation = &Observation{Source: "gannet", Observed: saturday, Fetched: saturday}
	for d := friday - 160; d <= friday; d++ {
		bars.Bars.Append(d, 30, 30, 30, 30, 1)
	}
	tab = evaluate(t, []*Record{r}, "dividend.ttm,dividend.yield,price.total_return_13w,price.total_return_26w,price.adjusted_close@2025-11-01,dividend.yield_at,dividend.yield_at@2025-Q1,dividend.annual@2025,dividend.annual@2024,dividend.forward", "")
	row = tab.Rows[0].Cells
	for i, want := range []float64{0.3, 0.01, 0, math.NaN(), 30 * 0.99, 0.01, math.NaN(), 0.3, 0, math.NaN()} {
		if got := row[i].Value; math.IsNaN(want) != (got.Kind == cell.None) || !math.IsNaN(want) && math.Abs(got.Num-want) > 1e-12 {
			t.Errorf("%s is %+v, want %v", tab.Program.Columns[i].Ref, row[i], want)
		}
	}
	if row[3].Reason != cell.ShortHistory || row[4].Period != "2025-11-01" || row[5].Period != "2025-Q4" || row[9].Reason != cell.ShortHistory || row[7].Period != "2025" {
		t.Errorf("got %+v", row)
	}
	// Twice a year in autumn and spring; the one of 6 February has not come.
	regular := func(days ...period.Date) (h dividend.History) {
		for _, d := range days {
			h = append(h, dividend.Payment{Ex: d, Adjusted: 1, Amount: 1})
		}
		return h
	}
	announced := g.Payments
	g.Payments = regular(friday-28-730, friday-28-548, friday-28-365, friday-28-183)
	if c := evaluate(t, []*Record{r}, "dividend.ttm", "").Rows[0].Cells[0]; c.State != cell.Stale || c.Reason != cell.ReportDue || c.Value.Num != 1 || !strings.Contains(c.Detail, "2026-02-06") {
		t.Errorf("overdue: %+v", c)
	}
	g.Payments = append(g.Payments, regular(friday-25)...)
	if c := evaluate(t, []*Record{r}, "dividend.ttm", "").Rows[0].Cells[0]; c.State != cell.Fresh || c.Value.Num != 2 {
		t.Errorf("three days late: %+v", c)
	}
	g.Payments = announced
	g.Payments[0].Currency = "USD"
	if c := evaluate(t, []*Record{r}, "dividend.yield", "").Rows[0].Cells[0]; c.Reason != cell.InputMissing {
		t.Errorf("a yield of dollars over euros: %+v", c)
	}
	bond := listed("BBB", "EUR", 30, 29)
	bond.Listing.Kind = market.Bond
	if c := evaluate(t, []*Record{bond}, "dividend.last_amount", "").Rows[0].Cells[0]; c.Reason != cell.NotApplicable {
		t.Errorf("a bond has no dividends: %+v", c)
	}
}
