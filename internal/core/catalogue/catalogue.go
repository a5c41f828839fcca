// Package catalogue is the one list of every field: its unit, where its value
// comes from, and what it means. Tables, formulas, refreshes, exports and the
// reference are all derived from it.
package catalogue

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/estimate"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/statement"
)

// Unit is the kind of quantity a field is.
type Unit string

// Units. Price and Money are written in the listing's currency.
const (
	Price   Unit = "price"   // per share or unit
	Money   Unit = "money"   // an amount
	Ratio   Unit = "ratio"   // a pure number
	Percent Unit = "percent" // a fraction, shown per cent
	Count   Unit = "count"
	Days    Unit = "days"
	Shares  Unit = "shares"
	Minutes Unit = "minutes"
	Year    Unit = "year"  // a calendar year
	Years   Unit = "years" // a length of time
	Line    Unit = "line"  // numbers through time in a text, separated by spaces: a small chart
	Date    Unit = "date"
	Time    Unit = "time"
	Text    Unit = "text"
)

// Field is one entry of the catalogue. Exactly one of Observed, Fact, Measure,
// Tell, Formula, Reckon and Others says where its value comes from.
type Field struct {
	ID         string
	Label      string
	Unit       Unit
	Definition string
	Reference  string        // standard, paper or textbook that defines it
	NotFor     []market.Kind // kinds of listing for which the quantity does not exist

	Dataset  Dataset // that an observed, measured or factual field reads
	Observed bool    // read as it came from the dataset
	Symbol   bool    // a text that names a listing
	With     Dataset // that it reads besides
	Index    bool    // it reads the bars of the exchange's main index besides
	Takes    Form    // the form of period that it takes

	// Fact reads the value from what is known of the listing and its exchange at an instant.
	Fact func(l *market.Listing, e *market.Exchange, now time.Time) cell.Value
	// Measure computes the value from split-adjusted bars as of a day.
	Measure func(b *series.Bars, day period.Date) (float64, cell.Reason)
	// Tell reads the value off dated records, or off two datasets, as of a day.
	Tell func(t *Told) Said
	// Span says in words which stretch of bars a measure reads, and Back is how many
	// days back it begins; 0: no further than any history.
	Span string
	Back int
	// Formula derives the value from other fields.
	Formula *formula.Expr
	// Reckon computes the value from those of the fields From as of a day, where a
	// formula cannot; they are all there, and numbers where their units are.
	Reckon func(in []cell.Value, day period.Date) Said
	From   []formula.Ref
	// Others is a field that is summed over the issuer's other classes of shares.
	Others string

	slot     int
	info     *DatasetInfo // of its dataset, where a source serves it
	currency *string      // of an amount that is derived, once that is known
}

// Form is a form of period that a field takes.
type Form uint8

// The forms. Without a period a field is of the newest day, year or quarter.
const (
	NoPeriod     Form = iota
	ADate             // price.close@2025-12-31, price.close@-30d
	AYear             // dividend.annual@2024: a calendar year
	AQuarter          // dividend.yield_at@2025-Q3, dividend.yield_at@Q-4: a calendar quarter
	APeriodAhead      // estimate.eps@FY+1, @Q+2, @NTM: a fiscal period that is to come
	AFiscal           // income.revenue@FY-1, @2025-Q3, @TTM: a period of the issuer's fiscal years
)

// examples of periods of each form.
var examples = map[Form][2]string{ADate: {"2025-12-31", "-30d"}, AYear: {"2025", "2024"}, AQuarter: {"2025-Q3", "Q-4"}, AFiscal: {"FY-1", "2025-Q3"}, APeriodAhead: {"FY+1", "NTM"}}

var formNames = [...]string{NoPeriod: "", ADate: "date", AYear: "year", AQuarter: "quarter", AFiscal: "fiscal period", APeriodAhead: "period ahead"}

// String names the form: date, year or quarter.
func (f Form) String() string { return formNames[f] }

// accepts tells whether a period is of the form.
func (f Form) accepts(p period.Period) bool {
	switch f {
	case ADate:
		return p.IsDate()
	case AYear:
		return p.Kind() == period.Calendar
	case APeriodAhead:
		return p.Kind() == period.Next || p.Offset() > 0 && (p.Kind() == period.Year || p.Kind() == period.Quarter)
	case AFiscal:
		return p.Offset() <= 0 && slices.Contains([]period.Kind{period.Year, period.Quarter, period.Half, period.Trailing}, p.Kind()) ||
			p.Kind() == period.YearNamed || p.Kind() == period.QuarterNamed || p.IsDate()
	case AQuarter:
		return p.Kind() == period.QuarterNamed || p.Kind() == period.Quarter && p.Offset() <= 0
	}
	return false
}

// Told is what a field is read off.
type Told struct {
	Listing  *market.Listing
	Entries  entry.Entries    // the dated records of the field's dataset
	Payments dividend.History // the dividends, adjusted for splits
	Accounts *statement.History
	Outlook  estimate.Outlook
	Bars     *series.Bars  // adjusted for splits; nil where the field reads none
	Index    *series.Bars  // of the exchange's main index, where the field reads it
	Day      period.Date   // today on the exchange
	Period   period.Period // that the field was asked for
}

// Said is what a field makes of it: a value, or the reason why there is none.
type Said struct {
	Value   cell.Value
	Reason  cell.Reason
	Detail  string
	Flags   cell.Flags
	Period  string      // that the value is of
	Session period.Date // that a price is of
	End     period.Date // of what a report covers
}

// date is the day that was asked for.
func (t *Told) date() period.Date {
	if t.Period.IsDate() {
		return t.Period.Date(t.Day)
	}
	return t.Day
}

func (t *Told) tooShort() Said {
	return Said{Reason: cell.ShortHistory, Detail: "the history begins on " + t.Bars.Day[0].String()}
}

// foreign tells of dividends that are in another currency than the listing's prices.
func (t *Told) foreign() *Said {
	if c := t.Payments.Foreign(t.Listing.Currency); c != "" {
		return &Said{Reason: cell.InputMissing, Detail: fmt.Sprintf("an exchange rate: dividends are paid in %s, prices are in %s", c, t.Listing.Currency)}
	}
	return nil
}

// Currency says in which currency an amount is: [formula.Own], or
// [formula.Accounts] for lines of the accounts and what is derived from them alone.
func (f *Field) Currency() string {
	switch {
	case f.Dataset == Statements || f.Dataset == Estimates:
		return formula.Accounts
	case f.Formula == nil:
		return formula.Own
	case f.currency == nil:
		u, _ := f.Formula.Check(UnitOf) // a test sees to it that it is right
		f.currency = &u.Currency
	}
	return *f.currency
}

// Inputs are the fields that it is derived from; none for one that is read.
func (f *Field) Inputs() []formula.Ref {
	switch {
	case f.Formula != nil:
		return f.Formula.Refs()
	case f.Others != "":
		return []formula.Ref{{ID: f.Others}}
	}
	return f.From
}

// Within returns an input of the field as it is read for a period that the field is
// asked for: one without a period takes the field's, and @-1y is a year before it. Of
// a past period the latest price is that of the day on which it was known.
func (f *Field) Within(asked period.Period, input formula.Ref) formula.Ref {
	if f.Takes != AFiscal {
		return input
	}
	if input.ID == "price.latest" && asked != (period.Period{}) {
		input.ID = atFiling.ID
	}
	if g := Find(input.ID); g == nil || g.Takes != AFiscal {
		return input
	}
	switch years, back := input.Period.YearsBack(); {
	case input.Period == (period.Period{}):
		input.Period = asked
	case back:
		input.Period = asked.Before(years)
	}
	return input
}

// Slot is the index of an observed field among those of its dataset.
func (f *Field) Slot() int { return f.slot }

// AppliesTo tells whether the quantity exists for a kind of listing.
func (f *Field) AppliesTo(k market.Kind) bool {
	if info := f.info; info != nil && !info.Has(k) {
		return false
	}
	return !slices.Contains(f.NotFor, k)
}

// Group is the part of the id before the dot.
func (f *Field) Group() string { group, _, _ := strings.Cut(f.ID, "."); return group }

var (
	byID  = map[string]*Field{}
	slots = map[Dataset][]*Field{}
)

func init() {
	for i := range Fields {
		f := &Fields[i]
		byID[f.ID] = f
		if f.Fact == nil {
			f.info = Info(f.Dataset)
		}
		if f.Back == 0 && f.Span != "" {
			f.Back = daysBack(f.Span)
		}
		if f.Observed {
			f.slot = len(slots[f.Dataset])
			slots[f.Dataset] = append(slots[f.Dataset], f)
		}
	}
	for i := range Fields {
		Fields[i].Currency()
	}
	for _, info := range Infos {
		if slices.ContainsFunc(Fields, func(f Field) bool {
			return f.Fact == nil && (f.Dataset == info.Name || f.Dataset == Bars && info.Name == Splits)
		}) {
			Datasets = append(Datasets, info.Name)
		}
	}
}

// Find returns a field by id, or nil.
func Find(id string) *Field { return byID[id] }

// ObservedIn lists the observed fields of a dataset, by slot.
func ObservedIn(d Dataset) []*Field { return slots[d] }

// An UnknownFieldError names a field that is not in the catalogue, and the
// nearest that is.
type UnknownFieldError struct{ ID, Nearest string }

func (e *UnknownFieldError) Error() string {
	if e.Nearest == "" {
		return fmt.Sprintf("there is no field %q", e.ID)
	}
	return fmt.Sprintf("there is no field %q; the nearest is %q", e.ID, e.Nearest)
}

// Resolve returns the field a reference names, and checks that it takes the
// reference's period. The error is an *[UnknownFieldError] or says what period is wrong.
func Resolve(ref formula.Ref) (*Field, error) {
	f := Find(ref.ID)
	if f == nil {
		return nil, &UnknownFieldError{ref.ID, Nearest(ref.ID)}
	}
	if ref.Period == (period.Period{}) {
		return f, nil
	}
	if f.Takes == NoPeriod {
		return nil, fmt.Errorf("%s takes no period", f.ID)
	}
	if !f.Takes.accepts(ref.Period) {
		e := examples[f.Takes]
		return nil, fmt.Errorf("%s takes a %s, such as %s@%s or %s@%s, not %s", f.ID, f.Takes, f.ID, e[0], f.ID, e[1], ref.Period)
	}
	return f, nil
}

// UnitOf is what a field is a quantity of in formulas.
func UnitOf(ref formula.Ref) formula.Unit {
	f := Find(ref.ID)
	if f == nil {
		return formula.Unit{}
	}
	switch f.Unit {
	case Price, Money:
		return formula.AmountIn(f.Currency())
	case Text, Line:
		return formula.Unit{Dimension: formula.Text}
	case Date, Time:
		return formula.Unit{Dimension: formula.Moment}
	}
	return formula.Unit{}
}

// columnsOf is a field in each period of a range.
func columnsOf(id, of string) (refs []formula.Ref, err error) {
	r, err := period.ParseRange(of)
	if err != nil {
		return nil, err
	}
	periods, err := r.Periods()
	if err != nil {
		return nil, err
	}
	for _, p := range periods {
		ref := formula.Ref{ID: id, Period: p}
		if _, err := Resolve(ref); err != nil {
			return nil, err
		}
		refs = append(refs, ref)
	}
	return refs, nil
}

// ParseColumns reads field references, each with an optional @period. One with a range of
// periods, as income.revenue@FY-4..FY, stands for one with each of them.
func ParseColumns(columns []string) ([]formula.Ref, error) {
	refs := make([]formula.Ref, 0, len(columns))
	for _, text := range columns {
		if id, of, ranged := strings.Cut(strings.TrimSpace(text), "@"); ranged && strings.Contains(of, "..") {
			each, err := columnsOf(id, of)
			if err != nil {
				return nil, err
			}
			refs = append(refs, each...)
			continue
		}
		ref, err := formula.ParseRef(strings.TrimSpace(text))
		if err == nil {
			_, err = Resolve(ref)
		}
		if err != nil {
			return nil, err
		}
		refs = append(refs, ref)
	}
	return refs, nil
}

// Inputs returns the datasets that a set of fields needs, through all formulas.
func Inputs(refs []formula.Ref) []Dataset {
	needed := map[Dataset]bool{}
	var visit func(ref formula.Ref)
	visit = func(ref formula.Ref) {
		f := Find(ref.ID)
		if f == nil {
			return
		}
		if f.Dataset != "" {
			needed[f.Dataset] = true
			if f.With != "" {
				needed[f.With] = true
			}
			if f.Dataset == Bars || f.Dataset == Dividends || f.Dataset == Statements {
				needed[Splits] = true // what they are adjusted by
			}
			return
		}
		for _, input := range f.Inputs() {
			visit(input)
		}
	}
	for _, ref := range refs {
		visit(ref)
	}
	var out []Dataset
	for _, d := range Datasets {
		if needed[d] {
			out = append(out, d)
		}
	}
	return out
}

// daysBack is how many days a span in words covers.
func daysBack(span string) int {
	var n int
	var unit string
	if _, err := fmt.Sscan(span, &n, &unit); err != nil {
		return 0
	}
	switch strings.TrimSuffix(unit, "s") {
	case "day":
		return n
	case "week":
		return 7 * n
	case "session":
		return n*7/5 + period.LongestBreak
	case "year":
		return 366 * n
	}
	return 0
}

// Since is the earliest day of a history that fields read, through all formulas;
// 0 where none says how far back it reads.
func Since(refs []formula.Ref, today period.Date) (earliest period.Date) {
	for _, ref := range refs {
		f := Find(ref.ID)
		if f == nil {
			continue
		}
		inputs := f.Inputs()
		for i, input := range inputs {
			if within := f.Within(ref.Period, input); within != input {
				inputs = slices.Clone(inputs)
				inputs[i] = within
			}
		}
		day := Since(inputs, today)
		switch p := ref.Period; {
		case f.Takes == ADate && p.IsDate():
			day = p.Date(today) - period.LongestBreak
		case f.Takes == AQuarter && p != (period.Period{}):
			year, quarter := lastQuarter(today, p)
			day = quarterEnd(year, quarter) - period.LongestBreak
		case f.Takes == AFiscal && f.Dataset == Bars && p != (period.Period{}):
			day = p.Reaches(today) - period.LongestBreak
		case f.Back > 0:
			day = today.AddDays(-f.Back - period.LongestBreak)
		}
		if day != 0 && (earliest == 0 || day < earliest) {
			earliest = day
		}
	}
	return earliest
}

// Search finds fields whose id, label or definition holds every word of the
// query, those whose id or label does first. An empty query finds all.
func Search(query string) []*Field {
	var front, back []*Field
	words := strings.Fields(strings.ToLower(query))
	for i := range Fields {
		f := &Fields[i]
		name := strings.ToLower(f.ID + " " + f.Label)
		whole := name + " " + strings.ToLower(f.Definition)
		inName, inWhole := true, true
		for _, w := range words {
			inName = inName && strings.Contains(name, w)
			inWhole = inWhole && strings.Contains(whole, w)
		}
		switch {
		case inName:
			front = append(front, f)
		case inWhole:
			back = append(back, f)
		}
	}
	return append(front, back...)
}

// Nearest returns the field id closest to a misspelt one by edit distance, or
// "" when none is near. A name without its group, as "last", finds quote.last.
func Nearest(id string) string {
	id = strings.ToLower(id)
	best, bestDistance := "", len(id)/2+1
	for i := range Fields {
		f := &Fields[i]
		_, short, _ := strings.Cut(f.ID, ".")
		if d := min(Distance(id, f.ID), Distance(id, short)+1); d < bestDistance {
			best, bestDistance = f.ID, d
		}
	}
	return best
}

// Distance is the Levenshtein distance in bytes.
func Distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diagonal, row[j+1] = row[j+1], min(diagonal+cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// View is a named set of columns.
type View struct {
	Name    string
	Label   string
	Columns []string
}

// Views lists the views that ship with Soba; the first is the default.
var Views = []View{
	{"overview", "Overview", []string{
		"quote.last", "quote.change", "quote.change_pct", "quote.time", "quote.phase",
		"price.low_52w", "price.high_52w", "price.range_position", "price.range_width",
		"price.return_1w", "price.return_4w", "price.return_13w", "price.return_52w",
		"price.volatility_1y", "price.average_volume_13w",
		"holding.quantity", "holding.market_value", "holding.weight", "holding.gain", "holding.gain_pct",
		"profile.kind", "profile.sector", "profile.industry", "profile.country", "profile.employees",
	}},
	{"holdings", "Holdings", []string{
		"quote.last", "quote.change_pct", "holding.quantity", "holding.cost", "holding.cost_basis",
		"holding.market_value", "holding.weight", "holding.gain", "holding.gain_pct", "holding.day_change",
	}},
	{"quotes", "Quotes", []string{
		"quote.last", "quote.change", "quote.change_pct", "quote.open", "quote.high", "quote.low", "quote.previous_close",
		"quote.bid", "quote.ask", "quote.spread_pct", "quote.volume", "quote.turnover", "quote.time", "quote.phase",
	}},
	{"prices", "Prices", []string{
		"price.latest", "price.line_30d", "price.line_365d", "price.low_52w", "price.high_52w", "price.range_position", "price.range_width",
		"price.return_1w", "price.return_4w", "price.return_13w", "price.return_26w", "price.return_52w", "price.return_ytd",
		"price.total_return_52w", "price.volatility_1y", "price.drawdown_1y", "price.average_volume_13w",
		"price.sma_50", "price.sma_200", "price.ema_20", "price.rsi_14", "price.atr_14", "price.beta_2y",
	}},
	{"dividends", "Dividends", []string{
		"quote.last", "dividend.yield", "dividend.yield_forward", "dividend.yield_5y_average", "dividend.ttm", "dividend.ttm_total", "dividend.forward", "dividend.frequency",
		"dividend.last_amount", "dividend.last_ex_date", "dividend.last_pay_date", "dividend.next_ex_date", "dividend.next_pay_date",
		"dividend.growth_1y", "dividend.growth_5y", "dividend.streak", "dividend.cut_year", "holding.annual_income", "holding.yield_on_cost", "event.next", "event.next_date", "event.last", "event.last_date",
	}},
	{"accounts", "Accounts", []string{
		"income.revenue", "growth.revenue", "income.operating_income", "income.net_income", "income.eps_diluted", "growth.eps",
		"balance.total_assets", "balance.equity", "balance.total_debt", "balance.cash", "cash.operating", "cash.free", "balance.shares_outstanding",
	}},
	{"valuation", "Valuation", []string{
		"price.latest", "value.market_cap", "value.enterprise", "value.pe", "value.ps", "value.pb", "value.pcf", "value.pfcf",
		"value.ev_sales", "value.ev_ebitda", "value.earnings_yield", "value.fcf_yield", "dividend.yield", "dividend.payout", "dividend.cover", "dividend.payout_cash",
	}},
	{"quality", "Quality", []string{
		"margin.gross", "margin.operating", "margin.net", "margin.fcf", "return.equity", "return.assets", "return.invested", "return.capital_employed",
		"strength.current_ratio", "strength.quick_ratio", "strength.debt_to_equity", "strength.net_debt_to_ebitda", "strength.interest_cover",
		"efficiency.asset_turnover", "efficiency.inventory_days", "efficiency.receivable_days", "growth.revenue_3y", "growth.eps_3y",
	}},
	{"analysts", "Analysts", []string{
		"price.latest", "estimate.target", "estimate.upside", "estimate.recommendation", "estimate.recommendation@-3m", "estimate.next_report_date", "estimate.eps", "estimate.eps@FY+1", "estimate.eps@FY+2", "estimate.eps_analysts", "estimate.revenue@FY+1",
		"estimate.eps_revision_30d", "estimate.surprise", "estimate.growth_5y", "value.pe", "value.pe_forward", "value.peg",
	}},
	{"owners", "Owners", []string{
		"value.market_cap", "balance.shares_outstanding", "share.change_1y", "share.class_part", "share.float", "share.insiders_pct", "share.insiders_pct@-1y", "share.institutions_pct", "share.institutions_pct@-1y",
	}},
	{"scores", "Scores", []string{
		"strength.f_score", "score.f_income", "score.f_cash", "score.f_return", "score.f_accruals", "score.f_debt", "score.f_liquidity", "score.f_shares", "score.f_margin", "score.f_turnover",
		"strength.z_score", "score.z_liquidity", "score.z_retained", "score.z_operating", "score.z_market", "score.z_turnover",
	}},
	{"vendor", "Vendor's ratios", []string{
		"quote.last", "vendor.market_cap", "vendor.pe", "vendor.pb", "vendor.ps", "vendor.dividend_yield", "vendor.payout", "vendor.margin_net", "vendor.debt_to_equity",
	}},
	{"instruments", "Funds, bonds, contracts", []string{
		"profile.kind", "quote.last", "fund.nav", "fund.net_assets", "fund.expense_ratio", "fund.distribution_yield",
		"bond.issuer", "bond.coupon", "bond.maturity", "bond.frequency", "bond.day_count", "bond.accrued", "bond.price", "bond.yield_to_maturity", "bond.duration", "bond.duration_modified",
		"contract.underlying", "contract.expiry", "contract.strike", "contract.right", "contract.multiplier", "rate.spot", "universe.members",
	}},
	{"profile", "Profile", []string{
		"profile.kind", "profile.isin", "profile.currency", "profile.country", "profile.sector", "profile.industry",
		"profile.employees", "profile.fiscal_year_end", "profile.listed_since", "profile.website", "profile.description",
	}},
}

// TwelveRatios are figures by which companies are put side by side unless others are named.
var TwelveRatios = []string{
	"margin.gross", "margin.operating", "margin.net", "return.equity", "return.assets", "return.invested",
	"strength.current_ratio", "strength.debt_to_equity", "strength.interest_cover", "efficiency.asset_turnover", "growth.revenue", "value.pe",
}

// FindView returns a view by name, or nil.
func FindView(name string) *View {
	for i := range Views {
		if Views[i].Name == name {
			return &Views[i]
		}
	}
	return nil
}
