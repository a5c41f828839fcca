package cli

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) acrossCommand() *cobra.Command {
	var p printing
	var fields []string
	var by, in string
	var count int
	var common, byFigure bool
	c := &cobra.Command{
		Use: "across NAME...", Short: "Show figures of accounts across names, period by period", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows figures of accounts of several names side by side: twelve ratios unless others
are named, of the last five years. Each name has periods of its own, and their ends
stand above them; one that ends more than 92 days before another's is marked. With
--common all are read to the newest day to which every name has accounts. What is
blank says why.`,
		Example: "  soba across growth\n  soba across KELP.XCVH HBNK.XCVH CHRT.XNMK --fields income.revenue,margin.net\n  soba across income --fields return.equity --by-figure --count 8\n  soba across income --common\n  soba across income --format csv --output across.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			symbols, err := a.named(cmd.Context(), args)
			if err != nil {
				return err
			}
			q := url.Values{"symbols": {strings.Join(symbols, ",")}, "fields": {strings.Join(fields, ",")}, "by": {by}, "count": {strconv.Itoa(count)}, "common": {strconv.FormatBool(common)}, "in": {in}}
			x, err := get[wire.Across](cmd.Context(), a.client, "/api/v1/across", q)
			if err != nil {
				return err
			}
			if p.format != "table" {
				return a.print(&p, []string{"symbol", "field", "period", "label", "end", "value", "unit", "state", "reason", "detail"}, acrossLines(&x), x)
			}
			p.right = true
			header, rows := a.acrossByName(&x)
			if byFigure {
				header, rows = a.acrossByFigure(&x)
			}
			if err := a.print(&p, header, rows, x); err != nil || p.output != "" {
				return err
			}
			a.aboutAcross(&x)
			return nil
		},
	}
	p.add(c)
	c.Flags().StringSliceVar(&fields, "fields", nil, "figures, as margin.net,value.pe (default twelve ratios)")
	c.Flags().StringVar(&by, "by", "year", "year, half, quarter, or ttm (twelve months up to each)")
	c.Flags().IntVar(&count, "count", 5, "how many periods, up to 20, the newest first")
	c.Flags().BoolVar(&common, "common", false, "read all to the newest day to which every name has accounts")
	c.Flags().BoolVar(&byFigure, "by-figure", false, "one block for each figure, instead of one for each name")
	c.Flags().StringVar(&in, "in", "", "convert amounts into one currency, as EUR, at the newest rate")
	c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"year", "half", "quarter", "ttm"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	c.RegisterFlagCompletionFunc("fields", a.completeFields)                                                                                   //nolint:errcheck // the flag is there
	return c
}

// periodOfInput is the period of an input that a reason names, which differs from column
// to column.
var periodOfInput = regexp.MustCompile(`([a-z]\.[a-z0-9_]+)@[-A-Z0-9]+`)

// apartMark stands beside the end of a period that is far from those of other names.
const apartMark = "≠"

func endOf(e wire.PeriodEnd) string {
	switch {
	case e.End == "":
		return ""
	case e.Apart:
		return e.End + " " + apartMark
	}
	return e.End
}

// acrossByName is a block for each name, with its own periods above.
func (a *app) acrossByName(x *wire.Across) (header []string, rows [][]string) {
	header = append([]string{""}, x.Periods...)
	for i := range x.Rows {
		r := &x.Rows[i]
		if i > 0 {
			rows = append(rows, make([]string, len(header)))
		}
		head, ends := []string{a.bold(r.Symbol) + "  " + r.Name}, []string{a.dim("up to")}
		for _, e := range r.Ends {
			head, ends = append(head, e.Label), append(ends, a.dim(endOf(e)))
		}
		if x.Common == "" {
			rows = append(rows, head)
		} else {
			rows = append(rows, append([]string{head[0]}, make([]string, len(r.Ends))...))
		}
		rows = append(rows, ends)
		for k := range x.Fields {
			rows = append(rows, append([]string{"  " + figure(&x.Fields[k], r)}, a.acrossCells(r.Cells[k])...))
		}
	}
	return header, rows
}

// acrossByFigure is a block for each figure, with a line for each name.
func (a *app) acrossByFigure(x *wire.Across) (header []string, rows [][]string) {
	header = append([]string{"", "Newest up to"}, x.Periods...)
	for k := range x.Fields {
		if k > 0 {
			rows = append(rows, make([]string, len(header)))
		}
		title := x.Fields[k].Label
		if x.Fields[k].Unit == "percent" {
			title += " %"
		}
		rows = append(rows, append([]string{a.bold(title)}, make([]string, len(header)-1)...))
		for i := range x.Rows {
			r := &x.Rows[i]
			unit := strings.TrimSuffix(strings.TrimPrefix(figure(&x.Fields[k], r), x.Fields[k].Label), " %")
			rows = append(rows, append([]string{"  " + r.Symbol + unit, a.dim(endOf(r.Ends[0]))}, a.acrossCells(r.Cells[k])...))
		}
	}
	return header, rows
}

// figure is a figure's name with its unit.
func figure(f *wire.AcrossField, r *wire.AcrossRow) string {
	unit := ""
	switch f.Unit {
	case "percent":
		unit = " %"
	case "price", "money":
		for _, cells := range r.Cells { // the currency of the accounts
			for _, c := range cells {
				if len(c.Unit) == 3 {
					unit = " " + c.Unit
				}
			}
		}
	}
	return f.Label + unit
}

func (a *app) acrossCells(cells []wire.Cell) (out []string) {
	for _, c := range cells {
		text := a.readable(c, true)
		switch x, number := c.V.(float64); {
		case c.V == nil:
			text = a.dim(marks[c.State] + " " + strings.ReplaceAll(c.Reason, "_", " "))
		case number && c.Unit == "percent": // with two decimals, so that they stand below each other
			text = a.readable(wire.Cell{V: decimals(100 * x), State: c.State}, true)
		case number && c.Unit == "ratio":
			text = a.readable(wire.Cell{V: decimals(x), State: c.State}, true)
		}
		out = append(out, text)
	}
	return out
}

func decimals(x float64) string {
	return strings.ReplaceAll(strconv.FormatFloat(x, 'f', 2, 64), "-", "−")
}

// aboutAcross says why what is blank is, each reason once a name, and what the marks mean.
func (a *app) aboutAcross(x *wire.Across) {
	fmt.Fprintln(a.out)
	if x.Common != "" {
		fmt.Fprintf(a.out, "The twelve months up to %s, to which every name has accounts, and the same a year before each.\n", x.Common)
	}
	apart := false
	for i := range x.Rows {
		r := &x.Rows[i]
		apart = apart || slices.ContainsFunc(r.Ends, func(e wire.PeriodEnd) bool { return e.Apart })
		because := map[string][]string{}
		var order []string
		for k, cells := range r.Cells {
			for n, c := range cells {
				if c.V != nil {
					continue
				}
				why := strings.ReplaceAll(c.Reason, "_", " ")
				if c.Detail != "" {
					why += ": " + periodOfInput.ReplaceAllString(c.Detail, "$1")
				}
				if because[why] == nil {
					order = append(order, why)
				}
				what := strings.ToLower(x.Fields[k].Label)
				if n > 0 || c.Reason != "not_applicable" {
					what += " " + x.Periods[n]
				}
				because[why] = append(because[why], what)
			}
		}
		for _, why := range order {
			what := because[why]
			text := strings.Join(what, ", ")
			if len(what) > 3 {
				text = fmt.Sprintf("%s and %d more", strings.Join(what[:2], ", "), len(what)-2)
			}
			fmt.Fprintf(a.out, "%s %s: %s (%s)\n", marks["missing"], r.Symbol, why, text)
		}
	}
	if len(x.Omitted) > 0 {
		fmt.Fprintf(a.out, "left out, for they publish no accounts: %s\n", strings.Join(x.Omitted, ", "))
	}
	if apart {
		fmt.Fprintf(a.out, "%s ends more than 92 days before the newest of the same column\n", apartMark)
	}
}

// acrossLines are the figures in the long shape.
func acrossLines(x *wire.Across) (rows [][]string) {
	for i := range x.Rows {
		r := &x.Rows[i]
		for k := range x.Fields {
			for n, c := range r.Cells[k] {
				value := ""
				if v, number := c.V.(float64); number {
					value = strconv.FormatFloat(v, 'f', -1, 64)
				}
				rows = append(rows, []string{r.Symbol, x.Fields[k].ID, x.Periods[n], r.Ends[n].Label, r.Ends[n].End, value, c.Unit, c.State, c.Reason, c.Detail})
			}
		}
	}
	return rows
}
