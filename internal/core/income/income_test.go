package income

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/currency"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
)

func date(text string) period.Date {
	d, err := period.ParseDate(text)
	if err != nil {
		panic(err)
	}
	return d
}

var noon = time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)

// held is a share held so many times at a cost, with dividends "ex paid amount".
func held(ticker, in string, quantity, cost float64, dividends ...string) *table.Record {
	r := &table.Record{Exchange: market.Weekdays, Listing: &market.Listing{Symbol: market.Symbol{Ticker: ticker, Exchange: "XTST"}, Kind: market.Share, Currency: in}}
	values := make([]cell.Value, len(catalogue.ObservedIn(catalogue.Holdings)))
	values[quantitySlot], values[costSlot] = cell.Of(quantity), cell.Of(cost)
	r.Feeds[table.Holdings].From = []table.Given{{Source: "you", Observation: &table.Observation{Values: values}}}
	var h dividend.History
	for _, line := range dividends {
		var ex, paid string
		var amount float64
		fmt.Sscan(line, &ex, &paid, &amount) //nolint:errcheck // written below
		p := dividend.Payment{Ex: date(ex), Amount: amount, Adjusted: amount}
		if paid != "-" {
			p.Pay = date(paid)
		}
		h = append(h, p)
	}
	r.Feeds[table.FeedOf(catalogue.Dividends)].From = []table.Given{{Source: "one", Payments: h, Observation: &table.Observation{Observed: noon, Fetched: noon}}}
	return r
}

func list() []*table.Record {
	unknown := held("CCC", "EUR", 5, 1)
	unknown.Feeds[table.FeedOf(catalogue.Dividends)].From = nil
	bond := held("DDD", "EUR", 5, 1)
	bond.Listing.Kind = market.Bond
	owed := held("FFF", "EUR", 50, 98)
	owed.Listing.Kind = market.Bond
	terms := make([]cell.Value, len(catalogue.ObservedIn(catalogue.Bonds)))
	for id, v := range map[string]cell.Value{"bond.coupon": cell.Of(0.04), "bond.frequency": cell.Of(2), "bond.maturity": cell.OfText("2030-01-15"), "bond.day_count": cell.OfText("30/360")} {
		terms[catalogue.Find(id).Slot()] = v
	}
	owed.Feeds[table.FeedOf(catalogue.Bonds)].From = []table.Given{{Source: "one", Observation: &table.Observation{Observed: noon, Fetched: noon, Values: terms}}}
	watched := held("EEE", "EUR", 0, 0, "2026-03-20 2026-04-01 9")
	watched.Feeds[table.Holdings].From = nil
	return []*table.Record{
		// Twice a year; the next one is announced, with more than the last.
		held("AAA", "EUR", 100, 10, "2024-04-10 2024-04-20 0.4", "2024-10-10 2024-10-20 0.2", "2025-04-10 2025-04-20 0.5", "2025-10-10 2025-10-20 0.25", "2026-04-08 2026-04-30 0.6"),
		// Once a year, in pounds, gone ex and to be paid, day of payment not known before.
		held("BBB", "GBP", 10, 0, "2025-03-01 - 1", "2026-03-02 2026-03-16 2"),
		unknown, bond, watched, owed,
	}
}

func TestWhatAListWillPay(t *testing.T) {
	x := Of(list(), table.Conversion{}, noon, freshness.Standard)
	var said []string
	for _, p := range x.Payments {
		said = append(said, fmt.Sprintf("%s %s %v %s %t", p.On, p.Record.Listing.Symbol.Ticker, p.Amount, p.Currency, p.Expected))
	}
	// AAA's next is announced; in October a quarter is expected again. FFF owes 2 for
	// 100 in January and July.
	want := "2026-03-16 BBB 20 GBP false; 2026-04-30 AAA 60 EUR false; 2026-07-15 FFF 100 EUR false; 2026-10-20 AAA 25 EUR true; 2027-01-15 FFF 100 EUR false"
	if got := strings.Join(said, "; "); got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	said = nil
	for _, n := range x.Names {
		said = append(said, fmt.Sprintf("%s %d %v %.3f %s", n.Record.Listing.Symbol.Ticker, n.Payments, n.Amount, n.OnCost, n.Account.Reason))
	}
	// 85 cents on a cost of 10 are 8.5 %, 4 on 98 are 4.1 %; of BBB the cost is not known.
	if got, want := strings.Join(said, "; "), "AAA 2 85 0.085 ; BBB 1 20 0.000 ; CCC 0 0 0.000 never_fetched; DDD 0 0 0.000 never_fetched; FFF 2 200 0.041 "; got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	months := x.Months()
	if len(months) != 13 || months[0].Month != time.March || months[12].Year != 2027 || fmt.Sprint(months[0].Sums, months[1].Sums, months[2].Sums, months[7].Sums) != "[{GBP 20 0}] [{EUR 60 0}] [] [{EUR 25 25}]" {
		t.Errorf("months %+v", months)
	}
	if got := fmt.Sprint(x.Total()); got != "[{EUR 285 25} {GBP 20 0}]" {
		t.Errorf("total %s", got)
	}
}

func TestIncomeInOneCurrency(t *testing.T) {
	rates := currency.New([]*currency.Pair{{Base: "EUR", Quote: "GBP", Fixings: []currency.Fixing{{Day: date("2026-03-05"), Rate: 0.8}}}})
	x := Of(list(), table.Conversion{To: "EUR", Rates: rates}, noon, freshness.Standard)
	if sums := x.Total(); len(sums) != 1 || sums[0].Currency != "EUR" || math.Abs(sums[0].Amount-(285+25)) > 1e-9 {
		t.Errorf("20 pounds are 25 euro: %+v", sums)
	}
	x = Of(list(), table.Conversion{To: "USD", Rates: rates}, noon, freshness.Standard)
	if len(x.Payments) != 0 || x.Names[0].Account.Reason != cell.InputMissing || !strings.Contains(x.Names[0].Account.Detail, "no source fixes USD") {
		t.Errorf("without a rate there is no amount, and a reason: %+v", x.Names[0])
	}
}
