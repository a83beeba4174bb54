package side

import (
	"cmp"
	"context"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

// HereAsOf is a bucket of this service as it was at a moment. It is only read.
type HereAsOf struct {
	Here *Here
	At   time.Time
	past
}

// past refuses to change what was.
type past struct{}

func pastError() error {
	return fault.New(fault.Invalid, "as-of", "an earlier state is only read").In("asOf").Do("write to the side as it is")
}

// Write is refused.
func (past) Write(context.Context, string, Body, Write) (Facts, error) { return Facts{}, pastError() }

// Annotate is refused.
func (past) Annotate(context.Context, string, Facts) (Facts, error) { return Facts{}, pastError() }

// Remove is refused.
func (past) Remove(context.Context, string) error { return pastError() }

// List gives a page.
func (h *HereAsOf) List(ctx context.Context, prefix, after string, limit int) ([]Facts, error) {
	page, _, err := h.Here.Store.ListAsOf(ctx, h.Here.Bucket, catalog.Listing{Prefix: prefix, After: after, Max: limit,
		Full: true}, h.At)
	if err != nil {
		return nil, err
	}
	out := make([]Facts, len(page))
	for i, e := range page {
		out[i] = FactsOf(e.Version, "")
	}
	return out, nil
}

// All gives all objects.
func (h *HereAsOf) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	return pages(ctx, func(after string) ([]Facts, error) { return h.List(ctx, prefix, after, 1000) })
}

func (h *HereAsOf) version(ctx context.Context, key string) (catalog.Address, *object.Version, error) {
	a, err := h.Here.address(key)
	if err != nil {
		return a, nil, err
	}
	v, err := h.Here.Store.FindAsOf(ctx, a, h.At)
	return a, v, err
}

// Stat gives an object.
func (h *HereAsOf) Stat(ctx context.Context, key string) (Facts, error) {
	_, v, err := h.version(ctx, key)
	if err != nil {
		return Facts{}, err
	}
	return FactsOf(v, ""), nil
}

// Read reads a range.
func (h *HereAsOf) Read(ctx context.Context, key, _ string, from, length int64) (io.ReadCloser, error) {
	a, v, err := h.version(ctx, key)
	if err != nil {
		return nil, err
	}
	return h.Here.Version(a, v).Range(ctx, from, length)
}

// ThereAsOf is a bucket at an endpoint that keeps versions, as it was at a moment by that
// endpoint's clock. It is only read.
type ThereAsOf struct {
	There *There
	At    time.Time
	past
}

// List gives a page.
func (t *ThereAsOf) List(ctx context.Context, prefix, after string, limit int) (out []Facts, err error) {
	for f, err := range t.versions(ctx, prefix, after) {
		if err != nil {
			return out, err
		}
		if out = append(out, f); len(out) == limit {
			break
		}
	}
	return out, nil
}

// All gives all objects.
func (t *ThereAsOf) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	return t.versions(ctx, prefix, "")
}

// versions goes through the versions beneath a prefix, and gives of each key the one of the
// moment.
func (t *ThereAsOf) versions(ctx context.Context, prefix, after string) iter.Seq2[Facts, error] {
	return func(yield func(Facts, error) bool) {
		var of []client.ListedVersion // of one key, as far as they are known
		give := func() bool {
			f, ok := t.then(of)
			of = nil
			return !ok || yield(f, nil)
		}
		for place := (client.VersionPlace{Key: after}); ; {
			var page client.VersionPage
			err := Patiently(ctx, func() (err error) {
				page, err = t.There.Conn.Client.ListVersions(ctx, t.There.Bucket, prefix, place, 1000)
				return err
			})
			if err != nil {
				yield(Facts{}, err)
				return
			}
			slices.SortStableFunc(page.Versions, func(a, b client.ListedVersion) int { return strings.Compare(a.Key, b.Key) })
			for _, v := range page.Versions {
				if len(of) > 0 && of[0].Key != v.Key && !give() {
					return
				}
				of = append(of, v)
			}
			if place = page.Next; place.Key == "" {
				give()
				return
			}
		}
	}
}

// then gives what was current of a key at the moment; ok is false when nothing was.
func (t *ThereAsOf) then(of []client.ListedVersion) (f Facts, ok bool) {
	slices.SortStableFunc(of, func(a, b client.ListedVersion) int {
		latest := func(v client.ListedVersion) int {
			if v.Latest {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(latest(a), latest(b)), b.Modified.Compare(a.Modified))
	})
	for _, v := range of {
		if !v.Modified.After(t.At) {
			return Facts{Key: v.Key, Size: v.Size, ETag: v.ETag, Modified: v.Modified, Class: v.Class, Version: v.Version},
				!v.Marker
		}
	}
	return f, false
}

func (t *ThereAsOf) find(ctx context.Context, key string) (Facts, error) {
	var of []client.ListedVersion
	for place := (client.VersionPlace{}); ; {
		page, err := t.There.Conn.Client.ListVersions(ctx, t.There.Bucket, key, place, 1000)
		if err != nil {
			return Facts{}, err
		}
		for _, v := range page.Versions {
			if v.Key == key {
				of = append(of, v)
			}
		}
		// Keys that only begin with this one come after all of its versions.
		if place = page.Next; place.Key != key {
			break
		}
	}
	f, ok := t.then(of)
	if !ok {
		return f, fault.New(fault.NotFound, "key-missing", "the bucket had no such object at that moment").In("key")
	}
	return f, nil
}

// Stat gives an object.
func (t *ThereAsOf) Stat(ctx context.Context, key string) (Facts, error) {
	f, err := t.find(ctx, key)
	if err != nil {
		return f, err
	}
	i, err := t.There.Conn.Client.HeadVersion(ctx, t.There.Bucket, key, f.Version)
	if err != nil {
		return f, err
	}
	return FactsThere(key, i), nil
}

// Read reads a range.
func (t *ThereAsOf) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	if length == 0 {
		return io.NopCloser(strings.NewReader("")), nil
	}
	f, err := t.find(ctx, key)
	if err != nil {
		return nil, err
	}
	r, err := t.There.Conn.Client.GetRange(ctx, t.There.Bucket, key, f.Version, from, length, ifETag)
	if err != nil {
		return nil, err
	}
	return &whole{ReadCloser: r, left: length}, nil
}
