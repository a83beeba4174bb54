package middle

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/door"
)

// Complaints gives each of the faults of an error, as problems list them.
func Complaints(err error) (out []api.Complaint) {
	for _, f := range fault.All(err) {
		out = append(out, api.Complaint{Field: f.Field, Code: f.Code, Detail: f.Message, Remedy: f.Remedy})
	}
	return out
}

// retryBusy is after how many seconds to try again what is unavailable, when nothing else is said.
const retryBusy = 2

var statuses = map[fault.Kind]int{
	fault.Internal: 500, fault.Invalid: 400, fault.Unsigned: 401, fault.Refused: 403, fault.NotFound: 404,
	fault.Conflict:     409,
	fault.Precondition: 412, fault.TooLarge: 413, fault.Full: 507, fault.Unavailable: 503, fault.Unfinished: 501,
	fault.Damaged: 500, fault.Slow: 408,
}

// Problem renders a fault of a request.
func (d *Middle) Problem(ctx context.Context, err error) *api.Problem {
	f := fault.From(err)
	status := statuses[f.Kind]
	if f.Code == "quota" {
		status = http.StatusConflict
	}
	if f.Code == "content-type" {
		status = http.StatusUnsupportedMediaType
	}
	if status >= 500 {
		d.Log.Log(ctx, door.Weight(ctx), "a call failed", "code", f.Code, "request", door.RequestID(ctx), "error", err)
	}
	p := &api.Problem{Title: http.StatusText(status), Status: status, Detail: f.Message, Code: f.Code, Field: f.Field,
		Remedy: f.Remedy, RetryAfter: int(math.Ceil(f.After.Seconds())), Position: f.At, Request: door.RequestID(ctx)}
	if f.Kind == fault.Unavailable {
		p.RetryAfter = max(p.RetryAfter, retryBusy)
	}
	if all := Complaints(err); len(all) > 1 {
		p.Complaints = all
	}
	var e *elsewhere
	if errors.As(err, &e) {
		p.Switch = e.account
	}
	return p
}

// The library has one way to make errors, and one default for lists, for all of a program.
func init() {
	huma.NewErrorWithContext = newProblem
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		return newProblem(nil, status, message, errs...)
	}
	huma.DefaultArrayNullable = false
}

// newProblem renders what huma finds wrong with a request before we see it.
func newProblem(ctx huma.Context, status int, message string, errs ...error) huma.StatusError {
	p := &api.Problem{Title: http.StatusText(status), Status: status, Detail: message, Code: "request"}
	if ctx != nil {
		p.Request = door.RequestID(ctx.Context())
	}
	if status == http.StatusUnprocessableEntity {
		p.Code, p.Remedy = "request-invalid", "see /openapi.yaml for what the call takes"
	}
	for _, err := range errs {
		if e, ok := err.(huma.ErrorDetailer); ok {
			d := e.ErrorDetail()
			p.Field = d.Location
			p.Detail = d.Message
			break
		} else if err != nil {
			p.Detail += ": " + err.Error()
		}
	}
	return p
}

// WriteProblem writes a problem (RFC 9457).
func WriteProblem(w http.ResponseWriter, p *api.Problem) {
	p.Request = w.Header().Get(RequestHeader)
	for name, values := range p.GetHeaders() {
		w.Header()[name] = values
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the client may be gone
}
