package httpapi_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/wire"
)

// What is asked for of accounts, holders and models in a wrong way is refused with the
// field and what to do; what a listing does not have is said.
func TestAccountsHoldersAndModelsOverHTTP(t *testing.T) {
	s := start(t, func(o *service.Options) {
		var err error
		if o.Sources, err = service.ShippedSources("gannet", "whimbrel"); err != nil {
			t.Fatal(err)
		}
		for _, d := range o.Sources {
			d.Limits.PerSecond = 1000
		}
	})
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/api/v1/across?symbols=KELP.XCVH&by=week", "", 422, "by"},
		{"GET", "/api/v1/across?symbols=KELP.XCVH&count=50", "", 422, "count"},
		{"GET", "/api/v1/across?symbols=KELP.XCVH&fields=quote.last", "", 422, "of no fiscal period"},
		{"GET", "/api/v1/across?symbols=NONE.XCVH", "", 422, "nothing is listed"},
		{"GET", "/api/v1/across?watchlist=none", "", 404, "none"},
		{"GET", "/api/v1/across?symbols=KELP.XCVH&in=EURO", "", 422, "in"},
		{"PUT", "/api/v1/listings/KELP.XCVH/model", `{"of": "hope", "assumptions": {}}`, 422, "of"},
		{"PUT", "/api/v1/listings/KELP.XCVH/model", `{"of": "cash", "assumptions": {"luck": 1}}`, 422, `no assumption \"luck\"`},
		{"PUT", "/api/v1/listings/NONE.XCVH/model", `{"of": "cash", "assumptions": {}}`, 422, "nothing is listed"},
		{"GET", "/api/v1/listings/NONE.XCVH/holders", "", 422, "nothing is listed"},
		{"GET", "/api/v1/watchlists/income/health?min_years=-1", "", 422, "min_years"},
	} {
		r := s.send(c.method, c.path, c.body)
		if r.StatusCode != c.status || !strings.Contains(string(r.text), c.says) {
			t.Errorf("%s %s: %s %s, want %d and %q", c.method, c.path, r.Status, r.text, c.status, c.says)
		}
		r.problem(t)
	}
	read := func(path string, into any) {
		t.Helper()
		r := s.get(path)
		if err := json.Unmarshal(r.text, into); err != nil || r.StatusCode != http.StatusOK {
			t.Fatalf("%s: %s %s (%v)", path, r.Status, r.text, err)
		}
	}
	var h wire.Holders
	read("/api/v1/listings/EUR-USD/holders", &h)
	if h.State != "missing" || h.Reason != "not_applicable" || h.Together == nil || h.Largest == nil {
		t.Errorf("holders of a pair: %+v", h)
	}
	h = wire.Holders{}
	read("/api/v1/listings/GLAS.XCVH/holders", &h)
	for i, x := range h.Largest {
		if i > 0 && x.Group == h.Largest[i-1].Group && *x.Shares > *h.Largest[i-1].Shares {
			t.Errorf("%s comes after %s", x.Holder, h.Largest[i-1].Holder)
		}
	}
	var m wire.Model
	read("/api/v1/listings/HB31.XCVH/model", &m)
	if !strings.Contains(m.Refused, "no earnings of its own") {
		t.Errorf("a model of a bond: %+v", m)
	}
	var x wire.Across
	read("/api/v1/across?watchlist=growth&count=2", &x)
	if len(x.Omitted) == 0 || len(x.Rows)+len(x.Omitted) != 17 || len(x.Fields) != 12 {
		t.Errorf("%d names, %d left out, %d figures", len(x.Rows), len(x.Omitted), len(x.Fields))
	}
	var health wire.Health
	read("/api/v1/watchlists/growth/health?min_years=15", &health)
	found := false
	for _, short := range health.Short {
		found = found || short.Symbol == "LIME.XTSG" && short.Years == 0 && strings.Contains(short.Advice, "Every source that serves accounts has been asked")
	}
	if !found {
		t.Errorf("years of accounts: %+v", health.Short)
	}
	var e wire.Explanation
	read("/api/v1/explain?symbol=QUAY.XNMK&field=income.revenue", &e)
	if len(e.Reports) != 1 && len(e.Reports) != 3 || e.Reports[0].Request == nil || e.Request == nil || e.Place != e.Reports[len(e.Reports)-1].Place {
		t.Errorf("the reports of twelve months by halves: %+v", e.Reports)
	}
}
