package period

import (
	"fmt"
	"strconv"
	"strings"
)

// Kind is the kind of stretch a Period names.
type Kind uint8

// The kinds of period. Latest, the zero value, is whatever is newest.
const (
	Latest       Kind = iota
	Year              // FY, FY-1, FY+1: fiscal years counted from the latest reported
	YearNamed         // FY2024
	Quarter           // Q, Q-4, Q+1: fiscal quarters counted from the latest reported
	QuarterNamed      // 2024-Q3, the SDMX form
	Half              // H, H-1: halves, where only halves are published
	Trailing          // TTM, TTM-1: trailing twelve months, and the same a year earlier
	Next              // NTM: the next twelve months, from estimates
	Calendar          // 2024: a calendar year
	Day               // 2024-06-30
	DayBack           // -30d, -4w, -6m, -1y: counted back from today
	Today             // today
)

// Period is one stretch of time, absolute or relative. It is comparable; the
// zero Period is [Latest].
type Period struct {
	kind   Kind
	offset int16 // how many periods from the latest, or the quarter of QuarterNamed
	year   int16 // of YearNamed, QuarterNamed and Calendar
	day    Date  // of Day
	unit   byte  // of DayBack: d, w, m or y
}

// Periods ahead that are read where none is named.
var (
	AheadTwelveMonths = Period{kind: Next}
	NextYear          = Period{kind: Year, offset: 1}
)

// Back is a period of a kind that is counted from the latest reported, and lies some
// before it: FY, FY-1 and so on.
func Back(k Kind, n int) Period { return Period{kind: k, offset: int16(-n)} }

// Kind returns the kind of the period.
func (p Period) Kind() Kind { return p.kind }

// Offset returns how many periods away from the latest one it lies: -1 for FY-1.
func (p Period) Offset() int { return int(p.offset) }

// Year returns the year that the period names, of the kinds that name one.
func (p Period) Year() int { return int(p.year) }

// OnDay returns the period that is one date.
func OnDay(d Date) Period { return Period{kind: Day, day: d} }

// IsDate tells whether the period resolves to a single date.
func (p Period) IsDate() bool { return p.kind >= Day }

// Date resolves a dated period against today. Other kinds give the zero Date.
func (p Period) Date(today Date) Date {
	switch p.kind {
	case Day:
		return p.day
	case Today:
		return today
	case DayBack:
		switch p.unit {
		case 'd':
			return today.AddDays(-int(p.offset))
		case 'w':
			return today.AddDays(-7 * int(p.offset))
		case 'm':
			return today.AddMonths(-int(p.offset))
		default:
			return today.AddYears(-int(p.offset))
		}
	}
	return 0
}

// YearsBack tells of a period that is counted back in years how many they are.
func (p Period) YearsBack() (years int, ok bool) {
	return int(p.offset), p.kind == DayBack && p.unit == 'y'
}

// Before returns the same period some years earlier: FY-3 of FY-1, Q-8 of Q, TTM-1 of
// the latest.
func (p Period) Before(years int) Period {
	n := int16(years)
	switch p.kind {
	case Latest:
		return Period{kind: Trailing, offset: -n}
	case Year, Trailing:
		p.offset -= n
	case Quarter:
		p.offset -= 4 * n
	case Half:
		p.offset -= 2 * n
	case YearNamed, QuarterNamed, Calendar:
		p.year -= n
	case Day:
		p.day = p.day.AddYears(-years)
	case DayBack:
		if p.unit == 'y' {
			p.offset += n
		} else {
			return p
		}
	case Today:
		return Period{kind: DayBack, offset: n, unit: 'y'}
	}
	return p
}

// Reaches is a day before the begin of a fiscal period that is counted back from the
// newest, whenever the fiscal year of its issuer ends.
func (p Period) Reaches(today Date) Date {
	years := 2 // the newest may have ended a year ago, and it lasts one
	switch p.kind {
	case Year, Trailing:
		years -= int(p.offset)
	case Quarter:
		years -= int(p.offset) / 4
	case Half:
		years -= int(p.offset) / 2
	case YearNamed, QuarterNamed:
		return MakeDate(int(p.year)-1, 1, 1)
	case Day, DayBack, Today:
		return p.Date(today).AddYears(-2)
	}
	return today.AddYears(-years)
}

// String writes the period as [Parse] reads it.
func (p Period) String() string {
	switch p.kind {
	case Year:
		return "FY" + signed(p.offset)
	case YearNamed:
		return fmt.Sprintf("FY%04d", p.year)
	case Quarter:
		return "Q" + signed(p.offset)
	case QuarterNamed:
		return fmt.Sprintf("%04d-Q%d", p.year, p.offset)
	case Half:
		return "H" + signed(p.offset)
	case Trailing:
		return "TTM" + signed(p.offset)
	case Next:
		return "NTM"
	case Calendar:
		return fmt.Sprintf("%04d", p.year)
	case Day:
		return p.day.String()
	case DayBack:
		return fmt.Sprintf("-%d%c", p.offset, p.unit)
	case Today:
		return "today"
	}
	return ""
}

func signed(n int16) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%+d", n)
}

// A SyntaxError says which text could not be read as a period.
type SyntaxError struct{ Text string }

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%q is not a period: write FY, FY-1, FY2024, Q, Q-4, 2024-Q3, H, TTM, NTM, 2024, 2024-06-30, -30d, -4w, -6m, -1y or today", e.Text)
}

// Parse reads a period. The error is a *[SyntaxError].
func Parse(text string) (Period, error) {
	bad := &SyntaxError{text}
	switch {
	case text == "":
		return Period{}, bad
	case text == "today":
		return Period{kind: Today}, nil
	case text == "NTM":
		return Period{kind: Next}, nil
	case len(text) == 7 && text[4:6] == "-Q":
		year, ok := digits(text[:4], 9999)
		if q := text[6] - '0'; ok && q >= 1 && q <= 4 {
			return Period{kind: QuarterNamed, year: year, offset: int16(q)}, nil
		}
		return Period{}, bad
	case text[0] == '-':
		unit := text[len(text)-1]
		n, ok := digits(text[1:max(1, len(text)-1)], 9999)
		if ok && strings.IndexByte("dwmy", unit) >= 0 {
			return Period{kind: DayBack, offset: n, unit: unit}, nil
		}
		return Period{}, bad
	case len(text) == 4 && text[0] >= '0' && text[0] <= '9':
		if year, ok := digits(text, 9999); ok && year > 0 {
			return Period{kind: Calendar, year: year}, nil
		}
		return Period{}, bad
	case text[0] >= '0' && text[0] <= '9':
		day, err := ParseDate(text)
		if err != nil || day == 0 {
			return Period{}, bad
		}
		return OnDay(day), nil
	}
	for _, form := range []struct {
		prefix string
		kind   Kind
	}{{"FY", Year}, {"TTM", Trailing}, {"Q", Quarter}, {"H", Half}} {
		rest, found := strings.CutPrefix(text, form.prefix)
		if !found {
			continue
		}
		if form.kind == Year && len(rest) == 4 && rest[0] != '-' && rest[0] != '+' {
			if year, ok := digits(rest, 9999); ok {
				return Period{kind: YearNamed, year: year}, nil
			}
			return Period{}, bad
		}
		offset, ok := offsetOf(rest)
		if !ok || offset > 0 && form.kind == Trailing {
			return Period{}, bad
		}
		return Period{kind: form.kind, offset: offset}, nil
	}
	return Period{}, bad
}

// offsetOf reads "", "-4" or "+1". A sign before zero, or a zero before a digit, is not canonical.
func offsetOf(text string) (int16, bool) {
	if text == "" {
		return 0, true
	}
	n, ok := digits(text[1:], 999)
	if !ok || n == 0 || text[1] == '0' {
		return 0, false
	}
	switch text[0] {
	case '-':
		return -n, true
	case '+':
		return n, true
	}
	return 0, false
}

func digits(text string, most int) (int16, bool) {
	if text == "" || strings.Trim(text, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.Atoi(text)
	return int16(n), err == nil && n <= most
}

// Range is a stretch between two periods, both included: FY-9..FY or -1y..today.
type Range struct{ From, To Period }

// ParseRange reads two periods joined by "..", or a single one that is both ends.
func ParseRange(text string) (Range, error) {
	from, to, found := strings.Cut(text, "..")
	if !found {
		to = from
	}
	first, err := Parse(from)
	if err != nil {
		return Range{}, err
	}
	last, err := Parse(to)
	if err != nil {
		return Range{}, err
	}
	if first.IsDate() != last.IsDate() {
		return Range{}, fmt.Errorf("%q joins a date with a fiscal period: use two dates or two fiscal periods", text)
	}
	if first.kind == last.kind && (first.kind == Day && first.day > last.day || !first.IsDate() && (first.year > last.year || first.year == last.year && first.offset > last.offset)) {
		return Range{}, fmt.Errorf("%q runs backwards: write the earlier period first", text)
	}
	return Range{first, last}, nil
}

// longestRange is how many periods a range may list.
const longestRange = 40

// Periods lists the periods of a range, the earliest first: years, quarters and the like,
// which can be counted; dates cannot.
func (r Range) Periods() (all []Period, err error) {
	first, last := r.From.count(), r.To.count()
	if r.From.IsDate() || r.From.kind != r.To.kind || r.From.kind == Next || r.From.kind == Latest {
		return nil, fmt.Errorf("%s cannot be listed: write both ends alike, as FY-4..FY, 2024-Q1..2024-Q4 or TTM-3..TTM", r)
	}
	if last-first >= longestRange {
		return nil, fmt.Errorf("%s lists %d periods; at most %d", r, last-first+1, longestRange)
	}
	for n := first; n <= last; n++ {
		p := r.From
		switch p.kind {
		case QuarterNamed:
			p.year, p.offset = int16((n-1)/4), int16((n-1)%4+1)
		case YearNamed, Calendar:
			p.year = int16(n)
		default:
			p.offset = int16(n)
		}
		all = append(all, p)
	}
	return all, nil
}

// count numbers periods of a kind one after the other.
func (p Period) count() int {
	switch p.kind {
	case QuarterNamed:
		return int(p.year)*4 + int(p.offset)
	case YearNamed, Calendar:
		return int(p.year)
	}
	return int(p.offset)
}

// String writes the range as [ParseRange] reads it.
func (r Range) String() string {
	if r.From == r.To {
		return r.From.String()
	}
	return r.From.String() + ".." + r.To.String()
}
