package backup_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/backup"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// Backups go with the bodies that only they have: those that stay are whole. Nothing goes while
// somebody else is at work in the folder, nor the last one, nor bodies of which it is not known who
// has them; what a kill left half is gone on with.
func TestBackupsAreRemoved(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) {
		c.Works.CollectGrace, c.Works.CollectEvery = time.Millisecond, 20*time.Millisecond
	})
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	const long = 900_000
	put := func(key string, seed uint64) {
		t.Helper()
		if _, err := c.Put(t.Context(), "plates", key, bytes.NewReader(content(seed, long)), long, client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	bodies := func(dir string) int { return len(wholes(t, dir)) }
	folder := t.TempDir()
	volumes, main := filepath.Join(folder, "volumes"), filepath.Join(s.Config.Data, "volumes", "main")
	making := &backup.Making{Data: s.Config.Data, Database: s.Config.Database, Folder: folder, Passphrase: words,
		Log: harness.Silent()}
	made := func() string {
		t.Helper()
		m, err := making.Make(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		harness.Until(t, "another second", func() bool { return time.Since(m.Made) > time.Second })
		return m.Name
	}
	moved := func(dir string) { // elsewhere, with a link in its place
		t.Helper()
		to := dir + ".moved"
		if err := errors.Join(os.Symlink(to, to), // which is where it leads once the two have changed places
			unix.Renameat2(unix.AT_FDCWD, dir, unix.AT_FDCWD, to, unix.RENAME_EXCHANGE)); err != nil {
			t.Fatal(err)
		}
	}
	put("a", 1)
	moved(main)
	put("b", 2)
	inside := *making
	inside.Folder = filepath.Join(main, "kept")
	if _, err := inside.Make(t.Context()); !fault.HasCode(err, "backup-inside") {
		t.Errorf("into a volume: %v", err)
	}
	link := filepath.Join(main, "segments-too")
	if err := os.Symlink(t.TempDir(), link); err != nil {
		t.Fatal(err)
	}
	if _, err := making.Make(t.Context()); !fault.HasCode(err, "volume-link") {
		t.Errorf("a link within a volume: %v", err)
	}
	if err := os.Remove(link); err != nil {
		t.Fatal(err)
	}
	first := made()
	moved(volumes)
	if err := c.Remove(t.Context(), "plates", "a"); err != nil {
		t.Fatal(err)
	}
	put("c", 3)
	harness.Until(t, "what was removed is gone", func() bool { return bodies(main) == 2 })
	second := made()
	third := made()
	if n := bodies(volumes); n != 3 {
		t.Fatalf("%d bodies in the folder", n)
	}

	remove := func(really bool, keep int, names ...string) (*backup.Removed, error) {
		in := &backup.Removing{Folder: folder, Keep: keep, Names: names}
		if really {
			return in.Remove(t.Context())
		}
		return in.Rehearse(t.Context())
	}
	for code, names := range map[string][]string{"backup-last": {first, second, third},
		"backup-missing": {"2020-01-01T00-00-00Z"}} {
		if _, err := remove(true, 0, names...); !fault.HasCode(err, code) {
			t.Errorf("%s: %v", code, err)
		}
	}
	for _, name := range []string{"lock", "lock-read"} { // somebody makes one, somebody reads one
		f, err := os.OpenFile(filepath.Join(folder, name), os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		if err := unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB); err != nil {
			t.Fatal(err)
		}
		if _, err := remove(true, 1); !fault.HasCode(err, "backup-under-way") {
			t.Errorf("with the %s held: %v", name, err)
		}
		f.Close()
	}
	if r, err := remove(false, 1); err != nil || !slices.Equal(r.Backups, []string{second, first}) || r.Files != 1 ||
		r.Bytes < long || bodies(volumes) != 3 {
		t.Fatalf("rehearsed: %+v, %v", r, err)
	}
	list := filepath.Join(folder, third, "bodies.gz")
	if err := os.Rename(list, list+".away"); err != nil { // as an earlier version made it
		t.Fatal(err)
	}
	if r, err := remove(true, 0, second); err != nil || r.Files != 0 || !slices.Equal(r.Unknown, []string{third}) ||
		bodies(volumes) != 3 {
		t.Fatalf("with one that does not say what it has: %+v, %v", r, err)
	}
	if err := os.Rename(list+".away", list); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(list)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(list, whole[:len(whole)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := remove(true, 0, first); !fault.HasCode(err, "backup-bodies") {
		t.Errorf("with a list that was cut: %v", err)
	}
	if err := os.WriteFile(list, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(folder, first, "manifest.json")); err != nil { // killed after its first step
		t.Fatal(err)
	}
	if r, err := remove(true, 1); err != nil || !slices.Equal(r.Backups, []string{first}) || r.Files != 1 ||
		bodies(volumes) != 2 {
		t.Fatalf("removed: %+v, %v", r, err)
	}
	if left, err := os.ReadDir(folder); err != nil ||
		len(left) != 6 { // and volumes, which is a link, the mark, and two locks
		t.Errorf("left: %v, %v", left, err)
	}
	r, err := (&backup.Checking{Folder: folder, All: true, Passphrase: words, Log: harness.Silent()}).Check(t.Context())
	if err != nil || r.Name != third || r.Wrong != 0 || r.Bodies != 2 {
		t.Errorf("what stays: %+v, %v", r, err)
	}
}
