package standin

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/period"
)

// Dunlin is a central bank that publishes reference rates as SDMX-CSV, without a
// key, with an ETag on every answer.
type Dunlin struct{ *Vendor }

// NewDunlin returns the bank as an [http.Handler].
func NewDunlin(m *Market) *Dunlin {
	d := &Dunlin{newVendor("dunlin", m, 10, 2, 0)}
	currencies := func(r *http.Request) []string {
		parts := strings.Split(r.PathValue("key"), ".")
		if len(parts) < 2 {
			return nil
		}
		return strings.Split(parts[1], "+")
	}
	d.serve("/codelist/pairs", "listings", func(*http.Request) []string { return nil }, d.pairs)
	d.serve("/data/EXR/{key}", "rates", currencies, d.rates)
	return d
}

func (d *Dunlin) pairs(*http.Request, []string) (*answer, *refusal) {
	var b strings.Builder
	b.WriteString("CODE,NAME,QUOTE\r\n")
	for _, l := range d.Market.Rates {
		fmt.Fprintf(&b, "%s,%s,%s\r\n", l.Symbol.Exchange, l.Symbol, l.Symbol.Exchange)
	}
	return &answer{text: b.String(), contentType: "text/csv; charset=utf-8", tag: `"pairs"`}, nil
}

// published is the hour of UTC at which a business day's rates come out.
const published = 15

// Fixing is the reference rate of a pair on a business day; false where there is none.
func (m *Market) Fixing(l *Listing, day period.Date) (float64, bool) {
	bars := m.BarsIn(l, day, day)
	if bars.Len() == 0 || day.Weekday() == time.Saturday || day.Weekday() == time.Sunday || m.Clock().Before(day.Time().Add(published*time.Hour)) {
		return 0, false
	}
	return bars.Close[0], true
}

func (d *Dunlin) rates(r *http.Request, currencies []string) (*answer, *refusal) {
	q := r.URL.Query()
	from, err := period.ParseDate(q.Get("startPeriod"))
	to, err2 := period.ParseDate(q.Get("endPeriod"))
	if err != nil || err2 != nil || from > to {
		return nil, &refusal{status: 400, code: "bad_period", message: "startPeriod and endPeriod must be dates in order"}
	}
	var b strings.Builder
	b.WriteString("KEY,FREQ,CURRENCY,CURRENCY_DENOM,EXR_TYPE,EXR_SUFFIX,TIME_PERIOD,OBS_VALUE,OBS_STATUS\r\n")
	last := period.Date(0)
	for _, code := range currencies {
		for _, l := range d.Market.Rates {
			if l.Symbol.Exchange != code {
				continue
			}
			bars := d.Market.BarsIn(l, from, to)
			for i, day := range bars.Day {
				if d.Market.Clock().Before(day.Time().Add(published * time.Hour)) {
					break
				}
				fmt.Fprintf(&b, "EXR.D.%s.EUR.SP00.A,D,%s,EUR,SP00,A,%s,%s,A\r\n", code, code, day, strconv.FormatFloat(bars.Close[i], 'f', -1, 64))
				last = max(last, day)
			}
		}
	}
	return &answer{text: b.String(), contentType: "application/vnd.sdmx.data+csv; version=1.0.0", tag: fmt.Sprintf("%q", last.String()+r.URL.RawQuery+r.PathValue("key"))}, nil
}
