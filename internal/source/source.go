// Package source reads the world: it carries out the calls that a description
// describes, over HTTP or from files, and says in Soba's own terms what came.
package source

import (
	"context"
	"fmt"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
)

// Source is a described source, connected with its secrets.
type Source struct {
	*Description
	key string // secret
	now func() time.Time
	via transport
}

// transport brings the documents that a call is answered with.
type transport interface {
	// open asks for one document. The page is never nil: after a fault, which is a
	// *[Fault], it still tells of the exchange that failed.
	open(ctx context.Context, s *Source, c *Call, a ask) (*document, *Page, error)
}

// HasKey tells whether the source has the key that it needs.
func (s *Source) HasKey() bool { return s.Access.Key == nil || s.key != "" || s.Access.Key.Optional }

// Location is where the source is, for people.
func (s *Source) Location() string {
	if s.Access.Folder != "" {
		return s.Access.Folder
	}
	return s.Access.Address
}

// PlannedCalls tells the planner how the source is asked.
func (s *Source) PlannedCalls() []plan.Call {
	var calls []plan.Call
	for _, c := range s.Description.Calls {
		if c.Fallback {
			continue
		}
		pages := 0
		if c.compiled.index != nil {
			pages = 1 + c.compiled.index.most
		}
		calls = append(calls, plan.Call{
			Pages: pages, Name: c.Name, Serves: c.Serves, Kinds: c.Kinds, Takes: c.compiled.takes, Batch: c.Batch.Symbols, Length: c.Batch.Length, Days: c.Days,
			UnitsPerRequest: c.Cost.Request, UnitsPerSymbol: c.Cost.Symbol,
		})
	}
	return calls
}

// Datasets lists what the source serves.
func (d *Description) Datasets() []catalogue.Dataset {
	var out []catalogue.Dataset
	for _, info := range catalogue.Infos {
		if d.Serves(info.Name) {
			out = append(out, info.Name)
		}
	}
	return out
}

// Serves tells whether any call brings a dataset.
func (d *Description) Serves(dataset catalogue.Dataset) bool {
	for _, c := range d.Calls {
		for _, x := range c.Serves {
			if x == dataset {
				return true
			}
		}
	}
	return false
}

// Page is one exchange with a source, as it goes into the request log.
type Page struct {
	Address     string // without secrets
	Started     time.Time
	Took        time.Duration
	Status      int
	Units       int
	UnitsLeft   int // as the source says; -1 where it does not
	ContentType string
	Size        int64  // of the answer, unpacked
	Hash        []byte // SHA-256 of it
	Packed      []byte // the answer, gzip-compressed
	Beginning   string // of it, on one line

	validators validators
}

// Answer is what a source said to one request.
type Answer struct {
	Pages    []Page // at least one
	Listings []market.Listing
	Points   []Point
	Series   []Series
	Entries  []Entries
	Failures []Failure // needs that were asked for and not met, each with the reason
	Remarks  []string  // what in the answer is not as described
	Same     bool      // the source says that nothing has changed since it was last asked

	indexed bool // its first page is an index of the others
}

// Units is what the request cost.
func (a *Answer) Units() (sum int) {
	for i := range a.Pages {
		sum += a.Pages[i].Units
	}
	return sum
}

// Last is the last page.
func (a *Answer) Last() *Page { return &a.Pages[len(a.Pages)-1] }

// drop forgets what was read, of an answer that turned out to be none.
func (a *Answer) drop() {
	a.Listings, a.Points, a.Series, a.Entries, a.Failures = nil, nil, nil, nil, nil
}

// Origin is where something that came stands.
type Origin struct {
	Symbol  market.Symbol
	Dataset catalogue.Dataset
	Page    int    // of the answer
	Place   string // in the page
	Remark  string // what was left out, and why
}

// Raw is a value as the source wrote it.
type Raw struct {
	Name string `json:"name"` // of the place it stood in
	Text string `json:"text"`
}

// Point is the observation of one listing, but for the source and the time of fetching.
type Point struct {
	Origin
	table.Observation
	Raw map[string]Raw // by field
}

// Series are the raw bars of one listing in the major unit, as traded.
type Series struct {
	Origin
	Minor bool
	Bars  series.Bars
	Times []time.Time // of intraday bars, whose days are those of these
}

// Entries are the dated records of one listing.
type Entries struct {
	Origin
	Entries entry.Entries
}

// Failure is one need of a request for which there is no value.
type Failure struct {
	Symbol  market.Symbol
	Dataset catalogue.Dataset
	Reason  cell.Reason
	Detail  string
}

// Covered is the span of days that a request has answered for a listing whose
// last record is of a day: the end of a history that has not come yet is left
// open, so that it is asked for again.
func Covered(from, to, last, today period.Date) period.Span {
	const late = 14
	if to <= today-late {
		return period.Span{From: from, To: to}
	}
	return period.Span{From: from, To: min(to, max(last, today-late))}
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
	Reshaped      FaultKind = "changed shape"
	Truncated     FaultKind = "broken off"
	TooLarge      FaultKind = "answer too large"
	KeyRefused    FaultKind = "key refused"
	PlanLacks     FaultKind = "not in the key's plan"
	AllowanceGone FaultKind = "allowance spent"
	UnknownInside FaultKind = "batch refused for a symbol"
	Moved         FaultKind = "address moved"
	Forbidden     FaultKind = "address not allowed"
	Refused       FaultKind = "request refused"
)

// faultWords are the kinds of fault that a description can name.
var faultWords = map[string]FaultKind{
	"key_refused": KeyRefused, "plan_lacks": PlanLacks, "allowance_spent": AllowanceGone, "unknown_symbol": UnknownInside,
	"throttled": Throttled, "moved": Moved, "server_failed": ServerFailed, "refused": Refused,
}

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

// AdviceFor says what the user can do about a fault that was logged.
func AdviceFor(logged string) string {
	for _, kind := range []FaultKind{KeyRefused, PlanLacks, AllowanceGone, Moved, Reshaped, Forbidden, TooLarge, Malformed, Refused} {
		if strings.HasPrefix(logged, string(kind)) {
			return (&Fault{Kind: kind}).Advice()
		}
	}
	return (&Fault{}).Advice()
}

// KeyVariable is the environment variable that holds a source's key.
func KeyVariable(name string) string {
	return "SOBA_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")) + "_KEY"
}

// Advice says what the user can do about it.
func (f *Fault) Advice() string {
	switch f.Kind {
	case KeyRefused:
		return "Check the source's key; the vendor may have replaced it."
	case PlanLacks:
		return "Ask the vendor for a plan that includes this dataset, or use another source."
	case AllowanceGone:
		return "Refresh again after the allowance starts anew."
	case Moved:
		return "Change the address or the path in the source's description."
	case Reshaped:
		return "The vendor has changed its answers: 'soba source check' shows which mapping finds nothing; change the description."
	case Forbidden:
		return "Addresses in private networks need 'private: true' in the description, and only its own address is allowed."
	case TooLarge:
		return "Ask for less in a request, or raise largest_mib or records in the description if the answer is as it should be."
	case Malformed, Refused:
		return "The source may have changed; look at the stored response."
	}
	return "Refresh again later; what was there stays readable."
}
