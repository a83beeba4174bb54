package side

import (
	"bytes"
	"context"
	"encoding/hex"
	"io"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/store"
)

// Here is a bucket of this service.
type Here struct {
	Store  *store.Store
	Bucket object.BucketName
	By     catalog.Author
}

func (h *Here) address(key string) (catalog.Address, error) {
	k, err := object.ParseKey(key)
	return catalog.Address{Bucket: h.Bucket, Key: k}, err
}

// FactsOf gives the facts of a version.
func FactsOf(v *object.Version, tierName string) Facts {
	crc := v.CRC64
	return Facts{Key: v.Key.String(), Size: v.Size, ETag: v.ETag.String(), Modified: v.Created, CRC64: &crc,
		Headers: v.Headers, Metadata: v.Metadata, Tags: v.Tags, Class: tierName, Version: v.ID().String(), Origin: v.Origin}
}

// List gives a page.
func (h *Here) List(ctx context.Context, prefix, after string, limit int) ([]Facts, error) {
	page, _, err := h.Store.List(ctx, h.Bucket, catalog.Listing{Prefix: prefix, After: after, Max: limit, Full: true})
	if err != nil {
		return nil, err
	}
	out := make([]Facts, 0, len(page))
	for _, e := range page {
		out = append(out, FactsOf(e.Version, ""))
	}
	return out, nil
}

// Stat gives an object.
func (h *Here) Stat(ctx context.Context, key string) (Facts, error) {
	a, err := h.address(key)
	if err != nil {
		return Facts{}, err
	}
	v, err := h.Store.Find(ctx, a)
	if err != nil {
		return Facts{}, err
	}
	return FactsOf(v, ""), nil
}

// Found gives the current version of a key, with its address.
func (h *Here) Found(ctx context.Context, key string) (catalog.Address, *object.Version, error) {
	a, err := h.address(key)
	if err != nil {
		return a, nil, err
	}
	v, err := h.Store.Find(ctx, a)
	return a, v, err
}

// Read reads a range.
func (h *Here) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	a, err := h.address(key)
	if err != nil {
		return nil, err
	}
	v, err := h.Store.Find(ctx, a)
	if err == nil && ifETag != "" && v.ETag.String() != ifETag {
		err = fault.New(fault.Precondition, "mismatch", "the object is another by now").In("key").Do("begin again")
	}
	if err != nil {
		return nil, err
	}
	return h.Version(a, v).Range(ctx, from, length)
}

// Version gives the content of a version of the bucket.
func (h *Here) Version(a catalog.Address, v *object.Version) Body { return versionBody{h.Store, a, v} }

type versionBody struct {
	store *store.Store
	a     catalog.Address
	v     *object.Version
}

// Range reads a range of a version. Small ones come whole, others through a pipe.
func (b versionBody) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	body, v, err := b.store.Open(ctx, b.a, b.v)
	if err != nil {
		return nil, err
	}
	if v.ETag != b.v.ETag {
		body.Close()
		return nil, fault.New(fault.Unavailable, "source-changed", "the object was replaced while it was read").In("source").
			Do("begin again")
	}
	if err := body.Prepare(ctx, from, length); err != nil {
		body.Close()
		return nil, err
	}
	if length <= 256<<10 {
		defer body.Close()
		var buf bytes.Buffer
		buf.Grow(int(length))
		if err := body.Send(&buf, from, length, nil); err != nil {
			return nil, err
		}
		return io.NopCloser(&buf), nil
	}
	r, w := io.Pipe()
	go func() {
		defer body.Close()
		w.CloseWithError(body.Send(w, from, length, nil))
	}()
	return r, nil
}

// Write writes an object, by copying where the body is one of this service.
func (h *Here) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	a, err := h.address(key)
	if err != nil {
		return Facts{}, err
	}
	if w.Origin != "" { // before the bytes are moved; the store looks again when it commits
		v, err := h.Store.JudgeReplica(ctx, a, w.Origin)
		if err == nil && v == replication.Newer {
			err = store.NewerThere()
		}
		if err != nil {
			return Facts{}, err
		}
	}
	var v *object.Version
	if from, ok := body.(versionBody); ok && from.store == h.Store {
		v, err = h.Store.Copy(ctx, store.Copy{From: from.a, FromID: from.v.ID(), To: a, Author: h.By,
			Replace: true, Headers: w.Headers, Metadata: w.Metadata, ReplaceTags: true, Tags: w.Tags, Seal: w.Sealed,
			Tier: w.Class, Origin: w.Origin})
	} else {
		v, err = h.put(ctx, a, body, w)
	}
	if err != nil {
		return Facts{}, err
	}
	if w.CRC64 != nil && v.CRC64 != *w.CRC64 {
		return Facts{}, mismatch()
	}
	return FactsOf(v, ""), nil
}

func mismatch() error {
	return fault.New(fault.Damaged, "digest-mismatch", "the bytes that are there have another digest").In("target").
		Do("it is written again by itself; look at the target's disks or line when it goes on")
}

func (h *Here) put(ctx context.Context, a catalog.Address, body Body, w Write) (*object.Version, error) {
	r, err := body.Range(ctx, 0, w.Size)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	p := store.Put{Address: a, Author: h.By, Body: r, Size: w.Size, Headers: w.Headers, Metadata: w.Metadata, Tags: w.Tags,
		Origin: w.Origin, Seal: w.Sealed, Tier: w.Class}
	if w.CRC64 != nil {
		p.Checksum = digest.CRC64NVME
		claim := sumBytes(*w.CRC64)
		p.Claim = func() ([]byte, error) { return claim, nil }
	}
	if sum, err := hex.DecodeString(w.MD5); err == nil && len(sum) == 16 {
		p.MD5 = (*[16]byte)(sum)
	}
	return h.Store.Put(ctx, p)
}

func sumBytes(crc uint64) []byte {
	b := make([]byte, 8)
	for i := range b {
		b[i] = byte(crc >> (56 - 8*i))
	}
	return b
}

// Judge compares what is at a key with a state that comes there.
func (h *Here) Judge(ctx context.Context, key, origin string) (replication.Verdict, Facts, error) {
	a, err := h.address(key)
	if err != nil {
		return replication.Untold, Facts{}, err
	}
	v, err := h.Store.Find(ctx, a)
	if err != nil {
		return replication.Untold, Facts{}, err
	}
	verdict, err := h.Store.JudgeReplica(ctx, a, origin)
	return verdict, FactsOf(v, ""), err
}

// RemoveReplica removes what was removed at its source.
func (h *Here) RemoveReplica(ctx context.Context, key, origin string) error {
	a, err := h.address(key)
	if err == nil {
		_, err = h.Store.RemoveReplica(ctx, a, origin, h.By)
	}
	return err
}

// Annotate replaces what is said of an object.
func (h *Here) Annotate(ctx context.Context, key string, f Facts) (Facts, error) {
	a, err := h.address(key)
	if err != nil {
		return Facts{}, err
	}
	found, err := h.Store.Find(ctx, a)
	if err == nil && found.ETag.String() != f.ETag {
		err = fault.New(fault.Precondition, "mismatch", "the object is another by now").In("key").Do("write it whole")
	}
	if err != nil {
		return Facts{}, err
	}
	headers := f.Headers
	v, err := h.Store.Annotate(ctx, store.Annotation{Address: a, ID: found.ID(), Author: h.By,
		Headers: &headers, Metadata: object.Edit{Clear: true, Set: f.Metadata}, Tags: object.Edit{Clear: true, Set: f.Tags},
		Origin: f.Origin})
	if err != nil {
		return Facts{}, err
	}
	return FactsOf(v, ""), nil
}

// Remove removes an object.
func (h *Here) Remove(ctx context.Context, key string) error {
	a, err := h.address(key)
	if err != nil {
		return err
	}
	_, err = h.Store.Remove(ctx, a, nil, h.By)
	return err
}
