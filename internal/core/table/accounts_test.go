package table

import (
	"math"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/currency"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/statement"
)

// fiscalYear is the report of a year that ends in December.
func fiscalYear(year int, values map[string]float64) statement.Report {
	r := statement.Report{End: period.MakeDate(year, 12, 31), Year: year, Part: statement.Whole, Currency: "EUR", Values: make([]float64, len(statement.Lines))}
	for i := range r.Values {
		r.Values[i] = math.NaN()
	}
	for id, x := range values {
		r.Values[statement.At(id)] = x
	}
	return r
}

// accounts gives a record reports.
func (r *Record) accounts(reports ...statement.Report) *Record {
	g := r.feed(catalogue.Statements)
	g.Observation = &Observation{Source: "whimbrel", Observed: saturday, Fetched: saturday}
	g.Accounts = statement.New(reports, nil)
	return r
}

var (
	year2024 = map[string]float64{
		"income.revenue": 800, "income.cost_of_revenue": 480, "income.gross_profit": 320, "income.depreciation": 40, "income.operating_income": 160, "income.interest_expense": 10,
		"income.pretax_income": 150, "income.tax": 30, "income.net_income": 120, "income.net_income_common": 120, "income.shares_diluted": 100, "income.eps_diluted": 1.2,
		"balance.cash": 50, "balance.inventory": 60, "balance.current_assets": 200, "balance.total_assets": 900, "balance.short_debt": 30, "balance.long_debt": 170,
		"balance.current_liabilities": 120, "balance.equity": 590, "balance.shares_outstanding": 100, "cash.operating": 170, "cash.capital_expenditure": 60, "cash.dividends_paid": 40,
	}
	year2025 = map[string]float64{
		"income.revenue": 1000, "income.cost_of_revenue": 600, "income.gross_profit": 400, "income.depreciation": 50, "income.operating_income": 200, "income.interest_expense": 20,
		"income.pretax_income": 180, "income.tax": 45, "income.net_income": 135, "income.net_income_common": 135, "income.shares_diluted": 100, "income.eps_diluted": 1.35,
		"balance.cash": 100, "balance.short_investments": 20, "balance.receivables": 100, "balance.inventory": 80, "balance.current_assets": 320, "balance.total_assets": 1100,
		"balance.payables": 90, "balance.short_debt": 40, "balance.long_debt": 160, "balance.current_liabilities": 160, "balance.minority": 10, "balance.equity": 690,
		"balance.shares_outstanding": 110, "cash.operating": 220, "cash.capital_expenditure": 80, "cash.dividends_paid": 56,
	}
)

// Every ratio of the catalogue, worked out from two small years at a price of 20 and
// dividends of 54 cents.
func TestRatiosByHand(t *testing.T) {
	r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2024, year2024), fiscalYear(2025, year2025))
	g := r.feed(catalogue.Dividends)
	g.Observation = &Observation{Source: "gannet", Observed: saturday, Fetched: saturday}
	g.Payments = dividend.History{{Ex: friday - 300, Adjusted: 0.27}, {Ex: friday - 120, Adjusted: 0.27}}
	want := map[string]float64{
		"income.ebitda": 250, "balance.total_debt": 200, "balance.net_debt": 80, "balance.working_capital": 160, "cash.free": 140,
		"margin.gross": 0.4, "margin.operating": 0.2, "margin.net": 0.135, "margin.ebitda": 0.25, "margin.fcf": 0.14,
		"return.assets": 135. / 1000, "return.equity": 135. / 640, "return.invested": 200 * 0.75 / ((790 + 740) / 2.), "return.capital_employed": 200. / 940,
		"strength.current_ratio": 2, "strength.quick_ratio": 1.5, "strength.debt_to_equity": 200. / 690, "strength.debt_to_assets": 200. / 1100,
		"strength.net_debt_to_ebitda": 0.32, "strength.interest_cover": 10,
		"efficiency.asset_turnover": 1, "efficiency.inventory_days": 365 * 80. / 600, "efficiency.receivable_days": 36.5, "efficiency.payable_days": 365 * 90. / 600,
		"growth.revenue": 0.25, "growth.net_income": 0.125, "growth.eps": 0.125, "growth.fcf": 140./110 - 1, "share.change_1y": 0.1,
		"value.market_cap": 2200, "value.enterprise": 2200 + 200 + 10 - 120, "value.pe": 20 / 1.35, "value.ps": 2.2, "value.pb": 2200. / 690, "value.pcf": 10, "value.pfcf": 2200. / 140,
		"value.ev_sales": 2.29, "value.ev_ebitda": 2290. / 250, "value.ev_ebit": 11.45, "value.earnings_yield": 0.0675, "value.fcf_yield": 140. / 2200,
		"dividend.payout": 0.4, "dividend.cover": 2.5, "dividend.payout_cash": 0.4,
		"margin.gross@FY-1": 0.4, "margin.net@FY2024": 0.15, "income.revenue@FY-1": 800, "strength.current_ratio@FY-1": 200. / 120, "cash.free@2025-03-01": 110,
	}
	for id, x := range want {
		c := evaluate(t, []*Record{r}, id, "").Rows[0].Cells[0]
		if c.State != cell.Fresh || math.Abs(c.Value.Num-x) > 1e-12*math.Max(1, math.Abs(x)) {
			t.Errorf("%s is %+v, want %v", id, c, x)
		}
	}
	for id, reason := range map[string]cell.Reason{
		"return.assets@FY-1": cell.ShortHistory, "growth.revenue_3y": cell.ShortHistory, "income.revenue@FY-7": cell.ShortHistory, "income.revenue@Q": cell.NotReported,
		"income.research": cell.NotReported,
	} {
		if c := evaluate(t, []*Record{r}, id, "").Rows[0].Cells[0]; c.Reason != reason && !(c.Reason == cell.InputMissing && strings.Contains(c.Detail, reason.String())) {
			t.Errorf("%s is %+v, want %s", id, c, reason)
		}
	}
	tab := evaluate(t, []*Record{r}, "margin.net@FY-1", "")
	e := tab.Explain(&tab.Rows[0], 0)
	if len(e.Inputs) != 2 || e.Inputs[0].Ref.String() != "income.net_income@FY-1" || e.Inputs[0].Cell.Period != "FY2024" {
		t.Errorf("explained by %+v", e.Inputs)
	}
}

// A year that ended in December 2024 is followed by one that is due in April 2026.
func TestAReportThatIsDueMakesAccountsStale(t *testing.T) {
	old := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2024, year2024))
	newer := listed("BBB", "EUR", 20, 20).accounts(fiscalYear(2023, year2024), fiscalYear(2024, year2024))
	refs, err := catalogue.ParseColumns([]string{"income.revenue", "margin.net"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range []*Record{old, newer} { // checked on each of the days
		for day, stale := range map[string]bool{"2026-04-30": false, "2026-05-01": true} {
			d, _ := period.ParseDate(day)
			now := d.In(harbour.Zone, 12, 0)
			r.feed(catalogue.Statements).Observation = &Observation{Source: "whimbrel", Observed: now, Fetched: now}
			tab := p.Evaluate([]*Record{r}, now, freshness.Standard)
			for _, c := range tab.Rows[0].Cells[:2] {
				if (c.State == cell.Stale) != stale || stale && (c.Reason != cell.ReportDue || c.Detail != "a report to 2025-12-31 was due by 2026-04-30") {
					t.Errorf("on %s: %+v", day, c)
				}
			}
			if midnight := (d + 1).In(harbour.Zone, 0, 0); !stale && !tab.Until.Equal(midnight) {
				t.Errorf("on %s the table holds until %s, want %s", day, tab.Until, midnight)
			}
		}
	}
}

// What has no meaning has no value: earnings below zero, equity below zero.
func TestRatiosThatDoNotExist(t *testing.T) {
	losing := map[string]float64{}
	for id, x := range year2025 {
		losing[id] = x
	}
	losing["income.net_income"], losing["income.net_income_common"], losing["income.eps_diluted"], losing["balance.equity"] = -50, -50, -0.5, -10
	r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2025, losing))
	for _, id := range []string{"value.pe", "value.pb", "strength.debt_to_equity", "dividend.payout"} {
		if id == "dividend.payout" {
			g := r.feed(catalogue.Dividends)
			g.Observation = &Observation{Source: "gannet", Observed: saturday, Fetched: saturday}
			g.Payments = dividend.History{{Ex: friday - 300, Adjusted: 0.27}, {Ex: friday - 120, Adjusted: 0.27}}
		}
		if c := evaluate(t, []*Record{r}, id, "").Rows[0].Cells[0]; c.Reason != cell.NotApplicable || c.Value.Kind != cell.None {
			t.Errorf("%s of a loss: %+v", id, c)
		}
	}
	if c := evaluate(t, []*Record{r}, "margin.net", "").Rows[0].Cells[0]; c.Value.Num != -0.05 {
		t.Errorf("a margin may be below zero: %+v", c)
	}
	bank := map[string]float64{"income.revenue": 50, "income.net_income": 10, "balance.total_assets": 900, "balance.equity": 90}
	b := listed("BBB", "EUR", 20, 20).accounts(fiscalYear(2025, bank))
	for id, reason := range map[string]cell.Reason{
		"margin.gross": cell.NotApplicable, "strength.current_ratio": cell.NotApplicable, "balance.inventory": cell.NotApplicable, "income.research": cell.NotReported, "margin.net": cell.NoReason,
	} {
		if c := evaluate(t, []*Record{b}, id, "").Rows[0].Cells[0]; c.Reason != reason {
			t.Errorf("%s of a bank: %+v", id, c)
		}
	}
	bank["balance.inventory"] = 1
	if c := evaluate(t, []*Record{listed("BBB", "EUR", 20, 20).accounts(fiscalYear(2025, bank))}, "margin.gross", "").Rows[0].Cells[0]; c.Reason != cell.InputMissing {
		t.Errorf("a gross margin that was left out: %+v", c)
	}
	fund := listed("FFF", "EUR", 20, 20)
	fund.Listing.Kind = market.ETF
	if c := evaluate(t, []*Record{fund}, "value.pe", "").Rows[0].Cells[0]; c.Reason != cell.NotApplicable {
		t.Errorf("a fund has no accounts: %+v", c)
	}
}

// Prices in euro, accounts in pounds, two euro to the pound: earnings of 1.35 pounds
// are 2.70 euro. In dollars, of which a euro is worth four, nothing changes but amounts.
func TestAccountsInAnotherCurrency(t *testing.T) {
	report := fiscalYear(2025, year2025)
	report.Currency = "GBP"
	r := listed("AAA", "EUR", 20, 20).accounts(report)
	refs, err := catalogue.ParseColumns([]string{"income.revenue", "margin.net", "value.pe", "value.ps", "value.market_cap", "value.enterprise", "cash.free"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if !p.Converts([]*Record{r}) || p.Converts([]*Record{listed("BBB", "EUR", 1, 1)}) {
		t.Error("rates are needed for accounts in another currency, and not without")
	}
	fixing := func(base, quote string, rate float64) *currency.Pair {
		return &currency.Pair{Base: base, Quote: quote, Fixings: []currency.Fixing{{Day: friday, Rate: rate}}}
	}
	rates := currency.New([]*currency.Pair{fixing("EUR", "GBP", 0.5), fixing("EUR", "USD", 4)})
	for _, c := range []struct {
		in    Conversion
		want  []float64
		units string
	}{
		{Conversion{"", rates}, []float64{1000, 0.135, 20 / 2.7, 1.1, 2200, 2200 + 400 + 20 - 240, 140}, "GBP percent ratio ratio EUR EUR GBP"},
		{Conversion{"USD", rates}, []float64{8000, 0.135, 20 / 2.7, 1.1, 8800, 4 * (2200 + 400 + 20 - 240), 1120}, "USD percent ratio ratio USD USD USD"},
	} {
		cells := p.EvaluateIn(c.in, []*Record{r}, saturday, freshness.Standard).Rows[0].Cells
		var units []string
		for i, x := range c.want {
			units = append(units, cells[i].Unit)
			if math.Abs(cells[i].Value.Num-x) > 1e-9 {
				t.Errorf("in %q, %s is %+v, want %v", c.in.To, refs[i], cells[i], x)
			}
		}
		if got := strings.Join(units, " "); got != c.units {
			t.Errorf("in %q: units %s, want %s", c.in.To, got, c.units)
		}
	}
	cells := p.Evaluate([]*Record{r}, saturday, freshness.Standard).Rows[0].Cells
	if cells[1].State != cell.Fresh || cells[2].Reason != cell.InputMissing || !strings.Contains(cells[2].Detail, "an exchange rate from GBP to EUR") {
		t.Errorf("without rates: %+v and %+v", cells[1], cells[2])
	}
}

// Nine tests of 2025 against 2024 at their edges: what is equal is neither up nor down.
func TestTheFScoreByHand(t *testing.T) {
	base := func(change map[string]float64) map[string]float64 {
		out := map[string]float64{
			"income.revenue": 1000, "income.net_income": 100, "income.gross_profit": 400, "cash.operating": 120, "balance.total_assets": 1000, "balance.long_debt": 200,
			"balance.current_assets": 300, "balance.current_liabilities": 150, "balance.shares_outstanding": 100,
		}
		for id, x := range change {
			out[id] = x
		}
		return out
	}
	columns := []string{"strength.f_score@FY"}
	for _, name := range []string{"income", "cash", "return", "accruals", "debt", "liquidity", "shares", "margin", "turnover"} {
		columns = append(columns, "score.f_"+name+"@FY")
	}
	for name, c := range map[string]struct {
		now  map[string]float64
		want string // the score and its parts
	}{
		// Nothing changes: profit, cash, cash above income, and no new shares.
		"the same year again": {nil, "4 1 1 0 1 0 0 1 0 0"},
		// Return and turnover go over the assets at the beginning, which are the same.
		"better in all": {map[string]float64{
			"income.revenue": 1100, "income.net_income": 110, "income.gross_profit": 450, "cash.operating": 111, "balance.long_debt": 199, "balance.current_assets": 301, "balance.shares_outstanding": 99,
		}, "9 1 1 1 1 1 1 1 1 1"},
		"worse in all": {map[string]float64{
			"income.revenue": 900, "income.net_income": -1, "income.gross_profit": 300, "cash.operating": -2, "balance.long_debt": 201, "balance.current_assets": 299, "balance.shares_outstanding": 101,
		}, "0 0 0 0 0 0 0 0 0 0"},
		"cash equal to income, income of nothing": {map[string]float64{"income.net_income": 0, "cash.operating": 0}, "1 0 0 0 0 0 0 1 0 0"},
	} {
		r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2023, base(nil)), fiscalYear(2024, base(nil)), fiscalYear(2025, base(c.now)))
		var got []string
		for _, x := range evaluate(t, []*Record{r}, strings.Join(columns, ","), "").Rows[0].Cells[:len(columns)] {
			got = append(got, strings.TrimSpace(x.Readable()+" "+x.Reason.String()))
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", name, text, c.want)
		}
	}
	debtless := base(map[string]float64{"balance.long_debt": 0})
	r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2023, base(nil)), fiscalYear(2024, debtless), fiscalYear(2025, debtless))
	if c := evaluate(t, []*Record{r}, "score.f_debt@FY", "").Rows[0].Cells[0]; c.Value.Num != 1 {
		t.Errorf("no debt in both years: %+v", c)
	}
	// Without the year before last two tests cannot be decided, and so the score; the others can.
	r = listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2024, base(nil)), fiscalYear(2025, base(nil)))
	cells := evaluate(t, []*Record{r}, "strength.f_score@FY,score.f_return@FY,score.f_cash@FY,score.f_liquidity@FY", "").Rows[0].Cells
	if cells[0].Reason != cell.InputMissing || !strings.Contains(cells[0].Detail, "balance.total_assets") || !cells[1].Absent() || cells[2].Value.Num != 1 || cells[3].Absent() {
		t.Errorf("two years alone: %+v", cells)
	}
}

// 1.2 · 160/1100 + 1.4 · 330/1100 + 3.3 · 200/1100 + 0.6 · 2200/400 + 1000/1100.
func TestTheZScoreByHand(t *testing.T) {
	year := map[string]float64{"balance.retained_earnings": 330, "balance.total_liabilities": 400}
	for id, x := range year2025 {
		year[id] = x
	}
	r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2025, year))
	want := 1.2*160/1100 + 1.4*0.3 + 3.3*200/1100 + 0.6*5.5 + 1000./1100
	if c := evaluate(t, []*Record{r}, "strength.z_score", "").Rows[0].Cells[0]; math.Abs(c.Value.Num-want) > 1e-12 {
		t.Errorf("got %+v, want %v", c, want)
	}
	bank := listed("BBB", "EUR", 20, 20).accounts(fiscalYear(2025, map[string]float64{"income.revenue": 50, "income.net_income": 10, "balance.total_assets": 900, "balance.equity": 90}))
	if c := evaluate(t, []*Record{bank}, "strength.z_score", "").Rows[0].Cells[0]; c.Reason != cell.NotApplicable {
		t.Errorf("of a bank: %+v", c)
	}
}

// The year 2024 was published on 10 March 2025, at 18; of the year before it is not
// known when, and 60 days after its end, on 29 February 2024, the last close was 15.
func TestValuationsOfPastPeriods(t *testing.T) {
	known := fiscalYear(2024, year2024)
	known.Filed = period.MakeDate(2025, 3, 10)
	bars := &series.Bars{}
	for _, bar := range []struct {
		day   period.Date
		close float64
	}{
		{period.MakeDate(2024, 2, 28), 15}, {period.MakeDate(2024, 3, 5), 16}, {period.MakeDate(2025, 3, 7), 18}, {period.MakeDate(2025, 3, 11), 25}, {friday, 20},
	} {
		bars.Append(bar.day, bar.close, bar.close, bar.close, bar.close, 1)
	}
	r := listed("AAA", "EUR", 20, 20).history(bars).accounts(fiscalYear(2023, year2024), known, fiscalYear(2025, year2025))
	for id, want := range map[string]float64{
		"price.at_filing@FY-1": 18, "value.pe@FY-1": 18 / 1.2, "value.market_cap@FY2024": 1800, "value.ps@FY-1": 1800. / 800, "value.pe@FY-2": 15 / 1.2, "value.pe": 20 / 1.35,
		"value.enterprise@FY-1": 1800 + 200 - 50,
	} {
		if c := evaluate(t, []*Record{r}, id, "").Rows[0].Cells[0]; math.Abs(c.Value.Num-want) > 1e-12 {
			t.Errorf("%s is %+v, want %v", id, c, want)
		}
	}
	if c := evaluate(t, []*Record{r}, "price.at_filing@FY-1", "").Rows[0].Cells[0]; c.Period != "2025-03-07" || c.Unit != "EUR" {
		t.Errorf("of its session: %+v", c)
	}
	if c := evaluate(t, []*Record{r}, "value.pe@FY-5", "").Rows[0].Cells[0]; !c.Absent() || !strings.Contains(c.Detail, "short_history") && c.Reason != cell.ShortHistory {
		t.Errorf("before there are accounts: %+v", c)
	}
}

// A ratio differs when it is further apart than the fraction and half a last digit.
func TestConflictsWithAVendor(t *testing.T) {
	for vendor, differs := range map[float64]bool{14.81: false, 15.5: false, 15.7: true, 14.1: false, 14: true} { // we: 14.8148
		r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2025, year2025))
		r.feed(catalogue.Ratios).Observation = observe1(catalogue.Ratios, saturday, values{"vendor.pe": cell.Of(vendor), "vendor.margin_net": cell.Of(0.135)})
		found, err := Conflicts(Conversion{}, []*Record{r}, saturday, freshness.Standard, 0.05)
		if err != nil {
			t.Fatal(err)
		}
		if (len(found) == 1) != differs || differs && (found[0].Ref.ID != "value.pe" || found[0].Theirs.ID != "vendor.pe" || found[0].Other.Value.Num != vendor) {
			t.Errorf("a vendor that says %v: %+v", vendor, found)
		}
	}
}

// Two sources of accounts are compared line by line, of the same stretch and in the same
// currency, and their conflicts are found in every year that both have.
func TestConflictsBetweenAccounts(t *testing.T) {
	changed := func(of map[string]float64, id string, x float64) map[string]float64 {
		out := map[string]float64{}
		for k, v := range of {
			out[k] = v
		}
		out[id] = x
		return out
	}
	record := func(currency string, theirs ...statement.Report) *Record {
		r := listed("AAA", "EUR", 20, 20).accounts(fiscalYear(2024, year2024), fiscalYear(2025, year2025))
		for i := range theirs {
			theirs[i].Currency = currency
		}
		f := &r.Feeds[FeedOf(catalogue.Statements)]
		f.From[0].Source = "whimbrel"
		f.From = append(f.From, Given{Source: "fulmar", Observation: f.From[0].Observation, Accounts: statement.New(theirs, nil)})
		return r
	}
	r := record("EUR", fiscalYear(2024, changed(year2024, "income.revenue", 808.1)), fiscalYear(2025, changed(changed(year2025, "balance.inventory", 800), "income.tax", 45.3)))
	found, err := Conflicts(Conversion{}, []*Record{r}, saturday, freshness.Standard, 0.05)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range found {
		got = append(got, c.Ref.String()+": "+c.Cell.Detail)
	}
	// 800 against 808.1 is more than one per cent, 45 against 45.3 less.
	if want := "balance.inventory@FY: fulmar gives 800; income.revenue@FY-1: fulmar gives 808.1"; strings.Join(got, "; ") != want {
		t.Errorf("got %q, want %q", got, want)
	}
	if c := evaluate(t, []*Record{r}, "balance.inventory", "").Rows[0].Cells[0]; c.Value.Num != 80 || c.Flags&cell.Conflict == 0 {
		t.Errorf("the newest inventory: %+v", c)
	}
	for name, other := range map[string]*Record{
		"another currency": record("USD", fiscalYear(2025, changed(year2025, "income.revenue", 9))), "another year": record("EUR", fiscalYear(2023, changed(year2024, "income.revenue", 9))),
		"nothing": record("EUR"),
	} {
		if found, err = Conflicts(Conversion{}, []*Record{other}, saturday, freshness.Standard, 0.05); err != nil || len(found) > 0 {
			t.Errorf("%s: %+v, %v", name, found, err)
		}
	}
}

// The market value of an issuer is that of all its classes of shares, at the price of
// each, in the currency of the listing that is looked at.
func TestClassesOfShares(t *testing.T) {
	class := func(ticker, currency string, price, part float64) *Record {
		r := listed(ticker, currency, price, price).accounts(fiscalYear(2024, year2024), fiscalYear(2025, year2025))
		r.Listing.Part = part
		return r
	}
	a, b, c := class("AAA", "EUR", 20, 0.5), class("BBB", "EUR", 30, 0.3), class("CCC", "USD", 11, 0.2)
	a.Classes = []*Record{b, c}
	in := Conversion{Rates: currency.New([]*currency.Pair{{Base: "EUR", Quote: "USD", Fixings: []currency.Fixing{{Day: friday, Rate: 1.1}}}})}
	cells := func(r *Record, columns ...string) []cell.Cell {
		refs, err := catalogue.ParseColumns(columns)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Compile(refs, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		return p.EvaluateIn(in, []*Record{r}, saturday, freshness.Standard).Rows[0].Cells
	}
	own, others := 20*110*0.5, 30*110*0.3+10*110*0.2
	got := cells(a, "value.class_cap", "value.other_classes", "value.market_cap", "value.pb")
	for i, want := range []float64{own, others, own + others, (own + others) / 690} {
		if math.Abs(got[i].Value.Num-want) > 1e-9 || i < 3 && got[i].Unit != "EUR" {
			t.Errorf("%d: %+v, want %v", i, got[i], want)
		}
	}
	if got[1].Detail != "BBB.XCVH, CCC.XCVH" || got[1].Flags&cell.Converted == 0 {
		t.Errorf("the other classes: %+v", got[1])
	}
	if alone := cells(class("DDD", "EUR", 20, 0), "value.market_cap", "value.other_classes"); alone[0].Value.Num != 2200 || alone[1].Value.Num != 0 || alone[1].State != cell.Fresh {
		t.Errorf("an issuer with one class: %+v", alone)
	}
	b.Feeds[FeedOf(catalogue.Quotes)], b.Feeds[FeedOf(catalogue.Bars)] = Feed{}, Feed{}
	if got = cells(a, "value.market_cap"); !got[0].Absent() || !strings.Contains(got[0].Detail, "BBB.XCVH") {
		t.Errorf("without the price of a class: %+v", got[0])
	}
}
