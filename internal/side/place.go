package side

import (
	"context"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/remote"
	"spindle/internal/wire/client"
)

// Place is a bucket at an endpoint, or what is beneath a prefix in it, as a place for the
// bodies of a tier. While the endpoint's circuit is open it is not asked: the errors say
// when it is.
type Place struct {
	Pool     *remote.Pool
	Endpoint int64
	Name     string // the endpoint's
	Bucket   string
	Prefix   string // "" or ending in a slash
}

var _ bodies.Place = (*Place)(nil)

// String names the place as an address.
func (p *Place) String() string { return "@" + p.Name + "/" + p.Bucket + "/" + p.Prefix }

// readStall is for how long bytes may fail to come.
const readStall = 20 * time.Second

// ask has f ask the endpoint, unless its circuit is open.
func (p *Place) ask(ctx context.Context, f func(*There) error) error {
	conn, err := p.Pool.Get(ctx, p.Endpoint)
	if err != nil {
		return err
	}
	if wait := conn.Circuit.Wait(time.Now()); wait > 0 {
		return fault.New(fault.Unavailable, "circuit", "%s", conn.Circuit.Why()).Again(wait)
	}
	err = f(&There{Conn: conn, Bucket: p.Bucket})
	if context.Cause(ctx) == context.Canceled {
		conn.Circuit.Pass() // given up here, which says nothing of the endpoint
	} else {
		conn.Circuit.Note(err, time.Now())
	}
	return placeError(err)
}

// placeError has only what is not there be an error of that kind, and only what may pass
// one of the kind fault.Unavailable: bytes that came or went wrong, too.
func placeError(err error) error {
	if err == nil {
		return nil
	}
	f := *fault.From(err)
	switch {
	case f.Kind == fault.NotFound && f.Code != "key-missing" && f.Code != "upload-missing":
		f.Kind = fault.Conflict
	case f.Kind == fault.Damaged:
		f.Kind = fault.Unavailable
	}
	return &f
}

// Put keeps an object, proved by its digest.
func (p *Place) Put(ctx context.Context, name string, piece bodies.Piece) error {
	crc := piece.CRC64()
	return p.ask(ctx, func(t *There) error {
		_, err := t.Write(ctx, p.Prefix+name, pieceBody{piece}, Write{Facts: Facts{Size: piece.Size(), CRC64: &crc}})
		return err
	})
}

// pieceBody is a piece as a body.
type pieceBody struct{ bodies.Piece }

func (b pieceBody) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(io.NewSectionReader(b.Piece, from, length)), nil
}

// Start begins an upload.
func (p *Place) Start(ctx context.Context, name string) (bodies.Pieces, error) {
	up := &placeUpload{place: p, key: p.Prefix + name}
	return up, p.ask(ctx, func(t *There) (err error) {
		up.id, err = t.Conn.Client.StartUpload(ctx, p.Bucket, up.key, client.Put{})
		return err
	})
}

type placeUpload struct {
	place *Place
	key   string
	id    string
	mu    sync.Mutex
	parts []client.Part
}

// Add sends a part.
func (u *placeUpload) Add(ctx context.Context, number int, piece bodies.Piece) error {
	return u.place.ask(ctx, func(t *There) error {
		part, _, err := t.writePart(ctx, u.key, pieceBody{piece}, Write{Upload: u.id}, number, 0, piece.Size(), client.Part{})
		if err == nil {
			u.mu.Lock()
			u.parts = append(u.parts, part)
			u.mu.Unlock()
		}
		return err
	})
}

// Complete makes the object. One that was made by an earlier try that heard no answer is
// known by its size and digest.
func (u *placeUpload) Complete(ctx context.Context, size int64, crc uint64) error {
	slices.SortFunc(u.parts, func(a, b client.Part) int { return a.Number - b.Number })
	return u.place.ask(ctx, func(t *There) error {
		w := Write{Facts: Facts{Size: size, CRC64: &crc}, Upload: u.id}
		_, err := t.complete(ctx, u.key, u.parts, w)
		if !fault.HasCode(err, "upload-missing") {
			return err
		}
		i, herr := t.Conn.Client.Head(ctx, t.Bucket, u.key)
		if herr != nil || i.Size != size {
			return err
		}
		_, err = t.proved(ctx, u.key, i, w, "")
		return err
	})
}

// Abandon gives the upload up.
func (u *placeUpload) Abandon(ctx context.Context) error {
	return u.place.ask(ctx, func(t *There) error { return t.Conn.Client.AbandonUpload(ctx, t.Bucket, u.key, u.id) })
}

// Read reads a range. A stream that stalls is cut off.
func (p *Place) Read(ctx context.Context, name string, from, length int64) (r io.ReadCloser, size int64, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	stalled := fault.New(fault.Unavailable, "stalled", "the endpoint %s sends nothing", p.Name)
	watch := time.AfterFunc(readStall, func() { cancel(stalled) })
	err = p.ask(ctx, func(t *There) error {
		r, size, err = t.Conn.Client.GetPiece(ctx, p.Bucket, p.Prefix+name, "", from, length, "")
		if cause := context.Cause(ctx); err != nil && cause == stalled {
			return stalled
		}
		return err
	})
	if err != nil {
		watch.Stop()
		cancel(nil)
		return nil, 0, err
	}
	return &watched{ReadCloser: r, ctx: ctx, watch: watch, cancel: cancel}, size, nil
}

// watched is a stream whose context ends when nothing comes.
type watched struct {
	io.ReadCloser
	ctx    context.Context
	watch  *time.Timer
	cancel context.CancelCauseFunc
}

func (w *watched) Read(b []byte) (int, error) {
	w.watch.Reset(readStall)
	n, err := w.ReadCloser.Read(b)
	w.watch.Stop() // who reads may take its time
	if err != nil && err != io.EOF {
		if cause := context.Cause(w.ctx); cause != nil {
			err = cause
		}
		err = placeError(client.Unreachable(err))
	}
	return n, err
}

func (w *watched) Close() error {
	w.watch.Stop()
	w.cancel(nil)
	return w.ReadCloser.Close()
}

// Size asks for an object's size.
func (p *Place) Size(ctx context.Context, name string) (size int64, err error) {
	return size, p.ask(ctx, func(t *There) error {
		i, err := t.Conn.Client.Head(ctx, p.Bucket, p.Prefix+name)
		size = i.Size
		return err
	})
}

// Remove removes an object.
func (p *Place) Remove(ctx context.Context, name string) error {
	err := p.ask(ctx, func(t *There) error { return t.Remove(ctx, p.Prefix+name) })
	if fault.HasCode(err, "key-missing") {
		return nil
	}
	return err
}

// Walk lists the objects beneath a prefix.
func (p *Place) Walk(ctx context.Context, prefix string, f func(name string, size int64) error) error {
	for after := ""; ; {
		var list []Facts
		if err := p.ask(ctx, func(t *There) (err error) {
			list, err = t.List(ctx, p.Prefix+prefix, after, 1000)
			return err
		}); err != nil || len(list) == 0 {
			return err
		}
		for _, o := range list {
			if err := f(strings.TrimPrefix(o.Key, p.Prefix), o.Size); err != nil {
				return err
			}
		}
		after = list[len(list)-1].Key
	}
}

// Unfinished lists the uploads that nobody completed.
func (p *Place) Unfinished(ctx context.Context, prefix string, f func(name, upload string) error) error {
	return p.ask(ctx, func(t *There) error {
		return t.Conn.Client.Uploads(ctx, p.Bucket, p.Prefix+prefix, func(b client.Begun) error {
			return f(strings.TrimPrefix(b.Key, p.Prefix), b.ID)
		})
	})
}

// Abandon gives an upload up.
func (p *Place) Abandon(ctx context.Context, name, upload string) error {
	return p.ask(ctx, func(t *There) error {
		return t.Conn.Client.AbandonUpload(ctx, p.Bucket, p.Prefix+name, upload)
	})
}

// Fit refuses a bucket that bodies should not be kept in: what is removed would stay
// there as previous versions. The error has the code volume-keeps.
func (p *Place) Fit(ctx context.Context) error {
	var l Look
	err := p.ask(ctx, func(t *There) (err error) {
		l, err = LookAt(ctx, t.Conn, p.Bucket)
		return err
	})
	if err == nil && l.Keeps && l.Versioning == object.On {
		err = fault.New(fault.Invalid, "volume-keeps", "the bucket %s keeps versions: what is removed would stay there",
			p.Bucket).In("volumes").
			Do("switch that off (spindle bucket change @%s/%s --versioning paused), or give another bucket", p.Name, p.Bucket)
	}
	return err
}
