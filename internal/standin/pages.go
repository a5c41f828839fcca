package standin

import (
	"fmt"
	"html"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Whimbrel's pages, one a company, are made for readers: ten tables, amounts in millions
// with separators and parentheses, notes behind names. A company that does not
// consolidate has a page of its own accounts alone.
const (
	pageYears    = 10
	pageQuarters = 8
)

func (w *Whimbrel) page(r *http.Request, codes []string) (*answer, *refusal) {
	l := w.find(codes[0])
	alone := r.PathValue("basis") == "standalone"
	if l == nil || l.Kind != market.Share || l.story.uncovered || l.story.standalone != alone {
		return nil, &refusal{status: 404, code: "unknown_company", message: "there is no such page", symbols: codes}
	}
	today := period.DateOf(w.Market.Clock().UTC())
	return &answer{text: w.pageOf(l, today), contentType: "text/html; charset=utf-8", units: 2, packed: true}, nil
}

// grid is a table of a page: the first row is its head.
type grid struct {
	caption string
	rows    [][]string
}

func (w *Whimbrel) pageOf(l *Listing, today period.Date) string {
	var years, quarters []Report
	for _, r := range w.Market.Reports(l, today) {
		if r.Part == "FY" {
			years = append(years, r)
		} else {
			quarters = append(quarters, r)
		}
	}
	years, quarters = years[max(0, len(years)-pageYears):], quarters[max(0, len(quarters)-pageQuarters):]
	tables := []grid{
		{"Company facts", [][]string{{"Fact", ""}, {"Name", l.Name}, {"ISIN", l.ISIN}, {"Industry", l.Industry}, {"Employees", strconv.Itoa(l.Employees)}, {"Year end", l.YearEnd}}},
		w.reports("Interim results", quarters, "revenue", "cost", "gross", "operating", "net", "common", "shares", "diluted", "eps", "eps diluted"),
		w.reports("Profit and loss", years, "revenue", "cost", "gross", "selling", "depreciation", "operating", "interest", "pretax", "tax", "net", "common", "shares", "diluted", "eps", "eps diluted"),
		w.reports("Balance sheet", years, atEnd...),
		w.reports("Cash flows", years, "operating cash", "capex", "investing", "financing", "dividends", "borrowed", "repaid"),
	}
	ratios := grid{"Margins by year", [][]string{{"Margin %"}, {"Operating"}, {"Net"}}}
	growth := grid{"Growth by year", [][]string{{"Growth %"}, {"Sales"}}}
	for i, y := range years {
		head := yearOf(&years[i])
		ratios.rows[0] = append(ratios.rows[0], head)
		ratios.rows[1] = append(ratios.rows[1], percent(float64(y.OperatingIncome())/float64(y.Revenue)))
		ratios.rows[2] = append(ratios.rows[2], percent(float64(y.NetIncome())/float64(y.Revenue)))
		growth.rows[0] = append(growth.rows[0], head)
		text := "n/a"
		if i > 0 {
			text = percent(float64(y.Revenue)/float64(years[i-1].Revenue) - 1)
		}
		growth.rows[1] = append(growth.rows[1], text)
	}
	holding := grid{"Shareholding", [][]string{{"As of", "Insiders", "Institutions"}}}
	holders := w.Market.Holders(l, today)
	for i := range holders {
		if h := &holders[i]; h.Holder == "" && h.Group == "Insiders" {
			with := slices.IndexFunc(holders, func(x Holding) bool { return x.Day == h.Day && x.Holder == "" && x.Group == "Institutions" })
			holding.rows = append(holding.rows, []string{h.Day.String(), percent(h.Part), percent(holders[with].Part)})
		}
	}
	peers := grid{"Peers", [][]string{{"Company", "Market cap"}}}
	for _, x := range w.Market.Listings {
		if x.Sector == l.Sector && x.Kind == market.Share && x != l && len(peers.rows) < 6 {
			if r, ok := w.Market.Ratios(x, today); ok {
				peers.rows = append(peers.rows, []string{x.Name, magnitude(r.MarketCap)})
			}
		}
	}
	paid := grid{"Dividends", [][]string{{"Ex-date", "Amount"}}}
	for _, d := range w.Market.Dividends(l, today) {
		if d.Ex > today.AddYears(-5) {
			paid.rows = append(paid.rows, []string{d.Ex.String(), strconv.FormatFloat(d.Amount, 'f', 4, 64)})
		}
	}
	tables = append(tables, ratios, growth, holding, peers, paid)
	var b strings.Builder
	fmt.Fprintf(&b, "<!DOCTYPE html>\n<html lang=\"en\"><head><title>%[1]s</title></head><body><h1>%[1]s</h1>\n", html.EscapeString(l.Name))
	for _, t := range tables {
		fmt.Fprintf(&b, "<table><caption>%s</caption>\n", t.caption)
		for i, row := range t.rows {
			b.WriteString("<tr>")
			for k, c := range row {
				tag := "td"
				if i == 0 || k == 0 {
					tag = "th"
				}
				fmt.Fprintf(&b, "<%[1]s>%[2]s</%[1]s>", tag, html.EscapeString(c))
			}
			b.WriteString("</tr>\n")
		}
		b.WriteString("</table>\n")
	}
	b.WriteString("<p>† as published; amounts in millions.</p></body></html>\n")
	return b.String()
}

// yearOf heads a column: the day to which the report is.
func yearOf(r *Report) string { return r.End.Time().Format("2 Jan 2006") }

// reports is a table with a column for each report, the oldest first.
func (w *Whimbrel) reports(caption string, reports []Report, lines ...string) grid {
	t := grid{caption, [][]string{{""}, {"Part"}, {"Fiscal year"}, {"Published"}, {"Currency"}, {"Standard"}}}
	var named []string
	for _, line := range lines {
		for _, n := range whimbrelNames {
			if n.line == line {
				t.rows, named = append(t.rows, []string{n.name + " †"}), append(named, n.line)
			}
		}
	}
	for i := range reports {
		r := &reports[i]
		for k, text := range []string{yearOf(r), r.Part, strconv.Itoa(r.Year), r.Filed.String(), r.Currency, r.Standard} {
			t.rows[k] = append(t.rows[k], text)
		}
		all := r.amounts()
		for k, line := range named {
			x, known := all[line]
			text := "-"
			switch {
			case !known:
			case strings.HasPrefix(line, "eps"):
				of := map[string]string{"eps": "shares", "eps diluted": "diluted"}[line]
				text = bracketed(strconv.FormatFloat(float64(r.NetIncome())*1000/float64(all[of]), 'f', 6, 64))
			case line == "shares" || line == "diluted" || line == "outstanding":
				text = grouped(strconv.FormatInt(x, 10))
			default:
				text = bracketed(strconv.FormatFloat(float64(x)/1000, 'f', 3, 64))
			}
			t.rows[6+k] = append(t.rows[6+k], text)
		}
	}
	return t
}

// bracketed writes a number with separators, and in parentheses where it is below zero.
func bracketed(text string) string {
	whole, fraction, _ := strings.Cut(text, ".")
	if positive, below := strings.CutPrefix(whole, "-"); below {
		return "(" + grouped(positive) + "." + fraction + ")"
	}
	return grouped(whole) + "." + fraction
}

// grouped separates thousands.
func grouped(digits string) string {
	var groups []string
	for len(digits) > 3 {
		groups, digits = append(groups, digits[len(digits)-3:]), digits[:len(digits)-3]
	}
	groups = append(groups, digits)
	slices.Reverse(groups)
	return strings.Join(groups, ",")
}
