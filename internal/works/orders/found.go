package orders

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
	"spindle/internal/store"
)

// foundKind does something with the objects of a bucket that an expression finds.
var foundKind = Kind{Name: "found", Parallel: 2, Counts: []string{"annotated", "moved", "copied", "removed", "restored",
	"left"},
	Needs: foundNeeds, Prepare: prepareFound, Rehearse: rehearseFound, Step: foundStep}

func foundNeeds(o *catalog.Order) ([]Need, error) {
	f := o.What.Found
	if f == nil {
		return nil, fault.New(fault.Invalid, "order-found",
			"the order does not say what is to be found").In("where").Do("give an expression")
	}
	looks := access.List | access.Read
	switch query.Act(f.Act) {
	case query.ActRemove:
		return []Need{{looks | access.Remove, o.Bucket, ""}}, nil
	case query.ActCopy:
		to, err := object.ParseBucketName(o.What.ToBucket)
		return []Need{{looks, o.Bucket, ""}, {access.Write, to, string(o.What.ToPrefix)}}, err
	case query.ActAnnotate, query.ActMove, query.ActPutBack:
		return []Need{{looks | access.Write, o.Bucket, ""}}, nil
	}
	return nil, fault.New(fault.Invalid, "order-act", "nothing is called %q", f.Act).In("act").
		Do("choose from annotate, move, copy, remove, put-back")
}

// foundQuestion gives what an order looks for.
func foundQuestion(ctx context.Context, s *store.Store, o *catalog.Order) (f catalog.Find, facts catalog.BucketFacts,
	err error) {
	if facts, err = s.Facts(ctx, o.Bucket); err != nil {
		return f, facts, err
	}
	f = catalog.Find{Bucket: facts.ID, Name: o.Bucket.String(), Now: o.What.Found.At, Limit: orderStep, Budget: 25_000,
		After: catalog.FindPlace{Key: string(o.Progress.Cursor)}}
	if f.Tiers, err = s.Tiers(ctx); err != nil {
		return f, facts, err
	}
	if f.Expr, err = query.Parse(o.What.Found.Where, f.Now); err != nil {
		err = fault.From(err).In("where")
	}
	return f, facts, err
}

func prepareFound(ctx context.Context, s *store.Store, o *catalog.Order) error {
	what := *o.What.Found
	o.What.Found = &what
	if what.At.IsZero() { // ages are counted to when it was ordered, and what is newer is left alone
		what.At = s.Catalog.Now().UTC().Truncate(time.Microsecond)
	}
	f, facts, err := foundQuestion(ctx, s, o)
	if err != nil {
		return err
	}
	what.Where = f.Expr.String()
	switch query.Act(what.Act) {
	case query.ActMove:
		_, err = s.TierFor(ctx, o.Bucket, what.Tier)
	case query.ActPutBack:
		if err = needVersioning(facts); err == nil {
			err = catalog.BucketBefore(facts, o.What.AsOf)
		}
	case query.ActAnnotate:
		if what.Metadata.Empty() && what.Tags.Empty() {
			err = fault.New(fault.Invalid, "no-change",
				"nothing to change was given").In("metadata").Do("set or unset a field or a tag")
		}
	case query.ActCopy:
		var to object.BucketName
		if to, err = object.ParseBucketName(o.What.ToBucket); err == nil {
			var there catalog.BucketFacts
			there, err = s.Facts(ctx, to)
			o.What.ToID = there.ID
		}
		if err == nil && to == o.Bucket && len(o.What.ToPrefix) == 0 {
			err = fault.New(fault.Invalid, "copy-to-itself", "source and target are the same").In("toPrefix").Do("give a prefix")
		}
	}
	return err
}

func rehearseFound(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, _, err := foundQuestion(ctx, s, o)
	if err != nil {
		return r, err
	}
	n, bytes, err := s.Catalog.CountFound(ctx, f)
	r.Counts, r.Bytes = map[string]int64{query.Acts[query.Act(o.What.Found.Act)]: n}, bytes
	if expect := o.What.Found.Expect; err == nil && expect != nil && n > *expect {
		err = fault.New(fault.Precondition, "guard", "%d objects match by now, and %d were agreed to", n,
			*expect).In("expect").
			Do("rehearse it again, and agree to what it says")
	}
	return r, err
}

// foundStep does the next few that are found. What was written after the order was given is
// left alone, so copies are not copied again.
func foundStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	f, facts, err := foundQuestion(ctx, s, o)
	if err != nil {
		return false, err
	}
	page, err := s.Catalog.Find(ctx, f)
	if err != nil {
		return false, err
	}
	a := &foundAct{s: s, o: o, bucket: facts.ID, tiers: f.Tiers}
	for few := range slices.Chunk(page.Found, 16) {
		p := o.Progress.Clone()
		var mu sync.Mutex
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(8)
		for _, v := range few {
			g.Go(func() error {
				counter, bytes, err := a.do(gctx, v.Version)
				mu.Lock()
				defer mu.Unlock()
				p.Count(counter, 1, bytes)
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return false, err
		}
		p.Cursor = []byte(few[len(few)-1].Key.String())
		o.Progress = p
	}
	if page.Next.Key != "" {
		o.Progress.Cursor = []byte(page.Next.Key)
	}
	return page.Next.Key != "", nil
}

type foundAct struct {
	s      *store.Store
	o      *catalog.Order
	bucket int64
	tiers  tier.Set
}

// passing are errors of objects that changed meanwhile, or are so already.
var passing = []string{"key-missing", "key-deleted", "version-missing", "version-current", "version-moved", "mismatch",
	"exists"}

// do acts on one object, and says which counter tells of it.
func (a *foundAct) do(ctx context.Context, v *object.Version) (counter string, bytes int64, err error) {
	what := a.o.What.Found
	if v.Created.After(what.At) {
		return "left", 0, nil
	}
	if err = a.act(ctx, v); err == nil {
		return query.Acts[query.Act(what.Act)], v.Size, nil
	}
	if slices.Contains(passing, fault.From(err).Code) {
		return "left", 0, nil
	}
	return "", 0, fmt.Errorf("%s: %w", v.Key, err)
}

func (a *foundAct) act(ctx context.Context, v *object.Version) error {
	what := a.o.What.Found
	at := catalog.Address{Bucket: a.o.Bucket, Key: v.Key}
	switch query.Act(what.Act) {
	case query.ActAnnotate:
		_, err := a.s.Annotate(ctx, store.Annotation{Address: at, ID: v.ID(), Author: author(a.o), Metadata: what.Metadata,
			Tags: what.Tags})
		return err
	case query.ActMove:
		t, err := a.tiers.Find(what.Tier)
		if err == nil {
			_, err = a.s.Move(ctx, a.bucket, v, t, store.Moving{Author: author(a.o)})
		}
		return err
	case query.ActCopy:
		to, err := object.ParseBucketName(a.o.What.ToBucket)
		if err != nil {
			return err
		}
		key, err := object.ParseKey(string(a.o.What.ToPrefix) + v.Key.String())
		if err != nil {
			return err
		}
		_, err = a.s.Copy(ctx, store.Copy{From: at, FromID: v.ID(), To: catalog.Address{Bucket: to, Key: key},
			Author:   author(a.o),
			IfAbsent: !a.o.What.Replace})
		return err
	case query.ActRemove:
		_, err := a.s.Remove(ctx, at, &v.ETag, author(a.o))
		return err
	case query.ActPutBack:
		_, err := a.s.Restore(ctx, at, object.Current, a.o.What.AsOf, author(a.o))
		return err
	}
	return fault.New(fault.Internal, "order-act", "nothing is called %q", what.Act)
}

// Mend makes the copies or pieces of a version's body anew that are not as they should be, from
// good ones; limit is asked before bytes are read.
func Mend(ctx context.Context, st *store.Store, s catalog.Stored, limit func(n int) error) (m bodies.Mended,
	err error) {
	v := s.Version
	space, err := st.Spaces.Of(v.Body.Tier)
	if err != nil {
		return m, err
	}
	of, ok := space.(Mender)
	if !ok {
		return m, space.Check(ctx, v.Body, v.Size, v.CRC64, limit)
	}
	if m, err = of.Mend(ctx, v.Body, v.Size, v.CRC64, limit); err != nil {
		return m, err
	}
	if m.Failed != nil { // it is made when the disk takes it
		if err := st.Catalog.Owe(ctx, m.BodyFile, m.Has, m.Lacks); err != nil {
			return m, err
		}
	}
	if m.Copies == 0 {
		return m, nil
	}
	return m, st.Catalog.NoteMended(ctx, s.Bucket, v, m.Copies, m.Says)
}

// NoteCheck notes what reading a body said: that it is damaged, or that it is sound again. Only
// bytes that were read say so; a volume that is away says nothing.
func NoteCheck(ctx context.Context, st *store.Store, s catalog.Stored, found error) (damaged bool, err error) {
	v := s.Version
	switch {
	case fault.HasCode(found, "volume-away"):
		return false, nil // it is no loss; the overview tells of it
	case found == nil:
		return false, st.Catalog.MendDamage(ctx, s.Bucket, v, st.Catalog.Now())
	case !unreadable(ctx, found):
		return false, found
	}
	// It is none if the body was moved or replaced while we looked.
	return st.Catalog.ReportDamage(ctx, s.Bucket, v, fault.From(found).Message, st.Catalog.Now())
}

// unreadable reports whether an error is of the bytes: they are not what they were, or the disk
// does not give them.
func unreadable(ctx context.Context, err error) bool {
	kind := fault.KindOf(err)
	return kind == fault.Damaged || kind == fault.Internal && ctx.Err() == nil && !fault.HasCode(err, "database-error")
}

// Mender is a space that keeps several copies.
type Mender interface {
	Mend(ctx context.Context, ref object.BodyRef, size int64, crc uint64, limit func(n int) error) (bodies.Mended, error)
}
