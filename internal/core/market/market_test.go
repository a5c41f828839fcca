package market

import (
	"errors"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/period"
)

func TestSymbols(t *testing.T) {
	for text, want := range map[string]Symbol{
		"KELP.XCVH":  {"KELP", "XCVH"},
		"kelp.xcvh":  {"KELP", "XCVH"},
		"BR.B.XNMK":  {"BR.B", "XNMK"},
		"S&T.XPLR":   {"S&T", "XPLR"},
		"7-11.X1A2":  {"7-11", "X1A2"},
		"EUR/USD":    {"EUR", "USD"},
		"eur-usd":    {"EUR", "USD"},
		"KELP":       {"KELP", ""},
		" KELP.XCVH": {"KELP", "XCVH"},
	} {
		got, err := ParseSymbol(text)
		if err != nil || got != want {
			t.Errorf("ParseSymbol(%q) = %+v, %v; want %+v", text, got, err, want)
		}
	}
	var bad *SymbolError
	for _, text := range []string{"", " ", ".XCVH", "KELP.XC", "KELP.", "A B.XCVH", "EUR/US", "A/B", strings.Repeat("K", 41), "KE\x00LP.XCVH", "K\"P.XCVH"} {
		if got, err := ParseSymbol(text); !errors.As(err, &bad) {
			t.Errorf("ParseSymbol(%q) = %+v, %v; want a symbol error", text, got, err)
		}
	}
}

func FuzzParseSymbol(f *testing.F) {
	for _, seed := range []string{"KELP.XCVH", "EUR/USD", "BR.B.XNMK", "kelp", "S&T.XPLR", "."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseSymbol(text)
		if err != nil {
			return
		}
		for _, form := range []string{s.String(), s.Address()} {
			if again, err := ParseSymbol(form); err != nil || again != s {
				t.Fatalf("%q reads as %+v, and its form %q as %+v, %v", text, s, form, again, err)
			}
		}
	})
}

// XA000KELP01 written as digits is 3 3 1 0 0 0 0 2 0 1 4 2 1 2 5 0 1. Doubling
// every second one from the right and adding all digits gives 31, so 9 completes it to 40.
func TestISINCheckDigit(t *testing.T) {
	if isin, err := ParseISIN("xa000kelp019"); err != nil || isin != "XA000KELP019" {
		t.Errorf("got %q, %v", isin, err)
	}
	for d := '0'; d <= '8'; d++ {
		if _, err := ParseISIN("XA000KELP01" + string(d)); err == nil || !strings.Contains(err.Error(), "9 belongs") {
			t.Errorf("check digit %c: %v", d, err)
		}
	}
	for _, text := range []string{"", "XA000KELP0199", "1A000KELP019", "XA000KELP01X", "XA000 ELP019"} {
		if _, err := ParseISIN(text); err == nil {
			t.Errorf("%q passes for an ISIN", text)
		}
	}
}

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func testExchange(t *testing.T) *Exchange {
	return &Exchange{
		Code: "XNMK", Zone: zone(t, "Europe/London"), PreOpens: 7 * 60, Opens: 8 * 60, Closes: 16*60 + 30,
		Weekend:  map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
		Holidays: map[period.Date]string{period.MakeDate(2026, 4, 3): "Haul-out Day"},
		HalfDays: map[period.Date]Clock{period.MakeDate(2026, 12, 24): 12*60 + 30},
	}
}

func TestSessionsFollowZoneHolidaysAndHalfDays(t *testing.T) {
	e := testExchange(t)
	utc := func(text string) time.Time {
		at, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for _, c := range []struct {
		now, lastDay string
		phase        Phase
	}{
		{"2026-03-27 08:00", "2026-03-26", Open},    // winter: 08:00 in London
		{"2026-03-30 07:00", "2026-03-27", Open},    // summer time began on the 29th: 08:00 in London
		{"2026-03-30 06:30", "2026-03-27", PreOpen}, // 07:30
		{"2026-03-30 15:29", "2026-03-27", Open},
		{"2026-03-30 15:30", "2026-03-30", Closed},
		{"2026-04-03 10:00", "2026-04-02", Closed}, // holiday
		{"2026-04-05 10:00", "2026-04-02", Closed}, // the Sunday after it
		{"2026-12-24 12:29", "2026-12-23", Open},   // half day
		{"2026-12-24 12:30", "2026-12-24", Closed},
	} {
		now := utc(c.now)
		if got := e.LastClosed(now, 0).Date.String(); got != c.lastDay {
			t.Errorf("at %s the last closed session is %s, want %s", c.now, got, c.lastDay)
		}
		if got := e.PhaseAt(now); got != c.phase {
			t.Errorf("at %s the phase is %s, want %s", c.now, got, c.phase)
		}
	}
	if got := e.Next(utc("2026-04-02 15:30")).Open; !got.Equal(utc("2026-04-06 07:00")) {
		t.Errorf("next open is %s", got)
	}
	if n := len(e.Sessions(period.MakeDate(2026, 3, 30), period.MakeDate(2026, 4, 6))); n != 5 {
		t.Errorf("%d sessions in that week and a day, want 5", n)
	}
}

func TestACalendarThatNeverTradesEnds(t *testing.T) {
	e := testExchange(t)
	for d := time.Sunday; d <= time.Saturday; d++ {
		e.Weekend[d] = true
	}
	now := time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)
	if s := e.LastClosed(now, 0); s != (Session{}) {
		t.Errorf("got %+v", s)
	}
	if s := e.Next(now); s != (Session{}) {
		t.Errorf("got %+v", s)
	}
}

func TestWeekendsAreLearned(t *testing.T) {
	said := &Exchange{Code: "XTST", Weekend: map[time.Weekday]bool{time.Saturday: true, time.Sunday: true}}
	week := func(e *Exchange) (open string) {
		for d := time.Sunday; d <= time.Saturday; d++ {
			if e.Trades(period.MakeDate(2026, 3, 1) + period.Date(d)) { // a Sunday
				open += d.String()[:2]
			}
		}
		return open
	}
	for name, c := range map[string]struct {
		traded [7]int // from Sunday on, in 26 weeks
		open   string
	}{
		"as was said":                 {[7]int{0, 24, 26, 26, 25, 25, 0}, "MoTuWeThFr"},
		"from Sunday to Thursday":     {[7]int{26, 26, 26, 26, 26, 0, 0}, "SuMoTuWeTh"},
		"closed on Wednesdays":        {[7]int{0, 26, 26, 0, 25, 25, 0}, "MoTuThFr"},
		"one Saturday out of turn":    {[7]int{0, 26, 26, 26, 25, 25, 1}, "MoTuWeThFr"},
		"too little to learn from":    {[7]int{0, 26, 0, 0, 0, 0, 0}, "MoTuWeThFr"},
		"nothing known of it":         {[7]int{}, "MoTuWeThFr"},
		"a Wednesday now and then is": {[7]int{0, 26, 26, 2, 25, 25, 0}, "MoTuWeThFr"},
	} {
		if got := week(said.Learn(c.traded, 26)); got != c.open {
			t.Errorf("%s: open on %s, want %s", name, got, c.open)
		}
	}
	if week(said) != "MoTuWeThFr" || said.Learned != nil {
		t.Error("what was said has changed")
	}
}
