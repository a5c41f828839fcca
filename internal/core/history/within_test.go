package history

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

// traded gives a share bars of ten minutes: of 25 February, a day before it splits
// two for one, of the end of Thursday the 5th, and of Friday from 9:00 to 10:20.
func traded(r *table.Record) *table.Record {
	g := table.Given{Source: "one", Step: 10 * time.Minute, Splits: []series.Split{{Day: date("2026-02-26"), Ratio: 2}}}
	raw := &series.Bars{}
	for i, x := range []struct {
		day, clock string
		close      float64
	}{
		{"2026-02-25", "16:50", 40},
		{"2026-03-05", "16:40", 20},
		{"2026-03-05", "16:50", 21},
		{"2026-03-06", "09:00", 22},
		{"2026-03-06", "09:10", 24},
		{"2026-03-06", "09:40", 23},
		{"2026-03-06", "10:00", 26},
		{"2026-03-06", "10:10", 25},
	} {
		at, err := time.Parse("2006-01-02 15:04", x.day+" "+x.clock)
		if err != nil {
			panic(err)
		}
		raw.Append(date(x.day), x.close-1, x.close+2, x.close-2, x.close, float64(i+1))
		g.Times = append(g.Times, at)
	}
	g.Bars = raw.AdjustSplits(g.Splits)
	g.Observation = &table.Observation{Source: "one", Observed: g.Times[len(g.Times)-1].Add(g.Step), Fetched: noon, Delay: 2 * time.Hour}
	*feed(r, catalogue.Intraday) = table.Feed{From: []table.Given{g}}
	return r
}

func TestBarsWithinTheDay(t *testing.T) {
	for name, c := range map[string]struct {
		from, to string
		width    time.Duration
		adjust   Adjustment
		want     string // when, open, high, low, close, volume
	}{
		"hours":               {"2026-03-06", "2026-03-06", time.Hour, Splits, "03-06 09:00 21 26 20 23 15; 03-06 10:00 25 28 23 25 15 partial"},
		"twenty minutes":      {"2026-03-06", "2026-03-06", 20 * time.Minute, Splits, "03-06 09:00 21 26 20 24 9; 03-06 09:40 22 25 21 23 6; 03-06 10:00 25 28 23 25 15"},
		"up to the close":     {"2026-03-05", "2026-03-05", 4 * time.Hour, Splits, "03-05 13:00 19 23 18 21 5"},
		"finer than they are": {"2026-03-05", "2026-03-05", time.Minute, Splits, "03-05 16:40 19 22 18 20 2; 03-05 16:50 20 23 19 21 3; the narrowest bars of one are of 10m"},
		"not to be added up":  {"2026-03-05", "2026-03-05", 15 * time.Minute, Splits, "03-05 16:40 19 22 18 20 2; 03-05 16:50 20 23 19 21 3; bars of 10m do not add up to 15m; these are of 10m"},
		"in today's shares":   {"2026-02-25", "2026-02-25", time.Hour, Splits, "02-25 16:00 19.5 21 19 20 2"},
		"as traded":           {"2026-02-25", "2026-02-25", time.Hour, Raw, "02-25 16:00 39 42 38 40 1"},
		"before they begin":   {"2026-02-20", "2026-02-24", time.Hour, Splits, "bars within the day are known from 2026-02-25 on"},
		"a holiday":           {"2026-03-03", "2026-03-03", time.Hour, Splits, "the exchange was closed for Low Tide"},
		"still to come":       {"2026-03-09", "2026-03-09", time.Hour, Splits, "2026-03-09 lies ahead"},
	} {
		q := Query{From: date(c.from), To: date(c.to), Every: series.Daily, Within: c.width, Adjust: c.adjust}
		p := Of(traded(share()), q, noon, freshness.Standard)
		var got []string
		for i, at := range p.Times {
			text := fmt.Sprintf("%s %v %v %v %v %v", at.Format("01-02 15:04"), p.Bars.Open[i], p.Bars.High[i], p.Bars.Low[i], p.Bars.Close[i], p.Bars.Volume[i])
			if p.Partial[i] {
				text += " partial"
			}
			got = append(got, text)
		}
		if text := strings.Join(append(got, p.Remarks...), "; "); text != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, text, c.want)
		}
	}
}

func TestTheStateOfBarsWithinTheDay(t *testing.T) {
	q := Query{From: date("2026-03-05"), To: date("2026-03-06"), Every: series.Daily, Within: time.Hour, Adjust: Splits}
	bond := traded(share())
	bond.Listing = &market.Listing{Kind: market.Bond, Symbol: bond.Listing.Symbol}
	for name, c := range map[string]struct {
		r      *table.Record
		at     time.Time
		state  cell.State
		reason cell.Reason
	}{
		"as new as the source is":   {traded(share()), noon, cell.Fresh, cell.NoReason},
		"an hour later":             {traded(share()), noon.Add(time.Hour), cell.Stale, cell.Age},
		"the next day":              {traded(share()), noon.Add(24 * time.Hour), cell.Stale, cell.SessionPassed},
		"never asked for":           {share(), noon, cell.Missing, cell.NeverFetched},
		"of what does not have any": {bond, noon, cell.Missing, cell.NotApplicable},
	} {
		if p := Of(c.r, q, c.at, freshness.Standard); p.Account.State != c.state || p.Account.Reason != c.reason || p.Times == nil {
			t.Errorf("%s: %s %s", name, p.Account.State, p.Account.Reason)
		}
	}
	// Side by side with another, by the instant.
	a := Of(traded(share()), q, noon, freshness.Standard)
	b := *a
	b.Times = append([]time.Time{}, a.Times[:1]...)
	b.Bars = a.Bars.Slice(0, 1)
	moments, at := Align([]*Prices{a, &b}, Carry)
	if len(moments) != 3 || a.Written(moments[1]) != "2026-03-06T09:00:00Z" || at[1][0].Carried || !at[1][1].Carried {
		t.Errorf("got %v %v", moments, at)
	}
}
