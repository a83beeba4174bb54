package store_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
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

// kept is a version in the model.
type kept struct {
	number   int64
	body     string
	marker   bool
	plain    bool
	revision int
	metadata map[string]string
	at       time.Time
}

func (k kept) id() object.VersionID {
	if k.plain {
		return object.Plain
	}
	return object.VersionID(k.number)
}

// model is what a bucket with versions should hold, worked out naively.
type model struct {
	mode object.Versioning
	keys map[string][]kept // oldest first
}

func (m *model) dropPlain(key string) {
	m.keys[key] = slices.DeleteFunc(m.keys[key], func(v kept) bool { return v.plain })
}

func (m *model) put(key string, v kept) {
	v.plain = m.mode != object.On
	if v.plain {
		m.dropPlain(key)
	}
	m.keys[key] = append(m.keys[key], v)
}

func (m *model) live(key string) *kept {
	if vs := m.keys[key]; len(vs) > 0 && !vs[len(vs)-1].marker {
		return &vs[len(vs)-1]
	}
	return nil
}

// usage counts what the roll-up should count.
func (m *model) usage() (u catalog.Usage) {
	for _, vs := range m.keys {
		for i, v := range vs {
			switch {
			case v.marker:
				u.Markers++
			case i == len(vs)-1:
				u.Objects++
				u.Bytes += int64(len(v.body))
			default:
				u.Previous++
				u.PreviousBytes += int64(len(v.body))
			}
		}
	}
	return u
}

func readVersion(t *testing.T, s *store.Store, key string, v *object.Version) string {
	t.Helper()
	var b strings.Builder
	body, v, err := s.Open(t.Context(), at(key), v)
	if err != nil {
		t.Fatalf("opening version %s of %s: %v", v.ID(), key, err)
	}
	defer body.Close()
	if err := body.Send(&b, 0, v.Size, nil); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestVersionsAgainstAModel does random things to a bucket whose versioning
// changes meanwhile, and compares every face of it with a naive model.
func TestVersionsAgainstAModel(t *testing.T) {
	for seed := range uint64(4) {
		s := newStore(t, nil)
		ctx := t.Context()
		r := rand.New(rand.NewPCG(seed, 7))
		m := &model{keys: map[string][]kept{}}
		names := []string{"a", "b/1", "b/2", "b/c/3", "c", "d/x"}
		clock := time.Now().UTC().Truncate(time.Second).Add(2 * time.Second)
		began := clock
		past := map[time.Time]map[string]string{} // moments and what was there
		for step := range 160 {
			clock = clock.Add(time.Second)
			by := catalog.Author{At: clock, Who: "scanner-2", Source: "10.0.0.1"}
			key := names[r.IntN(len(names))]
			vs := m.keys[key]
			switch n := r.IntN(20); {
			case n < 2:
				to := object.Versioning(1 + r.IntN(2))
				if err := s.ChangeBucket(ctx, plates, 0, by, bucket.Versioning(to)); err != nil {
					t.Fatal(err)
				}
				m.mode = to
			case n < 9:
				body := strings.Repeat(string(rune('a'+step%26)), 1+step)
				v, err := s.Put(ctx, store.Put{Address: at(key), Author: by, Body: strings.NewReader(body), Size: int64(len(body)),
					Metadata: object.Metadata{"step": fmt.Sprint(step)}})
				if err != nil {
					t.Fatal(err)
				}
				m.put(key, kept{number: v.Number, body: body, revision: 1, metadata: map[string]string{"step": fmt.Sprint(step)},
					at: clock})
			case n < 12:
				res, err := s.Remove(ctx, at(key), nil, by)
				if err != nil {
					t.Fatal(err)
				}
				if m.mode == object.Off {
					delete(m.keys, key)
				} else {
					m.put(key, kept{number: res.Number, marker: true, revision: 1, at: clock})
				}
			case n < 14 && len(vs) > 0:
				i := r.IntN(len(vs))
				if _, err := s.RemoveVersion(ctx, at(key), vs[i].id(), by); err != nil {
					t.Fatalf("removing version %s of %s: %v", vs[i].id(), key, err)
				}
				m.keys[key] = slices.Delete(slices.Clone(vs), i, i+1)
				clear(past) // what is removed for good is gone from the past too
			case n < 16 && len(vs) > 0:
				i := r.IntN(len(vs))
				_, err := s.Annotate(ctx, store.Annotation{Address: at(key), ID: vs[i].id(), Author: by,
					Metadata: object.Edit{Set: map[string]string{"note": fmt.Sprint(step)}}})
				if vs[i].marker {
					wantCode(t, "annotating a marker", err, "version-marker")
					break
				}
				if err != nil {
					t.Fatal(err)
				}
				vs[i].revision++
				vs[i].metadata = maps.Clone(vs[i].metadata)
				vs[i].metadata["note"] = fmt.Sprint(step)
				clear(past)
			case n < 18 && len(vs) > 0:
				was := vs[r.IntN(len(vs))]
				v, err := s.Restore(ctx, at(key), was.id(), time.Time{}, by)
				there := m.live(key)
				switch {
				case was.marker:
					wantCode(t, "restoring a marker", err, "version-marker")
				case there != nil && there.number == was.number:
					wantCode(t, "restoring what is current", err, "version-current")
				case there != nil && there.plain && m.mode != object.On:
					wantCode(t, "restoring over a plain version", err, "versioning-not-on")
				case err != nil:
					t.Fatal(err)
				default:
					was.number, was.revision, was.at = v.Number, 1, clock
					m.put(key, was)
				}
			case m.live(key) != nil:
				to := names[r.IntN(len(names))]
				if to == key {
					break
				}
				v, err := s.Copy(ctx, store.Copy{From: at(key), To: at(to), Author: by, Move: true})
				if err != nil {
					t.Fatal(err)
				}
				moved := *m.live(key)
				moved.number, moved.revision, moved.at = v.Number, 1, clock
				m.put(to, moved)
				if m.mode == object.Off {
					delete(m.keys, key)
				} else {
					h, err := s.Catalog.FindVersion(ctx, facts(t, s).ID, object.MustKey(key), latest(t, s, key))
					if err != nil || !h.Marker {
						t.Fatalf("after renaming %s away: %+v, %v", key, h, err)
					}
					m.put(key, kept{number: h.Number, marker: true, revision: 1, at: clock})
				}
			}
			if m.mode != object.Off && len(past) < 4 && r.IntN(6) == 0 && allOn(m) {
				now := map[string]string{}
				for k := range m.keys {
					if v := m.live(k); v != nil {
						now[k] = v.body
					}
				}
				past[clock] = now
			}
		}
		compare(t, s, m)
		for moment, want := range past {
			comparePast(t, s, moment, want)
		}
		_, _, err := s.ListAsOf(ctx, plates, catalog.Listing{Max: 10}, began.Add(-time.Hour))
		wantCode(t, "a moment before the bucket", err, "bucket-later")
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
}

// allOn reports whether nothing in the bucket can be overwritten without trace.
func allOn(m *model) bool { return m.mode == object.On }

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

func compare(t *testing.T, s *store.Store, m *model) {
	t.Helper()
	ctx := t.Context()
	for key, vs := range m.keys {
		v, err := s.Find(ctx, at(key))
		switch {
		case len(vs) == 0:
			wantCode(t, "finding "+key, err, "key-missing")
		case vs[len(vs)-1].marker:
			wantCode(t, "finding "+key, err, "key-deleted")
		case err != nil:
			t.Fatal(err)
		case readVersion(t, s, key, v) != vs[len(vs)-1].body:
			t.Errorf("%s holds another body", key)
		}
		if len(vs) == 0 {
			continue
		}
		h, err := s.Catalog.History(ctx, facts(t, s).ID, object.MustKey(key), 0, 1000)
		if err != nil || len(h.Versions) != len(vs) {
			t.Fatalf("%s has %d versions in its history, want %d; %v", key, len(h.Versions), len(vs), err)
		}
		for i, p := range h.Versions {
			want, got := vs[len(vs)-1-i], p.Version
			if got.Number != want.number || got.Marker != want.marker || got.Plain != want.plain ||
				got.Revision != want.revision || len(p.Revisions) != want.revision-1 {
				t.Errorf("%s: version %d from the top is %+v with %d changes, want %+v", key, i, got, len(p.Revisions), want)
			}
			if !want.marker && (!maps.Equal(got.Metadata, want.metadata) || readVersion(t, s, key, got) != want.body) {
				t.Errorf("%s: version %s has metadata %v, want %v, or another body", key, got.ID(), got.Metadata, want.metadata)
			}
		}
	}
	// The listing of versions, in pages of three.
	var want []string
	for _, key := range slices.Sorted(maps.Keys(m.keys)) {
		for _, v := range slices.Backward(m.keys[key]) {
			want = append(want, fmt.Sprintf("%s %d", key, v.number))
		}
	}
	var got []string
	l := catalog.Versions{Max: 3}
	for {
		page, more, err := s.ListVersions(ctx, plates, l)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range page {
			got = append(got, fmt.Sprintf("%s %d", e.Version.Key, e.Version.Number))
			if vs := m.keys[e.Version.Key.String()]; e.Latest != (vs[len(vs)-1].number == e.Version.Number) {
				t.Errorf("version %d is said to be latest: %v", e.Version.Number, e.Latest)
			}
			l.After, l.AfterNumber = e.Version.Key.String(), e.Version.Number
		}
		if !more {
			break
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("listed versions\n%v\nwant\n%v", got, want)
	}
	// Folded: the versions of a and c, and the prefixes.
	page, _, err := s.ListVersions(ctx, plates, catalog.Versions{Delimiter: "/", Max: 1000})
	if err != nil {
		t.Fatal(err)
	}
	want, got = nil, nil
	for _, e := range page {
		if e.Version == nil {
			got = append(got, e.Prefix)
		} else {
			got = append(got, fmt.Sprintf("%s %d", e.Name(), e.Version.Number))
		}
	}
	for _, key := range slices.Sorted(maps.Keys(m.keys)) {
		if fold, _, cut := strings.Cut(key, "/"); cut && len(m.keys[key]) > 0 {
			if !slices.Contains(want, fold+"/") {
				want = append(want, fold+"/")
			}
			continue
		}
		for _, v := range slices.Backward(m.keys[key]) {
			want = append(want, fmt.Sprintf("%s %d", key, v.number))
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("folded versions\n%v\nwant\n%v", got, want)
	}
	b, err := s.Catalog.Bucket(ctx, plates)
	if err != nil || b.Usage != m.usage() {
		t.Errorf("usage %+v, want %+v; %v", b.Usage, m.usage(), err)
	}
	if err := s.Fresh(ctx, time.Now()); err != nil {
		t.Fatal(err)
	}
	under := &model{keys: map[string][]kept{}}
	for key, vs := range m.keys {
		if strings.HasPrefix(key, "b/") {
			under.keys[key] = vs
		}
	}
	u, err := s.Catalog.UsageOf(ctx, b.ID, []string{"b/"})
	if err != nil || u["b/"] != under.usage() {
		t.Errorf("usage beneath b/ is %+v, want %+v; %v", u["b/"], under.usage(), err)
	}
}

func comparePast(t *testing.T, s *store.Store, moment time.Time, want map[string]string) {
	t.Helper()
	got := map[string]string{}
	for after := ""; ; {
		page, next, err := s.ListAsOf(t.Context(), plates, catalog.Listing{After: after, Max: 2}, moment)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range page {
			got[e.Name()] = readVersion(t, s, e.Name(), e.Version)
		}
		if next == "" {
			break
		}
		after = next
	}
	if !maps.Equal(got, want) {
		t.Errorf("as of %v there is %v, want %v", moment, got, want)
	}
	for key, body := range want {
		v, err := s.FindAsOf(t.Context(), at(key), moment)
		if err != nil || readVersion(t, s, key, v) != body {
			t.Errorf("%s as of %v: %+v, %v", key, moment, v, err)
		}
	}
	// Folded, it has a prefix exactly where something was.
	folded := map[string]bool{}
	for key := range want {
		if fold, _, cut := strings.Cut(key, "/"); cut {
			folded[fold+"/"] = true
		} else {
			folded[key] = true
		}
	}
	page, next, err := s.ListAsOf(t.Context(), plates, catalog.Listing{Delimiter: "/", Max: 100}, moment)
	if err != nil || next != "" || len(page) != len(folded) {
		t.Errorf("folded as of %v: %v, next %q, %v; want %v", moment, page, next, err, folded)
	}
	for _, e := range page {
		if !folded[e.Name()] {
			t.Errorf("folded as of %v: %q was not there", moment, e.Name())
		}
	}
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
