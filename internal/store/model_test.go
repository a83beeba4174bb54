package store_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
	"spindle/internal/harness"
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
	for _, seed := range harness.Seeds(t, 4) {
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
