package format

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"
)

// Locator names a place in a document or a record: a JSONPath (RFC 9535) or a
// plain member name in JSON; a header or #number in tables; a path of element
// names, with @name for an attribute, in XML.
type Locator struct {
	text   string
	column int // of a table, from 0; -1 when it is named
	path   *jsonpath.Path
	steps  []step   // of a JSONPath that can name one place only
	names  []string // of an XML path
}

type step struct {
	name  string
	index int // where name is empty
}

func (l *Locator) String() string { return l.text }

// Compile reads a locator of a format.
func Compile(kind Kind, text string) (*Locator, error) {
	l := &Locator{text: text, column: -1}
	switch {
	case text == "":
		return nil, fmt.Errorf("a place is missing")
	case kind.Tabular():
		l.text = squeezed(text)
		number, numbered := strings.CutPrefix(l.text, "#")
		if numbered && l.text != headerName {
			n, err := strconv.Atoi(number)
			if err != nil || n < 1 || n > 16384 {
				return nil, fmt.Errorf("%q is not a column: write its header, or #1 for the first", text)
			}
			l.column = n - 1
		}
	case kind == XML:
		trimmed := strings.TrimPrefix(text, "/")
		if trimmed == "" {
			return nil, fmt.Errorf("%q is not a path: write it as listing/price or listing/@code", text)
		}
		for _, name := range strings.Split(trimmed, "/") {
			if name == "" || strings.ContainsAny(name, "[]()*=\"' ") {
				return nil, fmt.Errorf("%q is not a path of element names: write it as listing/price or listing/@code", text)
			}
			l.names = append(l.names, name)
		}
	default:
		expression := text
		if !strings.HasPrefix(text, "$") {
			expression = "$[" + strconv.Quote(text) + "]"
		}
		path, err := jsonpath.Parse(expression)
		if err != nil {
			return nil, fmt.Errorf("%q is not a JSONPath (RFC 9535): %s", text, strings.TrimPrefix(err.Error(), "jsonpath: "))
		}
		l.path, l.steps = path, singular(path)
	}
	return l, nil
}

// singular returns the steps of a path of names and indices alone; nil otherwise.
func singular(path *jsonpath.Path) []step {
	steps := []step{}
	for _, segment := range path.Query().Segments() {
		if segment.IsDescendant() || len(segment.Selectors()) != 1 {
			return nil
		}
		switch s := segment.Selectors()[0].(type) {
		case spec.Name:
			steps = append(steps, step{name: string(s)})
		case spec.Index:
			if s < 0 {
				return nil
			}
			steps = append(steps, step{index: int(s)})
		default:
			return nil
		}
	}
	return steps
}

// list returns the names that lead to a list all of whose elements are meant, as
// $.data.rows[*]; false for any other path.
func (l *Locator) list() (names []string, ok bool) {
	segments := l.path.Query().Segments()
	if len(segments) == 0 {
		return nil, false
	}
	for i, segment := range segments {
		if segment.IsDescendant() || len(segment.Selectors()) != 1 {
			return nil, false
		}
		switch s := segment.Selectors()[0].(type) {
		case spec.Name:
			if i == len(segments)-1 {
				return nil, false
			}
			names = append(names, string(s))
		case spec.WildcardSelector:
			if i != len(segments)-1 {
				return nil, false
			}
		default:
			return nil, false
		}
	}
	return names, true
}

// Parent splits the path of records, as $.data.rows[*] or data/row, into the place
// that holds them and its name; false for any other path.
func (l *Locator) Parent() (holder *Locator, name string, ok bool) {
	if len(l.names) > 1 {
		above := l.names[:len(l.names)-1]
		return &Locator{text: l.text, column: -1, names: above}, above[len(above)-1], true
	}
	if l.path == nil {
		return nil, "", false
	}
	names, plain := l.list()
	if !plain || len(names) == 0 {
		return nil, "", false
	}
	holder = &Locator{text: l.text, column: -1, steps: []step{}}
	for _, n := range names {
		holder.steps = append(holder.steps, step{name: n})
	}
	return holder, names[len(names)-1], true
}
