// Package cli is the command line: the client's commands and their printing,
// and those that run the service.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"soba.invalid/soba/internal/httpapi"
	"soba.invalid/soba/internal/settings"
	"soba.invalid/soba/internal/wire"
)

// Exit codes.
const (
	exitFailed     = 1
	exitUsage      = 2
	exitIncomplete = 3
)

// errIncomplete ends a command that --strict makes fail for missing or stale values.
var errIncomplete = errors.New("some values are missing, stale or pending")

// usageError is a command line that cannot be carried out as it stands.
type usageError struct{ error }

func (u usageError) Unwrap() error { return u.error }

// app is what all commands share.
type app struct {
	settings *settings.Values
	client   *client
	out      io.Writer
	err      io.Writer
	in       io.Reader
	width    int  // of the terminal; 0 when the output is none
	colour   bool // on a terminal, unless NO_COLOR asks for none
	console  fs.FS
}

// Main runs the command line and returns the exit code.
func Main(ctx context.Context, root *cobra.Command, args []string) int {
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errIncomplete):
		fmt.Fprintln(root.ErrOrStderr(), "soba:", err)
		return exitIncomplete
	case errors.As(err, &usage), isCobraUsage(err):
		fmt.Fprintln(root.ErrOrStderr(), "soba:", err)
		fmt.Fprintln(root.ErrOrStderr(), "Add --help to see how it is used.")
		return exitUsage
	}
	fmt.Fprintln(root.ErrOrStderr(), "soba:", err)
	return exitFailed
}

// isCobraUsage recognises the library's complaints about a command line, which have no type.
func isCobraUsage(err error) bool {
	for _, sign := range []string{"unknown command", "unknown flag", "unknown shorthand", "accepts ", "requires ", "invalid argument", "flag needs an argument", "required flag"} {
		if strings.HasPrefix(err.Error(), sign) {
			return true
		}
	}
	return false
}

// New makes the root command with all others under it. The files are those of
// the console, which the service serves.
func New(console fs.FS) *cobra.Command {
	a := &app{out: os.Stdout, err: os.Stderr, in: os.Stdin, console: console}
	root := &cobra.Command{
		Use:   "soba",
		Short: "Watchlists that refresh, in tables whose every cell accounts for itself",
		Long: `Soba keeps watchlists of shares, funds, bonds and more, refreshes them with as
few requests as the sources allow, and says of every value whether it is fresh,
stale or missing, and why.`,
		SilenceUsage: true, SilenceErrors: true,
		Version: httpapi.BuildVersion(),
	}
	root.SetVersionTemplate("soba {{.Version}}\n")
	var config string
	root.PersistentFlags().StringVar(&config, "config", "", "settings file; soba.yaml in the current folder when there is one")
	settings.AddFlag(root.PersistentFlags(), "server")
	settings.AddFlag(root.PersistentFlags(), "token")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) (err error) {
		if a.settings, err = settings.Read(cmd.Flags(), config); err != nil {
			return usageError{err}
		}
		a.client = newClient(a.settings.String("server"), a.settings.String("token"))
		a.out, a.err, a.in = cmd.OutOrStdout(), cmd.ErrOrStderr(), cmd.InOrStdin()
		if f, ok := a.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			a.width, _, _ = term.GetSize(int(f.Fd())) // 0 where it has none
			a.colour = os.Getenv("NO_COLOR") == ""
		}
		return nil
	}
	root.AddGroup(&cobra.Group{ID: "daily", Title: "Every day:"}, &cobra.Group{ID: "kept", Title: "What is kept:"}, &cobra.Group{ID: "run", Title: "Running Soba:"})
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("daily", a.lookupCommand(), a.tableCommand(), a.valueCommand(), a.pricesCommand(), a.dividendsCommand(), a.statementsCommand(), a.estimatesCommand(), a.holdersCommand(), a.acrossCommand(), a.scoreCommand(), a.modelCommand(), a.incomeCommand(), a.moversCommand(), a.chartCommand(), a.explainCommand(), a.healthCommand(), a.conflictsCommand(), a.refreshCommand(), a.cancelCommand())
	add("kept", a.watchlistCommand(), a.fieldsCommand(), a.exchangesCommand(), a.sourceCommand(), a.requestsCommand(), a.tokenCommand())
	add("run", a.demoCommand(), a.serveCommand(), a.standinCommand(), a.doctorCommand(), a.openapiCommand(), a.configCommand(), a.versionCommand(root))
	root.SetHelpCommandGroupID("run")
	root.SetCompletionCommandGroupID("run")
	return root
}

func (a *app) versionCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version of the client, and of the service if one answers", Args: cobra.NoArgs,
		Example: "  soba version",
		RunE: func(cmd *cobra.Command, _ []string) error {
			fmt.Fprintf(a.out, "client  %s\n", root.Version)
			status, err := get[wire.Status](cmd.Context(), a.client, "/api/v1/status", nil)
			if err != nil {
				fmt.Fprintf(a.out, "service does not answer at %s\n", a.client.server)
				return nil
			}
			fmt.Fprintf(a.out, "service %s at %s\n", status.Version, a.client.server)
			return nil
		},
	}
}

func (a *app) configCommand() *cobra.Command {
	c := &cobra.Command{Use: "config", Short: "What is set, and where it was set"}
	var p printing
	show := &cobra.Command{
		Use: "show", Short: "List all settings with their values and origins", Args: cobra.NoArgs,
		Long: `Settings come from flags, over environment variables (SOBA_LISTEN for listen),
over the settings file, over defaults. Secrets are shown only as to whether they are set.`,
		Example: "  soba config show\n  SOBA_LISTEN=127.0.0.1:0 soba config show",
		RunE: func(*cobra.Command, []string) error {
			rows := [][]string{}
			for _, s := range a.settings.Show() {
				rows = append(rows, []string{s.Name, s.Value, s.Origin, s.Help})
			}
			return a.print(&p, []string{"setting", "value", "from", "meaning"}, rows, a.settings.Show())
		},
	}
	p.add(show)
	c.AddCommand(show)
	return c
}
