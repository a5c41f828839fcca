package standin

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// WhimbrelKey is the key that the stand-in accepts.
const WhimbrelKey = "demo-whimbrel"

const whimbrelBatch = 25

// Whimbrel is a vendor of fundamentals that speaks CSV, with a key in the query
// and texts for people: 1.24B, 3.1%, n/a, footnote marks.
type Whimbrel struct{ *Vendor }

// NewWhimbrel returns the vendor as an [http.Handler].
func NewWhimbrel(m *Market) *Whimbrel {
	w := &Whimbrel{newVendor("whimbrel", m, 2, 2, 60_000)}
	w.key = func(r *http.Request) bool { return r.URL.Query().Get("apikey") == WhimbrelKey }
	w.serve("/statements.csv", "statements", listed("companies", ","), w.statements)
	w.serve("/estimates.csv", "estimates", listed("companies", ","), w.estimates)
	w.serve("/opinions.csv", "opinions", listed("companies", ","), w.opinions)
	w.serve("/holders.csv", "holders", listed("companies", ","), w.holders)
	w.serve("/companies/{code}/{basis}", "pages", func(r *http.Request) []string { return []string{r.PathValue("code")} }, w.page)
	w.serve("/ratios.csv", "ratios", listed("companies", ","), w.ratios)
	return w
}

var whimbrelExchanges = map[string]string{"VE": "XCVH", "NM": "XNMK", "TS": "XTSG", "PL": "XPLR"}

func (w *Whimbrel) find(code string) *Listing {
	exchange, ticker, _ := strings.Cut(code, "-")
	return w.Market.Find(market.Symbol{Ticker: ticker, Exchange: whimbrelExchanges[exchange]})
}

// Ratios are a company's ratios from its last four quarters and its last close.
type Ratios struct {
	MarketCap, PE, PB, PS, Yield, Payout, Margin, Leverage float64 // NaN where there is no meaning
}

// Ratios of a listing on a day; false where it publishes no accounts.
func (m *Market) Ratios(l *Listing, day period.Date) (r Ratios, ok bool) {
	accounts := m.Accounts(l, day)
	bars := m.BarsIn(l, day-longestBreak, min(day, m.Exchanges.Of(&l.Listing).LastClosed(m.Clock(), 0).Date))
	if len(accounts) < 4 || bars.Len() == 0 {
		return r, false
	}
	last := accounts[len(accounts)-1]
	var revenue, income, dividends int64
	for _, a := range accounts[len(accounts)-4:] {
		revenue, income, dividends = revenue+a.Revenue, income+a.NetIncome(), dividends+a.Dividends
	}
	over := func(a, b float64) float64 {
		if b <= 0 {
			return math.NaN()
		}
		return a / b
	}
	price := bars.Close[bars.Len()-1]
	r.MarketCap = price * float64(last.Shares)
	if l.part != 0 {
		r.MarketCap = 0
		for _, x := range m.Listings {
			if x.part != 0 && m.issuer(x) == m.issuer(l) {
				closes := m.BarsIn(x, day-longestBreak, min(day, m.Exchanges.Of(&x.Listing).LastClosed(m.Clock(), 0).Date)).Close
				r.MarketCap += closes[len(closes)-1] * x.part * float64(last.Shares)
			}
		}
	}
	worth := r.MarketCap / m.rate(m.issuer(l).Currency, l.Currency, day)                  // in the currency of the accounts
	alike := price * float64(last.Shares) / m.rate(m.issuer(l).Currency, l.Currency, day) // were all shares of this class
	r.PE, r.PB, r.PS = over(alike, float64(income)*1000), over(worth, float64(last.Equity)*1000), over(worth, float64(revenue)*1000)
	if l.story.misreckoned {
		r.PE *= 1.3
	}
	if l.part != 0 { // what is paid on a share of this class
		dividends = m.paidOut(l, float64(last.Shares), accounts[len(accounts)-4].Start, last.End)
	}
	r.Yield, r.Payout = float64(dividends)*1000/alike, over(float64(dividends), float64(income))
	r.Margin, r.Leverage = float64(income)/float64(revenue), over(float64(last.Debt), float64(last.Equity))
	return r, true
}

// rate is what one unit of a currency is worth in another on a day, where it is fixed
// directly.
func (m *Market) rate(of, in string, day period.Date) float64 {
	pair := m.Find(market.Symbol{Ticker: of, Exchange: in})
	if of == in || pair == nil {
		return 1
	}
	bars := m.BarsIn(pair, day-longestBreak, day)
	return bars.Close[bars.Len()-1]
}

func (w *Whimbrel) ratios(_ *http.Request, codes []string) (*answer, *refusal) {
	return w.listing(codes, "Company,Market cap,P/E,P/B,P/S,Dividend yield,Payout ratio,Net margin,Debt/equity", func(b *strings.Builder, code string, l *Listing, today period.Date) {
		r, ok := w.Market.Ratios(l, today)
		if !ok {
			return
		}
		mark := ""
		if l.story.standalone {
			mark = " *"
		}
		line := []string{code, magnitude(r.MarketCap), plainRatio(r.PE), plainRatio(r.PB), plainRatio(r.PS) + mark, percent(r.Yield), percent(r.Payout), percent(r.Margin), plainRatio(r.Leverage)}
		for i, text := range line {
			if strings.Contains(text, ",") {
				line[i] = `"` + text + `"`
			}
		}
		b.WriteString(strings.Join(line, ",") + "\r\n")
	})
}

// magnitude writes an amount as 1.24B.
func magnitude(x float64) string {
	for _, m := range []struct {
		suffix string
		factor float64
	}{{"T", 1e12}, {"B", 1e9}, {"M", 1e6}, {"K", 1e3}} {
		if x >= m.factor {
			return strconv.FormatFloat(x/m.factor, 'f', 2, 64) + m.suffix
		}
	}
	return strconv.FormatFloat(x, 'f', 2, 64)
}

func plainRatio(x float64) string {
	if math.IsNaN(x) {
		return "n.m."
	}
	text := strconv.FormatFloat(x, 'f', 2, 64)
	whole, fraction, _ := strings.Cut(text, ".")
	return grouped(whole) + "." + fraction
}

func percent(x float64) string {
	switch {
	case math.IsNaN(x):
		return "n/a"
	case x < 0:
		return fmt.Sprintf("(%.2f)%%", -100*x)
	}
	return fmt.Sprintf("%.2f%%", 100*x)
}
