package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/wire"
)

func (a *app) conflictsCommand() *cobra.Command {
	var p printing
	var tolerance string
	c := &cobra.Command{
		Use: "conflicts WATCHLIST", Short: "Show where two sources, or Soba and a vendor, differ", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeWatchlists,
		Long: `Shows the values of a list of which two accounts differ: a field that two sources
give differently by more than one per cent, and a ratio that a vendor computes
differently from its own accounts. 'soba explain' tells of each where it is from.`,
		Example: "  soba conflicts income\n  soba conflicts everything --tolerance 10%\n  soba conflicts income --format csv --output conflicts.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			x, err := fraction(tolerance)
			if err != nil {
				return usageError{fmt.Errorf("--tolerance %w", err)}
			}
			found, err := get[wire.Conflicts](cmd.Context(), a.client, listPath(args[0], "/conflicts"), url.Values{"tolerance": {x}})
			if err != nil {
				return err
			}
			header := []string{"symbol", "field", "value", "source", "other", "other_value", "other_source"}
			if p.format == "table" {
				header = []string{"Symbol", "Field", "", "From", "Against", "", "From"}
			}
			rows := [][]string{}
			for _, c := range found.Conflicts {
				row := []string{c.Symbol, c.Field, a.plainOrReadable(c.Cell, p.format), c.Cell.Source, c.Cell.Detail, "", ""}
				if c.Other != nil {
					row[4], row[5], row[6] = c.Theirs, a.plainOrReadable(*c.Other, p.format), c.Other.Source
				}
				rows = append(rows, row)
			}
			if len(rows) > 0 || p.format != "table" {
				if err := a.print(&p, header, rows, found); err != nil {
					return err
				}
			}
			if p.format == "table" && p.output == "" {
				fmt.Fprintf(a.out, "\n%s in %s.\n", plural(len(rows), "conflict"), args[0])
			}
			return nil
		},
	}
	p.add(c)
	c.Flags().StringVar(&tolerance, "tolerance", "5%", "by which a computed ratio may differ from the vendor's")
	return c
}
