package store

import (
	"context"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Annotation is a change of a version's metadata, tags and standard headers.
type Annotation struct {
	catalog.Address
	ID object.VersionID // Current: the current version
	catalog.Author
	Metadata   object.Edit
	Tags       object.Edit
	Headers    *object.Headers // in place of what is there; nil leaves it
	Origin     string          // what it is a replica of then: a change made here makes it none
	IfRevision int             // only if this is the revision; 0: whatever it is

	back bool // to what it was before
}

// Annotate changes metadata, tags and headers of a version without touching its
// body, and gives it with its new revision. Without IfRevision it is repeated on
// what is there when another change came between. Beside the errors of
// FindVersion, NewMetadata and NewTags there is revision.
func (s *Store) Annotate(ctx context.Context, a Annotation) (*object.Version, error) {
	if a.Headers != nil {
		if err := a.Headers.Check(); err != nil {
			return nil, err
		}
	}
	for {
		found, err := s.FindVersion(ctx, a.Address, a.ID)
		if err != nil {
			return nil, err
		}
		if err := fault.Revision("the metadata", found.Revision, a.IfRevision); err != nil {
			return nil, err
		}
		v := *found
		if v.Metadata, err = object.NewMetadata(a.Metadata.Apply(found.Metadata, true)); err != nil {
			return nil, err
		}
		if v.Tags, err = object.NewTags(a.Tags.Apply(found.Tags, false), object.MaxTags); err != nil {
			return nil, err
		}
		if err := s.askedOfChange(ctx, a, found, &v); err != nil {
			return nil, err
		}
		if a.Headers != nil {
			v.Headers = *a.Headers
		}
		author := s.Now(a.Author)
		if v.Origin = a.Origin; a.Origin == "" {
			v.Changed = author.At
		} else if err := s.mayAnnotate(ctx, a, found); err != nil {
			return nil, err
		}
		// Named by its number, so that a change of the content between cannot be meant.
		res, err := s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.ObjectAnnotated, Key: a.Key.String(),
			ID: object.VersionID(found.Number), Version: &v, IfCurrent: a.ID == object.Current,
			IfRevision: found.Revision, Author: author})
		switch {
		case a.IfRevision == 0 && (fault.HasCode(err, "revision") || fault.HasCode(err, "version-moved") ||
			a.ID == object.Current && fault.HasCode(err, "version-missing")):
			continue // somebody else was first: look again
		case err != nil:
			return nil, err
		}
		v.Revision = res.Revision
		return &v, nil
	}
}

// mayAnnotate refuses the metadata of a replica for a version that was written or changed
// later; see replacing.
func (s *Store) mayAnnotate(ctx context.Context, a Annotation, found *object.Version) error {
	o := replication.ParseOrigin(a.Origin)
	if v := replication.Judge(o, s.Place(a.Bucket.String()), found, nil); !o.Written.IsZero() && !v.GivesWay() {
		return NewerThere()
	}
	return nil
}

// Restore makes an earlier version of a key current again, by a new version of
// its body. It is the version id or, with asOf, the one of that moment with the
// metadata of then. Beside the errors of FindVersion and FindAsOf there are
// version-current, version-marker and versioning-not-on.
func (s *Store) Restore(ctx context.Context, a catalog.Address, id object.VersionID, asOf time.Time,
	by catalog.Author) (*object.Version, error) {
	if !asOf.IsZero() {
		v, err := s.FindAsOf(ctx, a, asOf)
		if err != nil {
			return nil, err
		}
		return s.restore(ctx, a, v, by)
	}
	v, err := s.FindVersion(ctx, a, id)
	if err != nil {
		return nil, err
	}
	return s.restore(ctx, a, v, by)
}

func (s *Store) restore(ctx context.Context, a catalog.Address, was *object.Version,
	by catalog.Author) (*object.Version, error) {
	if was.Marker {
		return nil, fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content").
			In("version").Do("name another version; or remove the object to have it deleted")
	}
	f, err := s.Catalog.Lookup(ctx, a)
	if err != nil {
		return nil, err
	}
	if there := f.Version; there != nil {
		switch {
		case there.Number == was.Number && there.Revision == was.Revision:
			return nil, fault.New(fault.Conflict, "version-current", "this version is the current one already").In("version").
				Do("name an earlier one; the key's history lists them")
		case there.Number == was.Number:
			h := was.Headers
			return s.Annotate(ctx, Annotation{Address: a, Author: by, Headers: &h, back: true,
				Metadata: object.Edit{Clear: true, Set: was.Metadata}, Tags: object.Edit{Clear: true, Set: was.Tags}})
		case f.Versioning != object.On && there.Plain:
			return nil, fault.New(fault.Conflict, "versioning-not-on",
				"versioning is %s: the restore would replace the current version for good", f.Versioning).
				In("versioning").Do("switch versioning on first")
		}
	}
	return s.copy(ctx, Copy{From: a, To: a, FromID: was.ID(), Author: by}, catalog.ObjectRestored,
		func(found *object.Version) (*object.Version, error) {
			v := *found
			v.Headers, v.Metadata, v.Tags, v.Origin = was.Headers, was.Metadata, was.Tags, ""
			return &v, nil
		})
}

// Chapter is the history of one name of an object.
type Chapter struct {
	Bucket object.BucketName
	Key    object.Key
	catalog.History
}

// maxChapters is how many names of an object are followed.
const maxChapters = 50

// History gives a page of a key's history, newest first: versions older than a
// number (0: from the newest). With follow, the histories of the names it had
// before and got later come along, each with its newest versions. A key that
// never was is key-missing.
func (s *Store) History(ctx context.Context, a catalog.Address, before int64, limit int, follow bool) ([]Chapter,
	error) {
	var out []Chapter
	first := before
	seen := map[catalog.Address]bool{a: true}
	for queue := []catalog.Address{a}; len(queue) > 0 && len(out) < maxChapters; queue = queue[1:] {
		at := queue[0]
		f, _, err := s.bucketFacts(ctx, at.Bucket)
		if err != nil {
			if len(out) > 0 && fault.HasCode(err, "bucket-missing") {
				continue
			}
			return nil, err
		}
		h, err := s.Catalog.History(ctx, f.ID, at.Key, before, limit)
		if err != nil {
			return nil, err
		}
		before = 0
		out = append(out, Chapter{at.Bucket, at.Key, *h})
		if !follow {
			break
		}
		next := slices.Clone(h.Went)
		for _, p := range h.Versions {
			if p.Origin != nil && p.Origin.How == catalog.ObjectRenamed.String() {
				next = append(next, *p.Origin)
			}
		}
		for _, o := range next {
			var to catalog.Address
			if to.Bucket, err = object.ParseBucketName(o.Bucket); err != nil {
				continue // the bucket is gone
			}
			if to.Key, err = object.ParseKey(o.Key); err == nil && !seen[to] {
				seen[to] = true
				queue = append(queue, to)
			}
		}
	}
	if len(out[0].Versions) == 0 && len(out[0].Went) == 0 && first == 0 {
		return nil, keyMissing()
	}
	return out, nil
}

// Sketches calls f with a page of a bucket's current objects, for comparing.
func (s *Store) Sketches(ctx context.Context, bucket object.BucketName, prefix, after string, limit int,
	f func(catalog.Sketch)) error {
	facts, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return err
	}
	return s.Catalog.Sketches(ctx, facts.ID, prefix, after, limit, f)
}

// ListAsOf gives a page of a bucket as it stood at a moment; go on after next
// until it is "". The error for a moment before the bucket has the code
// bucket-later.
func (s *Store) ListAsOf(ctx context.Context, bucket object.BucketName, l catalog.Listing,
	at time.Time) (page []catalog.Entry, next string, err error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return nil, "", err
	}
	if err := catalog.BucketBefore(f, at); err != nil {
		return nil, "", err
	}
	l.Bucket = f.ID
	return s.Catalog.ListAsOf(ctx, l, at)
}

// ListVersions gives a page of all versions.
func (s *Store) ListVersions(ctx context.Context, bucket object.BucketName, l catalog.Versions) (page []catalog.Listed,
	more bool, err error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return nil, false, err
	}
	l.Bucket = f.ID
	return s.Catalog.ListVersions(ctx, l)
}
