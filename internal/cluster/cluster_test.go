package cluster

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
)

// reachable is a folder that the account postgres can reach too.
func reachable(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "soba-cluster-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	return folder
}

func TestAClusterKeepsItsDataAndIsTakenOver(t *testing.T) {
	folder := reachable(t)
	first, err := Start(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	query := func(c *Cluster, sql string) (n int) {
		t.Helper()
		conn, err := pgx.Connect(t.Context(), c.URL)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(t.Context())
		if err := conn.QueryRow(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	query(first, "with x as (select 1) select 1 from x")
	conn, err := pgx.Connect(t.Context(), first.URL)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(t.Context(), "create table kept as select 42 as n"); err != nil {
		t.Fatal(err)
	}
	conn.Close(t.Context())
	// As after a crash of the program: the server runs on and is found again.
	second, err := Start(t.Context(), folder)
	if err != nil || second.pid != first.pid || query(second, "select n from kept") != 42 {
		t.Fatalf("not taken over: %v", err)
	}
	if err := second.Stop(); err != nil {
		t.Fatal(err)
	}
	if _, err := pgx.Connect(t.Context(), first.URL); err == nil {
		t.Error("it still answers after Stop")
	}
	third, err := Start(t.Context(), folder)
	if err != nil || query(third, "select n from kept") != 42 {
		t.Fatalf("the data is gone: %v", err)
	}
	defer third.Stop()
	if strings.Contains(third.URL, "@127.0.0.1") == false {
		t.Errorf("not on loopback: %s", third.URL)
	}
	if _, err := pgx.Connect(t.Context(), strings.Replace(third.URL, "soba:", "soba:wrong", 1)); err == nil {
		t.Error("any password opens it")
	}
	if info, err := os.Stat(filepath.Join(folder, "postgresql.password")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the password can be read by others: %v", err)
	}
}

func TestAnInterruptedMakingIsBegunAnew(t *testing.T) {
	folder := reachable(t)
	if err := os.MkdirAll(filepath.Join(folder, "postgresql", "base"), 0o700); err != nil {
		t.Fatal(err)
	}
	c, err := Start(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Stop(); err != nil {
		t.Error(err)
	}
}

func TestWhatIsMissingIsSaidPlainly(t *testing.T) {
	if err := CheckFolder("/proc/soba"); err == nil || !strings.Contains(err.Error(), "--data") {
		t.Errorf("got %v", err)
	}
	old := installed
	installed = filepath.Join(t.TempDir(), "*")
	t.Setenv("PATH", t.TempDir())
	defer func() { installed = old }()
	if _, err := Start(t.Context(), t.TempDir()); !errors.Is(err, ErrNoBinaries) || !strings.Contains(err.Error(), "apt-get install postgresql") {
		t.Errorf("got %v", err)
	}
}
