package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) estimatesCommand() *cobra.Command {
	var p printing
	var history, opinions bool
	c := &cobra.Command{
		Use: "estimates SYMBOL", Short: "Show what analysts expect of an issuer", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows what analysts expect of the next quarters and years of an issuer: the mean,
highest and lowest estimate of earnings a share with what the mean was before, and of
revenue. With --history what was expected of past quarters, and what they became; with
--opinions what analysts recommended month by month, and the prices they aimed at.
Of many names at once these are columns: 'soba table LIST --view analysts'.`,
		Example: "  soba estimates KELP.XCVH\n  soba estimates KELP.XCVH --history\n  soba estimates KELP.XCVH --opinions\n  soba estimates KELP.XCVH --format csv --output kelp-estimates.csv\n  soba table income --view analysts",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			e, err := get[wire.Estimates](cmd.Context(), a.client, "/api/v1/listings/"+symbolPath(args[0])+"/estimates", nil)
			if err != nil {
				return err
			}
			header, rows := a.estimateRows(&e, p.format, history)
			if opinions {
				header, rows = a.opinionRows(&e, p.format)
			}
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, e); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintln(a.out, aboutEstimates(&e))
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().BoolVar(&history, "history", false, "past quarters: what was expected, and what they became")
	c.Flags().BoolVar(&opinions, "opinions", false, "recommendations and target prices, month by month")
	c.MarkFlagsMutuallyExclusive("history", "opinions")
	return c
}

func (a *app) opinionRows(e *wire.Estimates, format string) (header []string, rows [][]string) {
	header = []string{"date", "strong_buy", "buy", "hold", "reduce", "sell", "recommendation", "target", "target_high", "target_low"}
	if format == "table" {
		header = []string{"", "Strong buy", "Buy", "Hold", "Reduce", "Sell", "Mean", "Target", "Highest", "Lowest"}
	}
	for _, o := range e.Opinions {
		row := []string{o.Date}
		for _, n := range []*float64{o.StrongBuy, o.Buy, o.Hold, o.Reduce, o.Sell} {
			row = append(row, a.number(n, "", "count", format))
		}
		row = append(row, a.number(o.Recommendation, "", "ratio", format))
		for _, price := range []*float64{o.Target, o.High, o.Low} {
			row = append(row, a.number(price, "", e.Currency, format))
		}
		rows = append(rows, row)
	}
	return header, rows
}

func (a *app) estimateRows(e *wire.Estimates, format string, history bool) (header []string, rows [][]string) {
	money := func(x *float64) string { return a.number(x, "", e.In, format) }
	plain := func(x *float64, unit string) string {
		if x == nil {
			return ""
		}
		return a.number(x, "", unit, format)
	}
	if history {
		header = []string{"period", "end", "expected", "became", "surprise", "high", "low", "analysts"}
		if format == "table" {
			header = []string{"", "Up to", "Expected", "Became", "Surprise", "Highest", "Lowest", "Analysts"}
		}
		for _, x := range e.Behind {
			rows = append(rows, []string{x.Period, x.End, money(x.EPS), money(x.Actual), plain(x.Surprise, "percent"), money(x.High), money(x.Low), plain(x.Analysts, "count")})
		}
		return header, rows
	}
	header = []string{"period", "end", "eps", "high", "low", "analysts", "eps_7d", "eps_30d", "eps_60d", "eps_90d", "revenue"}
	if format == "table" {
		header = []string{"", "Up to", "Earnings a share", "Highest", "Lowest", "Analysts", "7 days ago", "30 days", "60 days", "90 days", "Revenue"}
	}
	for _, x := range e.Ahead {
		rows = append(rows, []string{
			x.Period, x.End, money(x.EPS), money(x.High), money(x.Low), plain(x.Analysts, "count"), money(x.Before7), money(x.Before30), money(x.Before60), money(x.Before90), money(x.Revenue),
		})
	}
	return header, rows
}

func aboutEstimates(e *wire.Estimates) string {
	text := "\n" + standing(e.Symbol, e.State, e.Reason, e.Detail, e.Source)
	if e.In != "" {
		text += "; " + e.In
	}
	if e.Next != "" {
		text += "; next report expected on " + e.Next
	}
	switch {
	case e.Reason == "not_applicable":
		text += "; nobody estimates the earnings of its kind of instrument"
	case e.Reason == "never_fetched":
		text += ": 'soba refresh " + e.Symbol + "' asks for them"
	case e.State != "missing" && len(e.Ahead)+len(e.Behind) == 0:
		text += "; no analyst follows it"
	}
	return text
}
