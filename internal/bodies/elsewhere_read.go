package bodies

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"sync"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

// How a body is read from a place.
const (
	headSize   = frameSize + 2*seal.ChunkSize // read on opening: all of a small body
	windowSize = 2 * frameSize                // kept of what was read last
	keptBehind = 2 * seal.ChunkSize           // of it stays when more is read
	readTries  = 4                            // in a row without a byte
)

// distant is an open body at a place: its beginning, and a window that moves along a
// stream, which is opened anew where it breaks.
type distant struct {
	e      *Elsewhere
	name   string
	size   int64 // stored bytes
	head   []byte
	ctx    context.Context
	cancel context.CancelFunc

	mu     sync.Mutex
	to     int64 // the end of what is expected to be read
	window []byte
	at     int64 // of the window
	r      io.ReadCloser
	end    int64 // of the stream
}

// Open opens a body, with one question for a small one. What comes damaged is asked for
// once more: it may have been the line.
func (e *Elsewhere) Open(ctx context.Context, ref object.BodyRef, size int64) (*Whole, error) {
	if ref.Offset != object.Framed {
		return nil, e.shares(ref)
	}
	w, err := e.openOnce(ctx, ref, size)
	if fault.KindOf(err) == fault.Damaged && !errors.Is(err, fs.ErrNotExist) {
		return e.openOnce(ctx, ref, size)
	}
	if err == nil {
		w.next = func() (*Whole, error) { return e.openOnce(ctx, ref, size) }
	}
	return w, err
}

func (e *Elsewhere) openOnce(ctx context.Context, ref object.BodyRef, size int64) (*Whole, error) {
	d, err := e.open(ctx, bodyName(ref.File))
	if err != nil {
		return nil, err
	}
	w, err := e.local.read(d, d.size, ref, size)
	if err != nil {
		d.Close()
		return nil, err
	}
	return w, nil
}

func (e *Elsewhere) open(ctx context.Context, name string) (*distant, error) {
	d := &distant{e: e, name: name}
	d.ctx, d.cancel = e.while(ctx)
	err := patiently(d.ctx, func() error {
		r, size, err := e.place.Read(d.ctx, name, 0, headSize)
		if err != nil {
			return err
		}
		defer r.Close()
		d.size, d.head = size, make([]byte, min(size, headSize))
		_, err = io.ReadFull(r, d.head)
		return broke(err)
	})
	if err == nil {
		return d, nil
	}
	d.cancel()
	return nil, e.readError(err)
}

// broke is the error of a stream that ended early.
func broke(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fault.New(fault.Unavailable, "line-broke", "the bytes stopped coming").Because(err)
	}
	return err
}

// readError tells what is wrong with a body from what is wrong with the place.
func (e *Elsewhere) readError(err error) error {
	if fault.KindOf(err) == fault.NotFound {
		return e.gone(err)
	}
	return e.failed(err)
}

// Close ends what is being read.
func (d *distant) Close() error {
	d.cancel()
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.r != nil {
		d.r.Close()
		d.r = nil
	}
	return nil
}

// expect has what is read next come in one stream up to an end.
func (d *distant) expect(to int64) {
	d.mu.Lock()
	d.to = min(to, d.size)
	d.mu.Unlock()
}

// ReadAt reads stored bytes.
func (d *distant) ReadAt(p []byte, off int64) (n int, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for n < len(p) {
		at := off + int64(n)
		switch {
		case at >= d.size:
			return n, io.EOF
		case at < int64(len(d.head)):
			n += copy(p[n:], d.head[at:])
		case at >= d.at && at < d.at+int64(len(d.window)):
			n += copy(p[n:], d.window[at-d.at:])
		default:
			if err := d.more(at, len(p)-n); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// more has the window hold the byte at a place, and some of those after it.
func (d *distant) more(at int64, wanted int) error {
	ends := d.at + int64(len(d.window))
	if at != ends || d.r == nil || at >= d.end {
		d.stop()
		if at != ends {
			d.window, d.at = d.window[:0], at
		}
	}
	if drop := len(d.window) - keptBehind; drop > 0 {
		d.window = append(d.window[:0], d.window[drop:]...)
		d.at += int64(drop)
	}
	if d.window == nil {
		d.window = make([]byte, 0, windowSize)
	}
	var err error
	for range readTries {
		if d.r == nil {
			err = d.begin(at, wanted)
		}
		if err == nil {
			room := d.window[len(d.window):cap(d.window)]
			room = room[:min(int64(len(room)), d.end-at)]
			var n int
			n, err = io.ReadAtLeast(d.r, room, min(len(room), wanted))
			d.window = d.window[:len(d.window)+n]
			if n > 0 {
				return nil // what broke is found by the next
			}
		}
		if err = broke(err); d.ctx.Err() != nil {
			return err
		}
		d.stop()
	}
	return d.e.readError(err)
}

// begin opens a stream at a byte, up to what is expected or as far as is wanted now.
func (d *distant) begin(at int64, wanted int) error {
	d.end = min(d.size, at+int64(wanted))
	if d.to > d.end {
		d.end = d.to
	}
	return patiently(d.ctx, func() error {
		r, size, err := d.e.place.Read(d.ctx, d.name, at, d.end-at)
		if err == nil && size != d.size {
			r.Close()
			return damaged(object.BodyRef{}, "the object elsewhere has %d bytes now, not %d", size, d.size)
		}
		if err == nil {
			d.r = r
		}
		return err
	})
}

func (d *distant) stop() {
	if d.r != nil {
		d.r.Close()
		d.r = nil
	}
}
