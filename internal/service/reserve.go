package service

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// reserve keeps room on the disk of a private database for what frees: a file that takes a part of it, and goes when
// the disk is full. Until it is back, the service takes removals and the like alone. Without it a private database
// on a full disk could not write down that something is removed.
type reserve struct {
	service *Service
	path    string

	mu       sync.Mutex
	released time.Time // the last time
}

// Sizes and times of the reserve.
const (
	reserveMost  = 64 << 20 // bytes
	reserveShare = 8        // of the disk, where that is less
	reserveEvery = 250 * time.Millisecond
	justNow      = 5 * time.Second
)

// keepReserve begins to keep a reserve, unless the database is elsewhere, whose disk nobody here knows.
func (s *Service) keepReserve() {
	if s.Config.Database != "" {
		return
	}
	r := &reserve{service: s, path: filepath.Join(s.Config.Data, "postgres", "reserve")}
	s.Store.Catalog.MakeRoom = r.release
	r.look()
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(reserveEvery):
				r.look()
			}
		}
	}()
	s.undo = append(s.undo, func() { close(stop); <-done })
}

// look releases the reserve when the disk is full, and makes it again when there is room for it twice.
func (r *reserve) look() {
	var disk unix.Statfs_t
	if unix.Statfs(filepath.Dir(r.path), &disk) != nil {
		return // the disk is away, which others tell of
	}
	free, size := int64(disk.Bavail)*disk.Bsize, min(reserveMost, int64(disk.Blocks)*disk.Bsize/reserveShare)
	if free < size/4 {
		r.release()
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	_, err := os.Stat(r.path)
	if err == nil || errors.Is(err, fs.ErrNotExist) && free > 2*size && r.make(size) == nil {
		r.service.Store.Catalog.SetScarce(false)
	}
}

// release gives the reserve's room to what frees, and reports whether that was done just now.
func (r *reserve) release() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if cat := r.service.Store.Catalog; !cat.Scarce() {
		r.service.log.Warn("the database's disk is full: only what frees is taken")
		cat.SetScarce(true)
		r.service.Store.WantRoom()
	}
	if os.Remove(r.path) == nil {
		r.released = time.Now()
	}
	return time.Since(r.released) < justNow
}

// make makes the reserve.
func (r *reserve) make(size int64) error {
	f, err := os.OpenFile(r.path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	err = errors.Join(unix.Fallocate(int(f.Fd()), 0, 0, size), f.Close())
	if err != nil {
		_ = os.Remove(r.path)
	}
	return err
}
