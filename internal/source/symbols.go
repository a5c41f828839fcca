package source

import (
	"cmp"
	"regexp"
	"strings"

	"soba.invalid/soba/internal/core/market"
)

// Covers tells whether the source can write a symbol at all.
func (s *Symbols) Covers(x market.Symbol) bool {
	if x.IsPair() {
		return s.Pair != "" && (s.PairBase == "" || s.PairBase == x.Ticker) || s.Codes[x.String()] != ""
	}
	if len(s.Codes) > 0 {
		return s.Codes[x.String()] != ""
	}
	if len(s.Exchanges) > 0 {
		return s.Exchanges[x.Exchange] != ""
	}
	return s.Write != ""
}

// Exchange writes an exchange as the source does; "" is that of pairs.
func (s *Symbols) Exchange(code string) string {
	if code == "" {
		return s.PairExchange
	}
	if theirs := s.Exchanges[code]; theirs != "" {
		return theirs
	}
	return code
}

// ours is the exchange that the source writes in its own way.
func (s *Symbols) ours(theirs string) (string, bool) {
	for ours, t := range s.Exchanges {
		if t == theirs {
			return ours, true
		}
	}
	return theirs, len(s.Exchanges) == 0
}

// Symbol writes a listing as the source does; false where it cannot.
func (s *Symbols) Symbol(x market.Symbol, isin string) (string, bool) {
	if !s.Covers(x) {
		return "", false
	}
	if x.IsPair() && s.Codes[x.String()] == "" {
		return strings.NewReplacer("{base}", x.Ticker, "{quote}", x.Exchange).Replace(s.Pair), true
	}
	if strings.Contains(s.Write, "{isin}") && isin == "" {
		return "", false
	}
	return strings.NewReplacer("{ticker}", x.Ticker, "{exchange}", s.Exchange(x.Exchange), "{isin}", isin, "{code}", s.Codes[x.String()]).Replace(s.Write), true
}

// Read understands a symbol that the source wrote; false where it is none of its own.
func (s *Symbols) Read(text string) (market.Symbol, bool) {
	for symbol, code := range s.Codes {
		if code == text {
			x, err := market.ParseSymbol(symbol)
			return x, err == nil
		}
	}
	if s.Pair != "" {
		if m := pattern(s.Pair).FindStringSubmatch(text); m != nil {
			x, err := market.ParseSymbol(cmp.Or(s.PairBase, group(s.Pair, m, "base")) + "/" + group(s.Pair, m, "quote"))
			return x, err == nil
		}
	}
	if s.Write == "" {
		return market.Symbol{}, false
	}
	m := pattern(s.Write).FindStringSubmatch(text)
	if m == nil {
		return market.Symbol{}, false
	}
	code, known := s.ours(group(s.Write, m, "exchange"))
	if !known {
		return market.Symbol{}, false
	}
	x, err := market.ParseSymbol(group(s.Write, m, "ticker") + "." + code)
	return x, err == nil && x.Exchange != ""
}

// pattern is a template as a regular expression with a group for each name.
func pattern(template string) *regexp.Regexp {
	var b strings.Builder
	b.WriteByte('^')
	at := 0
	for _, m := range placeholder.FindAllStringSubmatchIndex(template, -1) {
		b.WriteString(regexp.QuoteMeta(template[at:m[0]]))
		switch template[m[2]:m[3]] {
		case "base", "quote":
			b.WriteString("([A-Z]{3})")
		default:
			b.WriteString("(.+)")
		}
		at = m[1]
	}
	b.WriteString(regexp.QuoteMeta(template[at:]) + "$")
	return regexp.MustCompile(b.String()) // quoted text and fixed groups always compile
}

// group is the text that matched a name of a template.
func group(template string, match []string, name string) string {
	for i, m := range placeholder.FindAllStringSubmatch(template, -1) {
		if m[1] == name {
			return match[i+1]
		}
	}
	return ""
}
