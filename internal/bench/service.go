package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

const (
	listings  = 500
	latency   = 300 * time.Millisecond
	perSecond = 5 // gannet's limits
	atOnce    = 4
)

// service measures a refresh under the vendor's limits, the reading of tables,
// and the start on a filled database.
func (b *bench) service() error {
	vendors, err := service.StartStandIns(b.exchanges, "127.0.0.1:0", 1, listings, latency, time.Now)
	if err != nil {
		return err
	}
	defer vendors.Stop() //nolint:errcheck // they end with the run
	o := service.Options{Database: b.cluster.URL, Secrets: vendors.Secrets, Exchanges: b.exchanges, Now: time.Now}
	if o.Sources, err = service.ShippedSources("gannet", "whimbrel", "dunlin"); err != nil {
		return err
	}
	o.HTTP.Listen = "127.0.0.1:0"
	s, err := service.Start(b.ctx, o)
	if err != nil {
		return err
	}
	err = b.refreshAndRead(s, vendors)
	if stopped := s.Stop(); err == nil {
		err = stopped
	}
	if err != nil {
		return err
	}
	return b.start(vendors)
}

func (b *bench) refreshAndRead(s *service.Service, vendors *service.StandIns) error {
	list, err := b.list(s)
	if err != nil {
		return err
	}
	// The stand-in makes its prices when they are first asked for, which is not the service's time.
	if err := b.warm(vendors, s); err != nil {
		return err
	}
	began := time.Now()
	asked, err := s.Engine.Ask(b.ctx, store.Asked{Watchlist: &list.ID, Datasets: catalogue.Datasets, Cause: store.ByHand})
	if err != nil {
		return err
	}
	r, err := s.Await(b.ctx, asked.ID)
	if err != nil {
		return err
	}
	took := time.Since(began)
	least, limit := leastOf(s)
	b.add(line{"B1", fmt.Sprintf("cold refresh of %d listings, every dataset, vendor latency %s, their limits on", len(s.Book.Directory().Ordered), latency), seconds(took), "the least time under those limits, " + seconds(limit), times(took, limit), "≤ 1.10"})
	b.add(line{"B2", "requests sent for it", fmt.Sprint(r.Answered + r.Failed), fmt.Sprintf("the least possible, %d", least), fmt.Sprintf("%.2f", float64(r.Answered+r.Failed)/float64(least)), "1"})
	perCell, err := b.cellByCell(vendors, s)
	if err != nil {
		return err
	}
	// The vendor of accounts is slow, and 40 columns of quotes and prices need none.
	began = time.Now()
	if asked, err = s.Engine.Ask(b.ctx, store.Asked{Watchlist: &list.ID, Datasets: catalogue.Inputs(fortyFields()), Force: true, Cause: store.ByHand}); err != nil {
		return err
	}
	if _, err = s.Await(b.ctx, asked.ID); err != nil {
		return err
	}
	took = time.Since(began)
	whole := perCell * listings * 40
	b.add(line{"B3", "40 columns by one request a cell, extrapolated from 200 cells", seconds(whole), "a refresh of all that they read, " + seconds(took), times(whole, took), "≥ 100"})
	if err := b.page(s.Address); err != nil {
		return err
	}
	return b.reading(s, list)
}

// leastOf counts by hand, from the vendors' terms, the fewest requests that bring
// everything, and the least time that these take: all vendors side by side.
func leastOf(s *service.Service) (requests int, limit time.Duration) {
	kinds := map[market.Kind]int{}
	fixed := 0
	for _, l := range s.Book.Directory().Ordered {
		kinds[l.Kind]++
		if l.Kind == market.Pair && l.Symbol.Ticker == "EUR" {
			fixed++
		}
	}
	all := len(s.Book.Directory().Ordered)
	batches := func(n, size int) int { return (n + size - 1) / size }
	gannet := batches(all, 100) + // quotes
		batches(all, 100) + // bars, with splits and dividends
		batches(all-kinds[market.Pair]-kinds[market.Index], 100) + // profiles
		batches(kinds[market.Share], 100) + // announcements
		batches(kinds[market.ETF]+kinds[market.Fund], 100) + batches(kinds[market.Bond], 100) + batches(kinds[market.Future]+kinds[market.Option], 100) +
		kinds[market.Index] // members
	whimbrel := 5 * batches(kinds[market.Share], 25) // ratios, accounts, estimates, recommendations, holders
	dunlin := batches(fixed, 30)
	for _, v := range []struct {
		requests, atOnce int
		perSecond        float64
	}{{gannet, atOnce, perSecond}, {whimbrel, 2, 2}, {dunlin, 2, 10}} {
		requests += v.requests
		paced := time.Duration(float64(v.requests-1)/v.perSecond*float64(time.Second)) + latency
		limit = max(limit, paced, time.Duration(batches(v.requests, v.atOnce))*latency)
	}
	return requests, limit
}

// list makes a watchlist of all listings.
func (b *bench) list(s *service.Service) (store.Watchlist, error) {
	refreshes, err := s.Store.Unfinished(b.ctx)
	if err != nil {
		return store.Watchlist{}, err
	}
	for _, r := range refreshes {
		if _, err := s.Await(b.ctx, r.ID); err != nil {
			return store.Watchlist{}, err
		}
	}
	if err := s.Book.CatchUp(b.ctx); err != nil {
		return store.Watchlist{}, err
	}
	list, err := s.Store.CreateWatchlist(b.ctx, "bench", time.Now())
	if err != nil {
		return list, err
	}
	return s.Store.Edit(b.ctx, list, 0, time.Now(), func(e *store.Editor) error {
		for _, l := range s.Book.Directory().Ordered {
			if _, err := e.Add(store.Row{ListingID: l.ID}, -1); err != nil {
				return err
			}
		}
		return nil
	})
}

func (b *bench) vendorSymbols(s *service.Service) []string {
	var out []string
	for _, l := range s.Book.Directory().Ordered {
		if !l.Symbol.IsPair() {
			out = append(out, l.Symbol.Exchange+":"+l.Symbol.Ticker)
		}
	}
	return out
}

func (b *bench) warm(vendors *service.StandIns, s *service.Service) error {
	for _, symbol := range b.vendorSymbols(s) {
		exchange, ticker, _ := strings.Cut(symbol, ":")
		resp, err := http.Get(vendors.Addresses["gannet"] + "/admin/truth?symbol=" + url.QueryEscape(ticker+"."+exchange))
		if err != nil {
			return err
		}
		resp.Body.Close()
	}
	return nil
}

// oneCell asks the vendor for one symbol, and tells whether it said to ask again.
func (b *bench) oneCell(vendors *service.StandIns, symbol string) (again bool, err error) {
	q, err := http.NewRequestWithContext(b.ctx, http.MethodGet, vendors.Addresses["gannet"]+"/v1/quotes?symbols="+url.QueryEscape(symbol), nil)
	if err != nil {
		return false, err
	}
	q.Header.Set("X-Gannet-Key", standin.GannetKey)
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusTooManyRequests {
		return false, errors.New(resp.Status)
	}
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode == http.StatusTooManyRequests, err
}

// cellByCell asks the vendor for one symbol a request, within its limits, and
// returns the time a cell takes.
func (b *bench) cellByCell(vendors *service.StandIns, s *service.Service) (time.Duration, error) {
	const cells = 200
	limiter, slots := rate.NewLimiter(perSecond, 1), make(chan struct{}, atOnce)
	symbols := b.vendorSymbols(s)
	var wait sync.WaitGroup
	var failed atomic.Int64
	began := time.Now()
	for i := range cells {
		if err := limiter.Wait(b.ctx); err != nil {
			return 0, err
		}
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			for again := true; again; {
				var err error
				if again, err = b.oneCell(vendors, symbols[i]); err != nil {
					failed.Add(1)
				}
				if again { // it came too close upon the one before
					limiter.Wait(b.ctx) //nolint:errcheck // the next request tells
				}
			}
		})
	}
	wait.Wait()
	if n := failed.Load(); n > 0 {
		return 0, fmt.Errorf("%d of %d requests for a cell failed", n, cells)
	}
	return time.Since(began) / cells, nil
}

// fortyFields are the first of the catalogue: quotes and prices.
func fortyFields() (refs []formula.Ref) {
	for _, f := range catalogue.Fields[:40] {
		refs = append(refs, formula.Ref{ID: f.ID})
	}
	return refs
}

// reading compares the table over HTTP with Fiber sending the same bytes from memory.
func (b *bench) reading(s *service.Service, list store.Watchlist) error {
	var columns []string
	for _, ref := range fortyFields() {
		columns = append(columns, ref.ID)
	}
	address := s.Address + "/api/v1/watchlists/" + list.Name + "/table?columns=" + strings.Join(columns, ",")
	resp, err := http.Get(address)
	if err != nil {
		return err
	}
	content, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	if err != nil || resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %.200s %w", resp.Status, content, err)
	}
	etag := resp.Header.Get("ETag")
	app := fiber.New(fiber.Config{})
	app.Get("/whole", func(c fiber.Ctx) error { c.Set("Content-Type", "application/json"); return c.Send(content) })
	app.Get("/same", func(c fiber.Ctx) error { c.Set("ETag", etag); return c.SendStatus(http.StatusNotModified) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) //nolint:errcheck // it ends with the run
	defer app.Shutdown()                                                //nolint:errcheck
	plain := "http://" + l.Addr().String()
	for _, c := range []struct{ what, ours, theirs, etag, aim string }{
		{fmt.Sprintf("read a table of %d × %d, warm (%.1f MB)", listings, len(columns), float64(len(content))/1e6), address, plain + "/whole?" + strings.SplitN(address, "?", 2)[1], "", "≥ 0.6"},
		{"the same unchanged, with its ETag", address, plain + "/same?" + strings.SplitN(address, "?", 2)[1], etag, "≥ 0.8"},
	} {
		// In turns, so that neither has the quieter machine.
		var ours, theirs float64
		for range 3 {
			theirs += load(c.theirs, c.etag)
			ours += load(c.ours, c.etag)
		}
		b.add(line{"B4", c.what, fmt.Sprintf("%.0f requests/s", ours/3), fmt.Sprintf("Fiber sending the same from memory, %.0f", theirs/3), fmt.Sprintf("%.2f", ours/theirs), c.aim})
	}
	return nil
}

// load asks for an address over four connections for a second and a half, and
// returns the requests a second.
func load(address, etag string) float64 {
	const workers, long = 4, 1500 * time.Millisecond
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: workers, DisableCompression: true}}
	defer client.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(context.Background(), long)
	defer cancel()
	var done atomic.Int64
	var wait sync.WaitGroup
	began := time.Now()
	for range workers {
		wait.Go(func() {
			for ctx.Err() == nil {
				q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
				if err != nil {
					return
				}
				if etag != "" {
					q.Header.Set("If-None-Match", etag)
				}
				resp, err := client.Do(q)
				if err != nil {
					return
				}
				_, err = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				if err == nil {
					done.Add(1)
				}
			}
		})
	}
	wait.Wait()
	return float64(done.Load()) / time.Since(began).Seconds()
}

// start measures the built program on the filled database.
func (b *bench) start(vendors *service.StandIns) error {
	binary := filepath.Join("bin", "soba")
	cmd := exec.Command(binary, "serve", "--database", b.cluster.URL, "--listen", "127.0.0.1:0", "--sources", "sources")
	cmd.Env = append(os.Environ(), "SOBA_GANNET_ADDRESS="+vendors.Addresses["gannet"], "SOBA_GANNET_KEY="+standin.GannetKey, "SOBA_DUNLIN_ADDRESS="+vendors.Addresses["dunlin"],
		"SOBA_WHIMBREL_ADDRESS="+vendors.Addresses["whimbrel"], "SOBA_WHIMBREL_KEY="+standin.WhimbrelKey)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	began := time.Now()
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
	took := time.Since(began)
	b.add(line{"B10", "`soba serve` on a filled database: ready", seconds(took), "1 s", fmt.Sprintf("%.2f", took.Seconds()), "≤ 1"})
	for range 3 {
		resp, err := http.Get(address + "/api/v1/watchlists/bench/table")
		if err != nil {
			return err
		}
		io.Copy(io.Discard, resp.Body) //nolint:errcheck // only the memory counts
		resp.Body.Close()
	}
	resident, err := processMB(cmd.Process.Pid, "VmRSS")
	if err != nil {
		return err
	}
	b.add(line{"B10", "its memory after the table of 500 listings", fmt.Sprintf("%.0f MB", resident), "150 MB", fmt.Sprintf("%.2f", resident/150), "≤ 1"})
	return nil
}

// processMB reads a figure of a process's memory, as VmRSS.
func processMB(pid int, name string) (float64, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, l := range strings.Split(string(status), "\n") {
		var kb float64
		if n, _ := fmt.Sscanf(l, name+": %f kB", &kb); n == 1 {
			return kb / 1024, nil
		}
	}
	return 0, fmt.Errorf("no %s of process %d", name, pid)
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.2f s", d.Seconds()) }

func times(a, b time.Duration) string { return fmt.Sprintf("%.2f", a.Seconds()/b.Seconds()) }
