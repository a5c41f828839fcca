package source

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
)

// described reads a description of which a test gives what follows the access.
func described(t testing.TB, text string) *Description {
	t.Helper()
	d, err := Read("petrel.yaml", []byte("name: petrel\ntitle: Petrel\naccess: {address: http://127.0.0.1:1, private: true}\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// replayed reads a recorded document as the answer to a request for symbols.
func replayed(t testing.TB, text, contentType, body string, symbols ...string) (*Answer, error) {
	t.Helper()
	d := described(t, text)
	q := request(d, d.Calls[0].Name, symbols...)
	q.From = period.MakeDate(2026, 1, 1)
	return Replay(d, []byte(body), contentType, now).Fetch(t.Context(), q, nil)
}

// told is an answer as text, a line each, in the order of the names.
func told(a *Answer) []string {
	var out []string
	say := func(text string, args ...any) { out = append(out, fmt.Sprintf(text, args...)) }
	remark := func(o Origin) string {
		if o.Remark == "" {
			return ""
		}
		return " (" + o.Remark + ")"
	}
	for _, l := range a.Listings {
		say("%s listed: %s %s %s %s", l.Symbol, l.Name, l.Kind, l.Currency, l.ISIN)
	}
	for _, p := range a.Points {
		var values []string
		for _, f := range catalogue.ObservedIn(p.Dataset) {
			if v := p.Values[f.Slot()]; v.Kind != cell.None {
				values = append(values, shortName(f)+" "+shown(v, catalogue.Text))
			}
			if text := p.Rejected[f.Slot()]; text != "" {
				values = append(values, fmt.Sprintf("%s not %q", shortName(f), text))
			}
		}
		say("%s %s: %s%s", p.Symbol, p.Dataset, strings.Join(values, ", "), remark(p.Origin))
	}
	for _, s := range a.Series {
		var bars []string
		for i := range s.Bars.Len() {
			at := s.Bars.Day[i].String()
			if s.Times != nil {
				at = s.Times[i].Format(time.RFC3339)
			}
			bars = append(bars, fmt.Sprintf("%s %v %v %v %v %v", at, s.Bars.Open[i], s.Bars.High[i], s.Bars.Low[i], s.Bars.Close[i], s.Bars.Volume[i]))
		}
		say("%s %s: %s%s", s.Symbol, s.Dataset, strings.Join(bars, "; "), remark(s.Origin))
	}
	for _, e := range a.Entries {
		var rows []string
		for _, x := range e.Entries {
			var values []string
			for _, v := range x.Values {
				if v.Kind != cell.None {
					values = append(values, shown(v, catalogue.Text))
				}
			}
			rows = append(rows, strings.Join(values, " "))
		}
		say("%s %s: %s%s", e.Symbol, e.Dataset, strings.Join(rows, "; "), remark(e.Origin))
	}
	for _, f := range a.Failures {
		say("%s %s %s: %s", f.Symbol, f.Dataset, f.Reason, f.Detail)
	}
	for _, r := range a.Remarks {
		say("remark: %s", r)
	}
	return out
}

func TestEveryFormatIsReadAsDescribed(t *testing.T) {
	const names = "KELP.XCVH,SALT.XCVH"
	tests := []struct {
		name, description, contentType, body, symbols string
		want                                          []string
	}{
		{
			name: "JSON with lists inside records, a filter, texts translated and cut out",
			description: `calls:
  - serves: [dividends]
    path: /d
    batch: {symbols: 9}
    format: {kind: json}
    parts:
      - rows: $.data[*]
        within: $.events[*]
        where: {type: cash}
        symbol: id
        fields:
          ex_date: {at: ex, match: '^on (\S+)$'}
          amount: {at: gross, unit: hundredths}
          kind: {at: class, map: {R: regular, "*": special}}
          pay_date: {at: paid, date: unix}
          currency: {at: $.money, of: document}`,
			body: `{"money": "EUR", "data": [
				{"id": "KELP.XCVH", "events": [
					{"type": "cash", "ex": "on 2026-03-02", "gross": 45, "class": "R", "paid": 1773014400},
					{"type": "cash", "ex": "on 2025-12-01", "gross": "12.5", "class": "X", "paid": null},
					{"type": "stock", "ex": "on 2026-01-02", "gross": 1, "class": "R"},
					{"type": "cash", "ex": "2026-01-02", "gross": 1, "class": "R"},
					{"type": "cash", "ex": "on 2026-03-02", "gross": 46, "class": "R"}]},
				{"id": "SALT.XCVH", "events": []},
				{"id": "OTHER.XCVH", "events": [{"type": "cash", "ex": "on 2026-03-02", "gross": 1, "class": "R"}]}]}`,
			want: []string{
				`KELP.XCVH dividends: 2025-12-01 0.125 special EUR; 2026-03-02 0.45 regular 2026-03-09 EUR (2 records rejected, the first at $.data[0].events[3]: the ex date "")`,
				"SALT.XCVH dividends: ",
			},
		},
		{
			name: "JSON Lines of rates against one currency",
			description: `symbols: {pair: "{quote}", pair_base: EUR}
calls:
  - serves: [rates]
    path: /r
    batch: {symbols: 9}
    format: {kind: jsonl}
    parts:
      - symbol: cur
        fields: {date: day, rate: fix}`,
			body:    "{\"cur\": \"GBP\", \"day\": \"2026-03-05\", \"fix\": 0.851}\n\n{\"cur\": \"GBP\", \"day\": \"2026-03-04\", \"fix\": \"0.85\"}\n{\"cur\": \"USD\", \"day\": \"2026-03-04\", \"fix\": \"-\"}\n",
			symbols: "EUR/GBP,EUR/USD",
			want: []string{
				"EUR/GBP rates: 2026-03-04 0.85; 2026-03-05 0.851",
				`EUR/USD rates rejected: one record rejected, at line 4: the rate "-"`,
			},
		},
		{
			name: "CSV as written in German",
			description: `clean: {decimal: ",", thousands: ".", missing: [k. A.]}
calls:
  - serves: [dividends]
    path: /d
    batch: {symbols: 9}
    format: {kind: csv, delimiter: ;, encoding: windows-1252, skip: 1}
    parts:
      - symbol: Wert
        fields: {ex_date: {at: Ex-Tag, date: DD.MM.YYYY}, amount: Betr` + "ä" + `ge, pay_date: {at: Zahltag, date: DD.MM.YYYY}}`,
			contentType: "text/csv",
			body:        "Stand heute\nWert;Ex-Tag;Betr\xe4ge;Zahltag\nKELP.XCVH;03.03.2026;1.234,50;k. A.\nKELP.XCVH;01.12.2025;\"0,5\";05.12.2025\nSALT.XCVH;1.3.26;3,1;\n",
			want: []string{
				"KELP.XCVH dividends: 2025-12-01 0.5 2025-12-05; 2026-03-03 1234.5",
				`SALT.XCVH dividends rejected: one record rejected, at line 5: the ex date "1.3.26"`,
			},
		},
		{
			name: "TSV without a header",
			description: `calls:
  - serves: [splits]
    path: /s
    batch: {symbols: 9}
    format: {kind: tsv, no_header: true}
    parts:
      - symbol: "#1"
        fields: {date: "#2", ratio: "#3"}`,
			body: "KELP.XCVH\t2026-02-02\t3\nKELP.XCVH\t2024-02-02\t0.1\nSALT.XCVH\t2026-02-03\t0\n",
			want: []string{
				"KELP.XCVH splits: 2024-02-02 0.1; 2026-02-02 3",
				"SALT.XCVH splits rejected: one record rejected, at line 3: the ratio 0",
			},
		},
		{
			name: "XML of bonds, with attributes and percent",
			description: `calls:
  - serves: [bonds]
    path: /b
    batch: {symbols: 9}
    format: {kind: xml}
    parts:
      - rows: bonds/bond
        symbol: "@id"
        fields: {issuer: owner/name, coupon: {at: rate, unit: percent}, maturity: {at: due, date: YYYYMMDD}, frequency: {at: per, map: {yearly: "1"}}, day_count: {value: ACT/ACT}}`,
			contentType: "application/xml",
			body: `<?xml version="1.0"?><bonds><bond id="KELP.XCVH"><owner><name>Kelp &amp; Sons</name></owner><rate>4.25</rate><due>20310615</due></bond>
				<bond id="SALT.XCVH"><owner><name>Salt</name></owner><rate>four</rate><due>2031-06-15</due></bond></bonds>`,
			want: []string{
				"KELP.XCVH bonds: issuer Kelp & Sons, coupon 0.0425, maturity 2031-06-15, day_count ACT/ACT",
				`SALT.XCVH bonds: issuer Salt, coupon not "four", maturity not "2031-06-15", day_count ACT/ACT`,
				`remark: bonds: no record has frequency at "per"`,
			},
		},
		{
			name: "a web page with a line for each company",
			description: `clean: {magnitudes: {k: 1000, bn: 1000000000}, parentheses: true, footnotes: '[*†]', missing: [–]}
calls:
  - serves: [ratios]
    path: /p
    batch: {symbols: 9}
    format: {kind: html}
    parts:
      - table: {headers: [Company, P/E]}
        symbol: Company
        fields: {market_cap: Value, pe: P/E, dividend_yield: Yield, margin_net: {at: Margin, unit: percent}, pb: P/B}`,
			contentType: "text/html; charset=utf-8",
			body: `<html><body><table><tr><th>Contact</th></tr><tr><td>desk</td></tr></table>
				<table><tr><th>Company</th><th>Value</th><th>P/E</th><th>Yield</th><th>Margin</th><th>PB</th></tr>
				<tr><td>KELP.XCVH*</td><td>1.24bn</td><td>(12.5)†</td><td>3.1 %</td><td>7.5</td><td>2</td></tr>
				<tr><td>SALT.XCVH</td><td>350 k</td><td>–</td><td>three</td><td></td><td>3</td></tr></table></body></html>`,
			want: []string{
				"KELP.XCVH ratios: market_cap 1240000000, pe -12.5, dividend_yield 0.031, margin_net 0.075",
				`SALT.XCVH ratios: market_cap 350000, dividend_yield not "three"`,
				`remark: ratios: no record has pb at "P/B"; the nearest there is "PB"`,
			},
		},
		{
			name: "members of a universe, in their own symbols",
			description: `symbols: {write: "{exchange}:{ticker}", exchanges: {XCVH: VE, XNMK: NM}}
calls:
  - serves: [universes]
    kinds: [index]
    path: /m/{symbol}
    format: {kind: json}
    parts:
      - rows: $.members[*]
        fields: {member: code, weight: {at: share, unit: percent}}`,
			body:    `{"members": [{"code": "VE:KELP", "share": 60}, {"code": "NM:CABL", "share": 39.5}, {"code": "VE:KELP", "share": 1}, {"share": 2}]}`,
			symbols: "VELA.XCVH",
			want:    []string{`VELA.XCVH universes: KELP.XCVH 0.6; CABL.XNMK 0.395 (2 records rejected, the first at $.members[3]: the member "")`},
		},
		{
			name: "accounts in the long form, in two units",
			description: `calls:
  - serves: [statements]
    path: /s
    format: {kind: csv}
    clean: {parentheses: true}
    parts:
      - where: {In: K}
        fields: &report {end: End, part: Part, year: Year, basis: {at: Basis, map: {C: consolidated, P: standalone}}}
        lines: {name: Item, value: {at: Value, unit: thousands}, are: {Sales: income.revenue, Profit: income.net_income, Cash: balance.cash}}
      - where: {In: "1"}
        fields: *report
        lines: {name: Item, value: Value, are: {Shares: income.shares_diluted}}`,
			body: "End,Part,Year,Basis,In,Item,Value\n2025-12-31,FY,2025,C,K,Sales,1200\n2025-12-31,FY,2025,C,K,Profit,(30)\n2025-12-31,FY,2025,C,1,Shares,5000\n" +
				"2025-12-31,FY,2025,P,K,Sales,700\n2026-03-31,Q1,2026,C,K,Sales,none\n2026-03-31,Q1,2026,C,K,Cash,9\n2026-03-31,Q1,2026,C,K,Mood,good\nsoon,Q2,2026,C,K,Sales,3\n",
			symbols: "KELP.XCVH",
			want: []string{
				"KELP.XCVH statements: 2025-12-31 FY consolidated 2025 1200000 -30000 5000; 2025-12-31 FY standalone 2025 700000; " +
					"2026-03-31 Q1 consolidated 2026 9000 (2 records rejected, the first at line 6: Sales \"none\")",
			},
		},
		{
			name: "a report spread over two tables, a column each, and one that contradicts itself",
			description: `calls:
  - serves: [statements]
    path: /s
    format: {kind: html}
    clean: {thousands: ",", missing: ["-"]}
    parts:
      - table: {caption: Income, labels: true}
        fields: &head {end: {at: "#header", date: "D MMM YYYY"}, part: {value: FY}, year: Year, income.revenue: {at: Sales, unit: millions}}
      - table: {caption: Balance, labels: true}
        fields: {end: {at: "#header", date: "D MMM YYYY"}, part: {value: FY}, year: Year, balance.cash: {at: Cash, unit: millions}}`,
			contentType: "text/html",
			body: "<table><caption>Income</caption><tr><th></th><th>31 Dec 2024</th><th>31 Dec 2025</th></tr><tr><th>Year</th><td>2024</td><td>2025</td></tr><tr><th>Sales</th><td>1,200</td><td>1,300.5</td></tr></table>" +
				"<table><caption>Balance</caption><tr><th></th><th>31 Dec 2025</th><th>1 Jan 2020</th></tr><tr><th>Year</th><td>2025</td><td>-</td></tr><tr><th>Cash</th><td>90</td><td>7</td></tr></table>",
			symbols: "KELP.XCVH",
			want:    []string{`KELP.XCVH statements: 2024-12-31 FY 2024 1200000000; 2025-12-31 FY 2025 1300500000 90000000 (one record rejected, at table "Balance", column 3: the year "")`},
		},
		{
			name: "intraday bars in the exchange's time",
			description: `calls:
  - serves: [intraday]
    path: /i
    format: {kind: json}
    parts:
      - rows: $[*]
        fields: {date: {at: t, date: "YYYY-MM-DD hh:mm", zone: Europe/Berlin}, open: o, high: h, low: l, close: c, volume: v}`,
			body: `[{"t": "2026-03-05 09:05", "o": 2, "h": 3, "l": 1, "c": 2, "v": 7}, {"t": "2026-03-05 09:00", "o": 1, "h": 2, "l": 1, "c": 2, "v": 5},
				{"t": "2026-03-05 09:10", "o": 4, "h": 3, "l": 1, "c": 2, "v": 1}, {"t": "2026-03-09 09:10", "o": 1, "h": 1, "l": 1, "c": 1}]`,
			symbols: "KELP.XCVH",
			want: []string{
				"KELP.XCVH intraday: 2026-03-05T08:00:00Z 1 2 1 2 5; 2026-03-05T08:05:00Z 2 3 1 2 7 (2 bars rejected, the first at $[2]: open 4, high 3, low 1, close 2 cannot all be right)",
			},
		},
		{
			name: "listings of an exchange, with tickers and codes apart",
			description: `symbols: {exchanges: {XCVH: VE}}
calls:
  - serves: [listings]
    path: /l/{exchange}
    format: {kind: json}
    parts:
      - rows: $[*]
        fields: {ticker: t, exchange: x, name: n, kind: {at: k, map: {EQ: share, "*": etf}}, currency: c, isin: i}`,
			body:    `[{"t": "KELP", "x": "VE", "n": "Kelp", "k": "EQ", "c": "EUR", "i": "ZZ0000000000"}, {"t": "SALT", "x": "VE", "n": "Salt fund", "k": "?", "c": "EUR"}, {"t": "A", "x": "??", "n": "A", "k": "EQ", "c": "EUR"}, {"t": "B", "x": "VE", "n": "B", "k": "EQ", "c": "euro"}]`,
			symbols: "XCVH",
			want: []string{
				"KELP.XCVH listed: Kelp share EUR ",
				"SALT.XCVH listed: Salt fund etf EUR ",
				`remark: a listing at $[2] ("A") lacks a symbol of this source, a name, a known kind or a currency`,
				`remark: a listing at $[3] ("B") lacks a symbol of this source, a name, a known kind or a currency`,
			},
		},
		{
			name: "one answer for several datasets",
			description: `calls:
  - serves: [quotes, dividends]
    path: /all
    batch: {symbols: 9}
    format: {kind: json}
    parts:
      - dataset: quotes
        rows: $.list[*]
        symbol: s
        fields: {time: at, last: p, volume: {at: v, unit: thousands}}
      - dataset: dividends
        rows: $.list[*]
        within: $.d[*]
        symbol: s
        fields: {ex_date: ex, amount: a}
    unknown: $.none[*]
    errors: {rows: "$.bad[*]", symbol: s, code: c, means: {late: not_reported, "*": not_permitted}}`,
			body: `{"list": [{"s": "KELP.XCVH", "at": "2026-03-06T11:00:00Z", "p": 4, "v": 1.5, "d": [{"ex": "2026-03-02", "a": 1}]}],
				"none": ["SALT.XCVH"], "bad": [{"s": "REEF.XCVH", "c": "late"}, {"s": "MOOR.XCVH", "c": "paid"}]}`,
			symbols: names + ",REEF.XCVH,MOOR.XCVH",
			want: []string{
				"KELP.XCVH quotes: last 4, time 2026-03-06T11:00:00Z, volume 1500, delay 0",
				"KELP.XCVH dividends: 2026-03-02 1",
				"MOOR.XCVH dividends not_permitted: paid", "REEF.XCVH dividends not_reported: late", "SALT.XCVH dividends not_covered: it does not carry this listing",
				"MOOR.XCVH quotes not_permitted: paid", "REEF.XCVH quotes not_reported: late", "SALT.XCVH quotes not_covered: it does not carry this listing",
			},
		},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			symbols := strings.Split(names, ",")
			if test.symbols != "" {
				symbols = strings.Split(test.symbols, ",")
			}
			a, err := replayed(t, test.description, test.contentType, test.body, symbols...)
			if err != nil {
				t.Fatal(err)
			}
			if got := told(a); !slices.Equal(got, test.want) {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(test.want, "\n"))
			}
		})
	}
}

// A symbol that is the same for all records stands at no place, and is no name that
// a missing field could be mistaken for.
func TestAConstantSymbolIsNoPlace(t *testing.T) {
	a, err := replayed(t, `calls:
  - serves: [ratios]
    path: /p
    format: {kind: json}
    parts:
      - rows: $[*]
        symbol: {value: KELP.XCVH}
        fields: {pe: pe, pb: pb}`, "", `[{"pe": 9, "p_b": 2}]`, "KELP.XCVH")
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"KELP.XCVH ratios: pe 9", `remark: ratios: no record has pb at "pb"; the nearest there is "p_b"`}
	if got := told(a); !slices.Equal(got, want) {
		t.Errorf("got %q", got)
	}
}

func TestAnAnswerThatIsNoneSaysWhy(t *testing.T) {
	const quotes = `replies: {error: $.status.code, message: $.status.text, means: {E7: allowance_spent}}
calls:
  - serves: [quotes]
    path: /q
    batch: {symbols: 9}
    format: {kind: json}
    parts:
      - rows: $.quotes[*]
        symbol: code
        fields: {time: at, last: price}`
	for _, test := range []struct {
		body string
		kind FaultKind
		says string
	}{
		{`{"status": {"code": "E7", "text": "come back tomorrow"}}`, AllowanceGone, "come back tomorrow"},
		{`{"status": {"code": "E9", "text": "no"}, "quotes": [{"code": "KELP.XCVH", "at": "2026-03-06T11:00:00Z", "price": 1}]}`, Refused, "no"},
		{`{"quote": []}`, Reshaped, `there is nothing at $.quotes[*]; the nearest there is "quote"`},
		{`{"quotes": [{"kode": "KELP.XCVH", "at": "2026-03-06T11:00:00Z", "price": 1}]}`, Reshaped, `no record has the symbol at "code"; the nearest there is "kode"`},
		{`{"quotes": [`, Malformed, "it begins"},
		{``, Malformed, "it begins with nothing"},
		{`<html>maintenance</html>`, Malformed, "maintenance"},
	} {
		a, err := replayed(t, quotes, "", test.body, "KELP.XCVH")
		f, is := err.(*Fault)
		if !is || f.Kind != test.kind || !strings.Contains(f.Error(), test.says) {
			t.Errorf("%s: got %v, want %s saying %q", test.body, err, test.kind, test.says)
		}
		if len(a.Points) > 0 || len(a.Pages) != 1 {
			t.Errorf("%s: of an answer that is none, %d points over %d pages were kept", test.body, len(a.Points), len(a.Pages))
		}
	}
	// An answer without any of the names is one, and says so of each.
	a, err := replayed(t, quotes, "", `{"quotes": []}`, "KELP.XCVH")
	if err != nil || reasons(a) != "KELP.XCVH not_reported" {
		t.Errorf("got %s, %v", reasons(a), err)
	}
}

// paged has a vendor give splits of KELP on three pages, as a description pages them.
func paged(t *testing.T, paging string, serve http.HandlerFunc) (*Answer, []string, error) {
	t.Helper()
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, strings.TrimPrefix(r.URL.String(), "http://"+r.Host))
		serve(w, r)
	}))
	defer server.Close()
	d := described(t, `calls:
  - serves: [splits]
    path: /s
    query: {of: "{symbol}"}
    format: {kind: json}
    paging: `+paging+`
    parts:
      - rows: $.splits[*]
        fields: {date: day, ratio: for}`)
	s, err := Connect(d, Secret{Address: server.URL}, now)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Fetch(t.Context(), request(d, "splits", "KELP.XCVH"), anyTime)
	return a, asked, err
}

const splitsOf = `{"splits": [{"day": "2026-0%d-02", "for": 2}]%s}`

func TestPagesAreFollowedInEachWay(t *testing.T) {
	three := "KELP.XCVH splits: 2026-01-02 2; 2026-02-02 2; 2026-03-02 2"
	tests := []struct {
		name, paging string
		serve        http.HandlerFunc
		asked        []string
	}{
		{"by cursor", "{by: cursor, next: $.next, parameter: after}", func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Query().Get("after") {
			case "":
				fmt.Fprintf(w, splitsOf, 1, `, "next": "x/2"`)
			case "x/2":
				fmt.Fprintf(w, splitsOf, 2, `, "next": 3`)
			default:
				fmt.Fprintf(w, splitsOf, 3, `, "next": null`)
			}
		}, []string{"/s?of=KELP.XCVH", "/s?after=x%2F2&of=KELP.XCVH", "/s?after=3&of=KELP.XCVH"}},
		{"by number, up to the number the answer gives", "{by: page, parameter: page, pages: $.of}", func(w http.ResponseWriter, r *http.Request) {
			page := 1
			fmt.Sscan(r.URL.Query().Get("page"), &page) //nolint:errcheck // 1 without
			fmt.Fprintf(w, splitsOf, page, `, "of": 3`)
		}, []string{"/s?of=KELP.XCVH", "/s?of=KELP.XCVH&page=2", "/s?of=KELP.XCVH&page=3"}},
		{"by number, until one is empty", "{by: page, parameter: page}", func(w http.ResponseWriter, r *http.Request) {
			page := 1
			fmt.Sscan(r.URL.Query().Get("page"), &page) //nolint:errcheck // 1 without
			if page > 3 {
				fmt.Fprint(w, `{"splits": []}`)
				return
			}
			fmt.Fprintf(w, splitsOf, page, "")
		}, []string{"/s?of=KELP.XCVH", "/s?of=KELP.XCVH&page=2", "/s?of=KELP.XCVH&page=3", "/s?of=KELP.XCVH&page=4"}},
		{"by a link in the answer", "{by: link, next: $.more}", func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/s":
				fmt.Fprintf(w, splitsOf, 1, `, "more": "/s/2?x=1"`)
			case "/s/2":
				fmt.Fprintf(w, splitsOf, 2, `, "more": "3"`)
			default:
				fmt.Fprintf(w, splitsOf, 3, "")
			}
		}, []string{"/s?of=KELP.XCVH", "/s/2?x=1", "/s/3"}},
		{"by the Link header", "{by: link}", func(w http.ResponseWriter, r *http.Request) {
			page := 1
			fmt.Sscanf(r.URL.Path, "/s/%d", &page) //nolint:errcheck // 1 without
			if page < 3 {
				w.Header().Set("Link", fmt.Sprintf(`</first>; rel="first", </s/%d>; rel="next"`, page+1))
			}
			fmt.Fprintf(w, splitsOf, page, "")
		}, []string{"/s?of=KELP.XCVH", "/s/2", "/s/3"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a, asked, err := paged(t, test.paging, test.serve)
			if err != nil || len(a.Pages) != len(test.asked) {
				t.Fatalf("%d pages, %v", len(a.Pages), err)
			}
			if got := strings.Join(told(a), "\n"); got != three {
				t.Errorf("got %s", got)
			}
			if !slices.Equal(asked, test.asked) {
				t.Errorf("asked %q, want %q", asked, test.asked)
			}
		})
	}
}

func TestPagesThatNeverEndAreRefused(t *testing.T) {
	for name, test := range map[string]struct {
		paging string
		serve  http.HandlerFunc
		says   string
		most   int
	}{
		"a cursor that leads back": {"{by: cursor, next: $.next, parameter: after}", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, splitsOf, 1, `, "next": "again"`)
		}, "leads back", 2},
		"more pages than allowed": {"{by: page, parameter: page, most: 4}", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, splitsOf, 1, "")
		}, "4 pages", 4},
		"a link to another host": {"{by: link, next: $.next}", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, splitsOf, 1, `, "next": "http://127.0.0.2:9/steal"`)
		}, "127.0.0.2", 1},
	} {
		a, asked, err := paged(t, test.paging, test.serve)
		if err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: %v", name, err)
		}
		if len(asked) > test.most || len(a.Entries) > 0 {
			t.Errorf("%s: asked %d times, kept %d", name, len(asked), len(a.Entries))
		}
	}
}

func TestACallFallsBackOnAnotherForWhatItLacks(t *testing.T) {
	d := described(t, `calls:
  - serves: [ratios]
    path: /whole
    batch: {symbols: 9}
    otherwise: single
    format: {kind: json}
    unknown: $.none[*]
    parts:
      - rows: $.r[*]
        symbol: s
        fields: {pe: pe}
  - name: single
    serves: [ratios]
    path: /one/{symbols}
    batch: {symbols: 2}
    cost: {request: 1, symbol: 3}
    fallback: true
    standalone: true
    format: {kind: json}
    parts:
      - rows: $.r[*]
        symbol: s
        fields: {pe: pe}`)
	s := &Source{Description: d, now: now}
	if calls := s.PlannedCalls(); len(calls) != 1 || calls[0].Name != "ratios" {
		t.Fatalf("a fallback is not planned: %v", calls)
	}
	q := request(d, "ratios", "A.XCVH", "B.XCVH", "C.XCVH", "D.XCVH", "E.XCVH")
	a := &Answer{Failures: []Failure{
		{q.Needs[0].Symbol, catalogue.Ratios, cell.NotCovered, ""},
		{q.Needs[1].Symbol, catalogue.Ratios, cell.NotPermitted, ""},
		{q.Needs[2].Symbol, catalogue.Ratios, cell.NotReported, ""},
		{q.Needs[4].Symbol, catalogue.Ratios, cell.NotCovered, ""},
	}}
	more := s.Otherwise(q, a)
	var got []string
	for _, r := range more {
		var names []string
		for _, n := range r.Needs {
			names = append(names, n.Symbol.Ticker)
		}
		got = append(got, fmt.Sprintf("%s %s for %d", r.Call, strings.Join(names, " "), r.Units))
	}
	if want := []string{"single A C for 7", "single E for 4"}; !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
	if len(s.Otherwise(more[0], a)) != 0 {
		t.Error("a fallback falls back on nothing")
	}
	unknown := func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnprocessableEntity) }
	d.Replies.Means = map[string]string{"422": "unknown_symbol"}
	if a, err := asked(t, d, unknown, "ratios", "A.XCVH"); err != nil || reasons(a) != "A.XCVH not_covered" || len(s.Otherwise(request(d, "ratios", "A.XCVH"), a)) != 1 {
		t.Errorf("that a listing alone is not known is an answer: %v, %v", a, err)
	}
	if _, err := asked(t, d, unknown, "ratios", "A.XCVH", "B.XCVH"); err == nil {
		t.Error("of several it is a fault")
	}
	if _, err := asked(t, d, unknown, "single", "A.XCVH"); err == nil {
		t.Error("where there is no other way it is a fault")
	}
	answer, err := Replay(d, []byte(`{"r": [{"s": "A.XCVH", "pe": 9}]}`), "", now).Fetch(t.Context(), more[0], nil)
	if err != nil || len(answer.Points) != 1 || !answer.Points[0].Standalone || reasons(answer) != "C.XCVH not_reported" {
		t.Errorf("got %q, %v", told(answer), err)
	}
}

func TestAFolderIsReadFileByFile(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	d, err := Read("ledger.yaml", []byte(`name: ledger
title: Ledger
access: {folder: `+folder+`}
calls:
  - serves: [bars]
    path: "XCVH-*.csv"
    batch: {symbols: 9}
    format: {kind: csv}
    parts:
      - symbol: code
        fields: {date: day, close: close}
`))
	if err != nil {
		t.Fatal(err)
	}
	s, err := Connect(d, Secret{}, now)
	if err != nil {
		t.Fatal(err)
	}
	kelp := market.Symbol{Ticker: "KELP", Exchange: "XCVH"}
	q := plan.Request{Source: "ledger", Call: "bars", Exchange: "XCVH", From: period.MakeDate(2026, 1, 1), To: period.MakeDate(2026, 3, 6), Needs: []plan.Need{{Dataset: catalogue.Bars, Listing: 1, Symbol: kelp, Currency: "EUR"}}}
	read := func() (*Answer, string) {
		a, err := s.Fetch(t.Context(), q, anyTime)
		if err != nil {
			return a, err.Error()
		}
		return a, strings.Join(told(a), "\n")
	}
	if _, said := read(); !strings.Contains(said, "no file matches") {
		t.Errorf("an empty folder: %s", said)
	}
	write("XCVH-a.csv", "code,day,close\nKELP.XCVH,2026-03-04,7\nSALT.XCVH,2026-03-04,1\n")
	write("XCVH-b.csv", "code,day,close\nKELP.XCVH,2026-03-05,8\nKELP.XCVH,2026-03-04,7\n")
	write("XNMK-a.csv", "code,day,close\nKELP.XCVH,2026-03-03,6\n")
	if a, said := read(); said != "KELP.XCVH bars: 2026-03-04 7 7 7 7 0; 2026-03-05 8 8 8 8 0" || len(a.Pages) != 2 {
		t.Errorf("two files: %s over %d pages", said, len(a.Pages))
	}
	write("XCVH-c.csv", "code,day,price\nKELP.XCVH,2026-03-06,9\n")
	if _, said := read(); !strings.HasSuffix(said, `(one bar rejected, at line 2: the close "")`) {
		t.Errorf("a file of another shape: %s", said)
	}
}
