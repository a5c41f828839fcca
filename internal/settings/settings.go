// Package settings reads what can be set: flags over environment over a file
// over defaults, each value with where it came from.
package settings

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/pflag"
)

// Setting is one thing that can be set.
type Setting struct {
	Name    string // as flag; in the environment SOBA_NAME; in the file name:
	Default string
	Help    string
	Secret  bool
}

// All lists every setting.
var All = []Setting{
	{"server", "http://127.0.0.1:8420", "address of the service that the client talks to", false},
	{"token", "", "token that the client shows to the service", true},
	{"listen", "127.0.0.1:8420", "address that the service listens on; port 0 picks a free one", false},
	{"data", defaultData(), "folder for the private database and logs", false},
	{"database", "", "address of a PostgreSQL database; a private cluster in the data folder when empty", true},
	{"tls-cert", "", "certificate file, to listen beyond loopback", false},
	{"tls-key", "", "key file of the certificate", false},
	{"behind-proxy", "false", "a proxy in front ends TLS; then a token is always needed", false},
	{"host", "", "name besides loopback's under which the service is reached", false},
	{"sources", "", "folder of source descriptions; sources in the data folder when empty", false},
	{"secrets", "", "file of keys and addresses of sources; secrets.yaml in the data folder when empty", false},
}

// defaultData is where a system service keeps its state as root, and a user's
// programs keep theirs otherwise (XDG base directories).
func defaultData() string {
	if os.Getuid() == 0 {
		return "/var/lib/soba"
	}
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "soba")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "soba-data"
	}
	return filepath.Join(home, ".local", "share", "soba")
}

// Values are settings that have been read.
type Values struct {
	*koanf.Koanf
	origin map[string]string
}

// Origin says where a value came from.
func (v *Values) Origin(name string) string { return v.origin[name] }

// Find returns a setting by name.
func Find(name string) Setting {
	for _, s := range All {
		if s.Name == name {
			return s
		}
	}
	panic("no setting " + name) // names are written in the program
}

// AddFlag gives a flag set a setting as a flag.
func AddFlag(flags *pflag.FlagSet, name string) {
	s := Find(name)
	if s.Default == "true" || s.Default == "false" {
		flags.Bool(name, s.Default == "true", s.Help)
		return
	}
	flags.String(name, s.Default, s.Help)
}

// Read reads all settings. The file is the one named, or soba.yaml in the
// current folder when there is one.
func Read(flags *pflag.FlagSet, path string) (*Values, error) {
	v := &Values{koanf.New("."), map[string]string{}}
	defaults := map[string]any{}
	for _, s := range All {
		defaults[s.Name] = s.Default
	}
	named := path != ""
	if !named {
		path = "soba.yaml"
	}
	layers := []struct {
		origin string
		load   func(k *koanf.Koanf) error
	}{
		{"default", func(k *koanf.Koanf) error { return k.Load(confmap.Provider(defaults, "."), nil) }},
		{"file " + path, func(k *koanf.Koanf) error {
			err := k.Load(file.Provider(path), yaml.Parser())
			if errors.Is(err, os.ErrNotExist) && !named {
				return nil
			}
			return err
		}},
		{"environment", func(k *koanf.Koanf) error {
			return k.Load(env.Provider(".", env.Opt{Prefix: "SOBA_", TransformFunc: func(name, value string) (string, any) {
				key := strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(name, "SOBA_")), "_", "-")
				if !known(key) { // such as the keys of sources
					return "", nil
				}
				return key, value
			}}), nil)
		}},
		{"flag", func(k *koanf.Koanf) error {
			return k.Load(posflag.ProviderWithFlag(flags, ".", nil, func(f *pflag.Flag) (string, any) {
				if !f.Changed || !known(f.Name) {
					return "", nil
				}
				return f.Name, f.Value.String()
			}), nil)
		}},
	}
	for _, layer := range layers {
		k := koanf.New(".")
		if err := layer.load(k); err != nil {
			return nil, fmt.Errorf("settings from %s: %w", layer.origin, err)
		}
		for _, key := range k.Keys() {
			if !known(key) {
				return nil, fmt.Errorf("settings from %s: there is no setting %q; 'soba config show' lists them", layer.origin, key)
			}
			v.origin[key] = layer.origin
		}
		if err := v.Merge(k); err != nil {
			return nil, err
		}
	}
	return v, nil
}

func known(name string) bool {
	return slices.ContainsFunc(All, func(s Setting) bool { return s.Name == name })
}

// Shown is a setting for people: secrets only as to whether they are set.
type Shown struct{ Name, Value, Origin, Help string }

// Show lists all settings with their values and origins.
func (v *Values) Show() []Shown {
	out := make([]Shown, 0, len(All))
	for _, s := range All {
		value := v.String(s.Name)
		if s.Secret && value != "" {
			value = "(set)"
		}
		out = append(out, Shown{s.Name, value, v.Origin(s.Name), s.Help})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}
