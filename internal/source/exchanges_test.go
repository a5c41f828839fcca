package source

import (
	"fmt"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/sources"
)

func TestTheShippedExchanges(t *testing.T) {
	exchanges, err := ReadExchanges(sources.Exchanges)
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

func TestExchangeFilesAreReadStrictly(t *testing.T) {
	whole := `exchanges: [{code: XABC, zone: UTC, pre_open: "08:00", open: "09:00", close: "17:00"%s}]`
	if _, err := ReadExchanges([]byte(fmt.Sprintf(whole, ""))); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ file, says string }{
		{fmt.Sprintf(whole, `, holydays: {}`), "holydays"},
		{fmt.Sprintf(whole, `, holidays: {"2026-13-01": x}`), "2026-13-01"},
		{fmt.Sprintf(whole, `, half_days: {"2026-12-24": noon}`), "noon"},
		{strings.Replace(fmt.Sprintf(whole, ""), "UTC", "Atlantis/Deep", 1), "Atlantis"},
		{strings.Replace(fmt.Sprintf(whole, ""), "09:00", "18:00", 1), "follow each other"},
		{strings.Replace(fmt.Sprintf(whole, ""), "09:00", "9", 1), "time of day"},
		{`exchanges: 7`, "exchange file"},
	} {
		if _, err := ReadExchanges([]byte(c.file)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.file, err, c.says)
		}
	}
}
