package xbrl

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"soba.invalid/soba/internal/core/period"
)

const (
	instance  = "http://www.xbrl.org/2003/instance"
	dimension = "http://xbrl.org/2006/xbrldi"
	schema    = "http://www.w3.org/2001/XMLSchema-instance"
)

// longestValue is the longest text of a fact that is kept: prose is longer.
const longestValue = 256

// Read reads an instance document, in XML or in JSON.
func Read(in io.Reader, limits Limits) (*Document, error) {
	buffered := bufio.NewReader(in)
	for {
		head, err := buffered.Peek(1)
		if err != nil {
			return nil, fmt.Errorf("%w: it is empty", errForm)
		}
		if !bytes.ContainsAny(head, " \t\r\n") {
			if head[0] == '{' {
				return readJSON(buffered, limits)
			}
			return readXML(buffered, limits)
		}
		buffered.ReadByte() //nolint:errcheck // it has been seen already
	}
}

// reader reads a document in XML. Facts may come before what they refer to.
type reader struct {
	*xml.Decoder
	limits   Limits
	prefixes map[string]string // by namespace, of the document's own taxonomies
	scopes   []scope
	contexts map[string]context
	units    map[string]string
	pending  []pending
	about    map[string]string
	count    int
}

type scope struct{ prefix, namespace string }

type pending struct {
	entry
	context, unit string
}

func readXML(in io.Reader, limits Limits) (*Document, error) {
	r := &reader{Decoder: xml.NewDecoder(in), limits: limits, prefixes: map[string]string{}, contexts: map[string]context{}, units: map[string]string{}, about: map[string]string{}}
	r.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it has been decoded already
	root, err := r.root()
	if err != nil {
		return nil, err
	}
	if root.Name.Space != instance || root.Name.Local != "xbrl" {
		return nil, fmt.Errorf("%w: its root is %s", errForm, root.Name.Local)
	}
	r.declare(root)
	for {
		token, err := r.Token()
		if err != nil {
			return nil, broken(err)
		}
		switch t := token.(type) {
		case xml.EndElement: // of the root
			return r.finish()
		case xml.StartElement:
			if r.count++; r.count > limits.Facts {
				return nil, fmt.Errorf("%w: more than %d", ErrTooMany, limits.Facts)
			}
			if err := r.item(t); err != nil {
				return nil, err
			}
		}
	}
}

func broken(err error) error {
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("not XML: %w", err)
}

func (r *reader) root() (xml.StartElement, error) {
	for {
		token, err := r.Token()
		if errors.Is(err, io.EOF) {
			return xml.StartElement{}, fmt.Errorf("%w: there is no element", errForm)
		}
		if err != nil {
			return xml.StartElement{}, broken(err)
		}
		if start, ok := token.(xml.StartElement); ok {
			return start, nil
		}
	}
}

// declare notes the prefixes that an element declares, and returns how to forget them.
func (r *reader) declare(e xml.StartElement) (undo int) {
	undo = len(r.scopes)
	for _, a := range e.Attr {
		if a.Name.Space == "xmlns" {
			r.scopes = append(r.scopes, scope{a.Name.Local, a.Value})
			if taxonomy(a.Value) == "" && r.prefixes[a.Value] == "" {
				r.prefixes[a.Value] = a.Name.Local
			}
		}
	}
	return undo
}

// named is the canonical form of a name whose prefix is declared around it.
func (r *reader) named(qualified string) string {
	prefix, name, found := strings.Cut(strings.TrimSpace(qualified), ":")
	if !found {
		return qualified
	}
	for i := len(r.scopes) - 1; i >= 0; i-- {
		if r.scopes[i].prefix == prefix {
			if usual := taxonomy(r.scopes[i].namespace); usual != "" {
				return usual + ":" + name
			}
			break
		}
	}
	return prefix + ":" + name
}

// item reads what stands directly below the root.
func (r *reader) item(e xml.StartElement) error {
	undo := r.declare(e)
	defer func() { r.scopes = r.scopes[:undo] }()
	if e.Name.Space == instance {
		switch e.Name.Local {
		case "context":
			return r.context(e)
		case "unit":
			return r.unit(e)
		}
		return r.skip()
	}
	f := pending{entry: entry{decimals: math.Inf(1)}}
	empty := false
	for _, a := range e.Attr {
		switch a.Name.Local {
		case "contextRef":
			f.context = a.Value
		case "unitRef":
			f.unit = a.Value
		case "decimals":
			if n, err := strconv.Atoi(a.Value); err == nil {
				f.decimals = float64(n)
			}
		case "id":
			f.place = "fact " + a.Value
		case "nil":
			empty = a.Name.Space == schema && (a.Value == "true" || a.Value == "1")
		}
	}
	if f.context == "" || empty {
		return r.skip() // a reference, a footnote, a tuple, or a fact without a value
	}
	usual := taxonomy(e.Name.Space)
	if f.unit == "" && usual != entity && usual != ifrs {
		return r.skip()
	}
	if usual == "" {
		usual = r.prefixes[e.Name.Space]
	}
	f.concept = usual + ":" + e.Name.Local
	text, err := r.text()
	if err != nil {
		return err
	}
	switch {
	case len(text) > longestValue:
	case f.unit == "":
		if r.about[f.concept] == "" {
			r.about[f.concept] = text
		}
	default:
		if f.place == "" {
			line, _ := r.InputPos()
			f.place = fmt.Sprintf("line %d", line)
		}
		f.value = text
		r.pending = append(r.pending, f)
	}
	return nil
}

// text reads the text of an element up to its end.
func (r *reader) text() (string, error) {
	var text []byte
	for depth := 0; ; {
		token, err := r.Token()
		if err != nil {
			return "", broken(err)
		}
		switch t := token.(type) {
		case xml.CharData:
			if len(text) <= longestValue {
				text = append(text, t...)
			}
		case xml.StartElement:
			if depth++; depth > r.limits.Depth {
				return "", fmt.Errorf("nested deeper than %d", r.limits.Depth)
			}
		case xml.EndElement:
			if depth == 0 {
				return string(bytes.TrimSpace(text)), nil
			}
			depth--
		}
	}
}

func (r *reader) skip() error {
	_, err := r.text()
	return err
}

// inside walks the elements within one, the innermost last.
func (r *reader) inside(each func(path []string, e xml.StartElement) error, ended func(path []string, text string) error) error {
	var path []string
	var text []byte
	var undo []int
	for {
		token, err := r.Token()
		if err != nil {
			return broken(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(path) > r.limits.Depth {
				return fmt.Errorf("nested deeper than %d", r.limits.Depth)
			}
			path, text, undo = append(path, t.Name.Local), text[:0], append(undo, r.declare(t))
			if err := each(path, t); err != nil {
				return err
			}
		case xml.CharData:
			if len(text) <= longestValue {
				text = append(text, t...)
			}
		case xml.EndElement:
			if len(path) == 0 {
				return nil
			}
			if err := ended(path, string(bytes.TrimSpace(text))); err != nil {
				return err
			}
			r.scopes = r.scopes[:undo[len(undo)-1]]
			path, text, undo = path[:len(path)-1], text[:0], undo[:len(undo)-1]
		}
	}
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func (r *reader) context(e xml.StartElement) error {
	id := attribute(e, "id")
	var c context
	axis := ""
	err := r.inside(func(_ []string, e xml.StartElement) error {
		switch {
		case e.Name.Space == dimension && e.Name.Local == "explicitMember":
			axis = r.named(attribute(e, "dimension"))
		case e.Name.Space == dimension: // a typed member
			c.other = true
		}
		return nil
	}, func(path []string, text string) (err error) {
		switch path[len(path)-1] {
		case "identifier":
			c.entity = text
		case "instant":
			c.end, err = lastDay(text)
		case "endDate":
			c.end, err = lastDay(text)
		case "startDate":
			c.first, err = firstDay(text)
		case "forever":
			c.other = true
		case "explicitMember":
			c.along(axis, r.named(text))
		}
		if err != nil {
			err = fmt.Errorf("context %s: %w", id, err)
		}
		return err
	})
	if err != nil {
		return err
	}
	if c.end == 0 || c.first > c.end {
		c.other = true
	}
	r.contexts[id] = c
	return nil
}

// along says what a context is of along one axis.
func (c *context) along(axis, member string) {
	if axis == basisAxis && (member == ofGroup || member == ofParent) {
		c.basis = member
		return
	}
	c.other = true
}

func (r *reader) unit(e xml.StartElement) error {
	var over, under []string
	err := r.inside(func([]string, xml.StartElement) error { return nil }, func(path []string, text string) error {
		if path[len(path)-1] != "measure" {
			return nil
		}
		_, name, found := strings.Cut(text, ":")
		if !found {
			name = text
		}
		if len(path) > 1 && path[len(path)-2] == "unitDenominator" {
			under = append(under, name)
		} else {
			over = append(over, name)
		}
		return nil
	})
	r.units[attribute(e, "id")] = unitOf(over, under)
	return err
}

// unitOf writes a unit as EUR, shares or EUR/shares.
func unitOf(over, under []string) string {
	unit := strings.Join(over, "*")
	if len(under) > 0 {
		unit += "/" + strings.Join(under, "*")
	}
	return unit
}

// finish puts facts and what they refer to together.
func (r *reader) finish() (*Document, error) {
	out := raw{about: r.about, facts: make([]entry, 0, len(r.pending))}
	for _, p := range r.pending {
		c, known := r.contexts[p.context]
		if !known {
			return nil, fmt.Errorf("%s refers to a context %q that is not there", p.concept, p.context)
		}
		unit, known := r.units[p.unit]
		if !known {
			return nil, fmt.Errorf("%s refers to a unit %q that is not there", p.concept, p.unit)
		}
		p.of, p.entry.unit = c, unit
		out.facts = append(out.facts, p.entry)
		if out.about["entity"] == "" {
			out.about["entity"] = c.entity
		}
	}
	return out.assemble()
}

// firstDay reads the beginning of a period: a day, or its first instant.
func firstDay(text string) (period.Date, error) {
	day, _, _ := strings.Cut(strings.TrimSuffix(text, "Z"), "T")
	d, err := period.ParseDate(day)
	if err != nil {
		return 0, fmt.Errorf("%q is no date", text)
	}
	return d, nil
}

// lastDay reads the end of a period, or an instant: a day means its end, and the first
// instant of a day the end of the day before.
func lastDay(text string) (period.Date, error) {
	text = strings.TrimSuffix(text, "Z")
	d, err := firstDay(text)
	if _, clock, timed := strings.Cut(text, "T"); err == nil && timed && strings.HasPrefix(clock, "00:00:00") {
		d--
	}
	return d, err
}
