package standin

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source/xbrl"
)

// The register's manners: it wants to know who asks, packs what it sends, and says that
// nothing has changed.
func TestFulmarsManners(t *testing.T) {
	m := newMarket(t, 45, "2026-03-06T20:00:00Z")
	f := NewFulmar(m)
	f.Unlimited()
	ask := func(path string, headers ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", path, nil)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		w := httptest.NewRecorder()
		f.ServeHTTP(w, r)
		return w
	}
	kelp := m.Listings[0]
	path := "/issuers/" + kelp.ISIN + "/filings.json"
	if w := ask(path); w.Code != 403 || !strings.Contains(w.Body.String(), "From header") {
		t.Errorf("who does not say who they are: %d %s", w.Code, w.Body)
	}
	w := ask(path, "From", "me@users.invalid")
	var index struct {
		Filings []struct{ Document, Form, Period, Filed string }
	}
	if err := json.Unmarshal(w.Body.Bytes(), &index); err != nil || w.Code != 200 {
		t.Fatalf("%d %v", w.Code, err)
	}
	if len(index.Filings) != filedYears+filedInterim {
		t.Errorf("%d filings", len(index.Filings))
	}
	for i, x := range index.Filings {
		if i > 0 && x.Period > index.Filings[i-1].Period || x.Filed <= x.Period || x.Filed > "2026-03-06" || (x.Form == "annual") != strings.Contains(x.Document, "FY") {
			t.Errorf("filing %d: %+v", i, x)
		}
	}
	if again := ask(path, "From", "me@users.invalid", "If-None-Match", w.Header().Get("ETag")); again.Code != 304 {
		t.Errorf("unchanged: %d", again.Code)
	}
	packed := ask("/issuers/"+kelp.ISIN+"/"+index.Filings[0].Document, "From", "me@users.invalid", "Accept-Encoding", "gzip")
	z, err := gzip.NewReader(packed.Body)
	if err != nil || packed.Header().Get("Content-Encoding") != "gzip" {
		t.Fatalf("a packed document: %v", err)
	}
	text, err := io.ReadAll(z)
	if err != nil || !strings.Contains(string(text), "<xbrl ") {
		t.Errorf("unpacked: %v %.80s", err, text)
	}
	for _, gone := range []string{"/issuers/" + kelp.ISIN + "/1999-FY.xml", "/issuers/XX0000000000/2025-FY.xml"} {
		if w := ask(gone, "From", "me@users.invalid"); w.Code != 404 {
			t.Errorf("%s: %d", gone, w.Code)
		}
	}
	if w := ask("/issuers/XX0000000000/filings.json", "From", "me@users.invalid"); w.Code != 200 || !strings.Contains(w.Body.String(), `"filings":[]`) {
		t.Errorf("an issuer that is not known: %d %s", w.Code, w.Body)
	}
}

// What issuers file is what the market says that they report, in either form: the year is
// its quarters, and what one has restated is in the filing after.
func TestFilingsAreTheAccounts(t *testing.T) {
	m := newMarket(t, 45, "2026-03-06T20:00:00Z")
	today := m.Clock().UTC()
	checked := 0
	for _, l := range m.Listings {
		filings := m.Filings(l, period.DateOf(today))
		for i := range filings {
			f := &filings[i]
			text := inXML(f.facts())
			if strings.HasSuffix(f.name(), ".json") {
				text = inJSON(f.facts())
			}
			d, err := xbrl.Read(strings.NewReader(text), xbrl.Limits{Facts: 10_000, Depth: 64})
			if err != nil {
				t.Fatalf("%s %s: %v", l.Symbol, f.name(), err)
			}
			found := map[string]bool{}
			for _, x := range d.Facts {
				if (x.Concept == "ifrs-full:ProfitLoss" || x.Concept == "us-gaap:ProfitLoss") && x.End == f.End && x.Standalone == f.Alone {
					found[x.Value] = true
				}
			}
			net := f.NetIncome() * 1000
			if want := strconv.FormatInt(net, 10); !found[want] || d.End != f.End || d.Currency != f.Currency || d.Entity != f.ISIN || d.Standard != f.Standard {
				t.Errorf("%s %s: net income %v, want %s; to %s in %s of %s by %s", l.Symbol, f.name(), found, want, d.End, d.Currency, d.Entity, d.Standard)
			}
			checked++
		}
		if l.story.restates {
			var before, after int64
			for i := range filings {
				if filings[i].Part != "FY" {
					continue
				}
				if after == 0 {
					after = filings[i].Before.Revenue
				} else {
					before = filings[i].Revenue
					break
				}
			}
			if before <= after || before > after*104/100 {
				t.Errorf("%s reported %d and then %d", l.Symbol, before, after)
			}
		}
	}
	if checked < 200 {
		t.Errorf("%d filings were read", checked)
	}
}

func TestAPageHasTenTables(t *testing.T) {
	m := newMarket(t, 45, "2026-03-06T20:00:00Z")
	w := NewWhimbrel(m)
	w.Unlimited()
	page := func(path string) (int, string) {
		r := httptest.NewRecorder()
		w.ServeHTTP(r, httptest.NewRequest("GET", path+"?apikey="+WhimbrelKey, nil))
		return r.Code, r.Body.String()
	}
	code, text := page("/companies/VE-KELP/consolidated")
	if n := strings.Count(text, "<table>"); code != 200 || n != 10 || strings.Count(text, "<caption>") != 10 {
		t.Errorf("%d with %d tables", code, n)
	}
	for path, want := range map[string]int{"/companies/VE-KELP/standalone": 404, "/companies/TS-SHIO/consolidated": 404, "/companies/TS-SHIO/standalone": 200, "/companies/TS-LIME/consolidated": 404, "/companies/VE-NONE/standalone": 404} {
		if code, _ := page(path); code != want {
			t.Errorf("%s: %d, want %d", path, code, want)
		}
	}
	if got := bracketed("-1234567.890"); got != "(1,234,567.890)" {
		t.Errorf("in brackets: %s", got)
	}
}
