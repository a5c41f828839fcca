// Package test drives the program as its users do: the built binary, its
// commands, and the console in a browser.
package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"soba.invalid/soba/internal/cluster"
)

var (
	folder string // of this run; the account postgres can reach it
	binary string
	shared *process // a demo that tests may read, and change in lists of their own
)

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	var err error
	if folder, err = os.MkdirTemp("", "soba-e2e-"); err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil {
		panic(err)
	}
	binary = filepath.Join(folder, "soba")
	if out, err := exec.Command("go", "build", "-o", binary, "../cmd/soba").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
		return 1
	}
	// A Friday in the afternoon: two exchanges are open, two are closed.
	shared, err = launch("demo", "--data", filepath.Join(folder, "demo"), "--listen", "127.0.0.1:0", "--clock", "2026-03-06T16:20:00Z")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	if clusterStarted {
		if c, err := databases(); err == nil {
			if err := c.Stop(); err != nil {
				fmt.Fprintln(os.Stderr, err)
			}
		}
	}
	if err := shared.interrupt(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return code
}

// databases is a cluster for the services that share a database.
var (
	clusterStarted bool
	databases      = sync.OnceValues(func() (*cluster.Cluster, error) {
		clusterStarted = true
		return cluster.Start(context.Background(), filepath.Join(folder, "databases"))
	})
)

// process is a running soba.
type process struct {
	cmd     *exec.Cmd
	address string
	said    []string
	done    chan struct{}
	err     error
}

// launch starts soba with arguments and waits until it says that it is ready.
func launch(args ...string) (*process, error) { return launchWith(nil, args...) }

// launchWith also sets variables of its environment.
func launchWith(environment []string, args ...string) (*process, error) {
	p := &process{cmd: exec.Command(binary, args...), done: make(chan struct{})}
	p.cmd.Env = append(os.Environ(), environment...)
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	var complaints bytes.Buffer
	p.cmd.Stderr = &complaints
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	ready := make(chan string, 1)
	go func() {
		scan := bufio.NewScanner(out)
		for scan.Scan() {
			p.said = append(p.said, scan.Text())
			if rest, found := strings.CutPrefix(scan.Text(), "ready "); found {
				ready <- strings.Fields(rest)[0]
			}
		}
		p.err = p.cmd.Wait()
		close(p.done)
	}()
	select {
	case p.address = <-ready:
		return p, nil
	case <-p.done:
		return nil, fmt.Errorf("soba %s ended before it was ready: %v\n%s", strings.Join(args, " "), p.err, complaints.String())
	case <-time.After(2 * time.Minute):
		p.cmd.Process.Kill()
		return nil, errors.New("soba does not become ready")
	}
}

func start(t *testing.T, args ...string) *process {
	t.Helper()
	return startWith(t, nil, args...)
}

func startWith(t *testing.T, environment []string, args ...string) *process {
	t.Helper()
	p, err := launchWith(environment, args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		select {
		case <-p.done:
		default:
			if err := p.interrupt(); err != nil {
				t.Error(err)
			}
		}
	})
	return p
}

// interrupt is a Ctrl-C; everything must have stopped within 15 seconds.
func (p *process) interrupt() error {
	if err := p.cmd.Process.Signal(syscall.SIGINT); err != nil {
		return err
	}
	select {
	case <-p.done:
		return p.err
	case <-time.After(15 * time.Second):
		p.cmd.Process.Kill()
		return errors.New("soba does not stop within 15 s of Ctrl-C")
	}
}

// kill is the end without warning.
func (p *process) kill() {
	p.cmd.Process.Kill()
	<-p.done
}

type result struct {
	out, err string
	code     int
}

// soba runs a command against the service of a process.
func (p *process) soba(t *testing.T, args ...string) result {
	t.Helper()
	return p.with(t, "", binary, args...)
}

func (p *process) with(t *testing.T, input, program string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, program, args...)
	c.Env = append(os.Environ(), "PATH="+folder+":"+os.Getenv("PATH"), "SOBA_SERVER="+p.address, "SOBA_DATA="+filepath.Join(folder, "unused"))
	c.Dir = scratch()
	c.Stdin = strings.NewReader(input)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", args, err)
	}
	return result{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

var scratch = sync.OnceValue(func() string {
	dir := filepath.Join(folder, "scratch")
	for name, from := range map[string]string{"sources": "../sources", "examples": "../docs/examples"} {
		if err := os.CopyFS(filepath.Join(dir, name), os.DirFS(from)); err != nil {
			panic(err)
		}
	}
	book := excelize.NewFile()
	for i, row := range [][]any{{"Code", "Pieces"}, {"TIDE.XPLR", 12}} {
		if err := book.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			panic(err)
		}
	}
	if err := book.SaveAs(filepath.Join(dir, "positions.xlsx")); err != nil {
		panic(err)
	}
	for name, text := range map[string]string{
		"positions.csv": "symbol,quantity,cost\nTIDE.XPLR,12,17.50\nALGA.XPLR,,\n",
		"ratios.csv":    "Company,Market cap,P/E,P/B,P/S,Dividend yield,Payout ratio,Net margin,Debt/equity\nVE-KELP,1.24B,12.4*,1.1,n/a,3.1%,45%,(2.5)%,0.4\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			panic(err)
		}
	}
	return dir
})

// must runs a command that has to succeed, and reads its JSON into into when that is given.
func (p *process) must(t *testing.T, into any, args ...string) string {
	t.Helper()
	r := p.soba(t, args...)
	if r.code != 0 {
		t.Fatalf("soba %s: exit %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	if into != nil {
		if err := json.NewDecoder(strings.NewReader(r.out)).Decode(into); err != nil && err != io.EOF {
			t.Fatalf("soba %s: %v\n%s", strings.Join(args, " "), err, r.out)
		}
	}
	return r.out
}
