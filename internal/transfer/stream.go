package transfer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

// PutStream puts what a reader gives, of a length nobody knows: at once when it is
// short, otherwise in parts with a bounded number of them in memory. Stopped, it cannot
// go on: what was read cannot be read again.
func (e *Engine) PutStream(ctx context.Context, in io.Reader, bucket, key string, opt client.Put) (client.Info, error) {
	first := make([]byte, max(e.Cut.PartSize, object.MinPart))
	n, err := io.ReadFull(in, first)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return e.Client.Put(ctx, bucket, key, bytes.NewReader(first[:n]), int64(n), opt)
	}
	if err != nil {
		return client.Info{}, err
	}
	id, err := e.Client.StartUpload(ctx, bucket, key, opt)
	if err != nil {
		return client.Info{}, err
	}
	s := &stream{e: e, in: in, bucket: bucket, key: key, id: id, spare: make(chan []byte, e.Cut.Parallel()+1)}
	info, err := s.put(ctx, first, opt)
	if err != nil {
		quick, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if aerr := e.Client.AbandonUpload(quick, bucket, key, id); aerr != nil && !fault.HasCode(aerr, "upload-missing") {
			e.tell("The upload %s is left unfinished; abandon it with spindle upload abandon.", id)
		}
	}
	return info, err
}

// stream is an upload of what is read once.
type stream struct {
	e               *Engine
	in              io.Reader
	bucket, key, id string
	spare           chan []byte // buffers that are free; nil for one that is made when it is needed

	mu    sync.Mutex
	done  []client.Part
	total int64
}

// put sends the first part, which is full, and what follows.
func (s *stream) put(ctx context.Context, first []byte, opt client.Put) (client.Info, error) {
	for range s.e.Cut.Parallel() {
		s.spare <- nil
	}
	g, gctx := errgroup.WithContext(ctx)
	rerr := s.read(gctx, first, func(number int, buf []byte, n int) {
		g.Go(func() error { return s.send(gctx, number, buf, n) })
	})
	if err := errors.Join(g.Wait(), rerr); err != nil {
		return client.Info{}, err
	}
	slices.SortFunc(s.done, func(x, y client.Part) int { return x.Number - y.Number })
	return s.e.complete(ctx, s.bucket, s.key, s.id, s.done, s.total, opt)
}

// read cuts the input into parts and hands each on.
func (s *stream) read(ctx context.Context, first []byte, part func(number int, buf []byte, n int)) error {
	buf, n := first, len(first)
	for number := 1; n > 0 && ctx.Err() == nil; number++ {
		if number > object.MaxParts {
			return fault.New(fault.TooLarge, "too-many-parts", "the input has more than %d parts of %d MiB", object.MaxParts,
				len(first)>>20).
				In("part-size").Do("say a greater --part-size")
		}
		s.total += int64(n)
		part(number, buf, n)
		if n < len(first) {
			return nil
		}
		select {
		case buf = <-s.spare:
		case <-ctx.Done():
			return nil // whatever ended it says why
		}
		if buf == nil {
			buf = make([]byte, len(first))
		}
		var err error
		if n, err = io.ReadFull(s.in, buf); err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return err
		}
	}
	return nil
}

func (s *stream) send(ctx context.Context, number int, buf []byte, n int) error {
	p, err := persist(ctx, func() (client.Part, error) {
		return s.e.Client.PutPart(ctx, s.bucket, s.key, s.id, number, bytes.NewReader(buf[:n]), int64(n))
	})
	s.mu.Lock()
	s.done = append(s.done, p)
	s.mu.Unlock()
	s.spare <- buf
	return err
}
