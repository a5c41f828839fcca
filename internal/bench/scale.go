package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// sizes of the lists that costs a listing are compared over.
var sizes = []int{500, 5000, 20_000}

// scale measures what a listing costs in lists of several sizes.
func (b *bench) scale() error {
	var refreshes, reads, evaluations []float64 // microseconds a listing
	for _, n := range sizes {
		refresh, read, evaluation, err := b.costs(n)
		if err != nil {
			return fmt.Errorf("%d listings: %w", n, err)
		}
		refreshes, reads, evaluations = append(refreshes, refresh), append(reads, read), append(evaluations, evaluation)
	}
	for _, part := range []struct {
		what  string
		costs []float64
	}{{"refresh quotes of 500, 5,000 and 20,000 names, the vendor's limits lifted, a listing", refreshes}, {"read a warm table of 25 columns, a listing", reads}, {"evaluate 25 columns, a listing", evaluations}} {
		worst := max(part.costs[1], part.costs[2]) / part.costs[0]
		b.add(line{"B9", part.what, fmt.Sprintf("%.1f, %.1f, %.1f µs", part.costs[0], part.costs[1], part.costs[2]), "that of 500", fmt.Sprintf("%.2f", worst), "≤ 1.3"})
	}
	return nil
}

// database makes an empty database beside the cluster's own.
func (b *bench) database(name string) (string, error) {
	conn, err := pgx.Connect(b.ctx, b.cluster.URL)
	if err != nil {
		return "", err
	}
	defer conn.Close(b.ctx) //nolint:errcheck // it ends with the run
	if _, err := conn.Exec(b.ctx, "create database "+name); err != nil {
		return "", err
	}
	return strings.Replace(b.cluster.URL, "/soba?", "/"+name+"?", 1), nil
}

func (b *bench) costs(n int) (refresh, read, evaluation float64, err error) {
	url, err := b.database(fmt.Sprintf("scale_%d", n))
	if err != nil {
		return
	}
	vendors, err := service.StartStandIns(b.exchanges, "127.0.0.1:0", 1, n, 0, time.Now)
	if err != nil {
		return
	}
	defer vendors.Stop() //nolint:errcheck // they end with the run
	for _, v := range vendors.Vendors {
		v.Unlimited()
	}
	o := service.Options{Database: url, Secrets: vendors.Secrets, Exchanges: b.exchanges, Now: time.Now}
	if o.Sources, err = service.ShippedSources("gannet"); err != nil {
		return
	}
	o.Sources[0].Limits.PerSecond, o.Sources[0].Limits.UnitsPerDay = 0, 0
	o.HTTP.Listen = "127.0.0.1:0"
	s, err := service.Start(b.ctx, o)
	if err != nil {
		return
	}
	defer s.Stop() //nolint:errcheck // what was measured stands
	list, err := b.list(s)
	if err != nil {
		return
	}
	best := func(times int, f func() error) float64 {
		least := time.Duration(1<<63 - 1)
		for range times {
			began := time.Now()
			if err = f(); err != nil {
				return 0
			}
			least = min(least, time.Since(began))
		}
		return least.Seconds() * 1e6 / float64(n)
	}
	refresh = best(3, func() error {
		asked, err := s.Engine.Ask(b.ctx, store.Asked{Watchlist: &list.ID, Datasets: []catalogue.Dataset{catalogue.Quotes}, Force: true, Cause: store.ByHand})
		if err != nil {
			return err
		}
		_, err = s.Await(b.ctx, asked.ID)
		return err
	})
	if err != nil {
		return
	}
	read = best(20, func() error {
		resp, err := http.Get(s.Address + "/api/v1/watchlists/bench/table")
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	})
	if err != nil {
		return
	}
	rows, err := s.Store.Rows(b.ctx, list.ID)
	if err != nil {
		return
	}
	records, err := s.Book.Records(b.ctx, rows, 0)
	if err != nil {
		return
	}
	refs, err := catalogue.ParseColumns(catalogue.Views[0].Columns)
	if err != nil {
		return
	}
	p, err := table.Compile(refs, "", nil)
	if err != nil {
		return
	}
	evaluation = best(10, func() error {
		p.Evaluate(records, time.Now(), freshness.Standard)
		return nil
	})
	return
}

// histories measures the memory in which twenty years of bars of 500 names are
// fetched and stored in one refresh.
func (b *bench) histories() error {
	url, err := b.database("histories")
	if err != nil {
		return err
	}
	vendors, err := service.StartStandIns(b.exchanges, "127.0.0.1:0", 1, listings, 0, time.Now)
	if err != nil {
		return err
	}
	defer vendors.Stop() //nolint:errcheck // they end with the run
	folder, err := os.MkdirTemp("", "soba-sources-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	description, err := os.ReadFile(filepath.Join("sources", "gannet.yaml"))
	if err != nil {
		return err
	}
	// The stand-in needs its time to make twenty years of prices.
	patient := strings.Replace(string(description), "at_once: 4", "at_once: 4\n  timeout: 120s", 1)
	if err := os.WriteFile(filepath.Join(folder, "gannet.yaml"), []byte(patient), 0o644); err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join("bin", "soba"), "serve", "--database", url, "--listen", "127.0.0.1:0", "--sources", folder)
	cmd.Env = append(os.Environ(), "SOBA_GANNET_ADDRESS="+vendors.Addresses["gannet"], "SOBA_GANNET_KEY="+standin.GannetKey)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() {
		cmd.Process.Signal(os.Interrupt) //nolint:errcheck // waiting tells
		cmd.Wait()                       //nolint:errcheck
	}()
	var address string
	if _, err := fmt.Fscanf(out, "ready %s\n", &address); err != nil {
		return fmt.Errorf("the service does not become ready: %w", err)
	}
	s, err := store.Open(b.ctx, url)
	if err != nil {
		return err
	}
	defer s.Close()
	for {
		known, err := s.Listings(b.ctx)
		if err != nil {
			return err
		}
		if len(known) == listings {
			break
		}
		time.Sleep(50 * time.Millisecond) // the directory is on its way
	}
	if _, err := s.Pool.Exec(b.ctx, `
		with list as (insert into watchlist (name, created_at, changed_at) values ('long', now(), now()) returning id)
		insert into watchlist_row (watchlist_id, listing_id, position, added_at) select list.id, listing.id, row_number() over (), now() from listing, list`); err != nil {
		return err
	}
	body, _ := json.Marshal(wire.RefreshAsk{Only: []string{"bars"}, From: "-20y"})
	began := time.Now()
	var r wire.Refresh
	for resp, err := http.Post(address+"/api/v1/watchlists/long/refreshes", "application/json", bytes.NewReader(body)); ; resp, err = http.Get(fmt.Sprintf("%s/api/v1/refreshes/%d", address, r.ID)) {
		if err != nil {
			return err
		}
		err = json.NewDecoder(resp.Body).Decode(&r)
		resp.Body.Close()
		if err != nil {
			return err
		}
		if r.Over() {
			break
		}
		time.Sleep(100 * time.Millisecond) // another process can only be asked
	}
	took := time.Since(began)
	var bars int64
	if err := s.Pool.QueryRow(b.ctx, "select count(*) from bar").Scan(&bars); err != nil {
		return err
	}
	peak, err := processMB(cmd.Process.Pid, "VmHWM")
	if err != nil {
		return err
	}
	b.add(line{"Memory", fmt.Sprintf("%.1f M bars, 20 years of 500 names, fetched and stored in one refresh (%d requests, %d failed, %.0f s with the making of the prices): most memory of the service", float64(bars)/1e6, r.Answered+r.Failed, r.Failed, took.Seconds()), fmt.Sprintf("%.0f MB", peak), "400 MB", fmt.Sprintf("%.2f", peak/400), "≤ 1"})
	return b.readingBack(address, url)
}
