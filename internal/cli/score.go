package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/wire"
)

// scores by the letter under which they are asked for.
var scores = map[string]string{"f": "strength.f_score", "z": "strength.z_score"}

func (a *app) scoreCommand() *cobra.Command {
	var p printing
	var of, at string
	c := &cobra.Command{
		Use: "score SYMBOL", Short: "Show a score part by part", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeListsAndSymbols,
		Long: `Shows a score with each of its parts and what it was reckoned from. The F-score
counts which of nine tests of improving strength are passed: a period against the
same a year before. The Z-score is a sum of five weighted ratios of an industrial
company. A part that cannot be decided leaves the score missing; the others are
shown all the same. Of many names at once it is a column: 'soba table LIST --view
scores'.`,
		Example: "  soba score KELP.XCVH\n  soba score KELP.XCVH --period FY-1\n  soba score KELP.XCVH --of z\n  soba table income --view scores",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			field, known := scores[of]
			if !known {
				return usageError{fmt.Errorf("there is no score %q: f or z", of)}
			}
			if at != "" {
				if _, err := period.Parse(at); err != nil {
					return usageError{err}
				}
				field += "@" + at
			}
			e, err := get[wire.Explanation](cmd.Context(), a.client, "/api/v1/explain", url.Values{"symbol": args, "field": {field}})
			if err != nil {
				return err
			}
			header, rows := a.scoreParts(&e, p.format)
			if err := a.print(&p, header, rows, e); err != nil || p.format != "table" || p.output != "" {
				return err
			}
			text := fmt.Sprintf("\n%s: %s %s, %s", e.Symbol, e.Label, e.Readable, e.Cell.State)
			if e.Cell.Reason != "" {
				text += ": " + e.Cell.Reason
			}
			if e.Cell.Detail != "" {
				text += " (" + e.Cell.Detail + ")"
			}
			fmt.Fprintf(a.out, "%s\n%s\n%s\n", text, e.Definition, e.Reference)
			return nil
		},
	}
	p.add(c)
	c.Flags().StringVar(&of, "of", "f", "f (F-score) or z (Z-score)")
	c.Flags().StringVar(&at, "period", "", "FY, FY-1, FY2024, TTM-1 (default the newest twelve months)")
	c.RegisterFlagCompletionFunc("of", cobra.FixedCompletions([]string{"f", "z"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
	return c
}

// scoreParts is a line for each part of a score.
func (a *app) scoreParts(e *wire.Explanation, format string) (header []string, rows [][]string) {
	header = []string{"part", "result", "from", "definition"}
	if format == "table" {
		header = []string{"", "", "From"}
	}
	for i := range e.Inputs {
		part := &e.Inputs[i]
		result := part.Readable
		if strings.HasPrefix(part.Field, "score.f_") {
			switch part.Cell.V {
			case 1.:
				result = "passed"
			case 0.:
				result = "failed"
			}
		}
		if part.Cell.V == nil {
			result = a.dim(marks[part.Cell.State] + " " + part.Cell.Reason)
		}
		row := []string{part.Label, result, strings.Join(figures(part), ", ")}
		if format != "table" {
			row = append(row, strings.TrimPrefix(part.Definition, "1 if so, else 0: "))
		}
		rows = append(rows, row)
	}
	return header, rows
}

// figures are the values that a part was reckoned from, each once.
func figures(e *wire.Explanation) (out []string) {
	for i := range e.Inputs {
		in := &e.Inputs[i]
		text := strings.ToLower(in.Label)
		if _, at, dated := strings.Cut(in.Field, "@"); dated {
			text += " " + at
		}
		if in.Cell.V == nil {
			text += " " + in.Cell.Reason
		} else {
			text += " " + in.Readable
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}
