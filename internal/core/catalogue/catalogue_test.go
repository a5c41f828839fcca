package catalogue

import (
	"errors"
	"regexp"
	"slices"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/period"
)

func TestEveryFieldIsComplete(t *testing.T) {
	form := regexp.MustCompile(`^[a-z]+\.[a-z0-9_]+$`)
	seen := map[string]bool{}
	for i := range Fields {
		f := &Fields[i]
		origins := 0
		for _, has := range []bool{f.Observed, f.Fact != nil, f.Measure != nil, f.Tell != nil, f.Formula != nil, f.Reckon != nil, f.Others != ""} {
			if has {
				origins++
			}
		}
		if origins != 1 {
			t.Errorf("%s has %d origins, want one", f.ID, origins)
		}
		if !form.MatchString(f.ID) || seen[f.ID] || f.Label == "" || f.Definition == "" || f.Unit == "" {
			t.Errorf("%s lacks an id of its own, a label, a definition or a unit", f.ID)
		}
		if (len(f.Inputs()) == 0) != (f.Dataset != "") || (f.Measure != nil || f.Tell != nil && f.Dataset == Bars && f.Takes == NoPeriod) != (f.Span != "") {
			t.Errorf("%s names a dataset or a span it does not read, or reads one it does not name", f.ID)
		}
		if f.Formula != nil {
			u, err := f.Formula.Check(UnitOf)
			if want := UnitOf(formula.Ref{ID: f.ID}); err != nil || u != want {
				t.Errorf("%s is %s by its unit and %s by its formula (%v)", f.ID, want, u, err)
			}
		}
		seen[f.ID] = true
		for _, ref := range f.Inputs() {
			if _, err := Resolve(ref); err != nil {
				t.Errorf("%s: %v", f.ID, err)
			}
		}
	}
	for _, v := range Views {
		if _, err := ParseColumns(v.Columns); err != nil {
			t.Errorf("view %s: %v", v.Name, err)
		}
	}
}

func TestNearest(t *testing.T) {
	for typed, want := range map[string]string{
		"quote.lst": "quote.last", "last": "quote.last", "volatilty_1y": "price.volatility_1y",
		"Holding.Gain": "holding.gain", "price.return52w": "price.return_52w", "zzzzzzzzzzzzz": "",
	} {
		if got := Nearest(typed); got != want {
			t.Errorf("nearest to %q is %q, want %q", typed, got, want)
		}
	}
	var unknown *UnknownFieldError
	if _, err := ParseColumns([]string{"quote.last", "quote.lasst"}); !errors.As(err, &unknown) || unknown.Nearest != "quote.last" {
		t.Errorf("got %v", err)
	}
	for _, text := range []string{"quote.last@FY", "price.close@FY", "price.close@soon", "quote.last@-1d"} {
		if _, err := ParseColumns([]string{text}); err == nil {
			t.Errorf("%s is accepted", text)
		}
	}
}

func TestInputsFollowFormulasDown(t *testing.T) {
	for id, want := range map[string][]Dataset{
		"holding.weight":       {Quotes, Bars, Splits},
		"price.range_position": {Quotes, Bars, Splits},
		"quote.change_pct":     {Quotes},
		"profile.sector":       {Profiles},
		"profile.name":         nil,
	} {
		if got := Inputs([]formula.Ref{{ID: id}}); !slices.Equal(got, want) {
			t.Errorf("%s needs %v, want %v", id, got, want)
		}
	}
}

func TestSearch(t *testing.T) {
	found := Search("year high")
	if len(found) == 0 || found[0].ID != "price.high_52w" {
		t.Errorf("got %v", found)
	}
	if n := len(Search("")); n != len(Fields) {
		t.Errorf("an empty query finds %d of %d", n, len(Fields))
	}
	if found := Search("no such thing"); len(found) != 0 {
		t.Errorf("got %v", found)
	}
}

// On Wednesday 2026-11-25; every day leaves two weeks for the last session before it.
func TestHowFarBackFieldsRead(t *testing.T) {
	today := period.MakeDate(2026, 11, 25)
	for columns, want := range map[string]string{
		"quote.last,profile.name":              "",
		"price.close":                          "",
		"price.return_1w":                      "2026-11-04",
		"price.return_1w,price.return_260w":    "2021-11-17", // 1820 days and 14
		"price.range_position":                 "2025-11-10", // through its formula: 366 and 14
		"price.close@2015-06-30,price.beta_2y": "2015-06-16",
		"price.sma_200":                        "2026-01-21", // 280 and twice 14
		"dividend.yield_at@2020-Q2":            "2020-06-16",
		"dividend.yield_at@Q-4":                "2025-09-16", // the last quarter but four ended in September 2025
		"value.pe":                             "",
		"value.pe@FY-3":                        "2021-11-11", // five years and 14 days
		"income.revenue@FY-9":                  "",           // which reads no bars
		"dividend.yield_5y_average":            "2021-08-08", // 1921 and 14
	} {
		refs, err := ParseColumns(strings.Split(columns, ","))
		if err != nil {
			t.Fatal(err)
		}
		if got := Since(refs, today).String(); got != want {
			t.Errorf("%s reads back to %s, want %s", columns, got, want)
		}
	}
	for i := range Fields {
		if f := &Fields[i]; f.Span != "" && f.Takes == NoPeriod && f.Back == 0 && f.Label != "Year to date" && f.Label != "Total Year to date" {
			t.Errorf("%s reads %s, which is no number of days", f.ID, f.Span)
		}
	}
}

func TestColumnsOfARange(t *testing.T) {
	refs, err := ParseColumns([]string{"quote.last", " income.revenue@FY-2..FY", "dividend.annual@2023..2024"})
	var got []string
	for _, ref := range refs {
		got = append(got, ref.String())
	}
	if want := "quote.last income.revenue@FY-2 income.revenue@FY-1 income.revenue@FY dividend.annual@2023 dividend.annual@2024"; err != nil || strings.Join(got, " ") != want {
		t.Errorf("got %q, %v", got, err)
	}
	for _, wrong := range []string{"quote.last@FY-1..FY", "income.revenue@FY..FY-1", "income.revenue@2024-01-01..2024-05-05", "income.revenu@FY-1..FY", "income.revenue@FY-1..", "estimate.eps@FY-1..FY"} {
		if refs, err := ParseColumns([]string{wrong}); err == nil {
			t.Errorf("%s is %v", wrong, refs)
		}
	}
}
