package source

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
	"time"
)

// folder reads a source's answers from files. Nothing outside of it can be reached.
type folder struct{ path string }

func (f *folder) open(_ context.Context, s *Source, c *Call, a ask) (*document, *Page, error) {
	page := &Page{Started: time.Now(), UnitsLeft: -1}
	fail := func(format string, args ...any) (*document, *Page, error) {
		page.Took = time.Since(page.Started)
		return nil, page, &Fault{Kind: Moved, Detail: fmt.Sprintf(format, args...)}
	}
	root, err := os.OpenRoot(f.path)
	if err != nil {
		return fail("the folder %s cannot be read: %s", f.path, causeOf(err))
	}
	defer root.Close()
	pattern := strings.TrimPrefix(a.replace.Replace(c.Path), "/")
	var names []string
	for _, one := range strings.Fields(pattern) {
		found, err := fs.Glob(root.FS(), one)
		if err != nil {
			return fail("%q is not a pattern of file names", one)
		}
		names = append(names, found...)
	}
	page.Address = "file:" + path.Join(f.path, pattern)
	if len(names) == 0 {
		if c.Batch.Symbols == 1 && strings.Contains(c.Path, "{symbol}") {
			doc := newDocument(strings.NewReader(""), 0)
			doc.none = true
			return doc, page, nil // this listing has no file; others may
		}
		return fail("no file matches %s in the folder %s", pattern, f.path)
	}
	nth, _ := strconv.Atoi(a.link)
	if nth >= len(names) {
		return fail("the files changed while they were read")
	}
	page.Address = "file:" + path.Join(f.path, names[nth])
	file, err := root.Open(names[nth])
	if err != nil {
		return fail("%s cannot be read: %s", names[nth], causeOf(err))
	}
	doc := newDocument(file, int64(s.Limits.LargestMiB)<<20)
	doc.close = func() { file.Close() }
	doc.more = len(names) - 1 - nth
	return doc, page, nil
}

// causeOf is an error of the file system without the path, which is said already.
func causeOf(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}
