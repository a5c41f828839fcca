package format

import (
	"fmt"
	"io"
	"strings"

	"github.com/xuri/excelize/v2"
)

// largestUnpacked bounds what a workbook unpacks to, whatever it claims.
const largestUnpacked = 256 << 20

// readXLSX hands the rows of each selection's sheet over. Numbers and dates come
// as they are stored, not as they are shown.
func readXLSX(in io.Reader, o *Options, selections []Selection, limits Limits, each func(int, Row) error) (Row, error) {
	book, err := excelize.OpenReader(in, excelize.Options{RawCellValue: true, UnzipSizeLimit: largestUnpacked, UnzipXMLSizeLimit: largestUnpacked / 16})
	if err != nil {
		return nil, fmt.Errorf("not an XLSX workbook: %w", err)
	}
	defer book.Close()
	sheets := book.GetSheetList()
	for s := range selections {
		wanted := &selections[s].Table
		sheet := wanted.Sheet
		if sheet == "" {
			sheet = sheets[0]
		}
		if i, err := book.GetSheetIndex(sheet); err != nil || i < 0 {
			return nil, fmt.Errorf("has no sheet %q; there are: %s", sheet, strings.Join(sheets, ", "))
		}
		rows, err := book.Rows(sheet)
		if err != nil {
			return nil, err
		}
		var grid [][]string
		for n := 0; rows.Next(); n++ {
			cells, err := rows.Columns()
			if err != nil {
				return nil, err
			}
			if n < o.Skip {
				continue
			}
			if grid = append(grid, cells); len(grid) > limits.Rows+1 {
				break // the reader of the records says so
			}
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
		place := func(row, column int) string {
			if row < 0 {
				return fmt.Sprintf("sheet %q, column %d", sheet, column+1)
			}
			return fmt.Sprintf("sheet %q, row %d", sheet, row+1+o.Skip)
		}
		if err := wanted.each(grid, o.NoHeader, place, func(r Row) error { return each(s, r) }); err != nil {
			return nil, err
		}
	}
	return &tableRow{names: sheets, place: "workbook"}, nil
}
