// Package format reads documents of the open formats that sources answer in, row
// by row: JSON, JSON Lines, CSV, TSV, HTML tables, XML, XLSX and XBRL. It knows where
// texts stand in a document, and nothing of what they mean.
package format

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"mime"
	"slices"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"
)

// Kind is a format of documents.
type Kind string

// The formats.
const (
	JSON  Kind = "json"
	Lines Kind = "jsonl" // one JSON document a line
	CSV   Kind = "csv"   // RFC 4180
	TSV   Kind = "tsv"
	HTML  Kind = "html"
	XML   Kind = "xml"
	XLSX  Kind = "xlsx"
	XBRL  Kind = "xbrl" // an instance document, in XML or in JSON; its rows are facts
)

// Kinds lists the formats.
var Kinds = []Kind{JSON, Lines, CSV, TSV, HTML, XML, XLSX, XBRL}

// Tabular tells whether rows have columns with headers.
func (k Kind) Tabular() bool { return k == CSV || k == TSV || k == HTML || k == XLSX || k == XBRL }

// Nature is what stands at a place of a document.
type Nature uint8

// What can stand at a place.
const (
	Absent Nature = iota // there is no such place
	Null                 // the format's own mark for no value
	Text
	Number
	Truth
	Nested // an object, a list or an element with children
)

// A Row is one record of a document.
type Row interface {
	// At returns the raw text at a place within the row.
	At(l *Locator) (string, Nature)
	// Within returns the records at a place within the row.
	Within(l *Locator) iter.Seq[Row]
	// Place is where the row stands, for people and for the stored account.
	Place() string
	// Names lists what the row holds, to suggest the nearest to a misspelt name.
	Names() []string
}

// Options say how a document is written.
type Options struct {
	Kind Kind `yaml:"kind" json:"kind" jsonschema:"enum=json,enum=jsonl,enum=csv,enum=tsv,enum=html,enum=xml,enum=xlsx,enum=xbrl"`
	// Character encoding as the WHATWG names it; what the answer says or UTF-8 when left out.
	Encoding string `yaml:"encoding,omitempty" json:"encoding,omitempty"`
	// Of CSV; a comma when left out.
	Delimiter string `yaml:"delimiter,omitempty" json:"delimiter,omitempty"`
	// The first line is data: columns are #1 and so on.
	NoHeader bool `yaml:"no_header,omitempty" json:"no_header,omitempty"`
	// Lines before the header.
	Skip int `yaml:"skip,omitempty" json:"skip,omitempty"`
}

// Selection says which records of a document are meant.
type Selection struct {
	Rows  *Locator // JSON and XML; nil is the document itself
	Table Table    // HTML and XLSX
}

// Table finds a table by what a reader of the page would go by. All that is
// given must hold.
type Table struct {
	// Text of its caption.
	Caption string `yaml:"caption,omitempty" json:"caption,omitempty"`
	// Text of the heading before it.
	Heading string `yaml:"heading,omitempty" json:"heading,omitempty"`
	// Texts that its header cells hold.
	Headers []string `yaml:"headers,omitempty" json:"headers,omitempty"`
	// Name of an XLSX sheet; the first when left out.
	Sheet string `yaml:"sheet,omitempty" json:"sheet,omitempty"`
	// The first column holds the names and each further column is a record; its header cell is at #header.
	Labels bool `yaml:"labels,omitempty" json:"labels,omitempty"`
}

func (t *Table) String() string {
	var by []string
	for _, s := range []struct{ what, text string }{{"caption", t.Caption}, {"heading", t.Heading}, {"headers", strings.Join(t.Headers, ", ")}, {"sheet", t.Sheet}} {
		if s.text != "" {
			by = append(by, s.what+" "+fmt.Sprintf("%q", s.text))
		}
	}
	return "a table with " + strings.Join(by, " and ")
}

// Limits bound a document.
type Limits struct {
	Rows  int // records of one selection
	Depth int // of nesting
}

// ErrTooMany is the error of a document with more records than the limit.
var ErrTooMany = errors.New("too many records")

// Read reads a document and hands each record of each selection to a function;
// an error from it ends the reading. What is left of the document is returned as
// one record, for the places that stand outside all selections. Unless whole is
// set, records are not kept once they are handed over, where the format allows it.
func Read(in io.Reader, contentType string, o *Options, selections []Selection, whole bool, limits Limits, each func(selection int, r Row) error) (Row, error) {
	counts := make([]int, len(selections))
	counted := func(selection int, r Row) error {
		if counts[selection]++; counts[selection] > limits.Rows {
			return fmt.Errorf("%w: more than %d", ErrTooMany, limits.Rows)
		}
		return each(selection, r)
	}
	if o.Kind == XLSX {
		return readXLSX(in, o, selections, limits, counted)
	}
	in, err := decoded(in, contentType, o.Encoding)
	if err != nil {
		return nil, err
	}
	switch o.Kind {
	case JSON:
		return readJSON(in, selections, whole, limits, counted)
	case Lines:
		return readLines(in, selections, limits, counted)
	case CSV, TSV:
		return readCSV(in, o, len(selections), counted)
	case HTML:
		return readHTML(in, selections, limits, counted)
	case XML:
		return readXML(in, selections, limits, counted)
	case XBRL:
		return readXBRL(in, len(selections), limits, counted)
	}
	return nil, fmt.Errorf("there is no format %q", o.Kind)
}

// decoded turns a document into UTF-8. A text that is not in the encoding it
// claims is an error, not a row of question marks.
func decoded(in io.Reader, contentType, declared string) (io.Reader, error) {
	name := declared
	if name == "" {
		if _, parameters, err := mime.ParseMediaType(contentType); err == nil {
			name = parameters["charset"]
		}
	}
	if name == "" || strings.EqualFold(name, "utf-8") {
		return transform.NewReader(in, transform.Chain(&byteOrderMark{}, encoding.UTF8Validator)), nil
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return nil, fmt.Errorf("the character encoding %q is not known", name)
	}
	return transform.NewReader(in, e.NewDecoder()), nil
}

// byteOrderMark drops the mark that some programs put before UTF-8.
type byteOrderMark struct{ past bool }

func (b *byteOrderMark) Reset() { b.past = false }

func (b *byteOrderMark) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	const mark = "\ufeff"
	if !b.past {
		if len(src) < len(mark) && !atEOF && strings.HasPrefix(mark, string(src)) {
			return 0, 0, transform.ErrShortSrc
		}
		b.past = true
		if strings.HasPrefix(string(src[:min(len(src), len(mark))]), mark) {
			nSrc = len(mark)
		}
	}
	n := copy(dst, src[nSrc:])
	if nSrc+n < len(src) {
		err = transform.ErrShortDst
	}
	return n, nSrc + n, err
}

// tableRow is a record with named columns.
type tableRow struct {
	columns map[string]int
	names   []string
	cells   []string
	place   string
}

func columnsOf(header []string) map[string]int {
	columns := make(map[string]int, len(header))
	for i, name := range header {
		name = squeezed(name)
		if _, double := columns[name]; !double && name != "" {
			columns[name] = i
		}
	}
	return columns
}

func (r *tableRow) At(l *Locator) (string, Nature) {
	i, named := l.column, l.column >= 0
	if !named {
		i, named = r.columns[l.text]
	}
	if !named || i >= len(r.cells) {
		return "", Absent
	}
	return r.cells[i], Text
}

func (r *tableRow) Within(*Locator) iter.Seq[Row] { return slices.Values([]Row{r}) }
func (r *tableRow) Place() string                 { return r.place }
func (r *tableRow) Names() []string               { return r.names }

// headerName is the name under which a record of a table with labels has the
// header cell of its column.
const headerName = "#header"

// each hands the rows of a grid of cells over, the first of them a header.
func (t *Table) each(grid [][]string, noHeader bool, place func(row, column int) string, give func(Row) error) error {
	if len(grid) == 0 {
		return nil
	}
	if !t.Labels {
		header, body := grid[0], grid[1:]
		first := 1
		if noHeader {
			header, body, first = nil, grid, 0
		}
		columns := columnsOf(header)
		for i, cells := range body {
			if err := give(&tableRow{columns, header, cells, place(i+first, -1)}); err != nil {
				return err
			}
		}
		return nil
	}
	labels := make([]string, len(grid), len(grid)+1)
	width := 0
	for i, row := range grid {
		if len(row) > 0 {
			labels[i] = row[0]
		}
		width = max(width, len(row))
	}
	labels = append(labels, headerName)
	columns := columnsOf(labels)
	for c := 1; c < width; c++ {
		cells := make([]string, len(labels))
		for i, row := range grid {
			if c < len(row) {
				cells[i] = row[c]
			}
		}
		cells[len(grid)] = cells[0]
		if err := give(&tableRow{columns, labels, cells, place(-1, c)}); err != nil {
			return err
		}
	}
	return nil
}

// squeezed is a text with its inner space made single.
func squeezed(s string) string { return strings.Join(strings.Fields(s), " ") }
