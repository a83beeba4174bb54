package store

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// asked refuses metadata that a bucket does not take. Replicas come as they are.
func asked(f catalog.BucketFacts, key object.Key, m object.Metadata, origin string) error {
	if len(f.Required) == 0 || origin != "" {
		return nil
	}
	return bucket.Refused(f.Required.Breaches(key.String(), m))
}

// askedOfCopy refuses a copy whose metadata its target does not take. What is renamed within
// a bucket may lack what it lacked before.
func (s *Store) askedOfCopy(ctx context.Context, c Copy, there *object.Version, f catalog.BucketFacts) error {
	if len(f.Required) == 0 || c.Origin != "" {
		return nil
	}
	m := there.Metadata
	if c.Replace {
		m = c.Metadata
	}
	now := f.Required.Breaches(c.To.Key.String(), m)
	if c.Move && c.From.Bucket == c.To.Bucket {
		now = bucket.Worse(f.Required.Breaches(c.From.Key.String(), there.Metadata), now)
	}
	return bucket.Refused(now)
}

// askedOfChange refuses a change of metadata that makes it worse; what was restored is as it
// was.
func (s *Store) askedOfChange(ctx context.Context, a Annotation, found, now *object.Version) error {
	if a.Origin != "" || a.back {
		return nil
	}
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil || len(f.Required) == 0 {
		return err
	}
	key := a.Key.String()
	return bucket.Refused(bucket.Worse(f.Required.Breaches(key, found.Metadata), f.Required.Breaches(key, now.Metadata)))
}

// Lacks says in what the metadata of a version is not what its bucket asks for.
func (s *Store) Lacks(ctx context.Context, name object.BucketName, v *object.Version) ([]bucket.Breach, error) {
	f, _, err := s.bucketFacts(ctx, name)
	if err != nil || v.Marker {
		return nil, err
	}
	return f.Required.Breaches(v.Key.String(), v.Metadata), nil
}
