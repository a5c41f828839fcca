// Package entry holds the dated records of a listing: its dividends, splits,
// announcements, the members of an index, the fixings of a rate.
package entry

import (
	"sort"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/period"
)

// Entry is one dated record. Its values are in the order of its dataset's columns.
type Entry struct {
	Day      period.Date // zero where the dataset has no date
	Values   []cell.Value
	Place    string       // where in the response it stood
	Page     int          // of an answer of several responses, the one it stood in
	Response int64        // the stored response
	Before   []cell.Value // of the version that it replaced, of accounts; nil where it is the first
}

// Entries are the records of one listing and dataset, the oldest first.
type Entries []Entry

// Sort puts entries in the order of their days.
func (e Entries) Sort() { sort.SliceStable(e, func(i, j int) bool { return e[i].Day < e[j].Day }) }

// LastBy returns the last entry on or before a day, or nil.
func (e Entries) LastBy(day period.Date) *Entry {
	i := sort.Search(len(e), func(i int) bool { return e[i].Day > day })
	if i == 0 {
		return nil
	}
	return &e[i-1]
}

// NextAfter returns the first entry after a day, or nil.
func (e Entries) NextAfter(day period.Date) *Entry {
	i := sort.Search(len(e), func(i int) bool { return e[i].Day > day })
	if i == len(e) {
		return nil
	}
	return &e[i]
}
