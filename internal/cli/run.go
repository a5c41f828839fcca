package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/cluster"
	"soba.invalid/soba/internal/httpapi"
	"soba.invalid/soba/internal/service"
	"soba.invalid/soba/internal/settings"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/standin"
	"soba.invalid/soba/internal/wire"
	"soba.invalid/soba/sources"
)

// clockFrom is the clock of a run: the real one, or one that starts at an instant and runs on.
func clockFrom(start string) (func() time.Time, error) {
	if start == "" {
		return time.Now, nil
	}
	at, err := time.Parse(time.RFC3339, start)
	if err != nil {
		return nil, usageError{fmt.Errorf("--clock %q is not an instant: write it as 2026-03-06T16:20:00Z", start)}
	}
	began := time.Now()
	return func() time.Time { return at.Add(time.Since(began)) }, nil
}

// untilStopped is a context that ends with Ctrl-C or a request to terminate.
func untilStopped(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
}

// options are the settings of a service that runs by a clock.
func (a *app) options(clock string) (service.Options, error) {
	now, err := clockFrom(clock)
	if err != nil {
		return service.Options{}, err
	}
	exchanges, err := source.ReadExchanges(sources.Files)
	if err != nil {
		return service.Options{}, err
	}
	o := service.Options{
		Database: a.settings.String("database"), Data: a.settings.String("data"), Exchanges: exchanges, Now: now,
	}
	o.HTTP.Console = a.console
	o.HTTP.Listen, o.HTTP.BehindProxy = a.settings.String("listen"), a.settings.Bool("behind-proxy")
	o.HTTP.TLSCert, o.HTTP.TLSKey = a.settings.String("tls-cert"), a.settings.String("tls-key")
	if host := a.settings.String("host"); host != "" {
		o.HTTP.Hosts = strings.Split(host, ",")
	}
	return o, nil
}

// connect adds the sources of the user's own folder to what is run.
func (a *app) connect(o *service.Options) error {
	folder, secrets := a.settings.String("sources"), a.settings.String("secrets")
	named := folder != ""
	if !named {
		folder = filepath.Join(o.Data, "sources")
	}
	if secrets == "" {
		secrets = filepath.Join(o.Data, "secrets.yaml")
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		if named {
			return usageError{fmt.Errorf("--sources %s is not a folder", folder)}
		}
		return nil
	}
	var err error
	if o.Sources, err = source.ReadAll(os.DirFS(folder)); err != nil {
		return fmt.Errorf("the descriptions in %s are wrong:\n%w", folder, err)
	}
	own, err := source.ReadExchanges(os.DirFS(folder))
	if err != nil {
		return fmt.Errorf("in %s: %w", folder, err)
	}
	maps.Copy(o.Exchanges, own)
	o.Secrets, err = source.ReadSecrets(secrets, os.Getenv)
	return err
}

func runFlags(c *cobra.Command, clock *string) {
	for _, name := range []string{"listen", "data", "database", "tls-cert", "tls-key", "behind-proxy", "host"} {
		settings.AddFlag(c.Flags(), name)
	}
	c.Flags().StringVar(clock, "clock", "", "start the clock at an instant, as 2026-03-06T16:20:00Z; it runs on from there")
}

func (a *app) serveCommand() *cobra.Command {
	var clock string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Runs the service on a PostgreSQL database, or with none named on a private
cluster in the data folder. It listens on loopback unless told otherwise, and
beyond loopback only with TLS or behind a proxy, and with a token existing.`,
		Example: "  soba serve --data ./data\n  soba serve --database postgres://soba@127.0.0.1/soba --sources ./sources",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.options(clock)
			if err != nil {
				return err
			}
			if err := a.connect(&o); err != nil {
				return err
			}
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			return a.run(ctx, o, nil)
		},
	}
	runFlags(c, &clock)
	settings.AddFlag(c.Flags(), "sources")
	settings.AddFlag(c.Flags(), "secrets")
	return c
}

// run starts a service, does something with it first, and keeps it until ctx ends.
func (a *app) run(ctx context.Context, o service.Options, first func(*service.Service) error) (err error) {
	s, err := service.Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Stop()) }()
	if first != nil {
		if err := first(s); err != nil {
			if ctx.Err() != nil {
				return nil // stopped by the user before it was ready
			}
			return err
		}
	}
	fmt.Fprintln(a.out, s.Describe())
	select {
	case <-ctx.Done():
		fmt.Fprintln(a.err, "stopping")
		return nil
	case err := <-s.Served():
		return err
	}
}

func (a *app) demoCommand() *cobra.Command {
	var clock string
	var seed uint64
	var listings int
	c := &cobra.Command{
		Use: "demo", Short: "Run everything with a made-up market: database, vendors and service", Args: cobra.NoArgs,
		Long: `Runs the service together with a private database and stand-in vendors that
report on a made-up market. It makes three watchlists, refreshes them, prints
'ready' with its address and stays until Ctrl-C, which stops all it started.
A second start finds its data again.`,
		Example: "  soba demo\n  soba demo --data /tmp/demo --listen 127.0.0.1:0 --clock 2026-03-06T16:20:00Z",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.options(clock)
			if err != nil {
				return err
			}
			if a.settings.Origin("data") == "default" {
				o.Data = filepath.Join(o.Data, "demo")
			}
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			vendors, err := service.StartStandIns(o.Exchanges, "127.0.0.1:0", seed, listings, 0, o.Now)
			if err != nil {
				return err
			}
			defer vendors.Stop() //nolint:errcheck // they end with the process
			if o.Sources, err = service.ShippedSources("gannet", "whimbrel", "fulmar", "dunlin", "whimbrel-pages"); err != nil {
				return err
			}
			o.Secrets = vendors.Secrets
			fmt.Fprintf(a.out, "data folder %s\n", o.Data)
			for _, d := range o.Sources {
				fmt.Fprintf(a.out, "stand-in %-10s %s\n", d.Name, vendors.Addresses[d.Name])
			}
			return a.run(ctx, o, func(s *service.Service) error { return s.Seed(ctx, a.out, o.Now) })
		},
	}
	runFlags(c, &clock)
	c.Flags().Uint64Var(&seed, "seed", 1, "of the made-up market; another gives other prices")
	c.Flags().IntVar(&listings, "listings", 500, "how many listings the market has")
	return c
}

func (a *app) standinCommand() *cobra.Command {
	var fault standin.Fault
	var unlimited bool
	var clock, listen string
	var seed uint64
	var listings int
	var latency time.Duration
	c := &cobra.Command{
		Use: "standin", Short: "Run the stand-in vendors alone", Args: cobra.NoArgs,
		Long: `Runs the vendors of the made-up market: gannet on the address given, whimbrel,
fulmar and dunlin one, two and three ports after it, where their shipped descriptions
expect them. Faults are ordered at /admin/faults of each; the exact numbers behind a
listing are at /admin/truth.`,
		Example: "  soba standin --listen 127.0.0.1:9100 --latency 300ms\n  soba standin --fault 500 --fault-probability 0.1",
		RunE: func(cmd *cobra.Command, _ []string) error {
			now, err := clockFrom(clock)
			if err != nil {
				return err
			}
			exchanges, err := source.ReadExchanges(sources.Files)
			if err != nil {
				return err
			}
			if host, _, err := net.SplitHostPort(listen); err != nil || host != "localhost" && !net.ParseIP(host).IsLoopback() {
				return usageError{fmt.Errorf("the stand-ins listen on loopback only, not on %q", listen)}
			}
			ctx, stop := untilStopped(cmd.Context())
			defer stop()
			vendors, err := service.StartStandIns(exchanges, listen, seed, listings, latency, now)
			if err != nil {
				return err
			}
			for _, v := range vendors.Vendors {
				if unlimited {
					v.Unlimited()
				}
				if fault.Kind != "" {
					if err := v.Order(fault); err != nil {
						return errors.Join(usageError{err}, vendors.Stop())
					}
				}
				fmt.Fprintf(a.out, "stand-in %-10s %s\n", v.Name, vendors.Addresses[v.Name])
			}
			fmt.Fprintf(a.out, "ready %s (keys: gannet %s, whimbrel %s)\n", vendors.Addresses["gannet"], standin.GannetKey, standin.WhimbrelKey)
			<-ctx.Done()
			return vendors.Stop()
		},
	}
	c.Flags().BoolVar(&unlimited, "unlimited", false, "lift the vendors' limits on rate, concurrency and units")
	c.Flags().StringVar(&fault.Kind, "fault", "", "make this go wrong from the start, as 500 or truncated")
	c.Flags().Float64Var(&fault.Probability, "fault-probability", 0, "of striking a request; always when left out")
	c.Flags().IntVar(&fault.Count, "fault-count", 0, "how many times it strikes; for ever when left out")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:9100", "address on loopback; port 0 picks a free one")
	c.Flags().StringVar(&clock, "clock", "", "start the clock at an instant; it runs on from there")
	c.Flags().Uint64Var(&seed, "seed", 1, "of the made-up market")
	c.Flags().IntVar(&listings, "listings", 500, "how many listings the market has")
	c.Flags().DurationVar(&latency, "latency", 0, "added to every answer")
	return c
}

func (a *app) openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI description of the HTTP interface", Args: cobra.NoArgs, Example: "  soba openapi",
		RunE: func(*cobra.Command, []string) error {
			text, err := httpapi.Description()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "%s\n", text)
			return err
		},
	}
}

func (a *app) doctorCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "doctor", Short: "Check what Soba needs, and say what to do where it lacks", Args: cobra.NoArgs,
		Example: "  soba doctor\n  soba doctor --data ./data",
		RunE: func(cmd *cobra.Command, _ []string) error {
			failed := 0
			check := func(what string, found string, err error) {
				mark := "ok  "
				if err != nil {
					mark, found = "FAIL", err.Error()
					failed++
				}
				fmt.Fprintf(a.out, "%s  %-22s %s\n", mark, what, strings.ReplaceAll(found, "\n", "\n                              "))
			}
			if a.settings.String("database") == "" {
				folder, err := cluster.Binaries()
				check("PostgreSQL binaries", folder, err)
				data := a.settings.String("data")
				check("data folder", data+" is writable", cluster.CheckFolder(data))
			}
			status, err := get[wire.Status](cmd.Context(), a.client, "/api/v1/status", nil)
			var away *errUnreachable
			if errors.As(err, &away) {
				check("service", "", err)
				listen := a.settings.String("listen")
				l, err := net.Listen("tcp", listen)
				if err != nil {
					err = fmt.Errorf("%s is taken by a program that is not Soba: stop it, or choose another with --listen", listen)
				} else {
					l.Close()
				}
				check("address to listen on", listen+" is free", err)
			} else {
				check("service", fmt.Sprintf("%s at %s, its clock at %s", status.Version, a.client.server, status.Now.Format("2006-01-02 15:04:05Z")), err)
			}
			if err == nil {
				if status.Database != "ready" {
					err = errors.New("does not answer; values are those last read from it. Start PostgreSQL again; the service reconnects by itself")
				}
				check("database", "answers", err)
				a.checkSources(cmd.Context(), check)
			}
			if failed > 0 {
				return fmt.Errorf("%d checks failed", failed)
			}
			return nil
		},
	}
	for _, name := range []string{"data", "database", "listen"} {
		settings.AddFlag(c.Flags(), name)
	}
	return c
}

func (a *app) checkSources(ctx context.Context, check func(string, string, error)) {
	all, err := get[wire.Sources](ctx, a.client, "/api/v1/sources", url.Values{})
	if err != nil || len(all.Sources) == 0 {
		if err == nil {
			err = errors.New("none is connected: put descriptions into a folder and start the service with --sources")
		}
		check("sources", "", err)
		return
	}
	for _, s := range all.Sources {
		var bad error
		switch {
		case !s.HasKey:
			bad = fmt.Errorf("has no key: set %s", s.KeySetting)
		case s.Fault != "":
			bad = fmt.Errorf("%s (last success %s)", s.Fault, stamp(s.LastSuccess))
		}
		check("source "+s.Name, fmt.Sprintf("%s, %.0f ms", allowance(&s), s.LatencyMs), bad)
	}
}

func init() {
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelInfo})))
}
