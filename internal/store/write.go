package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
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
	res, err := s.Catalog.Commit(ctx, ch)
	if cached && fault.HasCode(err, "bucket-missing") {
		// Perhaps it was removed and made again since we learned its number.
		s.facts.Delete(p.Bucket)
		if facts, _, err = s.bucketFacts(ctx, p.Bucket); err == nil {
			ch.Bucket = facts.ID
			res, err = s.Catalog.Commit(ctx, ch)
		}
	}
	if err != nil {
		s.room.noteFull(err)
		return nil, err
	}
	v.Number, v.Plain = res.Number, res.Versioning != object.On
	return v, nil
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
	case p.IfETag != nil && there.ETag != *p.IfETag:
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

// Remove removes the current object at an address; where versioning is on or
// paused it leaves a delete marker. Result.Number is 0 when nothing was there
// and no marker was left, which is no error unless etag is given.
func (s *Store) Remove(ctx context.Context, a catalog.Address, etag *object.ETag, by catalog.Author) (catalog.Result,
	error) {
	by = s.Now(by)
	return s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.ObjectRemoved, Key: a.Key.String(), IfETag: etag,
		Author: by})
}

// RemoveVersion removes a version for good. When it was the current one, the one
// before it becomes current. The error for none has the code version-missing.
func (s *Store) RemoveVersion(ctx context.Context, a catalog.Address, id object.VersionID,
	by catalog.Author) (catalog.Result, error) {
	by = s.Now(by)
	return s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.VersionRemoved, Key: a.Key.String(), ID: id, Author: by})
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

// Removal of one of many: the current object of a key, or a version of it.
type Removal struct {
	Key object.Key
	ID  object.VersionID
}

// RemoveMany carries out removals and gives a result and an error for each, in
// their order. Doubles count once. What is not there is no error.
func (s *Store) RemoveMany(ctx context.Context, bucket object.BucketName, removals []Removal,
	by catalog.Author) ([]catalog.Result, []error, error) {
	facts, err := s.Facts(ctx, bucket)
	if err != nil {
		return nil, nil, err
	}
	by = s.Now(by)
	results, errs := make([]catalog.Result, len(removals)), make([]error, len(removals))
	first := map[Removal]int{}
	var left []int
	for i, r := range removals {
		if _, twice := first[r]; !twice {
			first[r] = i
			left = append(left, i)
		}
	}
	// A batch holds each key once: what names it again comes with the next.
	for len(left) > 0 {
		var batch, rest []int
		seen := map[object.Key]bool{}
		var changes []catalog.Change
		for _, i := range left {
			r := removals[i]
			if seen[r.Key] {
				rest = append(rest, i)
				continue
			}
			seen[r.Key] = true
			ch := catalog.Change{Kind: catalog.ObjectRemoved, Bucket: facts.ID, Key: r.Key.String(), ID: r.ID, Author: by}
			if r.ID != object.Current {
				ch.Kind = catalog.VersionRemoved
			}
			batch, changes = append(batch, i), append(changes, ch)
		}
		rs, es := s.Catalog.CommitMany(ctx, changes)
		for n, i := range batch {
			results[i], errs[i] = rs[n], es[n]
			if fault.HasCode(es[n], "version-missing") {
				errs[i] = nil
			}
		}
		left = rest
	}
	for i, r := range removals {
		results[i], errs[i] = results[first[r]], errs[first[r]]
	}
	return results, errs, nil
}

// Copy asks for a copy of a version, here or in another bucket.
type Copy struct {
	From, To catalog.Address
	FromID   object.VersionID // Current: the current version
	catalog.Author
	Replace     bool // with these headers and metadata instead of the source's
	Headers     object.Headers
	Metadata    object.Metadata
	ReplaceTags bool // with these tags instead of the source's
	Tags        object.Tags
	Move        bool   // a rename: remove the source in the same transaction
	Origin      string // what the copy is a replica of

	If       object.Conditions // on the source
	IfAbsent bool              // on the target
	Seal     bool              // the target is encrypted at rest, whatever its bucket's default is
	Tier     string            // the target's; "": the source's
}

// Copy makes an object of another's body, without moving bytes, unless the target
// is to be sealed and the source is not: then it is written anew. The errors are
// those of FindVersion for the source and of Commit for the target; conditions
// on the source fail with the code mismatch.
func (s *Store) Copy(ctx context.Context, c Copy) (*object.Version, error) {
	if err := c.Headers.Check(); err != nil {
		return nil, err
	}
	if c.From == c.To && c.FromID == object.Current && (c.Move || !c.Replace && !c.ReplaceTags && c.Tier == "") {
		return nil, fault.New(fault.Invalid, "copy-to-itself", "source and target are the same object").In("target").
			Do("give another key, or change its metadata on the way")
	}
	there, err := s.FindVersion(ctx, c.From, c.FromID)
	if err != nil {
		return nil, err
	}
	kind := catalog.ObjectCopied
	if c.Move {
		kind = catalog.ObjectRenamed
	}
	facts, _, err := s.bucketFacts(ctx, c.To.Bucket)
	if err != nil {
		return nil, err
	}
	if err := s.askedOfCopy(ctx, c, there, facts); err != nil {
		return nil, err
	}
	anew, in, sealed, err := s.anew(ctx, c, there, facts)
	if err != nil {
		return nil, err
	}
	body := there.Body
	if anew {
		from, err := s.readableAt(ctx, c.From, there)
		if err != nil {
			return nil, err
		}
		if body.File < 0 && from == there {
			return s.copyParts(ctx, c, there, sealed)
		}
		if err := fits(facts, there.Size); err != nil {
			return nil, err
		}
		w, err := s.rewrite(ctx, from, in, sealed)
		defer w.Release()
		if err != nil {
			return nil, err
		}
		body = w.Ref
	}
	return s.copy(ctx, c, kind, func(found *object.Version) (*object.Version, error) {
		if body != there.Body && found.Body != there.Body {
			return nil, fault.New(fault.Unavailable, "source-changed", "the source changed while it was copied").In("source").
				Do("say it again")
		}
		if c.If.Read(found) != object.Proceed {
			return nil, fault.New(fault.Precondition, "mismatch", "the source is not as the request asked").In("source")
		}
		v := *found
		if body != there.Body {
			v.Body = body
		}
		if c.Replace {
			v.Headers, v.Metadata = c.Headers, c.Metadata
		}
		if c.ReplaceTags {
			v.Tags = c.Tags
		}
		v.Origin = c.Origin
		return &v, nil
	})
}

// anew says whether a copy needs a body of its own: to be sealed, or in another tier.
func (s *Store) anew(ctx context.Context, c Copy, there *object.Version, facts catalog.BucketFacts) (anew bool,
	in int16,
	sealed bool, err error) {
	if in = there.Body.Tier; there.Marker || there.Body.File == 0 {
		return false, in, false, nil
	}
	if sealed, err = s.Sealed(ctx, c.From.Bucket, there); err != nil {
		return false, in, sealed, err
	}
	if (c.Seal || facts.Sealing && c.To.Bucket != c.From.Bucket) && !sealed {
		anew, sealed = true, true
	}
	if c.Tier != "" {
		t, err := s.tierNamed(ctx, facts, c.Tier)
		if err != nil {
			return false, in, sealed, err
		}
		anew, in = anew || t.ID != in, t.ID
	}
	return anew, in, sealed, nil
}

// readableAt gives a version as it can be read now; see readable.
func (s *Store) readableAt(ctx context.Context, a catalog.Address, v *object.Version) (*object.Version, error) {
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	return s.readable(ctx, f.ID, v)
}

// copyParts copies an object that came in parts by writing its parts anew, as an
// upload of the same parts: its ETag and checksums stay.
func (s *Store) copyParts(ctx context.Context, c Copy, there *object.Version,
	sealed bool) (*object.Version, error) {
	if c.If.Read(there) != object.Proceed {
		return nil, fault.New(fault.Precondition, "mismatch", "the source is not as the request asked").In("source")
	}
	u := catalog.Upload{Headers: there.Headers, Origin: c.Origin, Metadata: there.Metadata, Tags: there.Tags,
		Checksum: there.Checksum.Kind,
		PerPart:  there.PartSums, Sealed: sealed}
	if c.Replace {
		u.Headers, u.Metadata = c.Headers, c.Metadata
	}
	if c.ReplaceTags {
		u.Tags = c.Tags
	}
	if u.TierName = c.Tier; u.TierName == "" {
		set, err := s.Tiers(ctx)
		if err != nil {
			return nil, err
		}
		u.TierName = set.Name(there.Body.Tier)
	}
	started, err := s.StartUpload(ctx, c.To, u, c.Author)
	if err != nil {
		return nil, err
	}
	done := Complete{Address: c.To, Author: c.Author, Upload: started.ID, Size: there.Size, IfAbsent: c.IfAbsent}
	err = func() error {
		for after := 0; ; {
			parts, err := s.Catalog.Parts(ctx, -there.Body.File, after, 100)
			if err != nil || len(parts) == 0 {
				return err
			}
			for _, x := range parts {
				after = x.Number
				if _, err := s.CopyPart(ctx, PutPart{Address: c.To, Author: c.Author, Upload: started.ID, Number: x.Number,
					MD5: &x.MD5}, c.From, there.ID(), x.Start, x.Size, object.Conditions{}); err != nil {
					return err
				}
				done.Parts = append(done.Parts, CompletePart{Number: x.Number, MD5: &x.MD5})
			}
		}
	}()
	if err != nil {
		return nil, errors.Join(err, s.Abandon(context.WithoutCancel(ctx), c.To, started.ID))
	}
	v, err := s.Complete(ctx, done)
	if err != nil || !c.Move {
		return v, err
	}
	etag := there.ETag
	_, err = s.Remove(ctx, c.From, &etag, c.Author)
	return v, err
}

func (s *Store) copy(ctx context.Context, c Copy, kind catalog.EntryKind,
	edit func(*object.Version) (*object.Version, error)) (*object.Version, error) {
	facts, _, err := s.bucketFacts(ctx, c.To.Bucket)
	if err != nil {
		return nil, err
	}
	author := s.Now(c.Author)
	ch := catalog.Change{Kind: kind, Bucket: facts.ID, Key: c.To.Key.String(), IfAbsent: c.IfAbsent, Author: author}
	res, wrote, err := s.Catalog.Copy(ctx, catalog.Copying{From: c.From, FromID: c.FromID, Change: ch,
		Edit: func(found *object.Version) (*object.Version, error) {
			v, err := edit(found)
			if err == nil && kind != catalog.ObjectRenamed {
				err = fits(facts, found.Size)
			}
			if err != nil {
				return nil, err
			}
			v.Key, v.Created, v.By, v.Source, v.Revision, v.Marker = c.To.Key, author.At, author.Who, author.Source, 1, false
			return v, nil
		}})
	if err != nil {
		return nil, err
	}
	wrote.Number, wrote.Plain = res.Number, res.Versioning != object.On
	return wrote, nil
}

// List gives a page of a bucket.
func (s *Store) List(ctx context.Context, bucket object.BucketName, l catalog.Listing) (page []catalog.Entry, more bool,
	err error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return nil, false, err
	}
	l.Bucket = f.ID
	return s.Catalog.List(ctx, l)
}

// Cleared says what one step of a removal beneath a prefix removed.
type Cleared struct {
	catalog.Usage
	More bool
}

// RemoveUnder removes the next objects, at most limit, beneath a prefix ("" for
// all of a bucket). Called until More is false it empties the prefix; it is
// safe to stop and to repeat.
func (s *Store) RemoveUnder(ctx context.Context, bucket object.BucketName, prefix string, limit int,
	by catalog.Author) (Cleared, error) {
	f, err := s.Facts(ctx, bucket)
	if err != nil {
		return Cleared{}, err
	}
	page, more, err := s.Catalog.List(ctx, catalog.Listing{Bucket: f.ID, Prefix: prefix, Max: limit})
	if err != nil {
		return Cleared{}, err
	}
	by = s.Now(by)
	changes := make([]catalog.Change, len(page))
	for i, e := range page {
		changes[i] = catalog.Change{Kind: catalog.ObjectRemoved, Bucket: f.ID, Key: e.Name(), Author: by}
	}
	results, errs := s.Catalog.CommitMany(ctx, changes)
	c := Cleared{More: more}
	for i, e := range page {
		if errs[i] != nil {
			return c, errs[i]
		}
		if results[i].Number > 0 {
			c.Objects++
			c.Bytes += e.Version.Size
		}
	}
	return c, nil
}

// PurgeUnder removes the next keys, at most limit, beneath a prefix with all
// their versions and delete markers, for good.
func (s *Store) PurgeUnder(ctx context.Context, bucket object.BucketName, prefix string, limit int,
	by catalog.Author) (Cleared, error) {
	f, err := s.Facts(ctx, bucket)
	if err != nil {
		return Cleared{}, err
	}
	keys, err := s.Catalog.Keys(ctx, f.ID, prefix, "", limit)
	if err != nil {
		return Cleared{}, err
	}
	u, err := s.Catalog.Purge(ctx, f.ID, keys, s.Now(by))
	return Cleared{Usage: u, More: len(keys) == limit}, err
}

// CreateBucket makes a bucket in an account; its region is the service's unless it says another.
func (s *Store) CreateBucket(ctx context.Context, b catalog.Bucket, by catalog.Author) error {
	if b.Region == "" {
		b.Region = s.Region
	}
	if err := errors.Join(b.Name.CheckNew(), b.Settings.Check()); err != nil {
		return err
	}
	policy, err := s.Catalog.PlacementPolicy(ctx, b.Account)
	if err != nil {
		return err
	}
	if b.Placement, err = policy.Choose(b.Placement, b.Tier, b.Operates); err != nil {
		return err
	}
	defer s.forget(b.Name)
	return s.Catalog.CreateBucket(ctx, b, s.Now(by))
}

// ChangeBucket changes a bucket's settings, all that the edits say or nothing: see
// catalog.ChangeBucket.
func (s *Store) ChangeBucket(ctx context.Context, name object.BucketName, ifRevision int, by catalog.Author,
	edits ...bucket.Edit) error {
	defer s.forget(name)
	return s.Catalog.ChangeBucket(ctx, name, ifRevision, s.Now(by), edits...)
}

// RemoveBucket removes an empty bucket.
func (s *Store) RemoveBucket(ctx context.Context, name object.BucketName, by catalog.Author) error {
	defer s.forget(name)
	return s.Catalog.RemoveBucket(ctx, name, s.Now(by))
}

// Fresh waits until usage is complete up to a moment, for tests and the demo.
func (s *Store) Fresh(ctx context.Context, moment time.Time) error {
	for {
		if _, err := s.Catalog.RollUp(ctx, 10_000); err != nil {
			return err
		}
		t, err := s.Catalog.CompleteUpTo(ctx)
		if err != nil || t.After(moment) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}
