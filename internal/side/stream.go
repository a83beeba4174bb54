package side

import (
	"context"
	"io"
	"iter"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/syncing"
)

// listedAtOnce is how many objects of a bucket here make a page of a stream.
const listedAtOnce = 500

// streamer is a side that lists all it holds better than by pages.
type streamer interface {
	All(ctx context.Context, prefix string) iter.Seq2[Facts, error]
}

// All gives all objects beneath a prefix in the order of keys. The next page is asked for
// while the last one is looked at.
func All(ctx context.Context, of Side, prefix string) iter.Seq2[Facts, error] {
	if s, ok := of.(streamer); ok {
		return s.All(ctx, prefix)
	}
	return pages(ctx, func(after string) ([]Facts, error) { return of.List(ctx, prefix, after, 1000) })
}

// All gives what a comparison needs of all objects: headers, metadata and tags are not in
// it.
func (h *Here) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	return pages(ctx, func(after string) ([]Facts, error) {
		out := make([]Facts, 0, listedAtOnce)
		err := h.Store.Sketches(ctx, h.Bucket, prefix, after, listedAtOnce, func(s catalog.Sketch) {
			out = append(out, Facts{Key: s.Key, Size: s.Size, ETag: s.ETag.String(), Modified: s.Created, CRC64: new(s.CRC64)})
		})
		return out, err
	})
}

// Patiently has f done, and again some times when what fails may pass in a moment.
func Patiently(ctx context.Context, f func() error) (err error) {
	for wait := 200 * time.Millisecond; ; wait *= 3 {
		err = f()
		if k := fault.KindOf(err); err == nil || k != fault.Unavailable && k != fault.Slow || wait > 6*time.Second {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// pages gives the entries of pages one by one, a page ahead.
func pages(ctx context.Context, page func(after string) ([]Facts, error)) iter.Seq2[Facts, error] {
	type read struct {
		list []Facts
		err  error
	}
	return func(yield func(Facts, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		ahead := make(chan read, 1)
		go func() {
			defer close(ahead)
			for after := ""; ; {
				var list []Facts
				err := Patiently(ctx, func() (err error) {
					list, err = page(after)
					return err
				})
				select {
				case ahead <- read{list, err}:
				case <-ctx.Done():
					return
				}
				if err != nil || len(list) == 0 {
					return
				}
				after = list[len(list)-1].Key
			}
		}()
		for r := range ahead {
			for _, f := range r.list {
				if !yield(f, nil) {
					return
				}
			}
			if r.err != nil {
				yield(Facts{}, r.err)
				return
			}
		}
	}
}

// Entry gives what a plan looks at of an object.
func (f *Facts) Entry() syncing.Entry {
	e := syncing.Entry{Key: f.Key, Size: f.Size, Modified: f.Modified, CRC64: f.CRC64, ETag: f.ETag}
	if len(f.ETag) == 32 && strings.Trim(f.ETag, "0123456789abcdef") == "" {
		e.MD5 = f.ETag
	}
	return e
}

// Beneath gives what is beneath a prefix of a side as a side of its own.
func Beneath(of Side, prefix string) Side {
	if prefix == "" {
		return of
	}
	return &beneath{of, prefix}
}

type beneath struct {
	of     Side
	prefix string
}

func (b *beneath) short(f Facts, err error) (Facts, error) {
	f.Key = strings.TrimPrefix(f.Key, b.prefix)
	return f, err
}

func (b *beneath) List(ctx context.Context, prefix, after string, limit int) ([]Facts, error) {
	if after != "" {
		after = b.prefix + after
	}
	list, err := b.of.List(ctx, b.prefix+prefix, after, limit)
	for i := range list {
		list[i], _ = b.short(list[i], nil)
	}
	return list, err
}

func (b *beneath) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	return func(yield func(Facts, error) bool) {
		for f, err := range All(ctx, b.of, b.prefix+prefix) {
			if f, err = b.short(f, err); err == nil && f.Key == "" {
				continue // the prefix itself is an object, and no name beneath it
			}
			if !yield(f, err) {
				return
			}
		}
	}
}

func (b *beneath) Stat(ctx context.Context, key string) (Facts, error) {
	return b.short(b.of.Stat(ctx, b.prefix+key))
}

func (b *beneath) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	return b.of.Read(ctx, b.prefix+key, ifETag, from, length)
}

func (b *beneath) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	return b.short(b.of.Write(ctx, b.prefix+key, body, w))
}

func (b *beneath) Annotate(ctx context.Context, key string, f Facts) (Facts, error) {
	f.Key = b.prefix + key
	return b.short(b.of.Annotate(ctx, b.prefix+key, f))
}

func (b *beneath) Remove(ctx context.Context, key string) error {
	return b.of.Remove(ctx, b.prefix+key)
}
