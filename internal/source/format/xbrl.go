package format

import (
	"errors"
	"fmt"
	"io"
	"strconv"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/source/xbrl"
)

// Columns of the facts of an XBRL document.
const (
	FactConcept = "concept"
	FactValue   = "value"
	FactEntity  = "entity"
)

var factColumns = []string{FactConcept, FactValue, "unit", "end", "part", "year", "basis", "currency", "standard", FactEntity}

// A Fact is a row of a document that reports on a period.
type Fact interface {
	Row
	// Reported is the end of the period that the document reports on.
	Reported() period.Date
	// Own tells whether the fact is of that end, rather than of one before that it is compared with.
	Own() bool
}

type fact struct {
	tableRow
	reported period.Date
	own      bool
}

func (f *fact) Reported() period.Date { return f.reported }
func (f *fact) Own() bool             { return f.own }

// Remarked is what is left of a document of which something is to be said.
type Remarked interface {
	Row
	Remarks() []string
}

type filing struct {
	tableRow
	remarks []string
}

func (f *filing) Remarks() []string { return f.remarks }

// readXBRL hands the facts of an instance document over one by one.
func readXBRL(in io.Reader, selections int, limits Limits, each func(int, Row) error) (Row, error) {
	d, err := xbrl.Read(in, xbrl.Limits{Facts: limits.Rows, Depth: limits.Depth})
	if errors.Is(err, xbrl.ErrTooMany) {
		return nil, fmt.Errorf("%w: %s", ErrTooMany, err)
	}
	if err != nil {
		return nil, err
	}
	columns := columnsOf(factColumns)
	for i := range d.Facts {
		f := &d.Facts[i]
		basis := "consolidated"
		if f.Standalone {
			basis = "standalone"
		}
		cells := []string{f.Concept, f.Value, f.Unit, f.End.String(), string(f.Part), strconv.Itoa(f.Year), basis, d.Currency, d.Standard, d.Entity}
		row := &fact{tableRow{columns, factColumns, cells, f.Place}, d.End, f.End == d.End}
		for s := range selections {
			if err := each(s, row); err != nil {
				return nil, err
			}
		}
	}
	cells := make([]string, len(factColumns))
	cells[len(cells)-1] = d.Entity
	return &filing{tableRow{columns, factColumns, cells, "document"}, d.Remarks}, nil
}
