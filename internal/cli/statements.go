package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

// scales are the units in which amounts of accounts can be written.
var scales = map[string]float64{"units": 1, "thousands": 1e3, "millions": 1e6, "billions": 1e9}

func (a *app) statementsCommand() *cobra.Command {
	var p printing
	var by, of, in, scale string
	var count int
	var growth bool
	c := &cobra.Command{
		Use: "statements SYMBOL", Short: "Show the accounts of an issuer through time", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows the accounts of an issuer, line by line: by year, half, quarter, or for the
twelve months up to each report. What no report has as it is, is put together from
those that add up to it, and said so below: a fourth quarter from the year and the
nine months before. Shares and amounts for one share are in today's shares. Amounts
are in the currency of the accounts unless --in names another.`,
		Example: `  soba statements KELP.XCVH
  soba statements KELP.XCVH --by quarter --of income --count 8
  soba statements KELP.XCVH --of cash --growth --scale millions
  soba statements QUAY.XNMK --by half --in EUR
  soba statements KELP.XCVH --count 20 --format csv --output accounts.csv`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			if _, known := scales[scale]; !known && scale != "" {
				return usageError{fmt.Errorf("there is no scale %q: units, thousands, millions or billions", scale)}
			}
			q := url.Values{"by": {by}, "of": {of}, "count": {strconv.Itoa(count)}, "growth": {strconv.FormatBool(growth)}}
			if in != "" {
				q.Set("in", in)
			}
			s, err := get[wire.Statements](cmd.Context(), a.client, "/api/v1/listings/"+symbolPath(args[0])+"/statements", q)
			if err != nil {
				return err
			}
			header, rows := a.accountRows(&s, p.format, cmp.Or(scales[scale], 0))
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, s); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintln(a.out, aboutStatements(&s, scale))
			}
			return nil
		},
	}
	p.add(c)
	f := c.Flags()
	f.StringVar(&by, "by", "year", "year, half, quarter, or ttm (twelve months up to each)")
	f.StringVar(&of, "of", "all", "income, balance, cash or all")
	f.IntVar(&count, "count", 5, "how many periods, up to 40, the newest first")
	f.BoolVar(&growth, "growth", false, "with the growth of each line against the same period a year before")
	f.StringVar(&scale, "scale", "", "write all amounts in units, thousands, millions or billions (default as 9.18 bn)")
	f.StringVar(&in, "in", "", "convert amounts into one currency, as EUR, at the newest rate")
	for name, values := range map[string][]string{"by": {"year", "half", "quarter", "ttm"}, "of": {"all", "income", "balance", "cash"}, "scale": {"units", "thousands", "millions", "billions"}} {
		c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flags are there
	}
	return c
}

// accountRows are the lines of accounts with a column for each period.
func (a *app) accountRows(s *wire.Statements, format string, scale float64) (header []string, rows [][]string) {
	header = []string{"field", "line"}
	if format == "table" {
		header = []string{""}
	}
	for _, p := range s.Periods {
		if format == "table" {
			header = append(header, p.Label+"\nto "+p.End)
		} else {
			header = append(header, p.Label)
		}
	}
	group := ""
	for i := range s.Lines {
		l := &s.Lines[i]
		if g, _, _ := strings.Cut(l.Field, "."); format == "table" && g != group {
			group = g
			rows = append(rows, append([]string{a.bold(map[string]string{"income": "Income", "balance": "Balance sheet", "cash": "Cash flow"}[g])}, make([]string, len(s.Periods))...))
		}
		row := []string{l.Field, l.Label}
		if format == "table" {
			row = []string{"  " + l.Label}
		}
		for _, c := range l.Cells {
			row = append(row, a.accountCell(c, l.Field, format, scale))
		}
		rows = append(rows, row)
		if len(l.Growth) == 0 || !slices.ContainsFunc(l.Growth, func(x *float64) bool { return x != nil }) {
			continue
		}
		row = []string{l.Field, l.Label + ", growth"}
		if format == "table" {
			row = []string{a.dim("    growth %")}
		}
		for _, x := range l.Growth {
			text := ""
			if x != nil {
				text = strings.TrimSuffix(a.number(x, "", "percent", format), " %")
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	return header, rows
}

// restatedMark stands beside a value that its issuer has changed since.
const restatedMark = "↺"

func (a *app) accountCell(c wire.Cell, field, format string, scale float64) string {
	text := a.accountText(c, field, format, scale)
	if format == "table" && slices.Contains(c.Flags, "restated") {
		text += " " + restatedMark
	}
	return text
}

func (a *app) accountText(c wire.Cell, field, format string, scale float64) string {
	x, number := c.V.(float64)
	perShare := strings.HasPrefix(field, "income.eps")
	switch {
	case format != "table" && number:
		if scale > 0 && !perShare {
			x /= scale
		}
		return strconv.FormatFloat(x, 'f', -1, 64)
	case format != "table":
		return ""
	case !number && c.Reason == "not_reported":
		return a.dim(marks[c.State])
	case number && scale > 0 && !perShare:
		c.V, c.Unit = x/scale, "ratio"
		return strings.ReplaceAll(strings.ReplaceAll(strconv.FormatFloat(x/scale, 'f', map[bool]int{true: 0, false: 2}[scale <= 1e3], 64), "-", "−"), ",", "")
	}
	return a.readable(c, true)
}

func aboutStatements(s *wire.Statements, scale string) string {
	text := "\n" + standing(s.Symbol, s.State, s.Reason, s.Detail, s.Source)
	if s.Currency != "" {
		text += "; " + s.Currency
		if scale != "" && scale != "units" {
			text += " in " + scale
		}
	}
	switch {
	case s.Reason == "not_applicable":
		text += "; its kind of instrument publishes no accounts"
	case s.Reason == "never_fetched":
		text += ": 'soba refresh " + s.Symbol + "' asks for them"
	case len(s.Periods) == 0 && s.State != "missing":
		text += fmt.Sprintf("; it publishes nothing by %s", s.By)
	}
	for _, p := range s.Periods {
		if p.Standalone {
			text += "; of the parent alone, for want of consolidated accounts"
			break
		}
	}
	for _, p := range s.Periods {
		if p.Derived != "" {
			text += fmt.Sprintf("\n%s = %s", p.Label, p.Derived)
		}
	}
	if slices.ContainsFunc(s.Lines, func(l wire.StatementLine) bool {
		return slices.ContainsFunc(l.Cells, func(c wire.Cell) bool { return slices.Contains(c.Flags, "restated") })
	}) {
		text += "\n" + restatedMark + " restated since it was first known; 'soba explain' tells what it was"
	}
	if len(s.Unreported) > 0 {
		text += "\nnot reported: " + strings.Join(s.Unreported, ", ")
	}
	return text
}
