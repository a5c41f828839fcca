package market

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Directory finds listings. It is immutable.
type Directory struct {
	Ordered  []*Listing // by symbol
	byID     map[int64]*Listing
	bySymbol map[Symbol]*Listing
	byTicker map[string][]*Listing
	byISIN   map[string][]*Listing
	byIssuer map[string][]*Listing // that has several classes of shares
}

// NewDirectory indexes listings that are ordered by symbol.
func NewDirectory(ordered []*Listing) *Directory {
	d := &Directory{ordered, map[int64]*Listing{}, map[Symbol]*Listing{}, map[string][]*Listing{}, map[string][]*Listing{}, map[string][]*Listing{}}
	for _, l := range ordered {
		d.byID[l.ID], d.bySymbol[l.Symbol] = l, l
		d.byTicker[l.Symbol.Ticker] = append(d.byTicker[l.Symbol.Ticker], l)
		if l.ISIN != "" {
			d.byISIN[l.ISIN] = append(d.byISIN[l.ISIN], l)
		}
		if l.Issuer != "" && l.Part != 0 {
			d.byIssuer[l.Issuer] = append(d.byIssuer[l.Issuer], l)
		}
	}
	return d
}

// ByID finds a listing by number, or nil.
func (d *Directory) ByID(id int64) *Listing { return d.byID[id] }

// Find finds a listing by symbol, or nil.
func (d *Directory) Find(s Symbol) *Listing { return d.bySymbol[s] }

// Classes are the other classes of shares of a listing's issuer: of each one listing, on
// the same exchange where there is one.
func (d *Directory) Classes(l *Listing) (others []*Listing) {
	if l.Part == 0 {
		return nil
	}
	at := map[string]int{}
	for _, x := range d.byIssuer[l.Issuer] {
		i, known := at[x.ISIN]
		switch {
		case x.ISIN == l.ISIN:
		case !known:
			at[x.ISIN] = len(others)
			others = append(others, x)
		case x.Symbol.Exchange == l.Symbol.Exchange:
			others[i] = x
		}
	}
	return others
}

// An UnknownError says that nothing is listed under a text, and what comes near.
type UnknownError struct {
	Text string
	Near []*Listing
}

func (e *UnknownError) Error() string {
	text := fmt.Sprintf("nothing is listed as %q", e.Text)
	if len(e.Near) > 0 {
		text += "; near it: " + named(e.Near)
	}
	return text
}

// An AmbiguousError says that a ticker or an ISIN names several listings.
type AmbiguousError struct {
	Text       string
	Candidates []*Listing
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("%q names several listings: %s", e.Text, named(e.Candidates))
}

func named(listings []*Listing) string {
	names := make([]string, len(listings))
	for i, l := range listings {
		names[i] = fmt.Sprintf("%s (%s, %s)", l.Symbol, l.Name, l.Currency)
	}
	return strings.Join(names, ", ")
}

// Resolve finds the one listing that a text names: a symbol, an ISIN that only
// one listing has, or a ticker that only one listing has. The error is a
// *[SymbolError], an *[UnknownError] or an *[AmbiguousError].
func (d *Directory) Resolve(text string) (*Listing, error) {
	trimmed := strings.ToUpper(strings.TrimSpace(text))
	if LooksLikeISIN(trimmed) && len(d.byTicker[trimmed]) == 0 {
		isin, err := ParseISIN(trimmed)
		if err != nil {
			return nil, err
		}
		return d.single(text, d.byISIN[isin])
	}
	s, err := ParseSymbol(text)
	if err != nil {
		return nil, err
	}
	if s.Exchange == "" {
		return d.single(text, d.byTicker[s.Ticker])
	}
	if l := d.bySymbol[s]; l != nil {
		return l, nil
	}
	return nil, &UnknownError{text, d.near(s)}
}

func (d *Directory) single(text string, found []*Listing) (*Listing, error) {
	switch len(found) {
	case 0:
		return nil, &UnknownError{text, d.near(Symbol{Ticker: strings.ToUpper(strings.TrimSpace(text))})}
	case 1:
		return found[0], nil
	}
	return nil, &AmbiguousError{text, found}
}

// near finds up to three listings with the same ticker elsewhere, or with a
// ticker one letter away.
func (d *Directory) near(s Symbol) []*Listing {
	found := slices.Clone(d.byTicker[s.Ticker])
	for _, l := range d.Ordered {
		if len(found) >= 3 {
			break
		}
		if l.Symbol.Ticker != s.Ticker && oneAway(l.Symbol.Ticker, s.Ticker) && (s.Exchange == "" || l.Symbol.Exchange == s.Exchange) {
			found = append(found, l)
		}
	}
	return found[:min(3, len(found))]
}

// oneAway tells whether one letter changed, added, dropped or swapped with its
// neighbour makes a of b.
func oneAway(a, b string) bool {
	if len(a) < len(b) {
		a, b = b, a
	}
	i := 0
	for i < len(b) && a[i] == b[i] {
		i++
	}
	switch len(a) - len(b) {
	case 0:
		return i < len(a) && (a[i+1:] == b[i+1:] || i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:])
	case 1:
		return a[i+1:] == b[i:]
	}
	return false
}

// Search finds listings while a person types: those whose ticker is the query
// first, then those whose ticker or ISIN begins with it, then those with a word
// of the name that does, then those that hold it anywhere. All words of the
// query must match. Listings that still trade come before those that ended.
func (d *Directory) Search(query string, limit int) []*Listing {
	words := strings.Fields(strings.ToUpper(query))
	if len(words) == 0 {
		return nil
	}
	type hit struct {
		*Listing
		rank int
	}
	var hits []hit
	for _, l := range d.Ordered {
		name := strings.ToUpper(l.Name)
		worst := 0
		for _, w := range words {
			worst = max(worst, rank(l, name, w))
		}
		if worst < nowhere {
			if l.Ended != 0 {
				worst += nowhere
			}
			hits = append(hits, hit{l, worst})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(a.rank, b.rank) })
	out := make([]*Listing, 0, min(limit, len(hits)))
	for _, h := range hits[:min(limit, len(hits))] {
		out = append(out, h.Listing)
	}
	return out
}

const nowhere = 6

func rank(l *Listing, name, word string) int {
	symbol := l.Symbol.String()
	switch {
	case l.Symbol.Ticker == word || symbol == word || l.ISIN == word:
		return 0
	case strings.HasPrefix(symbol, word):
		return 1
	case strings.HasPrefix(name, word):
		return 2
	case strings.Contains(" "+name, " "+word):
		return 3
	case strings.HasPrefix(l.ISIN, word) || l.Symbol.Exchange == word:
		return 4
	case strings.Contains(name, word) || strings.Contains(symbol, word):
		return 5
	}
	return nowhere
}
