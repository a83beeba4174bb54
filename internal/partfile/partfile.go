package partfile

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Prefix is what names of such files begin with.
const Prefix = ".spindle-part-"

// StateSuffix is what is added to the name of a file that another run goes on with, for what is
// known of it.
const StateSuffix = ".json"

// How old what nobody holds is when it is swept away, and what could be gone on with.
const (
	leftAfter  = time.Minute
	stateAfter = 7 * 24 * time.Hour
)

// ErrHeld says that somebody else writes a file.
var ErrHeld = errors.New("it is being written by another program")

func short(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:8])
}

// Name gives a new name for what is to become a file called base.
func Name(base string) string { return Prefix + short(base) + "-" + rand.Text() }

// NameOf gives the name for a content that is to become a file called base: that of an earlier
// run for the same.
func NameOf(base, content string) string { return Prefix + short(base) + "-" + short(content) }

// Is reports whether a file's name is that of one that is being written.
func Is(name string) bool { return strings.HasPrefix(name, Prefix) }

// Hold has an open file be held until it is closed. The error is ErrHeld when somebody does.
func Hold(f *os.File) error {
	err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	switch {
	case errors.Is(err, unix.EWOULDBLOCK):
		return ErrHeld
	case errors.Is(err, unix.EOPNOTSUPP), errors.Is(err, unix.ENOLCK), errors.Is(err, unix.ENOSYS):
		return nil // a disk without locks: what is there is swept by its age
	}
	return err
}

// Sweeper sweeps each folder once.
type Sweeper struct {
	mu   sync.Mutex
	done map[string]bool
}

// foldersMost is how many folders are remembered; beyond it they are swept no more.
const foldersMost = 100_000

// Sweep removes from a folder what killed programs left there, the first time it is asked; not
// what another run may go on with.
func (s *Sweeper) Sweep(root *os.Root, dir string) { s.SweepAs(root, dir, dir) }

// SweepAs is Sweep for a folder that is known under another name.
func (s *Sweeper) SweepAs(root *os.Root, dir, as string) {
	s.mu.Lock()
	if s.done == nil {
		s.done = map[string]bool{}
	}
	known := s.done[as] || len(s.done) >= foldersMost
	if !known {
		s.done[as] = true
	}
	s.mu.Unlock()
	if known {
		return
	}
	d, err := root.Open(dir)
	if err != nil {
		return // whoever writes there says why
	}
	defer d.Close()
	for {
		names, err := d.Readdirnames(1000)
		for _, name := range names {
			if Is(name) && !strings.HasSuffix(name, StateSuffix) {
				sweep(root, path.Join(dir, name))
			}
		}
		if err != nil {
			return
		}
	}
}

// SweepOthers removes what was written for a file called base with another content, that nobody
// holds.
func SweepOthers(root *os.Root, dir, base, content string) {
	d, err := root.Open(dir)
	if err != nil {
		return
	}
	defer d.Close()
	mine := NameOf(base, content)
	for {
		names, err := d.Readdirnames(1000)
		for _, name := range names {
			if strings.HasPrefix(name, Prefix+short(base)+"-") && !strings.HasPrefix(name, mine) &&
				!strings.HasSuffix(name, StateSuffix) && free(root, path.Join(dir, name)) {
				remove(root, path.Join(dir, name))
			}
		}
		if err != nil {
			return
		}
	}
}

func sweep(root *os.Root, name string) {
	st, err := root.Lstat(name)
	if err != nil || time.Since(st.ModTime()) < leftAfter {
		return // whoever made it just now may not hold it yet
	}
	if _, err := root.Lstat(name + StateSuffix); err == nil && time.Since(st.ModTime()) < stateAfter {
		return
	}
	if st.Mode()&fs.ModeSymlink != 0 || st.Mode().IsRegular() && free(root, name) {
		remove(root, name)
	}
}

// free reports whether nobody holds a file.
func free(root *os.Root, name string) bool {
	f, err := root.OpenFile(name, os.O_RDWR|unix.O_NOFOLLOW, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return Hold(f) == nil
}

func remove(root *os.Root, name string) {
	_ = root.Remove(name) // another program may have been faster
	_ = root.Remove(name + StateSuffix)
}
