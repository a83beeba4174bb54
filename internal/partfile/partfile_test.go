package partfile_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/partfile"
)

// What a killed program left goes; what is held, young, or may be gone on with stays.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	old := time.Now().Add(-time.Hour)
	make := func(name string, at time.Time) *os.File {
		t.Helper()
		f, err := os.Create(filepath.Join(dir, name))
		if err == nil {
			err = os.Chtimes(f.Name(), at, at)
		}
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	held := make(partfile.Name("a"), old)
	defer held.Close()
	if err := partfile.Hold(held); err != nil {
		t.Fatal(err)
	}
	left, young := partfile.Name("b"), partfile.Name("c")
	resumed, stale := partfile.NameOf("d", "etag"), partfile.NameOf("e", "etag")
	for name, at := range map[string]time.Time{left: old, young: time.Now(), resumed: old, resumed + ".json": old,
		stale: old.AddDate(0, 0, -8), stale + ".json": old.AddDate(0, 0, -8), "a file": old} {
		make(name, at).Close()
	}
	var s partfile.Sweeper
	s.Sweep(root, ".")
	make(left+"x", old).Close()
	s.Sweep(root, ".") // once
	for name, want := range map[string]bool{filepath.Base(held.Name()): true, left: false, young: true, resumed: true,
		resumed + ".json": true, stale: false, stale + ".json": false, "a file": true, left + "x": true} {
		if _, err := root.Lstat(name); (err == nil) != want {
			t.Errorf("%s: %v, to be there: %v", name, err, want)
		}
	}
	partfile.SweepOthers(root, ".", "d", "another etag")
	if _, err := root.Lstat(resumed); err == nil {
		t.Error("what was got of an earlier content stays")
	}
	again, err := os.OpenFile(held.Name(), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if err := partfile.Hold(again); !errors.Is(err, partfile.ErrHeld) {
		t.Errorf("held twice: %v", err)
	}
	if n := partfile.Name(strings.Repeat("long", 100)); len(n) > 100 {
		t.Errorf("a name of %d bytes", len(n))
	}
}
