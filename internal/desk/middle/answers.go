package middle

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Account gives an account as whoever asks may see it.
func (d *Middle) Account(ctx context.Context, name string) (*AccountOut, error) {
	if !d.Knows(ctx, name) {
		return nil, NotYours(ctx, name)
	}
	a, err := d.Store.Catalog.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	return &AccountOut{api.AccountInfo(*a)}, nil
}

// Of gives a pointer to a value.
func Of[T any](v T) *T { return &v }

// Limited cuts a text that is told to somebody to 200 bytes.
func Limited(s string) string { return s[:min(len(s), 200)] }

// Raw makes a handler of a call whose body is bytes; its error is answered as a problem.
func (d *Middle) Raw(call func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := call(w, r); err != nil {
			WriteProblem(w, d.Problem(r.Context(), err))
		}
	}
}

// ReadDocument reads the JSON document of a call that answers by itself.
func ReadDocument(w http.ResponseWriter, r *http.Request, into any) error {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fault.New(fault.Invalid, "body", "the body cannot be read: %s", err).In("body").
			Do("send a document of this call")
	}
	return nil
}

// Lines begins an answer of JSON lines, each of which is sent at once.
func Lines[T any](w http.ResponseWriter) func(T) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	return func(line T) {
		if json.NewEncoder(w).Encode(line) == nil { // who went away hears nothing
			_ = flush.Flush()
		}
	}
}

// heldByEach is what the calls of one asker may hold in memory together.
const heldByEach = 96 << 20

// heldByAll is what all calls may hold in memory together.
const heldByAll = 512 << 20

// keyNamed splits how a key is named into the account and its name.
func keyNamed(ctx context.Context, named string) (account, name string) {
	if account, name, ok := strings.Cut(named, "/"); ok {
		return account, name
	}
	return Who(ctx).Subject.Account, named
}

// AnyKeyID does what keyID does, for a key of any account. Whoever offers it counts misses.
func (d *Middle) AnyKeyID(ctx context.Context, named string) (string, error) {
	if k, err := d.Gate.Keys.Find(ctx, named); named == "" || err != nil || k != nil {
		return named, err
	}
	account, name := keyNamed(ctx, named)
	ids, err := d.Store.Catalog.KeysNamed(ctx, account, name)
	several := len(ids) > 1
	switch {
	case err != nil || len(ids) == 0 || several && !Who(ctx).Subject.Administers(account):
		return named, err
	case several:
		return "", fault.New(fault.Conflict, "key-ambiguous", "several keys of the account %s are named %q", account, name).
			In("key").Do("give its id")
	}
	return ids[0], nil
}

// WriteJSON writes an answer in JSON.
func WriteJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the client may be gone
}

// Address reads the address of an object. The errors have the codes of names and keys.
func Address(bucket, key string) (a catalog.Address, err error) {
	if a.Bucket, err = object.ParseBucketName(bucket); err != nil {
		return a, err
	}
	a.Key, err = object.ParseKey(key)
	return a, err
}

// Moment reads a moment as programs write it.
func Moment(s string) (time.Time, error) { return object.ParseMoment(s, time.Now().UTC()) }

// WireInfo says where the wire is for a client that reached the desk as host.
func (d *Middle) WireInfo(host string) api.WireInfo {
	port := d.Settings.WireAddress().(*net.TCPAddr).Port
	scheme := "http"
	if d.Settings.WireTLS {
		scheme = "https"
	}
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	u := d.Settings.WireURL
	if u == "" {
		u = fmt.Sprintf("%s://%s", scheme, net.JoinHostPort(name, fmt.Sprint(port)))
	}
	return api.WireInfo{URL: u, Port: port, Scheme: scheme, Domains: d.Settings.Domains}
}

// LimitSchema describes a limit to the OpenAPI document.
type LimitSchema struct{}

// Set sets what a change says, and leaves what it does not.
func Set[T any](into *T, v *T) {
	if v != nil {
		*into = *v
	}
}

// Schema gives the description.
func (LimitSchema) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true,
		Description: "Bytes; null removes the quota"}
}
