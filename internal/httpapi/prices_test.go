package httpapi_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"soba.invalid/soba/internal/wire"
)

func TestPricesThroughTime(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH,MUSL.XNMK&from=-30d"))
	kelp := p.Series[0]
	n := len(kelp.Bars.Date)
	if n != 23 || !kelp.Provisional || kelp.Bars.Date[n-1] != "2026-03-06" || fmt.Sprint(kelp.Bars.Partial) != "[22]" || kelp.Currency != "EUR" || kelp.Bars.Date[0] < "2026-02-04" || kelp.State != "fresh" || kelp.Source != "gannet" || len(kelp.Bars.Close) != n || len(kelp.Bars.Volume) != n {
		t.Errorf("%d bars: %+v", n, kelp)
	}
	// Weeks sum the same days up.
	weeks := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH&from=2026-02-16&to=2026-02-27&every=week&columns=volume,close")).Series[0].Bars
	days := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH&from=2026-02-16&to=2026-02-20")).Series[0].Bars
	sum := 0.0
	for _, v := range days.Volume {
		sum += *v
	}
	if len(weeks.Date) != 2 || weeks.Open != nil || weeks.Date[0] != days.Date[len(days.Date)-1] || *weeks.Volume[0] != sum || *weeks.Close[0] != *days.Close[len(days.Close)-1] || len(weeks.Partial) != 0 {
		t.Errorf("weeks %+v of days %+v", weeks, days)
	}
	// One call for all names of a list on one day.
	all := as[wire.Prices](t, s.get("/api/v1/prices?watchlist=income&on=2026-02-28&columns=close"))
	for _, x := range all.Series {
		if len(x.Bars.Date) == 1 && x.Bars.Date[0] != "2026-02-27" && len(x.Remarks) == 0 {
			t.Errorf("%s gives %s for a Saturday without a word", x.Symbol, x.Bars.Date[0])
		}
	}
	if lime := as[wire.Prices](t, s.get("/api/v1/prices?symbols=LIME.XTSG")).Series[0]; lime.State != "missing" || lime.Reason != "not_covered" || lime.Bars.Date == nil || len(lime.Bars.Date) != 0 {
		t.Errorf("no bars are an empty list with a reason: %+v", lime)
	}
}

func TestPricesSideBySide(t *testing.T) {
	t.Parallel()
	s := start(t)
	// The exchanges of the two are closed on different days: 10 March is Founders' Tide.
	p := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH,MUSL.XNMK&from=2025-03-07&to=2025-03-12&align=true&columns=close"))
	a, b := p.Series[0].Bars, p.Series[1].Bars
	if fmt.Sprint(a.Date) != fmt.Sprint(b.Date) || len(a.Close) != len(a.Date) || len(b.Close) != len(a.Date) {
		t.Fatalf("%v and %v", a.Date, b.Date)
	}
	for gaps, want := range map[string]string{"blank": "2025-03-10 true false", "carry": "2025-03-10 carried", "drop": "gone"} {
		x := as[wire.Prices](t, s.get("/api/v1/prices?symbols=KELP.XCVH,MUSL.XNMK&from=2025-03-07&to=2025-03-12&align=true&columns=close&gaps="+gaps)).Series
		got := "gone"
		for i, day := range x[0].Bars.Date {
			if day != "2025-03-10" {
				continue
			}
			got = fmt.Sprint(day, " ", x[0].Bars.Close[i] == nil, " ", x[1].Bars.Close[i] == nil)
			if len(x[0].Bars.Carried) == 1 && x[0].Bars.Carried[0] == i && *x[0].Bars.Close[i] == *x[0].Bars.Close[i-1] {
				got = day + " carried"
			}
		}
		if got != want {
			t.Errorf("%s: %s, want %s", gaps, got, want)
		}
	}
}

func TestPricesThatCannotBe(t *testing.T) {
	t.Parallel()
	s := start(t)
	for query, want := range map[string]string{
		"":                                   "name at least one symbol",
		"symbols=KELP.XCVH&watchlist=income": "not both",
		"symbols=KELP.XCVH&from=2026-03-01&to=2026-02-01": "runs backwards",
		"symbols=KELP.XCVH&from=FY-1":                     "is not a day",
		"symbols=KELP.XCVH&to=soon":                       "is not a day",
		"symbols=KELP.XCVH&columns=close,colour":          "colour",
		"symbols=KELP.XCVH&columns=close,close":           "twice",
		"symbols=KELP.XCVH&every=hour":                    "week",
		"symbols=KELP.XCVH,NOPE.XCVH":                     "NOPE.XCVH",
		"watchlist=nothing":                               "nothing",
	} {
		r := s.get("/api/v1/prices?" + query)
		if text := string(r.text); r.StatusCode != 422 && r.StatusCode != 404 || !strings.Contains(text, want) {
			t.Errorf("%s: %s %s, want %q", query, r.Status, text, want)
		}
	}
}

func TestDividendsOfAListing(t *testing.T) {
	t.Parallel()
	s := start(t)
	d := as[wire.Dividends](t, s.get("/api/v1/listings/KELP.XCVH/dividends"))
	if d.State != "fresh" || len(d.History) < 60 || d.History[0].Ex < d.History[1].Ex || d.History[0].Currency != "EUR" || d.History[0].Kind != "regular" {
		t.Fatalf("%+v", d)
	}
	byYear := map[string]float64{}
	for _, x := range d.History {
		byYear[x.Ex[:4]] += x.Adjusted
	}
	for i, y := range d.Years {
		if math.Abs(y.Regular+y.Special+y.Capital-byYear[fmt.Sprint(y.Year)]) > 1e-9 {
			t.Errorf("%d: %+v, the payments are %v", y.Year, y, byYear[fmt.Sprint(y.Year)])
		}
		if y.Partial != (i == 0) {
			t.Errorf("only the first year is not over: %+v", y)
		}
	}
	expected := 0
	for _, x := range d.Coming {
		if x.Expected {
			expected++
		}
	}
	if expected < 2 || expected > 4 {
		t.Errorf("%d expected of one that pays four times a year: %+v", expected, d.Coming)
	}
	if x := as[wire.Dividends](t, s.get("/api/v1/listings/HB31.XCVH/dividends")); x.Reason != "not_applicable" {
		t.Errorf("a bond: %+v", x)
	}
	if x := as[wire.Dividends](t, s.get("/api/v1/listings/ROPE.XNMK/dividends")); len(x.Coming) != 0 || len(x.History) == 0 {
		t.Errorf("one that has ended lets expect nothing: %+v", x.Coming)
	}
}

func TestATableInOneCurrency(t *testing.T) {
	t.Parallel()
	s := start(t)
	own := s.table("columns=quote.last,holding.weight")
	inPounds := s.table("columns=quote.last,holding.weight&in=GBP")
	if own.In != "" || inPounds.In != "GBP" {
		t.Errorf("in %q and %q", own.In, inPounds.In)
	}
	for i, row := range inPounds.Rows {
		c := row.Cells[0]
		switch {
		case row.Kind == "index" || row.Kind == "pair":
			if c.Unit == "GBP" && row.Currency != "GBP" {
				t.Errorf("%s is no amount: %+v", row.Symbol, c)
			}
		case c.Unit != "GBP":
			t.Errorf("%s is in %s", row.Symbol, c.Unit)
		case row.Currency == "GBP" && c.V != own.Rows[i].Cells[0].V:
			t.Errorf("%s was in pounds already: %+v", row.Symbol, c)
		case row.Currency != "GBP" && c.State != "missing":
			t.Errorf("no rates are served here, and %s is %+v", row.Symbol, c)
		}
	}
	if r := s.get("/api/v1/watchlists/income/table?in=EURO"); r.StatusCode != 422 {
		t.Errorf("EURO: %s", r.Status)
	}
}

func TestIncomeOfAList(t *testing.T) {
	t.Parallel()
	s := start(t)
	x := as[wire.Income](t, s.get("/api/v1/watchlists/income/income"))
	byMonth, byName, total := 0.0, 0.0, 0.0
	for _, m := range x.Months {
		for _, sum := range m.Sums {
			byMonth += sum.Amount
		}
	}
	for _, n := range x.Names {
		byName += n.Amount
	}
	for _, p := range x.Payments {
		if total += p.Amount; p.On < x.From || p.On > x.To || math.Abs(p.PerShare*p.Quantity-p.Amount) > 1e-9 {
			t.Errorf("%+v", p)
		}
	}
	if len(x.Months) != 13 || len(x.Names) != 10 || len(x.Total) != 1 || total == 0 || math.Abs(byMonth-total) > 1e-9 || math.Abs(byName-total) > 1e-9 || math.Abs(x.Total[0].Amount-total) > 1e-9 {
		t.Errorf("%v by month, %v by name, %v in all: %+v", byMonth, byName, total, x)
	}
	if empty := as[wire.Income](t, s.get("/api/v1/watchlists/everything/income")); len(empty.Names) != 0 || empty.Payments == nil {
		t.Errorf("nothing is held: %+v", empty)
	}
}
