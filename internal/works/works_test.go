package works_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
	"spindle/internal/works/orders"
	"spindle/internal/works/upkeep"
)

var (
	plates = object.MustBucketName("plates")
	me     = catalog.Author{Who: harness.Key, Source: "127.0.0.1"}
)

func at(key string) catalog.Address { return catalog.Address{Bucket: plates, Key: object.MustKey(key)} }

func put(t *testing.T, s *store.Store, key string, body []byte) *object.Version {
	t.Helper()
	v, err := s.Put(t.Context(), store.Put{Address: at(key), Author: me, Body: bytes.NewReader(body),
		Size: int64(len(body))})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func files(t *testing.T, v *bodies.Volume) (whole, segments int) {
	t.Helper()
	if err := v.Walk(t.Context(), func(f bodies.File) error {
		if f.Segment {
			segments++
		} else {
			whole++
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return whole, segments
}

// until waits for something to come true, a generous while at the most.
func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); !ok(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

func newStore(t *testing.T) *store.Store {
	t.Helper()
	s := harness.Store(t)
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, me); err != nil {
		t.Fatal(err)
	}
	return s
}

func body(s *store.Store, t *testing.T, key string) error {
	t.Helper()
	v, err := s.Find(t.Context(), at(key))
	if err != nil {
		return err
	}
	b, _, err := s.Open(t.Context(), at(key), v)
	if err == nil {
		b.Close()
	}
	return err
}

func TestCollectorDeletesOnlyWhatNobodyRefersTo(t *testing.T) {
	s := newStore(t)
	large := bytes.Repeat([]byte("x"), 300_000)
	put(t, s, "kept", large)
	put(t, s, "shared", append(large, 'a'))
	if _, err := s.Copy(t.Context(), store.Copy{From: at("shared"), To: at("copy"), Author: me}); err != nil {
		t.Fatal(err)
	}
	put(t, s, "replaced", append(large, 'b'))
	put(t, s, "replaced", append(large, 'c'))
	put(t, s, "removed", append(large, 'd'))
	for _, k := range []string{"shared", "removed"} {
		if _, err := s.Remove(t.Context(), at(k), nil, me); err != nil {
			t.Fatal(err)
		}
	}
	// A put that died before its commit.
	if _, err := harness.Volume(s).Write(bytes.NewReader(append(large, 'e')), -1, false, nil,
		func(bodies.Written) error { return nil }); err != nil {
		t.Fatal(err)
	}
	if w, _ := files(t, harness.Volume(s)); w != 6 {
		t.Fatalf("%d files before collecting, want 6", w)
	}
	crew := works.Start(s, works.Settings{CollectGrace: time.Millisecond, CollectEvery: 20 * time.Millisecond,
		SweepEvery: 20 * time.Millisecond, ScrubEvery: time.Hour}, harness.Silent())
	defer crew.Stop()
	until(t, "three files left", func() bool { w, _ := files(t, harness.Volume(s)); return w == 3 })
	time.Sleep(100 * time.Millisecond) // a few more rounds must change nothing
	for _, k := range []string{"kept", "copy", "replaced"} {
		if err := body(s, t, k); err != nil {
			t.Errorf("%s after collecting: %v", k, err)
		}
	}
}

func TestSegmentsAreCompacted(t *testing.T) {
	s := newStore(t)
	for i := range 60 {
		put(t, s, fmt.Sprintf("k%02d", i), bytes.Repeat([]byte{byte(i)}, 5000))
	}
	for i := range 60 {
		if i%10 != 0 {
			if _, err := s.Remove(t.Context(), at(fmt.Sprintf("k%02d", i)), nil, me); err != nil {
				t.Fatal(err)
			}
		}
	}
	// A process appends to its segments alone: another one collects.
	harness.Volume(s).Close()
	v, err := bodies.Open(harness.Volume(s).Dir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { v.Close() })
	other := store.New(s.Catalog, bodies.NewSpaces(v), "fenn")
	before := segmentBytes(t, v)
	crew := works.Start(other, works.Settings{CollectGrace: time.Millisecond, CollectEvery: 20 * time.Millisecond,
		SweepEvery: 20 * time.Millisecond, ScrubEvery: time.Hour}, harness.Silent())
	defer crew.Stop()
	until(t, "the dead share is gone", func() bool { return segmentBytes(t, v) < before/4 })
	for i := 0; i < 60; i += 10 {
		if err := body(other, t, fmt.Sprintf("k%02d", i)); err != nil {
			t.Errorf("k%02d after compacting: %v", i, err)
		}
	}
}

func segmentBytes(t *testing.T, v *bodies.Volume) (n int64) {
	t.Helper()
	if err := v.Walk(t.Context(), func(f bodies.File) error {
		if f.Segment {
			n += f.Size
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestScrubberReportsDamageAndItsMending(t *testing.T) {
	s := newStore(t)
	content := bytes.Repeat([]byte("sound"), 60_000)
	put(t, s, "good", content)
	put(t, s, "bad", content)
	put(t, s, "small", []byte("small"))
	v, err := s.Find(t.Context(), at("bad"))
	if err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("%016x", v.Body.File)
	path := filepath.Join(harness.Volume(s).Dir(), "whole", name[14:], name+".body")
	flip := func() {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 1)
		_, rerr := f.ReadAt(b, 1234)
		b[0] ^= 0x10
		_, werr := f.WriteAt(b, 1234)
		if err := errors.Join(rerr, werr, f.Close()); err != nil {
			t.Fatal(err)
		}
	}
	flip()
	crew := works.Start(s, works.Settings{ScrubEvery: 30 * time.Millisecond, ScrubRate: 1 << 30,
		DamageRefresh: 10 * time.Millisecond}, harness.Silent())
	defer crew.Stop()
	until(t, "damage reported",
		func() bool { d, err := s.Catalog.Damaged(t.Context(), "", 10); return err == nil && len(d) == 1 })
	d, err := s.Catalog.Damaged(t.Context(), "", 10)
	if err != nil || d[0].Key != "bad" || d[0].Bucket != "plates" || !strings.Contains(d[0].Problem, "digest") {
		t.Fatalf("reported %+v, %v", d, err)
	}
	until(t, "the damaged body is refused", func() bool { return fault.KindOf(body(s, t, "bad")) == fault.Damaged })
	if err := body(s, t, "good"); err != nil {
		t.Errorf("the good one: %v", err)
	}
	journal, err := s.Catalog.Journal(t.Context(), catalog.JournalQuery{Bucket: "plates", Limit: 10})
	if err != nil || journal.Entries[0].Kind != catalog.DamageFound || journal.Entries[0].Key != "bad" {
		t.Errorf("journal: %+v, %v", journal, err)
	}
	flip() // the disk was right after all
	until(t, "served again", func() bool { return body(s, t, "bad") == nil })
}

func TestWorkHasOneHolder(t *testing.T) {
	s := newStore(t)
	ctx, c := t.Context(), s.Catalog
	claim := func(holder string, d time.Duration) (catalog.Lease, string, bool) {
		t.Helper()
		l, state, ok, err := c.Claim(ctx, "w", holder, d)
		if err != nil {
			t.Fatal(err)
		}
		return l, string(state), ok
	}
	first, _, ok := claim("one", time.Minute)
	if !ok {
		t.Fatal("nobody holds it, and it cannot be claimed")
	}
	if _, _, ok := claim("two", time.Minute); ok {
		t.Error("claimed twice")
	}
	if err := c.SaveWork(ctx, first, []byte(`{"place": 7}`)); err != nil {
		t.Fatal(err)
	}
	if ok, err := c.Renew(ctx, first, time.Millisecond); !ok || err != nil {
		t.Fatal(ok, err)
	}
	time.Sleep(20 * time.Millisecond)
	second, state, ok := claim("two", time.Minute)
	if !ok || !strings.Contains(state, "7") || second.Turn <= first.Turn {
		t.Errorf("taken over: %v, %s, turn %d after %d", ok, state, second.Turn, first.Turn)
	}
	// Whoever was taken over saves and renews nothing more.
	if err := c.SaveWork(ctx, first, []byte(`{"place": 1}`)); !fault.HasCode(err, "lease-lost") {
		t.Errorf("saved with an old number: %v", err)
	}
	if ok, err := c.Renew(ctx, first, time.Minute); ok || err != nil {
		t.Errorf("renewed with an old number: %v, %v", ok, err)
	}
	if _, err := s.Remove(catalog.UnderLease(ctx, first), at("k"), nil, me); !fault.HasCode(err, "lease-lost") {
		t.Errorf("a change with an old number: %v", err)
	}
	// Given up, it is due after the pause, for whoever comes.
	if err := c.Finish(ctx, second, 300*time.Millisecond); err != nil {
		t.Fatal(err)
	}
	if _, _, ok := claim("one", time.Minute); ok {
		t.Error("claimed before it was due")
	}
	until(t, "it is due", func() bool { _, _, ok := claim("one", time.Minute); return ok })
}

// A segment that the disk does not give is noted, body by body, and the scrubber goes on; what is
// marked stays marked while it is only asked for, and an order that reads it clears it.
func TestScrubberPassesADiskThatFails(t *testing.T) {
	s := newStore(t)
	put(t, s, "a-small", []byte("small"))
	v, err := s.Find(t.Context(), at("a-small"))
	if err != nil {
		t.Fatal(err)
	}
	segment := filepath.Join(harness.Volume(s).Dir(), "segments", fmt.Sprintf("%016x.seg", v.Body.File))
	harness.Volume(s).Close() // so that what comes is in another file, and nothing is held open
	put(t, s, "z-large", bytes.Repeat([]byte("sound"), 60_000))
	if err := errors.Join(os.Rename(segment, segment+".kept"), os.Mkdir(segment, 0o700)); err != nil {
		t.Fatal(err)
	}
	crew := works.Start(s, works.Settings{ScrubEvery: 20 * time.Millisecond, ScrubRate: 1 << 30,
		DamageRefresh: 10 * time.Millisecond, OrdersEvery: 10 * time.Millisecond}, harness.Silent())
	defer crew.Stop()
	marked := func() int {
		d, err := s.Catalog.Damaged(t.Context(), "", 10)
		if err != nil {
			t.Fatal(err)
		}
		return len(d)
	}
	until(t, "it is noted", func() bool { return marked() == 1 })
	until(t, "the walk ends all the same", func() bool {
		var at upkeep.Scrubbed
		b, err := s.Catalog.WorkState(t.Context(), "scrubber")
		return err == nil && json.Unmarshal(b, &at) == nil && !at.Finished.IsZero()
	})
	crew.Stop()
	if err := errors.Join(os.Remove(segment), os.Rename(segment+".kept", segment)); err != nil {
		t.Fatal(err)
	}
	harness.Volume(s).Close() // what was opened of it
	until(t, "what is marked is refused", func() bool {
		_, _, err := s.Open(t.Context(), at("a-small"), v)
		return s.RefreshDamage(t.Context()) == nil && fault.KindOf(err) == fault.Damaged
	})
	o := &catalog.Order{Kind: "check", Bucket: plates, What: catalog.OrderWhat{Prefix: []byte("a-")}}
	crew = works.Start(s, works.Settings{ScrubEvery: time.Hour, OrdersEvery: 10 * time.Millisecond,
		DamageRefresh: 10 * time.Millisecond}, harness.Silent())
	defer crew.Stop()
	id, err := orders.Order(t.Context(), s, o, catalog.Author{Who: "test"})
	if err != nil {
		t.Fatal(err)
	}
	until(t, "the check is done", func() bool {
		o, err := s.Catalog.Order(t.Context(), id)
		return err == nil && o.State == catalog.OrderDone && o.Progress.Counts["sound"] == 1
	})
	if n := marked(); n != 0 {
		t.Errorf("%d bodies are marked that were found sound", n)
	}
	until(t, "it is served again", func() bool {
		b, _, err := s.Open(t.Context(), at("a-small"), v)
		if err == nil {
			b.Close()
		}
		return err == nil
	})
}
