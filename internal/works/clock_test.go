package works_test

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
)

// age makes every file of a volume ten hours old.
func age(t *testing.T, v *bodies.Volume) {
	t.Helper()
	old := time.Now().Add(-10 * time.Hour)
	if err := filepath.WalkDir(v.Dir(), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		return os.Chtimes(path, old, old)
	}); err != nil {
		t.Fatal(err)
	}
}

// TestBodiesUnderWayAreKept has collectors look at a volume while bodies are written:
// one whose clock is eight hours ahead, one that is eight hours behind, and one that
// is right while the files look old. What is acknowledged after that can be read.
func TestBodiesUnderWayAreKept(t *testing.T) {
	database, dir := harness.Database(t), t.TempDir()
	s := sharedStore(t, database, dir)
	settings := works.Settings{CollectEvery: 10 * time.Millisecond, SweepEvery: time.Millisecond,
		ClockEvery: 10 * time.Millisecond}
	for name, ahead := range map[string]time.Duration{"ahead": 8 * time.Hour, "behind": -8 * time.Hour, "right": 0} {
		other, err := openStore(t.Context(), database, dir)
		if err != nil {
			t.Fatal(err)
		}
		other.Catalog.OwnClock(func() time.Time { return time.Now().Add(ahead) })
		if err := other.Catalog.LookAtClock(t.Context()); err != nil {
			t.Fatal(err)
		}
		if got := other.Catalog.Ahead(); (got-ahead).Abs() > time.Second || other.Catalog.Agrees() != (ahead == 0) {
			t.Errorf("%s: the clock is found to be ahead by %s", name, got)
		}
		if now := other.Catalog.Now(); time.Since(now).Abs() > time.Second {
			t.Errorf("%s: the time there is %s", name, now)
		}
		r, w := io.Pipe()
		large := make(chan error, 1)
		go func() {
			_, err := s.Put(t.Context(), store.Put{Address: at("large " + name), Author: me, Body: r, Size: 600_000})
			large <- err
		}()
		if _, err := w.Write([]byte(strings.Repeat("x", 300_000))); err != nil {
			t.Fatal(err)
		}
		put(t, s, "small "+name, []byte("a small one"))
		age(t, harness.Volume(s))
		crew := works.Start(other, settings, quiet())
		time.Sleep(400 * time.Millisecond)
		age(t, harness.Volume(s))
		time.Sleep(400 * time.Millisecond)
		if _, err := w.Write([]byte(strings.Repeat("y", 300_000))); err != nil {
			t.Fatal(err)
		}
		w.Close()
		if err := <-large; err != nil {
			t.Fatalf("%s: the put under way: %v", name, err)
		}
		time.Sleep(200 * time.Millisecond)
		crew.Stop()
		for _, key := range []string{"large " + name, "small " + name} {
			v, err := s.Find(t.Context(), at(key))
			if err != nil {
				t.Fatal(err)
			}
			if err := s.ReadAll(t.Context(), v, io.Discard, func(int) error { return nil }); err != nil {
				t.Errorf("%s: %s was acknowledged and cannot be read: %v", name, key, err)
			}
		}
		// What stands of times lies not in the future, and versions have the database's.
		state, err := s.Catalog.WorkState(t.Context(), "collector")
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(state), time.Now().Add(7*time.Hour).UTC().Format("2006-01-02T15")) {
			t.Errorf("%s: the collector was last in the future: %s", name, state)
		}
		there, err := other.Put(t.Context(), store.Put{Address: at("by " + name), Author: me, Body: strings.NewReader("x"),
			Size: 1})
		if err != nil || time.Since(there.Created).Abs() > time.Minute {
			t.Errorf("%s: written at %v, %v", name, there, err)
		}
		harness.Volume(other).Close()
		other.Catalog.Close()
	}
	// What nobody writes any more goes.
	if err := os.WriteFile(filepath.Join(dir, "whole", "00", "0000000000000100.body"), []byte("left behind"),
		0o600); err != nil {
		t.Fatal(err)
	}
	age(t, harness.Volume(s))
	crew := works.Start(s, settings, quiet())
	defer crew.Stop()
	until(t, "what was left behind is collected", func() bool {
		_, err := os.Stat(filepath.Join(dir, "whole", "00", "0000000000000100.body"))
		return os.IsNotExist(err)
	})
}
