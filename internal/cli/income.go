package cli

import (
	"fmt"
	"math"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/income"
	"soba.invalid/soba/internal/wire"
)

func (a *app) incomeCommand() *cobra.Command {
	var p printing
	var by, in string
	c := &cobra.Command{
		Use: "income WATCHLIST", Short: "Show what the holdings of a list will pay within a year", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Long: `Shows the dividends and coupons that the holdings of a list will pay within a year: those
announced, and those that the rhythm of the last year lets expect with the last
amount. Months are those of payment. Amounts stay in their own currencies unless
--in names one; they are before tax.`,
		Example: "  soba income income\n  soba income income --by name\n  soba income income --by payment --in GBP\n  soba income income --by payment --format csv --output calendar.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{}
			if in != "" {
				q.Set("in", in)
			}
			var lay func(*wire.Income, string) ([]string, [][]string)
			switch by {
			case "month":
				lay = a.incomeMonths
			case "name":
				lay = a.incomeNames
			case "payment":
				lay = a.incomePayments
			default:
				return usageError{fmt.Errorf("income goes by month, name or payment, not by %q", by)}
			}
			x, err := get[wire.Income](cmd.Context(), a.client, listPath(args[0], "/income"), q)
			if err != nil {
				return err
			}
			header, rows := lay(&x, p.format)
			if p.format != "table" || len(x.Payments) > 0 || by == "name" && len(rows) > 0 {
				if err := a.print(&p, header, rows, x); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintln(a.out, a.aboutIncome(&x))
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().StringVar(&by, "by", "month", "month, name or payment")
	c.Flags().StringVar(&in, "in", "", "convert all amounts into one currency, as EUR, at the newest reference rates")
	c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"month", "name", "payment"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

// barWidth is how many characters the largest month takes.
const barWidth = 24

// incomeMonths is a line for each month and currency, with a bar in the terminal.
func (a *app) incomeMonths(x *wire.Income, format string) (header []string, rows [][]string) {
	header = []string{"month", "amount", "currency", "expected"}
	if format == "table" {
		header = []string{"Month", "Amount", "", "Not announced", ""}
	}
	most := map[string]float64{}
	for _, m := range x.Months {
		for _, s := range m.Sums {
			most[s.Currency] = math.Max(most[s.Currency], s.Amount)
		}
	}
	for _, m := range x.Months {
		month := m.Month
		if len(m.Sums) == 0 && format == "table" {
			rows = append(rows, []string{month, "–", "", "", ""})
		}
		for _, s := range m.Sums {
			row := []string{month, a.amount(s.Amount, format), s.Currency, a.amount(s.Expected, format)}
			if format == "table" {
				row = append(row, bar(s.Amount/most[s.Currency]))
				month = ""
				if s.Expected == 0 {
					row[3] = ""
				}
			}
			rows = append(rows, row)
		}
	}
	return header, rows
}

// bar is a fraction as a bar of blocks.
func bar(fraction float64) string {
	eighths := int(math.Round(fraction * barWidth * 8))
	out := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		out += string([]rune(" ▏▎▍▌▋▊▉")[rest])
	}
	return out
}

// amount is money with two places, unrounded for other programs.
func (a *app) amount(x float64, format string) string {
	if format != "table" {
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return a.readable(wire.Cell{V: math.Round(x*100) / 100, Unit: "money", State: "fresh"}, true)
}

func (a *app) incomeNames(x *wire.Income, format string) (header []string, rows [][]string) {
	header = []string{"symbol", "name", "quantity", "payments", "amount", "currency", "yield_on_cost", "state"}
	if format == "table" {
		header = []string{"Symbol", "Name", "Quantity", "Payments", "Amount", "", "Yield on cost %", ""}
	}
	for _, n := range x.Names {
		state := n.State
		if n.Reason != "" {
			state += ": " + n.Reason
		}
		onCost := ""
		if n.OnCost != nil {
			onCost = strings.TrimSuffix(a.number(n.OnCost, "", "percent", format), " %")
		}
		row := []string{n.Symbol, n.Name, a.number(&n.Quantity, "volume", "", format), strconv.Itoa(n.Payments), a.amount(n.Amount, format), n.Paid, onCost, state}
		if format == "table" {
			row[1] = shorten(n.Name, 26)
			switch {
			case n.Reason == "not_applicable":
				row[3], row[4], row[7] = "", "", "pays nothing"
			case n.State == "missing" || n.State == "pending":
				row[4], row[7] = a.dim(marks[n.State]+" "+n.Reason), n.Detail
			case n.State == "fresh":
				row[7] = ""
			}
		}
		rows = append(rows, row)
	}
	return header, rows
}

func (a *app) incomePayments(x *wire.Income, format string) (header []string, rows [][]string) {
	header = []string{"on", "ex_date", "symbol", "name", "per_share", "quantity", "amount", "currency", "kind", "state"}
	if format == "table" {
		header = []string{"Paid on", "Ex-date", "Symbol", "Name", "A share", "Quantity", "Amount", "", "Kind", ""}
	}
	for _, y := range x.Payments {
		state := "announced"
		switch {
		case y.Expected:
			state = "expected"
		case y.Kind == income.Coupon:
			state = "owed"
		}
		rows = append(rows, []string{y.On, y.Ex, y.Symbol, shorten(y.Name, 26), a.number(&y.PerShare, "", y.Currency, format), a.number(&y.Quantity, "volume", "", format), a.amount(y.Amount, format), y.Currency, y.Kind, state})
	}
	return header, rows
}

func (a *app) aboutIncome(x *wire.Income) string {
	var parts []string
	for _, s := range x.Total {
		part := a.amount(s.Amount, "table") + " " + s.Currency
		if s.Expected > 0 {
			part += " (" + a.amount(s.Expected, "table") + " not announced)"
		}
		parts = append(parts, part)
	}
	switch {
	case len(x.Names) == 0:
		return fmt.Sprintf("\nNothing is held in %s: 'soba watchlist set %s SYMBOL --quantity N' says what you have.", x.Watchlist, x.Watchlist)
	case len(parts) == 0:
		return fmt.Sprintf("\nNo dividend is known or expected from %s to %s.", x.From, x.To)
	}
	out := fmt.Sprintf("\nfrom %s to %s: %s", x.From, x.To, strings.Join(parts, ", "))
	unknown := 0
	for _, n := range x.Names {
		if (n.State == "missing" || n.State == "pending") && n.Reason != "not_applicable" {
			unknown++
		}
	}
	if unknown > 0 {
		out += fmt.Sprintf("; of %s nothing is known: --by name says why", plural(unknown, "holding"))
	}
	return out
}
