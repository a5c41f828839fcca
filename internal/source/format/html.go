package format

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// readHTML finds each selection's table on a page.
func readHTML(in io.Reader, selections []Selection, limits Limits, each func(int, Row) error) (Row, error) {
	page, err := goquery.NewDocumentFromReader(in)
	if err != nil {
		return nil, err
	}
	tables := page.Find("table")
	var captions []string
	for i := range tables.Length() {
		captions = append(captions, nameOf(tables.Eq(i)))
	}
	for s := range selections {
		wanted := &selections[s].Table
		found := tables.FilterFunction(func(_ int, t *goquery.Selection) bool { return wanted.matches(t) })
		if found.Length() > 1 && wanted.Caption == "" {
			// Among several below one heading, it is meant for the one without a name of its own.
			if bare := found.FilterFunction(func(_ int, t *goquery.Selection) bool { return caption(t) == "" }); bare.Length() == 1 {
				found = bare
			}
		}
		if found.Length() == 0 {
			return nil, fmt.Errorf("has no such table as %s; there are: %s", wanted, strings.Join(slices.DeleteFunc(slices.Clone(captions), func(s string) bool { return s == "" }), ", "))
		}
		if found.Length() > 1 {
			return nil, fmt.Errorf("has %d tables that match %s: say more about the one that is meant", found.Length(), wanted)
		}
		grid := cellsOf(found, limits)
		name := nameOf(found)
		place := func(row, column int) string {
			if row < 0 {
				return fmt.Sprintf("table %q, column %d", name, column+1)
			}
			return fmt.Sprintf("table %q, row %d", name, row+1)
		}
		if err := wanted.each(grid, false, place, func(r Row) error { return each(s, r) }); err != nil {
			return nil, err
		}
	}
	return &tableRow{names: captions, place: "page"}, nil
}

func text(s *goquery.Selection) string { return squeezed(s.Text()) }

// nameOf is a table's caption, or the heading before it.
func nameOf(t *goquery.Selection) string {
	return cmp.Or(caption(t), headingOf(t))
}

func caption(t *goquery.Selection) string { return text(t.ChildrenFiltered("caption")) }

// headingOf is the nearest heading before a table, beside it or beside what holds it.
func headingOf(t *goquery.Selection) string {
	for at := t; at.Length() > 0 && !at.Is("body"); at = at.Parent() {
		if before := at.PrevAllFiltered("h1, h2, h3, h4, h5, h6"); before.Length() > 0 {
			return text(before.First())
		}
	}
	return ""
}

func (t *Table) matches(s *goquery.Selection) bool {
	if t.Caption != "" && !strings.EqualFold(caption(s), squeezed(t.Caption)) ||
		t.Heading != "" && !strings.EqualFold(headingOf(s), squeezed(t.Heading)) {
		return false
	}
	var cells []string
	s.Find("th").Each(func(_ int, c *goquery.Selection) { cells = append(cells, text(c)) })
	for _, wanted := range t.Headers {
		if !slices.Contains(cells, squeezed(wanted)) {
			return false
		}
	}
	return t.Caption != "" || t.Heading != "" || len(t.Headers) > 0
}

// widest bounds how many columns a cell may claim to span.
const widest = 1000

// cellsOf reads a table's cells; one that spans columns is repeated in each.
func cellsOf(table *goquery.Selection, limits Limits) [][]string {
	var grid [][]string
	table.Find("tr").EachWithBreak(func(_ int, tr *goquery.Selection) bool {
		if tr.Closest("table").Get(0) != table.Get(0) {
			return true // of a table within a cell
		}
		var row []string
		tr.ChildrenFiltered("th, td").Each(func(_ int, c *goquery.Selection) {
			times := 1
			if n, err := strconv.Atoi(c.AttrOr("colspan", "1")); err == nil {
				times = min(max(n, 1), widest)
			}
			for range times {
				if len(row) < widest {
					row = append(row, text(c))
				}
			}
		})
		grid = append(grid, row)
		return len(grid) <= limits.Rows+1
	})
	return grid
}
