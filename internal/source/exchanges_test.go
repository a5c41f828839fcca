package source

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/sources"
)

func TestTheShippedExchanges(t *testing.T) {
	exchanges, err := ReadExchanges(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	pence := exchanges["XNMK"]
	if len(exchanges) != 4 || !pence.Minor || pence.Currency != "GBP" || pence.Trades(period.MakeDate(2026, 5, 4)) || !pence.Trades(period.MakeDate(2026, 5, 5)) {
		t.Errorf("got %+v", pence)
	}
	// A half day: 12:30 in Halifax's winter is 18:00 UTC at the shipped 14:00.
	if s := exchanges["XPLR"].SessionOn(period.MakeDate(2026, 11, 27)); s.Close.UTC().Format("15:04") != "18:00" {
		t.Errorf("closes at %s", s.Close.UTC())
	}
}

func folderOf(exchanges, calendar string) fstest.MapFS {
	return fstest.MapFS{ExchangesFile: {Data: []byte(exchanges)}, "days.ics": {Data: []byte(strings.ReplaceAll(calendar, "\n", "\r\n"))}}
}

const exchangeFile = `exchanges: [{code: XABC, zone: America/New_York, pre_open: "08:00", open: "09:00", close: "17:00"%s}]`

func TestExchangeFilesAreReadStrictly(t *testing.T) {
	if _, err := ReadExchanges(folderOf(fmt.Sprintf(exchangeFile, ""), "")); err != nil {
		t.Fatal(err)
	}
	if none, err := ReadExchanges(fstest.MapFS{}); err != nil || len(none) != 0 {
		t.Errorf("a folder without exchanges: %v, %v", none, err)
	}
	for _, c := range []struct{ file, says string }{
		{fmt.Sprintf(exchangeFile, `, holydays: {}`), "holydays"},
		{fmt.Sprintf(exchangeFile, `, calendar: nights.ics`), "nights.ics"},
		{fmt.Sprintf(exchangeFile, `, weekend: [friday, someday]`), "someday"},
		{fmt.Sprintf(exchangeFile, `, index: "A B"`), "index"},
		{strings.Replace(fmt.Sprintf(exchangeFile, ""), "America/New_York", "Atlantis/Deep", 1), "Atlantis"},
		{strings.Replace(fmt.Sprintf(exchangeFile, ""), "09:00", "18:00", 1), "follow each other"},
		{strings.Replace(fmt.Sprintf(exchangeFile, ""), "09:00", "9", 1), "time of day"},
		{`exchanges: 7`, "exchange file"},
	} {
		if _, err := ReadExchanges(folderOf(c.file, "")); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.file, err, c.says)
		}
	}
}

func event(lines string) string {
	return "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTAMP:20260101T000000Z\nSUMMARY:Low\\, low tide\n" + lines + "\nEND:VEVENT\nEND:VCALENDAR\n"
}

func TestCalendars(t *testing.T) {
	for name, c := range map[string]struct{ event, closed, early string }{
		"one day":                    {"DTSTART;VALUE=DATE:20260310", "2026-03-10", ""},
		"several days":               {"DTSTART;VALUE=DATE:20260310\nDTEND;VALUE=DATE:20260313", "2026-03-10 2026-03-11 2026-03-12", ""},
		"over a change of clocks":    {"DTSTART;VALUE=DATE:20260307\nDTEND;VALUE=DATE:20260309", "2026-03-07 2026-03-08", ""},
		"every year but one":         {"DTSTART;VALUE=DATE:20240704\nRRULE:FREQ=YEARLY;COUNT=4\nEXDATE;VALUE=DATE:20260704\nRDATE;VALUE=DATE:20260703", "2024-07-04 2025-07-04 2026-07-03 2027-07-04", ""},
		"the third Monday":           {"DTSTART;VALUE=DATE:20260119\nRRULE:FREQ=YEARLY;BYMONTH=1;BYDAY=3MO;UNTIL=20280101", "2026-01-19 2027-01-18", ""},
		"closes early":               {"DTSTART:20261224T130000\nDTEND:20261224T170000", "", "2026-12-24 13:00"},
		"early by another zone":      {"DTSTART:20261224T180000Z\nDTEND:20261224T230000Z", "", "2026-12-24 13:00"},
		"early in a named zone":      {"DTSTART;TZID=Europe/London:20261224T180000\nDTEND;TZID=Europe/London:20261224T230000", "", "2026-12-24 13:00"},
		"all hours of a day":         {"DTSTART:20261224T080000\nDTEND:20261224T180000", "2026-12-24", ""},
		"in the night":               {"DTSTART:20261224T180000\nDTEND:20261224T190000", "", ""},
		"cancelled":                  {"DTSTART;VALUE=DATE:20260310\nSTATUS:CANCELLED", "", ""},
		"of no consequence":          {"DTSTART;VALUE=DATE:20260310\nTRANSP:TRANSPARENT", "", ""},
		"early each last of October": {"DTSTART:20251031T120000\nDTEND:20251031T170000\nRRULE:FREQ=YEARLY;COUNT=2", "", "2025-10-31 12:00 2026-10-31 12:00"},
	} {
		exchanges, err := ReadExchanges(folderOf(fmt.Sprintf(exchangeFile, ", calendar: days.ics"), event(c.event)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		e := exchanges["XABC"]
		var closed, early []string
		for _, day := range slices.Sorted(maps.Keys(e.Holidays)) {
			closed = append(closed, day.String())
			if e.Holidays[day] != "Low, low tide" {
				t.Errorf("%s: called %q", name, e.Holidays[day])
			}
		}
		for _, day := range slices.Sorted(maps.Keys(e.HalfDays)) {
			early = append(early, e.SessionOn(day).Close.Format("2006-01-02 15:04"))
		}
		if got := strings.Join(closed, " "); got != c.closed || strings.Join(early, " ") != c.early {
			t.Errorf("%s: closed on %s, early on %s", name, got, early)
		}
	}
	for lines, says := range map[string]string{
		"DTSTART;VALUE=DATE:20260310\nDTEND;VALUE=DATE:20260310": "ends before it begins",
		"DTSTART:20261224T130000\nDTEND:20261224T150000":         "2026-12-24 it ends at 15:00, before the close",
		"DTSTART:20261224T130000":                                "no DTEND",
		"DTSTART;VALUE=DATE:2026":                                `"2026" is neither`,
		"DTSTART;VALUE=DATE:20260310\nRRULE:FREQ=FORTNIGHTLY":    "RRULE",
		"DTSTART;VALUE=DATE:20260310\nRRULE:FREQ=SECONDLY":       "within the day",
		"DTSTART;VALUE=DATE:20260310\nRRULE:FREQ=DAILY":          "recurs",
		"DTSTART;TZID=Moon/Sea:20260310T120000":                  "Moon/Sea",
		"DURATION:P1D":                                           "no DTSTART",
	} {
		_, err := ReadExchanges(folderOf(fmt.Sprintf(exchangeFile, ", calendar: days.ics"), event(lines)))
		if err == nil || !strings.Contains(err.Error(), says) || !strings.Contains(err.Error(), "days.ics") {
			t.Errorf("%s: %v, want %q", lines, err, says)
		}
	}
}

// The example of the documentation can be read.
func TestTheDocumentedExchange(t *testing.T) {
	page, err := os.ReadFile("../../docs/sources.md")
	if err != nil {
		t.Fatal(err)
	}
	_, after, found := strings.Cut(string(page), "```yaml\nexchanges:")
	example, _, closed := strings.Cut(after, "```")
	if !found || !closed {
		t.Fatal("docs/sources.md has no example of exchanges")
	}
	files := folderOf("exchanges:"+example, "")
	files["xvel.ics"] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(event("DTSTART;VALUE=DATE:20260310"), "\n", "\r\n"))}
	exchanges, err := ReadExchanges(files)
	if err != nil {
		t.Fatal(err)
	}
	e := exchanges["XVEL"]
	if e == nil || e.Trades(period.MakeDate(2026, 3, 10)) || !e.Trades(period.MakeDate(2026, 3, 15)) || e.Trades(period.MakeDate(2026, 3, 13)) || e.Index.String() != "VF20.XVEL" {
		t.Errorf("got %+v", e)
	}
}
