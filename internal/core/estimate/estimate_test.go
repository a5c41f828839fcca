package estimate

import (
	"fmt"
	"math"
	"testing"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/statement"
)

func of(year int, month int, part statement.Part, eps, actual float64) Estimate {
	e := Estimate{End: period.MakeDate(year, 1, 1).AddMonths(month) - 1, Year: year, Part: part}
	for i := range e.Values {
		e.Values[i] = math.NaN()
	}
	e.Values[EPS], e.Values[Actual] = eps, actual
	return e
}

var to = math.NaN()

func said(o Outlook, text string, day period.Date) string {
	p, err := period.Parse(text)
	if err != nil {
		return err.Error()
	}
	x, label, ok := o.Of(EPS, p, day)
	if !ok {
		return "none"
	}
	return fmt.Sprintf("%.4f of %s", x, label)
}

func TestWhatIsExpected(t *testing.T) {
	november := period.MakeDate(2025, 11, 15)
	quarters := Outlook{
		of(2025, 6, statement.Q2, 1.0, 1.1), of(2025, 9, statement.Q3, -0.5, -0.4), of(2025, 12, statement.Q4, 1.2, to), of(2025, 12, statement.Whole, 4, to),
		of(2026, 3, statement.Q1, 1.3, to), of(2026, 6, statement.Q2, 1.4, to), of(2026, 9, statement.Q3, 1.5, to), of(2026, 12, statement.Whole, 6, to),
	}
	for text, want := range map[string]string{
		"Q+1": "1.2000 of 2025-Q4", "Q+4": "1.5000 of 2026-Q3", "Q+5": "none", "FY+1": "4.0000 of FY2025", "FY+2": "6.0000 of FY2026", "FY+3": "none",
		"NTM": "5.4000 of 2025-Q4 to 2026-Q3", // 1.2 + 1.3 + 1.4 + 1.5
	} {
		if got := said(quarters, text, november); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
	// By years alone: 46 days of 365 fall into the first.
	years := Outlook{of(2025, 12, statement.Whole, 4, to), of(2026, 12, statement.Whole, 6, to)}
	if got, want := said(years, "NTM", november), fmt.Sprintf("%.4f of 13 %% of FY2025 and 87 %% of FY2026", 46./365*4+319./365*6); got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if got := said(years[:1], "NTM", november); got != "none" {
		t.Errorf("of one year alone: %s", got)
	}
	for back, want := range map[int]string{0: "0.2000 2025-Q3 true", 1: "0.1000 2025-Q2 true", 2: "0.0000  false"} {
		x, label, ok := quarters.Surprise(back)
		if got := fmt.Sprintf("%.4f %s %t", x, label, ok); got != want { // -0.4 against -0.5 is better by a fifth
			t.Errorf("surprise %d back: %s, want %s", back, got, want)
		}
	}
}
