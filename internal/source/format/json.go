package format

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath/spec"
)

// node is a value of a JSON document with its place: that of the list it stands
// in and its number there, so that it is written out only when it is asked for.
type node struct {
	value any
	place string
	index int // in the list at place; -1 where place is the node's own
}

func (n *node) At(l *Locator) (string, Nature) {
	v, there := n.find(l)
	if !there {
		return "", Absent
	}
	switch x := v.(type) {
	case nil:
		return "", Null
	case string:
		return x, Text
	case json.Number:
		return x.String(), Number
	case bool:
		return strconv.FormatBool(x), Truth
	}
	return "", Nested
}

// find takes the short way where the path can name one place only.
func (n *node) find(l *Locator) (any, bool) {
	if l.steps == nil {
		found := l.path.Select(n.value)
		if len(found) == 0 {
			return nil, false
		}
		return found[0], true
	}
	v := n.value
	for _, s := range l.steps {
		switch x := v.(type) {
		case map[string]any:
			member, there := x[s.name]
			if !there || s.name == "" {
				return nil, false
			}
			v = member
		case []any:
			if s.name != "" || s.index >= len(x) {
				return nil, false
			}
			v = x[s.index]
		default:
			return nil, false
		}
	}
	return v, true
}

func (n *node) Within(l *Locator) iter.Seq[Row] {
	return func(yield func(Row) bool) {
		if names, plain := l.list(); plain {
			v, place := n.value, n.Place()
			for _, name := range names {
				object, _ := v.(map[string]any)
				v, place = object[name], place+member(name)
			}
			list, _ := v.([]any)
			for i, element := range list {
				if !yield(&node{element, place, i}) {
					return
				}
			}
			return
		}
		for _, found := range l.path.SelectLocated(n.value) {
			if !yield(&node{found.Node, n.Place() + written(found.Path), -1}) {
				return
			}
		}
	}
}

func (n *node) Place() string {
	if n.index < 0 {
		return n.place
	}
	return fmt.Sprintf("%s[%d]", n.place, n.index)
}

func (n *node) Names() []string {
	object, _ := n.value.(map[string]any)
	return slices.Sorted(maps.Keys(object))
}

// written is a normalized path without its root, names that need no quoting plain.
func written(path spec.NormalizedPath) string {
	var b strings.Builder
	for _, selector := range path {
		switch s := selector.(type) {
		case spec.Name:
			b.WriteString(member(string(s)))
		case spec.Index:
			fmt.Fprintf(&b, "[%d]", int(s))
		}
	}
	return b.String()
}

func member(name string) string {
	for i, c := range name {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return "[" + strconv.Quote(name) + "]"
		}
	}
	return "." + name
}

// unspaced cuts runs of spaces short: the decoder looks at a run from its start
// again whenever it has read more of it, which takes forever over megabytes.
type unspaced struct {
	in  io.Reader
	run int
}

const longestRun = 1 << 12

func (u *unspaced) Read(p []byte) (int, error) {
	n, err := u.in.Read(p)
	kept := p[:0]
	for _, c := range p[:n] {
		switch c {
		case ' ', '\t', '\r', '\n':
			u.run++
		default:
			u.run = 0
		}
		if u.run <= longestRun {
			kept = append(kept, c)
		}
	}
	return len(kept), err
}

// readJSON hands the records of lists over as they come, without keeping them,
// when all selections are such lists and the document is not wanted whole.
func readJSON(in io.Reader, selections []Selection, whole bool, limits Limits, each func(int, Row) error) (Row, error) {
	d := json.NewDecoder(&unspaced{in: in})
	d.UseNumber()
	s := &jsonStream{Decoder: d, each: each, limits: limits}
	for i, selection := range selections {
		names, plain := []string(nil), false
		if selection.Rows != nil {
			names, plain = selection.Rows.list()
		}
		if whole || !plain {
			s.lists = nil
			break
		}
		s.lists = append(s.lists, streamed{i, names})
	}
	root, err := s.value(nil, s.lists)
	if err != nil {
		return nil, asJSON(err)
	}
	if _, err := d.Token(); err != io.EOF {
		if err == nil {
			err = errors.New("there is more after the document's end")
		}
		return nil, asJSON(err)
	}
	document := &node{root, "$", -1}
	if s.lists != nil {
		return document, nil
	}
	for i, selection := range selections {
		if selection.Rows == nil {
			if err := each(i, document); err != nil {
				return nil, err
			}
			continue
		}
		for row := range document.Within(selection.Rows) {
			if err := each(i, row); err != nil {
				return nil, err
			}
		}
	}
	return document, nil
}

// handled is an error of the function that takes records, as opposed to one of
// the document.
type handled struct{ error }

func (h handled) Unwrap() error { return h.error }

func asJSON(err error) error {
	var own handled
	switch {
	case errors.As(err, &own):
		return own.error
	case errors.Is(err, io.EOF):
		return io.ErrUnexpectedEOF
	}
	return fmt.Errorf("not JSON: %w", err)
}

type streamed struct {
	selection int
	rest      []string // names that still lead to the list
}

type jsonStream struct {
	*json.Decoder
	lists  []streamed
	each   func(int, Row) error
	limits Limits
}

// value reads the value at a path. Lists whose records are streamed are left out
// of what it returns.
func (s *jsonStream) value(path []string, ahead []streamed) (any, error) {
	if len(ahead) == 0 {
		return s.kept(0)
	}
	token, err := s.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('{'):
		object := map[string]any{}
		for s.More() {
			key, err := s.Token()
			if err != nil {
				return nil, err
			}
			name := key.(string) // the decoder lets nothing else be a key
			var below []streamed
			for _, l := range ahead {
				if len(l.rest) > 0 && l.rest[0] == name {
					below = append(below, streamed{l.selection, l.rest[1:]})
				}
			}
			if object[name], err = s.value(append(path, name), below); err != nil {
				return nil, err
			}
		}
		_, err = s.Token()
		return object, err
	case json.Delim('['):
		place := "$"
		for _, name := range path {
			place += member(name)
		}
		for i := 0; s.More(); i++ {
			element, err := s.kept(0)
			if err != nil {
				return nil, err
			}
			for _, l := range ahead {
				if len(l.rest) > 0 {
					continue
				}
				if err := s.each(l.selection, &node{element, place, i}); err != nil {
					return nil, handled{err}
				}
			}
		}
		_, err = s.Token()
		return []any{}, err
	}
	return token, nil
}

// kept reads a value whole, nested no deeper than the limit.
func (s *jsonStream) kept(depth int) (any, error) {
	if depth > s.limits.Depth {
		return nil, fmt.Errorf("nested deeper than %d", s.limits.Depth)
	}
	token, err := s.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('{'):
		object := map[string]any{}
		for s.More() {
			key, err := s.Token()
			if err != nil {
				return nil, err
			}
			if object[key.(string)], err = s.kept(depth + 1); err != nil {
				return nil, err
			}
		}
		_, err = s.Token()
		return object, err
	case json.Delim('['):
		list := []any{}
		for s.More() {
			element, err := s.kept(depth + 1)
			if err != nil {
				return nil, err
			}
			list = append(list, element)
		}
		_, err = s.Token()
		return list, err
	}
	return token, nil
}

// longestLine bounds a line of JSON Lines in bytes.
const longestLine = 16 << 20

// readLines reads one record from each line; there is nothing outside of them.
func readLines(in io.Reader, selections []Selection, limits Limits, each func(int, Row) error) (Row, error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, longestLine)
	for i := 1; lines.Scan(); i++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		place := fmt.Sprintf("line %d", i)
		here := func(row Row) Row {
			n := *row.(*node) // lines hold nothing else
			n.place = place + strings.TrimPrefix(n.place, "$")
			return &n
		}
		_, err := readJSON(bytes.NewReader(lines.Bytes()), selections, true, limits, func(s int, row Row) error {
			if err := each(s, here(row)); err != nil {
				return handled{err}
			}
			return nil
		})
		var own handled
		switch {
		case errors.As(err, &own):
			return nil, own.error
		case err != nil:
			return nil, fmt.Errorf("%s: %w", place, err)
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return nil, fmt.Errorf("not JSON Lines: a line is longer than %d MiB", longestLine>>20)
	}
	return &node{map[string]any{}, "$", -1}, lines.Err()
}
