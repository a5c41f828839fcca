package source

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
)

// Secret is what a person keeps of a source outside of its description.
type Secret struct {
	// Key for the source.
	Key string `yaml:"key"`
	// Address or folder of the source, where it differs from the description's.
	Address string `yaml:"address"`
}

// Secrets finds the secrets of sources by name.
type Secrets func(name string) Secret

// ReadSecrets reads the secrets file, which need not exist, and the environment
// over it: SOBA_GANNET_KEY and SOBA_GANNET_ADDRESS for the source gannet.
func ReadSecrets(path string, environment func(string) string) (Secrets, error) {
	byName := map[string]Secret{}
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("secrets file: %w", err)
	}
	if err := yaml.UnmarshalWithOptions(text, &byName, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("secrets file %s: %s", path, problemOf(path, err).Text) // not the line, which may hold a secret
	}
	return func(name string) Secret {
		s := byName[name]
		variable := "SOBA_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		if key := environment(variable + "_KEY"); key != "" {
			s.Key = key
		}
		if address := environment(variable + "_ADDRESS"); address != "" {
			s.Address = address
		}
		return s
	}, nil
}

// ReadAll reads the descriptions of a folder, in the order of their file names.
// The error is [Problems] where descriptions are wrong.
func ReadAll(files fs.FS) ([]*Description, error) {
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return nil, err
	}
	var all []*Description
	var problems Problems
	for _, name := range names {
		if name == ExchangesFile {
			continue
		}
		text, err := fs.ReadFile(files, name)
		if err != nil {
			return nil, err
		}
		d, err := Read(name, text)
		var wrong Problems
		if errors.As(err, &wrong) {
			problems = append(problems, wrong...)
			continue
		}
		if slices.ContainsFunc(all, func(other *Description) bool { return other.Name == d.Name }) {
			problems = append(problems, Problem{File: name, Text: fmt.Sprintf("there is another source named %q", d.Name)})
			continue
		}
		all = append(all, d)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return all, nil
}

// Connect makes a source of a description and its secrets.
func Connect(d *Description, secret Secret, now func() time.Time) (*Source, error) {
	connected := *d
	s := &Source{Description: &connected, key: secret.Key, now: now}
	if d.Access.Folder != "" {
		if secret.Address != "" {
			s.Access.Folder = secret.Address
		}
		path, err := filepath.Abs(s.Access.Folder)
		if err != nil {
			return nil, err
		}
		s.Access.Folder, s.via = path, &folder{path}
		return s, nil
	}
	if secret.Address != "" {
		if err := checkAddress(secret.Address); err != nil {
			return nil, fmt.Errorf("address of the source %s: %w", d.Name, err)
		}
		s.Access.Address = secret.Address
	}
	w, err := newWeb(s.Description)
	if err != nil {
		return nil, err
	}
	s.via = w
	return s, nil
}

// ListsByExchange tells whether the directory is asked for exchange by exchange,
// rather than at once.
func (d *Description) ListsByExchange() bool {
	for _, c := range d.Calls {
		if slices.Contains(c.Serves, catalogue.Listings) {
			all := c.Path
			for _, text := range c.Query {
				all += text
			}
			return strings.Contains(all, "{exchange}")
		}
	}
	return false
}

// Planned tells the planner of the source; the limits that change with time are
// the caller's to add.
func (s *Source) Planned() plan.Source {
	p := plan.Source{
		Name: s.Name, Calls: s.PlannedCalls(), Covers: s.Symbols.Covers, PerSecond: s.Limits.PerSecond, Concurrent: s.Limits.AtOnce,
		Limited: s.Limits.UnitsPerDay > 0, Length: func(x market.Symbol) int { return s.Length(x) + 3 }, // with an escaped comma
	}
	if !s.HasKey() {
		p.Closed = fmt.Sprintf("has no key: set %s or put it into the secrets file", KeyVariable(s.Name))
	}
	return p
}
