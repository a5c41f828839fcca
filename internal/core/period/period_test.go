package period

import (
	"errors"
	"strings"
	"testing"
	"time"
)

func TestDatesMoveByTheCalendar(t *testing.T) {
	for _, c := range []struct {
		got, want string
	}{
		{MakeDate(2024, time.January, 31).AddMonths(1).String(), "2024-02-29"},
		{MakeDate(2024, time.February, 29).AddYears(-1).String(), "2023-02-28"},
		{MakeDate(2026, time.March, 1).AddDays(-1).String(), "2026-02-28"},
		{MakeDate(2026, time.January, 15).AddMonths(-13).String(), "2024-12-15"},
		{MakeDate(1969, time.December, 31).String(), "1969-12-31"},
		{DateOf(time.Date(2026, 3, 6, 23, 30, 0, 0, time.FixedZone("", -3600))).String(), "2026-03-06"},
	} {
		if c.got != c.want {
			t.Errorf("got %s, want %s", c.got, c.want)
		}
	}
	if day := MakeDate(2026, time.November, 24).Weekday(); day != time.Tuesday {
		t.Errorf("2026-11-24 is a %s", day)
	}
}

func TestPeriodGrammar(t *testing.T) {
	today := MakeDate(2026, time.March, 31)
	for text, want := range map[string]struct {
		kind   Kind
		offset int
		date   string
	}{
		"FY": {Year, 0, ""}, "FY-1": {Year, -1, ""}, "FY+1": {Year, 1, ""}, "FY2024": {YearNamed, 0, ""},
		"Q": {Quarter, 0, ""}, "Q-4": {Quarter, -4, ""}, "2024-Q3": {QuarterNamed, 3, ""},
		"H-1": {Half, -1, ""}, "TTM": {Trailing, 0, ""}, "TTM-1": {Trailing, -1, ""}, "NTM": {Next, 0, ""},
		"2024-06-30": {Day, 0, "2024-06-30"}, "today": {Today, 0, "2026-03-31"},
		"-30d": {DayBack, 30, "2026-03-01"}, "-4w": {DayBack, 4, "2026-03-03"},
		"-1m": {DayBack, 1, "2026-02-28"}, "-1y": {DayBack, 1, "2025-03-31"},
	} {
		p, err := Parse(text)
		if err != nil || p.Kind() != want.kind || p.Offset() != want.offset || p.Date(today).String() != want.date {
			t.Errorf("Parse(%q) = %+v (%s), %v", text, p, p.Date(today), err)
		}
		if p.String() != text {
			t.Errorf("Parse(%q) prints %q", text, p)
		}
	}
	var syntax *SyntaxError
	for _, text := range []string{"", "-", "FY-0", "FY-01", "FY20", "fy", "Q5", "2024-Q5", "TTM+1", "2024-02-30", "-3x", "-d", "X", "FY--1", "yesterday"} {
		if p, err := Parse(text); !errors.As(err, &syntax) {
			t.Errorf("Parse(%q) = %v, %v; want a syntax error", text, p, err)
		}
	}
}

func TestRanges(t *testing.T) {
	for _, text := range []string{"FY-9..FY", "-1y..today", "2024-01-01..2024-06-30", "Q-4", "2023-Q4..2024-Q1"} {
		if r, err := ParseRange(text); err != nil || r.String() != text {
			t.Errorf("ParseRange(%q) = %v, %v", text, r, err)
		}
	}
	for _, text := range []string{"FY..FY-9", "2024-06-30..2024-01-01", "FY..today", "..", "FY..", "2024-Q1..2023-Q4"} {
		if r, err := ParseRange(text); err == nil {
			t.Errorf("ParseRange(%q) = %v, want an error", text, r)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"FY-1", "2024-Q3", "-30d", "TTM", "2024-06-30", "today", "-", "FY+12", "Q-0"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(p.String())
		if err != nil || again != p {
			t.Fatalf("%q reads as %v, which reads as %v, %v", text, p, again, err)
		}
	})
}

func TestRangesListTheirPeriods(t *testing.T) {
	for text, want := range map[string]string{
		"FY-2..FY": "FY-2 FY-1 FY", "2023-Q3..2024-Q2": "2023-Q3 2023-Q4 2024-Q1 2024-Q2", "FY2019..FY2021": "FY2019 FY2020 FY2021", "Q-1..Q+1": "Q-1 Q Q+1", "TTM-1..TTM": "TTM-1 TTM", "2023..2024": "2023 2024", "H": "H",
		"2024-01-01..2024-02-01": "", "-1y..today": "", "FY-1..Q": "", "FY-50..FY": "", "NTM..NTM": "",
	} {
		r, err := ParseRange(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		all, err := r.Periods()
		var got []string
		for _, p := range all {
			got = append(got, p.String())
		}
		if strings.Join(got, " ") != want || (err == nil) != (want != "") {
			t.Errorf("%s lists %q, %v; want %q", text, got, err, want)
		}
	}
}
