package cell

import (
	"math"
	"slices"
	"strconv"
	"strings"
)

// Magnitudes are written with these suffixes, from a thousand up.
var magnitudes = []struct {
	size   float64
	suffix string
}{{1e12, " tn"}, {1e9, " bn"}, {1e6, " m"}}

// sparkWidth is how many characters a small chart takes.
const sparkWidth = 16

// Sparkline draws numbers, separated by spaces, as blocks of eight heights from the
// least to the greatest: at most so many, each the last of its share.
func Sparkline(numbers string, width int) string {
	var all []float64
	for _, text := range strings.Fields(numbers) {
		if x, err := strconv.ParseFloat(text, 64); err == nil {
			all = append(all, x)
		}
	}
	if len(all) == 0 {
		return ""
	}
	n := min(width, len(all))
	low, high := slices.Min(all), slices.Max(all)
	var b strings.Builder
	for i := range n {
		x := all[(i+1)*len(all)/n-1]
		level := 3 // of a line that is flat
		if high > low {
			level = int(math.Round((x - low) / (high - low) * 7))
		}
		b.WriteRune([]rune("▁▂▃▄▅▆▇█")[level])
	}
	return b.String()
}

// Readable writes a value for people: at most four significant digits beyond a
// million with its magnitude ("9.18 bn"), percentages as such, other numbers with
// two decimals, or up to four below a thousand where they have them. A gap is
// written as a dash; the reason belongs beside it.
func (c *Cell) Readable() string {
	switch c.Value.Kind {
	case None:
		return "–"
	case Text:
		if c.Unit == "line" {
			return Sparkline(c.Value.Text, sparkWidth)
		}
		return c.Value.Text
	case Moment:
		return c.Value.Time().Format("2006-01-02 15:04")
	case Truth:
		if c.Value.Num == 1 {
			return "yes"
		}
		return "no"
	}
	x := c.Value.Num
	if c.Unit == "year" {
		return strconv.Itoa(int(x))
	}
	if c.Unit == "percent" {
		return Grouped(x*100, 2) + " %"
	}
	for _, m := range magnitudes {
		if math.Abs(x) >= m.size {
			return Grouped(x/m.size, 2) + m.suffix
		}
	}
	switch c.Unit {
	case "count", "shares", "days", "minutes":
		if x == math.Trunc(x) || math.Abs(x) >= 1000 {
			return Grouped(x, 0)
		}
	}
	if math.Abs(x) >= 1000 {
		return Grouped(x, 2)
	}
	text := Grouped(x, 4)
	for len(text)-strings.IndexByte(text, '.') > 3 && text[len(text)-1] == '0' {
		text = text[:len(text)-1]
	}
	return text
}

// Grouped writes a number with fixed decimals and a narrow no-break space
// between groups of three digits, the form of ISO 80000-1.
func Grouped(x float64, decimals int) string {
	text := strconv.FormatFloat(math.Abs(x), 'f', decimals, 64)
	whole, fraction, _ := strings.Cut(text, ".")
	var b strings.Builder
	if x < 0 && strings.Trim(text, "0.") != "" {
		b.WriteRune('−')
	}
	for i, digit := range whole {
		if i > 0 && (len(whole)-i)%3 == 0 {
			b.WriteRune('\u202f')
		}
		b.WriteRune(digit)
	}
	if fraction != "" {
		b.WriteString("." + fraction)
	}
	return b.String()
}
