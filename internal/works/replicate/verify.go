package replicate

import (
	"context"
	"io"
	"maps"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/store"
)

// Verifying says how both sides of a rule are compared.
type Verifying struct {
	Store  *store.Store
	Remote *remote.Pool
	Rule   *replication.Rule
	Target *replication.Target
	Deep   bool   // read the bytes of each object there, beside version and metadata
	Repair bool   // have what is missing, damaged or another be copied again
	After  string // only objects whose keys come after it
	Most   int64  // bytes that are read there before it ends; 0: as many as there are

	Differs func(replication.Difference) error // hears of each difference
	Tell    func(replication.Verified)         // hears now and then how far it is
}

const (
	comparedAtOnce = 10_000 // rows of the source
	listedAtOnce   = 1000   // keys of a bucket at an endpoint
	askedTogether  = 256    // objects, when each is asked for
	askedAtOnce    = 8      // of them, side by side
)

// Run compares both sides in one walk through their keys, in order, and keeps what came
// of it. Neither side is read into memory; what changes meanwhile may be told as waiting.
func (v *Verifying) Run(ctx context.Context) (replication.Verified, error) {
	w := &verification{Verifying: v, out: replication.Verified{At: v.Store.Catalog.Now(), Deep: v.Deep}}
	if v.Target.EndpointID == 0 {
		w.place = v.Store.Place(v.Target.Bucket)
	}
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
	w.out.Good = w.out.Missing+w.out.Other == 0 && w.out.Next == "" && v.After == ""
	return w.out, v.Store.Catalog.KeepVerify(ctx, v.Target.ID, w.out.At, w.out.Good, w.out)
}

type verification struct {
	*Verifying
	there  side.Side
	place  string // of the target, when it is known
	out    replication.Verified
	again  map[string][][]byte // keys to be copied again, by how they differ
	agains int
	read   atomic.Int64
	asks   []asked
	told   time.Time
	last   string // key that was compared
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
		return page, page[len(page)-1].Key.String(), nil
	}, w.After)
	prefix := w.Target.Key(w.Rule.Prefix)
	theirs := pagesAhead(ctx, func(after string) ([]side.Facts, string, error) {
		var page []side.Facts
		err := side.Patiently(ctx, func() (err error) {
			page, err = w.there.List(ctx, prefix, after, listedAtOnce)
			return err
		})
		if err != nil || len(page) == 0 {
			return page, "", err
		}
		return page, page[len(page)-1].Key, nil
	}, w.Target.Key(w.After))
	a, aok, err := ours.next()
	if err != nil {
		return err
	}
	b, bok, err := theirs.next()
	for err == nil && (aok || bok) {
		key := ""
		if aok {
			key = w.Target.Key(a.Key.String())
		}
		if aok && w.Most > 0 && w.read.Load() >= w.Most {
			w.out.Next = w.last
			return nil
		}
		switch {
		case !bok || aok && key < b.Key:
			err = w.missing(ctx, a)
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
			w.last = a.Key.String()
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
	w.out.Read = w.read.Load()
	if w.Tell != nil && time.Since(w.told) > 500*time.Millisecond {
		w.told = time.Now()
		w.Tell(w.out)
	}
}

func (w *verification) count(a catalog.Compared) {
	w.out.Objects++
	w.out.Bytes += a.Size
}

// meant reports whether an object ought to be at the target by the rule. What came from there,
// and what came here as a replica and stays here, is neither missing there nor too much.
func (w *verification) meant(a catalog.Compared) bool {
	o := replication.ParseOrigin(a.Origin)
	if !o.IsZero() && (!w.Rule.Onward || w.place != "" && o.Passed(w.place)) {
		return false
	}
	ok, _ := w.Rule.Covers(a.Version)
	return ok
}

func (w *verification) missing(ctx context.Context, a catalog.Compared) error {
	if !w.meant(a) {
		return nil
	}
	w.count(a)
	return w.differs(ctx, a, "missing", "it is not there")
}

// differs notes a difference; what waits to be copied anyway is counted as such, and so is what
// was accepted.
func (w *verification) differs(ctx context.Context, a catalog.Compared, what, says string) error {
	switch {
	case a.Waiting:
		w.out.Waiting++
		return nil
	case a.Have.Accepted == a.Number:
		w.out.Accepted++
		return nil
	case what == "missing":
		w.out.Missing++
	default:
		w.out.Other++
	}
	if w.Repair {
		if w.again == nil {
			w.again = map[string][][]byte{}
		}
		w.again[what] = append(w.again[what], []byte(a.Key.String()))
		w.agains++
	}
	if err := w.Differs(replication.Difference{Key: a.Key.String(), What: what, Says: says}); err != nil ||
		w.agains < 500 {
		return err
	}
	return w.mend(ctx)
}

// mend has what differs be copied again. What was removed at the target later than it was
// written here comes back as well, unless the target replicates to the source: then its
// removal is on its way here.
func (w *verification) mend(ctx context.Context) error {
	if w.agains == 0 {
		return nil
	}
	back, err := w.comesBack(ctx)
	if err != nil {
		return err
	}
	for what, keys := range w.again {
		if err := w.Store.Catalog.CopyAgain(ctx, w.Target.ID, keys, what == "missing" && !back); err != nil {
			return err
		}
		w.out.Repaired += int64(len(keys))
	}
	w.again, w.agains = nil, 0
	return nil
}

// comesBack reports whether the target may replicate to the source: here it is known, elsewhere
// it is not.
func (w *verification) comesBack(ctx context.Context) (bool, error) {
	if w.Target.EndpointID != 0 {
		return true, nil
	}
	book, err := w.Store.Replications(ctx)
	if err != nil {
		return false, err
	}
	for _, r := range book.Rules {
		for _, t := range r.Targets {
			if r.Bucket == w.Target.Bucket && t.EndpointID == 0 && t.Bucket == w.Rule.Bucket {
				return true, nil
			}
		}
	}
	return false, nil
}

func (w *verification) extra(b side.Facts) error {
	w.out.Extra++
	return w.Differs(replication.Difference{Key: strings.TrimPrefix(b.Key, w.Target.Prefix), What: "extra",
		Says: "it is there alone"})
}

// compare compares an object that is on both sides, by what the listing tells and what
// was confirmed when it was copied.
func (w *verification) compare(ctx context.Context, a catalog.Compared, b side.Facts) error {
	if !w.meant(a) {
		return nil
	}
	w.count(a)
	switch {
	case a.Size != b.Size:
		return w.differs(ctx, a, "other", "its size is another one")
	case !a.Known || a.Have.Number == 0 || a.Have.Gone || a.Have.ETag == "":
		return w.unknown(ctx, a, b)
	case a.Have.ETag != b.ETag:
		return w.differs(ctx, a, "other", "its content is another one: the ETag is not the one that was confirmed")
	case a.Have.Number != a.Number:
		return w.differs(ctx, a, "other", "it is an earlier version")
	case a.Have.Revision != a.Revision:
		return w.differs(ctx, a, "other", "its metadata are of an earlier revision")
	case w.Deep:
		return w.later(ctx, a, b)
	}
	return nil
}

// later has the target be asked for an object, beside others.
func (w *verification) later(ctx context.Context, a catalog.Compared, b side.Facts) error {
	if w.asks = append(w.asks, asked{here: a, there: b}); len(w.asks) == askedTogether {
		return w.ask(ctx)
	}
	return nil
}

// unknown compares what nobody copied by the rule: the same content is as good as a copy.
func (w *verification) unknown(ctx context.Context, a catalog.Compared, b side.Facts) error {
	if a.Waiting {
		w.out.Waiting++
		return nil
	}
	switch {
	case b.CRC64 == nil && a.ETag.Parts > 0 && !w.Deep: // the listing does not tell: the object does
		return w.later(ctx, a, b)
	case b.CRC64 != nil && *b.CRC64 != a.CRC64, b.CRC64 == nil && a.ETag.Parts == 0 && !strings.EqualFold(a.ETag.String(),
		b.ETag):
		return w.differs(ctx, a, "other", "it was not copied by the rule, and its content is another one")
	case w.Deep:
		return w.later(ctx, a, b)
	case w.Repair:
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
			if err := w.differs(ctx, x.here, x.what, x.says); err != nil {
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
	var is side.Facts
	err := side.Patiently(ctx, func() (err error) {
		is, err = w.there.Stat(ctx, x.there.Key)
		return err
	})
	if fault.KindOf(err) == fault.NotFound && err != nil {
		x.what, x.says = "missing", "it is not there any more"
		return nil
	}
	if err != nil {
		return err
	}
	bucket, err := object.ParseBucketName(w.Rule.Bucket)
	if err != nil {
		return err
	}
	if x.says = apart(x.here.Version, is, x.here.Have.Version); x.says == "" && w.Deep {
		if x.says, err = w.readBack(ctx, x, is); err != nil {
			return err
		}
	}
	if x.says == "" {
		return nil
	}
	x.what = "other"
	v, err := w.Store.Find(ctx, catalog.Address{Bucket: bucket, Key: x.here.Key})
	if fault.KindOf(err) == fault.NotFound && err != nil || err == nil && v.Number != x.here.Number {
		x.changed = true
		return nil
	}
	return err
}

// readBack reads an object at the target and says what is wrong with its bytes, "" for nothing.
// What breaks off is read again: a line breaks now and then, and a damaged body each time.
func (w *verification) readBack(ctx context.Context, x *asked, is side.Facts) (says string, err error) {
	var sum uint64
	for try := range 3 {
		if try > 0 {
			select {
			case <-ctx.Done():
				return "", ctx.Err()
			case <-time.After(time.Second):
			}
		}
		if sum, err = w.readOnce(ctx, x.there.Key, is); err == nil || !remote.Away(err) || ctx.Err() != nil {
			break
		}
	}
	if err != nil && remote.Away(err) {
		if _, away := w.there.Stat(ctx, x.there.Key); away != nil {
			return "", err
		}
	}
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case err != nil:
		return "it cannot be read there: " + fault.From(err).Message, nil
	case sum != x.here.CRC64:
		return "its bytes are damaged there: they have another digest", nil
	}
	return "", nil
}

func (w *verification) readOnce(ctx context.Context, key string, is side.Facts) (uint64, error) {
	r, err := w.there.Read(ctx, key, is.ETag, 0, is.Size)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	sum := digest.NewCRC64()
	n, err := io.Copy(sum, r)
	w.read.Add(n)
	return sum.Sum64(), err
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
// at the end, and from is the first one. It ends with the context.
func pagesAhead[T any](ctx context.Context, get func(after string) ([]T, string, error), from string) *ahead[T] {
	a := &ahead[T]{ctx: ctx, pages: make(chan page[T], 1)}
	go func() {
		defer close(a.pages)
		for after := from; ; {
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
