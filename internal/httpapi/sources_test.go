package httpapi_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"soba.invalid/soba/internal/wire"
)

func TestSourcesAreShownCheckedAndSwitched(t *testing.T) {
	t.Parallel()
	s := start(t)
	all := as[wire.Sources](t, s.get("/api/v1/sources"))
	if len(all.Sources) != 1 || all.Sources[0].Name != "gannet" || !all.Sources[0].Enabled || all.Sources[0].KeySetting != "SOBA_GANNET_KEY" || len(all.Sources[0].Calls) < 10 || all.Sources[0].Spent == 0 {
		t.Errorf("got %+v", all.Sources)
	}
	if one := as[wire.Source](t, s.get("/api/v1/sources/gannet")); one.LastSuccess == nil || one.Fault != "" || one.Left+one.Spent != one.UnitsPerDay {
		t.Errorf("got %+v", one)
	}
	if p := s.get("/api/v1/sources/heron").problem(t); p.Status != 404 || !strings.Contains(p.Hint, "gannet") {
		t.Errorf("got %+v", p)
	}
	check := func(body string) []wire.SourceCheck {
		t.Helper()
		return as[wire.SourceChecks](t, s.send("POST", "/api/v1/sources/gannet/check", body)).Checks
	}
	for _, c := range check(`{}`) {
		if empty := len(c.Samples) == 0; c.Verdict != "works" || empty != slices.ContainsFunc(c.Remarks, func(r string) bool { return strings.Contains(r, "no record") }) {
			t.Errorf("%s: %+v", c.Call, c)
		}
	}
	// Raw and mapped stand side by side.
	quotes := check(`{"dataset":"quotes","symbol":"CABL.XNMK"}`)[0]
	found := map[string]wire.SampleField{}
	for _, f := range quotes.Samples[0].Fields {
		found[f.Field] = f
	}
	if f := found["minor"]; quotes.Asked != "CABL.XNMK" || f.Raw != "true" || f.At != "minor_unit" || found["last"].Found != "number" {
		t.Errorf("%s: %+v", quotes.Asked, quotes.Samples)
	}
	// What is wrong with a source is told apart, with what to do.
	failures := 0
	for kind, want := range map[string]string{"key": "key refused", "plan": "not in the key's plan", "allowance": "allowance spent", "moved": "address moved", "reshaped": "changed shape"} {
		s.fault(t, fmt.Sprintf(`{"kind":%q,"dataset":"quotes","count":1}`, kind))
		c := check(`{"dataset":"quotes"}`)[0]
		if c.Verdict != want || c.Advice == "" || c.Status == 0 {
			t.Errorf("%s: %+v", kind, c)
		}
		if kind == "reshaped" && !strings.Contains(c.Detail, "nothing at $.quotes[*]") {
			t.Errorf("it does not say which mapping finds nothing: %s", c.Detail)
		}
		one := as[wire.Source](t, s.get("/api/v1/sources/gannet"))
		if one.LastFault == nil || one.Failures != failures+1 {
			t.Errorf("%s: its health counts %d failures after %d", kind, one.Failures, failures)
		}
		failures = one.Failures
	}
	for _, body := range []string{`{"dataset":"quoats"}`, `{"symbol":"NONE.XCVH"}`} {
		s.send("POST", "/api/v1/sources/gannet/check", body).problem(t)
	}
	// Off and on again.
	if off := as[wire.Source](t, s.send("PATCH", "/api/v1/sources/gannet", `{"enabled":false}`)); off.Enabled {
		t.Errorf("got %+v", off)
	}
	s.await("it is off", func() bool { return !as[wire.Source](t, s.get("/api/v1/sources/gannet")).Enabled })
	if r := s.refresh(`{"force":true,"only":["quotes"]}`); r.Answered != 0 || r.Refused != 21 { // with the other class of one issuer's shares
		t.Errorf("a source that is switched off: %+v", r)
	}
	s.send("PATCH", "/api/v1/sources/gannet", `{"enabled":true}`)
	s.await("it is on", func() bool { return as[wire.Source](t, s.get("/api/v1/sources/gannet")).Enabled })
	for path, body := range map[string]string{"quoats": `{"sources":["gannet"]}`, "quotes": `{"sources":["heron"]}`, "ratios": `{"sources":["gannet"]}`} {
		s.send("PUT", "/api/v1/preferences/"+path, body).problem(t)
	}
	if p := as[wire.Preference](t, s.send("PUT", "/api/v1/preferences/quotes", `{"sources":["gannet"],"compare":true}`)); !p.Set || !p.Compare || len(p.Sources) != 1 {
		t.Errorf("got %+v", p)
	}
}

func (s *server) fault(t *testing.T, body string) {
	t.Helper()
	resp, err := http.Post(s.vendor+"/admin/faults", "application/json", strings.NewReader(body))
	if err != nil || resp.StatusCode != 201 {
		t.Fatalf("%v %v", resp, err)
	}
	resp.Body.Close()
}

// await asks until something holds that arrives by a notification.
func (s *server) await(what string, holds func() bool) {
	s.t.Helper()
	for deadline := time.Now().Add(10 * time.Second); !holds(); {
		if time.Now().After(deadline) {
			s.t.Fatalf("%s: not within 10 s", what)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

func TestListsAreImported(t *testing.T) {
	t.Parallel()
	s := start(t)
	isin := as[wire.Listing](t, s.get("/api/v1/listings/FERY.XCVH")).ISIN
	file := "Security;Stück;Preis\nTIDE.XPLR;12;17,50\n" + isin + ";1;30\nKELP.XCVH;99;21\nNONE.XCVH;1;1\nMUSL;5;9\nTIDE.XPLR;1;1\nSALT.XCVH;lots;\n"
	send := func(query, contentType string, body []byte) *reply {
		t.Helper()
		return s.send("POST", "/api/v1/watchlists/growth/import?"+query, string(body), "Content-Type", contentType)
	}
	columns := "columns=symbol=Security,quantity=St%C3%BCck,cost=Preis"
	dry := as[wire.Imported](t, send(columns+"&dry_run=true", "text/csv", []byte(file)))
	if !dry.DryRun || dry.Added != 2 || dry.Present != 1 || dry.Problems != 4 || dry.Columns["quantity"] != "Stück" {
		t.Errorf("got %+v", dry)
	}
	if rows := as[wire.Rows](t, s.get("/api/v1/watchlists/growth")); rows.Rows != 17 {
		t.Errorf("a dry run has changed the list: %d rows", rows.Rows)
	}
	done := as[wire.Imported](t, send(columns, "text/csv", []byte(file)))
	said := map[int]string{}
	for _, l := range done.Lines {
		said[l.Line] = l.Problem
	}
	for line, want := range map[int]string{2: "", 3: "", 5: "NONE.XCVH", 6: "several listings", 7: "line 2 already", 8: `"lots" is not a number`} {
		if (want == "") != (said[line] == "") || !strings.Contains(said[line], want) {
			t.Errorf("line %d: %q, want %q", line, said[line], want)
		}
	}
	rows := as[wire.Rows](t, s.get("/api/v1/watchlists/growth"))
	held := map[string]string{}
	for _, r := range rows.Listings {
		held[r.Symbol] = r.Quantity + " at " + r.Cost
	}
	if held["TIDE.XPLR"] != "12 at 17.5" || held["FERY.XCVH"] != "1 at 30" || held["KELP.XCVH"] != "99 at 21" {
		t.Errorf("got %v", held)
	}
	book := excelize.NewFile()
	for i, row := range [][]any{{"ISIN", "Market", "Shares"}, {as[wire.Listing](t, s.get("/api/v1/listings/MUSL.XNMK")).ISIN, "XNMK", 7}} {
		if err := book.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if err := book.Write(&b); err != nil {
		t.Fatal(err)
	}
	// One ISIN on two exchanges: another column says which.
	if done := as[wire.Imported](t, send("", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", b.Bytes())); done.Added != 1 || done.Lines[0].Symbol != "MUSL.XNMK" {
		t.Errorf("got %+v", done)
	}
	for query, body := range map[string]string{"": "nothing here", "columns=symbol": "symbol\nKELP.XCVH\n", "columns=shape=symbol": "symbol\nKELP.XCVH\n", "columns=symbol=Sybmol": "Symbol\nKELP.XCVH\n"} {
		send(query, "text/csv", []byte(body)).problem(t)
	}
	// The members of an index are fetched when they are not known.
	members := as[wire.Members](t, s.get("/api/v1/listings/TSUG.XTSG/members"))
	if len(members.Members) < 3 || members.Source != "gannet" || members.Members[0].Name == "" || members.Members[0].Weight <= 0 {
		t.Errorf("got %+v", members)
	}
	s.send("POST", "/api/v1/watchlists", `{"name":"index"}`)
	if added := as[wire.Imported](t, s.send("POST", "/api/v1/watchlists/index/members", `{"universe":"TSUG.XTSG"}`)); added.Added != len(members.Members) || added.Rows != added.Added {
		t.Errorf("%d members, got %+v", len(members.Members), added)
	}
	if p := s.send("POST", "/api/v1/watchlists/index/members", `{"universe":"KELP.XCVH"}`).problem(t); !strings.Contains(p.Detail, "is a share") {
		t.Errorf("got %+v", p)
	}
}

// A list refreshes by itself at its times, by whichever clock the service goes.
func TestSchedules(t *testing.T) {
	t.Parallel()
	s := start(t)
	path := "/api/v1/watchlists/income/schedule"
	for _, body := range []string{`{"every":"1s"}`, `{"every":"soon"}`, `{"cron":"60 8 * * *"}`, `{"cron":"0 8 * * *","zone":"Atlantis/Deep"}`, `{"cron":"0 8 * * *","every":"15m"}`} {
		s.send("PUT", path, body).problem(t)
	}
	// Friday 16:20 UTC: two exchanges of the list are open.
	if x := as[wire.Schedule](t, s.send("PUT", path, `{"every":"15m"}`)); x.Next == nil || x.Next.Format(time.RFC3339)[:16] != "2026-03-06T16:35" {
		t.Errorf("got %+v", x)
	}
	if x := as[wire.Schedule](t, s.send("PUT", path, `{"cron":"30 8 * * 1-5","zone":"Europe/London"}`)); x.Next == nil || x.Next.Format(time.RFC3339) != "2026-03-09T08:30:00Z" {
		t.Errorf("got %+v", x)
	}
	before := as[wire.Refreshes](t, s.get("/api/v1/refreshes?watchlist=income&limit=1")).Refreshes[0].ID
	s.clock.set("2026-03-09T08:30:01Z")
	var newest wire.Refresh
	s.await("the refresh of the schedule", func() bool {
		newest = as[wire.Refreshes](t, s.get("/api/v1/refreshes?watchlist=income&limit=1")).Refreshes[0]
		return newest.ID != before && newest.Over()
	})
	if newest.Cause != "schedule" || newest.State != "done" {
		t.Errorf("got %+v", newest)
	}
	if x := as[wire.Schedule](t, s.get(path)); x.Last == nil || x.Next.Format(time.RFC3339) != "2026-03-10T08:30:00Z" {
		t.Errorf("after it: %+v", x)
	}
	if x := as[wire.Schedule](t, s.send("PUT", path, `{}`)); x.Next != nil {
		t.Errorf("ended, it is %+v", x)
	}
}

// While somebody looks, quotes are streamed as far as the allowance permits, and
// when they stand still it is said why.
func TestStreaming(t *testing.T) {
	t.Parallel()
	s := start(t)
	streamed := func(path string) (next func() wire.Stream, stop func()) {
		resp, err := http.Get(s.address + path)
		if err != nil || resp.StatusCode != 200 {
			t.Fatalf("%v %v", resp, err)
		}
		scan := bufio.NewScanner(resp.Body)
		return func() wire.Stream {
			var x wire.Stream
			for scan.Scan() {
				if data, found := strings.CutPrefix(scan.Text(), "data: "); found {
					if err := json.Unmarshal([]byte(data), &x); err != nil {
						t.Fatal(err)
					}
					return x
				}
			}
			t.Fatal("the stream ends")
			return x
		}, func() { resp.Body.Close() }
	}
	next, stop := streamed("/api/v1/watchlists/income/stream")
	x := next()
	for !x.Live {
		x = next() // it begins with "starting"
	}
	// 20 names cost 20 units; half of what is left lasts the day at a minute each.
	if x.EverySeconds != 60 || x.Next == nil {
		t.Errorf("got %+v", x)
	}
	before := as[wire.Refreshes](t, s.get("/api/v1/refreshes?watchlist=income&limit=1")).Refreshes[0].ID
	s.clock.set("2026-03-06T16:22:00Z")
	s.await("streamed quotes", func() bool {
		r := as[wire.Refreshes](t, s.get("/api/v1/refreshes?watchlist=income&limit=1")).Refreshes[0]
		return r.ID != before && r.Cause == "stream" && r.Over()
	})
	s.clock.set("2026-03-07T12:00:00Z") // a Saturday
	for x.Live {
		x = next()
	}
	if !strings.Contains(x.Why, "no exchange of this list is open") || x.Next == nil {
		t.Errorf("got %+v", x)
	}
	stop()
	if r := s.get("/api/v1/watchlists/nothing/stream"); r.StatusCode != 404 {
		t.Errorf("a list that is not there: %s", r.Status)
	}
}
