package clean

import (
	"math"
	"testing"
	"time"
)

func rules(t testing.TB, r Rules) *Rules {
	t.Helper()
	if err := r.Compile(); err != nil {
		t.Fatal(err)
	}
	return &r
}

func TestNumbers(t *testing.T) {
	english := rules(t, Rules{Missing: []string{"-", "n/a"}, Thousands: ",", Magnitudes: map[string]float64{"k": 1e3, "M": 1e6, "B": 1e9, "T": 1e12, "bn": 1e9}, Parentheses: true, Footnotes: `[*†]+|\[\d+\]`})
	german := rules(t, Rules{Decimal: ",", Thousands: ".", Magnitudes: map[string]float64{"Mio": 1e6}})
	swiss := rules(t, Rules{Thousands: "' "})
	plain := rules(t, Rules{})
	const none, bad = math.MaxFloat64, -math.MaxFloat64
	for _, c := range []struct {
		by   *Rules
		text string
		want float64
	}{
		{english, "1.24B", 1.24e9},
		{english, " 1,234.5 ", 1234.5},
		{english, "3.1%", 0.031},
		{english, "(12.5)", -12.5},
		{english, "(1.2)B", -1.2e9},
		{english, "41.7*", 41.7},
		{english, "41.7 †*", 41.7},
		{english, "12[3]", 12},
		{english, "n/a", none},
		{english, "-", none},
		{english, "", none},
		{english, "n/a*", none},
		{english, "−5", -5},
		{english, "9.18 bn", 9.18e9},
		{english, "+7", 7},
		{english, "-3.1 %", -0.031},
		{english, "1e3", 1000},
		{english, "1,5", bad},
		{english, "1.2,345", bad},
		{english, "12..5", bad},
		{english, "B", bad},
		{english, "(-3)", bad},
		{english, "(3", bad},
		{english, "()", bad},
		{english, "0x1F", bad},
		{english, "1_000", bad},
		{english, "Inf", bad},
		{english, "NaN", bad},
		{english, "1e999", bad},
		{english, "3,4,5", bad},
		{english, ",", bad},
		{english, "12 apples", bad},
		{german, "1.234,5", 1234.5},
		{german, "1,5", 1.5},
		{german, "1.5", bad},
		{german, "2,5 Mio", 2.5e6},
		{german, "1.234.567", 1234567},
		{swiss, "1'234'567.25", 1234567.25},
		{swiss, "1\u202f234", 1234},
		{plain, "(5)", bad},
		{plain, "5k", bad},
		{plain, "1,234", bad},
		{plain, "12%", 0.12},
		{plain, "0.07%", 0.0007},
		{plain, "8.43%", 0.0843},
		{english, "1.1B", 1.1e9},
		{english, "4.35k", 4350},
		{plain, "-0.5", -0.5},
	} {
		x, there, err := c.by.Number(c.text)
		switch {
		case c.want == none && (there || err != nil), c.want == bad && err == nil, c.want != none && c.want != bad && (err != nil || !there || x != c.want):
			t.Errorf("%q: %v, %v, %v; want %v", c.text, x, there, err, c.want)
		}
	}
	for _, r := range []Rules{{Decimal: ",", Thousands: ","}, {Magnitudes: map[string]float64{"1": 2}}, {Magnitudes: map[string]float64{"k": 0}}, {Footnotes: "("}} {
		if r.Compile() == nil {
			t.Errorf("%+v are taken for rules", r)
		}
	}
}

func TestDates(t *testing.T) {
	tokyo, err := time.LoadLocation("Asia/Tokyo")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ pattern, text, want string }{
		{"iso", "2026-03-06T16:20:00Z", "2026-03-06T16:20:00Z"},
		{"", "2026-03-06", "2026-03-05T15:00:00Z"},
		{"DD.MM.YYYY", "06.03.2026", "2026-03-05T15:00:00Z"},
		{"D MMM YYYY hh:mm", "6 Mar 2026 09:30", "2026-03-06T00:30:00Z"},
		{"DD MMM YYYY hh:mm", "06 Mar 2026 09:30", "2026-03-06T00:30:00Z"},
		{"unix", "1772814000", "2026-03-06T16:20:00Z"},
		{"unix_ms", "1772814000500", "2026-03-06T16:20:00.5Z"},
		{"serial", "46087.5", "2026-03-06T03:00:00Z"},
		{"serial", "-4", ""},
		{"YYYYMMDD", "2026-03-06", ""},
		{"iso", "yesterday", ""},
		{"unix", "1e300", ""},
		{"DD.MM.YYYY", "31.02.2026", ""},
	} {
		layout, err := Layout(c.pattern)
		if err != nil {
			t.Fatal(err)
		}
		at, err := Time(c.text, layout, tokyo)
		if got := at.UTC().Format(time.RFC3339Nano); (c.want == "") != (err != nil) || err == nil && got != c.want {
			t.Errorf("%s %q: %s, %v; want %s", c.pattern, c.text, got, err, c.want)
		}
	}
	if _, err := Layout("tomorrow"); err == nil {
		t.Error("any word passes as a pattern")
	}
	if d, err := Date("2026-03-06", ""); err != nil || d.String() != "2026-03-06" {
		t.Error(d, err)
	}
	if _, err := Date("0001-01-01", ""); err == nil {
		t.Error("a date before all trading passes")
	}
}

// Whatever text comes, a number is finite, and what stands for nothing is no error.
func FuzzNumber(f *testing.F) {
	for _, s := range []string{"1.24B", "(3)", "1,234.5*", "−7%", "n/a", "1e5k", "9e307B", "((1))", "%"} {
		f.Add(s)
	}
	r := rules(f, Rules{Missing: []string{"n/a"}, Thousands: ",", Magnitudes: map[string]float64{"B": 1e9, "k": 1e3}, Parentheses: true, Footnotes: `\*+`})
	f.Fuzz(func(t *testing.T, text string) {
		x, there, err := r.Number(text)
		if math.IsNaN(x) || math.IsInf(x, 0) || !there && (x != 0 || err != nil) {
			t.Errorf("%q: %v, %v, %v", text, x, there, err)
		}
	})
}
