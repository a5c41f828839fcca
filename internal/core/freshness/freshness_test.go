package freshness

import (
	"testing"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

func exchange(t *testing.T) *market.Exchange {
	t.Helper()
	zone, err := time.LoadLocation("Atlantic/Azores")
	if err != nil {
		t.Fatal(err)
	}
	return &market.Exchange{
		Code: "XCVH", Zone: zone, PreOpens: 8 * 60, Opens: 8*60 + 30, Closes: 17 * 60,
		Weekend:  map[time.Weekday]bool{time.Saturday: true, time.Sunday: true},
		Holidays: map[period.Date]string{period.MakeDate(2026, 3, 10): "Founders' Tide"},
	}
}

const stamp = "2006-01-02 15:04"

// The Azores are an hour behind UTC in winter, so a session runs from 09:30 to 18:00 UTC.
func at(t *testing.T, text string) time.Time {
	t.Helper()
	when, err := time.Parse(stamp, text)
	if err != nil {
		t.Fatal(err)
	}
	return when
}

func TestQuotesAreJudgedBySessions(t *testing.T) {
	e := exchange(t)
	const friday, monday = "2026-03-06 ", "2026-03-09 "
	for _, c := range []struct {
		why, observed, now string
		want               cell.Reason // none: fresh
	}{
		{"a Friday close on Sunday", friday + "18:00", "2026-03-08 12:00", 0},
		{"delayed at the close", friday + "17:45", "2026-03-08 12:00", 0},
		{"a minute before the delay reaches back", friday + "17:44", "2026-03-08 12:00", cell.SessionPassed},
		{"a Friday close just after Monday's open", friday + "18:00", monday + "09:49", 0},
		{"a Friday close twenty minutes into Monday", friday + "18:00", monday + "09:50", cell.Age},
		{"a Friday close an hour into Monday", friday + "18:00", monday + "10:30", cell.Age},
		{"within delay and grace", monday + "10:10", monday + "10:30", 0},
		{"a minute more", monday + "10:09", monday + "10:30", cell.Age},
		{"Monday's close on the holiday", monday + "18:00", "2026-03-10 12:00", 0},
		{"Friday's close on Monday evening", friday + "18:00", monday + "20:00", cell.SessionPassed},
		{"Thursday's close in Friday's session", "2026-03-05 18:00", monday + "11:00", cell.SessionPassed},
	} {
		v := Standard.Quote(e, at(t, c.observed), at(t, c.now), 15*time.Minute)
		if v.Reason != c.want || v.Stale != (c.want != 0) {
			t.Errorf("%s: %+v, want %s", c.why, v, c.want)
		}
	}
}

func TestBarsAreJudgedByCompletedSessions(t *testing.T) {
	e := exchange(t)
	for _, c := range []struct {
		day, now string
		stale    bool
	}{
		{"2026-03-06", "2026-03-08 12:00", false},
		{"2026-03-06", "2026-03-09 19:59", false}, // Monday's bar is due two hours after 18:00
		{"2026-03-06", "2026-03-09 20:00", true},
		{"2026-03-09", "2026-03-10 23:00", false}, // the 10th is a holiday
		{"2026-03-05", "2026-03-08 12:00", true},
	} {
		day, err := period.ParseDate(c.day)
		if err != nil {
			t.Fatal(err)
		}
		if v := Standard.Bars(e, day, at(t, c.now)); v.Stale != c.stale {
			t.Errorf("a bar of %s at %s: %+v", c.day, c.now, v)
		}
	}
}

// A verdict must hold until the instant it names and no longer than it is true:
// stepping through a week minute by minute, it changes only where it said it could.
func TestUntilIsWhenTheVerdictMayChange(t *testing.T) {
	e := exchange(t)
	start := at(t, "2026-03-06 00:00")
	observed := at(t, "2026-03-06 12:00")
	lastDay := period.MakeDate(2026, 3, 6)
	for name, judge := range map[string]func(now time.Time) Verdict{
		"quote at noon":  func(now time.Time) Verdict { return Standard.Quote(e, observed, now, 15*time.Minute) },
		"quote at close": func(now time.Time) Verdict { return Standard.Quote(e, at(t, "2026-03-06 18:00"), now, 15*time.Minute) },
		"bars":           func(now time.Time) Verdict { return Standard.Bars(e, lastDay, now) },
		"profile":        func(now time.Time) Verdict { return StillHolds(observed, now, 48*time.Hour) },
		"rates":          func(now time.Time) Verdict { return Standard.Rates(lastDay, now) },
	} {
		verdict := judge(start)
		for now := start; now.Before(start.AddDate(0, 0, 7)); now = now.Add(time.Minute) {
			if !verdict.Stale && now.Before(verdict.Until) {
				if again := judge(now); again.Stale {
					t.Fatalf("%s: said fresh until %s but is stale at %s", name, verdict.Until.Format(stamp), now.Format(stamp))
				}
				continue
			}
			again := judge(now)
			if verdict.Stale && !again.Stale {
				t.Fatalf("%s: stale and then fresh at %s without anything new", name, now.Format(stamp))
			}
			verdict = again
		}
		if !verdict.Stale {
			t.Errorf("%s: still fresh after a week", name)
		}
	}
}
