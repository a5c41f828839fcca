package history

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

func date(text string) period.Date {
	d, err := period.ParseDate(text)
	if err != nil {
		panic(err)
	}
	return d
}

// noon of Friday 6 March 2026, in mid session.
var noon = time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)

// share is a listing on an exchange that opens from 9 to 17 UTC and was closed on
// Tuesday the 3rd. Its bars are of 23 February to 5 March but for Wednesday the
// 25th, of which the source has been asked, and the 27th, of which it has not. It
// splits two for one on the 26th and pays 1 on the 4th.
func share() *table.Record {
	e := &market.Exchange{
		Code: "XTST", Zone: time.UTC, Opens: 9 * 60, Closes: 17 * 60, Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
		Holidays: map[period.Date]string{date("2026-03-03"): "Low Tide"},
	}
	r := &table.Record{Exchange: e, Listing: &market.Listing{ID: 1, Symbol: market.Symbol{Ticker: "AAA", Exchange: "XTST"}, Kind: market.Share, Currency: "EUR"}}
	splits := []series.Split{{Day: date("2026-02-26"), Ratio: 2}}
	raw := &series.Bars{}
	for _, bar := range []struct {
		day   string
		close float64
	}{{"2026-02-23", 40}, {"2026-02-24", 42}, {"2026-02-26", 22}, {"2026-03-02", 20}, {"2026-03-04", 21}, {"2026-03-05", 23}} {
		raw.Append(date(bar.day), bar.close-1, bar.close+1, bar.close-2, bar.close, 100)
	}
	at := func(day string) time.Time { return date(day).Time().Add(17 * time.Hour) }
	covered := period.Spans{{From: date("2026-02-23"), To: date("2026-02-26")}, {From: date("2026-03-02"), To: date("2026-03-05")}}
	*feed(r, catalogue.Bars) = table.Feed{From: []table.Given{{
		Source: "one", Bars: raw.AdjustSplits(splits), Splits: splits,
		Observation: &table.Observation{Source: "one", Observed: at("2026-03-05"), Fetched: noon},
		Attempt:     &table.Attempt{Source: "one", At: noon, Covered: covered},
	}}}
	*feed(r, catalogue.Dividends) = table.Feed{From: []table.Given{{
		Source: "one", Observation: &table.Observation{Source: "one", Observed: noon, Fetched: noon},
		Payments: dividend.History{{Ex: date("2026-03-04"), Amount: 1, Adjusted: 1}},
	}}}
	return r
}

func feed(r *table.Record, d catalogue.Dataset) *table.Feed { return &r.Feeds[table.FeedOf(d)] }

// quoted gives it a quote of some time.
func quoted(r *table.Record, at time.Time) *table.Record {
	values := make([]cell.Value, len(catalogue.ObservedIn(catalogue.Quotes)))
	for name, x := range map[string]float64{"last": 24, "open": 23, "high": 25, "low": 22, "volume": 50} {
		values[catalogue.Find("quote."+name).Slot()] = cell.Of(x)
	}
	*feed(r, catalogue.Quotes) = table.Feed{From: []table.Given{{Source: "one", Observation: &table.Observation{Source: "one", Observed: at, Fetched: at, Values: values}}}}
	return r
}

func said(p *Prices) string {
	var out []string
	for i := range p.Bars.Len() {
		text := fmt.Sprintf("%s %v", p.Bars.Day[i].String()[5:], p.Bars.Close[i])
		if p.Partial[i] {
			text += " partial"
		}
		out = append(out, text)
	}
	if p.Provisional {
		out = append(out, "provisional")
	}
	for _, h := range p.Holes {
		out = append(out, fmt.Sprintf("hole %s asked %t", h.Day.String()[5:], h.Untaken))
	}
	return strings.Join(append(out, p.Remarks...), "; ")
}

func TestPricesOfARange(t *testing.T) {
	for _, c := range []struct {
		name     string
		from, to string
		every    series.Interval
		adjust   Adjustment
		want     string
	}{
		{"days", "2026-02-24", "2026-03-05", series.Daily, Splits, "02-24 21; 02-26 22; 03-02 20; 03-04 21; 03-05 23; hole 02-25 asked true; hole 02-27 asked false"},
		{"as traded", "2026-02-24", "2026-02-26", series.Daily, Raw, "02-24 42; 02-26 22; hole 02-25 asked true"},
		// 1 off 20 is 5 %.
		{"dividends reinvested", "2026-02-26", "2026-03-05", series.Daily, Full, "02-26 20.9; 03-02 19; 03-04 21; 03-05 23; hole 02-27 asked false"},
		{"weeks, whole at the beginning", "2026-02-26", "2026-03-05", series.Weekly, Splits, "02-26 22 partial; 03-05 23 partial; hole 02-25 asked true; hole 02-27 asked false"},
		{"a month that has a history in part", "2026-02-01", "2026-02-28", series.Monthly, Splits, "02-26 22 partial; hole 02-25 asked true; hole 02-27 asked false; the history begins on 2026-02-23; what lies before has not been asked for"},
		{"before the history", "2026-01-01", "2026-01-31", series.Daily, Splits, "the history begins on 2026-02-23; what lies before has not been asked for"},
		{"a weekend", "2026-02-28", "2026-03-01", series.Daily, Splits, "the exchange was closed"},
		{"a holiday", "2026-03-03", "2026-03-03", series.Daily, Splits, "the exchange was closed for Low Tide"},
		{"a session without a bar", "2026-02-27", "2026-02-27", series.Daily, Splits, "hole 02-27 asked false; no bar is known from 2026-02-27 to 2026-02-27"},
		{"into the future", "2026-03-05", "2026-03-20", series.Daily, Splits, "03-05 23; 2026-03-20 lies ahead: up to today"},
		{"the future", "2026-03-15", "2026-03-20", series.Daily, Splits, "2026-03-15 lies ahead"},
	} {
		p := Of(share(), Query{From: date(c.from), To: date(c.to), Every: c.every, Adjust: c.adjust}, noon, freshness.Standard)
		if got := said(p); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

func TestTheQuoteStandsInForTodaysBar(t *testing.T) {
	q := Query{From: date("2026-03-05"), To: date("2026-03-06"), Every: series.Daily, Adjust: Splits}
	p := Of(quoted(share(), noon.Add(-time.Minute)), q, noon, freshness.Standard)
	if got := said(p); got != "03-05 23; 03-06 24 partial; provisional" || p.Bars.Open[1] != 23 || p.Bars.Volume[1] != 50 {
		t.Errorf("got %s, %+v", got, p.Bars)
	}
	if got := said(Of(quoted(share(), noon.AddDate(0, 0, -1)), q, noon, freshness.Standard)); got != "03-05 23" {
		t.Errorf("yesterday's quote is no bar of today: %s", got)
	}
	q.Every = series.Weekly
	if got := said(Of(quoted(share(), noon), q, noon, freshness.Standard)); got != "03-06 24 partial; provisional" {
		t.Errorf("a week with today in it: %s", got)
	}
	q.To = date("2026-03-05")
	if got := said(Of(quoted(share(), noon), q, noon, freshness.Standard)); got != "03-05 23 partial" {
		t.Errorf("up to yesterday: %s", got)
	}
}

func TestOneDayIsTheSessionOnOrBeforeIt(t *testing.T) {
	for day, want := range map[string]string{
		"2026-03-04": "03-04 21",
		"2026-03-03": "03-02 20; the exchange was closed for Low Tide: the session of 2026-03-02",
		"2026-03-01": "02-26 22; the exchange was closed: the session of 2026-02-26",
		"2026-02-27": "02-26 22; nothing is known of that day: the session of 2026-02-26",
		"2026-02-01": "the history begins on 2026-02-23",
	} {
		p := Of(share(), Query{From: date(day), To: date(day), Every: series.Daily, Adjust: Splits, On: true}, noon, freshness.Standard)
		if got := said(p); got != want {
			t.Errorf("on %s:\n got %s\nwant %s", day, got, want)
		}
	}
}

func TestWhatCannotBeAnsweredSaysWhy(t *testing.T) {
	q := Query{From: date("2026-02-24"), To: date("2026-03-05"), Every: series.Daily, Adjust: Full}
	r := share()
	feed(r, catalogue.Dividends).From = nil
	if p := Of(r, q, noon, freshness.Standard); p.Account.Reason != cell.InputMissing || p.Bars.Len() != 0 || !strings.Contains(p.Account.Detail, "never_fetched") {
		t.Errorf("without dividends: %+v", p.Account)
	}
	r = share()
	feed(r, catalogue.Dividends).From[0].Payments[0].Currency = "USD"
	if p := Of(r, q, noon, freshness.Standard); p.Account.Reason != cell.InputMissing || !strings.Contains(p.Account.Detail, "from USD to EUR") {
		t.Errorf("with dividends in dollars: %+v", p.Account)
	}
	r = share()
	feed(r, catalogue.Bars).From = nil
	if p := Of(r, q, noon, freshness.Standard); p.Account.Reason != cell.NeverFetched || p.Bars.Len() != 0 {
		t.Errorf("without bars: %+v", p.Account)
	}
	r = share()
	r.Listing.Ended = date("2026-03-02")
	if p := Of(r, Query{From: q.From, To: q.To, Every: series.Daily, Adjust: Splits}, noon, freshness.Standard); p.Account.Reason != cell.Ended || p.Bars.Day[p.Bars.Len()-1] != date("2026-03-02") {
		t.Errorf("ended: %+v, %s", p.Account, said(p))
	}
	index := share()
	index.Listing.Kind = market.Index // pays none, so there is nothing to reinvest
	if p := Of(index, q, noon, freshness.Standard); p.Account.State != cell.Fresh || p.Bars.Len() != 5 {
		t.Errorf("an index: %+v", p.Account)
	}
}

func TestAlignedDays(t *testing.T) {
	q := Query{From: date("2026-02-24"), To: date("2026-03-05"), Every: series.Daily, Adjust: Splits}
	a := Of(share(), q, noon, freshness.Standard)
	other := share()
	bars := feed(other, catalogue.Bars).From[0].Bars
	*bars = bars.Slice(2, 5) // 26 February to 4 March
	b := Of(other, q, noon, freshness.Standard)
	for gaps, want := range map[Gaps]string{
		Blank: "02-24 0 -; 02-25 - -; 02-26 1 0; 02-27 - -; 03-02 2 1; 03-04 3 2; 03-05 4 -",
		Carry: "02-24 0 -; 02-25 0c -; 02-26 1 0; 02-27 1c 0c; 03-02 2 1; 03-04 3 2; 03-05 4 2c",
		Drop:  "02-26 1 0; 03-02 2 1; 03-04 3 2",
	} {
		days, at := Align([]*Prices{a, b}, gaps)
		var got []string
		for i, d := range days {
			text := a.Written(d)[5:]
			for _, x := range at[i] {
				switch {
				case x.Index < 0:
					text += " -"
				case x.Carried:
					text += fmt.Sprintf(" %dc", x.Index)
				default:
					text += fmt.Sprintf(" %d", x.Index)
				}
			}
			got = append(got, text)
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s:\n got %s\nwant %s", gaps, strings.Join(got, "; "), want)
		}
	}
}
