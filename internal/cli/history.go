package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/wire"
)

// named turns arguments into symbols: a watchlist stands for its names, and - for
// symbols on standard input.
func (a *app) named(ctx context.Context, args []string) ([]string, error) {
	var symbols []string
	var lists *wire.Watchlists
	for _, arg := range args {
		if arg == "-" {
			for scan := bufio.NewScanner(a.in); scan.Scan(); {
				symbols = append(symbols, strings.Fields(scan.Text())...)
			}
			continue
		}
		if strings.ContainsAny(arg, "./") { // a symbol or a pair, whatever lists are called
			symbols = append(symbols, arg)
			continue
		}
		if lists == nil {
			all, err := get[wire.Watchlists](ctx, a.client, "/api/v1/watchlists", nil)
			if err != nil {
				return nil, err
			}
			lists = &all
		}
		if !slices.ContainsFunc(lists.Watchlists, func(w wire.Watchlist) bool { return w.Name == arg }) {
			symbols = append(symbols, arg)
			continue
		}
		list, err := get[wire.Rows](ctx, a.client, listPath(arg, ""), nil)
		if err != nil {
			return nil, err
		}
		for _, row := range list.Listings {
			symbols = append(symbols, row.Symbol)
		}
	}
	if len(symbols) == 0 {
		return nil, usageError{fmt.Errorf("name at least one symbol, or a watchlist that is not empty")}
	}
	return symbols, nil
}

// Marks of bars in a table.
const (
	partialMark = "◔"
	carriedMark = "↤"
	noMark      = "\u00a0\u00a0" // keeps the digits of a column below each other
)

func (a *app) pricesCommand() *cobra.Command {
	var p printing
	var from, to, on, every, adjust, columns, shape, gaps string
	var fetch bool
	c := &cobra.Command{
		Use: "prices SYMBOL...", Short: "Show prices through time", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows prices through time: of one name or many, each day or summed up into
weeks, months, quarters or years; or within the day, as --every 5m or 1h, where the
source has it. A watchlist stands for its names, - for symbols
on standard input.
A bar is marked ◔ while sessions of its stretch are still to come or lie before
the history; ↤ marks a day without a bar, on which the last one before is carried
on. Weeks run from Monday to Sunday. A range that begins within a week has the
whole of it.
What is stored is shown. With --fetch, what is due and what the range lacks is
fetched before, for all names in one plan.`,
		Example: `  soba prices KELP.XCVH --from -4w
  soba prices KELP.XCVH --from -1y --every month --columns close,volume
  soba prices KELP.XCVH FERY.XCVH CABL.XNMK --from -2w --columns close --shape wide
  soba prices income --on 2025-12-31 --columns close
  soba prices KELP.XCVH --from 2025-06-01 --to 2025-06-30 --adjust full --gaps carry
  soba prices KELP.XCVH CABL.XNMK --from 2010-01-01 --every year --fetch
  soba prices KELP.XCVH --every 30m --from -2d --fetch
  soba prices KELP.XCVH --every week --format csv --output kelp.csv`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			if shape != "long" && shape != "wide" {
				return usageError{fmt.Errorf("there is no shape %q: long or wide", shape)}
			}
			symbols, err := a.named(cmd.Context(), args)
			if err != nil {
				return err
			}
			if fetch {
				if err := a.fetchPrices(cmd, &p, symbols, cmp.Or(on, from), series.Interval(every)); err != nil {
					return err
				}
			}
			q := url.Values{"symbols": {strings.Join(symbols, ",")}, "every": {every}, "adjust": {adjust}, "to": {to}, "align": {strconv.FormatBool(shape == "wide")}}
			for name, value := range map[string]string{"from": from, "on": on, "columns": columns, "gaps": gaps} {
				if value != "" {
					q.Set(name, value)
				}
			}
			prices, err := get[wire.Prices](cmd.Context(), a.client, "/api/v1/prices", q)
			if err != nil {
				return err
			}
			wanted := strings.Split(columns, ",")
			if columns == "" {
				wanted = []string{"open", "high", "low", "close", "volume"}
			}
			wanted = slices.DeleteFunc(wanted, func(name string) bool { return strings.TrimSpace(name) == "date" })
			var header []string
			var rows [][]string
			if shape == "wide" {
				header, rows = a.wide(&prices, wanted, p.format)
			} else {
				header, rows = a.long(&prices, wanted, p.format)
			}
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, prices); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				a.aboutSeries(&prices)
			}
			return nil
		},
	}
	p.add(c)
	f := c.Flags()
	f.StringVar(&from, "from", "", "first day: a date, or counted back as -1y, -6m, -4w, -30d (default a year back)")
	f.StringVar(&to, "to", "today", "last day")
	f.StringVar(&on, "on", "", "one day instead: the last session on or before it")
	f.StringVar(&every, "every", "day", "day, week, month, quarter or year; within the day 1m, 2m, 5m, 10m, 15m, 30m, 1h, 2h or 4h")
	f.StringVar(&adjust, "adjust", "splits", "none (as traded), splits (in today's shares) or full (dividends reinvested besides)")
	f.StringVarP(&columns, "columns", "c", "", "of open, high, low, close and volume, joined by commas (default all)")
	f.StringVar(&shape, "shape", "long", "long (a line for each name and day) or wide (a line for each day)")
	f.BoolVar(&fetch, "fetch", false, "fetch what is due and what the range lacks before")
	f.StringVar(&gaps, "gaps", "", "days without a bar: drop, blank or carry (default drop, in wide shape blank)")
	for name, values := range map[string][]string{
		"every": {"day", "week", "month", "quarter", "year", "5m", "15m", "30m", "1h"}, "adjust": {"none", "splits", "full"}, "shape": {"long", "wide"}, "gaps": {"drop", "blank", "carry"},
	} {
		c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flags are there
	}
	return c
}

// fetchPrices brings the histories of names from a day on, and waits for it.
func (a *app) fetchPrices(cmd *cobra.Command, p *printing, symbols []string, from string, every series.Interval) error {
	ask := wire.RefreshAsk{Only: []string{string(catalogue.Bars), string(catalogue.Splits), string(catalogue.Dividends)}}
	if _, err := time.ParseDuration(string(every)); err == nil {
		ask.Only = []string{string(catalogue.Intraday), string(catalogue.Splits)}
		from = ""
	}
	today := period.DateOf(time.Now().UTC())
	if first, err := period.Parse(from); err == nil && first.IsDate() && from != "" { // else the service says what is wrong
		day, _ := every.Around(first.Date(today))
		ask.From = min(day, today).AddDays(-period.LongestBreak).String()
	}
	r, err := a.askRefreshOf(cmd.Context(), symbols, ask)
	if err != nil {
		return err
	}
	if r, err = a.follow(cmd.Context(), r.ID, p.format != "table"); err == nil && r.State == "failed" {
		err = errors.New(r.Fault)
	}
	return err
}

func columnOf(b *wire.PriceBars, name string) []*float64 {
	return map[string][]*float64{"open": b.Open, "high": b.High, "low": b.Low, "close": b.Close, "volume": b.Volume}[strings.TrimSpace(name)]
}

// number is a price or a volume: readable in a table, unrounded elsewhere.
func (a *app) number(x *float64, column, currency, format string) string {
	switch {
	case x == nil:
		return ""
	case format != "table":
		return strconv.FormatFloat(*x, 'f', -1, 64)
	case column == "volume":
		currency = "shares"
	}
	return a.readable(wire.Cell{V: *x, Unit: currency, State: "fresh"}, true)
}

// long is a line for each name and day.
func (a *app) long(p *wire.Prices, columns []string, format string) (header []string, rows [][]string) {
	header = append(append([]string{"symbol", "date"}, columns...), "currency", "")
	if format == "csv" {
		header[len(header)-1] = "about"
	}
	for i := range p.Series {
		s := &p.Series[i]
		for j, day := range s.Bars.Date {
			row := []string{s.Symbol, clockOf(day, format)}
			for _, c := range columns {
				row = append(row, a.number(columnOf(&s.Bars, c)[j], c, s.Currency, format))
			}
			about := ""
			switch {
			case slices.Contains(s.Bars.Carried, j):
				about = carriedMark + " carried"
			case s.Provisional && j == len(s.Bars.Date)-1:
				about = partialMark + " today so far"
			case slices.Contains(s.Bars.Partial, j):
				about = partialMark + " partial"
			}
			if _, words, marked := strings.Cut(about, " "); marked && format == "csv" {
				about = words
			}
			rows = append(rows, append(row, s.Currency, about))
		}
	}
	return header, rows
}

// clockOf writes when a bar within the day begins for people: as 2026-11-25 15:30Z.
func clockOf(moment, format string) string {
	if at, err := time.Parse(time.RFC3339, moment); err == nil && format == "table" {
		return at.Format("2006-01-02 15:04Z")
	}
	return moment
}

// wide is a line for each day, the names side by side.
func (a *app) wide(p *wire.Prices, columns []string, format string) (header []string, rows [][]string) {
	header = []string{"date"}
	for _, s := range p.Series {
		for _, c := range columns {
			name := s.Symbol
			if len(columns) > 1 {
				name += " " + c
			}
			header = append(header, name)
		}
	}
	if len(p.Series) == 0 {
		return header, nil
	}
	for j, day := range p.Series[0].Bars.Date {
		row := []string{clockOf(day, format)}
		for i := range p.Series {
			s := &p.Series[i]
			for _, c := range columns {
				text := a.number(columnOf(&s.Bars, c)[j], c, s.Currency, format)
				if format == "table" {
					switch {
					case slices.Contains(s.Bars.Carried, j):
						text += " " + carriedMark
					case slices.Contains(s.Bars.Partial, j):
						text += " " + partialMark
					default:
						text += noMark
					}
				}
				row = append(row, text)
			}
		}
		rows = append(rows, row)
	}
	return header, rows
}

// few is up to how many series each is spoken of; of more only those that lack something.
const few = 4

// aboutSeries says below a table where each series is from and what it lacks.
func (a *app) aboutSeries(p *wire.Prices) {
	fmt.Fprintln(a.out)
	for i := range p.Series {
		s := &p.Series[i]
		if len(p.Series) > few && s.State == "fresh" && len(s.Holes)+len(s.Remarks) == 0 {
			continue
		}
		parts := []string{standing(s.Symbol, s.State, s.Reason, s.Detail, s.Source)}
		if s.Currency != "" {
			parts = append(parts, s.Currency)
		}
		for _, x := range s.Splits {
			parts = append(parts, fmt.Sprintf("split %s for 1 on %s", strconv.FormatFloat(x.Ratio, 'f', -1, 64), x.Date))
		}
		if n := len(s.Dividends); n > 0 {
			parts = append(parts, plural(n, "dividend"))
		}
		if n := len(s.Holes); n > 0 {
			first := s.Holes[0]
			parts = append(parts, fmt.Sprintf("%s without a bar, the first %s (%s)", plural(n, "session"), first.Date, first.Because))
		}
		said := strings.Join(append(parts, s.Remarks...), "; ")
		if strings.HasSuffix(said, "has not been asked for") || s.Reason == "never_fetched" {
			said += ": --fetch asks for it"
		}
		fmt.Fprintln(a.out, said)
	}
}

func (a *app) dividendsCommand() *cobra.Command {
	var p printing
	var by string
	c := &cobra.Command{
		Use: "dividends SYMBOL", Short: "Show what a listing has paid, and what is coming", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows the dividends of a listing, the newest first. Amounts in today's shares are
adjusted for the splits since. What is expected is not announced: it follows the
rhythm of the last year, with the last amount.`,
		Example: "  soba dividends KELP.XCVH\n  soba dividends KELP.XCVH --by year\n  soba dividends KELP.XCVH --format csv --output kelp-dividends.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			if by != "payment" && by != "year" {
				return usageError{fmt.Errorf("dividends go by payment or by year, not by %q", by)}
			}
			d, err := get[wire.Dividends](cmd.Context(), a.client, "/api/v1/listings/"+symbolPath(args[0])+"/dividends", nil)
			if err != nil {
				return err
			}
			header, rows := a.payments(&d, p.format)
			if by == "year" {
				header, rows = a.years(&d, p.format)
			}
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, d); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintln(a.out, aboutDividends(&d))
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().StringVar(&by, "by", "payment", "payment or year")
	c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"payment", "year"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

func (a *app) payments(d *wire.Dividends, format string) (header []string, rows [][]string) {
	header = []string{"ex_date", "pay_date", "amount", "currency", "adjusted", "kind", "state"}
	if format == "table" {
		header = []string{"Ex-date", "Paid on", "Amount", "", "In today's shares", "Kind", ""}
	}
	coming := slices.Clone(d.Coming)
	slices.Reverse(coming)
	paid := d.History
	for _, x := range append(coming, paid...) {
		state := "paid"
		switch {
		case x.Expected:
			state = "expected"
		case slices.ContainsFunc(d.Coming, func(c wire.Dividend) bool { return c.Ex == x.Ex && c.Kind == x.Kind }):
			state = "announced"
			if slices.ContainsFunc(paid, func(c wire.Dividend) bool { return c.Ex == x.Ex && c.Kind == x.Kind }) {
				state = "to be paid"
			}
		}
		row := []string{x.Ex, x.Pay, a.number(&x.Amount, "amount", x.Currency, format), x.Currency, a.number(&x.Adjusted, "adjusted", x.Currency, format), x.Kind, state}
		if format == "table" && state == "paid" {
			row[6] = ""
		}
		if len(rows) > 0 && slices.ContainsFunc(rows, func(r []string) bool { return r[0] == row[0] && r[5] == row[5] }) {
			continue // one that has gone ex and is still to be paid is in both
		}
		rows = append(rows, row)
	}
	return header, rows
}

func (a *app) years(d *wire.Dividends, format string) (header []string, rows [][]string) {
	header = []string{"year", "regular", "special", "return_of_capital", "payments", "growth", "state"}
	if format == "table" {
		header = []string{"Year", "Regular", "Special", "Return of capital", "Payments", "Growth %", ""}
	}
	for _, y := range d.Years {
		row := []string{strconv.Itoa(y.Year), a.number(&y.Regular, "", d.Currency, format), "", "", strconv.Itoa(y.Payments), "", ""}
		if y.Special > 0 {
			row[2] = a.number(&y.Special, "", d.Currency, format)
		}
		if y.Capital > 0 {
			row[3] = a.number(&y.Capital, "", d.Currency, format)
		}
		if g, number := growthOf(&y); number {
			row[5] = strings.TrimSuffix(a.number(&g, "", "percent", format), " %")
		}
		if y.Partial {
			row[6] = "so far"
			if format == "table" {
				row[6] = partialMark + " so far"
			}
		}
		rows = append(rows, row)
	}
	return header, rows
}

func growthOf(y *wire.DividendYear) (float64, bool) {
	if y.Growth == nil {
		return 0, false
	}
	x, number := y.Growth.V.(float64)
	return x, number
}

func aboutDividends(d *wire.Dividends) string {
	text := standing(d.Symbol, d.State, d.Reason, d.Detail, d.Source)
	switch {
	case d.Reason == "not_applicable":
		text += "; its kind of instrument pays none"
	case d.State != "missing" && len(d.History)+len(d.Coming) == 0:
		text += "; it has paid none"
	}
	if d.Overdue != "" {
		text += "; one was due on " + d.Overdue + " and is not known"
	}
	return text
}
