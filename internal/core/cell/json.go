package cell

import (
	"encoding/json"
	"math"
	"strconv"
	"time"
)

// AppendJSON appends the cell in its published JSON form. The value is null
// exactly when a reason says why.
func (c *Cell) AppendJSON(b []byte) []byte {
	b = append(b, `{"v":`...)
	b = c.Value.AppendJSON(b)
	b = append(b, `,"unit":"`...)
	b = append(b, c.Unit...)
	b = append(b, `","state":"`...)
	b = append(b, c.State.String()...)
	b = append(b, `","reason":"`...)
	b = append(b, c.Reason.String()...)
	b = append(b, `","flags":[`...)
	for i, first := 0, true; c.Flags>>i != 0; i++ {
		if c.Flags&(1<<i) == 0 {
			continue
		}
		if !first {
			b = append(b, ',')
		}
		first = false
		b = append(b, '"')
		b = append(b, flagNames[i]...)
		b = append(b, '"')
	}
	b = append(b, `],"observed":`...)
	b = appendTime(b, c.Observed)
	b = append(b, `,"fetched":`...)
	b = appendTime(b, c.Fetched)
	b = append(b, `,"period":"`...)
	b = append(b, c.Period...)
	b = append(b, `","source":"`...)
	b = append(b, c.Source...)
	b = append(b, '"')
	if c.Detail != "" {
		b = append(b, `,"detail":`...)
		b = AppendText(b, c.Detail)
	}
	return append(b, '}')
}

// MarshalJSON implements [json.Marshaler].
func (c Cell) MarshalJSON() ([]byte, error) { return c.AppendJSON(nil), nil }

// AppendJSON appends the value: a number, a string, an RFC 3339 time, a truth value or null.
func (v Value) AppendJSON(b []byte) []byte {
	switch v.Kind {
	case Number:
		if math.IsNaN(v.Num) || math.IsInf(v.Num, 0) {
			return append(b, "null"...)
		}
		return strconv.AppendFloat(b, v.Num, 'g', -1, 64)
	case Text:
		return AppendText(b, v.Text)
	case Moment:
		return appendTime(b, v.Time())
	case Truth:
		return strconv.AppendBool(b, v.Num == 1)
	}
	return append(b, "null"...)
}

func appendTime(b []byte, t time.Time) []byte {
	if t.IsZero() {
		return append(b, "null"...)
	}
	b = append(b, '"')
	b = t.UTC().AppendFormat(b, time.RFC3339)
	return append(b, '"')
}

// AppendText appends a JSON string. Plain ASCII, by far the most of it, is copied as it is.
func AppendText(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			quoted, _ := json.Marshal(s) // a string always marshals
			return append(b, quoted...)
		}
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}
