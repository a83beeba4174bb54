package store_test

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

func facts(t *testing.T, s *store.Store) catalog.BucketFacts {
	t.Helper()
	f, err := s.Catalog.Facts(t.Context(), plates)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func latest(t *testing.T, s *store.Store, key string) object.VersionID {
	t.Helper()
	h, err := s.Catalog.History(t.Context(), facts(t, s).ID, object.MustKey(key), 0, 1)
	if err != nil || len(h.Versions) == 0 {
		t.Fatalf("the history of %s: %+v, %v", key, h, err)
	}
	return object.VersionID(h.Versions[0].Version.Number)
}

func versioned(t *testing.T) *store.Store {
	t.Helper()
	s := newStore(t, nil)
	if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	return s
}

func TestMetadataOfThePast(t *testing.T) {
	s := versioned(t)
	ctx := t.Context()
	put(t, s, "k", "body")
	t1 := time.Now()
	time.Sleep(2 * time.Millisecond)
	first, err := s.Annotate(ctx, store.Annotation{Address: at("k"), Author: me,
		Metadata: object.Edit{Set: map[string]string{"taxon": "Erica"}},
		Tags:     object.Edit{Set: map[string]string{"seen": "yes"}}})
	if err != nil || first.Revision != 2 {
		t.Fatal(first, err)
	}
	t2 := time.Now()
	time.Sleep(2 * time.Millisecond)
	if _, err := s.Annotate(ctx, store.Annotation{Address: at("k"), Author: me,
		Metadata: object.Edit{Set: map[string]string{"taxon": "Calluna"}}}); err != nil {
		t.Fatal(err)
	}
	for moment, want := range map[time.Time]string{t1: "", t2: "Erica", time.Now(): "Calluna"} {
		v, err := s.FindAsOf(ctx, at("k"), moment)
		if err != nil || v.Metadata["taxon"] != want || (want == "") != (len(v.Tags) == 0) {
			t.Errorf("as of %v: %+v, %v; want %q", moment, v, err, want)
		}
		page, _, err := s.ListAsOf(ctx, plates, catalog.Listing{Max: 5, Full: true}, moment)
		if err != nil || page[0].Version.Metadata["taxon"] != want {
			t.Errorf("listed as of %v: %+v, %v", moment, page, err)
		}
	}
	// Restoring as of a moment brings the metadata back, by one more revision.
	v, err := s.Restore(ctx, at("k"), object.Current, t2, me)
	if err != nil || v.Revision != 4 || v.Metadata["taxon"] != "Erica" || v.Tags["seen"] != "yes" {
		t.Errorf("restored: %+v, %v", v, err)
	}
}

func TestOneAnnotatorWinsEachRevision(t *testing.T) {
	s := versioned(t)
	put(t, s, "k", "body")
	var won [51]atomic.Int64
	var wg sync.WaitGroup
	for i := range 50 {
		wg.Go(func() {
			for {
				v, err := s.Find(context.Background(), at("k"))
				if err != nil {
					t.Error(err)
					return
				}
				got, err := s.Annotate(context.Background(), store.Annotation{Address: at("k"), Author: me, IfRevision: v.Revision,
					Metadata: object.Edit{Set: map[string]string{fmt.Sprintf("n%02d", i): "x"}}})
				if fault.HasCode(err, "revision") {
					continue
				}
				if err != nil {
					t.Error(err)
					return
				}
				won[got.Revision-1].Add(1)
				return
			}
		})
	}
	wg.Wait()
	v, err := s.Find(t.Context(), at("k"))
	if err != nil || v.Revision != 51 || len(v.Metadata) != 50 {
		t.Fatalf("at the end: revision %d, %d fields, %v", v.Revision, len(v.Metadata), err)
	}
	for r := 1; r <= 50; r++ {
		if n := won[r].Load(); n != 1 {
			t.Errorf("revision %d was won by %d", r+1, n)
		}
	}
	// Without a condition they all get through.
	for i := range 10 {
		wg.Go(func() {
			if _, err := s.Annotate(context.Background(), store.Annotation{Address: at("k"), Author: me,
				Metadata: object.Edit{Unset: []string{fmt.Sprintf("n%02d", i)}}}); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if v, err := s.Find(t.Context(), at("k")); err != nil || v.Revision != 61 || len(v.Metadata) != 40 {
		t.Errorf("after ten more: revision %d, %d fields, %v", v.Revision, len(v.Metadata), err)
	}
}

func TestRenamesKeepTheLine(t *testing.T) {
	s := versioned(t)
	ctx := t.Context()
	put(t, s, "first", "one")
	put(t, s, "first", "two")
	for _, move := range [][2]string{{"first", "second"}, {"second", "third"}} {
		if _, err := s.Copy(ctx, store.Copy{From: at(move[0]), To: at(move[1]), Author: me, Move: true}); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"first", "second", "third"} {
		chapters, err := s.History(ctx, at(name), 0, 100, true)
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]int{}
		for _, c := range chapters {
			seen[c.Key.String()] = len(c.Versions)
		}
		if !maps.Equal(seen, map[string]int{"first": 3, "second": 2, "third": 1}) || chapters[0].Key.String() != name {
			t.Errorf("followed from %s: %v", name, seen)
		}
	}
	h, err := s.History(ctx, at("second"), 0, 100, false)
	if err != nil || len(h) != 1 || h[0].Versions[1].Origin.Key != "first" || h[0].Went[0].Key != "third" {
		t.Errorf("the name between: %+v, %v", h, err)
	}
	if _, err := s.Find(ctx, at("first")); !fault.HasCode(err, "key-deleted") {
		t.Errorf("the old name: %v", err)
	}
	// Where versioning is off, the old name still says where the object went.
	s = newStore(t, nil)
	put(t, s, "a", "x")
	if _, err := s.Copy(ctx, store.Copy{From: at("a"), To: at("b"), Author: me, Move: true}); err != nil {
		t.Fatal(err)
	}
	h, err = s.History(ctx, at("a"), 0, 10, false)
	if err != nil || len(h[0].Versions) != 0 || h[0].Went[0].Key != "b" {
		t.Errorf("without versioning: %+v, %v", h, err)
	}
	_, err = s.History(ctx, at("never"), 0, 10, false)
	wantCode(t, "the history of nothing", err, "key-missing")
}

func TestSwitchingVersioningOff(t *testing.T) {
	s := versioned(t)
	ctx := t.Context()
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.Off)); err != nil {
		t.Errorf("off while nothing is there: %v", err)
	}
	put(t, s, "plain", "x")
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.Off)); err != nil {
		t.Errorf("off while only plain versions are there: %v", err)
	}
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	put(t, s, "numbered", "x")
	wantCode(t, "off while a numbered version is there", s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.Off)),
		"versioning-kept")
	wantCode(t, "removing the bucket", s.RemoveBucket(ctx, plates, me), "bucket-not-empty")
	c, err := s.PurgeUnder(ctx, plates, "", 100, me)
	if err != nil || c.Objects != 2 || c.More {
		t.Errorf("purged %+v, %v", c, err)
	}
	wantCode(t, "removing it empty", s.RemoveBucket(ctx, plates, me), "")
}

func TestAThousandVersionsOfOneKey(t *testing.T) {
	s := versioned(t)
	ctx := t.Context()
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			for range 50 {
				if _, err := s.Put(ctx, store.Put{Address: at("k"), Author: me, Body: strings.NewReader("x"),
					Size: 1}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	n, before := 0, int64(0)
	for {
		h, err := s.History(ctx, at("k"), before, 300, false)
		if err != nil {
			t.Fatal(err)
		}
		n += len(h[0].Versions)
		if !h[0].More {
			break
		}
		before = h[0].Versions[len(h[0].Versions)-1].Version.Number
	}
	if n != 1000 {
		t.Errorf("%d versions in the history", n)
	}
	for range 3 { // a marker on a marker is another marker
		if _, err := s.Remove(ctx, at("k"), nil, me); err != nil {
			t.Fatal(err)
		}
	}
	b, err := s.Catalog.Bucket(ctx, plates)
	if want := (catalog.Usage{Previous: 1000, PreviousBytes: 1000, Markers: 3}); err != nil || b.Usage != want {
		t.Errorf("usage %+v, want %+v; %v", b.Usage, want, err)
	}
	c, err := s.PurgeUnder(ctx, plates, "", 100, me)
	if err != nil || c.Usage != b.Usage {
		t.Errorf("purged %+v, %v", c, err)
	}
	if b, err = s.Catalog.Bucket(ctx, plates); err != nil || b.Usage != (catalog.Usage{}) {
		t.Errorf("left %+v, %v", b.Usage, err)
	}
}

func TestQuotaCountsPreviousVersions(t *testing.T) {
	quota := int64(10)
	s := newStore(t, &quota)
	if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	put(t, s, "k", "12345")
	put(t, s, "k", "1234")
	_, err := s.Put(t.Context(), store.Put{Address: at("k"), Author: me, Body: strings.NewReader("12"), Size: 2})
	wantCode(t, "a third version", err, "quota")
	_, err = s.Put(t.Context(), store.Put{Address: at("k"), Author: me, Body: strings.NewReader("12"), Size: -1})
	wantCode(t, "a third version of unknown length", err, "quota")
	put(t, s, "k", "1")
}

// TestJournalReadersMissNothing follows the journal while 16 writers work: every
// entry once, none late.
func TestJournalReadersMissNothing(t *testing.T) {
	s := versioned(t)
	ctx := t.Context()
	var wrote sync.Map
	var wg sync.WaitGroup
	done := make(chan struct{})
	for w := range 16 {
		wg.Go(func() {
			for i := range 60 {
				v, err := s.Put(ctx, store.Put{Address: at(fmt.Sprintf("%d/%d", w, i%7)),
					Author: catalog.Author{Who: fmt.Sprint("writer-", w)}, Body: strings.NewReader("x"), Size: 1})
				if err != nil {
					t.Error(err)
					return
				}
				wrote.Store(v.Number, time.Now())
			}
		})
	}
	var ended atomic.Pointer[time.Time] // when all was acknowledged
	go func() {
		wg.Wait()
		now := s.Catalog.Now()
		ended.Store(&now)
		close(done)
	}()
	seen := map[int64]int{}
	for at, last := "0.0", false; ; {
		select {
		case <-done:
			last = true
		default:
		}
		p, err := s.Catalog.Journal(ctx, catalog.JournalQuery{After: at, Limit: 50,
			Kinds: []catalog.EntryKind{catalog.ObjectWritten}})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range p.Entries {
			seen[e.Number]++
		}
		if p.Next != "" && len(p.Entries) > 0 {
			at = p.Next
			continue
		}
		// Complete up to the moment it says: what was acknowledged before is seen.
		wrote.Range(func(number, when any) bool {
			if when.(time.Time).Before(p.UpTo) && seen[number.(int64)] == 0 {
				t.Errorf("version %d was acknowledged before %v and is not seen", number, p.UpTo)
			}
			return true
		})
		if last && len(seen) == 16*60 {
			break
		}
		if last && p.UpTo.After(*ended.Load()) {
			t.Fatalf("%d seen of %d, and complete up to after the last", len(seen), 16*60)
		}
	}
	for number, n := range seen {
		if n != 1 {
			t.Errorf("version %d was seen %d times", number, n)
		}
	}
	p, err := s.Catalog.Journal(ctx, catalog.JournalQuery{Prefix: "3/", Who: "writer-3", Limit: 1000, Since: time.Now().
		Add(-time.Hour)})
	if err != nil || len(p.Entries) != 60 || p.Next != "" {
		t.Errorf("filtered: %d entries, next %q, %v", len(p.Entries), p.Next, err)
	}
}
