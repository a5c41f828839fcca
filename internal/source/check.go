package source

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source/format"
)

// Sample is one record as it came and as it was understood.
type Sample struct {
	Dataset catalogue.Dataset
	Symbol  string
	Place   string
	Fields  []SampleField
}

// SampleField is one mapped field of a sample.
type SampleField struct {
	Field string
	At    string // the place that the description names
	Raw   string // what stands there
	Found string // text, number, truth, null, nested, or absent
	Value string // what it was understood as; "" for no value
	Wrong string // why it could not be understood
}

// Check is what one call of a source was found to do.
type Check struct {
	Call     string
	Datasets []catalogue.Dataset
	Asked    string // the listing or exchange that was asked for
	Fault    *Fault // nil when it works
	Answer   *Answer
	Samples  []Sample
	Skipped  string // why it was not asked
}

// Try carries out one request and keeps a sample of each part of its answer, raw
// and mapped. The error is a *[Fault].
func (s *Source) Try(ctx context.Context, q plan.Request, turn func(context.Context) error) (*Answer, []Sample, error) {
	return s.fetch(ctx, q, turn, true)
}

// recorded answers every call with one document, without a network.
type recorded struct {
	body        []byte
	contentType string
}

func (r *recorded) open(_ context.Context, s *Source, c *Call, a ask) (*document, *Page, error) {
	page := &Page{Address: "recorded", Started: time.Now(), Status: 200, UnitsLeft: -1}
	doc := newDocument(bytes.NewReader(r.body), int64(s.Limits.LargestMiB)<<20)
	doc.contentType = r.contentType
	if err := expected(a.kind, r.contentType); err != nil {
		doc.finish(page)
		return nil, page, &Fault{Kind: Malformed, Detail: err.Error()}
	}
	return doc, page, nil
}

// Replay makes a source that answers every call with a recorded response.
func Replay(d *Description, body []byte, contentType string, now func() time.Time) *Source {
	return &Source{Description: d, now: now, via: &recorded{body, contentType}}
}

var natures = [...]string{format.Absent: "absent", format.Null: "null", format.Text: "text", format.Number: "number", format.Truth: "truth", format.Nested: "nested"}

// sample describes a record field by field.
func (d *decoder) sample(p *reading, m met, row, outer format.Row) {
	if !d.sampling || slices.ContainsFunc(d.samples, func(s Sample) bool { return s.Dataset == p.dataset }) {
		return
	}
	out := Sample{Dataset: p.dataset, Symbol: m.symbol.String(), Place: row.Place()}
	for _, s := range p.fields {
		f := SampleField{Field: s.name, At: s.Value}
		if s.at != nil {
			f.At = s.at.String()
		}
		raw, nature := d.raw(s, row, outer)
		f.Raw, f.Found = shortened(raw), natures[nature]
		if nature == format.Absent || nature == format.Null {
			f.Raw = ""
		}
		unit := unitOf(p, s)
		v, wrong := d.value(s, unit, false, false, row, outer)
		f.Value, f.Wrong = shown(v, unit), wrong
		s.found = max(0, s.found-2) // looking is not finding
		out.Fields = append(out.Fields, f)
	}
	d.samples = append(d.samples, out)
}

// unitOf is the unit in which a mapped field is kept.
func unitOf(p *reading, s *slot) catalogue.Unit {
	if s.field != nil {
		return s.field.Unit
	}
	if i := p.info.Column(s.name); i >= 0 {
		return p.info.Columns[i].Unit
	}
	switch s.name {
	case "open", "high", "low", "close":
		return catalogue.Price
	case "volume":
		return catalogue.Shares
	}
	return catalogue.Text
}

func shown(v cell.Value, unit catalogue.Unit) string {
	switch v.Kind {
	case cell.None:
		return ""
	case cell.Text:
		return v.Text
	case cell.Moment:
		return v.Time().Format(time.RFC3339)
	}
	text := strconv.FormatFloat(v.Num, 'f', -1, 64)
	if unit == catalogue.Percent {
		text += fmt.Sprintf(" (%s%%)", strconv.FormatFloat(v.Num*100, 'g', 6, 64))
	}
	return text
}
