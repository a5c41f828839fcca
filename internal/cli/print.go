package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/wire"
)

// printing is how a command that prints rows is asked to print them.
type printing struct {
	format   string
	output   string
	noHeader bool
	right    bool // all columns but the first hold numbers, or what is said in place of one
}

func (p *printing) add(c *cobra.Command) {
	c.Flags().StringVarP(&p.format, "format", "f", "table", "table, csv or json")
	c.Flags().StringVarP(&p.output, "output", "o", "", "write to a file")
	c.Flags().BoolVar(&p.noHeader, "no-header", false, "leave the header line out")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"table", "csv", "json"}, cobra.ShellCompDirectiveNoFileComp)) //nolint:errcheck // the flag is there
}

func (p *printing) check() error {
	if !slices.Contains([]string{"table", "csv", "json"}, p.format) {
		return usageError{fmt.Errorf("there is no format %q: table, csv or json", p.format)}
	}
	return nil
}

// to opens where the output goes.
func (a *app) to(p *printing) (io.Writer, func() error, error) {
	if p.output == "" {
		return a.out, func() error { return nil }, nil
	}
	f, err := os.Create(p.output)
	if err != nil {
		return nil, nil, err
	}
	return f, f.Close, nil
}

// print writes rows of text, or for JSON the whole value.
func (a *app) print(p *printing, header []string, rows [][]string, whole any) error {
	if err := p.check(); err != nil {
		return err
	}
	w, done, err := a.to(p)
	if err != nil {
		return err
	}
	switch p.format {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		err = e.Encode(whole)
	case "csv":
		c := csv.NewWriter(w)
		c.UseCRLF = true
		if !p.noHeader {
			err = c.Write(header)
		}
		if err == nil {
			err = c.WriteAll(rows)
		}
	default:
		t := newTable(header, p.noHeader)
		configs := numbersToTheRight(header, rows)
		for i := 1; p.right && i < len(header); i++ {
			configs = append(configs, rightColumn(i))
		}
		t.SetColumnConfigs(configs)
		for _, row := range rows {
			t.AppendRow(asRow(row))
		}
		_, err = fmt.Fprintln(w, t.Render())
	}
	if err != nil {
		return err
	}
	return done()
}

// numeric is what a number looks like in a table of the terminal.
var numeric = regexp.MustCompile(`^[−-]?\d[\d., \x{202f}]*( (ms|%|m|bn|tn))?[ \x{a0}◔↤↺]*$`)

// numbersToTheRight aligns the columns that hold nothing but numbers.
func numbersToTheRight(header []string, rows [][]string) (configs []table.ColumnConfig) {
	for i := range header {
		numbers := 0
		for _, row := range rows {
			if numeric.MatchString(row[i]) {
				numbers++
			} else if row[i] != "" {
				numbers = -len(rows)
			}
		}
		if numbers > 0 {
			configs = append(configs, rightColumn(i))
		}
	}
	return configs
}

func rightColumn(i int) table.ColumnConfig {
	return table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight}
}

func asRow(cells []string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = c
	}
	return row
}

// newTable is the one look of tables in the terminal: no frame, two spaces
// between columns, a thin line under the header.
func newTable(header []string, noHeader bool) table.Writer {
	t := table.NewWriter()
	t.SetStyle(table.Style{
		Name:   "soba",
		Box:    table.BoxStyle{PaddingRight: "  ", MiddleHorizontal: "─", MiddleSeparator: "", UnfinishedRow: " …"},
		Format: table.FormatOptions{Header: text.FormatDefault},
		Options: table.Options{
			SeparateHeader: true,
		},
	})
	if !noHeader {
		t.AppendHeader(asRow(header))
	}
	t.SuppressTrailingSpaces()
	return t
}

// Marks of the four states, everywhere the same: the disc fills with trust. A
// fresh value goes without, so that the eye finds what is not.
var marks = map[string]string{"fresh": "●", "stale": "◐", "pending": "◌", "missing": "○"}

// readable writes a cell of the service for people, with its mark.
func (a *app) readable(c wire.Cell, unitInHeader bool) string {
	local := cell.Cell{Unit: c.Unit}
	switch v := c.V.(type) {
	case float64:
		local.Value = cell.Of(v)
	case string:
		local.Value = cell.OfText(v)
	case bool:
		local.Value = cell.OfTruth(v)
	}
	out := local.Readable()
	if c.Unit == "time" && len(out) >= 16 {
		out = strings.Replace(out[:16], "T", " ", 1)
	}
	if !unitInHeader && c.V != nil {
		out += unitSuffix(c.Unit)
	}
	switch c.State {
	case "missing", "pending":
		if c.Reason == "not_applicable" && unitInHeader {
			return a.dim(marks[c.State]) // nothing to do about it, so no words
		}
		return a.dim(marks[c.State] + " " + c.Reason)
	case "stale":
		return a.dim(out) + " " + a.warn(marks["stale"])
	}
	return out
}

// standing says of what symbol, in which state and from which source something is.
func standing(symbol, state, reason, detail, source string) string {
	text := symbol + ": " + state
	if reason != "" {
		text += ": " + reason
	}
	if detail != "" {
		text += " (" + detail + ")"
	}
	if source != "" {
		text += "; from " + source
	}
	return text
}

func unitSuffix(unit string) string {
	if len(unit) == 3 && unit == strings.ToUpper(unit) || unit == "minutes" {
		return " " + unit
	}
	return ""
}

func (a *app) dim(s string) string {
	if a.colour {
		return text.Faint.Sprint(s)
	}
	return s
}

func (a *app) warn(s string) string {
	if a.colour {
		return text.FgYellow.Sprint(s)
	}
	return s
}

func (a *app) bold(s string) string {
	if a.colour {
		return text.Bold.Sprint(s)
	}
	return s
}

// plural counts things.
func plural(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// shorten cuts a text to a width in characters.
func shorten(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:width-1]) + "…"
}

// countsLine is the sum of a table's states.
func countsLine(c wire.Counts) string {
	return fmt.Sprintf("%s %d fresh   %s %d stale   %s %d pending   %s %d missing", marks["fresh"], c.Fresh, marks["stale"], c.Stale, marks["pending"], c.Pending, marks["missing"], c.Missing)
}
