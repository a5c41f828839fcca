package cli

import (
	"strings"
	"testing"
	"unicode/utf8"

	"soba.invalid/soba/internal/wire"
)

func sample() *wire.Table {
	number := func(x float64, unit string) wire.Cell { return wire.Cell{V: x, Unit: unit, State: "fresh"} }
	return &wire.Table{
		Of:      3,
		Columns: []wire.Column{{ID: "quote.last", Label: "Last price", Unit: "price"}, {ID: "quote.change_pct", Label: "Change %", Unit: "percent"}, {ID: "price.range_width", Label: "Range width", Unit: "percent"}, {ID: "quote.volume", Label: "Volume", Unit: "shares"}, {ID: "profile.sector", Label: "Sector", Unit: "text"}},
		Rows: []wire.TableRow{
			{Symbol: "KELP.XCVH", Name: "Marram Kelp Farms", Currency: "EUR", Held: true, Cells: []wire.Cell{
				number(31.4, "EUR"), number(-0.0123, "percent"), number(0.5, "percent"), number(9.18e9, "shares"), {V: "Sea farming", Unit: "text", State: "fresh"},
			}},
			{Symbol: "LAMP.XPLR", Name: "A name that is longer than a column should ever be", Currency: "USD", Cells: []wire.Cell{
				{V: 11.0, Unit: "USD", State: "stale", Reason: "session_passed"},
				{State: "missing", Reason: "input_missing"},
				{State: "missing", Reason: "not_applicable"},
				{State: "pending", Reason: "never_fetched"},
				{V: "潮見ガラス", Unit: "text", State: "fresh"},
			}},
		},
		Counts: wire.Counts{Fresh: 6, Stale: 1, Pending: 1, Missing: 2},
	}
}

func TestATableForTheTerminal(t *testing.T) {
	a := &app{}
	out := a.renderTable(sample(), false)
	for _, want := range []string{
		"Change %", "Range width %", "31.40", "−1.23", "50.00", "9.18 bn", "Sea farming", "11.00 ◐", "○ input_missing", "◌ never_fetched", "潮見ガラス",
		"● 6 fresh   ◐ 1 stale   ◌ 1 pending   ○ 2 missing   2 of 3 rows",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	if strings.Contains(out, "not_applicable") || strings.Contains(out, "should ever be") || strings.Contains(out, "\x1b[") {
		t.Errorf("got\n%s", out)
	}
	lines := strings.Split(a.renderTable(sample(), true), "\n")
	if !strings.HasPrefix(lines[0], "KELP.XCVH") {
		t.Errorf("without a header it begins with %q", lines[0])
	}
}

func TestColumnsThatDoNotFitAreCounted(t *testing.T) {
	a := &app{width: 70, colour: true}
	out := a.renderTable(sample(), false)
	first := strings.Split(out, "\n")[0]
	if utf8.RuneCountInString(first) > 70 || strings.Contains(first, "Sector") || !strings.Contains(out, "more columns do not fit") {
		t.Errorf("got\n%s", out)
	}
	if !strings.Contains(out, "\x1b[") {
		t.Error("no colour on a terminal")
	}
}

func TestSymbolsAndFieldsAreToldApart(t *testing.T) {
	a := &app{in: strings.NewReader("KELP.XCVH FERY.XCVH\nEUR/USD\n")}
	symbols, fields, err := a.sortOut([]string{"-", "CHAN.A.XPLR", "price.close@-30d", "XA000KELP019", "quote.last"})
	if err != nil || strings.Join(symbols, " ") != "KELP.XCVH FERY.XCVH EUR/USD CHAN.A.XPLR XA000KELP019" || strings.Join(fields, " ") != "price.close@-30d quote.last" {
		t.Errorf("symbols %v, fields %v, %v", symbols, fields, err)
	}
	if _, _, err := a.sortOut([]string{"KELP.XCVH"}); err == nil {
		t.Error("no field, and no error")
	}
}

func TestBarsOfTheTerminal(t *testing.T) {
	for fraction, want := range map[float64]string{0: "", 1: strings.Repeat("█", barWidth), 0.5: strings.Repeat("█", barWidth/2), 1.0 / 16: "█▌", 0.001: ""} {
		if got := bar(fraction); got != want {
			t.Errorf("%v is drawn as %q, want %q", fraction, got, want)
		}
	}
}

func TestTheCurrencyOfMostRows(t *testing.T) {
	rows := func(currencies ...string) (out []wire.TableRow) {
		for _, c := range currencies {
			out = append(out, wire.TableRow{Currency: c})
		}
		return out
	}
	for _, c := range []struct {
		rows    []wire.TableRow
		common  string
		several bool
	}{
		{rows("GBP", "EUR", "EUR"), "EUR", true}, {rows("USD", "EUR"), "EUR", true}, {rows("JPY", "JPY"), "JPY", false}, {nil, "", false},
	} {
		if common, several := commonCurrency(c.rows); common != c.common || several != c.several {
			t.Errorf("%v: %s, %t", c.rows, common, several)
		}
	}
}
