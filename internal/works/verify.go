package works

import (
	"context"
	"maps"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/store"
)

// Difference is an object that is not the same on both sides.
type Difference struct {
	Key  string `json:"key" doc:"Of the source"`
	What string `json:"what" enum:"missing,other,extra"`
	Says string `json:"says"`
}

// Verified is what a comparison of both sides came to so far.
type Verified struct {
	At       time.Time `json:"at"`
	Objects  int64     `json:"objects" doc:"Of the source, that were compared"`
	Bytes    int64     `json:"bytes" doc:"Of them"`
	Missing  int64     `json:"missing" doc:"At the target"`
	Other    int64     `json:"other" doc:"In size, digest or metadata"`
	Extra    int64     `json:"extra" doc:"At the target alone"`
	Waiting  int64     `json:"waiting" doc:"That differ, and wait to be copied"`
	Repaired int64     `json:"repaired" doc:"That were asked to be copied again"`
	Good     bool      `json:"good" doc:"Every object of the source is there as it is"`
	Deep     bool      `json:"deep" doc:"Each was asked for at the target"`
}

// Verifying says how both sides of a rule are compared.
type Verifying struct {
	Store  *store.Store
	Remote *remote.Pool
	Rule   *replication.Rule
	Target *replication.Target
	Deep   bool // ask for each object there: version, digest of the content, metadata
	Repair bool // have what is missing or another be copied again

	Differs func(Difference) error // hears of each difference
	Tell    func(Verified)         // hears now and then how far it is
}

const (
	comparedAtOnce = 10_000 // rows of the source
	listedAtOnce   = 1000   // keys of a bucket at an endpoint
	askedTogether  = 256    // objects, when each is asked for
	askedAtOnce    = 16     // of them, side by side
)

// Run compares both sides in one walk through their keys, in order, and keeps what came
// of it. Neither side is read into memory; what changes meanwhile may be told as waiting.
func (v *Verifying) Run(ctx context.Context) (Verified, error) {
	w := &verification{Verifying: v, out: Verified{At: v.Store.Catalog.Now(), Deep: v.Deep}}
	err := w.open(ctx)
	if err == nil {
		err = w.walk(ctx)
	}
	if err == nil {
		err = w.ask(ctx)
	}
	if err == nil {
		err = w.mend(ctx)
	}
	if err != nil {
		return w.out, err
	}
	w.out.Good = w.out.Missing+w.out.Other == 0
	return w.out, v.Store.Catalog.KeepVerify(ctx, v.Target.ID, w.out.At, w.out.Good, w.out)
}

type verification struct {
	*Verifying
	there side.Side
	out   Verified
	again [][]byte
	asks  []asked
	told  time.Time
}

func (w *verification) open(ctx context.Context) error {
	if w.Target.EndpointID == 0 {
		name, err := object.ParseBucketName(w.Target.Bucket)
		w.there = &side.Here{Store: w.Store, Bucket: name}
		return err
	}
	conn, err := w.Remote.Get(ctx, w.Target.EndpointID)
	w.there = &side.There{Conn: conn, Bucket: w.Target.Bucket}
	return err
}

// walk merges the two ordered listings; the next page of each is fetched while this one
// is compared.
func (w *verification) walk(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	ours := pagesAhead(ctx, func(after string) ([]catalog.Compared, string, error) {
		page, err := w.Store.Catalog.ComparePage(ctx, w.Rule, w.Target.ID, after, comparedAtOnce)
		if err != nil || len(page) < comparedAtOnce {
			return page, "", err
		}
		return page, page[len(page)-1].Key, nil
	})
	prefix := w.Target.Key(w.Rule.Prefix)
	theirs := pagesAhead(ctx, func(after string) ([]side.Facts, string, error) {
		page, err := w.there.List(ctx, prefix, after, listedAtOnce)
		if err != nil || len(page) == 0 {
			return page, "", err
		}
		return page, page[len(page)-1].Key, nil
	})
	a, aok, err := ours.next()
	if err != nil {
		return err
	}
	b, bok, err := theirs.next()
	for err == nil && (aok || bok) {
		key := ""
		if aok {
			key = w.Target.Key(a.Key)
		}
		switch {
		case !bok || aok && key < b.Key:
			err = w.missing(a)
		case !aok || b.Key < key:
			err = w.extra(b)
		default:
			err = w.compare(ctx, a, b)
		}
		if err != nil {
			return err
		}
		forwardA, forwardB := aok && (!bok || key <= b.Key), bok && (!aok || b.Key <= key)
		if forwardA {
			a, aok, err = ours.next()
		}
		if forwardB && err == nil {
			b, bok, err = theirs.next()
		}
		w.tell()
	}
	return err
}

func (w *verification) tell() {
	if w.Tell != nil && time.Since(w.told) > 500*time.Millisecond {
		w.told = time.Now()
		w.Tell(w.out)
	}
}

func (w *verification) count(a catalog.Compared) {
	w.out.Objects++
	w.out.Bytes += a.Size
}

func (w *verification) missing(a catalog.Compared) error {
	w.count(a)
	return w.differs(a, "missing", "it is not there")
}

// differs notes a difference; what waits to be copied anyway is counted as such.
func (w *verification) differs(a catalog.Compared, what, says string) error {
	if a.Waiting {
		w.out.Waiting++
		return nil
	}
	if what == "missing" {
		w.out.Missing++
	} else {
		w.out.Other++
	}
	if w.Repair {
		w.again = append(w.again, []byte(a.Key))
	}
	if err := w.Differs(Difference{a.Key, what, says}); err != nil || len(w.again) < 500 {
		return err
	}
	return w.mend(context.Background())
}

// mend has what differs be copied again.
func (w *verification) mend(ctx context.Context) error {
	if len(w.again) == 0 {
		return nil
	}
	err := w.Store.Catalog.CopyAgain(ctx, w.Target.ID, w.again)
	if err == nil {
		w.out.Repaired += int64(len(w.again))
		w.again = w.again[:0]
	}
	return err
}

func (w *verification) extra(b side.Facts) error {
	w.out.Extra++
	return w.Differs(Difference{strings.TrimPrefix(b.Key, w.Target.Prefix), "extra", "it is there alone"})
}

// compare compares an object that is on both sides, by what the listing tells and what
// was confirmed when it was copied.
func (w *verification) compare(ctx context.Context, a catalog.Compared, b side.Facts) error {
	w.count(a)
	switch {
	case a.Size != b.Size:
		return w.differs(a, "other", "its size is another one")
	case !a.Known || a.Have.Number == 0 || a.Have.Gone:
		return w.unknown(ctx, a, b)
	case a.Have.ETag != b.ETag:
		return w.differs(a, "other", "its content is another one: the ETag is not the one that was confirmed")
	case a.Have.Number != a.Number:
		return w.differs(a, "other", "it is an earlier version")
	case a.Have.Revision != a.Revision:
		return w.differs(a, "other", "its metadata are of an earlier revision")
	case w.Deep:
		if w.asks = append(w.asks, asked{here: a, there: b}); len(w.asks) == askedTogether {
			return w.ask(ctx)
		}
	}
	return nil
}

// unknown compares what nobody copied by the rule: the same content is as good as a copy.
func (w *verification) unknown(ctx context.Context, a catalog.Compared, b side.Facts) error {
	if a.Waiting {
		w.out.Waiting++
		return nil
	}
	same := a.ETag.Parts == 0 && strings.EqualFold(a.ETag.String(), b.ETag) || b.CRC64 != nil && *b.CRC64 == a.CRC64
	if !same {
		return w.differs(a, "other", "it was not copied by the rule, and its content is another one")
	}
	if w.Repair {
		return w.Store.Catalog.AdoptReplica(ctx, w.Target.ID, a, b.ETag, b.Version)
	}
	return nil
}

// asked is an object that the target is asked for.
type asked struct {
	here       catalog.Compared
	there      side.Facts
	what, says string // how they differ; "" when they do not
	changed    bool   // meanwhile
}

// ask has the target be asked for objects, some at a time, and counts what differs.
func (w *verification) ask(ctx context.Context) error {
	var g errgroup.Group
	g.SetLimit(askedAtOnce)
	for i := range w.asks {
		g.Go(func() error { return w.askOne(ctx, &w.asks[i]) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, x := range w.asks {
		if x.changed {
			w.out.Waiting++
		} else if x.what != "" {
			if err := w.differs(x.here, x.what, x.says); err != nil {
				return err
			}
		}
	}
	w.asks = w.asks[:0]
	w.tell()
	return nil
}

// askOne compares an object with what the target says when it is asked for it.
func (w *verification) askOne(ctx context.Context, x *asked) error {
	is, err := w.there.Stat(ctx, x.there.Key)
	if fault.KindOf(err) == fault.NotFound && err != nil {
		x.what, x.says = "missing", "it is not there any more"
		return nil
	}
	if err != nil {
		return err
	}
	key, err := object.ParseKey(x.here.Key)
	if err != nil {
		return err
	}
	bucket, err := object.ParseBucketName(w.Rule.Bucket)
	if err != nil {
		return err
	}
	v, err := w.Store.Find(ctx, catalog.Address{Bucket: bucket, Key: key})
	if fault.KindOf(err) == fault.NotFound && err != nil || err == nil && v.Number != x.here.Number {
		x.changed = true
		return nil
	}
	if err != nil {
		return err
	}
	if x.says = apart(v, is, x.here.Have.Version); x.says != "" {
		x.what = "other"
	}
	return nil
}

// apart says in what a version and its copy differ, "" when they do not.
func apart(v *object.Version, is side.Facts, version string) string {
	switch {
	case is.CRC64 != nil && *is.CRC64 != v.CRC64:
		return "its content has another digest"
	case version != "" && is.Version != "" && version != is.Version:
		return "it is another version than the one that was confirmed"
	case !maps.Equal(is.Metadata, v.Metadata):
		return "its metadata are others"
	case is.Tags != nil && !maps.Equal(is.Tags, v.Tags):
		return "its tags are others"
	}
	return ""
}

// ahead reads pages, the next one while this one is used.
type ahead[T any] struct {
	ctx   context.Context
	pages chan page[T]
	now   []T
}

type page[T any] struct {
	rows []T
	err  error
}

// pagesAhead begins to read pages; get gives the one after a place and the next place, ""
// at the end. It ends with the context.
func pagesAhead[T any](ctx context.Context, get func(after string) ([]T, string, error)) *ahead[T] {
	a := &ahead[T]{ctx: ctx, pages: make(chan page[T], 1)}
	go func() {
		defer close(a.pages)
		for after := ""; ; {
			rows, next, err := get(after)
			select {
			case a.pages <- page[T]{rows, err}:
			case <-ctx.Done():
				return
			}
			if err != nil || next == "" {
				return
			}
			after = next
		}
	}()
	return a
}

func (a *ahead[T]) next() (row T, ok bool, err error) {
	for len(a.now) == 0 {
		p, more := <-a.pages
		if !more { // at the end, or because nobody wants more
			return row, false, a.ctx.Err()
		}
		if p.err != nil {
			return row, false, p.err
		}
		a.now = p.rows
	}
	row, a.now = a.now[0], a.now[1:]
	return row, true, nil
}
