package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) holdersCommand() *cobra.Command {
	var p printing
	var history bool
	c := &cobra.Command{
		Use: "holders SYMBOL", Short: "Show who holds an issuer's shares", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows the largest holders of an issuer's shares, insiders and institutions, with what
they bought or sold since they were last reported. With --history what each group has
had together, report by report. Of many names at once these are columns: 'soba table
LIST --view owners'.`,
		Example: "  soba holders KELP.XCVH\n  soba holders KELP.XCVH --history\n  soba holders KELP.XCVH --format csv --output kelp-holders.csv\n  soba table income --view owners",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			h, err := get[wire.Holders](cmd.Context(), a.client, "/api/v1/listings/"+symbolPath(args[0])+"/holders", nil)
			if err != nil {
				return err
			}
			header, rows := a.holderRows(&h, p.format, history)
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, h); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintln(a.out, a.aboutHolders(&h))
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().BoolVar(&history, "history", false, "what each group has had together, report by report")
	return c
}

func (a *app) holderRows(h *wire.Holders, format string, history bool) (header []string, rows [][]string) {
	if history {
		header = []string{"date", "group", "shares", "part"}
		if format == "table" {
			header = []string{"", "Group", "Shares", "Of all"}
		}
		for _, x := range h.Together {
			rows = append(rows, []string{x.Date, x.Group, a.number(x.Shares, "", "shares", format), a.number(x.Part, "", "percent", format)})
		}
		return header, rows
	}
	header = []string{"group", "holder", "role", "date", "shares", "part", "change"}
	if format == "table" {
		header = []string{"Group", "Holder", "", "Reported for", "Shares", "Of all", "Change"}
	}
	for _, x := range h.Largest {
		rows = append(rows, []string{
			x.Group, x.Holder, x.Role, x.Date, a.number(x.Shares, "", "shares", format), a.number(x.Part, "", "percent", format), a.number(x.Change, "", "shares", format),
		})
	}
	return header, rows
}

func (a *app) aboutHolders(h *wire.Holders) string {
	text := "\n" + standing(h.Symbol, h.State, h.Reason, h.Detail, h.Source)
	seen := map[string]bool{}
	for _, x := range h.Together { // the newest first
		if !seen[x.Group] && x.Part != nil {
			text += fmt.Sprintf("; %s hold %s together", x.Group, a.number(x.Part, "", "percent", "table"))
		}
		seen[x.Group] = true
	}
	switch {
	case h.Reason == "not_applicable":
		text += "; nobody reports who holds its kind of instrument"
	case h.Reason == "never_fetched":
		text += ": 'soba refresh " + h.Symbol + "' asks for them"
	case h.State != "missing" && len(h.Together)+len(h.Largest) == 0:
		text += "; no holder is reported"
	}
	return text
}
