package orders

import (
	"context"
	"errors"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// renameKind renames all beneath a prefix. No bytes are moved.
var renameKind = Kind{Name: "rename", Parallel: 2, Counts: []string{"renamed"}, Needs: renameNeeds,
	Prepare: prepareRename, Rehearse: rehearseRename, Step: renameStep}

func renameNeeds(o *catalog.Order) ([]Need, error) {
	to := o.Bucket
	if o.What.ToBucket != "" {
		var err error
		if to, err = object.ParseBucketName(o.What.ToBucket); err != nil {
			return nil, err
		}
	}
	return []Need{{access.List | access.Read | access.Remove, o.Bucket, string(o.What.Prefix)},
		{access.Write, to, string(o.What.ToPrefix)}}, nil
}

// prepareRename refuses a target beneath the source, and notes which bucket is meant.
func prepareRename(ctx context.Context, s *store.Store, o *catalog.Order) error {
	to, err := object.ParseBucketName(o.What.ToBucket)
	if err != nil {
		return err
	}
	if to == o.Bucket && strings.HasPrefix(string(o.What.ToPrefix), string(o.What.Prefix)) {
		return fault.New(fault.Invalid, "rename-beneath", "the new prefix lies beneath the old one").In("target").
			Do("choose one that does not")
	}
	f, err := s.Catalog.Facts(ctx, to)
	o.What.ToID = f.ID
	return err
}

// renamed gives the new key of an object beneath the prefix.
func renamed(o *catalog.Order, key string) (object.Key, error) {
	return object.ParseKey(string(o.What.ToPrefix) + strings.TrimPrefix(key, string(o.What.Prefix)))
}

func rehearseRename(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return r, err
	}
	r.Counts = map[string]int64{"renamed": 0}
	for after := ""; ; {
		page, more, err := s.Catalog.List(ctx, catalog.Listing{Bucket: f.ID, Prefix: string(o.What.Prefix), After: after,
			Max: 1000})
		if err != nil {
			return r, err
		}
		names := make([]string, len(page))
		for i, e := range page {
			r.Counts["renamed"]++
			r.Bytes += e.Version.Size
			after = e.Name()
			key, err := renamed(o, after)
			if err != nil {
				return r, err
			}
			names[i] = key.String()
		}
		taken, err := s.Catalog.Taken(ctx, o.What.ToID, names)
		if err != nil {
			return r, err
		}
		if r.Taken += int64(len(taken)); r.First == "" && len(taken) > 0 {
			r.First = taken[0]
		}
		if !more {
			return r, nil
		}
	}
}

// renameStep renames the next objects. What is renamed is no longer beneath the
// prefix, so the same step again goes on where this one stopped.
func renameStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	to, err := object.ParseBucketName(o.What.ToBucket)
	if err != nil {
		return false, err
	}
	page, more, err := s.List(ctx, o.Bucket, catalog.Listing{Prefix: string(o.What.Prefix), Max: orderStep})
	if err != nil {
		return false, err
	}
	list := make([]store.Renaming, len(page))
	for i, e := range page {
		list[i].From = e.Version.Key
		if list[i].To, err = renamed(o, e.Version.Key.String()); err != nil {
			return false, err
		}
	}
	var p catalog.OrderProgress
	ok, err := s.RenameMany(ctx, o.Bucket, to, list, o.What.Replace, author(o),
		func(made []*object.Version) (int64, catalog.OrderProgress) {
			p = o.Progress.Clone()
			for _, v := range made {
				if v != nil {
					p.Count("renamed", 1, v.Size)
				}
			}
			return o.ID, p
		})
	if at := (*catalog.RefusedKey)(nil); errors.As(err, &at) && fault.HasCode(err, "exists") {
		return false, taken(to, at.Key)
	}
	if err != nil {
		return false, err
	}
	if !ok {
		return more, renameSingly(ctx, s, o, to, list)
	}
	o.Progress = p
	return more, nil
}

// taken reports a target that is there already.
func taken(in object.BucketName, key string) error {
	return fault.New(fault.Precondition, "exists", "%s/%s is there already", in, key).In("target").
		Do("remove it, or let what is there be replaced (--yes)")
}

// renameSingly renames objects each in a transaction of its own.
func renameSingly(ctx context.Context, s *store.Store, o *catalog.Order, to object.BucketName,
	list []store.Renaming) error {
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, x := range list {
		g.Go(func() error {
			v, err := s.Copy(gctx, store.Copy{From: catalog.Address{Bucket: o.Bucket, Key: x.From},
				To: catalog.Address{Bucket: to, Key: x.To}, Author: author(o), Move: true, IfAbsent: !o.What.Replace})
			switch {
			case fault.HasCode(err, "key-missing"), fault.HasCode(err, "key-deleted"):
				return nil // somebody removed it meanwhile
			case fault.HasCode(err, "exists"):
				return taken(to, x.To.String())
			case err != nil:
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			o.Progress.Count("renamed", 1, v.Size)
			return nil
		})
	}
	return g.Wait()
}
