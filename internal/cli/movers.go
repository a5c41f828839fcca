package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

// movements are the ways in which names stand out, each a filter and an order of
// the list's table.
var movements = []struct{ name, title, where, sort string }{
	{"gainers", "Gained most", "quote.change_pct > 0", "-quote.change_pct"},
	{"losers", "Lost most", "quote.change_pct < 0", "quote.change_pct"},
	{"traded", "Traded most", "quote.turnover > 0", "-quote.turnover"},
	{"highs", "At a high of the year", "price.latest >= price.high_52w", "-quote.change_pct"},
	{"lows", "At a low of the year", "price.latest <= price.low_52w", "quote.change_pct"},
}

func (a *app) moversCommand() *cobra.Command {
	var p printing
	var by, in string
	var top int
	c := &cobra.Command{
		Use: "movers WATCHLIST", Short: "Show what stands out in a list today", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Long: `Shows which names of a list gained and lost most since the previous close, were
traded for most, or stand at a high or low of the year. Turnover is compared in one
currency: that of most of the names unless --in says which.`,
		Example: "  soba movers everything\n  soba movers everything --by gainers --top 20\n  soba movers growth --by traded --in EUR\n  soba movers everything --by highs --format csv --output highs.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			names := make([]string, len(movements))
			for i, m := range movements {
				names[i] = m.name
			}
			if by != "" && !slices.Contains(names, by) {
				return usageError{fmt.Errorf("names do not stand out by %q: there are %s", by, strings.Join(names, ", "))}
			}
			if top < 1 {
				return usageError{fmt.Errorf("--top %d: write how many names to show of each, 1 or more", top)}
			}
			header := []string{"by", "symbol", "name", "last", "currency", "change_pct", "volume", "turnover"}
			var rows [][]string
			whole := map[string][]wire.TableRow{}
			for _, m := range movements {
				if by != "" && by != m.name {
					continue
				}
				q := url.Values{"columns": {"quote.last,quote.change_pct,quote.volume,quote.turnover"}, "where": {m.where}, "sort": {m.sort}}
				if in != "" {
					q.Set("in", in)
				}
				t, err := get[wire.Table](cmd.Context(), a.client, listPath(args[0], "/table"), q)
				if common, several := commonCurrency(t.Rows); err == nil && m.name == "traded" && in == "" && several {
					q.Set("in", common)
					t, err = get[wire.Table](cmd.Context(), a.client, listPath(args[0], "/table"), q)
				}
				if err != nil {
					return err
				}
				found := t.Rows[:min(top, len(t.Rows))]
				whole[m.name] = found
				title := m.title
				if p.format != "table" {
					title = m.name
				}
				if len(found) == 0 && p.format == "table" {
					rows = append(rows, []string{title, "–", "", "", "", "", "", ""})
				}
				for _, r := range found {
					row := []string{title, r.Symbol, r.Name, "", r.Currency, "", "", ""}
					if t.In != "" {
						row[4] = t.In
					}
					for i, at := range []int{3, 5, 6, 7} {
						row[at] = a.plainOrReadable(r.Cells[i], p.format)
					}
					if p.format == "table" {
						row[2] = shorten(r.Name, 26)
						title = ""
					}
					rows = append(rows, row)
				}
			}
			if p.format == "table" {
				header = []string{"", "Symbol", "Name", "Last", "", "Change %", "Volume", "Turnover"}
			}
			return a.print(&p, header, rows, whole)
		},
	}
	p.add(c)
	c.Flags().StringVar(&by, "by", "", "gainers, losers, traded, highs or lows (default all)")
	c.Flags().IntVar(&top, "top", 5, "how many names of each")
	c.Flags().StringVar(&in, "in", "", "compare in one currency, as EUR")
	return c
}

// commonCurrency is the currency that most rows are in, and whether there are others.
func commonCurrency(rows []wire.TableRow) (common string, several bool) {
	count := map[string]int{}
	for _, r := range rows {
		count[r.Currency]++
		if n := count[r.Currency]; n > count[common] || n == count[common] && r.Currency < common {
			common = r.Currency
		}
	}
	return common, len(count) > 1
}

// plainOrReadable is a value for people in a table, and unrounded elsewhere.
func (a *app) plainOrReadable(c wire.Cell, format string) string {
	switch {
	case format == "table":
		return strings.TrimSuffix(a.readable(c, true), " %")
	case c.V == nil:
		return ""
	}
	if x, number := c.V.(float64); number {
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return fmt.Sprint(c.V)
}
