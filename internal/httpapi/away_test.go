package httpapi_test

import (
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"

	"soba.invalid/soba/internal/service"
)

// bridge leads to the database and can be taken away.
type bridge struct {
	listener net.Listener
	to       string

	mu   sync.Mutex
	up   bool
	open []net.Conn
}

func newBridge(t *testing.T, to string) *bridge {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := &bridge{listener: l, to: to, up: true}
	t.Cleanup(func() { l.Close(); b.set(false) })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			b.mu.Lock()
			if err != nil || !b.up {
				near.Close()
				b.mu.Unlock()
				continue
			}
			b.open = append(b.open, near, far)
			b.mu.Unlock()
			go func() { io.Copy(far, near); far.Close() }()
			go func() { io.Copy(near, far); near.Close() }()
		}
	}()
	return b
}

func (b *bridge) set(up bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.up = up
	if !up {
		for _, c := range b.open {
			c.Close()
		}
		b.open = nil
	}
}

// With the database away, what was read from it is still shown, with a notice;
// changes fail clearly; and when it is back all goes on by itself.
func TestTheDatabaseGoesAwayAndComesBack(t *testing.T) {
	t.Parallel()
	var b *bridge
	s := start(t, func(o *service.Options) {
		u, err := url.Parse(o.Database)
		if err != nil {
			t.Fatal(err)
		}
		b = newBridge(t, u.Host)
		u.Host = b.listener.Addr().String()
		o.Database = u.String()
	})
	if err := s.service.Book.CatchUp(t.Context()); err != nil { // nothing that has been stored is to be read again
		t.Fatal(err)
	}
	before := s.table("columns=quote.last")
	happened, stop := s.service.Book.Listen(func(string, int64) bool { return false })
	defer stop()
	b.set(false)
	<-happened
	tab := s.table("columns=quote.last")
	if !strings.Contains(tab.Notice, "does not answer") || tab.Rows[0].Cells[0].V != before.Rows[0].Cells[0].V {
		t.Errorf("got %q, %+v", tab.Notice, tab.Rows[0])
	}
	r := s.send("POST", "/api/v1/watchlists/income/rows", `{"rows":[{"symbol":"TIDE.XPLR"}]}`)
	if p := r.problem(t); p.Status != 503 || p.Type != "/problems/database-away" {
		t.Errorf("got %s", r.text)
	}
	if r := s.get("/readyz"); r.StatusCode != 503 {
		t.Errorf("readyz: %s", r.Status)
	}
	b.set(true)
	<-happened
	if tab := s.table("columns=quote.last"); tab.Notice != "" {
		t.Errorf("it is back, but %q", tab.Notice)
	}
	if r := s.send("POST", "/api/v1/watchlists/income/rows", `{"rows":[{"symbol":"TIDE.XPLR"}]}`); r.StatusCode != 200 {
		t.Errorf("after it came back: %s %s", r.Status, r.text)
	}
}
