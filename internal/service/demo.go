package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/store"
)

// StandIn is a running stand-in vendor.
type StandIn struct {
	Address string
	server  *http.Server
}

// StartStandIn runs the vendor gannet on an address of loopback.
func StartStandIn(exchanges market.Exchanges, listen string, seed uint64, listings int, latency time.Duration, now func() time.Time) (*StandIn, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("the stand-in vendor cannot listen: %w", err)
	}
	g := standin.NewGannet(standin.New(exchanges, seed, listings, now))
	g.Latency = latency
	s := &StandIn{"http://" + l.Addr().String(), &http.Server{Handler: g, ReadHeaderTimeout: 10 * time.Second}}
	go s.server.Serve(l) //nolint:errcheck // it ends when it is closed
	return s, nil
}

// Stop ends the stand-in.
func (s *StandIn) Stop() error { return s.server.Close() }

// demoHoldings are the rows of the demo's income list; a row without a quantity is watched.
var demoHoldings = []struct{ symbol, quantity, cost string }{
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

var demoGrowth = []struct{ symbol, quantity, cost string }{
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

// Seed makes the demo's watchlists, unless they are there, and refreshes them.
// It tells of its steps on out.
func (s *Service) Seed(ctx context.Context, out io.Writer, now func() time.Time) error {
	if err := s.awaitDirectory(ctx, out); err != nil {
		return err
	}
	lists := []string{"income", "growth", "everything"}
	for i, rows := range [][]struct{ symbol, quantity, cost string }{demoHoldings, demoGrowth, nil} {
		w, err := s.Store.CreateWatchlist(ctx, lists[i], now())
		var taken *store.NameTakenError
		if errors.As(err, &taken) {
			continue
		}
		if err != nil {
			return err
		}
		directory := s.Book.Directory()
		_, err = s.Store.Edit(ctx, w, 0, now(), func(e *store.Editor) error {
			if rows == nil {
				for _, l := range directory.Ordered {
					if _, err := e.Add(store.Row{ListingID: l.ID}, -1); err != nil {
						return err
					}
				}
				return nil
			}
			for _, r := range rows {
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
		fmt.Fprintf(out, "made the watchlist %s\n", lists[i])
	}
	for _, name := range lists {
		list, err := s.Book.List(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue // the user has deleted it
		}
		if err != nil {
			return err
		}
		r, err := s.Engine.Ask(ctx, &list.ID, catalogue.Datasets, false)
		if err != nil {
			return err
		}
		if r, err = s.Await(ctx, r.ID); err != nil {
			return err
		}
		fmt.Fprintf(out, "refreshed %s: %d requests, %d units, %d needs were fresh\n", name, r.Answered, r.Units, r.Skipped)
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
		return errors.New("the source gave no listings; see the request log with 'soba requests'")
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
