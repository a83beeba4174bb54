package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"time"

	"github.com/go-chi/chi/v5"

	"spindle/internal/core/fault"
	"spindle/internal/door"
)

// within makes a call of the desk for whoever ctx is of, with the same rights and rules as
// from outside, and reads the answer into out.
func (d *Desk) within(ctx context.Context, c deskCall, out any) error {
	body, err := json.Marshal(c.body)
	if err != nil {
		return err
	}
	u := "/api/v1" + c.path
	if len(c.query) > 0 {
		u += "?" + c.query.Encode()
	}
	// Route and connection are those of the call outside.
	ctx = context.WithValue(door.Apart(ctx), chi.RouteCtxKey, (*chi.Context)(nil))
	r, err := http.NewRequestWithContext(ctx, c.method, u, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.RemoteAddr = who(ctx).source + ":0"
	if r.Header.Set("Content-Type", "application/json"); c.body == nil {
		r.Body, r.ContentLength = http.NoBody, 0
	}
	w := &kept{header: http.Header{}, status: http.StatusOK}
	d.whole.ServeHTTP(w, r)
	if w.status >= 300 {
		var p Problem
		if err := json.Unmarshal(w.body.Bytes(), &p); err != nil {
			return err
		}
		return p.Fault()
	}
	if out == nil || w.body.Len() == 0 {
		return nil
	}
	return json.Unmarshal(w.body.Bytes(), out)
}

// deskCall is a call of the desk.
type deskCall struct {
	method, path string
	query        url.Values
	body         any
}

// kept keeps an answer.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header, WriteHeader and Write are the way to write an answer.
func (k *kept) Header() http.Header         { return k.header }
func (k *kept) WriteHeader(status int)      { k.status = status }
func (k *kept) Write(b []byte) (int, error) { return k.body.Write(b) }

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
