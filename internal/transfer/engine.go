package transfer

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"spindle/internal/core/backoff"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

// Engine moves content to and from one endpoint. Its methods may be called side by
// side.
type Engine struct {
	Client   *client.Client
	Cut      *Cutting
	Progress Progress
	// States gives the folder in which the state of uploads is kept, so that the same
	// file goes on after a stop.
	States func() (string, error)
	// Tell gets what somebody should know who looks on; nil: nobody does.
	Tell func(format string, args ...any)
}

// Progress learns how far transfers are. Its methods may be called side by side.
type Progress interface {
	// Begin is told of a piece that begins to move, and gives a reader to read it by;
	// done is called once when it ends.
	Begin(name string, size int64, r io.Reader) (read io.Reader, done func())
	// Skip is told of bytes that need not be moved.
	Skip(bytes int64)
}

// Cutting says how large files are sent in parts, and large objects got in ranges.
type Cutting struct {
	Above    int64 // files larger than this are cut
	PartSize int64 // bytes of a part, more when there would be too many
	slots    chan struct{}
}

// NewCutting makes a cutting of which parallel parts, 1 or more, are on the way at a
// time, over all files.
func NewCutting(above, partSize int64, parallel int) *Cutting {
	return &Cutting{Above: above, PartSize: partSize, slots: make(chan struct{}, parallel)}
}

// Parallel is how many parts are on the way at a time.
func (c *Cutting) Parallel() int { return cap(c.slots) }

// take waits for a slot.
func (c *Cutting) take(ctx context.Context) (free func(), err error) {
	select {
	case c.slots <- struct{}{}:
		return func() { <-c.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// partSize gives the size of a file's parts: the wished one, or what 10,000 parts
// need, in whole MiB.
func (c *Cutting) partSize(n int64) int64 {
	least := (n + object.MaxParts - 1) / object.MaxParts
	if least <= c.PartSize {
		return c.PartSize
	}
	return (least + 1<<20 - 1) >> 20 << 20
}

func (e *Engine) begin(name string, size int64, r io.Reader) (io.Reader, func()) {
	if e.Progress == nil {
		return r, func() {}
	}
	return e.Progress.Begin(name, size, r)
}

func (e *Engine) skip(n int64) {
	if e.Progress != nil {
		e.Progress.Skip(n)
	}
}

func (e *Engine) tell(format string, args ...any) {
	if e.Tell != nil {
		e.Tell(format, args...)
	}
}

// linePauses are those between tries; some two minutes in all.
var linePauses = backoff.Growing{First: 200 * time.Millisecond, Most: 20 * time.Second}

// persist tries again, with growing pauses, what failed because the service or the
// line was away; about two minutes in all.
func persist[T any](ctx context.Context, f func() (T, error)) (T, error) {
	for try := 0; ; try++ {
		v, err := f()
		kind := fault.KindOf(err)
		if err == nil || try == 9 || ctx.Err() != nil || kind != fault.Unavailable && kind != fault.Slow {
			return v, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(20*time.Second, max(fault.From(err).After, linePauses.After(try)))):
		}
	}
}

// LocalError is the error for what is wrong with a file here.
func LocalError(name string, err error) error {
	cause := err.Error()
	var pe *fs.PathError
	if errors.As(err, &pe) {
		cause = pe.Err.Error()
	}
	f := fault.New(fault.Invalid, "local-file", "%s: %s", name, cause).In("file").Because(err)
	if errors.Is(err, fs.ErrNotExist) {
		f.Kind = fault.NotFound
		f.Message = name + " does not exist"
	}
	return f
}

// writeAside writes a document so that it is there whole or not at all. What a kill leaves half
// written is written over by the next, and removed by removeAside.
func writeAside(path string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	tmp, err := os.OpenFile(path+asideSuffix, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = tmp.Write(b)
	if err := errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

const asideSuffix = ".new"

// removeAside removes a document that writeAside wrote.
func removeAside(path string) error {
	if err := os.Remove(path + asideSuffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Remove(path)
}
