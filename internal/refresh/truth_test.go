package refresh

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

// Dividend fields and total returns of the hand-written names, against what the
// stand-in says is true: reckoned here day by day, in the shares of each day.
func TestDividendFieldsAgainstTheTruth(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 40)
	r, err := w.engine.Ask(t.Context(), store.Asked{
		Watchlist: &w.list.ID, Cause: store.ByHand, From: period.MakeDate(2020, 1, 1),
		Datasets: []catalogue.Dataset{catalogue.Quotes, catalogue.Bars, catalogue.Splits, catalogue.Dividends},
	})
	if err != nil {
		t.Fatal(err)
	}
	w.wait(r.ID)
	records := w.records()
	columns := []string{"dividend.ttm", "dividend.ttm_total", "dividend.annual@2024", "dividend.growth_3y", "dividend.streak", "dividend.yield_at@2025-Q2", "price.total_return_52w", "price.adjusted_close@-1y", "price.sma_50", "price.volatility_1y", "price.beta_2y"}
	refs, err := catalogue.ParseColumns(columns)
	if err != nil {
		t.Fatal(err)
	}
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	today := period.MakeDate(2026, 3, 7)
	checked := map[string]int{}
	for _, row := range p.Evaluate(records, w.market.Clock(), freshness.Standard).Rows {
		l := row.Record.Listing
		truth := w.truth(l.Symbol.String())
		if slices.Contains([]string{"FOGG", "PEAT"}, l.Symbol.Ticker) || len(truth.Bars.Day) < 50 { // the vendor lost a part of the one, and all of the other
			continue
		}
		shares := func(day period.Date) float64 {
			n := 1.0
			for _, s := range truth.Splits {
				if day < s.Day {
					n *= s.Ratio
				}
			}
			return n
		}
		sum := func(after, to period.Date, kinds ...string) (total float64) {
			for _, d := range truth.Dividends {
				if d.Ex > after && d.Ex <= to && slices.Contains(kinds, d.Kind) {
					total += d.Amount / shares(d.Ex)
				}
			}
			return total
		}
		year := func(y int) float64 {
			return sum(period.MakeDate(y-1, 12, 31), period.MakeDate(y, 12, 31), "regular")
		}
		streak := 0
		for y := 2025; year(y) > year(y-1)+1e-9 && year(y-1) > 0; y-- {
			streak++
		}
		at := func(day period.Date) int {
			i := len(truth.Bars.Day) - 1
			for i > 0 && truth.Bars.Day[i] > day {
				i--
			}
			return i
		}
		// One share bought a year ago, each dividend spent at the price of the evening before less itself.
		held := func(from int) float64 {
			n := 1.0
			for i := from + 1; i < len(truth.Bars.Day); i++ {
				day := truth.Bars.Day[i]
				for _, s := range truth.Splits {
					if s.Day > truth.Bars.Day[i-1] && s.Day <= day {
						n *= s.Ratio
					}
				}
				for _, d := range truth.Dividends {
					if d.Ex > truth.Bars.Day[i-1] && d.Ex <= day {
						before := truth.Bars.Close[i-1] * shares(truth.Bars.Day[i]) / shares(truth.Bars.Day[i-1])
						n *= before / (before - d.Amount)
					}
				}
			}
			return n * truth.Bars.Close[len(truth.Bars.Close)-1]
		}
		start, anniversary := at(today-364), at(today.AddYears(-1))
		quarter := at(period.MakeDate(2025, 6, 30))
		mean := 0.0
		for i := len(truth.Bars.Close) - 50; i < len(truth.Bars.Close); i++ {
			mean += truth.Bars.Close[i] / shares(truth.Bars.Day[i]) / 50
		}
		// Deviation of the daily logarithms after today a year ago, and the slope of weekly returns on the index's.
		var logs, own, index []float64
		for i := at(today.AddYears(-1)) + 2; i < len(truth.Bars.Close); i++ {
			logs = append(logs, math.Log(truth.Bars.Close[i]/shares(truth.Bars.Day[i])/truth.Bars.Close[i-1]*shares(truth.Bars.Day[i-1])))
		}
		if main := row.Record.Exchange.Index.String(); main != "" {
			of := w.truth(main).Bars
			weeks, levels := lastOfWeeks(truth.Bars.Day, truth.Bars.Close, shares), lastOfWeeks(of.Day, of.Close, func(period.Date) float64 { return 1 })
			for monday := period.MakeDate(2026, 3, 2) - 7*104; monday < period.MakeDate(2026, 3, 2); monday += 7 {
				if weeks[monday] > 0 && weeks[monday-7] > 0 && levels[monday] > 0 && levels[monday-7] > 0 {
					own, index = append(own, weeks[monday]/weeks[monday-7]-1), append(index, levels[monday]/levels[monday-7]-1)
				}
			}
		}
		last := truth.Bars.Close[len(truth.Bars.Close)-1]
		for i, want := range []float64{
			sum(today-365, today, "regular"), sum(today-365, today, "regular", "special"), year(2024),
			math.Cbrt(year(2025)/year(2022)) - 1, float64(streak),
			sum(period.MakeDate(2024, 6, 30), period.MakeDate(2025, 6, 30), "regular") / (truth.Bars.Close[quarter] / shares(truth.Bars.Day[quarter])),
			held(start)/truth.Bars.Close[start] - 1, truth.Bars.Close[anniversary] * last / held(anniversary), mean,
			math.Sqrt(252 * covariance(logs, logs)), covariance(own, index) / covariance(index, index),
		} {
			c := row.Cells[i]
			if c.Absent() && slices.Contains([]cell.Reason{cell.NotApplicable, cell.NotReported, cell.ShortHistory, cell.NotPermitted, cell.NotCovered, cell.Ended}, c.Reason) {
				continue
			}
			if math.Abs(c.Value.Num-want) > 1e-6*max(1, math.Abs(want)) || c.Absent() {
				t.Errorf("%s of %s is %+v, want %v", columns[i], l.Symbol, c, want)
			}
			checked[columns[i]]++
		}
	}
	for _, c := range columns {
		if checked[c] < 15 {
			t.Errorf("%s was checked on %d names", c, checked[c])
		}
	}
}

// Lines of the accounts and ratios of the hand-written names, against the quarters
// that the stand-in says are true: added up here from the day that a cell names. One
// vendor sends quarters, the other what issuers file: years, and what had come together
// since the beginning of one.
func TestAccountsAgainstTheTruth(t *testing.T) {
	t.Parallel()
	for _, vendor := range []string{"whimbrel", "fulmar"} {
		t.Run(vendor, func(t *testing.T) {
			t.Parallel()
			accountsAgainstTheTruth(t, vendor)
		})
	}
}

func accountsAgainstTheTruth(t *testing.T, vendor string) {
	w := newWorld(t, 40, "gannet", vendor)
	r, err := w.engine.Ask(t.Context(), store.Asked{
		Watchlist: &w.list.ID, Cause: store.ByHand, Datasets: []catalogue.Dataset{catalogue.Quotes, catalogue.Bars, catalogue.Splits, catalogue.Dividends, catalogue.Statements},
	})
	if err != nil {
		t.Fatal(err)
	}
	w.wait(r.ID)
	columns := []string{
		"income.revenue", "income.net_income", "income.eps_diluted", "balance.total_assets", "cash.free", "growth.revenue", "return.equity", "income.revenue@FY-1", "income.revenue@Q-1",
		"value.pe", "dividend.payout_cash", "balance.shares_outstanding",
	}
	more := reckonedFromAccounts(standin.Accounts{}, standin.Accounts{}, standin.Accounts{}, standin.Accounts{}, 0, 0)
	for id := range more {
		columns = append(columns, id)
	}
	slices.Sort(columns[12:])
	refs, err := catalogue.ParseColumns(columns)
	if err != nil {
		t.Fatal(err)
	}
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	checked := map[string]int{}
	today := period.MakeDate(2026, 3, 7)
	for _, row := range p.Evaluate(w.records(), w.market.Clock(), freshness.Standard).Rows {
		l := row.Record.Listing
		if l.Kind != market.Share {
			continue
		}
		truth := w.truth(l.Symbol.String())
		end, err := period.ParseDate(strings.TrimPrefix(row.Cells[0].Period, "TTM "))
		at := slices.IndexFunc(truth.Accounts, func(a standin.Accounts) bool { return a.End == end })
		if err != nil || at < 8 || end > today || end < today-270 { // one that reports by halves is the last
			if l.Symbol.Ticker == "CHRT" { // late with its reports
				if c := row.Cells[0]; c.State != cell.Stale || c.Reason != cell.ReportDue || !strings.Contains(c.Detail, "was due by 2025-") {
					t.Errorf("an issuer that is late: %+v", c)
				}
			} else if l.Symbol.Ticker != "LIME" || vendor == "fulmar" { // of which the other has nothing
				t.Errorf("%s: the newest report is of %q (%+v)", l.Symbol, row.Cells[0].Period, row.Cells[0])
			}
			continue
		}
		sum := func(last, n int, of func(a *standin.Accounts) int64) (total float64) {
			for i := last - n + 1; i <= last; i++ {
				total += float64(of(&truth.Accounts[i])) * 1000
			}
			return total
		}
		revenue := func(a *standin.Accounts) int64 { return a.Revenue }
		income := func(a *standin.Accounts) int64 { return a.NetIncome() }
		year := at // the newest fiscal year that had ended; the one before is wanted
		for truth.Accounts[year].Quarter != 4 {
			year--
		}
		published := row.Cells[7].Period
		for fmt.Sprintf("FY%04d", truth.Accounts[year].Year-1) != published && year > 8 {
			year -= 4 // its report may still be to come
		}
		shares := float64(truth.Accounts[at].Shares)
		for _, s := range truth.Splits { // in today's
			if s.Day > end && s.Day <= today {
				shares *= s.Ratio
			}
		}
		shares = math.Round(shares)
		eps := sum(at, 4, income) / (shares + math.Floor(shares/100))
		free := sum(at, 4, func(a *standin.Accounts) int64 { return a.OperatingCash - a.CapitalExpenditure })
		paid := sum(at, 4, func(a *standin.Accounts) int64 { return a.Dividends })
		price := row.Record.Feeds[table.FeedOf(catalogue.Quotes)].From[0]
		last := math.NaN()
		if price.Observation != nil {
			last = price.Observation.Values[catalogue.Find("quote.last").Slot()].Num
		}
		wanted := []float64{
			sum(at, 4, revenue), sum(at, 4, income), eps, float64(truth.Accounts[at].Assets()) * 1000, free,
			sum(at, 4, revenue)/sum(at-4, 4, revenue) - 1, sum(at, 4, income) / (1000 * float64(truth.Accounts[at].Equity+truth.Accounts[at-4].Equity) / 2),
			sum(year-4, 4, revenue), sum(at-1, 1, revenue), last / eps, paid / free, shares,
		}
		twelve := func(last int) standin.Accounts { // months up to a quarter, with the balance sheet at their end
			x := truth.Accounts[last]
			for _, q := range truth.Accounts[last-3 : last] {
				x.Revenue, x.Cost, x.Selling, x.Depreciation, x.Interest, x.Tax = x.Revenue+q.Revenue, x.Cost+q.Cost, x.Selling+q.Selling, x.Depreciation+q.Depreciation, x.Interest+q.Interest, x.Tax+q.Tax
				x.OperatingCash, x.CapitalExpenditure, x.Dividends, x.Borrowed = x.OperatingCash+q.OperatingCash, x.CapitalExpenditure+q.CapitalExpenditure, x.Dividends+q.Dividends, x.Borrowed+q.Borrowed
			}
			return x
		}
		if l.Symbol.Ticker == "MUSL" || l.Part != 0 || last == 0 {
			last = math.NaN() // its accounts are in another currency on one exchange, its shares of several classes, or its last price came as a text
		}
		more := reckonedFromAccounts(twelve(at), twelve(at-4), twelve(at-12), twelve(at-20), last, shares)
		for _, id := range columns[12:] {
			wanted = append(wanted, more[id])
		}
		for i, want := range wanted {
			c := row.Cells[i]
			if i >= 12 && (math.IsNaN(want) || math.IsInf(want, 0) || c.Reason == cell.ShortHistory || l.Symbol.Ticker == "FOGG" && (strings.Contains(columns[i], "receivable") || strings.Contains(columns[i], "current") || strings.Contains(columns[i], "quick") || strings.Contains(columns[i], "working"))) {
				continue // a vendor has its receivables wrong by a digit
			}
			if c.Absent() && (c.Reason == cell.NotApplicable || c.Reason == cell.InputMissing || columns[i] == "income.revenue@Q-1" && c.Reason == cell.NotReported) {
				continue
			}
			if want == 0 && columns[i] == "value.pe" { // its last price came as a text
				continue
			}
			// Earnings a share come with six decimals, all else whole.
			if tolerance := map[bool]float64{true: 1e-5, false: 1e-9}[strings.Contains(columns[i], "eps") || columns[i] == "value.pe" || columns[i] == "value.earnings_yield"]; c.Absent() || math.Abs(c.Value.Num-want) > tolerance*math.Abs(want) {
				t.Errorf("%s of %s is %+v, want %v", columns[i], l.Symbol, c, want)
			}
			checked[columns[i]]++
		}
	}
	few := map[string]int{"strength.interest_cover": 7, "growth.revenue_3y": 12, "growth.revenue_5y": 12} // most owe nothing; filings go back six years
	for _, c := range columns {
		if checked[c] < cmp.Or(few[c], 15) {
			t.Errorf("%s was checked on %d names", c, checked[c])
		}
	}
}

// The accounts as the vendor's pages have them, of years and quarters, against the
// truth; of the one company that does not consolidate from the page of its own accounts.
func TestPagesAgainstTheTruth(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 40, "gannet", "whimbrel-pages")
	w.refresh(false, catalogue.Statements)
	columns := []string{"income.revenue@FY", "income.net_income@FY-3", "income.eps_diluted@FY", "balance.total_assets@FY", "cash.free@FY", "income.revenue@Q"}
	refs, err := catalogue.ParseColumns(columns)
	if err != nil {
		t.Fatal(err)
	}
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	checked := 0
	for _, row := range p.Evaluate(w.records(), w.market.Clock(), freshness.Standard).Rows {
		l := row.Record.Listing
		if l.Kind != market.Share {
			continue
		}
		if l.Symbol.Ticker == "LIME" {
			if c := row.Cells[0]; c.Reason != cell.NotCovered {
				t.Errorf("a company without a page: %+v", c)
			}
			continue
		}
		truth := w.truth(l.Symbol.String()).Accounts
		year := slices.IndexFunc(truth, func(a standin.Accounts) bool {
			return a.Quarter == 4 && fmt.Sprintf("FY%04d", a.Year) == row.Cells[0].Period
		})
		if year < 16 {
			t.Errorf("%s: the newest year is %q (%+v)", l.Symbol, row.Cells[0].Period, row.Cells[0])
			continue
		}
		sum := func(last int, of func(a *standin.Accounts) int64) (total float64) {
			for i := last - 3; i <= last; i++ {
				total += float64(of(&truth[i])) * 1000
			}
			return total
		}
		income := func(a *standin.Accounts) int64 { return a.NetIncome() }
		want := []float64{
			sum(year, func(a *standin.Accounts) int64 { return a.Revenue }), sum(year-12, income), math.NaN(), float64(truth[year].Assets()) * 1000,
			sum(year, func(a *standin.Accounts) int64 { return a.OperatingCash - a.CapitalExpenditure }), math.NaN(),
		}
		if len(w.market.Find(l.Symbol).Splits) == 0 {
			want[2] = sum(year, income) / float64(truth[year].Shares+truth[year].Shares/100)
		}
		if quarter := slices.IndexFunc(truth, func(a standin.Accounts) bool {
			return fmt.Sprintf("%04d-Q%d", a.Year, a.Quarter) == row.Cells[5].Period
		}); quarter > 0 {
			want[5] = float64(truth[quarter].Revenue) * 1000
		}
		for i, x := range want {
			c := row.Cells[i]
			if math.IsNaN(x) || c.Reason == cell.NotReported && columns[i] == "income.revenue@Q" { // of halves
				continue
			}
			checked++
			if tolerance := map[bool]float64{true: 1e-5, false: 1e-9}[i == 2]; c.Absent() || math.Abs(c.Value.Num/x-1) > tolerance || c.Flags&cell.Standalone != 0 != (l.Symbol.Ticker == "SHIO") {
				t.Errorf("%s of %s is %+v, want %v", columns[i], l.Symbol, c, x)
			}
		}
	}
	if checked < 140 {
		t.Errorf("%d values were checked", checked)
	}
}

// reckonedFromAccounts are figures of twelve months, worked out from the quarters that are
// true: now, a year before, three and five years before, at a price and with shares as
// they are counted today. Amounts are in thousands.
func reckonedFromAccounts(now, before, three, five standin.Accounts, price, shares float64) map[string]float64 {
	k := func(x int64) float64 { return float64(x) * 1000 }
	over := func(a, b float64) float64 {
		if b <= 0 {
			return math.NaN()
		}
		return a / b
	}
	short := func(a *standin.Accounts) int64 { return a.Debt / 5 }
	revenue, net, operating := k(now.Revenue), k(now.NetIncome()), k(now.OperatingIncome())
	ebitda, free := operating+k(now.Depreciation), k(now.OperatingCash-now.CapitalExpenditure)
	freeBefore := k(before.OperatingCash - before.CapitalExpenditure)
	current, due := k(now.Cash+now.Receivables+now.Inventory), k(now.Payables+short(&now))
	pretax, tax := k(now.OperatingIncome()-now.Interest), k(now.Tax)
	capital := (k(now.Equity+now.Debt-now.Cash) + k(before.Equity+before.Debt-before.Cash)) / 2
	worth := price * shares
	enterprise := worth + k(now.Debt) - k(now.Cash)
	eps := net / (shares + math.Floor(shares/100))
	return map[string]float64{
		"income.cost_of_revenue": k(now.Cost), "income.gross_profit": k(now.Revenue - now.Cost), "income.selling_general": k(now.Selling), "income.depreciation": k(now.Depreciation), "income.operating_income": operating,
		"income.interest_expense": k(now.Interest), "income.pretax_income": pretax, "income.tax": tax, "income.net_income_common": net, "income.ebitda": ebitda,
		"balance.cash": k(now.Cash), "balance.receivables": k(now.Receivables), "balance.inventory": k(now.Inventory), "balance.current_assets": current, "balance.property": k(now.Property), "balance.payables": k(now.Payables),
		"balance.short_debt": k(short(&now)), "balance.long_debt": k(now.Debt - short(&now)), "balance.current_liabilities": due, "balance.total_liabilities": k(now.Liabilities()), "balance.equity": k(now.Equity),
		"balance.retained_earnings": k(now.Retained), "balance.total_debt": k(now.Debt), "balance.net_debt": k(now.Debt - now.Cash), "balance.working_capital": current - due,
		"cash.operating": k(now.OperatingCash), "cash.capital_expenditure": k(now.CapitalExpenditure), "cash.investing": -k(now.CapitalExpenditure), "cash.financing": k(now.Borrowed - now.Dividends), "cash.dividends_paid": k(now.Dividends),
		"margin.gross": k(now.Revenue-now.Cost) / revenue, "margin.operating": operating / revenue, "margin.net": net / revenue, "margin.ebitda": ebitda / revenue, "margin.fcf": free / revenue,
		"return.assets": over(net, k(now.Assets()+before.Assets())/2), "return.invested": over(operating*(1-over(tax, pretax)), capital), "return.capital_employed": over(operating, k(now.Assets())-due),
		"strength.current_ratio": over(current, due), "strength.quick_ratio": over(current-k(now.Inventory), due), "strength.debt_to_equity": over(k(now.Debt), k(now.Equity)), "strength.debt_to_assets": k(now.Debt) / k(now.Assets()),
		"strength.net_debt_to_ebitda": over(k(now.Debt-now.Cash), ebitda), "strength.interest_cover": over(operating, k(now.Interest)),
		"efficiency.asset_turnover": revenue / (k(now.Assets()+before.Assets()) / 2), "efficiency.inventory_days": 365 * k(now.Inventory) / k(now.Cost), "efficiency.receivable_days": 365 * k(now.Receivables) / revenue, "efficiency.payable_days": 365 * k(now.Payables) / k(now.Cost),
		"growth.net_income": over(net-k(before.NetIncome()), k(before.NetIncome())), "growth.fcf": over(free-freeBefore, freeBefore),
		"growth.revenue_3y": math.Pow(revenue/k(three.Revenue), 1./3) - 1, "growth.revenue_5y": math.Pow(revenue/k(five.Revenue), 1./5) - 1,
		"value.market_cap": worth, "value.enterprise": enterprise, "value.ps": worth / revenue, "value.pb": over(worth, k(now.Equity)), "value.pcf": over(worth, k(now.OperatingCash)), "value.pfcf": over(worth, free),
		"value.ev_sales": enterprise / revenue, "value.ev_ebitda": over(enterprise, ebitda), "value.ev_ebit": over(enterprise, operating), "value.earnings_yield": eps / price, "value.fcf_yield": free / worth,
	}
}

type truth struct {
	Bars struct {
		Day   []period.Date
		Close []float64
	}
	Splits []struct {
		Day   period.Date
		Ratio float64
	}
	Dividends []standin.Dividend
	Accounts  []standin.Accounts
}

// truth is what the stand-in says is true of a listing.
func (w *world) truth(symbol string) (out truth) {
	answer := httptest.NewRecorder()
	w.vendors["gannet"].ServeHTTP(answer, httptest.NewRequest("GET", "/admin/truth?symbol="+url.QueryEscape(symbol), nil))
	if err := json.Unmarshal(answer.Body.Bytes(), &out); err != nil {
		w.t.Fatal(err)
	}
	return out
}

// lastOfWeeks are the last closes of weeks, in today's shares, by their Mondays.
func lastOfWeeks(days []period.Date, closes []float64, shares func(period.Date) float64) map[period.Date]float64 {
	out := map[period.Date]float64{}
	for i, d := range days {
		monday := d
		for monday.Weekday() != time.Monday {
			monday--
		}
		out[monday] = closes[i] / shares(d)
	}
	return out
}

func covariance(x, y []float64) (sum float64) {
	mean := func(v []float64) (m float64) {
		for _, a := range v {
			m += a / float64(len(v))
		}
		return m
	}
	mx, my := mean(x), mean(y)
	for i := range x {
		sum += (x[i] - mx) * (y[i] - my) / float64(len(x)-1)
	}
	return sum
}
