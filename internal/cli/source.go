package cli

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/httpapi"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/wire"
)

func (a *app) sourceCommand() *cobra.Command {
	c := &cobra.Command{Use: "source", Short: "See, check and prefer the sources that data comes from"}
	c.AddCommand(a.sourceList(), a.sourceShow(), a.sourceCheck(), a.sourceTry(), a.sourceQuota(), a.sourceSwitch("enable", true), a.sourceSwitch("disable", false), a.sourcePrefer(), a.sourceSchema())
	return c
}

func sourcePath(name, rest string) string { return "/api/v1/sources/" + url.PathEscape(name) + rest }

// stateOf is how a source is doing, in a few words.
func stateOf(s *wire.Source) string {
	switch {
	case !s.Enabled:
		return "switched off"
	case !s.HasKey:
		return "no key: set " + s.KeySetting
	case s.Broken:
		return "left alone after failures: " + s.Fault
	case s.Fault != "":
		return s.Fault
	case s.LastSuccess == nil:
		return "not asked yet"
	case s.Remark != "":
		return "works, but " + s.Remark
	}
	return "works"
}

func allowance(s *wire.Source) string {
	if s.UnitsPerDay == 0 {
		return "no limit"
	}
	return fmt.Sprintf("%d of %d units left", s.Left, s.UnitsPerDay)
}

func (a *app) sourceList() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "list", Short: "List the sources: what they serve, allowance, latency, last success and fault", Args: cobra.NoArgs, Example: "  soba source list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := get[wire.Sources](cmd.Context(), a.client, "/api/v1/sources", nil)
			if err != nil {
				return err
			}
			if len(all.Sources) == 0 && p.format == "table" {
				fmt.Fprintln(a.out, "No source is connected. Put descriptions into a folder and start the service with --sources; docs/sources.md shows how to write one.")
				return nil
			}
			rows := [][]string{}
			for i := range all.Sources {
				s := &all.Sources[i]
				rows = append(rows, []string{s.Name, shorten(stateOf(s), 60), allowance(s), strconv.Itoa(s.Requests), fmt.Sprintf("%.0f ms", s.LatencyMs), stamp(s.LastSuccess), strings.Join(s.Datasets, " ")})
			}
			return a.print(&p, []string{"source", "state", "today", "requests", "latency", "last success", "serves"}, rows, all)
		},
	}
	p.add(c)
	return c
}

func (a *app) sourceShow() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "show SOURCE", Short: "Show a source: how it is reached, its limits and its calls", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources, Example: "  soba source show gannet",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := get[wire.Source](cmd.Context(), a.client, sourcePath(args[0], ""), nil)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, c := range s.Calls {
				rows = append(rows, []string{c.Name, strings.Join(c.Datasets, " "), c.Takes, strconv.Itoa(c.Batch), fmt.Sprintf("%d + %d a symbol", c.PerRequest, c.PerSymbol), c.Format, c.Path})
			}
			if p.format == "table" {
				line := func(name, text string) {
					if text != "" {
						fmt.Fprintf(a.out, "%-12s %s\n", name, text)
					}
				}
				line("source", s.Name+": "+s.Title)
				line("state", stateOf(&s))
				line("to do", s.Advice)
				line("address", s.Address)
				line("licence", s.Licence)
				if s.DelayMin > 0 {
					line("delay", fmt.Sprintf("quotes are held back by %.0f minutes", s.DelayMin))
				}
				line("limits", fmt.Sprintf("%v requests a second, %d at once", s.PerSecond, s.AtOnce))
				line("allowance", allowance(&s))
				line("latency", fmt.Sprintf("%.0f ms, 95 of 100 within %.0f ms", s.LatencyMs, s.SlowMs))
				line("last success", stamp(s.LastSuccess))
				line("last fault", stamp(s.LastFault))
				fmt.Fprintln(a.out)
			}
			return a.print(&p, []string{"call", "brings", "takes", "batch", "units", "format", "path"}, rows, s)
		},
	}
	p.add(c)
	return c
}

func (a *app) sourceQuota() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "quota", Short: "Show what is left of each source's allowance", Args: cobra.NoArgs, Example: "  soba source quota",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := get[wire.Sources](cmd.Context(), a.client, "/api/v1/sources", nil)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, s := range all.Sources {
				limit, left, resets := "none", "", ""
				if s.UnitsPerDay > 0 {
					limit, left, resets = strconv.Itoa(s.UnitsPerDay), strconv.Itoa(s.Left), stamp(&s.Resets)
				}
				rows = append(rows, []string{s.Name, limit, strconv.Itoa(s.Spent), left, resets, strconv.Itoa(s.Requests), strconv.Itoa(s.Failures)})
			}
			return a.print(&p, []string{"source", "units a day", "spent", "left", "starts anew", "requests today", "of these failed"}, rows, all)
		},
	}
	p.add(c)
	return c
}

func (a *app) sourceSwitch(verb string, enabled bool) *cobra.Command {
	short := "Ask a source again that was switched off"
	if !enabled {
		short = "Stop asking a source; what it gave stays readable"
	}
	return &cobra.Command{
		Use: verb + " SOURCE", Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources, Example: "  soba source " + verb + " dunlin",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := call[wire.Source](cmd.Context(), a.client, http.MethodPatch, sourcePath(args[0], ""), nil, map[string]bool{"enabled": enabled})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is %sd\n", s.Name, verb)
			return nil
		},
	}
}

func (a *app) sourcePrefer() *cobra.Command {
	var p printing
	var compare bool
	c := &cobra.Command{
		Use: "prefer [DATASET [SOURCE...]]", Short: "Prefer sources for a dataset, in order; alone it shows the order of all",
		Long: `Sets which source is asked first for a dataset. The next one is asked for names
that the first lacks, and when it is down. With --compare the others are asked as
well, and cells on which they disagree carry the flag conflict. Naming a dataset
without sources goes back to the order of the descriptions.`,
		Example: "  soba source prefer\n  soba source prefer quotes gannet\n  soba source prefer quotes",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, toComplete string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return datasetNames(), cobra.ShellCompDirectiveNoFileComp
			}
			return a.completeSources(cmd, nil, toComplete)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				out, err := call[wire.Preference](cmd.Context(), a.client, http.MethodPut, "/api/v1/preferences/"+url.PathEscape(args[0]), nil, map[string]any{"sources": args[1:], "compare": compare})
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s: %s\n", out.Dataset, strings.Join(out.Sources, ", then "))
				return nil
			}
			all, err := get[wire.Sources](cmd.Context(), a.client, "/api/v1/sources", nil)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, x := range all.Preferences {
				how := "order of the descriptions"
				if x.Set {
					how = "set"
				}
				if x.Compare {
					how += ", compared"
				}
				rows = append(rows, []string{x.Dataset, strings.Join(x.Sources, ", then "), how})
			}
			return a.print(&p, []string{"dataset", "sources", "order"}, rows, all.Preferences)
		},
	}
	p.add(c)
	c.Flags().BoolVar(&compare, "compare", false, "ask the others too, and flag where they disagree")
	return c
}

// replaying is how a description is tried without a network.
type replaying struct {
	recorded, contentType, call, exchange string
	symbols                               []string
}

func (r *replaying) add(c *cobra.Command) {
	c.Flags().StringVar(&r.recorded, "recorded", "", "a recorded response to read instead of asking")
	c.Flags().StringVar(&r.contentType, "content-type", "", "of the recorded response; by its file name when left out")
	c.Flags().StringVar(&r.call, "call", "", "the call that the response answers; the first when left out")
	c.Flags().StringSliceVar(&r.symbols, "symbols", nil, "what was asked for, as KELP.XCVH,FERY.XCVH, with the ISIN where the source goes by it: KELP.XCVH=XA000KELP019")
}

// unused refuses what only a recorded response needs, when a source is asked.
func (r *replaying) unused(name string) error {
	if r.recorded != "" || r.call != "" || r.contentType != "" || len(r.symbols) > 0 {
		return usageError{fmt.Errorf("--recorded, --call, --content-type and --symbols go with a description's file, as %s.yaml; to ask for one listing write soba source try %s DATASET SYMBOL", name, name)}
	}
	return nil
}

// isFile tells whether an argument names a description rather than a source.
func isFile(arg string) bool {
	return strings.HasSuffix(arg, ".yaml") || strings.HasSuffix(arg, ".yml") || strings.ContainsRune(arg, os.PathSeparator)
}

// replay checks a description's call against a recorded response.
func (r *replaying) replay(ctx context.Context, path string) (*wire.SourceCheck, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	d, err := source.Read(filepath.Base(path), text)
	if err != nil {
		return nil, err
	}
	if r.recorded == "" {
		return nil, nil
	}
	body, err := os.ReadFile(r.recorded)
	if err != nil {
		return nil, err
	}
	i := 0
	if r.call != "" {
		if i = slices.IndexFunc(d.Calls, func(c *source.Call) bool { return c.Name == r.call }); i < 0 {
			return nil, usageError{fmt.Errorf("the description has no call %q", r.call)}
		}
	}
	c := d.Calls[i]
	now := time.Now()
	today := period.DateOf(now)
	q := plan.Request{Source: d.Name, Call: c.Name, From: today.AddYears(-30), To: today, Exchange: r.exchange}
	symbols := r.symbols
	if len(symbols) == 0 && c.Serves[0] != catalogue.Listings {
		return nil, usageError{errors.New("say what was asked for with --symbols")}
	}
	if c.Serves[0] == catalogue.Listings {
		q.Needs = []plan.Need{{Dataset: catalogue.Listings}}
	}
	for n, text := range symbols {
		text, number, _ := strings.Cut(text, "=")
		s, err := market.ParseSymbol(text)
		if err != nil {
			return nil, usageError{err}
		}
		isin := ""
		if number != "" {
			if isin, err = market.ParseISIN(number); err != nil {
				return nil, usageError{err}
			}
		}
		if _, ok := d.Symbols.Symbol(s, isin); !ok {
			return nil, usageError{fmt.Errorf("%s cannot write %s; where it goes by the ISIN, name that too: --symbols %s=XA000KELP019", d.Name, s, s)}
		}
		for _, dataset := range c.Serves {
			q.Needs = append(q.Needs, plan.Need{Dataset: dataset, Listing: int64(n + 1), Symbol: s, ISIN: isin, From: q.From, To: q.To})
		}
	}
	contentType := r.contentType
	if contentType == "" {
		contentType = mime.TypeByExtension(filepath.Ext(r.recorded))
	}
	a, samples, err := source.Replay(d, body, contentType, func() time.Time { return now }).Try(ctx, q, func(context.Context) error { return errors.New("a recorded response has one page") })
	check := source.Check{Call: c.Name, Datasets: c.Serves, Asked: strings.Join(symbols, " "), Answer: a, Samples: samples}
	if err != nil && !errors.As(err, &check.Fault) {
		return nil, err
	}
	out := httpapi.Checked(&check)
	return &out, nil
}

func (a *app) sourceCheck() *cobra.Command {
	var p printing
	var offline replaying
	c := &cobra.Command{
		Use: "check SOURCE|FILE", Short: "Check a source by asking it one thing by each call, or a description without a network", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources,
		Long: `Asks a connected source one small thing by each of its calls, within its limits,
and tells apart a wrong key, a plan without the dataset, a spent allowance, a
moved address and a changed shape, in which a mapping finds nothing.

Given a file, it checks the description against its schema; with --recorded also
against a response that was stored, without any network.`,
		Example: "  soba source check gannet\n  soba source check sources/gannet.yaml\n  soba source check sources/whimbrel.yaml --recorded ratios.csv --symbols KELP.XCVH",
		RunE: func(cmd *cobra.Command, args []string) error {
			var checks []wire.SourceCheck
			if isFile(args[0]) {
				check, err := offline.replay(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				fmt.Fprintf(a.err, "%s is a sound description\n", args[0])
				if check == nil {
					return nil
				}
				checks = append(checks, *check)
			} else {
				if err := offline.unused(args[0]); err != nil {
					return err
				}
				out, err := call[wire.SourceChecks](cmd.Context(), a.client, http.MethodPost, sourcePath(args[0], "/check"), nil, map[string]string{})
				if err != nil {
					return err
				}
				checks = out.Checks
			}
			rows := [][]string{}
			failed := 0
			for _, x := range checks {
				if x.Verdict != "works" && x.Verdict != "skipped" {
					failed++
				}
				rows = append(rows, []string{x.Call, strings.Join(x.Datasets, " "), x.Asked, x.Verdict, strconv.Itoa(x.Units), fmt.Sprintf("%.0f", x.TookMs), shorten(strings.Join(append([]string{x.Detail}, x.Remarks...), " "), 90)})
			}
			if err := a.print(&p, []string{"call", "brings", "asked for", "verdict", "units", "ms", "detail"}, rows, checks); err != nil {
				return err
			}
			for _, x := range checks {
				if x.Advice != "" && p.format == "table" {
					fmt.Fprintf(a.out, "%s: %s\n%s\n", x.Call, x.Detail, x.Advice)
				}
			}
			if failed > 0 {
				return fmt.Errorf("%d of %d calls do not work", failed, len(checks))
			}
			return nil
		},
	}
	p.add(c)
	offline.add(c)
	return c
}

func (a *app) sourceTry() *cobra.Command {
	var p printing
	var offline replaying
	c := &cobra.Command{
		Use: "try SOURCE|FILE [DATASET [SYMBOL]]", Short: "Show one record of a source as it came and as it was understood", Args: cobra.RangeArgs(1, 3), ValidArgsFunction: a.completeSources,
		Long: `Asks a source for one listing and shows, field by field, the place that the
description names, the text that stands there, and what it was understood as.
Given a file and --recorded, it reads a stored response instead.`,
		Example: "  soba source try gannet quotes KELP.XCVH\n  soba source try whimbrel ratios",
		RunE: func(cmd *cobra.Command, args []string) error {
			var checks []wire.SourceCheck
			if isFile(args[0]) {
				if offline.recorded == "" {
					return usageError{errors.New("a description is tried against a response: name one with --recorded")}
				}
				if len(args) > 2 {
					offline.symbols = args[2:]
				}
				check, err := offline.replay(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				checks = append(checks, *check)
			} else {
				if err := offline.unused(args[0]); err != nil {
					return err
				}
				in := map[string]string{}
				if len(args) > 1 {
					in["dataset"] = args[1]
				}
				if len(args) > 2 {
					in["symbol"] = args[2]
				}
				out, err := call[wire.SourceChecks](cmd.Context(), a.client, http.MethodPost, sourcePath(args[0], "/check"), nil, in)
				if err != nil {
					return err
				}
				checks = out.Checks
			}
			rows := [][]string{}
			for _, x := range checks {
				for _, s := range x.Samples {
					for _, f := range s.Fields {
						value := f.Value
						if f.Wrong != "" {
							value = "not understood"
						}
						rows = append(rows, []string{x.Call, s.Dataset, s.Symbol, f.Field, f.At, f.Found, shorten(f.Raw, 40), shorten(value, 40)})
					}
				}
			}
			if err := a.print(&p, []string{"call", "dataset", "listing", "field", "at", "found", "as it came", "understood as"}, rows, checks); err != nil {
				return err
			}
			failed := false
			for _, x := range checks {
				if x.Verdict == "works" || p.format != "table" {
					continue
				}
				failed = failed || x.Verdict != "skipped"
				fmt.Fprintf(a.out, "%s: %s %s\n", x.Call, x.Verdict, x.Detail)
				if x.Begins != "" {
					fmt.Fprintf(a.out, "the answer begins: %s\n", x.Begins)
				}
				if x.Advice != "" {
					fmt.Fprintln(a.out, x.Advice)
				}
			}
			if failed {
				return errors.New("the source did not answer with data")
			}
			return nil
		},
	}
	p.add(c)
	offline.add(c)
	return c
}

func (a *app) sourceSchema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of source descriptions, for editors", Args: cobra.NoArgs, Example: "  soba source schema",
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprintf(a.out, "%s\n", source.Schema())
			return err
		},
	}
}

func (a *app) completeSources(cmd *cobra.Command, args []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
	found, _ := a.offer(cmd, func(ctx context.Context) (out []cobra.Completion, err error) {
		all, err := get[wire.Sources](ctx, a.client, "/api/v1/sources", nil)
		for _, s := range all.Sources {
			if len(args) == 0 {
				out = append(out, cobra.CompletionWithDesc(s.Name, s.Title))
			}
		}
		return out, err
	})
	return found, cobra.ShellCompDirectiveDefault // a description is a file
}
