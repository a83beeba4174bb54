package store

import (
	"context"
	"errors"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

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
	IfETag   *object.ETag      // on the target: only if this content is there
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
				Do("repeat the command")
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
	done := Complete{Address: c.To, Author: c.Author, Upload: started.ID, Size: there.Size, IfAbsent: c.IfAbsent,
		IfETag: c.IfETag}
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
	ch := catalog.Change{Kind: kind, Bucket: facts.ID, Key: c.To.Key.String(), IfAbsent: c.IfAbsent, IfETag: c.IfETag,
		Author: author}
	var res catalog.Result
	var wrote *object.Version
	err = s.replacing(ctx, c.To, c.Origin, func(is *catalog.State) (err error) {
		ch.IfState = is
		res, wrote, err = s.Catalog.Copy(ctx, catalog.Copying{From: c.From, FromID: c.FromID, Change: ch,
			Edit: func(found *object.Version) (*object.Version, error) {
				v, err := edit(found)
				if err == nil && kind != catalog.ObjectRenamed {
					err = fits(facts, found.Size)
				}
				if err != nil {
					return nil, err
				}
				return becomes(v, c.To.Key, author), nil
			}})
		return err
	})
	if err != nil {
		return nil, err
	}
	wrote.Number, wrote.Plain = res.Number, res.Versioning != object.On
	return wrote, nil
}
