package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/wire"
)

func (a *app) lookupCommand() *cobra.Command {
	var p printing
	var limit int
	c := &cobra.Command{
		Use: "lookup WORD...", Short: "Find a listing by name, ticker or ISIN", Args: cobra.MinimumNArgs(1),
		Example: "  soba lookup kelp\n  soba lookup blue rope\n  soba lookup XA000BLUEM12",
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := get[wire.Listings](cmd.Context(), a.client, "/api/v1/listings", url.Values{"query": {strings.Join(args, " ")}, "limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			if len(found.Listings) == 0 && p.format == "table" {
				fmt.Fprintf(a.out, "Nothing is listed under %q. Try fewer letters, a part of the name, or the ISIN.\n", strings.Join(args, " "))
				return nil
			}
			rows := [][]string{}
			for _, l := range found.Listings {
				ended := ""
				if l.Ended != "" {
					ended = "ended " + l.Ended
				}
				rows = append(rows, []string{l.Symbol, l.Name, l.Kind, l.Exchange, l.Currency, l.ISIN, ended})
			}
			return a.print(&p, []string{"symbol", "name", "kind", "exchange", "currency", "isin", ""}, rows, found)
		},
	}
	p.add(c)
	c.Flags().IntVar(&limit, "limit", 20, "most listings to show")
	return c
}

// tableFlags are the ways to choose what a table holds.
type tableFlags struct {
	columns, view, where, sort, in, asOf string
	strict                               bool
}

func (f *tableFlags) add(a *app, c *cobra.Command) {
	c.Flags().StringVarP(&f.columns, "columns", "c", "", "fields, joined by commas, as quote.last,price.close@-30d")
	c.Flags().StringVar(&f.view, "view", "overview", "a named set of columns")
	c.Flags().StringVarP(&f.where, "where", "w", "", "only rows that meet a condition, as 'quote.change_pct > 1%'")
	c.Flags().StringVarP(&f.sort, "sort", "s", "", "fields to sort by, with a leading minus for descending")
	c.Flags().StringVar(&f.in, "in", "", "convert prices and amounts into one currency, as EUR, by reference rates")
	c.Flags().StringVar(&f.asOf, "as-of", "", "read as it was known on a date or at an instant")
	c.Flags().BoolVar(&f.strict, "strict", false, "exit with 3 when values are missing, stale or pending")
	for name, complete := range map[string]cobra.CompletionFunc{"columns": a.completeFields, "sort": a.completeFields, "view": a.completeViews} {
		c.RegisterFlagCompletionFunc(name, complete) //nolint:errcheck // the flags are there
	}
}

func (f *tableFlags) query() url.Values {
	q := url.Values{}
	for name, value := range map[string]string{"columns": f.columns, "where": f.where, "sort": f.sort, "in": f.in, "as_of": f.asOf} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.columns == "" {
		q.Set("view", f.view)
	}
	return q
}

func (a *app) tableCommand() *cobra.Command {
	var p printing
	var f tableFlags
	c := &cobra.Command{
		Use: "table WATCHLIST", Short: "Show a watchlist as a table", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Long: `Shows a watchlist as a table. A value that is not fresh carries a mark:
◐ stale   ◌ pending   ○ missing, with the reason; ○ alone where no value can
exist. 'soba explain' tells the rest.
On a terminal, columns that do not fit are left out and counted.`,
		Example: `  soba table income
  soba table income --view holdings --sort -holding.market_value
  soba table growth --view holdings --in EUR
  soba table everything --where 'quote.change_pct > 2%' --columns quote.last,quote.change_pct,profile.sector
  soba table income --format json
  soba table income --format csv --output income.csv`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			path, q := listPath(args[0], "/table"), f.query()
			accept := "application/json"
			if p.format == "csv" {
				accept = "text/csv"
			}
			body, err := a.client.raw(cmd.Context(), path, q, accept)
			if err != nil {
				return err
			}
			var t wire.Table
			if p.format != "csv" {
				if err := json.Unmarshal(body, &t); err != nil {
					return err
				}
			}
			w, done, err := a.to(&p)
			if err != nil {
				return err
			}
			switch p.format {
			case "table":
				fmt.Fprintln(w, a.renderTable(&t, p.noHeader))
				if t.Notice != "" {
					fmt.Fprintln(w, a.warn(t.Notice))
				}
			case "csv":
				if p.noHeader {
					_, rest, _ := strings.Cut(string(body), "\n")
					body = []byte(rest)
				}
				_, err = w.Write(body)
			default:
				_, err = fmt.Fprintf(w, "%s\n", body)
			}
			if err != nil {
				return err
			}
			if err := done(); err != nil {
				return err
			}
			if f.strict && p.format != "csv" && t.Counts.Stale+t.Counts.Missing+t.Counts.Pending > 0 {
				return errIncomplete
			}
			return nil
		},
	}
	p.add(c)
	f.add(a, c)
	return c
}

// renderTable lays a table out: the symbol and name first, the currency of its
// prices, then as many columns as the terminal takes.
func (a *app) renderTable(t *wire.Table, noHeader bool) string {
	header := []string{"Symbol", "Name"}
	money := slices.ContainsFunc(t.Columns, func(c wire.Column) bool { return c.Unit == "price" || c.Unit == "money" })
	if money {
		header = append(header, "")
	}
	fixed := len(header)
	for _, c := range t.Columns {
		name := c.Label
		if c.Unit == "percent" && !strings.Contains(name, "%") {
			name += " %"
		}
		header = append(header, name)
	}
	rows := make([][]string, len(t.Rows))
	for i, r := range t.Rows {
		symbol := r.Symbol
		if r.Held {
			symbol = a.bold(symbol)
		}
		rows[i] = []string{symbol, shorten(r.Name, 26)}
		if money {
			rows[i] = append(rows[i], cmp.Or(t.In, r.Currency))
		}
		for j, c := range r.Cells {
			value := a.readable(c, true)
			if t.Columns[j].Unit == "percent" {
				value = strings.Replace(value, " %", "", 1)
			}
			rows[i] = append(rows[i], shortenVisible(value, 28))
		}
	}
	columns := fit(header, rows, a.width)
	w := newTable(header[:columns], noHeader)
	var configs []table.ColumnConfig
	for i := fixed; i < columns; i++ {
		if u := t.Columns[i-fixed].Unit; u != "text" && u != "date" && u != "time" && u != "line" {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	w.SetColumnConfigs(configs)
	for _, r := range rows {
		w.AppendRow(asRow(r[:columns]))
	}
	out := w.Render() + "\n\n" + countsLine(t.Counts)
	if t.Of > len(t.Rows) {
		out += fmt.Sprintf("   %d of %d rows", len(t.Rows), t.Of)
	}
	if left := len(header) - columns; left > 0 {
		out += fmt.Sprintf("\n%d more columns do not fit: choose with --columns, or use --format csv", left)
	}
	return out
}

func shortenVisible(s string, width int) string {
	if text.StringWidthWithoutEscSequences(s) <= width {
		return s
	}
	return text.Trim(s, width-1) + "…"
}

// fit counts the columns that a terminal of some width takes; all where there is none.
func fit(header []string, rows [][]string, width int) int {
	if width == 0 {
		return len(header)
	}
	used := 0
	for i := range header {
		widest := text.StringWidthWithoutEscSequences(header[i])
		for _, r := range rows {
			widest = max(widest, text.StringWidthWithoutEscSequences(r[i]))
		}
		if used += widest + 2; used > width+2 && i > 2 {
			return i
		}
	}
	return len(header)
}

func (a *app) valueCommand() *cobra.Command {
	var p printing
	var asOf, in string
	var strict bool
	c := &cobra.Command{
		Use: "value SYMBOL... FIELD...", Short: "Show values of listings, each with its account", Args: cobra.MinimumNArgs(2), ValidArgsFunction: a.completeSymbolThenFields,
		Long: "Shows values. Arguments with a dot and a name of the catalogue, as quote.last, are fields; the others\nare symbols, ISINs, or - for symbols on standard input.",
		Example: `  soba value KELP.XCVH quote.last
  soba value KELP.XCVH price.close@2025-12-31
  soba value CABL.XNMK COLD.XTSG price.close@2025-12-31 --in EUR
  soba value KELP.XCVH FERY.XCVH quote.last price.return_52w
  echo KELP.XCVH | soba value - quote.last --format csv`,
		RunE: func(cmd *cobra.Command, args []string) error {
			symbols, fields, err := a.sortOut(args)
			if err != nil {
				return err
			}
			q := url.Values{"symbols": {strings.Join(symbols, ",")}, "fields": {strings.Join(fields, ",")}}
			if asOf != "" {
				q.Set("as_of", asOf)
			}
			if in != "" {
				q.Set("in", in)
			}
			t, err := get[wire.Table](cmd.Context(), a.client, "/api/v1/values", q)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, r := range t.Rows {
				for i, c := range r.Cells {
					about := c.State
					if c.Reason != "" {
						about += ": " + c.Reason
					}
					if c.Detail != "" {
						about += " (" + c.Detail + ")"
					}
					value := fmt.Sprint(c.V)
					if p.format == "table" {
						value = a.readable(c, false)
					} else if c.V == nil {
						value = ""
					}
					observed := ""
					if c.Observed != nil {
						observed = c.Observed.Format("2006-01-02 15:04Z")
					}
					if c.Period != "" {
						observed = c.Period
					}
					rows = append(rows, []string{r.Symbol, t.Columns[i].ID, value, about, observed, c.Source, strings.Join(c.Flags, " ")})
				}
			}
			if err := a.print(&p, []string{"symbol", "field", "value", "state", "of", "source", "flags"}, rows, t); err != nil {
				return err
			}
			if strict && t.Counts.Stale+t.Counts.Missing+t.Counts.Pending > 0 {
				return errIncomplete
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().StringVar(&in, "in", "", "convert prices and amounts into one currency, as EUR, by reference rates")
	c.Flags().StringVar(&asOf, "as-of", "", "read as it was known on a date or at an instant")
	c.Flags().BoolVar(&strict, "strict", false, "exit with 3 when values are missing, stale or pending")
	return c
}

// sortOut tells symbols from fields: a field's group is in lower case before a dot.
func (a *app) sortOut(args []string) (symbols, fields []string, err error) {
	for _, arg := range args {
		switch group, _, dotted := strings.Cut(arg, "."); {
		case arg == "-":
			for scan := bufio.NewScanner(a.in); scan.Scan(); {
				symbols = append(symbols, strings.Fields(scan.Text())...)
			}
		case dotted && slices.ContainsFunc(catalogue.Fields, func(f catalogue.Field) bool { return f.Group() == group }):
			fields = append(fields, arg)
		default:
			symbols = append(symbols, arg)
		}
	}
	if len(symbols) == 0 || len(fields) == 0 {
		return nil, nil, usageError{fmt.Errorf("at least one symbol and one field are needed, as in 'soba value KELP.XCVH quote.last'; got symbols %q and fields %q", symbols, fields)}
	}
	return symbols, fields, nil
}

func (a *app) explainCommand() *cobra.Command {
	var p printing
	var list, asOf string
	c := &cobra.Command{
		Use: "explain SYMBOL FIELD", Short: "Account for a value, down to the stored response", Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeSymbolThenFields,
		Example: "  soba explain KELP.XCVH quote.change_pct\n  soba explain KELP.XCVH holding.weight --watchlist income\n  soba explain OARS.XCVH quote.last",
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{"symbol": {args[0]}, "field": {args[1]}}
			if list != "" {
				q.Set("watchlist", list)
			}
			if asOf != "" {
				q.Set("as_of", asOf)
			}
			e, err := get[wire.Explanation](cmd.Context(), a.client, "/api/v1/explain", q)
			if err != nil {
				return err
			}
			if p.format == "table" {
				a.printExplanation(&e, "")
				return nil
			}
			return a.print(&p, []string{"symbol", "field", "value", "state", "reason"}, [][]string{{e.Symbol, e.Field, e.Readable, e.Cell.State, e.Cell.Reason}}, e)
		},
	}
	p.add(c)
	c.Flags().StringVar(&list, "watchlist", "", "the list that a holding belongs to")
	c.Flags().StringVar(&asOf, "as-of", "", "read as it was known on a date or at an instant")
	c.RegisterFlagCompletionFunc("watchlist", a.completeWatchlists) //nolint:errcheck // the flag is there
	return c
}

func (a *app) printExplanation(e *wire.Explanation, indent string) {
	c := e.Cell
	fmt.Fprintf(a.out, "%s%s  %s%s  %s %s\n", indent, a.bold(e.Field), e.Readable, unitSuffix(c.Unit), marks[c.State], c.State)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "%s  %-10s %s\n", indent, name, value)
		}
	}
	if indent == "" {
		line("listing", e.Symbol)
		line("means", e.Definition)
		line("defined by", e.Reference)
	}
	if c.Reason != "" {
		why := c.Reason + ": " + e.Meaning
		if c.Detail != "" {
			why += " (" + c.Detail + ")"
		}
		line("because", why)
		line("to do", e.Advice)
	}
	if c.Reason == "" {
		line("how", c.Detail)
	}
	line("formula", e.Formula)
	line("measured", e.Span)
	line("observed", stamp(c.Observed))
	line("fetched", stamp(c.Fetched))
	line("checked", stamp(e.Checked))
	line("period", c.Period)
	line("source", c.Source)
	line("flags", strings.Join(c.Flags, ", "))
	if e.RawName != "" {
		line("as written", fmt.Sprintf("%q under %q", e.RawText, e.RawName))
	}
	for _, o := range e.Others {
		said := "nothing: " + o.Outcome
		if o.V != nil {
			said = fmt.Sprint(o.V)
			if x, number := o.V.(float64); number {
				said = a.readable(wire.Cell{V: x, Unit: c.Unit, State: "fresh"}, true)
			}
		}
		line("also", o.Source+" gives "+strings.TrimSuffix(said, ": "))
	}
	if r := e.Request; r != nil {
		line("request", fmt.Sprintf("%d  %s %s, %d symbols, status %d, %.0f ms, %d units", r.ID, r.Source, r.Call, r.Symbols, r.Status, r.TookMs, r.Units))
		line("address", shorten(r.Address, 100))
		line("fault", r.Fault)
		if r.Response != "" {
			line("response", "sha256 "+r.Response+"  at "+e.Place)
		}
	}
	for _, r := range e.Reports {
		text := map[bool]string{false: "+ ", true: "− "}[r.Less] + r.Label + ", to " + r.End
		if r.Filed != "" {
			text += ", published " + r.Filed
		}
		if r.Request != nil {
			text += fmt.Sprintf(", by request %d at %s", r.Request.ID, r.Place)
		}
		line("report", text)
	}
	for _, b := range e.Besides {
		text := fmt.Sprintf("%s of %s, %s", b.Dataset, b.Symbol, b.Cell.State)
		if b.Cell.Reason != "" {
			text += ": " + b.Cell.Reason
		}
		if b.Cell.Fetched != nil {
			text += fmt.Sprintf(", from %s, fetched %s", b.Cell.Source, stamp(b.Cell.Fetched))
		}
		if b.Request != nil {
			text += fmt.Sprintf(" by request %d", b.Request.ID)
		}
		line("besides", text)
	}
	for i := range e.Inputs {
		a.printExplanation(&e.Inputs[i], indent+"    ")
	}
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format("2006-01-02 15:04:05Z")
}

func (a *app) healthCommand() *cobra.Command {
	var p printing
	var view, columns string
	var all bool
	var years int
	c := &cobra.Command{
		Use: "health WATCHLIST", Short: "Show what is stale or missing, why, and what to do", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Example: "  soba health income\n  soba health everything --view quotes\n  soba health growth --all\n  soba health income --min-years 10",
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{"view": {view}}
			if columns != "" {
				q = url.Values{"columns": {columns}}
			}
			if years > 0 {
				q.Set("min_years", strconv.Itoa(years))
			}
			h, err := get[wire.Health](cmd.Context(), a.client, listPath(args[0], "/health"), q)
			if err != nil {
				return err
			}
			if p.format == "table" {
				a.printHealth(&h, all)
				if years > 0 {
					a.printShort(&h, years)
				}
				return nil
			}
			rows := [][]string{}
			for _, g := range h.Groups {
				for _, n := range g.Names {
					rows = append(rows, []string{g.State, g.Reason, n.Symbol, strings.Join(n.Fields, " "), n.Detail})
				}
			}
			return a.print(&p, []string{"state", "reason", "symbol", "fields", "detail"}, rows, h)
		},
	}
	p.add(c)
	c.Flags().StringVar(&view, "view", "overview", "a named set of columns")
	c.Flags().StringVarP(&columns, "columns", "c", "", "fields to look at instead")
	c.Flags().BoolVar(&all, "all", false, "show all names of long groups")
	c.Flags().IntVar(&years, "min-years", 0, "list the names with fewer years of accounts than these")
	c.RegisterFlagCompletionFunc("view", a.completeViews) //nolint:errcheck // the flag is there
	return c
}

// fewNames is how many names of a group of the health are shown unless all are asked for.
const fewNames = 8

func (a *app) printHealth(h *wire.Health, all bool) {
	fmt.Fprintf(a.out, "%s\n", countsLine(h.Counts))
	if len(h.Groups) == 0 {
		fmt.Fprintln(a.out, "Everything is fresh.")
	}
	for _, g := range h.Groups {
		fmt.Fprintf(a.out, "\n%s %s: %s — %s of %s\n", marks[g.State], a.bold(g.State+" "+g.Reason), g.Meaning, plural(g.Cells, "value"), plural(len(g.Names), "name"))
		fmt.Fprintf(a.out, "  %s\n", g.Advice)
		if g.Reason == "not_applicable" && !all {
			continue // nothing is wrong with them
		}
		for i, n := range g.Names {
			if i == fewNames && !all {
				fmt.Fprintf(a.out, "  and %d more; show them with --all\n", len(g.Names)-i)
				break
			}
			what := strings.Join(n.Fields, " ")
			if len(n.Fields) > 4 {
				what = fmt.Sprintf("%s and %d more", strings.Join(n.Fields[:3], " "), len(n.Fields)-3)
			}
			if n.Detail != "" {
				what += "  (" + n.Detail + ")"
			}
			fmt.Fprintf(a.out, "  %-12s %-28s %s\n", n.Symbol, shorten(n.Name, 28), what)
		}
	}
}

// printShort lists the names whose accounts do not go back as far as is wanted.
func (a *app) printShort(h *wire.Health, wanted int) {
	if len(h.Short) == 0 {
		fmt.Fprintf(a.out, "\nOf every name at least %s of accounts are known.\n", plural(wanted, "year"))
		return
	}
	fmt.Fprintf(a.out, "\n%s: fewer than %s of accounts — %s\n", a.bold("history"), plural(wanted, "year"), plural(len(h.Short), "name"))
	for _, x := range h.Short {
		known := "none: " + x.Reason
		if x.Years > 0 {
			known = fmt.Sprintf("%d, from %s", x.Years, x.From)
		}
		fmt.Fprintf(a.out, "  %-12s %-28s %-24s %s\n", x.Symbol, shorten(x.Name, 28), known, x.Advice)
	}
}

func (a *app) fieldsCommand() *cobra.Command {
	var p printing
	c := &cobra.Command{
		Use: "fields [WORD...]", Short: "Search the catalogue of fields",
		Example: "  soba fields\n  soba fields year high\n  soba fields price.volatility_1y",
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := get[wire.Catalogue](cmd.Context(), a.client, "/api/v1/fields", url.Values{"query": {strings.Join(args, " ")}})
			if err != nil {
				return err
			}
			if len(found.Fields) == 0 && p.format == "table" {
				fmt.Fprintf(a.out, "No field has all of %q in its id, label or definition.\n", strings.Join(args, " "))
				return nil
			}
			rows := [][]string{}
			for _, f := range found.Fields {
				from := f.Dataset
				if f.Formula != "" {
					from = f.Formula
				} else if f.Span != "" {
					from += " over " + f.Span
				}
				rows = append(rows, []string{f.ID, f.Label, f.Unit, f.Definition, from})
			}
			return a.print(&p, []string{"field", "label", "unit", "meaning", "from"}, rows, found)
		},
	}
	p.add(c)
	return c
}
