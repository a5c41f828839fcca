// Package cluster runs a private PostgreSQL on loopback: it finds the binaries
// of the Debian packages, makes a cluster in a data folder, starts and stops it.
package cluster

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrNoBinaries says that PostgreSQL is not installed.
var ErrNoBinaries = errors.New("PostgreSQL's server programs (initdb, postgres) are not installed; on Debian: apt-get install postgresql")

// installed is where Debian puts the server programs.
var installed = "/usr/lib/postgresql/*/bin"

// Binaries finds the folder with the server programs, the newest version where
// several are installed.
func Binaries() (string, error) {
	folders, _ := filepath.Glob(installed) // the pattern is valid
	slices.SortFunc(folders, func(a, b string) int { return major(b) - major(a) })
	if path, err := exec.LookPath("postgres"); err == nil {
		folders = append(folders, filepath.Dir(path))
	}
	for _, folder := range folders {
		if isProgram(folder, "initdb") && isProgram(folder, "postgres") {
			return folder, nil
		}
	}
	return "", ErrNoBinaries
}

func major(folder string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(folder))) // 0 sorts last
	return n
}

func isProgram(folder, name string) bool {
	info, err := os.Stat(filepath.Join(folder, name))
	return err == nil && !info.IsDir()
}

// Cluster is a running private PostgreSQL.
type Cluster struct {
	URL    string // of its database soba
	folder string
	pid    int
	done   chan struct{} // closed when a process that we started has ended; nil for an adopted one
}

// Start brings up the cluster in a folder, which it makes when there is none.
// A cluster that an earlier run left running is taken over. Settings are
// name=value pairs of PostgreSQL's configuration.
func Start(ctx context.Context, folder string, settings ...string) (*Cluster, error) {
	binaries, err := Binaries()
	if err != nil {
		return nil, err
	}
	folder, err = filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	owner, err := owner()
	if err != nil {
		return nil, err
	}
	if err := CheckFolder(folder); err != nil {
		return nil, err
	}
	c := &Cluster{folder: folder}
	password, err := c.initialise(ctx, binaries, owner)
	if err != nil {
		return nil, err
	}
	port := c.running()
	if port == 0 {
		if port, err = freePort(); err != nil {
			return nil, err
		}
		if err := c.launch(binaries, owner, port, settings); err != nil {
			return nil, err
		}
	}
	c.URL = (&url.URL{Scheme: "postgres", User: url.UserPassword("soba", password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "/soba", RawQuery: "sslmode=disable"}).String()
	if err := c.await(ctx); err != nil {
		return nil, errors.Join(err, c.Stop())
	}
	return c, nil
}

// CheckFolder makes a folder if need be, and says plainly when it cannot be used.
func CheckFolder(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w; choose another with --data", err)
	}
	probe, err := os.CreateTemp(folder, ".probe")
	if err != nil {
		return fmt.Errorf("the data folder is not writable: %w; choose another with --data", err)
	}
	probe.Close()
	return os.Remove(probe.Name())
}

// owner is the account that the server runs as when we are root, which
// PostgreSQL refuses to run as; nil when we are not.
func owner() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no account postgres: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32) // numeric on this system
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func (c *Cluster) data() string { return filepath.Join(c.folder, "postgresql") }

// initialise makes the cluster if there is none, and returns its password.
func (c *Cluster) initialise(ctx context.Context, binaries string, owner *syscall.Credential) (string, error) {
	secret := filepath.Join(c.folder, "postgresql.password")
	if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err == nil {
		password, err := os.ReadFile(secret)
		return strings.TrimSpace(string(password)), err
	}
	// A cluster without PG_VERSION is one whose making was interrupted.
	if err := os.RemoveAll(c.data()); err != nil {
		return "", err
	}
	raw := make([]byte, 16)
	rand.Read(raw) //nolint:errcheck // it never fails
	password := hex.EncodeToString(raw)
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	if err := os.Mkdir(c.data(), 0o700); err != nil {
		return "", err
	}
	if owner != nil {
		for _, path := range []string{secret, c.data()} {
			if err := os.Chown(path, int(owner.Uid), int(owner.Gid)); err != nil {
				return "", err
			}
		}
	}
	init := exec.CommandContext(ctx, filepath.Join(binaries, "initdb"), "-D", c.data(), "-U", "soba", "--pwfile="+secret, "--auth=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	init.SysProcAttr = &syscall.SysProcAttr{Credential: owner}
	init.Dir = c.data()
	if out, err := init.CombinedOutput(); err != nil {
		text := strings.TrimSpace(string(out))
		if strings.Contains(text, "Permission denied") {
			text += "\nthe account postgres must be able to reach the data folder; choose one it can with --data"
		}
		return "", fmt.Errorf("making the PostgreSQL cluster: %w\n%s", err, text)
	}
	return password, nil
}

// running returns the port of a server that is already running on the data, or 0.
// The file postmaster.pid holds the process on its first line, the port on its fourth.
func (c *Cluster) running() int {
	file, err := os.ReadFile(filepath.Join(c.data(), "postmaster.pid"))
	if err != nil {
		return 0
	}
	var lines []string
	for scan := bufio.NewScanner(bytes.NewReader(file)); scan.Scan(); {
		lines = append(lines, strings.TrimSpace(scan.Text()))
	}
	if len(lines) < 4 {
		return 0
	}
	pid, err := strconv.Atoi(lines[0])
	if err != nil || syscall.Kill(pid, 0) != nil || !isPostgres(pid) {
		return 0
	}
	port, _ := strconv.Atoi(lines[3])
	c.pid = pid
	return port
}

// isPostgres guards against a process number that has gone to another program.
func isPostgres(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(line, []byte("postgres"))
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (c *Cluster) launch(binaries string, owner *syscall.Credential, port int, settings []string) error {
	args := []string{"-D", c.data(), "-p", strconv.Itoa(port), "-k", c.data(), "-c", "listen_addresses=127.0.0.1", "-c", "timezone=UTC", "-c", "log_timezone=UTC"}
	for _, s := range settings {
		args = append(args, "-c", s)
	}
	log, err := os.OpenFile(filepath.Join(c.folder, "postgresql.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	server := exec.Command(filepath.Join(binaries, "postgres"), args...)
	server.Stdout, server.Stderr, server.Dir = log, log, c.data()
	// Its own process group: a Ctrl-C meant for us must not stop it before we have.
	server.SysProcAttr = &syscall.SysProcAttr{Credential: owner, Setpgid: true}
	if err := server.Start(); err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	c.pid, c.done = server.Process.Pid, make(chan struct{})
	go func() {
		server.Wait() //nolint:errcheck // await and Stop judge by what answers
		close(c.done)
	}()
	return nil
}

// await waits until the server answers, and makes its database.
func (c *Cluster) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	admin := strings.Replace(c.URL, "/soba?", "/postgres?", 1)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			_, err = conn.Exec(ctx, "create database soba")
			if err != nil && !strings.Contains(err.Error(), "42P04") { // it already exists
				return err
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL does not answer: %w; its log is %s", err, filepath.Join(c.folder, "postgresql.log"))
		case <-c.done:
			return fmt.Errorf("PostgreSQL ended at once:\n%s", tail(filepath.Join(c.folder, "postgresql.log")))
		case <-time.After(30 * time.Millisecond):
		}
	}
}

func tail(path string) string {
	text, _ := os.ReadFile(path) // an empty tail is better than a second error
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

// Stop ends the server: open transactions are rolled back, everything stored stays.
func (c *Cluster) Stop() error {
	if c.pid == 0 {
		return nil
	}
	if err := syscall.Kill(c.pid, syscall.SIGINT); err != nil {
		return nil // it is gone already
	}
	deadline := time.After(20 * time.Second)
	for {
		select {
		case <-c.done:
			return nil
		case <-deadline:
			return fmt.Errorf("PostgreSQL (process %d) did not stop within 20 s", c.pid)
		case <-time.After(20 * time.Millisecond):
			if c.done == nil && syscall.Kill(c.pid, 0) != nil {
				return nil
			}
		}
	}
}
