package catalogue

import (
	"math"
	"testing"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/period"
)

// recordOf is a dated record with some of its columns.
func recordOf(d Dataset, day period.Date, columns map[string]cell.Value) entry.Entry {
	info := Info(d)
	e := entry.Entry{Day: day, Values: make([]cell.Value, len(info.Columns))}
	e.Values[0] = cell.OfText(day.String())
	for name, v := range columns {
		e.Values[info.Column(name)] = v
	}
	return e
}

func parsed(t *testing.T, text string) period.Period {
	t.Helper()
	p, err := period.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// What a group holds is read off the newest record of the group by a day; those of single
// holders are none of its.
func TestHoldersByDay(t *testing.T) {
	spring, autumn := period.MakeDate(2025, 3, 31), period.MakeDate(2025, 9, 30)
	held := func(day period.Date, group, holder string, part float64) entry.Entry {
		return recordOf(Holders, day, map[string]cell.Value{"group": cell.OfText(group), "holder": cell.OfText(holder), "part": cell.Of(part)})
	}
	told := Told{Day: period.MakeDate(2025, 12, 1), Entries: entry.Entries{
		held(spring, Insiders, "", 0.2), held(spring, Institutions, "", 0.5), held(autumn, Insiders, "", 0.1), held(autumn, Insiders, "Osk, J.", 0.07), held(autumn, Institutions, "Tidewrack Partners", 0.04),
	}}
	for _, c := range []struct {
		field, period string
		want          float64
		of            string
	}{
		{"share.insiders_pct", "today", 0.1, "2025-09-30"}, {"share.insiders_pct", "2025-06-30", 0.2, "2025-03-31"}, {"share.institutions_pct", "today", 0.5, "2025-03-31"},
	} {
		told.Period = parsed(t, c.period)
		if said := Find(c.field).Tell(&told); said.Value.Num != c.want || said.Period != c.of {
			t.Errorf("%s@%s is %+v, want %v of %s", c.field, c.period, said, c.want, c.of)
		}
	}
	told.Period = parsed(t, "2025-01-01")
	if said := Find("share.insiders_pct").Tell(&told); said.Reason != cell.NotReported {
		t.Errorf("before anything was reported: %+v", said)
	}
}

// A recommendation is what the source says, or else the mean of what analysts say, worked
// out here from the counts.
func TestRecommendationsByDay(t *testing.T) {
	counted := recordOf(Opinions, period.MakeDate(2025, 10, 1), map[string]cell.Value{"strong_buy": cell.Of(1), "buy": cell.Of(2), "hold": cell.Of(3), "sell": cell.Of(4), "target": cell.Of(12)})
	said := recordOf(Opinions, period.MakeDate(2025, 11, 1), map[string]cell.Value{"strong_buy": cell.Of(9), "recommendation": cell.Of(2.5), "next_report": cell.OfText("2026-02-20")})
	nobody := recordOf(Opinions, period.MakeDate(2025, 9, 1), map[string]cell.Value{"buy": cell.Of(0)})
	told := Told{Day: period.MakeDate(2025, 12, 1), Entries: entry.Entries{nobody, counted, said}}
	read := func(field, of string) Said {
		told.Period = parsed(t, of)
		return Find(field).Tell(&told)
	}
	if got := read("estimate.recommendation", "2025-10-15"); math.Abs(got.Value.Num-(1+2*2+3*3+5*4)/10.) > 1e-12 || got.Period != "2025-10-01" {
		t.Errorf("counted: %+v", got)
	}
	if got := read("estimate.recommendation", "today"); got.Value.Num != 2.5 {
		t.Errorf("as the source says: %+v", got)
	}
	for _, c := range []struct{ field, of string }{{"estimate.recommendation", "2025-09-30"}, {"estimate.recommendation", "2025-01-01"}, {"estimate.target", "today"}} {
		if got := read(c.field, c.of); got.Reason != cell.NotReported {
			t.Errorf("%s@%s: %+v", c.field, c.of, got)
		}
	}
	if got := read("estimate.next_report_date", "today"); got.Value.Text != "2026-02-20" {
		t.Errorf("the next report: %+v", got)
	}
	for _, field := range []string{"estimate.target", "share.insiders_pct"} {
		if !Find(field).Takes.accepts(parsed(t, "-3m")) || Find(field).Takes.accepts(parsed(t, "FY-1")) {
			t.Errorf("%s takes days, and no fiscal years", field)
		}
	}
}
