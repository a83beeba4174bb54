package api

import (
	"errors"
	"net/http"
	"strconv"
	"time"

	"spindle/internal/core/fault"
)

// Problem is an error as RFC 9457 has it, with our fields.
type Problem struct {
	Title  string `json:"title" doc:"The kind of trouble"`
	Status int    `json:"status" doc:"The HTTP status"`
	Detail string `json:"detail" doc:"What is wrong, in a sentence"`
	Code   string `json:"code" doc:"Stable, for programs"`
	Field  string `json:"field,omitempty" doc:"The field at fault"`
	Remedy string `json:"remedy,omitempty" doc:"What to do next"`
	Switch string `json:"switch,omitempty" doc:"An account of who asks, acting in which the call may be allowed"`

	RetryAfter int `json:"retryAfter,omitempty" doc:"Seconds for which it is of no use to ask again"`

	Position *int `json:"position,omitempty" doc:"Where in the text at fault, in bytes"`

	Request string `json:"request,omitempty" doc:"The id of the request, by which the log names it"`

	Complaints []Complaint `json:"complaints,omitempty" doc:"All that is wrong, when it is more than one thing"`
}

// Complaint is one thing that is wrong with what was sent.
type Complaint struct {
	Field  string `json:"field,omitempty"`
	Code   string `json:"code"`
	Detail string `json:"detail"`
	Remedy string `json:"remedy,omitempty"`
}

func (p *Problem) Error() string { return p.Detail }

// GetStatus gives the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// GetHeaders gives the headers that go with the problem.
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	if p.RetryAfter > 0 {
		h.Set("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	return h
}

// ContentType gives the type of problem documents.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// kinds are the kinds of faults by the status of a problem.
var kinds = map[int]fault.Kind{400: fault.Invalid, 401: fault.Unsigned, 403: fault.Refused, 404: fault.NotFound,
	408: fault.Slow, 409: fault.Conflict, 412: fault.Precondition, 413: fault.TooLarge, 422: fault.Invalid,
	501: fault.Unfinished,
	503: fault.Unavailable, 507: fault.Full}

// Fault gives the fault that a problem tells of.
func (p *Problem) Fault() error {
	kind := kinds[p.Status]
	if len(p.Complaints) > 0 {
		var all []error
		for _, c := range p.Complaints {
			all = append(all, &fault.Error{Kind: kind, Code: c.Code, Field: c.Field, Message: c.Detail, Remedy: c.Remedy})
		}
		return errors.Join(all...)
	}
	return &fault.Error{Kind: kind, Code: p.Code, Field: p.Field, Message: p.Detail, Remedy: p.Remedy,
		After: time.Duration(p.RetryAfter) * time.Second, At: p.Position, Request: p.Request}
}
