package test

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/cli"
	"soba.invalid/soba/internal/wire"
)

// Every example of every command's help runs, each on the lists as the demo made
// them. Those that run a service are tested by what they do, elsewhere.
func TestExamplesOfTheHelp(t *testing.T) {
	skip := regexp.MustCompile(`^soba (demo|serve|standin|completion)`)
	refused := map[string]string{ // rightly, on the demo's lists
		"soba watchlist new income":                                       "already",
		"soba watchlist add income KELP.XCVH --quantity 120 --cost 31.20": "already",
		"soba watchlist add growth TIDE.XPLR ALGA.XPLR EUR/USD":           "2 of 3 were not added",
		"soba watchlist restore income":                                   "already",
	}
	lists := []string{"income", "growth"}
	for _, name := range lists {
		shared.must(t, nil, "watchlist", "copy", name, "kept "+name)
	}
	reset := func() {
		for _, name := range lists {
			shared.soba(t, "watchlist", "delete", name)
			shared.must(t, nil, "watchlist", "copy", "kept "+name, name)
		}
		for _, name := range []string{"dividends", "trial", "index"} {
			shared.soba(t, "watchlist", "delete", name)
		}
	}
	ran := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, line := range strings.Split(c.Example, "\n") {
			line = strings.TrimSpace(line)
			if line == "" || skip.MatchString(line) {
				continue
			}
			if strings.HasPrefix(line, "soba watchlist delete trial") {
				shared.must(t, nil, "watchlist", "new", "trial")
			}
			if strings.Contains(line, "import index") {
				shared.must(t, nil, "watchlist", "new", "index")
			}
			ran++
			r := shared.with(t, "", "sh", "-c", line)
			if reason, no := refused[line]; no && (r.code != 1 || !strings.Contains(r.err, reason)) || !no && r.code != 0 {
				t.Errorf("%s: exit %d\n%s%s", line, r.code, r.out, r.err)
			}
			if strings.HasPrefix(line, "soba watchlist") {
				reset()
			}
		}
		if c.Runnable() && c.Example == "" && c.Name() != "help" && (c.Parent() == nil || c.Parent().Name() != "completion") {
			t.Errorf("%s has no example", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.New(os.DirFS(".")))
	if ran < 40 {
		t.Errorf("only %d examples were run", ran)
	}
	for _, name := range lists {
		shared.must(t, nil, "watchlist", "delete", "kept "+name)
	}
}

func TestBadInputOnTheCommandLine(t *testing.T) {
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"tabel income", 2, "unknown command"},
		{"table", 2, "accepts 1 arg"},
		{"table income --format xml", 2, `no format "xml"`},
		{"table incme", 1, "There are: "},
		{"table income --columns quote.lst", 1, `nearest is "quote.last"`},
		{"table income --where quote.last>", 1, "formula, column 12"},
		{"table income --strict", 3, "stale"},
		{"watchlist add income KLEP.XCVH", 1, "KELP.XCVH"},
		{"watchlist add income MUSL", 1, "MUSL.XNMK"},
		{"watchlist add income XA000BLUEM13", 1, "check digit"},
		{"watchlist add income TIDE.XPLR --quantity many", 1, `"many" is not a number`},
		{"watchlist add income KELP.XCVH", 1, "already"},
		{"watchlist set income KELP.XCVH", 2, "nothing to set"},
		{"watchlist move income KELP.XCVH up", 2, "not a position"},
		{"value KELP.XCVH", 2, "requires at least 2"},
		{"prices", 2, "requires at least 1"},
		{"prices NOPE.XCVH", 1, "NOPE.XCVH"},
		{"prices KELP.XCVH --shape tall", 2, "long or wide"},
		{"prices KELP.XCVH --columns colour", 1, `no column "colour"`},
		{"prices KELP.XCVH --from 2026-03-01 --to 2026-02-01", 1, "runs backwards"},
		{"prices KELP.XCVH --gaps fill", 1, "carry"},
		{"prices KELP.XCVH --every 7m", 1, "15m"},
		{"prices KELP.XCVH --every 1h --adjust full", 1, "not adjusted for dividends"},
		{"statements KELP.XCVH --by month", 1, "quarter"},
		{"model KELP.XCVH --growth 5", 2, "write 5% or 0.05"},
		{"model KELP.XCVH --of hope", 1, "gordon"},
		{"model KELP.XCVH --base much", 1, "is no number"},
		{"conflicts income --tolerance much", 2, "write 5%"},
		{"score KELP.XCVH --of x", 2, "f or z"},
		{"score KELP.XCVH --period sometime", 2, "not a period"},
		{"statements KELP.XCVH --scale dozens", 2, "thousands, millions"},
		{"value KELP.XCVH income.revenue@2024", 1, "takes a fiscal period"},
		{"exchanges XABC", 2, "there are XCVH, XNMK"},
		{"exchanges XCVH --from soon", 1, "not a day"},
		{"refresh income --in XYZ", 1, `fixes a rate of "XYZ"`},
		{"table income --where quote.last+in(quote.bid,\"EUR\")>1", 1, `write in(quote.last, "EUR")`},
		{"table income --where quote.last", 1, "a condition is wanted"},
		{"chart KELP.XCVH", 2, "--output kelp.svg"},
		{"chart KELP.XCVH --output kelp.gif", 1, ".svg, .png, .pdf"},
		{"chart LIME.XTSG --output lime.svg", 1, "nothing to draw"},
		{"chart KELP.XCVH --of volume --output kelp.svg", 2, "prices, dividends and income"},
		{"movers everything --by up", 2, "gainers"},
		{"movers everything --top 0", 2, "1 or more"},
		{"income income --by week", 2, "by month, name or payment"},
		{"income incme", 1, "There are: "},
		{"income income --in EURO", 1, "length"},
		{"table income --in eur", 1, "is not a currency"},
		{"dividends KELP.XCVH --by month", 2, "by payment or by year"},
		{"value KELP.XCVH dividend.annual@2024-03-01", 1, "takes a year"},
		{"value KELP.XCVH FERY.XCVH", 2, "one symbol and one field"},
		{"refresh income --only tides", 1, "tides"},
		{"cancel first", 2, "not the number"},
		{"cancel 99999", 1, "no refresh 99999"},
		{"table income --server http://127.0.0.1:1", 1, "no service answers"},
		{"table income --config /no/such.yaml", 2, "no such file"},
		{"serve --listen " + strings.TrimPrefix(shared.address, "http://") + " --data " + filepath.Join(folder, "other"), 1, "is taken by another program"},
		{"serve --listen 0.0.0.0:0 --data " + filepath.Join(folder, "other"), 1, "without TLS"},
		{"serve --data /proc/soba", 1, "choose another with --data"},
		{"doctor --data /proc/soba", 1, "choose another with --data"},
		{"doctor --server http://127.0.0.1:1 --listen " + strings.TrimPrefix(shared.address, "http://"), 1, "is taken by a program that is not Soba"},
		{"demo --clock yesterday", 2, "not an instant"},
		{"standin --listen 0.0.0.0:9100", 2, "loopback only"},
	} {
		r := shared.soba(t, strings.Fields(c.args)...)
		if r.code != c.code || !strings.Contains(r.err+r.out, c.says) {
			t.Errorf("soba %s: exit %d, want %d and %q\n%s%s", c.args, r.code, c.code, c.says, r.out, r.err)
		}
	}
}

func TestTheDemoShowsEveryCase(t *testing.T) {
	var health wire.Health
	shared.must(t, &health, "health", "everything", "--format", "json")
	found := map[string]string{}
	for _, g := range health.Groups {
		for _, n := range g.Names {
			found[g.State+" "+g.Reason] += n.Symbol + " "
		}
	}
	for reason, symbol := range map[string]string{
		"stale session_passed": "LAMP.XPLR", "stale ended": "NETS.XPLR", "missing ended": "VT25.XCVH", "missing not_covered": "LIME.XTSG",
		"missing not_permitted": "KLPF.XCVH", "missing fetch_failed": "PEAT.XNMK", "missing rejected": "OARS.XCVH",
		"missing short_history": "BUOY.XCVH", "missing input_missing": "OARS.XCVH", "missing not_applicable": "EUR/GBP",
	} {
		if !strings.Contains(found[reason], symbol) {
			t.Errorf("%s is not among %s: %s", symbol, reason, found[reason])
		}
	}
	var terms wire.Table
	shared.must(t, &terms, "value", "KLPC.XCVH", "contract.underlying", "contract.expiry", "contract.strike", "contract.right", "contract.multiplier", "--format", "json")
	var said []string
	for _, c := range terms.Rows[0].Cells {
		said = append(said, fmt.Sprint(c.V))
	}
	if got := strings.Join(said, " "); got != "KELP.XCVH 2027-06-18 30 call 100" {
		t.Errorf("the terms of the option: %s", got)
	}
	var plan wire.Plan
	shared.must(t, &plan, "refresh", "everything", "--only", "quotes", "--force", "--dry-run", "--format", "json")
	if len(plan.Requests) != 5 || plan.Units["gannet"] != 500 {
		t.Fatalf("500 names take %d quote requests and %d units", len(plan.Requests), plan.Units["gannet"])
	}
	var r wire.Refresh
	shared.must(t, &r, "refresh", "everything", "--only", "quotes", "--force", "--format", "json")
	var log wire.Requests
	shared.must(t, &log, "requests", "--format", "json", "--limit", "5")
	names := 0
	for _, q := range log.Requests {
		names += q.Symbols
		if q.Call != "quotes" || q.Refresh != r.ID || q.Status != 200 {
			t.Errorf("got %+v", q)
		}
	}
	if r.Answered != 5 || names != 500 {
		t.Errorf("the log says %d names, the refresh %+v", names, r)
	}
}

// The fields of a table are those of the whole list of estimates, added up here.
func TestEstimatesAsAListAndAsFields(t *testing.T) {
	var all wire.Estimates
	shared.must(t, &all, "estimates", "KELP.XCVH", "--format", "json")
	if len(all.Ahead) != 6 || len(all.Behind) != 4 || all.State != "fresh" || all.Currency != "EUR" || all.Ahead[3].Year || !all.Ahead[4].Year {
		t.Fatalf("got %+v", all)
	}
	sum, last := 0.0, all.Behind[0]
	for _, e := range all.Ahead[:4] {
		if sum += *e.EPS; *e.High < *e.EPS || *e.Low > *e.EPS || e.Actual != nil {
			t.Errorf("got %+v", e)
		}
	}
	var price wire.Table
	shared.must(t, &price, "value", "KELP.XCVH", "price.latest", "--format", "json")
	var tab wire.Table
	shared.must(t, &tab, "value", "KELP.XCVH", "estimate.eps", "estimate.eps@Q+2", "estimate.eps@FY+2", "estimate.eps_revision_30d@Q+1", "estimate.surprise", "value.pe_forward", "--format", "json")
	for i, want := range []float64{
		sum, *all.Ahead[1].EPS, *all.Ahead[5].EPS, *all.Ahead[0].EPS / *all.Ahead[0].Before30 - 1, (*last.Actual - *last.EPS) / math.Abs(*last.EPS), price.Rows[0].Cells[0].V.(float64) / sum,
	} {
		if c := tab.Rows[0].Cells[i]; math.Abs(c.V.(float64)-want) > 1e-9 {
			t.Errorf("%s is %v, want %v", tab.Columns[i].ID, c.V, want)
		}
	}
	for symbol, says := range map[string]string{"S&T.XNMK": "no analyst follows it", "HB31.XCVH": "nobody estimates", "LIME.XTSG": "LIME.XTSG"} {
		if r := shared.soba(t, "estimates", symbol); r.code != 0 || !strings.Contains(r.out, says) {
			t.Errorf("estimates of %s: exit %d\n%s%s", symbol, r.code, r.out, r.err)
		}
	}
}

// One vendor divides the price of a company by another year's earnings.
func TestConflictsBetweenWhatIsComputedAndTheVendor(t *testing.T) {
	var found wire.Conflicts
	shared.must(t, &found, "conflicts", "income", "--format", "json")
	if len(found.Conflicts) != 1 {
		t.Fatalf("got %+v", found.Conflicts)
	}
	c := found.Conflicts[0]
	ratio := c.Other.V.(float64) / c.Cell.V.(float64)
	if c.Symbol != "CABL.XNMK" || c.Field != "value.pe" || c.Theirs != "vendor.pe" || c.Other.Source != "whimbrel" || ratio < 1.2 || ratio > 1.4 {
		t.Errorf("got %+v, %v apart", c, ratio)
	}
	var none wire.Conflicts
	if shared.must(t, &none, "conflicts", "income", "--tolerance", "50%", "--format", "json"); len(none.Conflicts) != 0 {
		t.Errorf("by half: %+v", none.Conflicts)
	}
}

// One issuer is traded in euro and in pounds and reports in euro: its earnings are
// turned into pounds where they meet the price there.
func TestAccountsInAnotherCurrencyThanPrices(t *testing.T) {
	shared.must(t, nil, "refresh", "MUSL.XNMK", "MUSL.XCVH", "EUR/GBP")
	var tab, rate wire.Table
	shared.must(t, &tab, "value", "MUSL.XNMK", "MUSL.XCVH", "income.eps_diluted", "price.latest", "value.pe", "margin.net", "value.ps", "income.revenue", "balance.shares_outstanding", "--format", "json")
	shared.must(t, &rate, "value", "EUR/GBP", "rate.spot", "--format", "json")
	number := func(row, column int) float64 { return tab.Rows[row].Cells[column].V.(float64) }
	pounds := rate.Rows[0].Cells[0].V.(float64)
	if c := tab.Rows[0].Cells[0]; c.Unit != "EUR" || tab.Rows[0].Cells[1].Unit != "GBP" || number(0, 0) != number(1, 0) || number(0, 3) != number(1, 3) {
		t.Errorf("the same accounts: %+v and %+v", c, tab.Rows[1].Cells[0])
	}
	if got, want := number(0, 2), number(0, 1)/(number(0, 0)*pounds); math.Abs(got/want-1) > 1e-12 {
		t.Errorf("price/earnings in London is %v, want %v", got, want)
	}
	if got, want := number(0, 4), number(0, 1)*number(0, 6)/(number(0, 5)*pounds); math.Abs(got/want-1) > 1e-12 {
		t.Errorf("price/sales in London is %v, want %v", got, want)
	}
}

// Gordon's model is its closed form; the grid holds the value in its middle; what
// cannot be valued is refused in words.
func TestModelsOfAShare(t *testing.T) {
	var m wire.Model
	shared.must(t, &m, "model", "HBNK.XCVH", "--of", "gordon", "--terminal", "3%", "--discount", "0.08", "--format", "json")
	found := map[string]wire.Assumption{}
	for _, a := range m.Assumptions {
		found[a.Name] = a
	}
	var tab wire.Table
	shared.must(t, &tab, "value", "HBNK.XCVH", "dividend.forward", "price.latest", "--format", "json")
	base, price := tab.Rows[0].Cells[0].V.(float64), tab.Rows[0].Cells[1].V.(float64)
	want := base * 1.03 / (0.08 - 0.03)
	if m.Value == nil || math.Abs(*m.Value-want) > 1e-9 || math.Abs(*m.Distance-(want/price-1)) > 1e-9 || *found["base"].Value != base || !found["discount"].Yours || found["base"].Yours || m.Implied != nil {
		t.Errorf("got %+v, want %v", m, want)
	}
	if g := m.Grid; len(g.Values) != 5 || *g.Values[2][2] != *m.Value || math.Abs(*g.Values[3][2]-base*1.03/(0.09-0.03)) > 1e-9 {
		t.Errorf("the grid %+v", g)
	}
	shared.must(t, &m, "model", "KELP.XCVH", "--format", "json")
	if m.Implied == nil || m.Parts == nil || math.Abs(m.Parts.Stage1+m.Parts.Stage2+m.Parts.Terminal-*m.Value) > 1e-9 || m.Assumptions[1].Origin != "growth of free cash flow a year over five years" {
		t.Errorf("got %+v", m)
	}
	for args, says := range map[string]string{
		"ALGA.XPLR --of earnings": "nothing to grow from", "TIDE.XPLR --of dividends": "nothing to grow from", "KELP.XCVH --discount 1%": "above the growth for ever", "HB31.XCVH": "no earnings of its own",
	} {
		if r := shared.soba(t, append([]string{"model"}, strings.Split(args, " ")...)...); r.code != 0 || !strings.Contains(r.out, says) {
			t.Errorf("model %s: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
	}
}

// A currency that no exchange of the list is in has to be asked for once.
func TestAListInACurrencyOfItsOwn(t *testing.T) {
	read := func(more ...string) (tab wire.Table) {
		shared.must(t, &tab, append([]string{"table", "growth", "--columns", "quote.last", "--in", "SEK", "--format", "json"}, more...)...)
		return tab
	}
	before := read()
	var own wire.Table
	shared.must(t, &own, "table", "growth", "--columns", "quote.last", "--format", "json")
	for i, row := range before.Rows {
		if c := row.Cells[0]; row.Kind == "share" && own.Rows[i].Cells[0].V != nil && (c.Reason != "input_missing" || !strings.Contains(c.Detail, "EUR/SEK is never_fetched")) {
			t.Errorf("%s: %+v", row.Symbol, c)
		}
	}
	shared.must(t, nil, "refresh", "growth", "--in", "SEK", "--only", "rates")
	var rates wire.Table
	shared.must(t, &rates, "value", "EUR/SEK", "EUR/GBP", "EUR/USD", "EUR/JPY", "rate.spot", "--format", "json")
	euros := map[string]float64{"EUR": 1, "GBP": rates.Rows[1].Cells[0].V.(float64), "USD": rates.Rows[2].Cells[0].V.(float64), "JPY": rates.Rows[3].Cells[0].V.(float64)}
	// What was not known then is not known of then.
	for i, row := range read("--as-of", before.AsOf.Format(time.RFC3339)).Rows {
		if a, b := row.Cells[0], before.Rows[i].Cells[0]; a.State != b.State || a.Reason != b.Reason || a.Detail != b.Detail {
			t.Errorf("%s as it was is %+v, and was %+v", row.Symbol, a, b)
		}
	}
	for i, row := range read().Rows {
		was, number := own.Rows[i].Cells[0].V.(float64)
		if row.Kind != "share" || !number {
			continue
		}
		want := was / euros[row.Currency] * rates.Rows[0].Cells[0].V.(float64)
		if got := row.Cells[0].V.(float64); math.Abs(got/want-1) > 1e-12 || row.Cells[0].Unit != "SEK" {
			t.Errorf("%s: %v in %s is %v, want %v", row.Symbol, was, row.Currency, got, want)
		}
	}
}

func TestShellCompletionAsksTheService(t *testing.T) {
	for args, want := range map[string]string{
		"table gro": "growth", "watchlist add income TID": "TIDE.XPLR", "table income --columns quote.last,quote.ch": "quote.last,quote.change_pct", "table income --view pri": "prices",
	} {
		if r := shared.soba(t, append([]string{"__complete"}, strings.Split(args, " ")...)...); !strings.Contains(r.out, want) {
			t.Errorf("completing %q: %s", args, r.out)
		}
	}
	if r := shared.soba(t, "completion", "bash"); r.code != 0 || !strings.Contains(r.out, "soba") {
		t.Errorf("no completion script: %s", r.err)
	}
}
