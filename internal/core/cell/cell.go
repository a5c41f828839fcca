// Package cell holds one value of a table together with its account: its state,
// the reason for it, both clocks and the source. A cell is never silently empty:
// where there is no value there is a reason.
package cell

import (
	"strings"
	"time"
)

// State says how far a cell can be trusted. States are ordered from best to
// worst; a derived cell takes the worst state of its inputs.
type State uint8

// The four states.
const (
	Fresh   State = iota // as new as its kind of data can be
	Stale                // there, but something newer should exist
	Pending              // no value yet, and a running refresh will bring it
	Missing              // no value, for a stated reason
)

var stateNames = [...]string{"fresh", "stale", "pending", "missing"}

func (s State) String() string { return stateNames[s] }

// MarshalText implements [encoding.TextMarshaler].
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Reason says why a cell is stale or missing.
type Reason uint8

// Reasons. Those up to Ended explain a missing value, those from Age on a stale
// one; Ended explains both.
const (
	NoReason Reason = iota
	NeverFetched
	NotCovered
	NotReported
	NotApplicable
	ShortHistory
	InputMissing
	FetchFailed
	NotPermitted
	AllowanceSpent
	Rejected
	Ended
	Age
	SessionPassed
	ReportDue
	SourceDown
)

var reasons = [...]struct{ name, meaning, advice string }{
	NoReason:       {},
	NeverFetched:   {"never_fetched", "this has not been asked for yet", "Refresh the watchlist."},
	NotCovered:     {"not_covered", "no source knows this listing for this kind of data", "Connect a source that covers it, or enter the value by hand."},
	NotReported:    {"not_reported", "the source was asked and has no value", "Nothing to do unless another source has it."},
	NotApplicable:  {"not_applicable", "the quantity does not exist for this listing", "Nothing is wrong; no value can exist."},
	ShortHistory:   {"short_history", "the history does not reach back far enough", "Refresh with the column shown: it asks for as much as it reads. Where the source has no more, wait or pick a shorter span."},
	InputMissing:   {"input_missing", "a value that the formula needs is missing", "Explain the named input to see why it is missing."},
	FetchFailed:    {"fetch_failed", "the request failed", "Refresh again; if it fails again, see the fault and the source's state."},
	NotPermitted:   {"not_permitted", "the key's plan does not include this", "Ask the vendor for a plan with this data, or use another source."},
	AllowanceSpent: {"allowance_spent", "the day's allowance is used up", "Refresh again after the allowance resets."},
	Rejected:       {"rejected", "what came failed validation", "Look at the text that came; correct it by hand if you know the value."},
	Ended:          {"ended", "the listing was delisted or has matured", "Remove the row when you no longer need its last values."},
	Age:            {"age", "older than this kind of data may be", "Refresh the watchlist."},
	SessionPassed:  {"session_passed", "a trading session has closed since", "Refresh; if it stays, trading may be suspended or the source has stopped."},
	ReportDue:      {"report_due", "a newer report should have been published", "Refresh, or look at the issuer's announcements."},
	SourceDown:     {"source_down", "the source did not answer; this is the last value it gave", "Refresh again later; the value shown is the latest that came."},
}

func (r Reason) String() string { return reasons[r].name }

// Meaning is the reason as half a sentence.
func (r Reason) Meaning() string { return reasons[r].meaning }

// Advice tells what the reader can do about it.
func (r Reason) Advice() string { return reasons[r].advice }

// MarshalText implements [encoding.TextMarshaler].
func (r Reason) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// ParseReason finds a reason by its name; an unknown name gives NoReason and false.
func ParseReason(name string) (Reason, bool) {
	for r := range reasons {
		if reasons[r].name == name {
			return Reason(r), true
		}
	}
	return NoReason, false
}

// Flags are remarks on a value that do not change its state.
type Flags uint16

// The flags.
const (
	Refreshing Flags = 1 << iota
	Delayed
	Corrected
	Conflict
	Converted
	MinorUnit
	Estimate
	Restated
	Carried
	Standalone
	Special
	MixedAge
	Suspect
)

var flagNames = [...]string{
	"refreshing", "delayed", "corrected", "conflict", "converted", "minor_unit", "estimate",
	"restated", "carried", "standalone", "special", "mixed_age", "suspect",
}

// Names lists the flags that are set.
func (f Flags) Names() []string {
	names := []string{}
	for i, name := range flagNames {
		if f&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	return names
}

func (f Flags) String() string { return strings.Join(f.Names(), ",") }

// Kind is the kind of a Value.
type Kind uint8

// The kinds of value. None, the zero, is the absence of one.
const (
	None Kind = iota
	Number
	Text
	Moment // an instant, as seconds since 1970 in Num
	Truth  // 1 or 0 in Num
)

// Value is a number, a text, an instant, a truth value, or nothing. It is comparable.
type Value struct {
	Kind Kind
	Num  float64
	Text string
}

// Of returns a number as a value.
func Of(x float64) Value { return Value{Kind: Number, Num: x} }

// OfText returns a text as a value.
func OfText(s string) Value { return Value{Kind: Text, Text: s} }

// OfTime returns an instant as a value, to the second.
func OfTime(t time.Time) Value { return Value{Kind: Moment, Num: float64(t.Unix())} }

// OfTruth returns a truth value.
func OfTruth(b bool) Value {
	if b {
		return Value{Kind: Truth, Num: 1}
	}
	return Value{Kind: Truth}
}

// Time returns the instant of a Moment.
func (v Value) Time() time.Time { return time.Unix(int64(v.Num), 0).UTC() }

// IsTrue tells whether the value is the truth value true.
func (v Value) IsTrue() bool { return v.Kind == Truth && v.Num == 1 }

// Cell is one value and its account.
type Cell struct {
	Value    Value
	Unit     string // ISO 4217 code, or ratio, percent (as a fraction), count, shares, days, date, time, text
	State    State
	Reason   Reason
	Flags    Flags
	Observed time.Time // the time the value describes
	Fetched  time.Time // when Soba learned it
	Period   string    // what stretch it describes, where that is not the instant
	Source   string
	Detail   string // the missing inputs, the fault, or the text that was rejected
}

// Gap returns a cell without a value, for a reason.
func Gap(reason Reason, detail string) Cell {
	return Cell{State: Missing, Reason: reason, Detail: detail}
}

// Absent tells whether the cell has no value.
func (c *Cell) Absent() bool { return c.Value.Kind == None }

// Absorb adds the account of an input to that of a derived cell: the worst
// state with its reason, the oldest clocks, and the union of the flags.
func (c *Cell) Absorb(input *Cell) {
	if input.State > c.State {
		c.State, c.Reason, c.Detail = input.State, input.Reason, input.Detail
	}
	c.Flags |= input.Flags
	if !input.Observed.IsZero() && (c.Observed.IsZero() || input.Observed.Before(c.Observed)) {
		c.Observed = input.Observed
	}
	if !input.Fetched.IsZero() && (c.Fetched.IsZero() || input.Fetched.Before(c.Fetched)) {
		c.Fetched = input.Fetched
	}
	switch {
	case c.Source == "":
		c.Source = input.Source
	case input.Source != "" && input.Source != c.Source:
		c.Source = SeveralSources
	}
}

// SeveralSources stands as the source of a value derived from more than one.
const SeveralSources = "several"
