package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/wire"
)

func (a *app) refreshCommand() *cobra.Command {
	var p printing
	var ask wire.RefreshAsk
	var wait, strict bool
	c := &cobra.Command{
		Use: "refresh NAME...", Short: "Fetch what is due for a watchlist, an index or single names", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Fetches what is due for a watchlist, for the members of an index, or for names, in
as few requests as the sources allow. What is fresh is not asked for again. While it
runs, what is there stays readable; Ctrl-C leaves it running, and 'soba cancel'
stops it.`,
		Example: "  soba refresh income\n  soba refresh CV50.XCVH\n  soba refresh KELP.XCVH EUR/USD --only quotes\n  soba refresh everything --only quotes --dry-run\n  soba refresh income --only bars --from -20y\n  soba refresh KELP.XCVH --only statements --compare\n  soba refresh income --force --wait=false",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			r, err := a.askRefresh(cmd.Context(), args, ask)
			if err != nil {
				return err
			}
			if ask.DryRun {
				return a.printPlan(&p, r.Dry)
			}
			if !wait {
				fmt.Fprintf(a.out, "refresh %d of %s is queued; 'soba requests --refresh %d' shows what it sent\n", r.ID, of(args), r.ID)
				return nil
			}
			return a.watch(cmd, &p, r.ID, of(args), strict)
		},
	}
	p.add(c)
	c.Flags().StringSliceVar(&ask.Only, "only", nil, "datasets, as quotes,bars; all that fields read when left out")
	c.Flags().StringSliceVar(&ask.Columns, "columns", nil, "bring what these fields need first")
	c.Flags().StringVar(&ask.From, "from", "", "how far back histories are wanted, as -20y or 2006-01-02")
	c.Flags().StringVar(&ask.In, "in", "", "bring the rates into a currency too, as CHF")
	c.Flags().BoolVar(&ask.Force, "force", false, "ask again even for what is fresh")
	c.Flags().BoolVar(&ask.Compare, "compare", false, "ask the other sources too, and flag where they disagree")
	c.Flags().BoolVar(&ask.DryRun, "dry-run", false, "show the plan and send nothing")
	c.Flags().BoolVar(&wait, "wait", true, "wait for the end and show progress")
	c.Flags().BoolVar(&strict, "strict", false, "exit with 3 when a request failed or a need was refused")
	c.RegisterFlagCompletionFunc("only", cobra.FixedCompletions(datasetNames(), cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

// askRefresh asks for a refresh of one list, or else of names.
func (a *app) askRefresh(ctx context.Context, args []string, ask wire.RefreshAsk) (wire.Refresh, error) {
	if len(args) == 1 && args[0] != "-" && !strings.Contains(args[0], "/") {
		return call[wire.Refresh](ctx, a.client, http.MethodPost, listPath(args[0], "/refreshes"), nil, ask)
	}
	symbols, err := a.named(ctx, args)
	if err != nil {
		return wire.Refresh{}, err
	}
	return a.askRefreshOf(ctx, symbols, ask)
}

func (a *app) askRefreshOf(ctx context.Context, symbols []string, ask wire.RefreshAsk) (wire.Refresh, error) {
	return call[wire.Refresh](ctx, a.client, http.MethodPost, "/api/v1/refreshes", nil, struct {
		wire.RefreshAsk
		Symbols []string `json:"symbols"`
	}{ask, symbols})
}

// of names what is refreshed.
func of(args []string) string {
	if len(args) > few {
		return plural(len(args), "name")
	}
	return strings.Join(args, " ")
}

// watch follows a refresh to its end and says how it went.
func (a *app) watch(cmd *cobra.Command, p *printing, id int64, of string, strict bool) error {
	quiet := p.format != "table"
	r, err := a.follow(cmd.Context(), id, quiet)
	switch {
	case err != nil:
		return err
	case quiet:
		err = a.print(p, []string{"refresh", "state", "answered", "failed", "units"}, [][]string{{strconv.FormatInt(r.ID, 10), r.State, strconv.Itoa(r.Answered), strconv.Itoa(r.Failed), strconv.Itoa(r.Units)}}, r)
	default:
		fmt.Fprintf(a.out, "refresh %d of %s %s: %d answered, %d failed, %d units; %d needs were not due\n", r.ID, of, r.State, r.Answered, r.Failed, r.Units, r.Skipped)
	}
	switch {
	case err != nil:
		return err
	case r.State == "failed":
		return errors.New(r.Fault)
	case strict && (r.Failed > 0 || r.Refused > 0):
		return errIncomplete
	}
	return nil
}

// follow follows a refresh to its end: a bar on a terminal, lines otherwise.
func (a *app) follow(ctx context.Context, id int64, quiet bool) (r wire.Refresh, err error) {
	var bar *progressbar.ProgressBar
	err = a.client.follow(ctx, id, func(e wire.Event) {
		var d struct {
			Requests, Skipped, Refused, Units, Symbols int
			Seconds                                    float64
			Shared                                     int
			Datasets                                   []string
			Source, Call, Fault, Advice, Remark        string
		}
		if json.Unmarshal(e.Data, &d) != nil || quiet {
			return
		}
		switch e.Kind {
		case "planned":
			fmt.Fprintf(a.err, "%s, %d units, about %.1f s; needs not due %d, refused %d%s\n", plural(d.Requests, "request"), d.Units, d.Seconds, d.Skipped, d.Refused, sharing(d.Shared))
			if a.width > 0 && d.Requests > 0 {
				bar = progressbar.NewOptions(d.Requests, progressbar.OptionSetWriter(a.err), progressbar.OptionShowCount(), progressbar.OptionSetWidth(min(40, a.width/2)), progressbar.OptionClearOnFinish())
			}
		case "answered", "failed":
			if bar != nil {
				bar.Add(1) //nolint:errcheck // a bar that cannot be drawn is no failure
			}
			if e.Kind == "failed" {
				fmt.Fprintf(a.err, "failed: %s %s of %s: %s\n%s\n", d.Source, d.Call, plural(d.Symbols, "name"), d.Fault, d.Advice)
			} else if bar == nil {
				fmt.Fprintf(a.err, "answered: %s %s of %s, %d units\n", d.Source, d.Call, plural(d.Symbols, "name"), d.Units)
			}
			if d.Remark != "" {
				fmt.Fprintf(a.err, "remark on %s %s: %s\n", d.Source, d.Call, d.Remark)
			}
		case "retrying":
			fmt.Fprintf(a.err, "trying again: %s %s of %s: %s\n", d.Source, d.Call, plural(d.Symbols, "name"), d.Fault)
		}
	})
	if err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("no longer watching; the refresh goes on, and 'soba cancel %d' stops it", id)
		}
		return r, err
	}
	return get[wire.Refresh](ctx, a.client, fmt.Sprintf("/api/v1/refreshes/%d", id), nil)
}

func (a *app) printPlan(p *printing, plan *wire.Plan) error {
	rows := [][]string{}
	for i, q := range plan.Requests {
		span := ""
		if q.From != "" {
			span = q.From + " to " + q.To
		}
		names := strconv.Itoa(q.Symbols)
		if q.Exchange != "" {
			names += " on " + q.Exchange
		}
		rows = append(rows, []string{strconv.Itoa(i + 1), q.Source, q.Call, strings.Join(q.Datasets, " "), names, span, strconv.Itoa(q.Units)})
	}
	if err := a.print(p, []string{"request", "source", "call", "brings", "names", "range", "units"}, rows, plan); err != nil || p.format != "table" {
		return err
	}
	fmt.Fprintf(a.out, "\n%s, about %.1f s\n", plural(len(plan.Requests), "request"), plan.Seconds)
	var sources []string
	for source := range plan.Left {
		sources = append(sources, source)
	}
	slices.Sort(sources)
	for _, source := range sources {
		if plan.Units[source] == 0 {
			continue
		}
		fmt.Fprintf(a.out, "%s: %d units, %d left today before it\n", source, plan.Units[source], plan.Left[source])
	}
	for _, part := range []struct {
		name string
		gaps []wire.PlannedGap
	}{{"not due", plan.Skipped}, {"refused", plan.Refused}} {
		var fresh []string
		for _, g := range part.gaps {
			if g.Reason == "fresh" {
				fresh = append(fresh, fmt.Sprintf("%s of %s", strings.Join(g.Datasets, " "), plural(g.Count, "name")))
			}
		}
		if len(fresh) > 0 {
			fmt.Fprintf(a.out, "fresh: %s\n", strings.Join(fresh, ", "))
		}
		for _, g := range part.gaps {
			if g.Reason == "fresh" {
				continue
			}
			fmt.Fprintf(a.out, "%s: %s of %s: %s (%s%s)\n", part.name, strings.Join(g.Datasets, " "), plural(g.Count, "name"), g.Reason, strings.Join(g.Symbols, " "), more(g.Count-len(g.Symbols)))
		}
	}
	return nil
}

func sharing(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d are brought by another refresh", n)
}

func datasetNames() []string {
	var names []string
	for _, info := range catalogue.Infos {
		if info.Shape != catalogue.Directory {
			names = append(names, string(info.Name))
		}
	}
	return names
}

func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

func (a *app) cancelCommand() *cobra.Command {
	return &cobra.Command{
		Use: "cancel REFRESH", Short: "Stop a refresh; what it brought stays", Args: cobra.ExactArgs(1), Example: "  soba cancel 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return usageError{fmt.Errorf("%q is not the number of a refresh", args[0])}
			}
			r, err := call[wire.Refresh](cmd.Context(), a.client, http.MethodPost, fmt.Sprintf("/api/v1/refreshes/%d/cancel", id), nil, nil)
			if err != nil {
				return err
			}
			if r.Over() {
				fmt.Fprintf(a.out, "refresh %d was over already: %s\n", r.ID, r.State)
				return nil
			}
			fmt.Fprintf(a.out, "refresh %d is being stopped; %d of %d requests were answered\n", r.ID, r.Answered, r.Planned)
			return nil
		},
	}
}
