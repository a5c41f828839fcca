// Package clustertest gives tests a real PostgreSQL: one private cluster for a
// test program, and in it a fresh database with the current schema for each test.
package clustertest

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/cluster"
)

var (
	shared  *cluster.Cluster
	migrate func(ctx context.Context, url string) error
	once    sync.Once
	failure error
	number  atomic.Int64
)

// Main runs the tests of a package and stops the cluster after them. The
// template of every database is made by the function given.
func Main(m *testing.M, template func(ctx context.Context, url string) error) {
	migrate = template
	folder, err := os.MkdirTemp("", "soba-test-")
	if err != nil {
		panic(err)
	}
	if err := os.Chmod(folder, 0o755); err != nil {
		panic(err)
	}
	os.Setenv("SOBA_TEST_FOLDER", folder)
	code := m.Run()
	if shared != nil {
		if err := shared.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}
	os.RemoveAll(folder)
	os.Exit(code)
}

func start() {
	ctx := context.Background()
	shared, failure = cluster.Start(ctx, os.Getenv("SOBA_TEST_FOLDER"), "fsync=off", "synchronous_commit=off", "full_page_writes=off", "max_connections=300")
	if failure == nil {
		failure = migrate(ctx, shared.URL)
	}
}

// Database makes a fresh database for a test and returns its address.
func Database(t testing.TB) string {
	t.Helper()
	if once.Do(start); failure != nil {
		t.Fatal(failure)
	}
	name := fmt.Sprintf("test_%d", number.Add(1))
	admin(t, "create database "+name+" template soba")
	t.Cleanup(func() { admin(t, "drop database if exists "+name+" with (force)") })
	return strings.Replace(shared.URL, "/soba?", "/"+name+"?", 1)
}

// mu keeps two tests from copying the template at once, which PostgreSQL refuses.
var mu sync.Mutex

func admin(t testing.TB, sql string) {
	t.Helper()
	mu.Lock()
	defer mu.Unlock()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, strings.Replace(shared.URL, "/soba?", "/postgres?", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, sql); err != nil {
		t.Fatal(err)
	}
}
