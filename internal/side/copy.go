package side

import (
	"context"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
)

// copier is a side that makes an object of another one that it holds.
type copier interface {
	// copy makes an object of the one with from.Key and from.ETag. The error has the kind
	// fault.Unfinished where that cannot be done.
	copy(ctx context.Context, from Facts, key string, w Write) (Facts, error)
}

// Copy makes an object of another one at the same side, without its bytes being sent. The
// error has the kind fault.Unfinished where that cannot be done.
func Copy(ctx context.Context, of Side, from Facts, key string, w Write) (Facts, error) {
	if c, ok := of.(copier); ok {
		return c.copy(ctx, from, key, w)
	}
	return Facts{}, noCopy()
}

func noCopy() error {
	return fault.New(fault.Unfinished, "not-implemented", "this side makes no copies by itself")
}

func (h *Here) copy(ctx context.Context, from Facts, key string, w Write) (Facts, error) {
	a, v, err := h.Found(ctx, from.Key)
	if err != nil {
		return Facts{}, err
	}
	if v.ETag.String() != from.ETag {
		return Facts{}, noCopy()
	}
	return h.Write(ctx, key, h.Version(a, v), w)
}

func (t *There) copy(ctx context.Context, from Facts, key string, w Write) (Facts, error) {
	if !t.Conn.Health.Abilities.Can(endpoint.Copies) || from.Size > wholeAtATime {
		return Facts{}, noCopy()
	}
	p := t.put(w)
	p.ReplaceTags = t.Conn.Health.Abilities.Can(endpoint.Tags)
	i, err := t.Conn.Client.CopyWithin(ctx, t.Bucket, from.Key, from.ETag, key, p)
	if err == nil && i.ETag != from.ETag { // it says nothing of the content
		err = noCopy()
	}
	f := from
	f.Key, f.ETag, f.Version, f.Headers, f.Metadata, f.Tags = key, i.ETag, i.Version, w.Headers, w.Metadata, w.Tags
	return f, err
}

func (b *beneath) copy(ctx context.Context, from Facts, key string, w Write) (Facts, error) {
	from.Key = b.prefix + from.Key
	return b.short(Copy(ctx, b.of, from, b.prefix+key, w))
}

// holder is a side whose content another bucket of the same service takes over.
type holder interface {
	content(ctx context.Context, f Facts) Body
}

// Content gives the content of an object. Where both sides are buckets here, the other one
// takes it over without reading it.
func Content(ctx context.Context, of Side, f Facts) Body {
	if h, ok := of.(holder); ok {
		if b := h.content(ctx, f); b != nil {
			return b
		}
	}
	return Read(of, f)
}

func (h *Here) content(ctx context.Context, f Facts) Body {
	a, v, err := h.Found(ctx, f.Key)
	if err != nil || v.ETag.String() != f.ETag {
		return nil
	}
	return h.Version(a, v)
}

func (b *beneath) content(ctx context.Context, f Facts) Body {
	h, ok := b.of.(holder)
	if !ok {
		return nil
	}
	f.Key = b.prefix + f.Key
	return h.content(ctx, f)
}

// SameService reports whether both sides are buckets of one service, whose bytes need not
// move.
func SameService(a, b Side) bool {
	x, ok := base(a).(*Here)
	y, too := base(b).(*Here)
	return ok && too && x.Store == y.Store
}

func base(s Side) Side {
	if b, ok := s.(*beneath); ok {
		return base(b.of)
	}
	return s
}
