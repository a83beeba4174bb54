package store

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Store keeps objects.
type Store struct {
	Catalog *catalog.Catalog
	Spaces  *bodies.Spaces
	Region  string        // of new buckets
	Service string        // what this service is told apart by in the origins of replicas
	Sealer  bodies.Sealer // has the keys of sealed bodies in tiers that are added

	// PlaceOf gives a bucket at an endpoint in which a tier keeps bodies.
	PlaceOf func(tier.Place) bodies.Place

	facts  sync.Map // bucket name -> cachedFacts, of buckets without quota
	owners sync.Map // bucket name -> owner
	// DamageAtHand is how many damaged bodies a process knows by heart; of more the catalog is asked at
	// each read.
	DamageAtHand int
	damaged      atomic.Pointer[damageBook]
	damageMark   atomic.Int64 // when they were read
	damageMu     sync.Mutex   // of refreshes: an older answer never takes the place of a newer one
	tiers        atomic.Pointer[knownTiers]
	tiersMu      sync.Mutex
	ruleBook     atomic.Pointer[RuleBook]
	smalls       sync.Pool
	room         room
}

// roomFor is how long it is believed what an account's quota leaves.
const roomFor = 500 * time.Millisecond

// cachedFacts are believed while the buckets' mark is what it was before they were
// read; what an account's quota leaves is not, for longer than roomFor.
type cachedFacts struct {
	catalog.BucketFacts
	mark int64
	at   time.Time
}

// New makes a store of a catalog and the spaces for bodies.
func New(c *catalog.Catalog, spaces *bodies.Spaces, region string) *Store {
	s := &Store{Catalog: c, Spaces: spaces, Region: region}
	c.BodiesFirst = bodiesFirst
	s.smalls.New = func() any { b := make([]byte, bodies.SmallBody); return &b }
	s.DamageAtHand = damageAtHand
	s.damaged.Store(&damageBook{})
	return s
}

// Now gives whoever makes a change with its moment, by the database's clock and in the catalog's
// resolution.
func (s *Store) Now(a catalog.Author) catalog.Author {
	if a.At.IsZero() {
		a.At = s.Catalog.Now()
	}
	a.At = a.At.UTC().Truncate(time.Microsecond)
	return a
}

func (s *Store) bucketFacts(ctx context.Context, name object.BucketName) (f catalog.BucketFacts, cached bool,
	err error) {
	mark, err := s.Catalog.Mark(ctx, catalog.MarkBuckets)
	if err != nil {
		return f, false, err
	}
	now := time.Now()
	if c, ok := s.facts.Load(name); ok {
		if c := c.(cachedFacts); c.mark == mark && (c.AccountRoom == nil || now.Sub(c.at) < roomFor) {
			return c.BucketFacts, true, nil
		}
	}
	if f, err = s.Facts(ctx, name); err == nil && f.Room == nil {
		s.facts.Store(name, cachedFacts{f, mark, now})
	}
	return f, false, err
}

// Facts gives what holds of a bucket now.
func (s *Store) Facts(ctx context.Context, name object.BucketName) (catalog.BucketFacts, error) {
	f, err := s.Catalog.Facts(ctx, name)
	if err == nil {
		err = s.same(name, f.ID)
	}
	if err != nil {
		s.forget(name)
	}
	return f, err
}

// forget drops what is known of a bucket.
func (s *Store) forget(name object.BucketName) {
	s.facts.Delete(name)
	s.owners.Delete(name)
	s.Catalog.LookAgain()
}

type owner struct {
	bucket  int64
	account string
	mark    int64
}

// Owner gives the account that owns a bucket, as known for a second. What
// is then read or written by the bucket's name is of the same bucket, or fails
// with bucket-changed or bucket-missing.
func (s *Store) Owner(ctx context.Context, name object.BucketName) (string, error) {
	mark, err := s.Catalog.Mark(ctx, catalog.MarkBuckets)
	if err != nil {
		return "", err
	}
	if o, ok := s.owners.Load(name); ok && o.(owner).mark == mark {
		return o.(owner).account, nil
	}
	f, err := s.Catalog.Facts(ctx, name)
	if err != nil {
		s.forget(name)
		return "", err
	}
	s.owners.Store(name, owner{f.ID, f.Account, mark})
	return f.Account, nil
}

// same refuses a bucket that is not the one whose owner was asked for: it was
// removed and made again within seconds.
func (s *Store) same(name object.BucketName, id int64) error {
	if o, ok := s.owners.Load(name); ok && o.(owner).bucket != id {
		s.forget(name)
		return fault.New(fault.Unavailable, "bucket-changed", "the bucket %q was removed and made again just now", name).
			In("bucket").Do("try again")
	}
	return nil
}

// fits refuses what the account's quota has no room for.
func fits(f catalog.BucketFacts, adds int64) error {
	if f.AccountRoom == nil || adds <= *f.AccountRoom {
		return nil
	}
	return fault.New(fault.Full, "account-quota",
		"the quota of the account %q has room for %d bytes, and this would add %d", f.Account, max(0, *f.AccountRoom), adds).
		In("quota").Do("remove objects or previous versions, or have the operator raise the account's quota")
}

// Bucket reports whether a bucket is there and what it is set to, from what is
// known for a few seconds.
func (s *Store) Bucket(ctx context.Context, name object.BucketName) (catalog.BucketFacts, error) {
	f, _, err := s.bucketFacts(ctx, name)
	return f, err
}

// Deleted is the cause of the error key-deleted: the delete marker that hides
// the object.
type Deleted struct{ Marker *object.Version }

func (d *Deleted) Error() string { return "a delete marker is current" }

// Find gives the current version at an address. The errors for what is not
// there have the codes bucket-missing, key-missing and key-deleted; the last has
// a *Deleted among its causes.
func (s *Store) Find(ctx context.Context, a catalog.Address) (*object.Version, error) {
	f, err := s.Catalog.Lookup(ctx, a)
	if err == nil && f.Bucket != 0 {
		err = s.same(a.Bucket, f.Bucket)
	}
	switch {
	case err != nil:
		return nil, err
	case f.Bucket == 0:
		s.forget(a.Bucket)
		return nil, bucketMissing(a.Bucket)
	case f.Deleted != nil:
		return nil, keyDeleted(f.Deleted)
	case f.Version == nil:
		return nil, keyMissing()
	}
	return f.Version, nil
}

// FindVersion gives a version at an address: Current is what Find gives. A
// delete marker that is named comes back as such.
func (s *Store) FindVersion(ctx context.Context, a catalog.Address, id object.VersionID) (*object.Version, error) {
	if id == object.Current {
		return s.Find(ctx, a)
	}
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	v, err := s.Catalog.FindVersion(ctx, f.ID, a.Key, id)
	if err == nil && v.ID() != id { // a plain version has a number too, but is not named by it
		return nil, catalog.VersionMissing()
	}
	return v, err
}

// FindAsOf gives the version that was current at a moment, with the metadata of
// then. Beside the errors of Find there is bucket-later.
func (s *Store) FindAsOf(ctx context.Context, a catalog.Address, at time.Time) (*object.Version, error) {
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	if err := catalog.BucketBefore(f, at); err != nil {
		return nil, err
	}
	v, err := s.Catalog.FindAsOf(ctx, f.ID, a.Key, at)
	switch {
	case fault.HasCode(err, "version-missing"):
		return nil, fault.New(fault.NotFound, "key-missing",
			"the bucket had no object with this key at that moment, or what it had was removed for good").In("key").
			Do("the key's history says when it was there")
	case err == nil && v.Marker:
		return nil, keyDeleted(v)
	}
	return v, err
}

func bucketMissing(name object.BucketName) error {
	return fault.New(fault.NotFound, "bucket-missing", "there is no bucket named %q", name).In("bucket").
		Do("check the name, or create it")
}

func keyMissing() error {
	return fault.New(fault.NotFound, "key-missing", "the bucket has no object with this key").In("key").
		Do("list the bucket to see what is there; keys are compared byte by byte")
}

func keyDeleted(marker *object.Version) error {
	return fault.New(fault.NotFound, "key-deleted", "the object was deleted on %s; its versions are kept",
		marker.Created.Format("2006-01-02 at 15:04:05 MST")).
		In("key").Do("bring it back by removing the delete marker %s, or by restoring one of its versions", marker.ID()).
		Because(&Deleted{marker})
}

// Sealed reports whether the content of a version is encrypted at rest. An empty
// one counts as its bucket would have it.
func (s *Store) Sealed(ctx context.Context, bucket object.BucketName, v *object.Version) (bool, error) {
	switch {
	case v.Marker:
		return false, nil
	case v.Body.File > 0:
		return v.Body.Sealed(), nil
	case v.Body.File < 0:
		return s.Catalog.PartsSealed(ctx, -v.Body.File)
	}
	f, _, err := s.bucketFacts(ctx, bucket)
	return f.Sealing, err
}

// Convert writes a body anew, sealed or plain, and points what refers to it at
// that. It reports false when nothing did any more.
func (s *Store) Convert(ctx context.Context, o catalog.Misfit, sealed bool) (bool, error) {
	to, err := s.rewrite(ctx, &object.Version{Size: o.Size, CRC64: o.CRC64, Body: o.Body}, o.Body.Tier, sealed)
	defer to.Release()
	if err != nil {
		return false, err
	}
	return s.Catalog.ReplaceBody(ctx, o.Body, to.Ref)
}

// rewrite writes a body anew, as one piece in a tier, and checks it on the way. Release
// what comes back.
func (s *Store) rewrite(ctx context.Context, v *object.Version, to int16, sealed bool) (bodies.Written, error) {
	r, w := io.Pipe()
	go func() {
		w.CloseWithError(s.ReadAll(ctx, v, w, func(int) error { return ctx.Err() }))
	}()
	defer r.Close()
	space, err := s.space(ctx, to)
	if err != nil {
		return bodies.Written{}, err
	}
	written, err := space.Write(r, v.Size, sealed, nil, func(out bodies.Written) error {
		if out.Size != v.Size || out.CRC64 != v.CRC64 {
			return fault.New(fault.Damaged, "damaged", "the stored bytes are damaged: the digest is %016x, not %016x", out.CRC64,
				v.CRC64).Do("restore the object from a copy")
		}
		return nil
	})
	s.room.noteFull(err)
	return written, err
}

// Body is an open body. Close it.
type Body struct {
	size   int64
	bytes  []byte        // of a small body, checked
	whole  *bodies.Whole // of a large one
	pieces *pieces       // of one that came in parts
	free   func()
}

// Open opens the body of a version found at an address. If the body moved or
// the object was replaced since the look, it looks again: use the version that
// comes back.
func (s *Store) Open(ctx context.Context, a catalog.Address, v *object.Version) (*Body, *object.Version, error) {
	readable := v
	if v.Body.Tier != tier.Main { // which is always read at once
		f, _, err := s.bucketFacts(ctx, a.Bucket)
		if err == nil {
			readable, err = s.readable(ctx, f.ID, v)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	b, err := s.open(ctx, readable)
	if err == nil || fault.KindOf(err) != fault.Damaged {
		return b, v, err
	}
	facts, ferr := s.Facts(ctx, a.Bucket)
	if ferr != nil {
		return nil, nil, ferr
	}
	found, ferr := s.Catalog.FindVersion(ctx, facts.ID, a.Key, object.VersionID(v.Number))
	if fault.HasCode(ferr, "version-missing") {
		found, ferr = s.Find(ctx, a)
	}
	if ferr != nil {
		return nil, nil, ferr
	}
	if found.Body != v.Body {
		b, err = s.open(ctx, found)
		if err == nil || fault.KindOf(err) != fault.Damaged {
			return b, found, err
		}
	}
	if errors.Is(err, errMarked) {
		return nil, nil, err // nothing was read
	}
	if _, rerr := s.Catalog.ReportDamage(ctx, facts.ID, found, fault.From(err).Message, s.Catalog.Now()); rerr != nil {
		return nil, nil, rerr
	}
	return nil, nil, err
}

// Look opens the body of a version found at an address, and all of its parts when it has some,
// to see whether they are there. The errors are those of Open.
func (s *Store) Look(ctx context.Context, a catalog.Address, v *object.Version) error {
	b, v, err := s.Open(ctx, a, v)
	if err != nil {
		return err
	}
	defer b.Close()
	if b.pieces == nil {
		return nil
	}
	for after := 0; ; {
		list, err := s.Catalog.Parts(ctx, -v.Body.File, after, 1000)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, x := range list {
			after = x.Number
			part, err := s.open(ctx, piece(x))
			if err != nil {
				return err
			}
			part.Close()
		}
	}
}

// space gives the space of a tier, which another process may just have added.
func (s *Store) space(ctx context.Context, of int16) (bodies.Space, error) {
	space, err := s.Spaces.Of(of)
	if err == nil {
		return space, nil
	}
	if terr := s.RefreshTiers(ctx); terr != nil {
		return nil, terr
	}
	return s.Spaces.Of(of)
}

// errMarked is why a body is refused that is known to be damaged.
var errMarked = errors.New("it is marked as damaged")

func (s *Store) open(ctx context.Context, v *object.Version) (*Body, error) {
	switch {
	case v.Body.File == 0 && v.Size > 0:
		return nil, fault.New(fault.Damaged, "damaged", "nothing says where its bytes are").
			Do("restore the object from a copy")
	case v.Body.File == 0:
		return &Body{free: func() {}}, nil
	case v.Body.File < 0:
		b := &Body{size: v.Size, pieces: &pieces{s: s, v: v}, free: func() {}}
		return s.room.reads(b, s.Catalog.Now()), nil
	}
	if problem, err := s.damageOf(ctx, v.Body); err != nil {
		return nil, err
	} else if problem != "" {
		return nil, fault.New(fault.Damaged, "damaged", "%s", problem).
			Do("restore the object from a copy; the damage is reported on the overview").Because(errMarked)
	}
	space, err := s.space(ctx, v.Body.Tier)
	if err != nil {
		return nil, err
	}
	if v.Body.Offset < 0 {
		w, err := space.Open(ctx, v.Body, v.Size)
		if err != nil {
			return nil, err
		}
		return s.room.reads(&Body{size: v.Size, whole: w, free: func() { w.Close() }}, s.Catalog.Now()), nil
	}
	bp := s.smalls.Get().(*[]byte)
	if err := space.ReadSmall(v.Body, (*bp)[:v.Size], v.CRC64); err != nil {
		s.smalls.Put(bp)
		return nil, err
	}
	return &Body{size: v.Size, bytes: (*bp)[:v.Size], free: func() { s.smalls.Put(bp) }}, nil
}

// Held tells whether all of the body is in memory.
func (b *Body) Held() bool { return b.bytes != nil }

// Close gives the body back.
func (b *Body) Close() { b.free() }

// Send writes length bytes from offset to w. A large body goes from file to
// socket inside the kernel when w can. between, if not nil, is called before
// each stretch of at most 1 MiB.
func (b *Body) Send(w io.Writer, offset, length int64, between func()) error {
	if b.pieces != nil {
		return b.pieces.send(w, offset, length, between)
	}
	if b.whole != nil {
		return b.whole.Send(w, offset, length, between)
	}
	if between != nil {
		between()
	}
	_, err := w.Write(b.bytes[offset : offset+length])
	return err
}
