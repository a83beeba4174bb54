package middle

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

// Within makes a call of the desk for whoever ctx is of, with the same rights and rules as
// from outside, and reads the answer into out.
func (d *Middle) Within(ctx context.Context, c DeskCall, out any) error {
	body, err := json.Marshal(c.Body)
	if err != nil {
		return err
	}
	u := "/api/v1" + c.Path
	if len(c.Query) > 0 {
		u += "?" + c.Query.Encode()
	}
	// Route and connection are those of the call outside.
	ctx = context.WithValue(door.Apart(ctx), chi.RouteCtxKey, (*chi.Context)(nil))
	r, err := http.NewRequestWithContext(ctx, c.Method, u, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.RemoteAddr = Who(ctx).Source + ":0"
	if r.Header.Set("Content-Type", "application/json"); c.Body == nil {
		r.Body, r.ContentLength = http.NoBody, 0
	}
	w := &kept{header: http.Header{}, status: http.StatusOK}
	d.Whole.ServeHTTP(w, r)
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

// DeskCall is a call of the desk.
type DeskCall struct {
	Method, Path string
	Query        url.Values
	Body         any
}

// kept keeps an answer.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header, WriteHeader and Write are the way to write an answer.
func (k *kept) Header() http.Header { return k.header }

func (k *kept) WriteHeader(status int) { k.status = status }

func (k *kept) Write(b []byte) (int, error) { return k.body.Write(b) }
