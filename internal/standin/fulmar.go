package standin

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Fulmar is the register where issuers file their accounts as XBRL. It takes no key,
// but wants to know who asks, and no more than one request a second.
type Fulmar struct{ *Vendor }

// How many years' accounts of an issuer the register keeps, and how many that are of
// less than a year.
const (
	filedYears   = 6
	filedInterim = 4
)

// NewFulmar returns the register as an [http.Handler].
func NewFulmar(m *Market) *Fulmar {
	f := &Fulmar{newVendor("fulmar", m, 1, 1, 0)}
	issuer := func(r *http.Request) []string { return []string{r.PathValue("isin")} }
	f.serve("/issuers/{isin}/filings.json", "filings", issuer, f.contacted(f.filings))
	f.serve("/issuers/{isin}/{document}", "documents", issuer, f.contacted(f.document))
	return f
}

// contacted refuses those who do not say who they are (RFC 9110, 10.1.2).
func (f *Fulmar) contacted(of func(*http.Request, []string) (*answer, *refusal)) func(*http.Request, []string) (*answer, *refusal) {
	return func(r *http.Request, asked []string) (*answer, *refusal) {
		if !strings.Contains(r.Header.Get("From"), "@") {
			return nil, &refusal{status: 403, code: "contact_missing", message: "say who you are: an address in the From header"}
		}
		return of(r, asked)
	}
}

// Filing is one document that an issuer has filed: what it reports, and what it
// compares that with.
type Filing struct {
	Report
	Before  *Report  // the same stretch a year before; nil where there was none
	Opening *Report  // the year before, whose balance sheet interim accounts show
	Parent  Accounts // of the parent alone, where Report is of the group
	ISIN    string
}

// name of the document.
func (f *Filing) name() string {
	extension := ".xml"
	if f.Standard != "IFRS" {
		extension = ".json"
	}
	return fmt.Sprintf("%d-%s%s", f.Year, f.Part, extension)
}

// restatedBy is what an issuer had overstated its sales and their cost by, in the year
// before the newest, and has since put right.
const restatedBy = 0.03

// Filings are what a listing's issuer has filed by a day, the newest first: years, and
// interim accounts from the beginning of the year.
func (m *Market) Filings(l *Listing, by period.Date) (out []Filing) {
	quarters := m.Accounts(l, by)
	interim := 0
	years := 0
	for i := len(quarters) - 1; i >= 4; i-- {
		n := quarters[i].Quarter
		part := [...]string{"Q1", "H1", "9M", "FY"}[n-1]
		if n < 4 && (l.story.halves && n != 2 || interim >= filedInterim) || i-n+1 < 4 {
			continue
		}
		if years >= filedYears {
			return out
		}
		f := Filing{Report: m.report(l, quarters[i-n+1:i+1], part), ISIN: m.issuer(l).ISIN}
		if !m.isOut(l, &f.Report, by) {
			continue
		}
		before := m.report(l, quarters[i-n-3:i-3], part)
		f.Before = &before
		switch {
		case n == 4:
			if years++; l.story.restates && years == 2 {
				wrong := int64(float64(f.Revenue) * restatedBy)
				f.Revenue, f.Cost = f.Revenue+wrong, f.Cost+wrong
			}
		default:
			interim++
			if i-n-3 >= 0 {
				opening := m.report(l, quarters[i-n-3:i-n+1], "FY")
				f.Opening = &opening
			}
		}
		f.Parent = f.Accounts
		f.Parent.Revenue, f.Parent.Cost = f.Revenue*3/5, f.Cost*3/5
		out = append(out, f)
	}
	return out
}

// find finds the listing in whose currency and shares the issuer of a share reports.
func (f *Fulmar) find(isin string) *Listing {
	for _, l := range f.Market.Listings {
		if l.ISIN == isin && l.Kind == market.Share {
			return f.Market.issuer(l)
		}
	}
	return nil
}

func (f *Fulmar) filed(isin string) []Filing {
	l := f.find(isin)
	if l == nil {
		return nil
	}
	return f.Market.Filings(l, period.DateOf(f.Market.Clock().UTC()))
}

func (f *Fulmar) filings(r *http.Request, asked []string) (*answer, *refusal) {
	rows := []any{}
	newest := ""
	for _, x := range f.filed(asked[0]) {
		form := "interim"
		if x.Part == "FY" {
			form = "annual"
		}
		rows = append(rows, map[string]any{"document": x.name(), "form": form, "period": x.End.String(), "filed": x.Filed.String()})
		if newest == "" {
			newest = x.name()
		}
	}
	return &answer{json: map[string]any{"issuer": asked[0], "filings": rows}, list: "filings", tag: strconv.Quote(asked[0] + newest), packed: true}, nil
}

func (f *Fulmar) document(r *http.Request, asked []string) (*answer, *refusal) {
	filings := f.filed(asked[0])
	i := slices.IndexFunc(filings, func(x Filing) bool { return x.name() == r.PathValue("document") })
	if i < 0 {
		return nil, &refusal{status: 404, code: "not_filed", message: "there is no such document"}
	}
	facts := filings[i].facts()
	if strings.HasSuffix(filings[i].name(), ".json") {
		return &answer{text: inJSON(facts), contentType: "application/json", packed: true}, nil
	}
	return &answer{text: inXML(facts), contentType: "application/xbrl-instance+xml; charset=utf-8", packed: true}, nil
}

// filedFact is one fact of a filing.
type filedFact struct {
	concept, value, unit string // unit is "" of a text
	decimals             int
	start, end           period.Date // start 0: of a day
	entity               string
	axis, member         string // "" of the whole
	none                 bool
}

// inTaxonomy are the names of concepts in the taxonomies of the two standards.
var inTaxonomy = map[string][2]string{
	"revenue": {"Revenue", "Revenues"}, "cost": {"CostOfSales", "CostOfRevenue"}, "gross": {"GrossProfit", "GrossProfit"}, "selling": {"SellingGeneralAndAdministrativeExpense", "SellingGeneralAndAdministrativeExpense"},
	"depreciation": {"DepreciationAndAmortisationExpense", "DepreciationDepletionAndAmortization"}, "operating": {"ProfitLossFromOperatingActivities", "OperatingIncomeLoss"}, "interest": {"FinanceCosts", "InterestExpense"},
	"pretax": {"ProfitLossBeforeTax", "IncomeLossFromContinuingOperationsBeforeIncomeTaxesExtraordinaryItemsNoncontrollingInterest"}, "tax": {"IncomeTaxExpenseContinuingOperations", "IncomeTaxExpenseBenefit"},
	"net": {"ProfitLoss", "ProfitLoss"}, "common": {"ProfitLossAttributableToOwnersOfParent", "NetIncomeLossAvailableToCommonStockholdersBasic"},
	"shares": {"WeightedAverageShares", "WeightedAverageNumberOfSharesOutstandingBasic"}, "diluted": {"AdjustedWeightedAverageShares", "WeightedAverageNumberOfDilutedSharesOutstanding"},
	"eps": {"BasicEarningsLossPerShare", "EarningsPerShareBasic"}, "eps diluted": {"DilutedEarningsLossPerShare", "EarningsPerShareDiluted"},
	"cash": {"CashAndCashEquivalents", "CashAndCashEquivalentsAtCarryingValue"}, "receivables": {"CurrentTradeReceivables", "AccountsReceivableNetCurrent"}, "inventory": {"Inventories", "InventoryNet"},
	"current assets": {"CurrentAssets", "AssetsCurrent"}, "property": {"PropertyPlantAndEquipment", "PropertyPlantAndEquipmentNet"}, "goodwill": {"Goodwill", "Goodwill"}, "assets": {"Assets", "Assets"},
	"payables": {"TradeAndOtherCurrentPayablesToTradeSuppliers", "AccountsPayableCurrent"}, "short debt": {"CurrentBorrowingsAndCurrentPortionOfNoncurrentBorrowings", "DebtCurrent"}, "current liabilities": {"CurrentLiabilities", "LiabilitiesCurrent"},
	"long debt": {"NoncurrentPortionOfNoncurrentBorrowings", "LongTermDebtNoncurrent"}, "liabilities": {"Liabilities", "Liabilities"}, "equity": {"EquityAttributableToOwnersOfParent", "StockholdersEquity"}, "retained": {"RetainedEarnings", "RetainedEarningsAccumulatedDeficit"},
	"outstanding": {"NumberOfSharesOutstanding", "CommonStockSharesOutstanding"}, "operating cash": {"CashFlowsFromUsedInOperatingActivities", "NetCashProvidedByUsedInOperatingActivities"},
	"capex": {"PurchaseOfPropertyPlantAndEquipmentClassifiedAsInvestingActivities", "PaymentsToAcquirePropertyPlantAndEquipment"}, "investing": {"CashFlowsFromUsedInInvestingActivities", "NetCashProvidedByUsedInInvestingActivities"},
	"financing": {"CashFlowsFromUsedInFinancingActivities", "NetCashProvidedByUsedInFinancingActivities"}, "dividends": {"DividendsPaidClassifiedAsFinancingActivities", "PaymentsOfDividends"},
	"borrowed": {"ProceedsFromBorrowingsClassifiedAsFinancingActivities", "ProceedsFromIssuanceOfLongTermDebt"}, "repaid": {"RepaymentsOfBorrowingsClassifiedAsFinancingActivities", "RepaymentsOfLongTermDebt"},
}

// facts are those of a filing, with what real ones hold besides: a segment, the parent
// alone, a line without a value, a sum that is said twice, and prose.
func (f *Filing) facts() (out []filedFact) {
	taxonomy, prefix := 0, "ifrs-full:"
	if f.Standard != "IFRS" {
		taxonomy, prefix = 1, "us-gaap:"
	}
	add := func(x filedFact) { x.entity = f.ISIN; out = append(out, x) }
	of := func(r *Report, names ...string) {
		lines := r.amounts()
		for _, name := range names {
			x := filedFact{concept: prefix + inTaxonomy[name][taxonomy], unit: r.Currency, decimals: -3, start: r.Start, end: r.End}
			amount, known := lines[name]
			switch {
			case !known:
				continue
			case name == "shares" || name == "diluted" || name == "outstanding":
				x.unit, x.decimals, x.value = "shares", 0, strconv.FormatInt(amount, 10)
			case strings.HasPrefix(name, "eps"):
				shares := lines["shares"]
				if name == "eps diluted" {
					shares = lines["diluted"]
				}
				x.unit, x.decimals, x.value = r.Currency+"/shares", 6, strconv.FormatFloat(float64(r.NetIncome())*1000/float64(shares), 'f', 6, 64)
			default:
				x.value = strconv.FormatInt(amount*1000, 10)
			}
			if slices.Contains(atEnd, name) {
				x.start = 0
			}
			add(x)
		}
	}
	of(&f.Report, overTime...)
	of(&f.Report, atEnd...)
	if f.Before != nil {
		of(f.Before, overTime...)
	}
	switch {
	case f.Opening != nil:
		of(f.Opening, atEnd...)
	case f.Before != nil:
		of(f.Before, atEnd...)
	}
	revenue := filedFact{concept: prefix + inTaxonomy["revenue"][taxonomy], unit: f.Currency, start: f.Start, end: f.End}
	rounded := revenue
	rounded.value, rounded.decimals = strconv.FormatInt((f.Revenue+500)/1000*1_000_000, 10), -6
	add(rounded)
	if !f.Alone && taxonomy == 0 {
		parent := revenue
		parent.value, parent.decimals = strconv.FormatInt(f.Parent.Revenue*1000, 10), -3
		parent.axis, parent.member = "ifrs-full:ConsolidatedAndSeparateFinancialStatementsAxis", "ifrs-full:SeparateMember"
		add(parent)
	}
	segment := revenue
	segment.value, segment.decimals = strconv.FormatInt(f.Revenue*250, 10), -3
	segment.axis, segment.member = prefix+"SegmentsAxis", "own:HomeWatersMember"
	add(segment)
	add(filedFact{concept: prefix + "Goodwill", unit: f.Currency, end: f.End, none: true})
	add(filedFact{concept: "own:TonnesLanded", unit: "pure", value: strconv.FormatInt(f.Revenue/7, 10), start: f.Start, end: f.End})
	text := func(concept, value string) {
		add(filedFact{concept: concept, value: value, start: f.Start, end: f.End})
	}
	if taxonomy == 1 {
		text("dei:DocumentPeriodEndDate", f.End.String())
		text("dei:DocumentFiscalYearFocus", strconv.Itoa(f.Year))
		text("dei:DocumentFiscalPeriodFocus", map[string]string{"Q1": "Q1", "H1": "Q2", "9M": "Q3", "FY": "FY"}[f.Part])
	} else {
		nature := "Consolidated financial statements"
		if f.Alone {
			nature = "Individual financial statements"
		}
		text("ifrs-full:DateOfEndOfReportingPeriod2013", f.End.String())
		text("ifrs-full:DescriptionOfNatureOfFinancialStatements", nature)
	}
	text(prefix+"DisclosureOfRevenueExplanatory", strings.Repeat("Sales are recognised when what was sold is handed over. ", 20))
	return out
}

// Lines of a filing that are of its stretch of time, and of its end.
var (
	overTime = []string{"revenue", "cost", "gross", "selling", "depreciation", "operating", "interest", "pretax", "tax", "net", "common", "shares", "diluted", "eps", "eps diluted", "operating cash", "capex", "investing", "financing", "dividends", "borrowed", "repaid"}
	atEnd    = []string{"cash", "receivables", "inventory", "current assets", "property", "assets", "payables", "short debt", "current liabilities", "long debt", "liabilities", "equity", "retained", "outstanding"}
)

// namespaces of the prefixes in filings.
var namespaces = map[string]string{
	"ifrs-full": "https://xbrl.ifrs.org/taxonomy/2025-03-27/ifrs-full", "us-gaap": "http://fasb.org/us-gaap/2025", "dei": "http://xbrl.sec.gov/dei/2025", "own": "https://issuers.fulmar.invalid/own",
	"iso4217": "http://www.xbrl.org/2003/iso4217", "xbrli": "http://www.xbrl.org/2003/instance", "isin": "urn:iso:std:iso:6166",
}

func escaped(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(s)) //nolint:errcheck // a buffer takes everything
	return b.String()
}

// inXML writes facts as an instance document (XBRL 2.1), facts first: contexts and
// units may stand anywhere.
func inXML(facts []filedFact) string {
	var body, contexts, units strings.Builder
	known := map[string]string{}
	contextOf := func(f *filedFact) string {
		key := fmt.Sprint(f.start, f.end, f.axis, f.member)
		if known[key] == "" {
			known[key] = fmt.Sprintf("c%d", len(known)+1)
			when := fmt.Sprintf("<instant>%s</instant>", f.end)
			if f.start != 0 {
				when = fmt.Sprintf("<startDate>%s</startDate><endDate>%s</endDate>", f.start, f.end)
			}
			along := ""
			if f.axis != "" {
				along = fmt.Sprintf(`<scenario><xbrldi:explicitMember dimension="%s">%s</xbrldi:explicitMember></scenario>`, f.axis, f.member)
			}
			fmt.Fprintf(&contexts, "  <context id=%q><entity><identifier scheme=%q>%s</identifier></entity><period>%s</period>%s</context>\n", known[key], namespaces["isin"], f.entity, when, along)
		}
		return known[key]
	}
	named := map[string]bool{}
	unitOf := func(unit string) string {
		id := strings.ReplaceAll(unit, "/", "-per-")
		if !named[unit] {
			named[unit] = true
			over, under, divided := strings.Cut(unit, "/")
			measure := func(u string) string { return "<measure>" + measureOf(u) + "</measure>" }
			if divided {
				fmt.Fprintf(&units, "  <unit id=%q><divide><unitNumerator>%s</unitNumerator><unitDenominator>%s</unitDenominator></divide></unit>\n", id, measure(over), measure(under))
			} else {
				fmt.Fprintf(&units, "  <unit id=%q>%s</unit>\n", id, measure(over))
			}
		}
		return id
	}
	for i := range facts {
		f := &facts[i]
		switch {
		case f.none:
			fmt.Fprintf(&body, "  <%s contextRef=%q unitRef=%q decimals=\"0\" xsi:nil=\"true\"/>\n", f.concept, contextOf(f), unitOf(f.unit))
		case f.unit == "":
			fmt.Fprintf(&body, "  <%s contextRef=%q>%s</%s>\n", f.concept, contextOf(f), escaped(f.value), f.concept)
		default:
			fmt.Fprintf(&body, "  <%s id=\"f%d\" contextRef=%q unitRef=%q decimals=\"%d\">%s</%s>\n", f.concept, i+1, contextOf(f), unitOf(f.unit), f.decimals, f.value, f.concept)
		}
	}
	return fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<xbrl xmlns=%q xmlns:ifrs-full=%q xmlns:own=%q xmlns:iso4217=%q xmlns:xbrli=%q xmlns:xbrldi="http://xbrl.org/2006/xbrldi" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">
`, namespaces["xbrli"], namespaces["ifrs-full"], namespaces["own"], namespaces["iso4217"], namespaces["xbrli"]) + body.String() + contexts.String() + units.String() + "</xbrl>\n"
}

func measureOf(unit string) string {
	if unit == "shares" || unit == "pure" {
		return "xbrli:" + unit
	}
	return "iso4217:" + unit
}

// inJSON writes facts as xBRL-JSON.
func inJSON(facts []filedFact) string {
	all := map[string]any{}
	for i := range facts {
		f := &facts[i]
		dims := map[string]string{"concept": f.concept, "entity": "isin:" + f.entity}
		ends := (f.end + 1).String() + "T00:00:00"
		dims["period"] = ends
		if f.start != 0 {
			dims["period"] = f.start.String() + "T00:00:00/" + ends
		}
		if f.axis != "" {
			dims[f.axis] = f.member
		}
		fact := map[string]any{"value": f.value, "dimensions": dims}
		if f.none {
			fact["value"] = nil
		}
		if f.unit != "" {
			over, under, divided := strings.Cut(f.unit, "/")
			dims["unit"] = measureOf(over)
			if divided {
				dims["unit"] += "/" + measureOf(under)
			}
			fact["decimals"] = f.decimals
		} else {
			dims["language"] = "en"
		}
		all[fmt.Sprintf("f%d", i+1)] = fact
	}
	text, _ := json.Marshal(map[string]any{ // maps of texts always marshal
		"documentInfo": map[string]any{"documentType": "https://xbrl.org/2021/xbrl-json", "namespaces": namespaces, "taxonomy": []string{"https://issuers.fulmar.invalid/own.xsd"}},
		"facts":        all,
	})
	return string(text)
}

// InstanceOf is the newest yearly instance document of a listing's issuer in XML, for
// benchmarks.
func (m *Market) InstanceOf(symbol string) ([]byte, error) {
	s, err := market.ParseSymbol(symbol)
	if err != nil {
		return nil, err
	}
	for _, f := range m.Filings(m.Find(s), period.DateOf(m.Clock().UTC())) {
		if f.Part == "FY" {
			return []byte(inXML(f.facts())), nil
		}
	}
	return nil, fmt.Errorf("%s has filed no year", symbol)
}
