package currency

import (
	"math"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/period"
)

var thursday = period.MakeDate(2026, 3, 5)

func known() *Rates {
	at := func(day period.Date) cell.Cell {
		return cell.Cell{Source: "bank", Observed: day.Time(), Fetched: day.Time().Add(time.Hour)}
	}
	old := at(thursday - 1)
	old.State, old.Reason = cell.Stale, cell.Age
	return New([]*Pair{
		{Base: "EUR", Quote: "GBP", Fixings: []Fixing{{thursday - 30, 0.8}, {thursday, 0.85}}, Account: at(thursday)},
		{Base: "EUR", Quote: "USD", Fixings: []Fixing{{thursday - 1, 1.1}}, Account: old},
		{Base: "EUR", Quote: "CHF", Account: cell.Gap(cell.NeverFetched, "")},
	})
}

// Crossed by hand: a pound is 1/0.85 euro, a euro 1.1 dollars.
func TestRates(t *testing.T) {
	r := known()
	for _, c := range []struct {
		from, to string
		day      period.Date
		want     float64
		detail   string
		state    cell.State
	}{
		{"EUR", "GBP", thursday, 0.85, "EUR/GBP 0.85 of 2026-03-05", cell.Fresh},
		{"GBP", "EUR", thursday, 1 / 0.85, "EUR/GBP 0.85 of 2026-03-05", cell.Fresh},
		{"EUR", "GBP", thursday + 3, 0.85, "of 2026-03-05", cell.Fresh}, // a Sunday
		{"EUR", "GBP", thursday - 20, 0.8, "of 2026-02-03", cell.Fresh},
		{"GBP", "USD", thursday, 1.1 / 0.85, "EUR/GBP 0.85 of 2026-03-05, EUR/USD 1.1 of 2026-03-04", cell.Stale},
		{"USD", "GBP", thursday, 0.85 / 1.1, "EUR/USD 1.1 of 2026-03-04, EUR/GBP", cell.Stale},
		{"JPY", "JPY", thursday, 1, "", cell.Fresh},
		{"EUR", "GBP", thursday - 10, 0, "on 2026-02-23", cell.Missing}, // the last fixing is twenty days old
		{"EUR", "USD", thursday - 2, 0, "EUR/USD is known from 2026-03-04 on", cell.Missing},
		{"CHF", "EUR", thursday, 0, "EUR/CHF is never_fetched", cell.Missing},
		{"EUR", "JPY", thursday, 0, "no source fixes JPY", cell.Missing},
	} {
		got := r.On(c.from, c.to, c.day)
		if math.Abs(got.Value-c.want) > 1e-12 || got.Account.State != c.state || !strings.Contains(got.Account.Detail, c.detail) {
			t.Errorf("%s in %s on %s: %v, %s %q; want %v, %s %q", c.from, c.to, c.day, got.Value, got.Account.State, got.Account.Detail, c.want, c.state, c.detail)
		}
	}
	if got := r.On("GBP", "USD", thursday); got.Day != thursday-1 || got.Account.Source != "bank" || !got.Account.Observed.Equal((thursday - 1).Time()) {
		t.Errorf("a cross is as old as its older leg: %+v", got)
	}
}
