// Package market holds what is traded and when: symbols, ISINs, listings, and
// the trading sessions of exchanges.
package market

import (
	"fmt"
	"strings"
	"unicode"
)

// Symbol names a listing: ticker, dot, exchange, as KELP.XCVH, or a pair of
// currencies, as EUR/USD. It is comparable. The exchange is the last part, so a
// ticker may itself hold dots.
type Symbol struct {
	Ticker   string // of a pair: the base currency
	Exchange string // ISO 10383 form: four letters or digits; of a pair: the quote currency, three
}

// IsPair tells whether the symbol is a pair of currencies.
func (s Symbol) IsPair() bool { return len(s.Exchange) == 3 }

// String writes the symbol as [ParseSymbol] reads it.
func (s Symbol) String() string {
	switch {
	case s.IsPair():
		return s.Ticker + "/" + s.Exchange
	case s.Exchange == "":
		return s.Ticker
	}
	return s.Ticker + "." + s.Exchange
}

// Address writes the symbol for use in a URL path, where a pair is EUR-USD.
func (s Symbol) Address() string { return strings.Replace(s.String(), "/", "-", 1) }

// A SymbolError says what is wrong with a text that should name a listing.
type SymbolError struct{ Text, Problem string }

func (e *SymbolError) Error() string { return fmt.Sprintf("%q %s", e.Text, e.Problem) }

// ParseSymbol reads a symbol, in lower or upper case. A bare ticker, without an
// exchange, gives a Symbol with an empty Exchange. The error is a *[SymbolError].
func ParseSymbol(text string) (Symbol, error) {
	upper := strings.ToUpper(strings.TrimSpace(text))
	switch {
	case upper == "":
		return Symbol{}, &SymbolError{text, "is empty: write a symbol as KELP.XCVH"}
	case len(upper) > 40:
		return Symbol{}, &SymbolError{text[:min(len(text), 20)] + "…", "is too long for a symbol: at most 40 characters"}
	}
	for _, r := range upper {
		if unicode.IsSpace(r) || unicode.IsControl(r) || r == unicode.ReplacementChar || strings.ContainsRune(`"',;:?#%\`, r) {
			return Symbol{}, &SymbolError{text, fmt.Sprintf("holds %q, which no symbol may: write it as KELP.XCVH", r)}
		}
	}
	if base, quote, found := cutPair(upper); found {
		return Symbol{base, quote}, nil
	}
	if strings.Contains(upper, "/") {
		return Symbol{}, &SymbolError{text, "is not a pair of currencies: write it as EUR/USD"}
	}
	dot := strings.LastIndexByte(upper, '.')
	if dot < 0 {
		return Symbol{Ticker: upper}, nil
	}
	s := Symbol{upper[:dot], upper[dot+1:]}
	if s.Ticker == "" || !isCode(s.Exchange, 4) {
		return Symbol{}, &SymbolError{text, "does not end in an exchange code of four letters: write it as KELP.XCVH"}
	}
	return s, nil
}

func cutPair(text string) (base, quote string, found bool) {
	if len(text) != 7 || text[3] != '/' && text[3] != '-' {
		return "", "", false
	}
	base, quote = text[:3], text[4:]
	return base, quote, IsCurrency(base) && IsCurrency(quote)
}

func isCode(text string, length int) bool {
	if len(text) != length {
		return false
	}
	for i := range len(text) {
		if c := text[i]; (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// IsCurrency tells whether text has the form of an ISO 4217 code: three letters.
func IsCurrency(text string) bool {
	return isCode(text, 3) && strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == ""
}

// LooksLikeISIN tells whether a text has the length and country prefix of an ISIN.
func LooksLikeISIN(text string) bool {
	text = strings.ToUpper(text)
	return isCode(text, 12) && strings.Trim(text[:2], "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == "" && text[11] >= '0' && text[11] <= '9'
}

// ParseISIN reads an ISO 6166 number and verifies its check digit.
func ParseISIN(text string) (string, error) {
	isin := strings.ToUpper(strings.TrimSpace(text))
	if !LooksLikeISIN(isin) {
		return "", &SymbolError{text, "is not an ISIN: two letters, nine letters or digits, and a check digit"}
	}
	if want := ISINCheckDigit(isin[:11]); isin[11] != want {
		return "", &SymbolError{text, fmt.Sprintf("has a wrong check digit: it ends in %c, but %c belongs to the eleven characters before it; look for a typing error", isin[11], want)}
	}
	return isin, nil
}

// ISINCheckDigit computes the last digit of an ISIN from the eleven characters
// before it, by the modulus-10 double-add-double rule of ISO 6166.
func ISINCheckDigit(body string) byte {
	var digits []int
	for i := range len(body) {
		if c := body[i]; c >= 'A' {
			digits = append(digits, int(c-'A'+10)/10, int(c-'A'+10)%10)
		} else {
			digits = append(digits, int(c-'0'))
		}
	}
	sum := 0
	for i := range digits {
		d := digits[len(digits)-1-i]
		if i%2 == 0 {
			d *= 2
		}
		sum += d/10 + d%10
	}
	return byte('0' + (10-sum%10)%10)
}
