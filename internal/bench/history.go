package main

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"time"

	"soba.invalid/soba/internal/cluster"
)

// readingBack measures how twenty years of bars are read from a service that has them,
// and what small charts cost a table.
func (b *bench) readingBack(address, database string) error {
	failed := error(nil)
	get := func(path string) {
		resp, err := http.Get(address + path)
		if err != nil {
			failed = err
			return
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			failed = fmt.Errorf("%s: %s", path, resp.Status)
		}
		if _, err := io.Copy(io.Discard, resp.Body); err != nil {
			failed = err
		}
	}
	folder, err := cluster.Binaries()
	if err != nil {
		return err
	}
	psql := best(7, func() {
		c := exec.CommandContext(b.ctx, filepath.Join(folder, "psql"), database, "-qAt", "-c", `
			select day, open, high, low, close, volume from bar join listing on listing.id = listing_id
			where symbol = 'KELP.XCVH' and known_to = 'infinity' and day >= now() - interval '20 years' order by day`)
		if out, err := c.Output(); err != nil || len(out) < 4000 {
			failed = fmt.Errorf("psql gave %d bytes: %w", len(out), err)
		}
	})
	for _, part := range []struct{ what, columns string }{{"20 years of daily bars of one name over HTTP", ""}, {"the same as the data of a chart: close and volume", "&columns=close,volume"}} {
		took := best(7, func() { get("/api/v1/prices?symbols=KELP.XCVH&from=-20y" + part.columns) })
		b.add(line{"Prices", part.what, milliseconds(took), "psql, its start included, reading the same rows, " + milliseconds(psql), times(took, psql), "≤ 3"})
	}
	// A filter that is always true, written anew each time, keeps the table from being answered from memory.
	n := 0
	table := func(columns string) time.Duration {
		return best(15, func() {
			n++
			get("/api/v1/watchlists/long/table?columns=" + columns + "&where=" + url.QueryEscape(fmt.Sprintf("price.close > -%d", n)))
		})
	}
	without := table("price.close,price.return_52w")
	with := table("price.close,price.return_52w,price.line_365d")
	b.add(line{"Prices", "365-day small charts of 500 rows, added to a table that is evaluated anew", milliseconds(max(0, with-without)), "30 ms", fmt.Sprintf("%.2f", max(0, with-without).Seconds()/0.030), "≤ 1"})
	return failed
}

func milliseconds(d time.Duration) string { return fmt.Sprintf("%.1f ms", d.Seconds()*1e3) }
