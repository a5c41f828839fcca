package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/sources"
)

// StandIns are the running stand-in vendors.
type StandIns struct {
	Vendors   []*standin.Vendor
	Addresses map[string]string // by name of the source
	servers   []*http.Server
}

// ports of the stand-ins, from the first one on.
var ports = map[string]int{"gannet": 0, "whimbrel": 1, "fulmar": 2, "dunlin": 3}

// StartStandIns runs the vendors on addresses of loopback: the one given for
// gannet, and those that follow it for the others; all free ones for port 0.
func StartStandIns(exchanges market.Exchanges, listen string, seed uint64, listings int, latency time.Duration, now func() time.Time) (*StandIns, error) {
	host, first, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, fmt.Errorf("the stand-in vendors cannot listen: %w", err)
	}
	port, err := strconv.Atoi(first)
	if err != nil {
		return nil, fmt.Errorf("the stand-in vendors cannot listen on %q: write the port as a number", listen)
	}
	m := standin.New(exchanges, seed, listings, now)
	s := &StandIns{Vendors: []*standin.Vendor{standin.NewGannet(m).Vendor, standin.NewWhimbrel(m).Vendor, standin.NewFulmar(m).Vendor, standin.NewDunlin(m).Vendor}, Addresses: map[string]string{}}
	for _, v := range s.Vendors {
		v.Latency = latency
		at := 0
		if port != 0 {
			at = port + ports[v.Name]
		}
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(at)))
		if err != nil {
			return nil, errors.Join(fmt.Errorf("the stand-in %s cannot listen: %w", v.Name, err), s.Stop())
		}
		server := &http.Server{Handler: v, ReadHeaderTimeout: 10 * time.Second}
		s.servers = append(s.servers, server)
		s.Addresses[v.Name] = "http://" + l.Addr().String()
		go server.Serve(l) //nolint:errcheck // it ends when it is closed
	}
	return s, nil
}

// Secrets are the addresses and keys of the stand-ins.
func (s *StandIns) Secrets(name string) source.Secret {
	vendor, _, _ := strings.Cut(name, "-") // which may be described in several ways
	return source.Secret{Address: s.Addresses[vendor], Key: map[string]string{"gannet": standin.GannetKey, "whimbrel": standin.WhimbrelKey}[vendor]}
}

// Stop ends the stand-ins.
func (s *StandIns) Stop() error {
	var all []error
	for _, server := range s.servers {
		all = append(all, server.Close())
	}
	return errors.Join(all...)
}

// ShippedSources are the descriptions of the stand-ins, as they ship.
func ShippedSources(names ...string) ([]*source.Description, error) {
	all, err := source.ReadAll(sources.Files)
	if err != nil {
		return nil, err
	}
	var out []*source.Description
	for _, name := range names {
		for _, d := range all {
			if d.Name == name {
				out = append(out, d)
			}
		}
	}
	return out, nil
}

// demoRow is a row of one of the demo's lists; one without a quantity is watched.
type demoRow struct{ symbol, quantity, cost string }

// demoLists are the demo's watchlists, each with how many years of prices it is refreshed
// with: what its columns read, or 0. One without rows has every listing.
var demoLists = []struct {
	name  string
	rows  []demoRow
	years int
}{
	{"income", demoHoldings, 6}, // yields of five years need six
	{"growth", demoGrowth, 0},
	{"contrasts", demoContrasts, 7}, // and valuations of five years ago the price of the year after
	{everything, nil, 0},
}

const everything = "everything"

// demoContrasts are companies of which hardly any figure is of the same period, or exists
// at all: a bank, a loss maker, one that reports by halves, one whose year ends in June,
// one newly listed, one that does not consolidate.
var demoContrasts = []demoRow{{symbol: "HBNK.XCVH"}, {symbol: "ALGA.XPLR"}, {symbol: "QUAY.XNMK"}, {symbol: "CHRT.XNMK"}, {symbol: "BUOY.XCVH"}, {symbol: "SHIO.XTSG"}}

var demoHoldings = []demoRow{
	{"KELP.XCVH", "320", "21.40"},
	{"FERY.XCVH", "140", "38.75"},
	{"SALT.XCVH", "900", "11.20"},
	{"HBNK.XCVH", "210", "29.10"},
	{"WIND.XCVH", "150", "30.05"},
	{"LRCH.XCVH", "260", "19.80"},
	{"MUSL.XCVH", "480", "8.35"},
	{"ISLE.XCVH", "95", "55.60"},
	{"LBAL.XCVH", "40", "112.30"},
	{"HB31.XCVH", "60", "98.10"},
	{"CABL.XNMK", "", ""},
	{"MUTL.XNMK", "", ""},
	{"QUAY.XNMK", "", ""},
	{"S&T.XNMK", "", ""},
	{"COLD.XTSG", "", ""},
	{"CHAN.A.XPLR", "", ""},
	{"ROPE.XNMK", "", ""},
	{"LAMP.XPLR", "", ""},
	{"EUR/GBP", "", ""},
	{"CV50.XCVH", "", ""},
}

var demoGrowth = []demoRow{
	{"TIDE.XPLR", "500", "16.20"},
	{"ALGA.XPLR", "25", "118"},
	{"BUOY.XCVH", "300", "14.10"},
	{"GLAS.XCVH", "650", "8.90"},
	{"SHIO.XTSG", "200", "1090"},
	{"CHRT.XNMK", "", ""},
	{"DREG.XPLR", "", ""},
	{"FOGG.XPLR", "", ""},
	{"OARS.XCVH", "", ""},
	{"PEAT.XNMK", "", ""},
	{"LIME.XTSG", "", ""},
	{"NETS.XPLR", "", ""},
	{"CHAN.B.XPLR", "", ""},
	{"KLPF.XCVH", "", ""},
	{"KLPC.XCVH", "", ""},
	{"VT25.XCVH", "", ""},
	{"USD/JPY", "", ""},
}

var tradedPairs = []string{"EUR/USD", "EUR/GBP", "USD/JPY"}

// paced are the datasets that are left out of the demo's longest list until somebody
// refreshes it.
var paced = []catalogue.Dataset{catalogue.Statements, catalogue.Ratios, catalogue.Estimates, catalogue.Opinions, catalogue.Holders}

// Seed makes the demo's watchlists, unless they are there, and refreshes them.
// It tells of its steps on out.
func (s *Service) Seed(ctx context.Context, out io.Writer, now func() time.Time) error {
	if err := s.awaitDirectory(ctx, out); err != nil {
		return err
	}
	for _, list := range demoLists {
		w, err := s.Store.CreateWatchlist(ctx, list.name, now())
		var taken *store.NameTakenError
		if errors.As(err, &taken) {
			continue
		}
		if err != nil {
			return err
		}
		directory := s.Book.Directory()
		_, err = s.Store.Edit(ctx, w, 0, now(), func(e *store.Editor) error {
			if list.rows == nil {
				for _, l := range directory.Ordered {
					if l.Kind == market.Pair && !slices.Contains(tradedPairs, l.Symbol.String()) {
						continue // only fixed, never traded
					}
					if _, err := e.Add(store.Row{ListingID: l.ID}, -1); err != nil {
						return err
					}
				}
				return nil
			}
			for _, r := range list.rows {
				l, err := directory.Resolve(r.symbol)
				if err != nil {
					return err
				}
				row := store.Row{ListingID: l.ID}
				if r.quantity != "" {
					row.Quantity, row.Cost = &r.quantity, &r.cost
				}
				if _, err := e.Add(row, -1); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "made the watchlist %s\n", list.name)
	}
	for _, made := range demoLists {
		list, err := s.Book.List(ctx, made.name)
		if errors.Is(err, store.ErrNotFound) {
			continue // the user has deleted it
		}
		if err != nil {
			return err
		}
		asked := store.Asked{Watchlist: &list.ID, Datasets: catalogue.Datasets, Cause: store.ByHand}
		if made.rows == nil { // the accounts of so many companies take as long as their vendor's pace allows
			asked.Datasets = slices.DeleteFunc(slices.Clone(catalogue.Datasets), func(d catalogue.Dataset) bool { return slices.Contains(paced, d) })
		}
		if made.years > 0 {
			asked.From = period.DateOf(now().UTC()).AddYears(-made.years)
		}
		r, err := s.Engine.Ask(ctx, asked)
		if err != nil {
			return err
		}
		if r, err = s.Await(ctx, r.ID); err != nil {
			return err
		}
		fmt.Fprintf(out, "refreshed %s: %d requests, %d units, %d needs were fresh\n", made.name, r.Answered, r.Units, r.Skipped)
		if made.rows == nil {
			fmt.Fprintf(out, "  without accounts: 'soba refresh %s' brings them in half a minute\n", made.name)
		}
	}
	return nil
}

// awaitDirectory waits until the listings are known.
func (s *Service) awaitDirectory(ctx context.Context, out io.Writer) error {
	unfinished, err := s.Store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, r := range unfinished {
		if _, err := s.Await(ctx, r.ID); err != nil {
			return err
		}
	}
	if err := s.Book.CatchUp(ctx); err != nil {
		return err
	}
	if len(s.Book.Directory().Ordered) == 0 {
		return errors.New("no source gave any listing; see the request log with 'soba requests'")
	}
	fmt.Fprintf(out, "%d listings known\n", len(s.Book.Directory().Ordered))
	return nil
}

// Await waits for a refresh to end.
func (s *Service) Await(ctx context.Context, id int64) (store.Refresh, error) {
	happened, stop := s.Book.Listen(func(what string, n int64) bool { return what == "refresh" && n == id })
	defer stop()
	for {
		r, err := s.Store.Refresh(ctx, id)
		if err != nil || r.Over() {
			return r, err
		}
		select {
		case <-happened:
		case <-ctx.Done():
			return r, ctx.Err()
		}
	}
}
