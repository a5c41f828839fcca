package source

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/sources"
)

func TestACallKeepsItsLimits(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/large":
			for range 100 {
				fmt.Fprint(w, strings.Repeat("x", 1024))
			}
		case "/slow":
			<-r.Context().Done()
		case "/cut":
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, "half")
		case "/gone":
			conn, _, _ := http.NewResponseController(w).Hijack()
			conn.Close()
		case "/later":
			w.Header().Set("Retry-After", "7")
			w.WriteHeader(http.StatusTooManyRequests)
		case "/at":
			w.Header().Set("Retry-After", time.Now().Add(90*time.Second).UTC().Format(http.TimeFormat))
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			fmt.Fprint(w, "all of it")
		}
	}))
	defer server.Close()
	limits := Limits{Timeout: 200 * time.Millisecond, Bytes: 64 << 10}
	for path, want := range map[string]FaultKind{
		"/large": TooLarge, "/slow": TimedOut, "/cut": Truncated, "/gone": Unreachable, "/later": Throttled, "/at": ServerFailed,
	} {
		a, _, err := Get(t.Context(), server.Client(), server.URL+path, nil, limits)
		var f *Fault
		if !errors.As(err, &f) || f.Kind != want || a == nil || a.Call.Address != server.URL+path {
			t.Errorf("%s: %v, want %s", path, err, want)
			continue
		}
		if wait := map[string]time.Duration{"/later": 7 * time.Second, "/at": 90 * time.Second}[path]; f.RetryAfter > wait || f.RetryAfter < wait-2*time.Second {
			t.Errorf("%s: wait %s, want %s", path, f.RetryAfter, wait)
		}
	}
	if a, _, err := Get(t.Context(), server.Client(), server.URL, nil, limits); err != nil || string(a.Body) != "all of it" || a.Call.Status != 200 {
		t.Errorf("got %+v, %v", a, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, _, err := Get(ctx, server.Client(), server.URL, nil, limits); err == nil {
		t.Error("a call goes on after its end")
	}
}

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
