package format

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
)

// element is a part of an XML document. Names are taken without their prefixes.
type element struct {
	name       string
	attributes []xml.Attr
	children   []*element
	text       strings.Builder
	place      string
}

func (e *element) At(l *Locator) (string, Nature) {
	at := e
	for _, name := range l.names {
		if attribute, ok := strings.CutPrefix(name, "@"); ok {
			for _, a := range at.attributes {
				if a.Name.Local == attribute {
					return a.Value, Text
				}
			}
			return "", Absent
		}
		if name == "." {
			continue
		}
		i := slices.IndexFunc(at.children, func(c *element) bool { return c.name == name })
		if i < 0 {
			return "", Absent
		}
		at = at.children[i]
	}
	if len(at.children) > 0 {
		return "", Nested
	}
	return strings.TrimSpace(at.text.String()), Text
}

func (e *element) Within(l *Locator) iter.Seq[Row] {
	return func(yield func(Row) bool) { e.walk(l.names, yield) }
}

func (e *element) walk(names []string, yield func(Row) bool) bool {
	if len(names) == 0 {
		return yield(e)
	}
	for _, c := range e.children {
		if c.name == names[0] && !c.walk(names[1:], yield) {
			return false
		}
	}
	return true
}

func (e *element) Place() string { return e.place }

func (e *element) Names() []string {
	var names []string
	for _, a := range e.attributes {
		names = append(names, "@"+a.Name.Local)
	}
	for _, c := range e.children {
		if !slices.Contains(names, c.name) {
			names = append(names, c.name)
		}
	}
	return names
}

// readXML hands each element at a selection's path over when it ends, and keeps
// the rest. Entities other than XML's own are refused by the decoder.
func readXML(in io.Reader, selections []Selection, limits Limits, each func(int, Row) error) (Row, error) {
	d := xml.NewDecoder(in)
	d.CharsetReader = func(label string, input io.Reader) (io.Reader, error) {
		return input, nil // it has been decoded already
	}
	document := &element{place: "/"}
	stack := []*element{document}
	counts := map[string]int{}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("not XML: %w", err)
		}
		top := stack[len(stack)-1]
		switch t := token.(type) {
		case xml.StartElement:
			if len(stack) > limits.Depth {
				return nil, fmt.Errorf("nested deeper than %d", limits.Depth)
			}
			place := strings.TrimSuffix(top.place, "/") + "/" + t.Name.Local
			counts[place]++
			child := &element{name: t.Name.Local, attributes: slices.Clone(t.Attr), place: fmt.Sprintf("%s[%d]", place, counts[place])}
			top.children = append(top.children, child)
			stack = append(stack, child)
		case xml.CharData:
			top.text.Write(t)
		case xml.EndElement:
			stack = stack[:len(stack)-1]
			for s := range selections {
				if l := selections[s].Rows; l != nil && isAt(stack[1:], top, l.names) {
					if err := each(s, top); err != nil {
						return nil, err
					}
					parent := stack[len(stack)-1]
					parent.children = parent.children[:len(parent.children)-1]
				}
			}
		}
	}
	if len(document.children) == 0 && len(counts) == 0 {
		return nil, errors.New("not XML: there is no element")
	}
	for s := range selections {
		if selections[s].Rows == nil {
			if err := each(s, document); err != nil {
				return nil, err
			}
		}
	}
	return document, nil
}

func isAt(stack []*element, top *element, names []string) bool {
	if len(stack)+1 != len(names) || top.name != names[len(names)-1] {
		return false
	}
	for i, e := range stack {
		if e.name != names[i] {
			return false
		}
	}
	return true
}
