package wire

import "strings"

// Problem is an error as the service sends it (RFC 9457). Type is stable; Hint
// says what to do.
type Problem struct {
	Type       string         `json:"type" doc:"Stable name of the kind of problem" example:"/problems/unknown-symbol"`
	Title      string         `json:"title"`
	Status     int            `json:"status"`
	Detail     string         `json:"detail"`
	Field      string         `json:"field,omitempty" doc:"The offending part of the request"`
	Hint       string         `json:"hint,omitempty" doc:"What to do about it"`
	Candidates []Listing      `json:"candidates,omitempty" doc:"Listings that may be meant"`
	Errors     []ProblemError `json:"errors,omitempty"`
}

// ProblemError is one of several things that are wrong with a request.
type ProblemError struct {
	Message  string `json:"message"`
	Location string `json:"location,omitempty"`
	Value    any    `json:"value,omitempty"`
}

// Error is the problem for a reader: what happened and what to do.
func (p *Problem) Error() string {
	text := p.Detail
	for _, e := range p.Errors {
		text += "\n  " + strings.TrimSpace(e.Location+" "+e.Message)
	}
	if p.Hint != "" {
		text += "\n" + p.Hint
	}
	return text
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }
