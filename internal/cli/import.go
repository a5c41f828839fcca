package cli

import (
	"bufio"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) watchlistImport() *cobra.Command {
	var p printing
	var columns []string
	var dryRun, yes bool
	var members string
	c := &cobra.Command{
		Use: "import NAME [FILE]", Short: "Add the rows of a CSV or XLSX file, or the members of an index", Args: cobra.RangeArgs(1, 2),
		Long: `Reads a list that you have: a column of symbols, ISINs or tickers, and if there
are such, columns of exchanges, quantities and costs. Which column is which is
guessed from the headers and shown; --columns says it where the guess is wrong.
On a terminal it asks before it adds anything, unless --yes is given. Lines that
cannot be added are reported with their numbers; the others go in.`,
		Example: "  soba watchlist import income positions.csv\n  soba watchlist import income positions.xlsx --columns symbol=Code,quantity=Pieces --dry-run\n  soba watchlist import index --members CV50.XCVH",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, toComplete string) ([]cobra.Completion, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completeWatchlists(cmd, args, toComplete)
			}
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if (members == "") == (len(args) == 1) {
				return usageError{errors.New("name either a file or an index with --members")}
			}
			if members != "" {
				out, err := call[wire.Imported](cmd.Context(), a.client, http.MethodPost, listPath(args[0], "/members"), nil, map[string]string{"universe": members})
				if err != nil {
					return err
				}
				return a.printImport(&p, &out)
			}
			file, err := os.ReadFile(args[1])
			if err != nil {
				return err
			}
			ask := func(dry bool) (wire.Imported, error) {
				q := url.Values{"dry_run": {strconv.FormatBool(dry)}}
				if len(columns) > 0 {
					q.Set("columns", strings.Join(columns, ","))
				}
				contentType := "text/csv"
				if strings.HasSuffix(strings.ToLower(args[1]), ".xlsx") {
					contentType = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
				}
				return upload[wire.Imported](cmd.Context(), a.client, listPath(args[0], "/import"), q, contentType, file)
			}
			if dryRun || a.width > 0 && !yes {
				out, err := ask(true)
				if err != nil {
					return err
				}
				if err := a.printImport(&p, &out); err != nil || dryRun {
					return err
				}
				fmt.Fprintf(a.err, "Add these to %s? [y/N] ", args[0])
				line, _ := bufio.NewReader(a.in).ReadString('\n')
				if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
					return errors.New("nothing was added")
				}
			}
			out, err := ask(false)
			if err != nil {
				return err
			}
			return a.printImport(&p, &out)
		},
	}
	p.add(c)
	c.Flags().StringSliceVar(&columns, "columns", nil, "which column is which, as symbol=Code,quantity=Qty; of symbol, isin, ticker, exchange, quantity, cost, total; cost= for none")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be added, and add nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().StringVar(&members, "members", "", "an index whose members are added")
	return c
}

func (a *app) printImport(p *printing, in *wire.Imported) error {
	rows := [][]string{}
	for _, l := range in.Lines {
		what := "added"
		switch {
		case l.Problem != "":
			what = l.Problem
			if l.Hint != "" {
				what += ". " + l.Hint
			}
		case l.Present:
			what = "there already"
			if l.Quantity != "" {
				what = "quantity and cost set"
			}
		case in.DryRun:
			what = "will be added"
		}
		if p.format == "table" && l.Problem == "" && !in.DryRun {
			continue // what went well needs no line each
		}
		rows = append(rows, []string{strconv.Itoa(l.Line), shorten(l.Text, 40), l.Symbol, l.Quantity, l.Cost, what})
	}
	if p.format == "table" && len(in.Columns) > 0 {
		var roles []string
		for role := range in.Columns {
			roles = append(roles, role)
		}
		slices.Sort(roles)
		for i, role := range roles {
			roles[i] = fmt.Sprintf("%s from %q", role, in.Columns[role])
		}
		fmt.Fprintln(a.out, strings.Join(roles, ", "))
	}
	if len(rows) > 0 || p.format != "table" {
		if err := a.print(p, []string{"line", "text", "symbol", "quantity", "cost", "what"}, rows, in); err != nil {
			return err
		}
	}
	if p.format == "table" {
		verb := "added"
		if in.DryRun {
			verb = "would be added"
		}
		fmt.Fprintf(a.out, "%s: %d %s, %d were there already, %d lines have problems; the list has %d rows\n", in.Name, in.Added, verb, in.Present, in.Problems, in.Rows)
	}
	if in.Problems > 0 && !in.DryRun {
		return fmt.Errorf("%d of %d lines were not added", in.Problems, len(in.Lines))
	}
	return nil
}

func (a *app) watchlistSchedule() *cobra.Command {
	var set wire.Schedule
	var off bool
	c := &cobra.Command{
		Use: "schedule NAME", Short: "Show or set when a watchlist refreshes by itself", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Long: `Without flags it shows the schedule. With --every the list is refreshed that
often while an exchange of its listings is open, and once after each has closed.
With --cron it is refreshed at set times: minute, hour, day of month, month, day
of week.`,
		Example: "  soba watchlist schedule income --every 30m\n  soba watchlist schedule growth --cron '0 8 * * 1-5' --zone Europe/London\n  soba watchlist schedule income\n  soba watchlist schedule income --off",
		RunE: func(cmd *cobra.Command, args []string) error {
			var out wire.Schedule
			var err error
			if set.Cron == "" && set.Every == "" && !off {
				out, err = get[wire.Schedule](cmd.Context(), a.client, listPath(args[0], "/schedule"), nil)
			} else {
				out, err = call[wire.Schedule](cmd.Context(), a.client, http.MethodPut, listPath(args[0], "/schedule"), nil, set)
			}
			if err != nil {
				return err
			}
			switch {
			case out.Cron != "":
				fmt.Fprintf(a.out, "%s refreshes at %q in %s; next %s\n", args[0], out.Cron, out.Zone, stamp(out.Next))
			case out.Every != "":
				fmt.Fprintf(a.out, "%s refreshes every %s while an exchange is open; next %s\n", args[0], out.Every, stamp(out.Next))
			default:
				fmt.Fprintf(a.out, "%s refreshes by hand only\n", args[0])
			}
			return nil
		},
	}
	c.Flags().StringVar(&set.Every, "every", "", "interval while a session is open, as 15m")
	c.Flags().StringVar(&set.Cron, "cron", "", "set times in five fields")
	c.Flags().StringVar(&set.Zone, "zone", "", "time zone of the set times; UTC when left out")
	c.Flags().BoolVar(&off, "off", false, "refresh by hand only")
	return c
}
