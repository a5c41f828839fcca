// Package httpapi is the HTTP interface: typed handlers described by OpenAPI,
// events, and the files of the console.
package httpapi

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/refresh"
	"soba.invalid/soba/internal/store"
)

// Bounds on what a caller may make the service do.
const (
	bodyLimit   = 1 << 20
	handlerTime = 30 * time.Second
	readTime    = 15 * time.Second
)

// Config is what the server is made of and how it may be reached.
type Config struct {
	Store   *store.Store
	Book    *store.Book
	Engine  *refresh.Engine
	Now     func() time.Time
	Limits  freshness.Limits
	Version string
	Console fs.FS
	Listen  string
	// BehindProxy says that a proxy in front ends TLS, so that an address other
	// than loopback may be listened on without.
	BehindProxy bool
	TLSCert     string
	TLSKey      string
	Hosts       []string // names besides loopback's under which the service is reached
}

// Server is the running interface.
type Server struct {
	Config
	app       *fiber.App
	api       huma.API
	open      bool // on loopback alone: no token is needed
	tables    *tableCache
	programs  sync.Map // of accounts, by what is asked for
	listener  net.Listener
	address   string // that it listens on
	stopping  chan struct{}
	isStopped atomic.Bool
}

// ErrUnsafe says that the service would be open to a network without protection.
var ErrUnsafe = errors.New("refusing to listen beyond loopback without TLS: give --tls-cert and --tls-key, or --behind-proxy when a proxy in front ends TLS")

// New makes a server. It checks that the address is safe to listen on.
func New(ctx context.Context, c Config) (*Server, error) {
	s := &Server{Config: c, open: isLoopback(c.Listen), tables: newTableCache(), stopping: make(chan struct{})}
	if !s.open {
		if !c.BehindProxy && (c.TLSCert == "" || c.TLSKey == "") {
			return nil, ErrUnsafe
		}
		if n, err := c.Store.Tokens(ctx); err != nil {
			return nil, err
		} else if n == 0 {
			return nil, errors.New("refusing to listen beyond loopback while no token exists: make one with 'soba token new' against a service on loopback first")
		}
	}
	if c.BehindProxy {
		s.open = false
	}
	s.app = fiber.New(fiber.Config{
		AppName: "soba", ServerHeader: "", BodyLimit: bodyLimit, Immutable: true, ReadTimeout: readTime, IdleTimeout: 2 * time.Minute,
		ErrorHandler: fiberError, StreamRequestBody: false, ReadBufferSize: 32 << 10,
	})
	s.app.Use(s.guard)
	config := huma.DefaultConfig("Soba", c.Version)
	config.Info.Description = "Watchlists of listings as tables whose every cell accounts for itself."
	config.DocsPath, config.SchemasPath, config.CreateHooks = "", "", nil
	config.RejectUnknownQueryParameters = true
	s.api = huma.NewAPI(config, fiberAdapter{s.app})
	s.api.UseMiddleware(s.admit)
	s.addListings()
	s.addExchanges()
	s.addStatements()
	s.addHolders()
	s.addEstimates()
	s.addModel()
	s.addSources()
	s.addSchedules()
	s.addImports()
	s.addWatchlists()
	s.addTables()
	s.addAcross()
	s.addPrices()
	s.addIncome()
	s.addRefreshes()
	s.addEvents()
	s.addAccess()
	s.addMetrics()
	s.addConsole()
	return s, nil
}

func isLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// Open begins to listen and returns the address; a port of 0 picks a free one.
func (s *Server) Open() (string, error) {
	l, err := net.Listen("tcp", s.Listen)
	if err != nil {
		if strings.Contains(err.Error(), "address already in use") {
			return "", fmt.Errorf("%s is taken by another program: stop it, or choose another address with --listen (port 0 picks a free one)", s.Listen)
		}
		return "", fmt.Errorf("cannot listen on %s: %w", s.Listen, err)
	}
	scheme := "http"
	if s.TLSCert != "" {
		cert, err := tls.LoadX509KeyPair(s.TLSCert, s.TLSKey)
		if err != nil {
			return "", errors.Join(fmt.Errorf("TLS: %w", err), l.Close())
		}
		l, scheme = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}), "https"
	}
	s.listener, s.address = l, l.Addr().String()
	return scheme + "://" + l.Addr().String(), nil
}

// Serve answers until [Server.Stop].
func (s *Server) Serve() error {
	return s.app.Listener(s.listener, fiber.ListenConfig{DisableStartupMessage: true})
}

// Stop ends open event streams and waits for the requests that are being answered.
func (s *Server) Stop(ctx context.Context) error {
	if s.isStopped.CompareAndSwap(false, true) {
		close(s.stopping)
	}
	return s.app.ShutdownWithContext(ctx)
}

// Description is the OpenAPI 3.1 description of the interface, as JSON. It needs
// no running service.
func Description() ([]byte, error) {
	s, err := New(context.Background(), Config{Listen: "127.0.0.1:0", Version: "1"})
	if err != nil {
		return nil, err
	}
	return s.api.OpenAPI().MarshalJSON()
}

// scope says who may use an operation. One without a scope is denied to all.
func scope(need string) map[string]any { return map[string]any{"scope": need} }

// operation describes an endpoint; reading needs the scope read, all else write.
func operation(method, path, id, summary, tag string) huma.Operation {
	need := "write"
	if method == http.MethodGet {
		need = "read"
	}
	return huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary, Tags: []string{tag}, Metadata: scope(need), MaxBodyBytes: bodyLimit}
}

func (s *Server) addMetrics() {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "soba_listings", Help: "Listings in the directory."}, func() float64 { return float64(len(s.Book.Directory().Ordered)) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "soba_data_version", Help: "Changes to what tables read since the service started."}, func() float64 { return float64(s.Book.Version()) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "soba_tables_evaluated_total", Help: "Tables computed, not answered from memory."}, func() float64 { return float64(s.tables.evaluated.Load()) }),
	)
	metrics := adaptor.HTTPHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	s.app.Get("/metrics", func(c fiber.Ctx) error {
		if p := s.permitted(c.Context(), c.Get("Authorization"), "read"); p != nil {
			return p
		}
		return metrics(c)
	})
	s.app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	s.app.Get("/readyz", func(c fiber.Ctx) error {
		ctx, cancel := context.WithTimeout(c.Context(), 2*time.Second)
		defer cancel()
		if err := s.Store.Pool.Ping(ctx); err != nil {
			return c.Status(http.StatusServiceUnavailable).SendString("database away\n")
		}
		return c.SendString("ready\n")
	})
}

// BuildVersion is the version that the Go tool stamped into the program.
func BuildVersion() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" {
		return info.Main.Version
	}
	return "(devel)"
}
