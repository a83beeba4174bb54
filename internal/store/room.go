package store

import (
	"sync"
	"sync/atomic"
	"time"

	"spindle/internal/core/fault"
)

// room knows what decides whether bodies may be deleted before their time: that writes were
// refused as the disk is full, and since when bodies are read that could be among them.
type room struct {
	refused atomic.Int64 // when the last write was, in nanoseconds; 0: none was
	mu      sync.Mutex
	readers map[*Body]time.Time
}

// wantedFor is for how long after a refused write it is tried to make room.
const wantedFor = 5 * time.Minute

// noteFull remembers that there was no room for a body.
func (r *room) noteFull(err error) {
	if fault.HasCode(err, "disk-full") || fault.HasCode(err, "database-full") {
		r.refused.Store(time.Now().UnixNano())
	}
}

// WantRoom has room be made, as a refused write does.
func (s *Store) WantRoom() { s.room.refused.Store(time.Now().UnixNano()) }

// roomFor refuses a body while only what frees room is taken.
func (s *Store) roomFor() error {
	if !s.Catalog.Scarce() {
		return nil
	}
	s.WantRoom()
	return s.Catalog.NoRoom()
}

// WantsRoom tells whether a write was refused lately as the disk is full.
func (s *Store) WantsRoom() bool {
	at := s.room.refused.Load()
	return at > 0 && time.Since(time.Unix(0, at)) < wantedFor
}

// reads keeps in mind since when a body is read, until it is closed.
func (r *room) reads(b *Body, since time.Time) *Body {
	r.mu.Lock()
	if r.readers == nil {
		r.readers = map[*Body]time.Time{}
	}
	r.readers[b] = since
	r.mu.Unlock()
	free := b.free
	b.free = func() {
		r.mu.Lock()
		delete(r.readers, b)
		r.mu.Unlock()
		free()
	}
	return b
}

// lookFor is how long it may be at the most from the look for a version to the opening of its
// body.
const lookFor = 30 * time.Second

// Unread gives the moment before which what was let go of is read by nobody in this process.
func (s *Store) Unread() time.Time {
	oldest := s.Catalog.Now()
	s.room.mu.Lock()
	defer s.room.mu.Unlock()
	for _, since := range s.room.readers {
		if since.Before(oldest) {
			oldest = since
		}
	}
	return oldest.Add(-lookFor)
}
