package market

import (
	"errors"
	"strings"
	"testing"
)

func directory() *Directory {
	l := func(symbol, isin, name string) *Listing {
		s, err := ParseSymbol(symbol)
		if err != nil {
			panic(err)
		}
		return &Listing{Symbol: s, ISIN: isin, Name: name, Currency: "EUR"}
	}
	gone := l("KEL.XNMK", "", "Kelpie Kelp")
	gone.Ended = 1
	return NewDirectory([]*Listing{
		gone,
		l("KELP.XCVH", "XA000KELP019", "Marram Kelp Farms"),
		l("MUSL.XCVH", "XA000BLUEM12", "Blue Rope Mussels"),
		l("MUSL.XNMK", "XA000BLUEM12", "Blue Rope Mussels"),
		l("ROPE.XNMK", "", "Hempline Rope"),
	})
}

func TestClassesOfShares(t *testing.T) {
	l := func(symbol, isin, issuer string, part float64) *Listing {
		s, err := ParseSymbol(symbol)
		if err != nil {
			t.Fatal(err)
		}
		return &Listing{Symbol: s, ISIN: isin, Issuer: issuer, Part: part}
	}
	a, b, far := l("CHAN.A.XPLR", "1", "chan", 0.6), l("CHAN.B.XPLR", "2", "chan", 0.3), l("CHAN.B.XCVH", "2", "chan", 0.3)
	c, one, other := l("CHAN.C.XCVH", "3", "chan", 0.1), l("KELP.XCVH", "4", "kelp", 0), l("KELP.XPLR", "5", "kelp", 0)
	d := NewDirectory([]*Listing{far, c, a, b, one, other})
	names := func(all []*Listing) string {
		var out []string
		for _, x := range all {
			out = append(out, x.Symbol.String())
		}
		return strings.Join(out, " ")
	}
	// Of a class with two listings the one on the same exchange.
	for x, want := range map[*Listing]string{a: "CHAN.B.XPLR CHAN.C.XCVH", b: "CHAN.C.XCVH CHAN.A.XPLR", far: "CHAN.C.XCVH CHAN.A.XPLR", c: "CHAN.B.XCVH CHAN.A.XPLR", one: ""} {
		if got := names(d.Classes(x)); got != want {
			t.Errorf("of %s the other classes are %q, want %q", x.Symbol, got, want)
		}
	}
}

func TestResolve(t *testing.T) {
	d := directory()
	for text, want := range map[string]string{
		"KELP.XCVH": "KELP.XCVH", "kelp": "KELP.XCVH", "XA000KELP019": "KELP.XCVH", " rope ": "ROPE.XNMK",
	} {
		if l, err := d.Resolve(text); err != nil || l.Symbol.String() != want {
			t.Errorf("Resolve(%q) = %v, %v", text, l, err)
		}
	}
	var ambiguous *AmbiguousError
	for _, text := range []string{"MUSL", "XA000BLUEM12"} {
		if _, err := d.Resolve(text); !errors.As(err, &ambiguous) || len(ambiguous.Candidates) != 2 || !strings.Contains(err.Error(), "MUSL.XNMK") {
			t.Errorf("Resolve(%q): %v", text, err)
		}
	}
	var unknown *UnknownError
	for text, near := range map[string]string{"KLEP.XCVH": "KELP.XCVH", "KELP.XNMK": "KELP.XCVH", "ROP": "ROPE.XNMK", "ZZZZ": ""} {
		_, err := d.Resolve(text)
		if !errors.As(err, &unknown) || near == "" && len(unknown.Near) > 0 || near != "" && unknown.Near[0].Symbol.String() != near {
			t.Errorf("Resolve(%q): %v, want near %q", text, err, near)
		}
	}
	var bad *SymbolError
	if _, err := d.Resolve("XA000KELP018"); !errors.As(err, &bad) {
		t.Errorf("a wrong check digit: %v", err)
	}
}

func TestSearchRanks(t *testing.T) {
	d := directory()
	for query, want := range map[string]string{
		"kel":       "KELP.XCVH KEL.XNMK", // the one that trades first, though KEL is a ticker
		"rope":      "ROPE.XNMK MUSL.XCVH MUSL.XNMK",
		"mus xnmk":  "MUSL.XNMK",
		"xa000kelp": "KELP.XCVH",
		"farms":     "KELP.XCVH",
		"":          "",
		"nothing":   "",
	} {
		var got []string
		for _, l := range d.Search(query, 10) {
			got = append(got, l.Symbol.String())
		}
		if strings.Join(got, " ") != want {
			t.Errorf("Search(%q) = %v, want %s", query, got, want)
		}
	}
	if n := len(d.Search("rope", 1)); n != 1 {
		t.Errorf("%d found, one was asked for", n)
	}
}
