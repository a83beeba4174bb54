package crew

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Enter holds a lock on a file named as this process's leases are, for as long as it lives,
// and gives up the leases of processes that are no more: their files are there, and nobody
// holds the locks. A process that is only frozen holds its lock.
func (c *Crew) Enter(ctx context.Context) error {
	dir := c.Settings.Processes
	if dir == "" {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(dir, c.Holder), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		f.Close()
		return err
	}
	c.here = f
	others, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, x := range others {
		if x.Name() == c.Holder {
			continue
		}
		if err := c.bury(ctx, filepath.Join(dir, x.Name()), x.Name()); err != nil {
			return err
		}
	}
	return nil
}

// bury gives up the leases of a process that is no more.
func (c *Crew) bury(ctx context.Context, path, holder string) error {
	f, err := os.Open(path)
	if os.IsNotExist(err) {
		return nil // another process did it
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return nil
	}
	if err := c.Store.Catalog.ReleaseWork(ctx, holder); err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}

// leave removes the process's file.
func (c *Crew) leave() {
	if c.here == nil {
		return
	}
	_ = os.Remove(c.here.Name()) // one that stays is buried by the next process
	c.here.Close()
}

// Alone tells whether no other process of the house lives.
func (c *Crew) Alone() bool {
	others, err := os.ReadDir(c.Settings.Processes)
	if err != nil || c.here == nil {
		return false
	}
	for _, x := range others {
		if x.Name() == c.Holder {
			continue
		}
		f, err := os.Open(filepath.Join(c.Settings.Processes, x.Name()))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return false
		}
		lives := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil
		f.Close()
		if lives {
			return false
		}
	}
	return true
}
