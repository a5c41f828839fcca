package test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every command in a shell block of the documentation runs, in the order in which
// it stands there.
func TestTheDocumentationsExamplesRun(t *testing.T) {
	block := regexp.MustCompile("(?s)```sh\n(.*?)```")
	for _, page := range []string{"../README.md", "../docs/guide.md", "../docs/sources.md"} {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		shared.soba(t, "watchlist", "delete", "trial") // from elsewhere
		ran := 0
		for _, found := range block.FindAllStringSubmatch(string(text), -1) {
			for _, line := range strings.Split(strings.TrimSpace(found[1]), "\n") {
				ran++
				if r := shared.with(t, "", "sh", "-c", line); r.code != 0 {
					t.Errorf("%s: %s: exit %d\n%s%s", page, line, r.code, r.out, r.err)
				}
			}
		}
		if ran < 5 {
			t.Errorf("%s has only %d examples", page, ran)
		}
	}
}

func TestTheReferenceIsUpToDate(t *testing.T) {
	fresh := t.TempDir()
	make := exec.Command("go", "run", "./internal/reference", fresh, filepath.Join(fresh, "schema.json"))
	make.Dir = ".."
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, page := range []string{"docs/fields.md", "docs/commands.md", "internal/source/schema.json"} {
		want, err := os.ReadFile(filepath.Join(fresh, filepath.Base(page)))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := os.ReadFile(filepath.Join("..", page)); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s is not what 'make docs' writes", page)
		}
	}
}

func TestLinksOfTheDocumentationLeadSomewhere(t *testing.T) {
	link := regexp.MustCompile(`\]\(([^)#:]+)[^)]*\)`)
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	pictures := map[string]bool{}
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range link.FindAllStringSubmatch(string(text), -1) {
			target := filepath.Join(filepath.Dir(page), found[1])
			if _, err := os.Stat(target); err != nil {
				t.Errorf("%s links to %s, which is not there", page, found[1])
			}
			pictures[filepath.Base(target)] = true
		}
	}
	shots, _ := filepath.Glob("../docs/screenshots/*.png")
	for _, shot := range shots {
		if !pictures[filepath.Base(shot)] {
			t.Errorf("no page shows %s", shot)
		}
	}
}
