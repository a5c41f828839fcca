package xbrl

import (
	_ "embed"
	"encoding/csv"
	"strconv"
	"strings"
)

// Concept is what a concept of a public taxonomy is in the catalogue.
type Concept struct {
	Line string  // of the accounts, as income.revenue
	Name string  // of the concept, as ifrs-full:Revenue
	Sign float64 // -1 where the concept counts what the line does the other way round
}

// Concepts are those that are known of the public taxonomies. Of several for one line
// an earlier one is preferred: it says more exactly what the line is.
//
// Sources: IFRS Accounting Taxonomy; US GAAP Financial Reporting Taxonomy.
var Concepts = func() (out []Concept) {
	rows, err := csv.NewReader(strings.NewReader(concepts)).ReadAll()
	if err != nil {
		panic(err) // the table ships with the program
	}
	for _, row := range rows[1:] {
		sign, err := strconv.ParseFloat(row[2], 64)
		if err != nil {
			panic(err)
		}
		out = append(out, Concept{row[0], row[1], sign})
	}
	return out
}()

//go:embed concepts.csv
var concepts string
