package cli

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) watchlistCommand() *cobra.Command {
	c := &cobra.Command{Use: "watchlist", Aliases: []string{"wl"}, Short: "Make, change and list watchlists"}
	c.AddCommand(a.watchlistList(), a.watchlistShow(), a.watchlistAdd(), a.watchlistSet(), a.watchlistMove(), a.watchlistRemove(),
		a.watchlistNamed("new NAME", "Make an empty watchlist", "  soba watchlist new income", 1, http.MethodPost, ""),
		a.watchlistNamed("rename NAME NEW", "Rename a watchlist", "  soba watchlist rename income dividends", 2, http.MethodPatch, ""),
		a.watchlistNamed("copy NAME NEW", "Copy a watchlist with its rows", "  soba watchlist copy income trial", 2, http.MethodPost, "/copy"),
		a.watchlistImport(), a.watchlistSchedule(), a.watchlistDelete(),
		a.watchlistNamed("restore NAME", "Bring a deleted watchlist back", "  soba watchlist restore income", 1, http.MethodPost, "/restore"))
	return c
}

func (a *app) watchlistList() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "list", Short: "List all watchlists", Args: cobra.NoArgs, Example: "  soba watchlist list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := get[wire.Watchlists](cmd.Context(), a.client, "/api/v1/watchlists", nil)
			if err != nil {
				return err
			}
			if len(all.Watchlists) == 0 && p.format == "table" {
				fmt.Fprintln(a.out, "There is no watchlist yet. Make one with 'soba watchlist new NAME'.")
				return nil
			}
			rows := [][]string{}
			for _, w := range all.Watchlists {
				rows = append(rows, []string{w.Name, strconv.Itoa(w.Rows), strconv.Itoa(w.Held), w.Changed.Format("2006-01-02 15:04Z")})
			}
			return a.print(&p, []string{"watchlist", "rows", "held", "changed"}, rows, all)
		},
	}
	p.add(c)
	return c
}

func (a *app) watchlistShow() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "show NAME", Short: "List the rows of a watchlist", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists, Example: "  soba watchlist show income",
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := get[wire.Rows](cmd.Context(), a.client, listPath(args[0], ""), nil)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, r := range list.Listings {
				rows = append(rows, []string{r.Symbol, r.Name, r.Kind, r.Quantity, r.Cost, r.Currency})
			}
			return a.print(&p, []string{"symbol", "name", "kind", "quantity", "cost", "currency"}, rows, list)
		},
	}
	p.add(c)
	return c
}

// watchlistNamed is a command that gives a watchlist a name: args are the
// watchlist, where there is one already, and the name.
func (a *app) watchlistNamed(use, short, example string, args int, method, action string) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(args), Example: example, ValidArgsFunction: a.completeWatchlists,
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/api/v1/watchlists"
			if len(args) == 2 || action != "" {
				path = listPath(args[0], action)
			}
			var in any = map[string]string{"name": args[len(args)-1]}
			if action == "/restore" {
				in = nil
			}
			w, err := call[wire.Watchlist](cmd.Context(), a.client, method, path, nil, in)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %d rows\n", w.Name, w.Rows)
			return nil
		},
	}
}

func (a *app) watchlistDelete() *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME", Short: "Delete a watchlist; restore brings it back", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists, Example: "  soba watchlist delete trial",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := call[struct{}](cmd.Context(), a.client, http.MethodDelete, listPath(args[0], ""), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "deleted %s; 'soba watchlist restore %s' brings it back\n", args[0], args[0])
			return nil
		},
	}
}

func (a *app) watchlistAdd() *cobra.Command {
	var quantity, cost string
	var at int
	c := &cobra.Command{
		Use: "add NAME SYMBOL...", Short: "Add listings to a watchlist", Args: cobra.MinimumNArgs(2), ValidArgsFunction: a.completeListThenSymbols,
		Example: "  soba watchlist add income KELP.XCVH --quantity 120 --cost 31.20\n  soba watchlist add growth TIDE.XPLR ALGA.XPLR EUR/USD",
		RunE: func(cmd *cobra.Command, args []string) error {
			var rows []wire.NewRow
			for i, symbol := range args[1:] {
				row := wire.NewRow{Symbol: symbol, Quantity: quantity, Cost: cost}
				if at >= 0 {
					position := at + i
					row.Position = &position
				}
				rows = append(rows, row)
			}
			out, err := call[wire.Added](cmd.Context(), a.client, http.MethodPost, listPath(args[0], "/rows"), nil, map[string]any{"rows": rows})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "added %s to %s, which now has %d rows\n", strings.Join(out.Added, ", "), out.Name, out.Rows)
			if len(out.Problems) == 0 {
				return nil
			}
			for _, p := range out.Problems {
				fmt.Fprintf(a.err, "not added: %s\n", p.Problem)
			}
			return fmt.Errorf("%d of %d were not added", len(out.Problems), len(rows))
		},
	}
	c.Flags().StringVarP(&quantity, "quantity", "q", "", "shares or units held; watched only when left out")
	c.Flags().StringVar(&cost, "cost", "", "what one share or unit cost, in the listing's currency")
	c.Flags().IntVar(&at, "at", -1, "position, counted from 0; at the end when left out")
	return c
}

func (a *app) watchlistSet() *cobra.Command {
	var quantity, cost string
	c := &cobra.Command{
		Use: "set NAME SYMBOL", Short: "Set the quantity and cost of a row", Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeListThenSymbols,
		Example: "  soba watchlist set income KELP.XCVH --quantity 200 --cost 30.10\n  soba watchlist set income KELP.XCVH --quantity ''",
		RunE: func(cmd *cobra.Command, args []string) error {
			change := map[string]string{}
			if cmd.Flags().Changed("quantity") {
				change["quantity"] = quantity
			}
			if cmd.Flags().Changed("cost") {
				change["cost"] = cost
			}
			if len(change) == 0 {
				return usageError{fmt.Errorf("nothing to set: give --quantity, --cost or both")}
			}
			return a.changeRow(cmd, args[0], args[1], change, "set")
		},
	}
	c.Flags().StringVarP(&quantity, "quantity", "q", "", "shares or units held; '' to watch only")
	c.Flags().StringVar(&cost, "cost", "", "what one share or unit cost; '' for unknown")
	return c
}

func (a *app) watchlistMove() *cobra.Command {
	return &cobra.Command{
		Use: "move NAME SYMBOL POSITION", Short: "Move a row to a position, counted from 0", Args: cobra.ExactArgs(3), ValidArgsFunction: a.completeListThenSymbols,
		Example: "  soba watchlist move income FERY.XCVH 0",
		RunE: func(cmd *cobra.Command, args []string) error {
			position, err := strconv.Atoi(args[2])
			if err != nil || position < 0 {
				return usageError{fmt.Errorf("%q is not a position: count from 0", args[2])}
			}
			return a.changeRow(cmd, args[0], args[1], map[string]int{"position": position}, "moved")
		},
	}
}

func (a *app) changeRow(cmd *cobra.Command, list, symbol string, change any, done string) error {
	w, err := call[wire.Watchlist](cmd.Context(), a.client, http.MethodPatch, listPath(list, "/rows/"+symbolPath(symbol)), nil, change)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s %s in %s\n", done, strings.ToUpper(symbol), w.Name)
	return nil
}

func (a *app) watchlistRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME SYMBOL...", Short: "Take listings out of a watchlist", Args: cobra.MinimumNArgs(2), ValidArgsFunction: a.completeListThenSymbols,
		Example: "  soba watchlist remove growth ALGA.XPLR",
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, symbol := range args[1:] {
				w, err := call[wire.Watchlist](cmd.Context(), a.client, http.MethodDelete, listPath(args[0], "/rows/"+symbolPath(symbol)), nil, nil)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "removed %s from %s, which now has %d rows\n", strings.ToUpper(symbol), w.Name, w.Rows)
			}
			return nil
		},
	}
}

func (a *app) requestsCommand() *cobra.Command {
	var p printing
	var refresh int64
	var limit int
	c := &cobra.Command{
		Use: "requests", Short: "Show the log of requests sent to sources", Args: cobra.NoArgs, Example: "  soba requests --limit 20\n  soba requests --refresh 3",
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			if refresh != 0 {
				q.Set("refresh", strconv.FormatInt(refresh, 10))
			}
			all, err := get[wire.Requests](cmd.Context(), a.client, "/api/v1/requests", q)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, r := range all.Requests {
				rows = append(rows, []string{
					strconv.FormatInt(r.ID, 10), strconv.FormatInt(r.Refresh, 10), r.Started.Format("2006-01-02 15:04:05Z"), r.Source, r.Call, strconv.Itoa(r.Symbols),
					strconv.Itoa(r.Status), fmt.Sprintf("%.0f", r.TookMs), strconv.FormatInt(r.Bytes, 10), strconv.Itoa(r.Units), shorten(cmp.Or(r.Fault, strings.Join(r.Remarks, "; ")), 60),
				})
			}
			return a.print(&p, []string{"request", "refresh", "sent", "source", "call", "symbols", "status", "ms", "bytes", "units", "fault or remark"}, rows, all)
		},
	}
	p.add(c)
	c.Flags().Int64Var(&refresh, "refresh", 0, "only those of one refresh")
	c.Flags().IntVar(&limit, "limit", 50, "most requests to show")
	return c
}

func (a *app) tokenCommand() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make tokens for reaching the service beyond loopback"}
	var scope, label string
	new := &cobra.Command{
		Use: "new", Short: "Make a token; it is shown this once", Args: cobra.NoArgs, Example: "  soba token new --scope read --label notebook",
		RunE: func(cmd *cobra.Command, _ []string) error {
			t, err := call[wire.Token](cmd.Context(), a.client, http.MethodPost, "/api/v1/tokens", nil, map[string]string{"scope": scope, "label": label})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s\n", t.Token)
			fmt.Fprintf(a.err, "Keep it now: it is not shown again. Scope %s.\n", t.Scope)
			return nil
		},
	}
	new.Flags().StringVar(&scope, "scope", "read", "read, write or admin; each includes those before it")
	new.Flags().StringVar(&label, "label", "made on the command line", "what it is for")
	c.AddCommand(new)
	return c
}
