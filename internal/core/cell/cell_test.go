package cell

import (
	"encoding/json"
	"math"
	"slices"
	"testing"
	"time"
)

func TestAbsorbTakesTheWorstAndTheOldest(t *testing.T) {
	older := time.Date(2026, 3, 5, 17, 30, 0, 0, time.UTC)
	newer := older.Add(24 * time.Hour)
	var c Cell
	c.Absorb(&Cell{State: Stale, Reason: SessionPassed, Observed: newer, Fetched: newer, Source: "gannet", Flags: Delayed})
	c.Absorb(&Cell{State: Fresh, Observed: older, Fetched: newer, Source: "you", Flags: MinorUnit})
	if c.State != Stale || c.Reason != SessionPassed || !c.Observed.Equal(older) || c.Source != SeveralSources || c.Flags != Delayed|MinorUnit {
		t.Errorf("got %+v", c)
	}
	c.Absorb(&Cell{State: Missing, Reason: NotReported, Detail: "quote.bid"})
	c.Absorb(&Cell{State: Pending})
	if c.State != Missing || c.Reason != NotReported || c.Detail != "quote.bid" {
		t.Errorf("a missing input must win: %+v", c)
	}
}

func TestJSONForm(t *testing.T) {
	at := time.Date(2026, 3, 6, 16, 20, 0, 0, time.UTC)
	c := Cell{Value: Of(31.42), Unit: "EUR", Flags: Delayed | Suspect, Observed: at, Fetched: at.Add(904 * time.Second), Source: "gannet"}
	want := `{"v":31.42,"unit":"EUR","state":"fresh","reason":"","flags":["delayed","suspect"],"observed":"2026-03-06T16:20:00Z","fetched":"2026-03-06T16:35:04Z","period":"","source":"gannet"}`
	if got := string(c.AppendJSON(nil)); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	for _, c := range []Cell{Gap(Rejected, "n/a* \"<3>\" — ö\x00"), {Value: OfText("Kelp & Søn")}, {Value: Of(math.Inf(1))}, {Value: OfTruth(true)}, {Value: OfTime(at)}} {
		var back struct {
			V      any    `json:"v"`
			Detail string `json:"detail"`
		}
		if err := json.Unmarshal(c.AppendJSON(nil), &back); err != nil || back.Detail != c.Detail {
			t.Errorf("%+v encodes as %s: %v", c, c.AppendJSON(nil), err)
		}
	}
}

func TestReadableNumbers(t *testing.T) {
	for _, c := range []struct {
		x    float64
		unit string
		want string
	}{
		{9.18e9, "EUR", "9.18 bn"},
		{1.5e12, "JPY", "1.50 tn"},
		{2_345_678, "shares", "2.35 m"},
		{45_678.9, "EUR", "45\u202f678.90"},
		{999, "count", "999"},
		{12_000, "shares", "12\u202f000"},
		{0.0312, "percent", "3.12 %"},
		{-0.0312, "percent", "−3.12 %"},
		{0.5, "ratio", "0.50"},
		{1.0612, "GBP", "1.0612"},
		{0.1 + 0.2, "EUR", "0.30"},
		{293548.4, "shares", "293\u202f548"},
		{-0.000001, "ratio", "0.00"},
		{31.4, "EUR", "31.40"},
	} {
		got := (&Cell{Value: Of(c.x), Unit: c.unit}).Readable()
		if got != c.want {
			t.Errorf("%v %s reads %q, want %q", c.x, c.unit, got, c.want)
		}
	}
	if gap := Gap(NotCovered, ""); gap.Readable() != "–" {
		t.Errorf("a gap reads %q", gap.Readable())
	}
}

func TestEveryReasonExplainsItself(t *testing.T) {
	var seen []string
	for r := NeverFetched; int(r) < len(reasons); r++ {
		if r.Meaning() == "" || r.Advice() == "" || slices.Contains(seen, r.String()) {
			t.Errorf("reason %d (%s) lacks a name of its own, a meaning or advice", r, r)
		}
		seen = append(seen, r.String())
		if back, ok := ParseReason(r.String()); !ok || back != r {
			t.Errorf("%s does not parse back", r)
		}
	}
}

func TestSparklines(t *testing.T) {
	for numbers, want := range map[string]string{
		"1 2 3 4 5 6 7 8":                 "▁▂▃▄▅▆▇█",
		"8 1":                             "█▁",
		"5 5 5":                           "▄▄▄",
		"":                                "",
		"0 9 0 9 0 9 0 9 0 9 0 9 0 9 0 9": "████████", // each the last of its two
	} {
		if got := Sparkline(numbers, 8); got != want {
			t.Errorf("%q is drawn as %q, want %q", numbers, got, want)
		}
	}
	c := Cell{Value: OfText("1 2"), Unit: "line"}
	if got := c.Readable(); got != "▁█" {
		t.Errorf("got %q", got)
	}
}
