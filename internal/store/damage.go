package store

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
)

// damageAtHand is the usual Store.DamageAtHand.
const damageAtHand = 100_000

// damageBook is which bodies are known to be damaged, and why.
type damageBook struct {
	of   map[object.BodyRef]string
	more bool // there are others
}

// RefreshDamage reads which bodies are known to be damaged, when that changed, so
// that none is served as good.
func (s *Store) RefreshDamage(ctx context.Context) error {
	s.damageMu.Lock()
	defer s.damageMu.Unlock()
	mark, err := s.Catalog.Mark(ctx, catalog.MarkDamage)
	if err != nil || mark == s.damageMark.Load() {
		return err
	}
	list, err := s.Catalog.Damaged(ctx, "", s.DamageAtHand+1)
	if err != nil {
		return err
	}
	b := &damageBook{of: make(map[object.BodyRef]string, len(list)), more: len(list) > s.DamageAtHand}
	for _, d := range list {
		b.of[d.Body] = d.Problem
	}
	s.damaged.Store(b)
	s.damageMark.Store(mark)
	return nil
}

// damageOf says what is known to be wrong with a body; "" for nothing.
func (s *Store) damageOf(ctx context.Context, ref object.BodyRef) (problem string, err error) {
	b := s.damaged.Load()
	if problem := b.of[ref]; problem != "" || !b.more {
		return problem, nil
	}
	return s.Catalog.DamageAt(ctx, ref)
}
