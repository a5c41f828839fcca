// Package clean turns the texts that sources print into numbers and dates, by
// rules that are declared and never guessed: 1.24B, 3,1 %, (12.5), n/a, 41.7*.
package clean

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/period"
)

// Rules say how a source writes its values. The zero Rules read plain decimal
// numbers with a point, and nothing else.
type Rules struct {
	// Texts that stand for no value; an empty text always does.
	Missing []string `yaml:"missing,omitempty" json:"missing,omitempty"`
	// Decimal separator; a point when left out.
	Decimal string `yaml:"decimal,omitempty" json:"decimal,omitempty"`
	// Characters that may separate thousands, as a comma, an apostrophe or a space.
	Thousands string `yaml:"thousands,omitempty" json:"thousands,omitempty"`
	// Suffixes and what they multiply by, as B: 1000000000.
	Magnitudes map[string]float64 `yaml:"magnitudes,omitempty" json:"magnitudes,omitempty"`
	// (12.5) means -12.5.
	Parentheses bool `yaml:"parentheses,omitempty" json:"parentheses,omitempty"`
	// Regular expression of marks to drop from the end of a text.
	Footnotes string `yaml:"footnotes,omitempty" json:"footnotes,omitempty"`

	footnotes *regexp.Regexp
}

// Compile checks the rules and prepares them for use.
func (r *Rules) Compile() error {
	if r.Decimal == "" {
		r.Decimal = "."
	}
	if strings.Contains(r.Thousands, r.Decimal) {
		return fmt.Errorf("decimal and thousands are both %q: a number could not be told from another", r.Decimal)
	}
	for suffix, factor := range r.Magnitudes {
		if suffix == "" || strings.ContainsAny(suffix, "0123456789+-%()") || factor == 0 || math.IsInf(factor, 0) || math.IsNaN(factor) {
			return fmt.Errorf("magnitude %q: %v is no suffix with a factor: write it as B: 1000000000", suffix, factor)
		}
	}
	if r.Footnotes == "" {
		return nil
	}
	var err error
	if r.footnotes, err = regexp.Compile("(?:" + r.Footnotes + ")$"); err != nil {
		return fmt.Errorf("footnotes: %w", err)
	}
	return nil
}

// Text drops surrounding space and footnote marks, and tells whether anything
// that stands for a value is left.
func (r *Rules) Text(raw string) (text string, there bool) {
	text = strings.TrimSpace(strings.Map(plainSpace, raw))
	if slices.Contains(r.Missing, text) {
		return "", false
	}
	if r.footnotes != nil {
		text = strings.TrimSpace(r.footnotes.ReplaceAllString(text, ""))
	}
	return text, text != "" && !slices.Contains(r.Missing, text)
}

// plainSpace makes the no-break and thin spaces of typeset numbers plain.
func plainSpace(c rune) rune {
	switch c {
	case '\u00a0', '\u2007', '\u2009', '\u202f':
		return ' '
	}
	return c
}

// Number reads a number. A percent sign at its end makes it a fraction. The
// second result is false where the text stands for no value.
func (r *Rules) Number(raw string) (x float64, there bool, err error) {
	text, there := r.Text(raw)
	if !there {
		return 0, false, nil
	}
	fail := func() (float64, bool, error) { return 0, true, fmt.Errorf("%q is not a number", raw) }
	sign, factor := 1.0, 1.0
	if inside, wrapped := strings.CutPrefix(text, "("); wrapped && r.Parentheses {
		before, after, closed := strings.Cut(inside, ")")
		if !closed || before == "" || strings.ContainsAny(before[:1], "+-\u2212") {
			return fail()
		}
		sign, text = -1, before+after // the sign of a suffix may stand outside: (1.2)B
	}
	if before, percent := strings.CutSuffix(text, "%"); percent {
		text, factor = strings.TrimSpace(before), 0.01
	}
	if suffix := r.magnitude(text); suffix != "" {
		text, factor = strings.TrimSpace(strings.TrimSuffix(text, suffix)), factor*r.Magnitudes[suffix]
	}
	text = strings.Replace(text, "\u2212", "-", 1) // the typographic minus
	if !r.grouped(&text) {
		return fail()
	}
	if r.Decimal != "." && r.Decimal != "" {
		if strings.Contains(text, ".") {
			return fail()
		}
		text = strings.Replace(text, r.Decimal, ".", 1)
	}
	if strings.Trim(text, "0123456789.+-eE") != "" {
		return fail() // no hexadecimals, underscores, infinities
	}
	x, err = strconv.ParseFloat(text, 64)
	if err != nil || math.IsInf(x, 0) {
		return fail()
	}
	if x = Scale(sign*x, factor); math.IsInf(x, 0) {
		return fail()
	}
	return x, true, nil
}

// Scale multiplies, by a power of ten as one does on paper: 0.07 % is 0.0007,
// which neither 0.07 × 0.01 nor 0.07 / 100 is in binary.
func Scale(x, factor float64) float64 {
	places := math.Round(math.Log10(factor))
	if factor == 1 || math.Pow10(int(places)) != factor || math.IsInf(x, 0) || math.IsNaN(x) {
		return x * factor
	}
	digits, exponent, _ := strings.Cut(strconv.FormatFloat(x, 'e', -1, 64), "e")
	e, _ := strconv.Atoi(exponent)                                         // as just written
	y, _ := strconv.ParseFloat(digits+"e"+strconv.Itoa(e+int(places)), 64) // out of range gives an infinity
	return y
}

// magnitude finds the longest suffix that a text ends in.
func (r *Rules) magnitude(text string) (longest string) {
	for suffix := range r.Magnitudes {
		if strings.HasSuffix(text, suffix) && len(suffix) > len(longest) {
			longest = suffix
		}
	}
	return longest
}

// grouped removes thousands separators; false when they stand where none can,
// as in 1,5 which was meant as one and a half.
func (r *Rules) grouped(text *string) bool {
	if r.Thousands == "" || !strings.ContainsAny(*text, r.Thousands) {
		return true
	}
	whole, fraction, cut := strings.Cut(*text, r.decimal())
	if cut && strings.ContainsAny(fraction, r.Thousands) {
		return false
	}
	groups := strings.FieldsFunc(whole, func(c rune) bool { return strings.ContainsRune(r.Thousands, c) })
	for i, g := range groups {
		if i > 0 && len(g) != 3 {
			return false
		}
	}
	if len(groups) == 0 {
		return false
	}
	*text = strings.Join(groups, "")
	if cut {
		*text += r.decimal() + fraction
	}
	return true
}

func (r *Rules) decimal() string {
	if r.Decimal == "" {
		return "."
	}
	return r.Decimal
}

// Layout translates a pattern such as DD.MM.YYYY or YYYY-MM-DD hh:mm:ss into the
// form that [time.Parse] takes. The pattern may also be iso, unix, unix_ms, or
// serial: the day numbers of spreadsheets, counted from 1899-12-30.
func Layout(pattern string) (string, error) {
	switch pattern {
	case "", "iso", "unix", "unix_ms", "serial":
		return pattern, nil
	}
	layout := strings.NewReplacer("YYYY", "2006", "YY", "06", "MMM", "Jan", "MM", "01", "DD", "02", "D", "2", "hh", "15", "mm", "04", "ss", "05", "ZZ", "Z07:00", "Z", "MST").Replace(pattern)
	if !strings.Contains(layout, "06") && !strings.Contains(layout, "15") {
		return "", fmt.Errorf("%q is not a pattern for dates: write it as YYYY-MM-DD, DD.MM.YYYY hh:mm, iso, unix, unix_ms or serial", pattern)
	}
	return layout, nil
}

// Time reads an instant by a layout from [Layout]; a time without a zone is in
// the given one. The iso form takes RFC 3339 and plain dates.
func Time(text, layout string, zone *time.Location) (time.Time, error) {
	if zone == nil {
		zone = time.UTC
	}
	switch layout {
	case "unix", "unix_ms":
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || math.Abs(n) > 1e14 {
			return time.Time{}, fmt.Errorf("%q is not a count of seconds", text)
		}
		if layout == "unix_ms" {
			n /= 1000
		}
		return time.UnixMilli(int64(n * 1000)).UTC(), nil
	case "serial":
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || n < 1 || n > 200_000 {
			return time.Time{}, fmt.Errorf("%q is not the day number of a spreadsheet", text)
		}
		days, part := math.Modf(n)
		return time.Date(1899, 12, 30+int(days), 0, 0, int(math.Round(part*86400)), 0, zone), nil
	case "", "iso":
		for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly} {
			if t, err := time.ParseInLocation(form, text, zone); err == nil {
				return t, nil
			}
		}
		return time.Time{}, fmt.Errorf("%q is not a date: the form is 2026-03-06 or 2026-03-06T16:20:00Z", text)
	}
	t, err := time.ParseInLocation(layout, text, zone)
	if err != nil {
		return t, fmt.Errorf("%q is not a date of the form %s", text, layout)
	}
	return t, nil
}

// WriteUnix writes an instant as a count of seconds.
func WriteUnix(t time.Time) string { return strconv.FormatInt(t.Unix(), 10) }

// Date reads a civil date by a layout from [Layout].
func Date(text, layout string) (period.Date, error) {
	t, err := Time(text, layout, nil)
	if err != nil {
		return 0, err
	}
	d := period.DateOf(t)
	if y := t.Year(); y < 1800 || y > 2300 {
		return 0, fmt.Errorf("%q lies outside the years 1800 to 2300", text)
	}
	return d, nil
}
