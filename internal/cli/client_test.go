package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"soba.invalid/soba/internal/wire"
)

// A stream that breaks off is read on from the last event that was seen.
func TestFollowingARefreshOverALostConnection(t *testing.T) {
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		last := r.Header.Get("Last-Event-ID")
		asked = append(asked, last)
		w.Header().Set("Content-Type", "text/event-stream")
		send := func(id int, kind string) {
			fmt.Fprintf(w, "id: %d\nevent: %s\ndata: {\"at\":\"2026-03-06T12:00:00Z\",\"kind\":%q,\"data\":{}}\n\n: alive\n\n", id, kind, kind)
		}
		switch last {
		case "":
			send(1, "planned")
			send(2, "answered")
		case "2":
			send(3, "answered")
			send(4, "finished")
		}
	}))
	defer server.Close()
	var kinds []string
	if err := newClient(server.URL, "").follow(t.Context(), 7, func(e wire.Event) { kinds = append(kinds, e.Kind) }); err != nil {
		t.Fatal(err)
	}
	if strings.Join(kinds, " ") != "planned answered answered finished" || strings.Join(asked, ",") != ",2" {
		t.Errorf("events %v, asked after %q", kinds, asked)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := newClient(server.URL, "").follow(ctx, 7, func(wire.Event) {}); !errors.Is(err, context.Canceled) {
		t.Errorf("a stopped watch: %v", err)
	}
}

func TestProblemsReachTheReaderWhole(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer soba_x" {
			t.Errorf("the token is not sent: %q", r.Header.Get("Authorization"))
		}
		switch r.URL.Path {
		case "/problem":
			w.WriteHeader(422)
			json.NewEncoder(w).Encode(wire.Problem{Status: 422, Detail: "it is wrong", Hint: "Do it right.", Errors: []wire.ProblemError{{Location: "body.rows[0]", Message: "is odd"}}})
		case "/proxy":
			w.WriteHeader(502)
			fmt.Fprint(w, "<html>bad gateway</html>")
		case "/none":
			w.WriteHeader(204)
		default:
			fmt.Fprint(w, "not JSON")
		}
	}))
	defer server.Close()
	c := newClient(server.URL+"/", "soba_x")
	for path, want := range map[string]string{
		"/problem": "it is wrong\n  body.rows[0] is odd\nDo it right.",
		"/proxy":   "the service answers 502 Bad Gateway: <html>bad gateway</html>",
		"/else":    "cannot be read",
	} {
		if _, err := get[wire.Status](t.Context(), c, path, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	if _, err := get[struct{}](t.Context(), c, "/none", nil); err != nil {
		t.Errorf("an empty answer: %v", err)
	}
	server.Close()
	var away *errUnreachable
	if _, err := get[wire.Status](t.Context(), c, "/problem", nil); !errors.As(err, &away) || !strings.Contains(err.Error(), "soba demo") {
		t.Errorf("no service: %v", err)
	}
}

// run executes a command line and returns what it prints.
func run(t *testing.T, args ...string) (out, errs string, code int) {
	t.Helper()
	root := New(fstest.MapFS{})
	var o, e bytes.Buffer
	root.SetOut(&o)
	root.SetErr(&e)
	code = Main(t.Context(), root, args)
	return o.String(), e.String(), code
}

func TestExitCodes(t *testing.T) {
	incomplete := `{"watchlist":"w","columns":[{"id":"quote.last","label":"Last price","unit":"price"}],"rows":[{"symbol":"A.XCVH","cells":[{"v":null,"state":"missing","reason":"not_covered"}]}],"counts":{"missing":1},"of":1}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, incomplete) }))
	defer server.Close()
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"table w --server " + server.URL, 0, "○ not_covered"},
		{"table w --strict --server " + server.URL, 3, "missing, stale or pending"},
		{"table w --server http://127.0.0.1:1", 1, "no service answers"},
		{"table", 2, "Add --help"},
		{"nothing", 2, "unknown command"},
		{"table w --colums x", 2, "unknown flag"},
		{"version --server http://127.0.0.1:1", 0, "does not answer"},
		{"config show --server http://127.0.0.1:1 --format json", 0, "http://127.0.0.1:1"},
		{"--help", 0, "Every day:"},
	} {
		out, errs, code := run(t, strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("soba %s: exit %d\n%s%s", c.args, code, out, errs)
		}
	}
}

func TestAPlanForTheTerminal(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out}
	err := a.printPlan(&printing{format: "table"}, &wire.Plan{
		Requests: []wire.PlannedRequest{{Source: "gannet", Call: "history", Datasets: []string{"bars", "splits"}, Symbols: 12, From: "2026-01-01", To: "2026-03-06", Units: 24}},
		Skipped:  []wire.PlannedGap{{Datasets: []string{"quotes"}, Reason: "ended", Count: 9, Symbols: []string{"A.XCVH", "B.XCVH"}}, {Datasets: []string{"bars"}, Reason: "fresh", Count: 7}},
		Refused:  []wire.PlannedGap{{Datasets: []string{"quotes"}, Reason: "allowance_spent", Count: 1, Symbols: []string{"C.XCVH"}}},
		Units:    map[string]int{"gannet": 24}, Left: map[string]int{"gannet": 100}, Seconds: 0.3,
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"2026-01-01 to 2026-03-06", "1 request, about 0.3 s", "gannet: 24 units, 100 left", "not due: quotes of 9 names: ended (A.XCVH B.XCVH and 7 more)", "fresh: bars of 7 names", "bars splits", "refused: quotes of 1 name: allowance_spent (C.XCVH)"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is not in\n%s", want, out.String())
		}
	}
}
