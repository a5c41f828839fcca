// Package service puts the parts together and runs them: the database, the book,
// the refresh engine and the HTTP interface.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"soba.invalid/soba/internal/cluster"
	"soba.invalid/soba/internal/core/freshness"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/httpapi"
	"soba.invalid/soba/internal/refresh"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
)

// Options say what to run.
type Options struct {
	Database  string // address; "" for a private cluster in Data
	Data      string
	Sources   []*source.Description // in order of preference
	Secrets   source.Secrets        // nil for none
	Exchanges market.Exchanges
	Now       func() time.Time
	HTTP      httpapi.Config // listen address, console and protection
}

// Service is a running service.
type Service struct {
	Address string // where it is reached
	Store   *store.Store
	Book    *store.Book
	Engine  *refresh.Engine

	server  *httpapi.Server
	cluster *cluster.Cluster
	cancel  context.CancelFunc
	served  chan error
	closers []func(context.Context) error // in the order in which they were opened
}

// Start brings a service up. What it has started is stopped again when it fails.
func Start(ctx context.Context, o Options) (*Service, error) {
	s := &Service{served: make(chan error, 1)}
	if err := s.start(ctx, o); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func (s *Service) start(ctx context.Context, o Options) error {
	url := o.Database
	if url == "" {
		c, err := cluster.Start(ctx, filepath.Clean(o.Data))
		if err != nil {
			return err
		}
		s.cluster, url = c, c.URL
	}
	var err error
	if s.Store, err = store.Open(ctx, url); err != nil {
		return err
	}
	s.onStop(func(context.Context) error { s.Store.Close(); return nil })
	var sources []*source.Source
	var order []string
	for _, d := range o.Sources {
		secret := source.Secret{}
		if o.Secrets != nil {
			secret = o.Secrets(d.Name)
		}
		connected, err := source.Connect(d, secret, o.Now)
		if err != nil {
			return err
		}
		sources, order = append(sources, connected), append(order, d.Name)
	}
	limits := freshness.Standard
	if s.Book, err = store.NewBook(ctx, s.Store, o.Exchanges, order, o.Now, limits.Tolerance); err != nil {
		return err
	}
	running, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	listening, stop := s.Book.Listen(func(string, int64) bool { return false })
	go s.Book.Follow(running)
	<-listening
	stop()
	if s.Engine, err = refresh.New(s.Store, s.Book, sources, o.Now, limits); err != nil {
		return err
	}
	c := o.HTTP
	c.Store, c.Book, c.Engine, c.Now, c.Limits, c.Version = s.Store, s.Book, s.Engine, o.Now, limits, httpapi.BuildVersion()
	if s.server, err = httpapi.New(ctx, c); err != nil {
		return err
	}
	if s.Address, err = s.server.Open(); err != nil {
		return err
	}
	if err = s.Engine.Start(running); err != nil {
		return err
	}
	s.onStop(s.Engine.Stop)
	s.onStop(s.server.Stop)
	go func() { s.served <- s.server.Serve() }()
	if _, err := s.Engine.AskForDirectory(ctx); err != nil {
		slog.Warn("the directory of listings could not be asked for", "error", err)
	}
	return nil
}

func (s *Service) onStop(f func(context.Context) error) { s.closers = append(s.closers, f) }

// Served receives when the HTTP interface ends by itself.
func (s *Service) Served() <-chan error { return s.served }

// grace is how long a stop may take.
const grace = 10 * time.Second

// Stop ends everything that was started, the last first.
func (s *Service) Stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), grace)
	defer cancel()
	var all []error
	for i := len(s.closers) - 1; i > 0; i-- {
		all = append(all, s.closers[i](ctx))
	}
	if s.cancel != nil {
		s.cancel()
	}
	if len(s.closers) > 0 {
		all = append(all, s.closers[0](ctx)) // the pool closes once nobody listens
	}
	if s.cluster != nil {
		all = append(all, s.cluster.Stop())
	}
	return errors.Join(all...)
}

// Describe is a service's first words.
func (s *Service) Describe() string { return fmt.Sprintf("ready %s", s.Address) }
