package sidetest

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
)

// breaking is a body of which some ranges can be read, and then no more.
type breaking struct {
	Bytes
	after int32
	read  atomic.Int32
}

// Range gives a range, or breaks.
func (b *breaking) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	if b.read.Add(1) > b.after {
		return nil, errors.New("the source broke off")
	}
	return b.Bytes.Range(ctx, from, length)
}

// counting counts bytes from several at once.
func counting(n *int64) func(int64) {
	return func(k int64) { atomic.AddInt64(n, k) }
}
