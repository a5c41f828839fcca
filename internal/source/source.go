// Package source reads the world: what a source offers, how it is asked, and
// what its answers say, in Soba's own terms.
package source

import (
	"context"
	"fmt"
	"time"

	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

// Source is a place that data comes from.
type Source interface {
	Describe() Description
	// Fetch carries out one planned request. The answer is never nil: after a
	// fault, which is a *[Fault], it still tells of the call that failed.
	Fetch(ctx context.Context, request plan.Request) (*Answer, error)
}

// Description says what a source serves and how it wants to be asked.
type Description struct {
	Name        string
	Title       string
	Licence     string
	Address     string
	Delay       time.Duration // by which its quotes are held back
	Offers      []plan.Offer
	PerSecond   float64 // requests a second
	Concurrent  int     // requests at once
	UnitsPerDay int     // 0: no allowance; the day is UTC's
	KeySetting  string  // the setting that holds the key
	HasKey      bool
}

// Call is one exchange with a source, as it goes into the request log.
type Call struct {
	Address   string // without secrets
	Started   time.Time
	Took      time.Duration
	Status    int
	Units     int
	UnitsLeft int // as the source says; -1 where it does not
}

// Answer is what a source said.
type Answer struct {
	Call        Call
	Body        []byte
	ContentType string
	Listings    []market.Listing
	Points      []Point
	Series      []Series
	Failures    []Failure // symbols that were asked for and did not come, each with the reason
}

// Point is the observation of one listing, but for the source and the time of fetching.
type Point struct {
	Symbol market.Symbol
	table.Observation
}

// Series are the raw bars of one listing in the major unit, as traded.
type Series struct {
	Symbol market.Symbol
	Minor  bool
	Bars   series.Bars
	Splits []series.Split
	Place  string
	Remark string // what was left out, and why
}

// Failure is one symbol of a request for which there is no value.
type Failure struct {
	Symbol market.Symbol
	Reason cell.Reason
	Detail string
}

// FaultKind says what went wrong with a call.
type FaultKind string

// The kinds of fault.
const (
	TimedOut      FaultKind = "timed out"
	Unreachable   FaultKind = "unreachable"
	Throttled     FaultKind = "throttled"
	ServerFailed  FaultKind = "server failed"
	Malformed     FaultKind = "malformed answer"
	Truncated     FaultKind = "broken off"
	TooLarge      FaultKind = "answer too large"
	KeyInvalid    FaultKind = "key refused"
	PlanLacks     FaultKind = "not in the key's plan"
	AllowanceGone FaultKind = "allowance spent"
	UnknownInside FaultKind = "batch refused for a symbol"
	Refused       FaultKind = "request refused"
)

// Fault is a call that brought no data.
type Fault struct {
	Kind       FaultKind
	Status     int
	Detail     string
	RetryAfter time.Duration   // 0: the source did not say
	Culprits   []market.Symbol // of UnknownInside, where the source names them
}

func (f *Fault) Error() string {
	text := string(f.Kind)
	if f.Status != 0 {
		text += fmt.Sprintf(" (%d)", f.Status)
	}
	if f.Detail != "" {
		text += ": " + f.Detail
	}
	return text
}

// Passing tells whether the same request may succeed a moment later.
func (f *Fault) Passing() bool {
	switch f.Kind {
	case TimedOut, Unreachable, Throttled, ServerFailed, Truncated, Malformed:
		return true
	}
	return false
}

// Reason is how a cell explains that this fault left it without a value.
func (f *Fault) Reason() cell.Reason {
	switch f.Kind {
	case PlanLacks:
		return cell.NotPermitted
	case AllowanceGone:
		return cell.AllowanceSpent
	case UnknownInside:
		return cell.NotCovered
	}
	return cell.FetchFailed
}

// Advice says what the user can do about it.
func (f *Fault) Advice() string {
	switch f.Kind {
	case KeyInvalid:
		return "Check the source's key in the settings; the vendor may have replaced it."
	case PlanLacks:
		return "Ask the vendor for a plan that includes this dataset, or use another source."
	case AllowanceGone:
		return "Refresh again after the allowance starts anew."
	case Malformed, TooLarge, Refused:
		return "The source may have changed; look at the stored response."
	}
	return "Refresh again later; what was there stays readable."
}
