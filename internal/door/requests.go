package door

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"sync/atomic"
)

// RequestIDs gives each request of a process an id that no other request has.
type RequestIDs struct {
	process string
	last    atomic.Uint64
}

// NewRequestIDs makes ids for a process.
func NewRequestIDs() *RequestIDs {
	b := make([]byte, 4)
	_, _ = rand.Read(b)
	return &RequestIDs{process: fmt.Sprintf("%X", b)}
}

// Process gives what the ids of a process begin with.
func (r *RequestIDs) Process() string { return r.process }

// Next gives the id of the next request: 20 digits, in hex.
func (r *RequestIDs) Next() string {
	n := r.last.Add(1)
	return r.process + fmt.Sprintf("%X", []byte{byte(n >> 40), byte(n >> 32), byte(n >> 24), byte(n >> 16), byte(n >> 8),
		byte(n)})
}

type requestKey struct{}

// Numbered gives the context of a request with an id.
func Numbered(ctx context.Context, id string) context.Context {
	return context.WithValue(ctx, requestKey{}, id)
}

// RequestID gives the id of the request that a context is of; "" for none.
func RequestID(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}

// Weight gives the level at which the failure of a request is logged: who has left misses nothing.
func Weight(ctx context.Context) slog.Level {
	if ctx.Err() != nil {
		return slog.LevelDebug
	}
	return slog.LevelWarn
}
