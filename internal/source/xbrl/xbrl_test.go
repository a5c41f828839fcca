package xbrl

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/statement"
)

var plenty = Limits{Facts: 10_000, Depth: 64}

// An instance document around what a test is about. Prefixes are not the usual ones:
// names are told by their namespaces.
func inXML(body string) string {
	return `<?xml version="1.0" encoding="UTF-8"?>
<!-- made up -->
<x:xbrl xmlns:x="http://www.xbrl.org/2003/instance" xmlns:f="https://xbrl.ifrs.org/taxonomy/2025-03-27/ifrs-full" xmlns:d="http://xbrl.sec.gov/dei/2024"
 xmlns:xd="http://xbrl.org/2006/xbrldi" xmlns:m="http://www.xbrl.org/2003/iso4217" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"
 xmlns:kelp="https://marram.invalid/2025" xmlns:l="http://www.xbrl.org/2003/linkbase">
 <l:schemaRef/>` + body + `
 <x:context id="Y">` + ofMarram + `<x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2025-06-30</x:endDate></x:period></x:context>
 <x:context id="Y-1">` + ofMarram + `<x:period><x:startDate>2023-07-01T00:00:00</x:startDate><x:endDate>2024-07-01T00:00:00</x:endDate></x:period></x:context>
 <x:context id="E">` + ofMarram + `<x:period><x:instant>2025-06-30</x:instant></x:period></x:context>
 <x:context id="E-1">` + ofMarram + `<x:period><x:instant>2024-07-01T00:00:00</x:instant></x:period></x:context>
 <x:context id="Cover">` + ofMarram + `<x:period><x:instant>2025-08-14</x:instant></x:period></x:context>
 <x:context id="Months">` + ofMarram + `<x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2024-08-31</x:endDate></x:period></x:context>
 <x:context id="Ever">` + ofMarram + `<x:period><x:forever/></x:period></x:context>
 <x:context id="Parent"><x:entity><x:identifier scheme="s">MARRAM</x:identifier><x:segment><xd:explicitMember dimension="f:ConsolidatedAndSeparateFinancialStatementsAxis">f:SeparateMember</xd:explicitMember></x:segment></x:entity><x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2025-06-30</x:endDate></x:period></x:context>
 <x:context id="Group">` + ofMarram + `<x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2025-06-30</x:endDate></x:period><x:scenario><xd:explicitMember dimension="f:ConsolidatedAndSeparateFinancialStatementsAxis"> f:ConsolidatedMember </xd:explicitMember></x:scenario></x:context>
 <x:context id="North">` + ofMarram + `<x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2025-06-30</x:endDate></x:period><x:scenario><xd:explicitMember dimension="f:SegmentsAxis">kelp:NorthMember</xd:explicitMember></x:scenario></x:context>
 <x:context id="Typed">` + ofMarram + `<x:period><x:startDate>2024-07-01</x:startDate><x:endDate>2025-06-30</x:endDate></x:period><x:scenario><xd:typedMember dimension="kelp:FarmAxis"><kelp:farm>9</kelp:farm></xd:typedMember></x:scenario></x:context>
 <x:unit id="EUR"><x:measure>m:EUR</x:measure></x:unit>
 <x:unit id="USD"><x:measure>m:USD</x:measure></x:unit>
 <x:unit id="S"><x:measure>x:shares</x:measure></x:unit>
 <x:unit id="EPS"><x:divide><x:unitNumerator><x:measure>m:EUR</x:measure></x:unitNumerator><x:unitDenominator><x:measure>x:shares</x:measure></x:unitDenominator></x:divide></x:unit>
</x:xbrl>`
}

const ofMarram = `<x:entity><x:identifier scheme="http://standards.iso.org/iso/17442">MARRAM</x:identifier></x:entity>`

// written is a document's facts, one a line, in no order.
func written(d *Document) string {
	var lines []string
	for _, f := range d.Facts {
		line := fmt.Sprintf("%s %d-%s %s %s %s", f.Concept, f.Year, f.Part, f.End, f.Value, f.Unit)
		if f.Standalone {
			line += " alone"
		}
		lines = append(lines, line)
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

const base = `<f:Revenue id="r1" contextRef="Y" unitRef="EUR" decimals="-3">1200000</f:Revenue>`

const baseRead = "ifrs-full:Revenue 2025-FY 2025-06-30 1200000 EUR"

func TestHardCases(t *testing.T) {
	for _, c := range []struct{ name, body, want, remark string }{
		{
			"a year, its end, and the year before, whose ends are written as instants", base + `
			<f:Revenue contextRef="Y-1" unitRef="EUR" decimals="-3">1100000</f:Revenue>
			<f:Assets contextRef="E" unitRef="EUR" decimals="-3">5000000</f:Assets>
			<f:Assets contextRef="E-1" unitRef="EUR" decimals="-3">4000000</f:Assets>`,
			"ifrs-full:Assets 2024-FY 2024-06-30 4000000 EUR\nifrs-full:Assets 2025-FY 2025-06-30 5000000 EUR\nifrs-full:Revenue 2024-FY 2024-06-30 1100000 EUR\n" + baseRead, "",
		},
		{
			"units of shares and of money for one share", base + `
			<f:WeightedAverageShares contextRef="Y" unitRef="S" decimals="0">1000</f:WeightedAverageShares>
			<f:BasicEarningsLossPerShare contextRef="Y" unitRef="EPS" decimals="2">-0.12</f:BasicEarningsLossPerShare>`,
			"ifrs-full:BasicEarningsLossPerShare 2025-FY 2025-06-30 -0.12 EUR/shares\n" + baseRead + "\nifrs-full:WeightedAverageShares 2025-FY 2025-06-30 1000 shares", "",
		},
		{"a fact that is nil has no value", base + `<f:Goodwill contextRef="E" unitRef="EUR" xsi:nil="true" decimals="0"/><f:Inventories contextRef="E" unitRef="EUR" xsi:nil="1"></f:Inventories>`, baseRead, ""},
		{
			"of facts along dimensions only those of the group and of the parent", base + `
			<f:ProfitLoss contextRef="Group" unitRef="EUR" decimals="0">90</f:ProfitLoss>
			<f:ProfitLoss contextRef="Parent" unitRef="EUR" decimals="0">40</f:ProfitLoss>
			<f:ProfitLoss contextRef="North" unitRef="EUR" decimals="0">30</f:ProfitLoss>
			<f:ProfitLoss contextRef="Typed" unitRef="EUR" decimals="0">20</f:ProfitLoss>`,
			"ifrs-full:ProfitLoss 2025-FY 2025-06-30 40 EUR alone\nifrs-full:ProfitLoss 2025-FY 2025-06-30 90 EUR\n" + baseRead, "",
		},
		{
			"of duplicates that are roundings of one number the most exact", base + `
			<f:Revenue contextRef="Y" unitRef="EUR" decimals="-6">1000000</f:Revenue>
			<f:Revenue contextRef="Y" unitRef="EUR" decimals="INF">1200417</f:Revenue>`,
			"ifrs-full:Revenue 2025-FY 2025-06-30 1200417 EUR", "",
		},
		{
			"of duplicates that contradict each other none", base + `
			<f:Assets contextRef="E" unitRef="EUR" decimals="-3">5000000</f:Assets>
			<f:Assets contextRef="E" unitRef="EUR" decimals="-3">5002000</f:Assets>
			<f:Assets contextRef="E" unitRef="EUR" decimals="-3">5000000</f:Assets>`,
			baseRead, "ifrs-full:Assets of 2025-06-30 is both 5000000 and 5002000: neither was taken",
		},
		{"half a unit of the last digit is no contradiction", base + `<f:Revenue contextRef="Y" unitRef="EUR" decimals="-3">1201000</f:Revenue>`, baseRead, ""},
		{
			"a translation for the reader's convenience", base + `<f:Assets contextRef="E" unitRef="EUR">7</f:Assets><f:Revenue contextRef="Y" unitRef="USD" decimals="-3">1300000</f:Revenue>`,
			"ifrs-full:Assets 2025-FY 2025-06-30 7 EUR\n" + baseRead, "1 facts are in another currency than EUR and were left out",
		},
		{"a concept of the issuer's own", base + `<kelp:DriedKelp contextRef="Y" unitRef="EUR" decimals="0">5</kelp:DriedKelp>`, baseRead + "\nkelp:DriedKelp 2025-FY 2025-06-30 5 EUR", ""},
		{
			"days and months that no fiscal part ends with", base + `
			<f:NumberOfSharesOutstanding contextRef="Cover" unitRef="S" decimals="0">900</f:NumberOfSharesOutstanding>
			<f:ProfitLoss contextRef="Months" unitRef="EUR" decimals="0">3</f:ProfitLoss>
			<f:ProfitLoss contextRef="Ever" unitRef="EUR" decimals="0">4</f:ProfitLoss>`,
			baseRead, "1 stretches of time are no part of a fiscal year and were left out",
		},
		{"prose, a footnote and a tuple", base + `<f:DisclosureOfRevenueExplanatory contextRef="Y">` + strings.Repeat("long ", 100) + `<b>bold</b></f:DisclosureOfRevenueExplanatory><l:footnoteLink><l:footnote>n</l:footnote></l:footnoteLink><kelp:tuple><f:Assets contextRef="E" unitRef="EUR">1</f:Assets></kelp:tuple>`, baseRead, ""},
		{"the nature of the accounts", base + `<f:DescriptionOfNatureOfFinancialStatements contextRef="Y">Individual financial statements</f:DescriptionOfNatureOfFinancialStatements>`, baseRead + " alone", ""},
		{"text in the place of a number is left to who reads it", base + `<f:Assets contextRef="E" unitRef="EUR">n/a</f:Assets>`, "ifrs-full:Assets 2025-FY 2025-06-30 n/a EUR\n" + baseRead, ""},
	} {
		d, err := Read(strings.NewReader(inXML(c.body)), plenty)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got := written(d); got != c.want {
			t.Errorf("%s:\ngot\n%s\nwant\n%s", c.name, got, c.want)
		}
		if got := strings.Join(d.Remarks, "; "); got != c.remark {
			t.Errorf("%s: remarks %q, want %q", c.name, got, c.remark)
		}
		if d.Entity != "MARRAM" || d.Currency != "EUR" || d.Standard != "IFRS" || d.End.String() != "2025-06-30" {
			t.Errorf("%s: the document is of %s, in %s by %s, to %s", c.name, d.Entity, d.Currency, d.Standard, d.End)
		}
	}
}

// inJSON is a document in JSON with facts written as concept|unit|period|value, with
// further dimensions after them.
func inJSON(facts ...string) string {
	var members []string
	for i, f := range facts {
		p := strings.Split(f, "|")
		dims := fmt.Sprintf(`"concept": %q, "entity": "lei:MARRAM"`, p[0])
		if p[1] != "" {
			dims += fmt.Sprintf(`, "unit": %q`, p[1])
		}
		if p[2] != "" {
			dims += fmt.Sprintf(`, "period": %q`, p[2])
		}
		for _, extra := range p[4:] {
			axis, member, _ := strings.Cut(extra, "=")
			dims += fmt.Sprintf(`, %q: %q`, axis, member)
		}
		value := fmt.Sprintf("%q", p[3])
		if p[3] == "nil" {
			value = "null"
		}
		members = append(members, fmt.Sprintf(`"f%d": {"value": %s, "decimals": -3, "dimensions": {%s}}`, i, value, dims))
	}
	return ` {"documentInfo": {"documentType": "https://xbrl.org/2021/xbrl-json", "features": {"a": [1, {}]}, "namespaces": {
		"i": "https://xbrl.ifrs.org/taxonomy/2025-03-27/ifrs-full", "g": "http://fasb.org/us-gaap/2024", "dei": "http://xbrl.sec.gov/dei/2024", "iso4217": "http://www.xbrl.org/2003/iso4217"}},
		"facts": {` + strings.Join(members, ",") + `}}`
}

const (
	wholeYear = "2024-01-01T00:00:00/2025-01-01T00:00:00"
	yearsEnd  = "2025-01-01T00:00:00"
)

func TestJSON(t *testing.T) {
	d, err := Read(strings.NewReader(inJSON(
		"i:Revenue|iso4217:EUR|"+wholeYear+"|500000",
		"i:Assets|iso4217:EUR|"+yearsEnd+"|900000",
		"i:Goodwill|iso4217:EUR|"+yearsEnd+"|nil",
		"i:BasicEarningsLossPerShare|iso4217:EUR/xbrli:shares|"+wholeYear+"|1.25",
		"i:ProfitLoss|iso4217:EUR|"+wholeYear+"|7|i:ConsolidatedAndSeparateFinancialStatementsAxis=i:SeparateMember",
		"i:ProfitLoss|iso4217:EUR|"+wholeYear+"|8|i:SegmentsAxis=k:NorthMember",
		"i:NameOfReportingEntityOrOtherMeansOfIdentification||"+wholeYear+"|Marram",
	)), plenty)
	if err != nil {
		t.Fatal(err)
	}
	want := "ifrs-full:Assets 2024-FY 2024-12-31 900000 EUR\nifrs-full:BasicEarningsLossPerShare 2024-FY 2024-12-31 1.25 EUR/shares\n" +
		"ifrs-full:ProfitLoss 2024-FY 2024-12-31 7 EUR alone\nifrs-full:Revenue 2024-FY 2024-12-31 500000 EUR"
	if got := written(d); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if d.Facts[0].Place != "fact f0" || d.Entity != "MARRAM" {
		t.Errorf("the first fact of %s is at %q", d.Entity, d.Facts[0].Place)
	}
}

// TestFiscalLabels shows every way in which a document tells its place in the issuer's
// fiscal years.
func TestFiscalLabels(t *testing.T) {
	const nine = "2024-07-01T00:00:00/2025-04-01T00:00:00"
	const quarter = "2025-01-01T00:00:00/2025-04-01T00:00:00"
	revenue := func(when string) string { return "g:Revenues|iso4217:USD|" + when + "|5000" }
	for _, c := range []struct {
		name  string
		facts []string
		want  string
	}{
		{"focus of year and part", []string{"dei:DocumentFiscalYearFocus|||2025", "dei:DocumentFiscalPeriodFocus|||Q3", "dei:DocumentPeriodEndDate|||2025-03-31", revenue(nine), revenue(quarter)}, "2025-9M 2025-Q3"},
		{"a fiscal year that is not named for its last day", []string{"dei:DocumentFiscalYearFocus|||2024", "dei:DocumentFiscalPeriodFocus|||Q3", "dei:DocumentPeriodEndDate|||2025-03-31", revenue(quarter)}, "2024-Q3"},
		{"the end of the fiscal year", []string{"dei:CurrentFiscalYearEndDate|||--06-30", revenue(quarter)}, "2025-Q3"},
		{"the end of a fiscal year that has just passed", []string{"dei:CurrentFiscalYearEndDate|||--12-31", revenue(quarter)}, "2025-Q1"},
		{"the balance sheet of the year before", []string{"g:Assets|iso4217:USD|2024-07-01T00:00:00|77000", "g:Assets|iso4217:USD|2025-04-01T00:00:00|78000", revenue(quarter)}, "2024-FY 2025-Q3 2025-Q3"},
		{"nine months, which begin with the year", []string{revenue(nine), revenue(quarter)}, "2025-9M 2025-Q3"},
		{"the day that reports are to", []string{"i:DateOfEndOfReportingPeriod2013|||2024-12-31", "g:Revenues|iso4217:USD|" + wholeYear + "|5000", revenue(quarter)}, "2024-FY 2025-Q1"},
	} {
		d, err := Read(strings.NewReader(inJSON(c.facts...)), plenty)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var labels []string
		for _, f := range d.Facts {
			labels = append(labels, fmt.Sprintf("%d-%s", f.Year, f.Part))
		}
		slices.Sort(labels)
		if got := strings.Join(labels, " "); got != c.want || d.Standard != "US GAAP" {
			t.Errorf("%s: %s by %s, want %s", c.name, got, d.Standard, c.want)
		}
	}
}

func TestWhatIsNoInstance(t *testing.T) {
	deep := strings.Repeat("<kelp:a>", 200) + strings.Repeat("</kelp:a>", 200)
	for _, c := range []struct{ name, doc, want string }{
		{"nothing", "  ", "is empty"},
		{"prose", "Annual report 2025", "there is no element"},
		{"a page", `<html xmlns="http://www.w3.org/1999/xhtml"><body/></html>`, "its root is html"},
		{"no numbers", inXML(""), "a number in it"},
		{"another JSON", `{"documentInfo": {"documentType": "https://xbrl.org/2021/xbrl-csv"}, "facts": {}}`, "its document type"},
		{"a list", `{"documentInfo": [], "facts": {}}`, "not xBRL-JSON"},
		{"facts as a list", `{"facts": [1]}`, "instead of an object"},
		{"JSON that breaks off", inJSON("i:Revenue|iso4217:EUR|" + wholeYear + "|5")[:300], "not xBRL-JSON"},
		{"XML that breaks off", inXML(base)[:900], "not XML"},
		{"elements that do not match", strings.Replace(inXML(base), "</f:Revenue>", "</f:Sales>", 1), "not XML"},
		{"an entity that is not XML's own", strings.Replace(inXML(base), "<!-- made up -->", `<!DOCTYPE x [<!ENTITY a "1"><!ENTITY b "&a;&a;">]>`, 1) + "", ""},
		{"such an entity in use", strings.Replace(inXML(base), "1200000", "&b;", 1), "not XML"},
		{"a context that is not there", inXML(base + `<f:Assets contextRef="Z" unitRef="EUR">1</f:Assets>`), `context "Z"`},
		{"a unit that is not there", inXML(base + `<f:Assets contextRef="E" unitRef="CHF">1</f:Assets>`), `unit "CHF"`},
		{"a day that is none", strings.Replace(inXML(base), "<x:instant>2025-06-30", "<x:instant>2025-06-31", 1), "no date"},
		{"deep nesting", inXML(base + deep), "nested deeper"},
		{"deep nesting in a context", strings.Replace(inXML(base), "<x:forever/>", deep, 1), "nested deeper"},
		{"no fiscal year", inJSON("i:Revenue|iso4217:EUR|2025-01-01T00:00:00/2025-04-01T00:00:00|5"), "fiscal year"},
	} {
		_, err := Read(strings.NewReader(c.doc), plenty)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
	few := Limits{Facts: 5, Depth: 64}
	for _, doc := range []string{inXML(base), inJSON(slices.Repeat([]string{"i:Revenue|iso4217:EUR|" + wholeYear + "|5"}, 9)...)} {
		if _, err := Read(strings.NewReader(doc), few); !errors.Is(err, ErrTooMany) {
			t.Errorf("too many facts: %v", err)
		}
	}
}

func TestTheTableOfConcepts(t *testing.T) {
	named := map[[2]string]bool{}
	lines := map[string]bool{}
	for _, c := range Concepts {
		prefix, name, _ := strings.Cut(c.Name, ":")
		if standards[prefix] == "" || name == "" {
			t.Errorf("%s is no concept of a public taxonomy", c.Name)
		}
		if statement.At(c.Line) < 0 {
			t.Errorf("%s: there is no line %q", c.Name, c.Line)
		}
		if c.Sign != 1 && c.Sign != -1 {
			t.Errorf("%s: the sign %v", c.Name, c.Sign)
		}
		if key := [2]string{c.Line, c.Name}; named[key] {
			t.Errorf("%s stands twice for %s", c.Name, c.Line)
		} else {
			named[key] = true
		}
		lines[c.Line] = true
	}
	for _, l := range statement.Lines {
		if !lines[l.ID] {
			t.Errorf("no concept is %s", l.ID)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(inXML(base))
	f.Add(inJSON("i:Revenue|iso4217:EUR|" + wholeYear + "|5"))
	f.Fuzz(func(_ *testing.T, doc string) {
		Read(strings.NewReader(doc), plenty) //nolint:errcheck // it must come back, whatever it says
	})
}
