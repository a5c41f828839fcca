// Bench measures Soba against stated limits, as ratios within one run on one
// machine, and writes them down.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"soba.invalid/soba/internal/cluster"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/sources"
)

// bench is what the measurements share.
type bench struct {
	ctx       context.Context
	folder    string
	cluster   *cluster.Cluster
	exchanges market.Exchanges
	lines     []line
}

// line is one measurement: what was done, what it is held against, and the ratio.
type line struct{ id, work, measured, against, ratio, aim string }

func (b *bench) add(l line) {
	fmt.Printf("%-4s %s: %s against %s = %s (aim %s)\n", l.id, l.work, l.measured, l.against, l.ratio, l.aim)
	b.lines = append(b.lines, l)
}

func main() {
	output := flag.String("output", "", "file to write the results to")
	only := flag.String("only", "", "run only these, joined by commas")
	flag.Parse()
	if err := run(*output, *only); err != nil {
		log.Fatal(err)
	}
}

func run(output, only string) (err error) {
	b := &bench{ctx: context.Background()}
	if b.exchanges, err = source.ReadExchanges(sources.Files); err != nil {
		return err
	}
	if b.folder, err = os.MkdirTemp("", "soba-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.folder)
	if err := os.Chmod(b.folder, 0o755); err != nil {
		return err
	}
	if b.cluster, err = cluster.Start(b.ctx, filepath.Join(b.folder, "cluster")); err != nil {
		return err
	}
	defer b.cluster.Stop() //nolint:errcheck // what was measured stands
	for _, part := range []struct {
		ids string
		run func() error
	}{{"B1 B2 B3 B4 B10", b.service}, {"B5", b.evaluation}, {"B6", b.storage}, {"Accounts", b.accounts}, {"Memory Prices", b.histories}, {"B9", b.scale}} {
		if only != "" && !wanted(only, part.ids) {
			continue
		}
		if err := part.run(); err != nil {
			return fmt.Errorf("%s: %w", part.ids, err)
		}
	}
	if output == "" {
		return nil
	}
	return os.WriteFile(output, b.document(), 0o644)
}

func wanted(only, ids string) bool {
	for _, id := range strings.Split(only, ",") {
		if strings.Contains(" "+ids+" ", " "+id+" ") {
			return true
		}
	}
	return false
}

func (b *bench) document() []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, "# Benchmarks\n\nWritten by `make bench` on %s: %s, %d cores, %s, %s.\n\n", time.Now().UTC().Format(time.DateOnly), processor(), runtime.NumCPU(), runtime.Version(), postgres())
	fmt.Fprintln(&out, "Each line holds a measurement against its limit in the same run on the same machine, so that the ratio can be compared between machines; the times cannot.")
	fmt.Fprintln(&out, "\n| | work | measured | against | ratio | aim |\n| --- | --- | --- | --- | --- | --- |")
	for _, l := range b.lines {
		fmt.Fprintf(&out, "| %s | %s | %s | %s | %s | %s |\n", l.id, l.work, l.measured, l.against, l.ratio, l.aim)
	}
	return out.Bytes()
}

func processor() string {
	info, _ := os.ReadFile("/proc/cpuinfo") // unknown where there is none
	for _, l := range strings.Split(string(info), "\n") {
		if name, found := strings.CutPrefix(l, "model name"); found {
			return strings.TrimLeft(name, "\t :")
		}
	}
	return "unknown processor"
}

func postgres() string {
	folder, err := cluster.Binaries()
	if err != nil {
		return "no PostgreSQL"
	}
	out, _ := exec.Command(filepath.Join(folder, "postgres"), "--version").Output() // a name is better than none
	return strings.TrimSpace(string(out))
}
