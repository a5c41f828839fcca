package store

import (
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/source"
)

func TestTheHealthOfASource(t *testing.T) {
	f := open(t)
	answered := func(when time.Time, units int, took time.Duration, fault *source.Fault) {
		r := f.result(catalogue.Quotes, &source.Answer{Pages: []source.Page{{Units: units, Took: took, UnitsLeft: -1}}})
		r.Fault = fault
		f.keep(r, when)
	}
	yesterday := noon.Add(-24 * time.Hour)
	answered(yesterday, 500, 10*time.Millisecond, nil)
	answered(noon, 7, 20*time.Millisecond, nil)
	answered(noon.Add(time.Minute), 5, 30*time.Millisecond, nil)
	h, err := f.SourceHealth(t.Context(), "gannet", noon.Truncate(24*time.Hour))

	if err != nil || h.SpentToday != 12 || h.Requests != 3 || h.Fault != "" || h.LastFault != nil || h.MedianMs != 15 {
		t.Errorf("got %+v, %v", h, err) // the directory's request took no time: the median of 0, 10, 20 and 30 is 15
	}
	answered(noon.Add(2*time.Minute), 0, time.Second, &source.Fault{Kind: source.KeyRefused, Status: 401})
	if h, _ = f.SourceHealth(t.Context(), "gannet", noon.Truncate(24*time.Hour)); h.Fault != "key refused (401)" || h.LastFault == nil {
		t.Errorf("after a fault: %+v", h)
	}
	answered(noon.Add(3*time.Minute), 1, time.Millisecond, nil)
	if h, _ = f.SourceHealth(t.Context(), "gannet", noon.Truncate(24*time.Hour)); h.Fault != "" || h.LastFault == nil {
		t.Errorf("after it works again: %+v", h)
	}
	if h, err := f.SourceHealth(t.Context(), "nobody", noon); err != nil || h.LastSuccess != nil || h.SpentToday != 0 {
		t.Errorf("a source that was never asked: %+v, %v", h, err)
	}
	if last, err := f.LastDirectory(t.Context(), "gannet"); err != nil || last == nil {
		t.Errorf("the directory was fetched %v, %v", last, err)
	}
}

func TestARefusalIsAnOutcomeWithoutARequest(t *testing.T) {
	f := open(t)
	f.save(catalogue.Quotes, &source.Answer{}, noon)
	err := f.Refuse(t.Context(), map[NeedKey]*table.Attempt{
		{catalogue.Quotes, f.ids["AAA.XCVH"]}: {Source: "gannet", At: noon.Add(time.Hour), Outcome: cell.AllowanceSpent, Detail: "until midnight"},
	})
	if err != nil {
		t.Fatal(err)
	}
	if a := quotes(f.at("AAA.XCVH", noon.Add(time.Hour))).Attempt; a.Outcome != cell.AllowanceSpent || a.Response != 0 || a.Detail != "until midnight" {
		t.Errorf("got %+v", a)
	}
	if a := quotes(f.at("AAA.XCVH", noon)).Attempt; a.Outcome != cell.NoReason {
		t.Errorf("before it: %+v", a)
	}
}

func TestRefreshesThroughTheirLife(t *testing.T) {
	f := open(t)
	ctx := t.Context()
	w, err := f.CreateWatchlist(ctx, "income", noon)
	if err != nil {
		t.Fatal(err)
	}
	r, err := f.QueueRefresh(ctx, Asked{Watchlist: &w.ID, Datasets: []catalogue.Dataset{catalogue.Quotes}, Force: true, Cause: ByHand}, noon, nopEnqueue)
	if err != nil || r.State != Queued || r.Watchlist != "income" || r.Over() {
		t.Fatalf("got %+v, %v", r, err)
	}
	failing := errors.New("no job")
	if _, err := f.QueueRefresh(ctx, Asked{Watchlist: &w.ID, Cause: ByHand}, noon, func(pgx.Tx, int64) error { return failing }); !errors.Is(err, failing) {
		t.Errorf("without its job: %v", err)
	}
	event := Event{At: noon, Kind: "planned", Data: json.RawMessage(`{}`)}
	if r, err = f.StartRefresh(ctx, r.ID, noon); err != nil || r.State != Running {
		t.Fatalf("got %+v, %v", r, err)
	}
	if again, _ := f.StartRefresh(ctx, r.ID, noon.Add(time.Hour)); !again.StartedAt.Equal(noon) {
		t.Errorf("a resumed refresh began %s", again.StartedAt)
	}
	if claimed, err := f.ClaimNeeds(ctx, r.ID, []NeedKey{{catalogue.Quotes, f.ids["AAA.XCVH"]}}); err != nil || len(claimed) != 1 {
		t.Fatalf("claimed %v, %v", claimed, err)
	}
	if err := f.PlanRefresh(ctx, r.ID, Planned{Requests: 3, Event: event}, true); err != nil {
		t.Fatal(err)
	}
	if n := f.count("select count(*) from in_flight"); n != 1 {
		t.Errorf("%d in flight", n)
	}
	if open, _ := f.Unfinished(ctx); len(open) != 1 {
		t.Errorf("%d unfinished; the one without a job must not be there", len(open))
	}
	event.Kind = "finished"
	if err := f.FinishRefresh(ctx, r.ID, Done, "", event); err != nil {
		t.Fatal(err)
	}
	if all, err := f.Refreshes(ctx, w.ID, 10); err != nil || len(all) != 1 || !all[0].Over() || all[0].Planned != 3 || f.count("select count(*) from in_flight") != 0 {
		t.Errorf("got %+v, %v", all, err)
	}
	if err := f.CancelRefresh(ctx, 999); !errors.Is(err, ErrNotFound) {
		t.Errorf("got %v", err)
	}
}
