package settings

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/pflag"
)

func read(t *testing.T, file string, args ...string) (*Values, error) {
	t.Helper()
	flags := pflag.NewFlagSet("soba", pflag.ContinueOnError)
	for _, s := range All {
		AddFlag(flags, s.Name)
	}
	if err := flags.Parse(args); err != nil {
		t.Fatal(err)
	}
	path := ""
	if file != "" {
		path = filepath.Join(t.TempDir(), "soba.yaml")
		if err := os.WriteFile(path, []byte(file), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return Read(flags, path)
}

func TestFlagsOverEnvironmentOverFileOverDefaults(t *testing.T) {
	t.Setenv("SOBA_TOKEN", "from-environment")
	t.Setenv("SOBA_LISTEN", "127.0.0.1:2")
	t.Setenv("SOBA_TEST_FOLDER", "not a setting, and ignored")
	v, err := read(t, "listen: 127.0.0.1:3\nsources: ./mine\n", "--listen", "127.0.0.1:1")
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string][2]string{
		"listen": {"127.0.0.1:1", "flag"}, "token": {"from-environment", "environment"},
		"sources": {"./mine", "file"}, "server": {"http://127.0.0.1:8420", "default"},
	} {
		if v.String(name) != want[0] || !strings.HasPrefix(v.Origin(name), want[1]) {
			t.Errorf("%s is %q from %s, want %q from %s", name, v.String(name), v.Origin(name), want[0], want[1])
		}
	}
	for _, s := range v.Show() {
		if strings.Contains(s.Value, "from-environment") {
			t.Errorf("the secret %s is shown", s.Name)
		}
	}
}

func TestUnknownAndMissingFilesAreErrors(t *testing.T) {
	if _, err := read(t, "lissten: 127.0.0.1:3\n"); err == nil || !strings.Contains(err.Error(), "lissten") {
		t.Errorf("an unknown key: %v", err)
	}
	if _, err := Read(pflag.NewFlagSet("", pflag.ContinueOnError), "/no/such/file.yaml"); err == nil {
		t.Error("a named file that is not there is ignored")
	}
}
