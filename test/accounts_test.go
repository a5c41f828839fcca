package test

import (
	"encoding/csv"
	"fmt"
	"math"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/wire"
)

// What each group of holders has together is at least what its members have, and is the
// field of the same name; the change of a holding is against the report before.
func TestHoldersAsAListAndAsFields(t *testing.T) {
	var h wire.Holders
	shared.must(t, &h, "holders", "KELP.XCVH", "--format", "json")
	if h.State != "fresh" || h.Source != "whimbrel" || len(h.Together) != 16 || len(h.Largest) != 10 {
		t.Fatalf("got %s from %s: %d together, %d holders", h.State, h.Source, len(h.Together), len(h.Largest))
	}
	var tab wire.Table
	shared.must(t, &tab, "value", "KELP.XCVH", "share.insiders_pct", "share.institutions_pct", "share.float", "balance.shares_outstanding", "--format", "json")
	number := func(i int) float64 { return tab.Rows[0].Cells[i].V.(float64) }
	if got, want := number(2), number(3)*(1-number(0)); math.Abs(got-want) > 1e-6 {
		t.Errorf("the free float is %v, want %v", got, want)
	}
	sum := map[string]float64{}
	for _, x := range h.Largest {
		sum[x.Group] += *x.Part
		if x.Change == nil || *x.Shares <= 0 || x.Date != h.Together[0].Date {
			t.Errorf("%+v", x)
		}
	}
	for i, group := range []string{"insiders", "institutions"} {
		for _, x := range h.Together[:2] {
			if x.Group == group && (*x.Part != number(i) || sum[group] > *x.Part || sum[group] < *x.Part/2) {
				t.Errorf("%s hold %v together, the field says %v, the largest %v", group, *x.Part, number(i), sum[group])
			}
		}
	}
	if r := shared.soba(t, "holders", "EUR/USD"); r.code != 0 || !strings.Contains(r.out, "not_applicable") {
		t.Errorf("holders of a pair: %s%s", r.out, r.err)
	}
}

// The mean recommendation is that of the counts; the field reads the month that it is
// asked for.
func TestRecommendationsThroughTime(t *testing.T) {
	var e wire.Estimates
	shared.must(t, &e, "estimates", "KELP.XCVH", "--format", "json")
	if len(e.Opinions) != 12 || e.Next == "" {
		t.Fatalf("%d months, the next report on %q", len(e.Opinions), e.Next)
	}
	var dates []string
	for _, o := range e.Opinions {
		count := *o.StrongBuy + *o.Buy + *o.Hold + *o.Reduce + *o.Sell
		if mean := (*o.StrongBuy + 2**o.Buy + 3**o.Hold + 4**o.Reduce + 5**o.Sell) / count; count > 0 && math.Abs(mean-*o.Recommendation) > 0.005 {
			t.Errorf("of %s the mean is %v, the counts say %v", o.Date, *o.Recommendation, mean)
		}
		dates = append(dates, "estimate.target@"+o.Date)
	}
	var tab wire.Table
	shared.must(t, &tab, append(append([]string{"value", "KELP.XCVH"}, dates...), "--format", "json")...)
	for i, o := range e.Opinions {
		if got := tab.Rows[0].Cells[i].V; got != *o.Target {
			t.Errorf("the target of %s is %v, the field says %v", o.Date, *o.Target, got)
		}
	}
	out := shared.must(t, nil, "estimates", "KELP.XCVH", "--opinions", "--format", "csv")
	if rows, err := csv.NewReader(strings.NewReader(out)).ReadAll(); err != nil || len(rows) != 13 || rows[0][1] != "strong_buy" || rows[1][0] != e.Opinions[0].Date {
		t.Errorf("as CSV: %v, %v", rows, err)
	}
}

// One table of twelve ratios over five years, of companies that have hardly anything in
// common: every number is that of the field in its period, every blank says why, and
// every period tells its end.
func TestTwelveRatiosOfSixThatDiffer(t *testing.T) {
	symbols := []string{"HBNK.XCVH", "ALGA.XPLR", "QUAY.XNMK", "CHRT.XNMK", "BUOY.XCVH", "SHIO.XTSG"}
	var x wire.Across
	shared.must(t, &x, "across", "contrasts", "--format", "json")
	if len(x.Rows) != 6 || len(x.Fields) != 12 || len(x.Periods) != 5 {
		t.Fatalf("%d names, %d ratios, %d periods", len(x.Rows), len(x.Fields), len(x.Periods))
	}
	newest := make([]period.Date, len(x.Periods))
	day := func(e wire.PeriodEnd) period.Date {
		d, err := period.ParseDate(e.End)
		if err != nil {
			t.Fatalf("%+v: %v", e, err)
		}
		return d
	}
	for _, r := range x.Rows {
		for n, e := range r.Ends {
			newest[n] = max(newest[n], day(e))
		}
	}
	missing := map[string]string{}
	for i, r := range x.Rows {
		if r.Symbol != symbols[i] {
			t.Errorf("row %d is %s", i, r.Symbol)
		}
		for n, e := range r.Ends {
			if e.End == "" || e.Label == "" || e.Filed == "" || e.Apart != (newest[n]-day(e) > 92) {
				t.Errorf("%s %s: %+v", r.Symbol, x.Periods[n], e)
			}
			for k := range x.Fields {
				c := r.Cells[k][n]
				if c.V == nil {
					if c.Reason == "" || c.Detail == "" {
						t.Errorf("%s of %s in %s is blank without a word: %+v", x.Fields[k].ID, r.Symbol, e.Label, c)
					}
					missing[r.Symbol+" "+x.Fields[k].ID] = c.Reason
				}
			}
		}
	}
	for what, reason := range map[string]string{
		"HBNK.XCVH margin.gross": "not_applicable", "HBNK.XCVH strength.current_ratio": "not_applicable", "ALGA.XPLR value.pe": "not_applicable", "ALGA.XPLR return.equity": "not_applicable",
		"BUOY.XCVH value.pe": "input_missing", "CHRT.XNMK value.pe": "", "QUAY.XNMK margin.gross": "", "SHIO.XTSG margin.net": "",
	} {
		if missing[what] != reason {
			t.Errorf("%s is missing for %q, want %q", what, missing[what], reason)
		}
	}
	for _, c := range x.Rows[5].Cells[2] {
		if len(c.Flags) == 0 || !strings.Contains(strings.Join(c.Flags, " "), "standalone") {
			t.Errorf("of accounts that are not consolidated: %+v", c)
		}
	}
	var tab wire.Table
	shared.must(t, &tab, "value", "QUAY.XNMK", "return.equity@FY-3", "--format", "json")
	if got := x.Rows[2].Cells[3][3].V; got != tab.Rows[0].Cells[0].V {
		t.Errorf("return on equity is %v across names and %v alone", got, tab.Rows[0].Cells[0].V)
	}
	out := shared.must(t, nil, "across", "contrasts")
	for _, says := range []string{"2024-06-30 ≠", "○ HBNK.XCVH: not applicable: its accounts are those of a bank or an insurer", "○ BUOY.XCVH: input missing: price.at_filing: short_history", "more than 92 days"} {
		if !strings.Contains(out, says) {
			t.Errorf("the terminal does not say %q", says)
		}
	}
	var y wire.Across
	shared.must(t, &y, "across", "contrasts", "--common", "--fields", "income.revenue", "--in", "EUR", "--format", "json")
	for _, r := range y.Rows {
		if r.Ends[0].End != y.Common || r.Cells[0][0].Unit != "EUR" || r.Ends[0].Apart {
			t.Errorf("to the day that all have, %s: %s is to %s, %+v", y.Common, r.Symbol, r.Ends[0].End, r.Cells[0][0])
		}
	}
	if r := shared.soba(t, "across", "contrasts", "--fields", "quote.last"); r.code != 1 || !strings.Contains(r.err, "of no fiscal period") {
		t.Errorf("a field without fiscal periods: %s%s", r.out, r.err)
	}
}

// Accounts are asked of the other sources too, line by line; what they differ in is told.
func TestAccountsOfSeveralSources(t *testing.T) {
	shared.must(t, nil, "refresh", "FOGG.XPLR", "--only", "statements", "--force", "--compare")
	var c wire.Conflicts
	shared.must(t, &c, "conflicts", "growth", "--format", "json")
	found := ""
	for _, x := range c.Conflicts {
		if x.Symbol == "FOGG.XPLR" {
			found += x.Field + " " + x.Cell.Detail + "; "
		}
	}
	var e wire.Explanation
	shared.must(t, &e, "explain", "FOGG.XPLR", "balance.receivables@FY", "--format", "json")
	value := e.Cell.V.(float64)
	if want := fmt.Sprintf("balance.receivables@FY fulmar gives %.0f; ", value/10); found != want {
		t.Errorf("got %q, want %q", found, want)
	}
	others := map[string]any{}
	for _, o := range e.Others {
		others[o.Source] = o.V
	}
	if others["fulmar"] != value/10 || len(e.Reports) != 1 || e.Reports[0].Request == nil || e.Reports[0].Place == "" {
		t.Errorf("others %v, reports %+v", others, e.Reports)
	}
	// Of a name that only the register has, a quarter is put together from what it files.
	shared.must(t, &e, "explain", "LIME.XTSG", "income.revenue@Q", "--format", "json")
	if e.Cell.Source != "fulmar" || e.Cell.V == nil || len(e.Reports) == 0 || !strings.Contains(e.Reports[len(e.Reports)-1].Request.Address, "/issuers/") {
		t.Errorf("a quarter of %s: %+v from %+v", e.Symbol, e.Cell, e.Reports)
	}
	out := shared.must(t, nil, "health", "growth", "--min-years", "15")
	if !strings.Contains(out, "fewer than 15 years of accounts — 1 name") || !strings.Contains(out, "--only statements --force --compare") {
		t.Errorf("years of accounts:\n%s", out)
	}
}

// The market value of an issuer with two classes of shares is the same on both, and that
// of both together.
func TestTwoClassesOfShares(t *testing.T) {
	var tab wire.Table
	shared.must(t, &tab, "value", "CHAN.A.XPLR,CHAN.B.XPLR", "value.market_cap", "price.latest", "balance.shares_outstanding", "share.class_part", "--format", "json")
	number := func(row, column int) float64 { return tab.Rows[row].Cells[column].V.(float64) }
	want := 0.0
	for row := range 2 {
		want += number(row, 1) * number(row, 2) * number(row, 3)
	}
	for row := range 2 {
		if got := number(row, 0); math.Abs(got/want-1) > 1e-12 {
			t.Errorf("the market value is %v, want %v", got, want)
		}
	}
	if number(0, 3)+number(1, 3) != 1 || number(0, 2) != number(1, 2) {
		t.Errorf("parts %v and %v of %v and %v shares", number(0, 3), number(1, 3), number(0, 2), number(1, 2))
	}
}

// Assumptions of a model stay with the name until they are taken away; what is given
// counts before them.
func TestModelsAreKept(t *testing.T) {
	model := func(args ...string) (m wire.Model) {
		t.Helper()
		shared.must(t, &m, append([]string{"model", "FERY.XCVH", "--format", "json"}, args...)...)
		return m
	}
	discount := func(m wire.Model) wire.Assumption { return m.Assumptions[len(m.Assumptions)-1] }
	plain := model()
	kept := model("--discount", "7%", "--save")
	if a := discount(kept); *a.Value != 0.07 || !a.Yours || !strings.HasPrefix(a.Origin, "as you saved on ") || kept.Saved == nil || *kept.Value <= *plain.Value {
		t.Errorf("saved %+v: %v after %v", a, *kept.Value, *plain.Value)
	}
	model("--growth", "1%", "--save")
	again := model("--years", "3")
	if *discount(again).Value != 0.07 || *again.Assumptions[1].Value != 0.01 || *again.Assumptions[2].Value != 3 || again.Assumptions[2].Origin != "as you say" {
		t.Errorf("with both saved and one given: %+v", again.Assumptions)
	}
	if m := model("--plain"); *m.Value != *plain.Value || m.Saved != nil {
		t.Errorf("without what is saved: %v, want %v", *m.Value, *plain.Value)
	}
	if m := model("--of", "earnings"); m.Saved != nil {
		t.Errorf("another model has assumptions of its own: %+v", m)
	}
	if m := model("--reset"); *m.Value != *plain.Value || m.Saved != nil {
		t.Errorf("taken away: %v, want %v", *m.Value, *plain.Value)
	}
	if r := shared.soba(t, "model", "FERY.XCVH", "--save"); r.code != 2 || !strings.Contains(r.err, "nothing to save") {
		t.Errorf("nothing to save: exit %d, %s", r.code, r.err)
	}
}
