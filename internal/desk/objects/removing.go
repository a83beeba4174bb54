package objects

import (
	"context"
	"errors"
	"slices"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/gate"
	"spindle/internal/store"
)

type quantityOut struct{ Body api.Quantity }

// tellsOfRemovals reports whether who asks may list all that is to be removed, and so
// may be told what there was. Others are told what they asked for; they can rehearse
// nothing, nor remove what they do not name.
func (d *Desk) tellsOfRemovals(ctx context.Context, bucket object.BucketName, in api.RemoveIn) (bool, error) {
	places := slices.Clone(in.Keys)
	for _, v := range in.Versions {
		places = append(places, v.Key)
	}
	if in.Prefix != nil {
		places = append(places, *in.Prefix)
	}
	for _, key := range places {
		x, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: middle.Who(ctx).Subject, Do: access.List, Bucket: bucket, Key: key})
		switch {
		case err != nil:
			return false, err
		case x.Allowed:
		case in.Rehearse || in.Prefix != nil:
			return false, d.MayAt(ctx, access.List, bucket, key)
		default:
			return false, nil
		}
	}
	return true, nil
}

func addUsage(q *api.Quantity, u catalog.Usage) {
	q.Objects, q.Bytes, q.Previous, q.PreviousBytes, q.Markers = q.Objects+u.Objects, q.Bytes+u.Bytes,
		q.Previous+u.Previous, q.PreviousBytes+u.PreviousBytes, q.Markers+u.Markers
}

func (d *Desk) removeObjects(ctx context.Context, bucket string, in api.RemoveIn) (q api.Quantity, err error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return q, err
	}
	f, err := d.Store.Facts(ctx, name)
	if err != nil {
		return q, err
	}
	tells, err := d.tellsOfRemovals(ctx, name, in)
	if err != nil {
		return q, err
	}
	removals, err := d.removals(ctx, name, in, tells, &q)
	if err != nil {
		return q, err
	}
	if in.Prefix != nil {
		if err := object.CheckText("prefix", *in.Prefix); err != nil {
			return q, err
		}
		if err := d.MayAt(ctx, access.Remove, name, *in.Prefix); err != nil {
			return q, err
		}
	}
	if !tells {
		q.Objects = int64(len(in.Keys))
	} else if len(in.Keys) > 0 {
		if q.Objects, q.Bytes, err = d.Store.Catalog.CountKeys(ctx, f.ID, in.Keys); err != nil {
			return q, err
		}
	}
	if in.Rehearse {
		q.Versioning = f.Versioning.String()
		return q, d.rehearseUnder(ctx, f.ID, in, &q)
	}
	if len(removals) > 0 {
		_, errs, err := d.Store.RemoveMany(ctx, name, removals, middle.Author(ctx))
		if err := errors.Join(append(errs, err)...); err != nil {
			return q, err
		}
	}
	return q, d.removeUnder(ctx, name, in, &q)
}

// removals gives the keys and versions that are named, each of which whoever asks may
// remove, and counts the versions.
func (d *Desk) removals(ctx context.Context, bucket object.BucketName, in api.RemoveIn, tells bool, q *api.Quantity) (
	removals []store.Removal, err error) {
	for _, n := range in.Keys {
		k, err := object.ParseKey(n)
		if err != nil {
			return nil, err
		}
		if err := d.May(ctx, access.Remove, catalog.Address{Bucket: bucket, Key: k}); err != nil {
			return nil, err
		}
		removals = append(removals, store.Removal{Key: k})
	}
	for _, n := range in.Versions {
		k, err := object.ParseKey(n.Key)
		if err != nil {
			return nil, err
		}
		a := catalog.Address{Bucket: bucket, Key: k}
		if err := d.May(ctx, access.Remove, a); err != nil {
			return nil, err
		}
		id, err := object.ParseVersionID(n.Version)
		if err != nil {
			return nil, err
		}
		removals = append(removals, store.Removal{Key: k, ID: id})
		if !tells {
			q.Previous++
			continue
		}
		v, err := d.Store.FindVersion(ctx, a, id)
		if err != nil {
			return nil, err
		}
		if v.Marker {
			q.Markers++
		} else {
			q.Previous++
			q.PreviousBytes += v.Size
		}
	}
	return removals, nil
}

// rehearseUnder counts what is beneath the prefix, if one is named.
func (d *Desk) rehearseUnder(ctx context.Context, bucket int64, in api.RemoveIn, q *api.Quantity) error {
	if in.Prefix == nil {
		return nil
	}
	u, err := d.Store.Catalog.CountAll(ctx, bucket, *in.Prefix)
	if !in.WithVersions {
		u.Previous, u.PreviousBytes, u.Markers = 0, 0, 0
	}
	addUsage(q, u)
	return err
}

// removeUnder removes a first step of what is beneath the prefix, if one is named.
func (d *Desk) removeUnder(ctx context.Context, bucket object.BucketName, in api.RemoveIn, q *api.Quantity) error {
	if in.Prefix == nil {
		return nil
	}
	step := d.Store.RemoveUnder
	if in.WithVersions {
		step = d.Store.PurgeUnder
	}
	c, err := step(ctx, bucket, *in.Prefix, 1000, middle.Author(ctx))
	if err == nil {
		addUsage(q, c.Usage)
		q.More, q.Retained = c.More, c.Retained[:min(len(c.Retained), 100)]
	}
	return err
}

func (d *Desk) removeObjectsCall(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RemoveAsk
}) (*quantityOut, error) {
	q, err := d.removeObjects(ctx, in.Bucket, in.Body.RemoveIn)
	if err != nil {
		return nil, err
	}
	return &quantityOut{q}, nil
}
