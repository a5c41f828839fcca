package cli

import (
	"errors"
	"fmt"
	"net/url"

	"github.com/spf13/cobra"
	"gonum.org/v1/plot"

	"soba.invalid/soba/internal/draw"
	"soba.invalid/soba/internal/wire"
)

func (a *app) chartCommand() *cobra.Command {
	var of, from, every, adjust, in, output string
	c := &cobra.Command{
		Use: "chart NAME", Short: "Draw prices, dividends or income into a file", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Draws a figure into a file; its ending says the format: .svg, .png or .pdf. Of a
listing that is its closing prices, with volume, splits and ex-dates, or its dividends
by year; of a watchlist its income by month.`,
		Example: `  soba chart KELP.XCVH --from -5y --output kelp.svg
  soba chart WIND.XCVH --every week --adjust full --output wind.png
  soba chart KELP.XCVH --of dividends --output kelp-dividends.svg
  soba chart income --of income --output income.svg`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if output == "" {
				return usageError{errors.New("name a file to draw into with --output, as --output kelp.svg")}
			}
			figure, err := a.figure(cmd, of, args[0], url.Values{"from": {from}, "every": {every}, "adjust": {adjust}, "in": {in}})
			if errors.Is(err, draw.ErrNothing) {
				return fmt.Errorf("there is nothing to draw: no %s of %s is known in that range", of, args[0])
			}
			if err != nil {
				return err
			}
			if err := draw.Save(figure, output); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "drew %s\n", output)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&of, "of", "prices", "prices, dividends or income")
	f.StringVar(&from, "from", "-1y", "first day of prices: a date, or counted back as -5y")
	f.StringVar(&every, "every", "day", "day, week, month, quarter or year")
	f.StringVar(&adjust, "adjust", "splits", "none (as traded), splits (in today's shares) or full (dividends reinvested besides)")
	f.StringVar(&in, "in", "", "currency of income, as EUR")
	f.StringVarP(&output, "output", "o", "", "file to draw into: .svg, .png or .pdf")
	c.RegisterFlagCompletionFunc("of", cobra.FixedCompletions([]string{"prices", "dividends", "income"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

// figure asks the service for what is to be drawn, and draws it.
func (a *app) figure(cmd *cobra.Command, of, name string, q url.Values) (*plot.Plot, error) {
	ctx := cmd.Context()
	switch of {
	case "prices":
		p, err := get[wire.Prices](ctx, a.client, "/api/v1/prices", url.Values{"symbols": {name}, "from": q["from"], "every": q["every"], "adjust": q["adjust"], "columns": {"close,volume"}})
		if err != nil {
			return nil, err
		}
		return draw.Prices(&p.Series[0], p.Adjust)
	case "dividends":
		d, err := get[wire.Dividends](ctx, a.client, "/api/v1/listings/"+symbolPath(name)+"/dividends", nil)
		if err != nil {
			return nil, err
		}
		return draw.Dividends(&d)
	case "income":
		if q.Get("in") == "" {
			q.Del("in")
		}
		x, err := get[wire.Income](ctx, a.client, listPath(name, "/income"), url.Values{"in": q["in"]})
		if err != nil {
			return nil, err
		}
		return draw.Income(&x)
	}
	return nil, usageError{fmt.Errorf("%q cannot be drawn: there are prices, dividends and income", of)}
}
