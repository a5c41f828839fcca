package source

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/cell"
)

// instanceOf is an instance document of a year with the one before, as amount a concept.
func instanceOf(issuer string, year int, facts map[string][2]string) string {
	var b strings.Builder
	b.WriteString(`<xbrl xmlns="http://www.xbrl.org/2003/instance" xmlns:i="https://xbrl.ifrs.org/taxonomy/2025-03-27/ifrs-full" xmlns:own="https://own.invalid" xmlns:c="http://www.xbrl.org/2003/iso4217">`)
	for i := range 2 {
		fmt.Fprintf(&b, `<context id="y%[1]d"><entity><identifier scheme="isin">%[2]s</identifier></entity><period><startDate>%[3]d-01-01</startDate><endDate>%[3]d-12-31</endDate></period></context>
			<context id="e%[1]d"><entity><identifier scheme="isin">%[2]s</identifier></entity><period><instant>%[3]d-12-31</instant></period></context>`, i, issuer, year-i)
	}
	b.WriteString(`<unit id="EUR"><measure>c:EUR</measure></unit><unit id="shares"><measure>shares</measure></unit>`)
	for concept, values := range facts {
		context, unit := "y", "EUR"
		if strings.Contains(concept, "Cash") || strings.Contains(concept, "Assets") {
			context = "e"
		}
		if strings.Contains(concept, "Shares") {
			unit = "shares"
		}
		for i, v := range values {
			if v != "" {
				fmt.Fprintf(&b, `<%[1]s contextRef="%[2]s%[3]d" unitRef="%[4]s" decimals="0">%[5]s</%[1]s>`, concept, context, i, unit, v)
			}
		}
	}
	b.WriteString("</xbrl>")
	return b.String()
}

const register = `name: register
title: Register
access: {address: "http://127.0.0.1:1", private: true}
symbols: {write: "{isin}"}
calls:
  - serves: [statements]
    path: /index/{symbol}.json
    format: {kind: xbrl}
    documents: {format: {kind: json}, rows: "$.filings[*]", link: at, where: {form: annual}, most: 3}
    parts:
      - fields: {filed: {at: day, of: index}}
        lines: {are: {"own:Tonnes": income.research}}
`

// Several documents of one issuer: each period is filed with its own report, the newest
// report says what it was, and what an older one said is kept as what it was before.
func TestAnIndexOfDocuments(t *testing.T) {
	asked := 0
	documents := map[string]string{
		"/2025.xml": instanceOf("XA1", 2025, map[string][2]string{"i:Revenue": {"500", "404"}, "i:CashAndCashEquivalents": {"50", "40"}, "i:WeightedAverageShares": {"10", "30"}, "own:Tonnes": {"7", ""}}),
		"/2024.xml": instanceOf("XA1", 2024, map[string][2]string{"i:Revenue": {"400", "300"}, "i:CashAndCashEquivalents": {"40", "31"}, "i:WeightedAverageShares": {"15", "15"}, "i:RevenueFromContractsWithCustomers": {"399", "299"}, "i:FinanceIncomeCost": {"-6", ""}}),
		"/2023.xml": "<xbrl>broken",
		"/2022.xml": "never asked for",
	}
	index := `{"filings": [{"form": "annual", "day": "2026-03-10", "at": "../2025.xml"}, {"form": "interim", "day": "2025-11-01", "at": "../nothing.xml"},
		{"form": "annual", "day": "2025-03-11", "at": "../2024.xml"}, {"form": "annual", "day": "2024-03-12", "at": "../2023.xml"}, {"form": "annual", "day": "2023-03-12", "at": "../2022.xml"}]}`
	d, err := Read("register.yaml", []byte(register))
	if err != nil {
		t.Fatal(err)
	}
	q := request(d, "statements", "KELP.XCVH")
	q.Needs[0].ISIN = "XA1"
	serve := func(w http.ResponseWriter, r *http.Request) {
		asked++
		switch text, there := documents[r.URL.Path]; {
		case r.URL.Path == "/index/XA1.json":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, index)
		case there:
			w.Header().Set("Content-Type", "application/xbrl-instance+xml")
			fmt.Fprint(w, text)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}
	a, err := askedFor(t, d, serve, q)
	if err != nil {
		t.Fatal(err)
	}
	want := `KELP.XCVH statements: 2023-12-31 FY consolidated 2023 EUR IFRS 2025-03-11 300 15 31; ` +
		`2024-12-31 FY consolidated 2024 2025-03-11 EUR IFRS 404 6 15 40; 2025-12-31 FY consolidated 2025 2026-03-10 EUR IFRS 500 7 10 50 (../2023.xml could not be read: is no XBRL instance document: its root is xbrl`
	if got := told(a)[0]; !strings.HasPrefix(got, want) {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if asked != 4 || len(a.Pages) != 4 {
		t.Errorf("%d documents were asked for, %d logged; want the index and three", asked, len(a.Pages))
	}
	e := a.Entries[0].Entries
	revenue := a.Entries[0].Entries[1].Values
	for i := range revenue {
		before := e[1].Before[i]
		if changed := before != e[1].Values[i]; changed != (revenue[i] == cell.Of(404)) || changed && before != cell.Of(400) {
			t.Errorf("column %d was %v before and is %v", i, before, revenue[i])
		}
	}
	if e[0].Before != nil || e[2].Before != nil || e[0].Page != 2 || e[1].Page != 1 || e[2].Page != 1 {
		t.Errorf("entries %+v", e)
	}
	delete(documents, "/2025.xml")
	documents["/2024.xml"] = "<xbrl>broken too"
	if a, err = askedFor(t, d, serve, q); err == nil || !strings.Contains(err.Error(), "moved") || len(a.Entries) > 0 {
		t.Errorf("a document that is not there: %v, %v", told(a), err)
	}
	documents["/2025.xml"] = "neither"
	if a, err = askedFor(t, d, serve, q); err == nil || !strings.Contains(err.Error(), "no XBRL instance") || len(a.Entries) > 0 {
		t.Errorf("documents of which none can be read: %v, %v", told(a), err)
	}
	index = `{"filings": [{"form": "annual", "at": "http://10.0.0.1/2025.xml"}]}`
	if _, err = askedFor(t, d, serve, q); err == nil || !strings.Contains(err.Error(), "leads to") {
		t.Errorf("a document elsewhere: %v", err)
	}
	index = `{"filings": []}`
	if a, err = askedFor(t, d, serve, q); err != nil || reasons(a) != "KELP.XCVH not_reported" {
		t.Errorf("an issuer that has filed nothing: %v, %v", told(a), err)
	}
}

func TestAFolderOfFilings(t *testing.T) {
	folder := t.TempDir()
	for name, text := range map[string]string{
		"kelp-2024.xml": instanceOf("XA1", 2024, map[string][2]string{"i:Revenue": {"400", "300"}}), "salt.xbrl": instanceOf("XA2", 2025, map[string][2]string{"i:Revenue": {"90", ""}}),
		"kelp-2025.xml": instanceOf("XA1", 2025, map[string][2]string{"i:Revenue": {"500", "400"}}), "other.xml": instanceOf("XA9", 2025, map[string][2]string{"i:Revenue": {"1", ""}}), "notes.txt": "mine",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s, err := Connect(shipped(t, "filings"), Secret{Address: folder}, now)
	if err != nil {
		t.Fatal(err)
	}
	q := request(s.Description, "statements", "KELP.XCVH", "SALT.XCVH", "TIDE.XPLR")
	for i, isin := range []string{"XA1", "XA2", "XA3"} {
		q.Needs[i].ISIN = isin
	}
	a, err := s.Fetch(t.Context(), q, anyTime)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		"KELP.XCVH statements: 2023-12-31 FY consolidated 2023 EUR IFRS 300; 2024-12-31 FY consolidated 2024 EUR IFRS 400; 2025-12-31 FY consolidated 2025 EUR IFRS 500",
		"SALT.XCVH statements: 2025-12-31 FY consolidated 2025 EUR IFRS 90", "TIDE.XPLR statements not_reported: its answer leaves out TIDE.XPLR",
	}
	if got := told(a); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
