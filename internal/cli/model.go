package cli

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) modelCommand() *cobra.Command {
	var p printing
	var of, base string
	var years, years2 int
	var save, reset, plain bool
	rates := map[string]*string{"growth": new(string), "growth2": new(string), "terminal": new(string), "discount": new(string)}
	c := &cobra.Command{
		Use: "model SYMBOL", Short: "Value a share by what it will pay", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Values a share by its free cash flow, earnings or dividends: they grow in two stages
and then for ever, and are discounted to today. --of gordon lets dividends grow alike
for ever. Each assumption is shown with where it is from, the history or a convention,
and can be changed; below stands what the share is worth, how far that is from the
price, which growth the price implies, and the value under other rates.
Free cash flow is after interest, so that debt is not subtracted again. What cannot be
valued so, a loss or a share without dividends, is refused.
--save keeps the assumptions that are given with the name, for the next time; --reset
takes them away, and --plain leaves them out once.`,
		Example: "  soba model KELP.XCVH\n  soba model KELP.XCVH --of dividends --growth 4% --years 8 --discount 8%\n  soba model HBNK.XCVH --of gordon\n  soba model KELP.XCVH --discount 8% --save\n  soba model KELP.XCVH --reset\n  soba model KELP.XCVH --of earnings --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			q := url.Values{"of": {of}}
			for name, text := range rates {
				if *text == "" {
					continue
				}
				x, err := fraction(*text)
				if err != nil {
					return usageError{fmt.Errorf("--%s %w", name, err)}
				}
				q.Set(name, x)
			}
			if base != "" {
				q.Set("base", base)
			}
			for name, n := range map[string]int{"years": years, "years2": years2} {
				if cmd.Flags().Changed(name) {
					q.Set(name, strconv.Itoa(n))
				}
			}
			path := "/api/v1/listings/" + symbolPath(args[0]) + "/model"
			if save && len(q) == 1 {
				return usageError{errors.New("there is nothing to save: give an assumption, as --discount 8%")}
			}
			if save || reset {
				kept := wire.ModelSaved{Of: of, Assumptions: map[string]float64{}}
				if save { // with what is kept already
					m, err := get[wire.Model](cmd.Context(), a.client, path, q)
					if err != nil {
						return err
					}
					for _, x := range m.Assumptions {
						if x.Yours && x.Value != nil {
							kept.Assumptions[x.Name] = *x.Value
						}
					}
				}
				if _, err := call[wire.Model](cmd.Context(), a.client, http.MethodPut, path, nil, kept); err != nil {
					return err
				}
				q = url.Values{"of": {of}}
			}
			if plain {
				q.Set("plain", "true")
			}
			m, err := get[wire.Model](cmd.Context(), a.client, path, q)
			if err != nil {
				return err
			}
			header, rows := a.assumptions(&m, p.format)
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, m); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				a.aboutModel(&m)
			}
			return nil
		},
	}
	p.add(c)
	f := c.Flags()
	f.StringVar(&of, "of", "cash", "cash (free cash flow), earnings, dividends or gordon")
	f.StringVar(&base, "base", "", "payment of the past year for one share")
	f.StringVar(rates["growth"], "growth", "", "growth of the first stage a year, as 5%")
	f.StringVar(rates["growth2"], "growth2", "", "growth of the second stage a year")
	f.StringVar(rates["terminal"], "terminal", "", "growth after both, for ever")
	f.StringVar(rates["discount"], "discount", "", "rate at which payments are discounted")
	f.IntVar(&years, "years", 5, "years of the first stage")
	f.IntVar(&years2, "years2", 5, "years of the second stage")
	f.BoolVar(&save, "save", false, "keep the assumptions that are given with the name")
	f.BoolVar(&reset, "reset", false, "take the assumptions away that are kept with the name")
	f.BoolVar(&plain, "plain", false, "leave out what is kept with the name")
	c.MarkFlagsMutuallyExclusive("save", "reset", "plain")
	c.RegisterFlagCompletionFunc("of", cobra.FixedCompletions([]string{"cash", "earnings", "dividends", "gordon"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

// fraction reads 5% or 0.05.
func fraction(text string) (string, error) {
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	x, err := strconv.ParseFloat(number, 64)
	if err != nil || !percent && (x <= -1 || x >= 1) {
		return "", fmt.Errorf("%q is no rate: write 5%% or 0.05", text)
	}
	if percent {
		x /= 100
	}
	return strconv.FormatFloat(x, 'g', -1, 64), nil
}

var assumptionNames = map[string]string{
	"base": "Payment of the past year", "growth": "Growth, first stage", "years": "Years of it", "growth2": "Growth, second stage", "years2": "Years of it", "terminal": "Growth for ever", "discount": "Discount rate",
}

func (a *app) assumptions(m *wire.Model, format string) (header []string, rows [][]string) {
	header = []string{"assumption", "value", "unit", "origin"}
	if format == "table" {
		header = []string{"Assumption", "", "From"}
	}
	for _, x := range m.Assumptions {
		value := ""
		switch {
		case x.Value != nil && x.Unit == "years":
			value = strconv.FormatFloat(*x.Value, 'f', -1, 64)
		case x.Value != nil:
			value = a.number(x.Value, "", x.Unit, format)
		}
		if x.Value == nil && format == "table" {
			value = a.dim(marks["missing"])
		}
		if format == "table" {
			rows = append(rows, []string{assumptionNames[x.Name], value, x.Origin})
		} else {
			rows = append(rows, []string{x.Name, value, x.Unit, x.Origin})
		}
	}
	return header, rows
}

// aboutModel says what a share is worth, and under which other assumptions.
func (a *app) aboutModel(m *wire.Model) {
	fmt.Fprintln(a.out)
	if m.Refused != "" {
		fmt.Fprintf(a.out, "%s cannot be valued so: %s.\n", m.Symbol, m.Refused)
		return
	}
	money := func(x float64) string { return a.number(&x, "", m.Currency, "table") }
	rate := func(x float64) string { return a.number(&x, "", "percent", "table") }
	text := fmt.Sprintf("%s is worth %s %s a share", a.bold(m.Symbol), a.bold(money(*m.Value)), m.Currency)
	if m.Price != nil {
		far, side := *m.Distance, "above"
		if far < 0 {
			far, side = -far, "below"
		}
		text += fmt.Sprintf(", %s %s the price of %s", rate(far), side, money(*m.Price))
	}
	fmt.Fprintln(a.out, text+".")
	if total := *m.Value; m.Parts.Stage1+m.Parts.Stage2 > 0 {
		fmt.Fprintf(a.out, "Of it %s comes in the first stage, %s in the second, and %s after.\n", rate(m.Parts.Stage1/total), rate(m.Parts.Stage2/total), rate(m.Parts.Terminal/total))
	}
	if m.Implied != nil {
		fmt.Fprintf(a.out, "The price is that of a growth of %s in the first stage.\n", rate(*m.Implied))
	}
	if m.Grid == nil {
		return
	}
	header := []string{"Discounted at"}
	for _, g := range m.Grid.Growths {
		header = append(header, "growth "+rate(g))
	}
	t := newTable(header, false)
	var rows [][]string
	for i, values := range m.Grid.Values {
		row := []string{rate(m.Grid.Discounts[i])}
		for _, x := range values {
			if x == nil {
				row = append(row, "–")
			} else {
				row = append(row, money(*x))
			}
		}
		rows = append(rows, row)
		t.AppendRow(asRow(row))
	}
	t.SetColumnConfigs(numbersToTheRight(header, rows))
	fmt.Fprintf(a.out, "\n%s\n", t.Render())
}
