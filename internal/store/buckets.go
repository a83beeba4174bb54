package store

import (
	"context"
	"errors"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

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
