package format

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"
)

// readCSV hands the lines after the header over one by one. There is nothing
// outside of them.
func readCSV(in io.Reader, o *Options, selections int, each func(int, Row) error) (Row, error) {
	buffered := bufio.NewReader(in)
	for range o.Skip {
		if _, err := buffered.ReadString('\n'); err != nil {
			return nil, fmt.Errorf("ends within the %d lines before the header: %w", o.Skip, err)
		}
	}
	r := csv.NewReader(buffered)
	r.FieldsPerRecord, r.ReuseRecord = -1, true
	if o.Kind == TSV {
		r.Comma = '\t'
		r.LazyQuotes = true // a quote is a character like others there
	}
	if o.Delimiter != "" {
		r.Comma, _ = utf8.DecodeRuneInString(o.Delimiter)
	}
	var header []string
	columns := map[string]int{}
	if !o.NoHeader {
		line, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil, errors.New("is empty: there is not even a header")
		}
		if err != nil {
			return nil, err
		}
		header = slices.Clone(line)
		columns = columnsOf(header)
	}
	outside := &tableRow{columns: columns, names: header, place: "header"}
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return outside, nil
		}
		if err != nil {
			return nil, err
		}
		if header != nil && len(cells) > len(header) {
			line, _ := r.FieldPos(0)
			return nil, fmt.Errorf("line %d has %d fields under a header of %d", line, len(cells), len(header))
		}
		line, _ := r.FieldPos(0)
		row := &tableRow{columns, header, slices.Clone(cells), fmt.Sprintf("line %d", line+o.Skip)}
		for s := range selections { // each part takes the rows that it is for
			if err := each(s, row); err != nil {
				return nil, err
			}
		}
	}
}
