package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"hash"
	"io"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Put asks to write an object.
type Put struct {
	catalog.Address
	catalog.Author
	Body     io.Reader // its error ends the put and is returned as it is
	Size     int64     // of the body, -1 when unknown
	Headers  object.Headers
	Metadata object.Metadata
	Tags     object.Tags
	Origin   string // what it is a replica of

	MD5      *[16]byte              // claimed digest of the content, if any
	Checksum digest.Kind            // further digest to keep, if any
	Claim    func() ([]byte, error) // its claimed value, asked for after the body has ended; nil: none is claimed

	IfAbsent bool         // only if nothing is there
	IfETag   *object.ETag // only if this content is there
	Seal     bool         // encrypt it at rest, whatever the bucket's default is
	Tier     string       // where the body goes; "": where the bucket says
}

// Put writes an object and gives the version that is now current. It returns
// after body and record are on disk. Beside the errors of catalog.Commit and
// bodies.Write there are size-mismatch, object-too-large, quota and
// digest-mismatch.
func (s *Store) Put(ctx context.Context, p Put) (*object.Version, error) {
	if err := p.Headers.Check(); err != nil {
		return nil, err
	}
	facts, cached, err := s.bucketFacts(ctx, p.Bucket)
	if err != nil {
		return nil, err
	}
	if err := asked(facts, p.Key, p.Metadata, p.Origin); err != nil {
		return nil, err
	}
	if p.Size > object.MaxSize {
		return nil, fault.New(fault.TooLarge, "object-too-large", "the body has %d bytes; %d are allowed in one put", p.Size,
			int64(object.MaxSize)).
			In("size").Do("send it in parts")
	}
	if err := fits(facts, max(0, p.Size)); err != nil {
		return nil, err
	}
	if p.IfAbsent || p.IfETag != nil || facts.Room != nil && p.Size > *facts.Room {
		if err := s.early(ctx, p, facts); err != nil {
			return nil, err
		}
	}
	var extra []hash.Hash
	var sum hash.Hash
	if p.Checksum != digest.None && p.Checksum != digest.CRC64NVME {
		sum = p.Checksum.New()
		extra = append(extra, sum)
	}
	v := &object.Version{Key: p.Key, Revision: 1, Headers: p.Headers, Metadata: p.Metadata, Tags: p.Tags,
		Origin: p.Origin, By: p.Who, Source: p.Source}
	space, err := s.spaceNamed(ctx, facts, p.Tier)
	if err == nil {
		err = s.roomFor()
	}
	if err != nil {
		return nil, err
	}
	w, later, err := writeTo(space, &capped{r: p.Body, left: object.MaxSize}, p.Size, p.Seal || facts.Sealing, extra,
		func(w bodies.Written) error { return p.agrees(w, facts, sum, v) })
	defer func() {
		if later != nil {
			w, _ := later.Written()
			w.Release()
		}
		w.Release()
	}()
	if err == nil {
		err = w.There()
	}
	if err != nil {
		s.room.noteFull(err)
		return nil, err
	}
	v.Size, v.ETag.MD5, v.CRC64, v.Body = w.Size, w.MD5, w.CRC64, w.Ref
	author := s.Now(p.Author)
	v.Created = author.At
	ch := catalog.Change{Bucket: facts.ID, Key: p.Key.String(), Version: v, IfAbsent: p.IfAbsent, IfETag: p.IfETag,
		Author: author}
	if later != nil {
		ch.Body = later
	}
	res, err := s.commitPut(ctx, p, ch, cached)
	if err != nil {
		s.room.noteFull(err)
		return nil, err
	}
	v.Number, v.Plain = res.Number, res.Versioning != object.On
	return v, nil
}

// commitPut commits what a put wrote; cached says that the bucket's number may be an old one.
func (s *Store) commitPut(ctx context.Context, p Put, ch catalog.Change, cached bool) (res catalog.Result, err error) {
	err = s.replacing(ctx, p.Address, p.Origin, func(is *catalog.State) error {
		ch.IfState = is
		res, err = s.Catalog.Commit(ctx, ch)
		if cached && fault.HasCode(err, "bucket-missing") {
			// Perhaps it was removed and made again since we learned its number.
			s.facts.Delete(p.Bucket)
			var facts catalog.BucketFacts
			if facts, _, err = s.bucketFacts(ctx, p.Bucket); err == nil {
				ch.Bucket = facts.ID
				res, err = s.Catalog.Commit(ctx, ch)
			}
		}
		return err
	})
	return res, err
}

// agrees refuses a body that was read and is not what was declared, or that there is no room
// for, and gives the version its checksum: sum has seen the body, unless the CRC is what was
// asked for.
func (p Put) agrees(w bodies.Written, facts catalog.BucketFacts, sum hash.Hash, v *object.Version) error {
	if p.Size >= 0 && w.Size != p.Size {
		return fault.New(fault.Invalid, "size-mismatch", "the body has %d bytes, and %d were declared", w.Size, p.Size).
			In("size").Do("send the whole body")
	}
	if p.MD5 != nil && *p.MD5 != w.MD5 {
		return mismatch("MD5", p.MD5[:], w.MD5[:])
	}
	if err := fits(facts, w.Size); err != nil { // of a length that nobody declared
		return err
	}
	if p.Checksum == digest.None {
		return nil
	}
	v.Checksum = digest.Sum{Kind: p.Checksum}
	if sum != nil {
		v.Checksum.Bytes = sum.Sum(nil)
	} else {
		v.Checksum.Bytes = crcBytes(w.CRC64)
	}
	claim, err := p.Claim()
	if err != nil {
		return err
	}
	if claim != nil && !bytes.Equal(claim, v.Checksum.Bytes) {
		return mismatch(p.Checksum.String(), claim, v.Checksum.Bytes)
	}
	return nil
}

// laterWriter is a space that syncs small bodies together, when they are committed.
type laterWriter interface {
	WriteLater(r io.Reader, size int64, sealed bool, extra []hash.Hash, accept func(bodies.Written) error) (bodies.Written,
		*bodies.Pending, error)
}

// writeTo writes a body, or has it ready to be written with others.
func writeTo(space bodies.Space, r io.Reader, size int64, sealed bool, extra []hash.Hash,
	accept func(bodies.Written) error) (bodies.Written, *bodies.Pending, error) {
	if l, ok := space.(laterWriter); ok {
		return l.WriteLater(r, size, sealed, extra, accept)
	}
	w, err := space.Write(r, size, sealed, extra, accept)
	return w, nil, err
}

// bodiesFirst settles the bodies of changes; see catalog.Catalog.BodiesFirst.
func bodiesFirst(changes []catalog.Change) []error {
	errs := make([]error, len(changes))
	var list []*bodies.Pending
	for _, ch := range changes {
		if p, ok := ch.Body.(*bodies.Pending); ok {
			list = append(list, p)
		}
	}
	bodies.Settle(list)
	for i, ch := range changes {
		if p, ok := ch.Body.(*bodies.Pending); ok {
			var w *bodies.Written
			if w, errs[i] = p.Written(); errs[i] == nil {
				ch.Version.Body = w.Ref
			}
		}
	}
	return errs
}

// spaceNamed gives the space that a new body goes to, which is main's for nearly all.
func (s *Store) spaceNamed(ctx context.Context, f catalog.BucketFacts, name string) (bodies.Space, error) {
	if name == "" && f.Tier == tier.Main {
		return s.Spaces.First(), nil
	}
	t, err := s.tierNamed(ctx, f, name)
	if err != nil {
		return nil, err
	}
	return s.space(ctx, t.ID)
}

// early refuses what the commit would refuse too, before the body is read.
func (s *Store) early(ctx context.Context, p Put, facts catalog.BucketFacts) error {
	f, err := s.Catalog.Lookup(ctx, p.Address)
	if err != nil {
		return err
	}
	there := f.Version
	switch {
	case p.IfAbsent && there != nil:
		return fault.New(fault.Precondition, "exists",
			"the key holds an object already, and the request asked that it should not").In("key")
	case p.IfETag != nil && there == nil:
		return fault.New(fault.NotFound, "absent", "nothing is there, and the request asked for a certain ETag").In("key")
	case p.IfETag != nil && !there.ETag.Meets(*p.IfETag):
		return fault.New(fault.Precondition, "mismatch", "the object's ETag is %s, not %s", there.ETag, p.IfETag).In("key").
			Do("read the object again and repeat the change on what is there now")
	}
	if facts.Room != nil {
		adds := p.Size
		if there != nil && facts.Versioning != object.On && there.Plain {
			adds -= there.Size
		}
		if adds > *facts.Room {
			return fault.New(fault.Full, "quota", "the bucket's quota has room for %d bytes, and the object would add %d",
				max(0, *facts.Room), adds).
				In("quota").Do("remove objects or previous versions, or raise the bucket's quota")
		}
	}
	return nil
}

func crcBytes(crc uint64) []byte {
	h := make([]byte, 8)
	for i := range h {
		h[i] = byte(crc >> (56 - 8*i))
	}
	return h
}

func mismatch(kind string, claimed, got []byte) error {
	return fault.New(fault.Invalid, "digest-mismatch", "the %s of the body is %s, and %s was claimed", kind,
		hex.EncodeToString(got), hex.EncodeToString(claimed)).
		In("digest").Do("send the body again; it changed on the way, or the digest is of something else")
}

// capped ends a body that is larger than any object may be.
type capped struct {
	r    io.Reader
	left int64
}

func (c *capped) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.left -= int64(n); c.left < 0 {
		return n, fault.New(fault.TooLarge, "object-too-large", "the body has more than %d bytes", int64(object.MaxSize)).
			In("size").Do("send it in parts")
	}
	return n, err
}

// commit commits a change to a bucket known by name.
func (s *Store) commit(ctx context.Context, bucket object.BucketName, ch catalog.Change) (catalog.Result, error) {
	for {
		facts, cached, err := s.bucketFacts(ctx, bucket)
		if err != nil {
			return catalog.Result{}, err
		}
		ch.Bucket = facts.ID
		r, err := s.Catalog.Commit(ctx, ch)
		if !fault.HasCode(err, "bucket-missing") {
			return r, err
		}
		// Perhaps it was removed and made again since we learned its number.
		if s.facts.Delete(bucket); !cached {
			return r, err
		}
	}
}
