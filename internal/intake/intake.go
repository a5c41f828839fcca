// Package intake reads the lists that people already have, as CSV or XLSX, and
// guesses which of their columns is which.
package intake

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/shopspring/decimal"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/source/format"
)

// Role is what a column of a list holds.
type Role string

// The roles. One of Symbol, ISIN and Ticker must be there.
const (
	Symbol   Role = "symbol"
	ISIN     Role = "isin"
	Ticker   Role = "ticker"
	Exchange Role = "exchange"
	Quantity Role = "quantity"
	Cost     Role = "cost"  // of one share or unit
	Total    Role = "total" // cost of all of them
)

// Roles lists the roles.
var Roles = []Role{Symbol, ISIN, Ticker, Exchange, Quantity, Cost, Total}

// words are what headers of each role are called, in the order in which they count.
var words = map[Role][]string{
	Symbol:   {"symbol", "listing", "instrument", "security"},
	ISIN:     {"isin", "security id"},
	Ticker:   {"ticker", "code", "tick"},
	Exchange: {"exchange", "market", "mic", "venue"},
	Quantity: {"quantity", "qty", "shares", "units", "amount held", "position", "holding", "number"},
	Cost:     {"cost per share", "unit cost", "average cost", "avg cost", "average price", "purchase price", "price paid", "buy price", "cost price", "cost"},
	Total:    {"cost basis", "total cost", "book value", "book cost", "invested"},
}

// List is a list as it was read.
type List struct {
	Headers []string
	Columns map[Role]string // the header of each role
	Lines   []Line
}

// Line is one line of a list.
type Line struct {
	Number         int // in the file, from 1
	Text           string
	Name           string // what names the listing: a symbol, an ISIN or a ticker
	Exchange       string
	Quantity, Cost string // exact decimals; "" where there is none
	Problem        string // why it cannot be read
}

// Most lines of a list.
const Most = 20_000

var limits = format.Limits{Rows: Most, Depth: 8}

// Read reads a list. Columns given by role override what is guessed; a role that
// is given "" has no column.
func Read(file []byte, columns map[Role]string) (*List, error) {
	o := &format.Options{Kind: format.CSV}
	if bytes.HasPrefix(file, []byte("PK\x03\x04")) {
		o.Kind = format.XLSX
	} else {
		o.Delimiter = delimiter(file)
	}
	l := &List{}
	var rows []format.Row
	outside, err := format.Read(bytes.NewReader(file), "", o, []format.Selection{{}}, false, limits, func(_ int, r format.Row) error {
		rows = append(rows, r)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("the file cannot be read as %s: %w", strings.ToUpper(string(o.Kind)), err)
	}
	if len(rows) == 0 {
		return nil, errors.New("the file has no lines after its header")
	}
	if l.Headers = rows[0].Names(); o.Kind == format.CSV {
		l.Headers = outside.Names()
	}
	if err := l.assign(columns, rows); err != nil {
		return nil, err
	}
	for i, r := range rows {
		if line := l.read(r, i+2, o.Kind); line != nil {
			l.Lines = append(l.Lines, *line)
		}
	}
	return l, nil
}

// delimiter is whichever of the usual ones the header has most of.
func delimiter(file []byte) string {
	header, _, _ := bytes.Cut(file, []byte{'\n'})
	best, most := ",", 0
	for _, d := range []string{",", ";", "\t", "|"} {
		if n := bytes.Count(header, []byte(d)); n > most {
			best, most = d, n
		}
	}
	return best
}

// assign finds the column of each role: as given, by its header, or by what
// stands in it.
func (l *List) assign(given map[Role]string, rows []format.Row) error {
	l.Columns = map[Role]string{}
	taken := map[string]bool{}
	for role, header := range given {
		if !slices.Contains(Roles, role) {
			return fmt.Errorf("there is no column of kind %q: there are %v", role, Roles)
		}
		if header == "" {
			continue
		}
		if !slices.Contains(l.Headers, header) {
			near := source.Nearest(header, l.Headers)
			if near != "" {
				return fmt.Errorf("the file has no column %q; the nearest is %q", header, near)
			}
			return fmt.Errorf("the file has no column %q; there are %s", header, strings.Join(l.Headers, ", "))
		}
		l.Columns[role], taken[header] = header, true
	}
	for _, exact := range []bool{true, false} {
		for _, role := range Roles {
			if _, decided := given[role]; decided {
				continue
			}
			for _, word := range words[role] {
				for _, header := range l.Headers {
					plain := plainHeader(header)
					if !exact && strings.Contains(plain, "name") {
						continue // of the company, rather than what it is known by
					}
					if l.Columns[role] == "" && !taken[header] && (plain == word || !exact && strings.Contains(plain, word)) {
						l.Columns[role], taken[header] = header, true
					}
				}
			}
		}
	}
	if l.Columns[Symbol] == "" && l.Columns[ISIN] == "" && l.Columns[Ticker] == "" {
		for _, header := range l.Headers {
			role := byContent(header, rows)
			if _, decided := given[role]; role != "" && !decided && !taken[header] {
				l.Columns[role] = header
				return nil
			}
		}
		return fmt.Errorf("no column holds symbols, ISINs or tickers: name it, as symbol=%q; there are %s", first(l.Headers), strings.Join(l.Headers, ", "))
	}
	return nil
}

func first(headers []string) string {
	if len(headers) == 0 {
		return "Code"
	}
	return headers[0]
}

var notLetters = regexp.MustCompile(`[^a-z]+`)

func plainHeader(h string) string {
	return strings.TrimSpace(notLetters.ReplaceAllString(strings.ToLower(h), " "))
}

// byContent tells whether a column holds ISINs or symbols.
func byContent(header string, rows []format.Row) Role {
	isins, symbols, n := 0, 0, 0
	for _, r := range rows[:min(len(rows), 50)] {
		text := cellOf(r, header)
		if text == "" {
			continue
		}
		n++
		if market.LooksLikeISIN(text) {
			isins++
		} else if s, err := market.ParseSymbol(text); err == nil && s.Exchange != "" {
			symbols++
		}
	}
	switch {
	case n > 0 && isins*2 > n:
		return ISIN
	case n > 0 && symbols*2 > n:
		return Symbol
	}
	return ""
}

func cellOf(r format.Row, header string) string {
	l, err := format.Compile(format.CSV, header)
	if err != nil {
		return ""
	}
	text, _ := r.At(l)
	return strings.TrimSpace(text)
}

// read reads one line; nil for one that is empty.
func (l *List) read(r format.Row, number int, kind format.Kind) *Line {
	line := &Line{Number: number}
	if n := 0; kind == format.CSV {
		if _, err := fmt.Sscanf(r.Place(), "line %d", &n); err == nil {
			line.Number = n
		}
	}
	var texts []string
	for _, h := range l.Headers {
		if text := cellOf(r, h); text != "" {
			texts = append(texts, text)
		}
	}
	if line.Text = strings.Join(texts, " "); line.Text == "" {
		return nil
	}
	at := func(role Role) string {
		if l.Columns[role] == "" {
			return ""
		}
		return cellOf(r, l.Columns[role])
	}
	line.Exchange = strings.ToUpper(at(Exchange))
	for _, role := range []Role{Symbol, ISIN, Ticker} {
		if line.Name == "" {
			line.Name = at(role)
		}
	}
	if line.Name == "" {
		line.Problem = "names no listing"
		return line
	}
	if at(Symbol) == "" && at(ISIN) == "" && line.Exchange != "" {
		line.Name += "." + line.Exchange
	}
	var err error
	if line.Quantity, err = amount(at(Quantity)); err != nil {
		line.Problem = "quantity: " + err.Error()
	}
	if line.Cost, err = amount(at(Cost)); err != nil {
		line.Problem = "cost: " + err.Error()
	}
	if total, err := amount(at(Total)); err == nil && line.Cost == "" && total != "" && line.Quantity != "" {
		t, _ := decimal.NewFromString(total)
		q, _ := decimal.NewFromString(line.Quantity)
		if !q.IsZero() {
			line.Cost = t.DivRound(q, 8).String()
		}
	}
	if line.Quantity == "0" {
		line.Quantity = "" // nothing is held of it
	}
	return line
}

// currencies that people put around amounts.
var around = regexp.MustCompile(`^[^\d.,+-]+|[^\d]+$`)

// amount reads a number as people write it: 1,234.50 or 1.234,50 or 1 234.50.
func amount(text string) (string, error) {
	if text == "" || text == "-" {
		return "", nil
	}
	plain := strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "'", "").Replace(around.ReplaceAllString(text, ""))
	comma, point := strings.LastIndexByte(plain, ','), strings.LastIndexByte(plain, '.')
	switch {
	case comma >= 0 && point >= 0 && comma > point: // 1.234,50
		plain = strings.Replace(strings.ReplaceAll(plain, ".", ""), ",", ".", 1)
	case comma >= 0 && point >= 0: // 1,234.50
		plain = strings.ReplaceAll(plain, ",", "")
	case comma >= 0 && strings.Count(plain, ",") == 1 && len(plain)-comma-1 != 3: // 31,2
		plain = strings.Replace(plain, ",", ".", 1)
	case comma >= 0 && strings.Count(plain, ",") == 1:
		return "", fmt.Errorf("%q could be thousands or a decimal: write it without a comma", text)
	case comma >= 0:
		plain = strings.ReplaceAll(plain, ",", "")
	}
	d, err := decimal.NewFromString(plain)
	if err != nil {
		return "", fmt.Errorf("%q is not a number", text)
	}
	if d.IsNegative() {
		return "", fmt.Errorf("%q is below zero", text)
	}
	return d.String(), nil
}
