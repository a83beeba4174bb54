package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/placement"
	"spindle/internal/core/tier"
)

// knownTiers are the tiers as they were when their mark was what it says.
type knownTiers struct {
	set  tier.Set
	mark int64
}

// shelfLinger is how long a shelf that was replaced stays open for those who read
// from it.
const shelfLinger = time.Hour

// Tiers gives the tiers, as known for a second. Their volumes are opened when they are
// new or changed.
func (s *Store) Tiers(ctx context.Context) (tier.Set, error) {
	mark, err := s.Catalog.Mark(ctx, catalog.MarkTiers)
	if err != nil {
		return nil, err
	}
	if k := s.tiers.Load(); k != nil && k.mark == mark {
		return k.set, nil
	}
	s.tiersMu.Lock()
	defer s.tiersMu.Unlock()
	before := s.tiers.Load()
	if before != nil && before.mark == mark {
		return before.set, nil
	}
	set, err := s.Catalog.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	s.shelve(before, set)
	s.tiers.Store(&knownTiers{set, mark})
	return set, nil
}

// RefreshTiers opens the volumes of tiers that are new or changed.
func (s *Store) RefreshTiers(ctx context.Context) error {
	_, err := s.Tiers(ctx)
	return err
}

// shelve puts the spaces of tiers in place.
func (s *Store) shelve(before *knownTiers, now tier.Set) {
	close := func(was bodies.Space) {
		if was != nil {
			time.AfterFunc(shelfLinger, func() { _ = was.Close() })
		}
	}
	for _, t := range now {
		if t.ID == tier.Main {
			continue
		}
		if before != nil {
			if was := before.set.Of(t.ID); was != nil && was.Revision == t.Revision {
				continue
			}
		}
		close(s.Spaces.Put(t.ID, s.spaceOf(t)))
	}
	if before == nil {
		return
	}
	for _, t := range before.set {
		if now.Of(t.ID) == nil {
			close(s.Spaces.Put(t.ID, nil))
		}
	}
}

// spaceOf makes the space of a tier.
func (s *Store) spaceOf(t *tier.Tier) bodies.Space {
	if p := t.Elsewhere(); p != nil {
		return bodies.NewElsewhere(t, s.Sealer, s.PlaceOf(*p), s.Spaces.First().(*bodies.Volume))
	}
	return bodies.NewShelf(t, s.Sealer, s.owe)
}

// oweFor is how long it may take to note that a body was written short.
const oweFor = 10 * time.Second

// owe notes a body of which pieces could not be written: they are made once their volumes
// are back.
func (s *Store) owe(o bodies.Owed) error {
	ctx, cancel := context.WithTimeout(context.Background(), oweFor)
	defer cancel()
	return s.Catalog.Owe(ctx, o.BodyFile, o.Has, o.Lacks)
}

// TryVolume makes a small write to main's volume.
func (s *Store) TryVolume() error {
	if v, ok := s.Spaces.First().(interface{ Try() error }); ok {
		return v.Try()
	}
	return nil
}

// VolumeState is how a volume stands.
type VolumeState = bodies.State

// VolumeStates tells how the volumes of a tier stand. The error for one whose volumes are
// not open has the code tier-missing.
func (s *Store) VolumeStates(of int16) ([]VolumeState, error) {
	space, err := s.Spaces.Of(of)
	if err != nil {
		return nil, err
	}
	return space.(interface{ States() []bodies.State }).States(), nil
}

// tierNamed gives a tier by its name, that of a bucket's new content for none.
func (s *Store) tierNamed(ctx context.Context, f catalog.BucketFacts, name string) (*tier.Tier, error) {
	set, err := s.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	if name != "" {
		t, err := set.Find(name)
		if err == nil && f.Fixed != "" && t.ID != f.Tier {
			err = placement.Refuse(f.Account, f.Fixed, name)
		}
		return t, err
	}
	if t := set.Of(f.Tier); t != nil {
		return t, nil
	}
	return set.Find(tier.MainName)
}

// TierFor gives the tier of a name for what a bucket keeps. The errors have the codes
// tier-missing and placement-fixed.
func (s *Store) TierFor(ctx context.Context, bucket object.BucketName, name string) (*tier.Tier, error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return nil, err
	}
	return s.tierNamed(ctx, f, name)
}

// AddTier makes a tier on empty directories, or at an empty place elsewhere, which become
// its volumes.
func (s *Store) AddTier(ctx context.Context, t *tier.Tier, by catalog.Author) error {
	if err := t.Check(); err != nil {
		return err
	}
	fresh, err := s.prepare(ctx, t)
	if err == nil {
		err = s.Catalog.AddTier(ctx, t, s.Now(by))
	}
	if err != nil {
		s.discard(fresh)
	}
	s.Catalog.LookAgain()
	return err
}

func (s *Store) discard(fresh []tier.Volume) {
	for _, v := range fresh {
		if v.Place == nil {
			bodies.Discard(v.Dir, v.Marker)
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), placeFor)
		bodies.DiscardPlace(ctx, s.PlaceOf(*v.Place), v.Marker)
		cancel()
	}
}

// placeFor is how long it may take to prepare a place.
const placeFor = 30 * time.Second

// prepare makes volumes of the directories and places that are none yet, and gives them.
func (s *Store) prepare(ctx context.Context, t *tier.Tier) (fresh []tier.Volume, err error) {
	ctx, cancel := context.WithTimeout(ctx, placeFor)
	defer cancel()
	for i := range t.Volumes {
		v := &t.Volumes[i]
		if v.ID != 0 {
			continue
		}
		v.Marker = bodies.NewMarker()
		if v.Place != nil {
			err = bodies.PreparePlace(ctx, s.PlaceOf(*v.Place), v.Marker)
		} else {
			err = bodies.Prepare(v.Dir, v.Marker)
		}
		if err != nil {
			s.discard(fresh)
			return nil, err
		}
		fresh = append(fresh, *v)
	}
	return fresh, nil
}

// ChangeTier changes a tier; volumes that edit adds are prepared. What a change of copies
// or compression means for bodies that are there already comes when they are moved or
// scrubbed. The errors are those of tier.Check and catalog.ChangeTier.
func (s *Store) ChangeTier(ctx context.Context, name string, ifRevision int, by catalog.Author,
	edit func(*tier.Tier) error) error {
	defer s.Catalog.LookAgain()
	for {
		err := s.changeTier(ctx, name, ifRevision, by, edit)
		if ifRevision != 0 || !fault.HasCode(err, "revision") {
			return err
		}
	}
}

// changeTier works out the change on what is there, prepares volumes while nothing is locked, and
// has it hold if what is there is the same still.
func (s *Store) changeTier(ctx context.Context, name string, ifRevision int, by catalog.Author,
	edit func(*tier.Tier) error) error {
	set, err := s.Catalog.Tiers(ctx) // as it is now, and no other's
	if err != nil {
		return err
	}
	t, err := set.Find(name)
	if err != nil {
		return err
	}
	if ifRevision == 0 {
		ifRevision = t.Revision
	}
	if err := edit(t); err != nil {
		return err
	}
	var fresh []tier.Volume
	if t.ID == tier.Main {
		err = checkMain(t)
	} else if err = t.Check(); err == nil {
		fresh, err = s.prepare(ctx, t)
	}
	if err == nil {
		err = s.Catalog.ChangeTier(ctx, name, ifRevision, s.Now(by), func(is *tier.Tier) error {
			*is = *t
			return nil
		})
	}
	if err != nil {
		s.discard(fresh)
	}
	return err
}

// RepairTier has all bodies of a tier read, and missing and damaged copies and pieces made
// anew. The error for no such tier has the code tier-missing.
func (s *Store) RepairTier(ctx context.Context, name string, by catalog.Author) error {
	return s.Catalog.AskRepair(ctx, name, s.Now(by))
}

// checkMain refuses what main cannot be: its one volume is where a process says.
func checkMain(t *tier.Tier) error {
	if t.Name != tier.MainName || t.Copies != 1 || t.Pieces != nil || t.Packed || t.Sealed || t.Restore != nil ||
		len(t.Volumes) > 0 {
		return fault.New(fault.Invalid, "tier-main", "of the tier main only the note, the prices and the stay can change").
			In("tier").Do("add a tier with the copies, compression or volumes you want, and make it the bucket's default")
	}
	x := *t
	x.Volumes = []tier.Volume{{Dir: "/"}}
	return x.Check()
}

// RemoveTier takes an empty tier away. Its directories stay as they are.
func (s *Store) RemoveTier(ctx context.Context, name string, by catalog.Author) error {
	defer s.Catalog.LookAgain()
	return s.Catalog.RemoveTier(ctx, name, s.Now(by))
}

// Moving says why a version is moved, for the journal.
type Moving struct {
	catalog.Author
	Rule string // that has it moved, if one has
	Run  int64
}

// Move moves a version's body to another tier: it is copied, compared, and switched to
// in one transaction that fails with version-moved when the version, its metadata or its
// body changed meanwhile. It reports false when it was there already.
func (s *Store) Move(ctx context.Context, bucket int64, v *object.Version, to *tier.Tier, m Moving) (moved bool,
	err error) {
	if v.Marker || v.Body.Tier == to.ID {
		return false, nil
	}
	return true, s.Rekeep(ctx, bucket, v, to, false, m)
}

// Rekeep writes a version's body anew in a tier, sealed when that is wanted or it was, and
// switches to it as Move does.
func (s *Store) Rekeep(ctx context.Context, bucket int64, v *object.Version, to *tier.Tier, sealed bool,
	m Moving) error {
	m.Author = s.Now(m.Author)
	c := catalog.Moving{Bucket: bucket, Key: v.Key, Number: v.Number, Revision: v.Revision, From: v.Body, Author: m.Author,
		Rule: m.Rule, Run: m.Run}
	c.To = object.BodyRef{Tier: to.ID}
	switch {
	case v.Body.File == 0: // nothing but the mark of it
		return s.Catalog.MoveBody(ctx, c)
	case v.Body.File < 0:
		return s.moveParts(ctx, c, to, sealed)
	}
	w, err := s.rewrite(ctx, v, to.ID, sealed || v.Body.Sealed())
	defer w.Release()
	if err != nil {
		return err
	}
	c.To = w.Ref
	return s.Catalog.MoveBody(ctx, c)
}

// WriteMoved writes a body of one piece anew in a tier, and compares it on the way, for
// catalog.MoveBodies. Release what comes back.
func (s *Store) WriteMoved(ctx context.Context, v *object.Version, to int16) (bodies.Written, error) {
	return s.rewrite(ctx, v, to, v.Body.Sealed())
}

// moveParts moves an object that came in parts, part by part, so that it stays one.
func (s *Store) moveParts(ctx context.Context, c catalog.Moving, to *tier.Tier, sealed bool) (err error) {
	var parts []catalog.Part
	var written []bodies.Written
	defer func() {
		for i := range written {
			written[i].Release()
		}
	}()
	for after := 0; ; {
		list, err := s.Catalog.Parts(ctx, -c.From.File, after, 1000)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		for _, x := range list {
			after = x.Number
			w, err := s.rewrite(ctx, piece(x), to.ID, sealed || x.Body.Sealed())
			written = append(written, w)
			if err != nil {
				return err
			}
			x.Body = w.Ref
			parts = append(parts, x)
		}
	}
	return s.Catalog.MoveParts(ctx, c, parts)
}

// RestoreState is how far the restored copy of a version is.
type RestoreState struct {
	Tier  *tier.Tier
	Asked bool
	catalog.RestoredCopy
}

// Ready reports whether the version can be read.
func (r *RestoreState) Ready() bool { return r.Asked && r.Until != nil }

// RestoreState tells of a version's restored copy; nil for one that is read at once.
func (s *Store) RestoreState(ctx context.Context, bucket int64, v *object.Version) (*RestoreState, error) {
	if v.Marker || v.Body.Tier == tier.Main {
		return nil, nil
	}
	set, err := s.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	t := set.Of(v.Body.Tier)
	if t == nil || t.Restore == nil {
		return nil, nil
	}
	c, err := s.Catalog.RestoredCopy(ctx, bucket, v.Key, v.Number)
	if err != nil {
		return nil, err
	}
	out := &RestoreState{Tier: t}
	if c != nil {
		out.Asked, out.RestoredCopy = true, *c
	}
	return out, nil
}

// readable gives a version as it can be read now: of one of a tier that is restored
// first, its restored copy. The error for one without has the code restore-first.
func (s *Store) readable(ctx context.Context, bucket int64, v *object.Version) (*object.Version, error) {
	r, err := s.RestoreState(ctx, bucket, v)
	if err != nil || r == nil {
		return v, err
	}
	if !r.Ready() {
		f := fault.New(fault.Conflict, "restore-first",
			"the version is in the tier %s, and is read from a restored copy only",
			r.Tier.Name).In("version")
		if r.Asked {
			return nil, f.Do("its copy is being restored and will be there at %s", r.Due.Format("15:04:05 on 2006-01-02"))
		}
		return nil, f.Do("have it restored, which takes %s (spindle object fetch)", r.Tier.Restore.Delay)
	}
	out := *v
	out.Body = r.Body
	return &out, nil
}

// Fetch asks for a restored copy of a version, which stays for some days (0: as long as
// the tier says) from when it is there; of one that is there or under way, it changes how
// long. The error for a version that is read at once has the code restore-needless.
func (s *Store) Fetch(ctx context.Context, a catalog.Address, id object.VersionID, days int,
	by catalog.Author) (*RestoreState, error) {
	v, err := s.FindVersion(ctx, a, id)
	if err != nil {
		return nil, err
	}
	f, _, err := s.bucketFacts(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	r, err := s.RestoreState(ctx, f.ID, v)
	if err != nil {
		return nil, err
	}
	if r == nil {
		return nil, fault.New(fault.Conflict, "restore-needless",
			"the version is in a tier that is read at once").In("version").
			Do("read it")
	}
	if days == 0 {
		days = r.Tier.Restore.Days
	}
	if days < 1 || days > tier.MaxRestored {
		return nil, fault.New(fault.Invalid, "restore-days", "a restored copy stays 1 to %d days",
			tier.MaxRestored).In("days").
			Do("give a number of days")
	}
	c, err := s.Catalog.AskRestored(ctx, f.ID, v, days, r.Tier.Restore.Delay, s.Now(by))
	if err != nil {
		return nil, err
	}
	r.Asked, r.RestoredCopy = true, *c
	return r, nil
}

// MakeRestored makes the restored copy that is due for a version, in main.
func (s *Store) MakeRestored(ctx context.Context, c catalog.RestoredCopy) error {
	v, err := s.Catalog.FindVersion(ctx, c.Bucket, c.Key, object.VersionID(c.Number))
	if fault.HasCode(err, "version-missing") {
		return s.Catalog.DropRestored(ctx, c)
	}
	if err != nil {
		return err
	}
	w, err := s.rewrite(ctx, v, tier.Main, v.Body.File > 0 && v.Body.Sealed())
	defer w.Release()
	if err == nil {
		err = s.Catalog.HaveRestored(ctx, c, w.Ref)
	}
	if fault.KindOf(err) == fault.Damaged {
		return errors.Join(err, s.Catalog.FailRestored(ctx, c, fault.From(err).Message))
	}
	if err != nil {
		return fmt.Errorf("restoring %s: %w", v.Key, err)
	}
	return nil
}
