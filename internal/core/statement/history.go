package statement

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// Part is the stretch of a fiscal year that a report covers.
type Part string

// The parts. Those of six and nine months run from the beginning of the fiscal year;
// H2 is the second half alone.
const (
	Whole      Part = "FY"
	Q1         Part = "Q1"
	Q2         Part = "Q2"
	Q3         Part = "Q3"
	Q4         Part = "Q4"
	H1         Part = "H1"
	H2         Part = "H2"
	NineMonths Part = "9M"
)

// months that each part covers, and how many of its fiscal year are over at its end.
var parts = map[Part]struct{ months, over int }{
	Whole: {12, 12}, Q1: {3, 3}, Q2: {3, 6}, Q3: {3, 9}, Q4: {3, 12}, H1: {6, 6}, H2: {6, 12}, NineMonths: {9, 9},
}

// ParsePart reads a part as sources write it: FY, Q1 to Q4, H1, H2, 6M or 9M.
func ParsePart(text string) (Part, error) {
	p := Part(strings.ToUpper(strings.TrimSpace(text)))
	if p == "6M" {
		p = H1
	}
	if _, known := parts[p]; !known {
		return "", fmt.Errorf("%q is no part of a fiscal year: FY, Q1 to Q4, H1, H2, 6M or 9M", text)
	}
	return p, nil
}

// Report is what an issuer has published of one stretch of time.
type Report struct {
	End        period.Date
	Filed      period.Date // 0 where that is not known
	SharesOf   period.Date // day in whose shares it counts; 0: that of publication
	Year       int         // fiscal, as the issuer counts it
	Part       Part
	Standalone bool      // of the parent alone, without its subsidiaries
	Currency   string    // ISO 4217
	Standard   string    // of accounting, as IFRS
	Values     []float64 // by the position of the line; NaN where it has none
	Response   int64     // the stored response that it came in
	Place      string    // and where in it
	Was        []float64 // what the source had said before, where that was something else; else NaN. nil where nothing changed
}

// Label names the stretch, as FY2025 or 2025-Q3.
func (r *Report) Label() string {
	if r.Part == Whole {
		return fmt.Sprintf("FY%04d", r.Year)
	}
	return fmt.Sprintf("%04d-%s", r.Year, r.Part)
}

// month counts months to the one whose end is nearest to a day, so that years of 52
// and 53 weeks end where others do.
func month(day period.Date) int {
	t := day.AddDays(-15).Time()
	return t.Year()*12 + int(t.Month())
}

// History is all that an issuer has published, in today's shares.
type History struct {
	Reports []Report      // the oldest first; of two that end on a day the longer last
	at      map[int][]int // reports by the months in which they end, or after which they begin
	ends    []int         // by report, the month in which it ends
	begins  []int         // and that after which it begins
	labels  []string      // and its label
	whole   []int         // those of whole years, the oldest first

	mu     sync.RWMutex
	sheets map[Span]*sheet
	once   sync.Once
	next   expectation
}

// New puts reports in order. Where there are any of the whole group, those of the
// parent alone are left out. Shares and amounts for one share are restated for the
// splits after the day in whose shares each report counts.
func New(reports []Report, splits []series.Split) *History {
	consolidated := slices.ContainsFunc(reports, func(r Report) bool { return !r.Standalone })
	h := &History{at: map[int][]int{}}
	for _, r := range reports {
		if r.Standalone && consolidated {
			continue
		}
		h.Reports = append(h.Reports, restated(r, splits))
	}
	slices.SortStableFunc(h.Reports, func(a, b Report) int {
		if a.End != b.End {
			return int(a.End) - int(b.End)
		}
		return parts[a.Part].months - parts[b.Part].months
	})
	for i := range h.Reports {
		r := &h.Reports[i]
		end := month(r.End)
		begin := end - parts[r.Part].months
		h.ends, h.begins, h.labels = append(h.ends, end), append(h.begins, begin), append(h.labels, r.Label())
		h.at[end] = append(h.at[end], i)
		h.at[begin] = append(h.at[begin], i)
		if n := len(h.whole); r.Part == Whole && (n == 0 || h.ends[h.whole[n-1]] != end) {
			h.whole = append(h.whole, i)
		}
	}
	return h
}

func restated(r Report, splits []series.Split) Report {
	since := cmp.Or(r.SharesOf, max(r.Filed, r.End))
	factor := 1.0
	for _, s := range splits {
		if s.Day > since {
			factor *= s.Ratio
		}
	}
	if factor == 1 {
		return r
	}
	r.Values, r.Was = slices.Clone(r.Values), slices.Clone(r.Was)
	for _, values := range [][]float64{r.Values, r.Was} {
		for i := range values {
			switch {
			case Lines[i].Shares:
				values[i] *= factor
			case Lines[i].Nature == PerShare:
				values[i] /= factor
			}
		}
	}
	return r
}

// Span is a stretch of whole months between the ends of two.
type Span struct{ from, to int }

// Reading is a value of the accounts with what it was read from.
type Reading struct {
	Value      float64
	End        period.Date
	Filed      period.Date // of the newest report that was read
	Label      string      // FY2025, 2025-Q3, TTM 2025-09-30
	Currency   string
	Standalone bool
	Restated   bool      // a report that it was read from had another value before
	Was        float64   // that value, where it is of one report alone; else NaN
	From       []*Report // added, in order of time
	Less       []*Report // and those that were subtracted

	derived string // what Derived says, where that has been worked out
}

// Derived says of what a value was put together, where no report has it as it is.
func (r *Reading) Derived() string {
	if len(r.From)+len(r.Less) < 2 || r.derived != "" {
		return r.derived
	}
	text := ""
	for i, x := range r.From {
		if i > 0 {
			text += " + "
		}
		text += x.Label()
	}
	for _, x := range r.Less {
		text += " − " + x.Label()
	}
	return text
}

// A Gap says why a value cannot be read.
type Gap struct {
	Short  bool // the history does not reach that far; else it is not reported
	Detail string
}

func (g *Gap) Error() string { return g.Detail }

// Read returns a line in a period. Without a period flows are of the twelve months
// up to the newest report, and stocks of its end; with a date, to the newest that had
// ended by then. The error is a *[Gap].
func (h *History) Read(line int, p period.Period, today period.Date) (Reading, error) {
	if h == nil || len(h.Reports) == 0 {
		return Reading{}, &Gap{Detail: "no report is known"}
	}
	if p.IsDate() {
		i := sort.Search(len(h.Reports), func(i int) bool { return h.Reports[i].End > p.Date(today) }) - 1
		if i < 0 {
			return Reading{}, h.short("no report had ended by " + p.Date(today).String())
		}
		end := h.ends[i]
		return h.labelled(line, Span{end - 12, end}, "")
	}
	at, label, err := h.span(p)
	if err != nil {
		return Reading{}, err
	}
	return h.labelled(line, at, label)
}

func (h *History) labelled(line int, at Span, label string) (Reading, error) {
	if r, there := h.sheet(at).read(line); there {
		if label != "" {
			r.Label = label
		}
		return r, nil
	}
	r, err := h.over(line, at)
	r.Label = label
	switch {
	case r.Label != "":
	case Lines[line].Nature == Stock:
		r.Label = r.End.String()
	default:
		r.Label = "TTM " + r.End.String()
	}
	return r, err
}

// over reads a line over a span.
func (h *History) over(line int, at Span) (Reading, error) {
	switch Lines[line].Nature {
	case Stock:
		return h.stock(line, at.to)
	case PerShare:
		return h.perShare(line, at)
	}
	return h.flow(line, at)
}

// Currency is that of the newest report; "" where it does not say.
func (h *History) Currency() string {
	if len(h.Reports) == 0 {
		return ""
	}
	return h.Reports[len(h.Reports)-1].Currency
}

// classifying are the lines that banks and insurers do not have: their balance sheets
// are not split into what is current and what is not.
var classifying = []string{
	"income.cost_of_revenue", "income.gross_profit", "balance.receivables", "balance.inventory", "balance.current_assets", "balance.payables", "balance.current_liabilities",
}

// Lacks tells whether a line does not exist for the issuer: where none of its reports
// has any of the lines that banks and insurers do not have, it is one of these.
func (h *History) Lacks(line int) bool {
	if h == nil || len(h.Reports) == 0 || !slices.Contains(classifying, Lines[line].ID) {
		return false
	}
	for i := range h.Reports {
		for _, id := range classifying {
			if !math.IsNaN(h.Reports[i].Values[At(id)]) {
				return false
			}
		}
	}
	return true
}

// newest is the month of the newest end of a report.
func (h *History) newest() int { return h.ends[len(h.ends)-1] }

// span finds the months that a period means, and names it as it was found.
func (h *History) span(p period.Period) (Span, string, error) {
	back := -p.Offset()
	last := h.newest()
	switch p.Kind() {
	case period.Latest, period.Trailing:
		end := last - 12*back
		return Span{end - 12, end}, "", nil
	case period.Year:
		if back >= len(h.whole) || back < 0 {
			return Span{}, "", h.short(fmt.Sprintf("%s: of %d years there are accounts", p, len(h.whole)))
		}
		i := h.whole[len(h.whole)-1-back]
		return Span{h.begins[i], h.ends[i]}, h.labels[i], nil
	case period.YearNamed:
		for _, i := range h.whole {
			if h.Reports[i].Year == p.Year() {
				return Span{h.begins[i], h.ends[i]}, h.labels[i], nil
			}
		}
		return Span{}, "", h.short(fmt.Sprintf("no accounts of %s are known", p))
	case period.Quarter:
		end := last - 3*back
		return Span{end - 3, end}, h.named(end, 3), nil
	case period.Half:
		end := last - 6*back
		return Span{end - 6, end}, h.named(end, 6), nil
	case period.QuarterNamed:
		for i := range h.Reports {
			if r := &h.Reports[i]; r.Year == p.Year() {
				end := h.ends[i] - parts[r.Part].over + 3*p.Offset()
				return Span{end - 3, end}, p.String(), nil
			}
		}
		return Span{}, "", h.short(fmt.Sprintf("no accounts of %04d are known", p.Year()))
	}
	return Span{}, "", &Gap{Detail: fmt.Sprintf("accounts have no period %s", p)}
}

// named is the fiscal name of the months up to an end, by the report that ends there.
func (h *History) named(end, months int) string {
	for _, i := range h.at[end] {
		r := &h.Reports[i]
		if h.ends[i] != end {
			continue
		}
		over := parts[r.Part].over
		if over%months == 0 {
			return fmt.Sprintf("%04d-%s%d", r.Year, map[int]string{3: "Q", 6: "H"}[months], over/months)
		}
	}
	return ""
}

// Whole tells how many fiscal years without a gap the history holds up to the newest, and
// the first of them; nil where there is none.
func (h *History) Whole() (n int, first *Report) {
	if h == nil {
		return 0, nil
	}
	for k := len(h.whole) - 1; k >= 0; k-- {
		if k < len(h.whole)-1 && h.ends[h.whole[k+1]]-h.ends[h.whole[k]] > 12 {
			break
		}
		n, first = n+1, &h.Reports[h.whole[k]]
	}
	return n, first
}

func (h *History) short(detail string) *Gap {
	return &Gap{Short: true, Detail: fmt.Sprintf("%s; the oldest report is %s", detail, h.Reports[0].Label())}
}

// stock is what stands at the end of a month.
func (h *History) stock(line, end int) (Reading, error) {
	var at *Report
	for _, i := range h.at[end] {
		if r := &h.Reports[i]; h.ends[i] == end {
			at = r
			if !math.IsNaN(r.Values[line]) {
				return reading(line, r.Values[line], []*Report{r}, nil), nil
			}
		}
	}
	if at == nil {
		return Reading{}, h.short("no report ends in " + monthName(end))
	}
	return Reading{End: at.End, Filed: at.Filed}, &Gap{Detail: fmt.Sprintf("%s has no %s", at.Label(), strings.ToLower(Lines[line].Label))}
}

// flow is the sum over a span: of the fewest reports that, added and subtracted,
// cover it exactly. A mean counts for as long as its report.
func (h *History) flow(line int, at Span) (Reading, error) {
	steps, ok := h.path(line, at)
	if !ok {
		return Reading{}, h.whyNot(line, at)
	}
	from, less := h.sides(steps)
	return reading(line, h.sum(line, at, steps), from, less), nil
}

// perShare is what a report gives for exactly the span, or else earnings over the
// mean of shares.
func (h *History) perShare(line int, at Span) (Reading, error) {
	if steps, ok := h.path(line, at); ok && len(steps) == 1 {
		return h.flow(line, at)
	}
	shares := At("income.shares_diluted")
	if Lines[line].ID == "income.eps_basic" {
		shares = At("income.shares_basic")
	}
	earned, err := h.flow(At("income.net_income_common"), at)
	if err != nil {
		return earned, err
	}
	held, err := h.flow(shares, at)
	if err != nil {
		return held, err
	}
	earned.Value /= held.Value
	return earned, nil
}

func reading(line int, value float64, from, less []*Report) Reading {
	r := Reading{Value: value, Was: math.NaN(), From: from, Less: less}
	all := append(slices.Clone(from), less...)
	for _, x := range all {
		if x.Was != nil && !math.IsNaN(x.Was[line]) {
			r.Restated = true
			if len(all) == 1 {
				r.Was = x.Was[line]
			}
		}
		r.End, r.Filed = max(r.End, x.End), max(r.Filed, x.Filed)
		r.Currency = x.Currency
		r.Standalone = r.Standalone || x.Standalone
	}
	return r
}

// step is one report of a path, added or subtracted.
type step struct {
	report int
	back   bool
}

// longestPath is how many reports a value is put together from at most: four
// quarters, or two years and what lies between.
const longestPath = 5

// anyLine stands for reports that have whatever line.
const anyLine = -1

// path finds the fewest reports that have the line and lead from the beginning of a
// span to its end: those that run forward are added, those that run back subtracted.
func (h *History) path(line int, at Span) ([]step, bool) {
	type reached struct {
		before int // position in the queue
		month  int
		by     step
	}
	queue := []reached{{before: -1, month: at.from}}
	seen := map[int]bool{at.from: true}
	for i, depth, next := 0, 0, 1; i < len(queue) && depth < longestPath; i++ {
		if i == next {
			depth, next = depth+1, len(queue)
			if depth == longestPath {
				break
			}
		}
		here := queue[i]
		for _, k := range h.at[here.month] {
			to, back := h.ends[k], false
			if to == here.month {
				to, back = h.begins[k], true
			}
			if seen[to] || line != anyLine && math.IsNaN(h.Reports[k].Values[line]) {
				continue
			}
			seen[to] = true
			queue = append(queue, reached{i, to, step{k, back}})
			if to != at.to {
				continue
			}
			var steps []step
			for j := len(queue) - 1; j > 0; j = queue[j].before {
				steps = append(steps, queue[j].by)
			}
			slices.Reverse(steps)
			return steps, true
		}
	}
	return nil, false
}

// whyNot tells a history that is too short or broken from a line that is not there.
func (h *History) whyNot(line int, at Span) *Gap {
	whole := At("income.net_income")
	if _, ok := h.path(whole, at); ok && line != whole {
		label := ""
		for _, i := range h.at[at.to] {
			if h.ends[i] == at.to {
				label = h.labels[i]
			}
		}
		return &Gap{Detail: fmt.Sprintf("%s has no %s", label, strings.ToLower(Lines[line].Label))}
	}
	months := at.to - at.from
	if months == 3 && !slices.ContainsFunc(h.Reports, func(r Report) bool { return parts[r.Part].months == 3 }) {
		return &Gap{Detail: "only halves or years are published"}
	}
	return h.short(fmt.Sprintf("no reports add up to the %d months to the end of %s", months, monthName(at.to)))
}

// firstOf is the first day of a month.
func firstOf(m int) time.Time { return time.Date(0, time.Month(m), 1, 0, 0, 0, 0, time.UTC) }

func monthName(m int) string {
	return firstOf(m).Format("January 2006")
}

// Kinds of stretches in which accounts can be shown one after the other.
const (
	ByYear    = "year"
	ByHalf    = "half"
	ByQuarter = "quarter"
	ByTTM     = "ttm"
)

var kinds = map[string]period.Kind{ByYear: period.Year, ByHalf: period.Half, ByQuarter: period.Quarter, ByTTM: period.Trailing}

// Back is the stretch of a kind that lies some before the newest.
func Back(by string, n int) period.Period { return period.Back(kinds[by], n) }

// Stretches lists the newest periods of a kind that the reports tell of, the newest
// first, up to a number; none for a kind that they do not.
func (h *History) Stretches(by string, most int) (out []period.Period) {
	if _, known := kinds[by]; h == nil || !known {
		return nil
	}
	income, assets := At("income.net_income"), At("balance.total_assets")
	for i := range most {
		p := Back(by, i)
		_, noIncome := h.Read(income, p, 0)
		if _, noAssets := h.Read(assets, p, 0); noIncome != nil && (noAssets != nil || by != ByYear) {
			return out
		}
		out = append(out, p)
	}
	return out
}
