// Reference writes the pages of the documentation that are made from the
// program itself: the fields from the catalogue, the commands from their help.
package main

import (
	"encoding/json"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing/fstest"
	"time"

	"github.com/invopop/jsonschema"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"soba.invalid/soba/internal/cli"
	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/source"
)

func main() {
	if len(os.Args) != 3 {
		log.Fatal("usage: reference FOLDER SCHEMA")
	}
	schema, err := schema()
	if err != nil {
		log.Fatal(err)
	}
	for name, page := range map[string]string{
		filepath.Join(os.Args[1], "fields.md"): fields(), filepath.Join(os.Args[1], "commands.md"): commands(), os.Args[2]: schema,
	} {
		if err := os.WriteFile(name, []byte(page), 0o644); err != nil {
			log.Fatal(err)
		}
	}
}

// schema is the JSON Schema of source descriptions, from the types and their comments.
func schema() (string, error) {
	r := &jsonschema.Reflector{FieldNameTag: "yaml", RequiredFromJSONSchemaTags: false, DoNotReference: false, Mapper: func(t reflect.Type) *jsonschema.Schema {
		if t == reflect.TypeFor[time.Duration]() {
			return &jsonschema.Schema{Type: "string", Pattern: "^([0-9.]+(ms|s|m|h))+$"}
		}
		if t == reflect.TypeFor[catalogue.Dataset]() {
			s := &jsonschema.Schema{Type: "string"}
			for _, info := range catalogue.Infos {
				s.Enum = append(s.Enum, string(info.Name))
			}
			return s
		}
		return nil
	}}
	for _, folder := range []string{"./internal/source", "./internal/source/clean", "./internal/source/format"} {
		if err := r.AddGoComments("soba.invalid/soba", folder); err != nil {
			return "", err
		}
	}
	s := r.Reflect(&source.Description{})
	s.ID, s.Title = "https://soba.invalid/schema/source.json", "Description of a source"
	if pick := s.Definitions["Pick"]; pick != nil {
		s.Definitions["Pick"] = &jsonschema.Schema{Description: pick.Description, OneOf: []*jsonschema.Schema{{Type: "string", Description: "Short for one with only at."}, pick}}
	}
	text, err := json.MarshalIndent(s, "", "  ")
	return string(text) + "\n", err
}

func fields() string {
	var b strings.Builder
	b.WriteString("# Fields\n\nMade from the catalogue by `make docs`. `soba fields WORD` searches the same. A field that takes a date is written with it: `price.close@2025-12-31`, `price.close@-30d`.\n")
	group := ""
	for i := range catalogue.Fields {
		f := &catalogue.Fields[i]
		if f.Group() != group {
			group = f.Group()
			fmt.Fprintf(&b, "\n## %s\n\n| field | label | unit | meaning | from |\n| --- | --- | --- | --- | --- |\n", group)
		}
		from := string(f.Dataset)
		switch {
		case f.Formula != nil:
			from = "`" + f.Formula.String() + "`"
		case f.Reckon != nil:
			var names []string
			for _, ref := range f.From {
				names = append(names, ref.String())
			}
			from = "computed from " + strings.Join(names, ", ")
		case f.Span != "":
			from += ", " + f.Span
		}
		meaning := f.Definition
		if f.Takes != catalogue.NoPeriod {
			meaning += " Takes a " + f.Takes.String() + "."
		}
		if f.Reference != "" {
			meaning += " (" + f.Reference + ")"
		}
		if len(f.NotFor) > 0 {
			kinds := make([]string, len(f.NotFor))
			for i, k := range f.NotFor {
				kinds[i] = string(k)
			}
			meaning += " Not for: " + strings.Join(kinds, ", ") + "."
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", f.ID, f.Label, f.Unit, meaning, from)
	}
	b.WriteString("\n## Views\n\n| view | columns |\n| --- | --- |\n")
	for _, v := range catalogue.Views {
		fmt.Fprintf(&b, "| %s | %s |\n", v.Name, strings.Join(v.Columns, ", "))
	}
	b.WriteString("\n## Reasons\n\nA value that is stale or missing says why.\n\n| reason | meaning | what to do |\n| --- | --- | --- |\n")
	for r := cell.NeverFetched; r <= cell.SourceDown; r++ {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", r, r.Meaning(), r.Advice())
	}
	return b.String()
}

func commands() string {
	var b strings.Builder
	b.WriteString("# Commands\n\nMade from the program's help by `make docs`. Exit codes: 0 done, 1 failed, 2 wrong usage, 3 done but with missing or stale values when `--strict` asks.\n")
	root := cli.New(fstest.MapFS{})
	root.InitDefaultCompletionCmd()
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || c.Parent() != nil && c.Parent().Name() == "completion" {
			return
		}
		if c != root {
			fmt.Fprintf(&b, "\n## %s\n\n%s.\n", c.CommandPath(), strings.TrimSuffix(c.Short, "."))
			if c.Long != "" && c.Name() != "completion" {
				fmt.Fprintf(&b, "\n%s\n", c.Long)
			}
			if c.Runnable() {
				fmt.Fprintf(&b, "\n    %s\n", c.UseLine())
			}
			flags(&b, c.LocalNonPersistentFlags())
			if c.Example != "" {
				fmt.Fprintf(&b, "\n```sh\n%s\n```\n", dedent(c.Example))
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
	b.WriteString("\n## Flags of every command\n")
	flags(&b, root.PersistentFlags())
	return b.String()
}

func flags(b *strings.Builder, set *pflag.FlagSet) {
	first := true
	set.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Name == "version" || f.Hidden {
			return
		}
		if first {
			b.WriteString("\n| flag | meaning | default |\n| --- | --- | --- |\n")
			first = false
		}
		value := f.DefValue
		if f.Name == "data" {
			value = "see the guide" // it depends on who runs it
		}
		fmt.Fprintf(b, "| `--%s` | %s | %s |\n", f.Name, f.Usage, value)
	})
}

func dedent(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimSpace(l)
	}
	return strings.Join(lines, "\n")
}
