package bodies

import (
	"cmp"
	"context"
	"hash"
	"io"
	"maps"
	"slices"
	"sync"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Space keeps the bodies of one tier. A Volume is one; package bodiestest has the
// tests that every one must pass.
//
// A body that was written is held until Written.Release, so that no collector takes
// it before the catalog knows of it.
type Space interface {
	// Tier is the number that stands in the references to the space's bodies.
	Tier() int16
	// Write keeps a body; see Volume.Write.
	Write(r io.Reader, size int64, sealed bool, extra []hash.Hash, accept func(Written) error) (Written, error)
	// Open opens a body that is a file of its own, ReadSmall reads one that shares a
	// file. The error for one that is not what it was has the kind fault.Damaged. What is read from
	// far away ends with ctx, also after Open.
	Open(ctx context.Context, ref object.BodyRef, size int64) (*Whole, error)
	ReadSmall(ref object.BodyRef, buf []byte, crc uint64) error
	// Check reads a body and compares its digest; limit is called before each stretch.
	Check(ctx context.Context, ref object.BodyRef, size int64, crc uint64, limit func(n int) error) error
	// CopySmall moves a body that shares a file to the file in which the space keeps
	// what is new.
	CopySmall(from object.BodyRef, size int64, crc uint64) (Written, error)
	// Walk gives every file, in no order. Those that nobody refers to are removed by
	// RemoveWhole, which gives the bytes freed, or locked first, when they are shared.
	Walk(ctx context.Context, f func(File) error) error
	// Held tells whether a body that is a file of its own is being written, or was and is
	// not committed yet. One that is not held will not be held again: whatever refers to it
	// is in the catalog by then.
	Held(id int64) (bool, error)
	RemoveWhole(id int64) (int64, error)
	LockSegment(id int64) (unlock func(), ok bool, err error)
	TouchSegment(id int64) error
	RemoveSegment(id int64) error
	// Free gives the bytes that are free, and those there are.
	Free() (free, total int64, err error)
	Close() error
}

var _ Space = (*Volume)(nil)

// Spaces are those of a service, by their tiers.
type Spaces struct {
	mu    sync.RWMutex
	of    map[int16]Space
	first Space
}

// NewSpaces puts spaces of different tiers together; the first is where bodies go that
// no tier is named for.
func NewSpaces(first Space, more ...Space) *Spaces {
	s := &Spaces{of: map[int16]Space{first.Tier(): first}, first: first}
	for _, m := range more {
		s.of[m.Tier()] = m
	}
	return s
}

// First gives the space of bodies that no tier is named for.
func (s *Spaces) First() Space { return s.first }

// Of gives the space of a tier. The error for none has the code tier-missing.
func (s *Spaces) Of(tier int16) (Space, error) {
	s.mu.RLock()
	v := s.of[tier]
	s.mu.RUnlock()
	if v != nil {
		return v, nil
	}
	return nil, fault.New(fault.Unavailable, "tier-missing", "the service has no volume of tier %d", tier).In("tier").
		Do("start the service with the volumes it had when the body was written")
}

// Put has a tier's space be another one, and gives the one that was, for whoever may
// still read from it; nil takes the tier away.
func (s *Spaces) Put(tier int16, space Space) (was Space) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if was = s.of[tier]; space == nil {
		delete(s.of, tier)
	} else {
		s.of[tier] = space
	}
	return was
}

// Each calls f with every space by tier, until it returns an error.
func (s *Spaces) Each(f func(Space) error) error {
	s.mu.RLock()
	all := slices.Collect(maps.Values(s.of))
	s.mu.RUnlock()
	slices.SortFunc(all, func(a, b Space) int { return cmp.Compare(a.Tier(), b.Tier()) })
	for _, space := range all {
		if err := f(space); err != nil {
			return err
		}
	}
	return nil
}
