// Package core_test guards the core: it computes, and does nothing else.
package core_test

import (
	"os/exec"
	"strings"
	"testing"
)

func TestTheCoreIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./...").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, dep := range strings.Fields(string(out)) {
		first, _, _ := strings.Cut(dep, "/")
		ours := strings.HasPrefix(dep, "soba.invalid/soba/")
		switch {
		case ours && !strings.HasPrefix(dep, "soba.invalid/soba/internal/core"):
			t.Errorf("the core imports %s, which stands above it", dep)
		case !ours && strings.Contains(first, ".") && !strings.HasPrefix(dep, "gonum.org/"):
			t.Errorf("the core imports %s; only the standard library and numerics are its own", dep)
		case dep == "net" || dep == "net/http" || dep == "os/exec" || dep == "database/sql" || dep == "log/slog":
			t.Errorf("the core reaches %s", dep)
		}
	}
	sources, err := exec.Command("grep", "-rnE", `time\.Now\(|os\.(Open|ReadFile|Getenv)|rand\.`, "--include=*.go", "--exclude=*_test.go", ".").CombinedOutput()
	if err == nil {
		t.Errorf("the core reads a clock, a file or chance:\n%s", sources)
	}
}
