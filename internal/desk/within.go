package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
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
		var p api.Problem
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
