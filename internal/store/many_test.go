package store_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// What many renames and removals in one transaction leave behind is what the same leave one by
// one, in versions, usage and the journal, whatever was there before.
func TestManyAgreeWithOneByOne(t *testing.T) {
	for name, modes := range map[string][]object.Versioning{"off": {object.Off}, "on": {object.On},
		"paused": {object.On, object.Paused}, "on after off": {object.Off, object.On}} {
		t.Run(name, func(t *testing.T) {
			many, singly := manySide(t, modes), manySide(t, modes)
			many.renames(t, true)
			singly.renames(t, false)
			if a, b := many.says(t), singly.says(t); a != b {
				t.Errorf("after renames, many:\n%s\none by one:\n%s", a, b)
			}
			many.removes(t, true)
			singly.removes(t, false)
			if a, b := many.says(t), singly.says(t); a != b {
				t.Errorf("after removals, many:\n%s\none by one:\n%s", a, b)
			}
		})
	}
}

// side is a bucket in a store of its own that has what the other has.
type side struct{ s *store.Store }

func manySide(t *testing.T, modes []object.Versioning) side {
	s := newStore(t, nil)
	r := rand.New(rand.NewPCG(1, 2))
	for _, mode := range modes {
		if mode != object.Off {
			if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(mode)); err != nil {
				t.Fatal(err)
			}
		}
		for range 120 {
			key := fmt.Sprintf("%s/%02d", []string{"in", "out"}[r.IntN(2)], r.IntN(25))
			if r.IntN(4) == 0 {
				if _, err := s.Remove(t.Context(), at(key), nil, me); err != nil {
					t.Fatal(err)
				}
				continue
			}
			v := put(t, s, key, strings.Repeat("x", 1+r.IntN(50)))
			if r.IntN(3) == 0 {
				if _, err := s.Annotate(t.Context(), store.Annotation{Address: at(key), Author: me,
					Metadata: object.Edit{Set: object.Metadata{"size": fmt.Sprint(v.Size)}}}); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	return side{s}
}

// renames renames all keys, of which some are there and some are not, over what is there.
func (x side) renames(t *testing.T, many bool) {
	var list []store.Renaming
	for i := range 25 {
		list = append(list, store.Renaming{From: object.MustKey(fmt.Sprintf("in/%02d", i)),
			To: object.MustKey(fmt.Sprintf("out/%02d", i))})
	}
	if many {
		ok, err := x.s.RenameMany(t.Context(), plates, plates, list, true, me,
			func([]*object.Version) (int64, catalog.OrderProgress) { return 0, catalog.OrderProgress{} })
		if err != nil || !ok {
			t.Fatalf("many: %v, %v", ok, err)
		}
		return
	}
	for _, r := range list {
		_, err := x.s.Copy(t.Context(), store.Copy{From: at(r.From.String()), To: at(r.To.String()), Author: me, Move: true})
		if err != nil && !fault.HasCode(err, "key-missing") && !fault.HasCode(err, "key-deleted") {
			t.Fatal(err)
		}
	}
}

func (x side) removes(t *testing.T, many bool) {
	var list []store.Removal
	for i := range 30 { // some of them are nowhere
		list = append(list, store.Removal{Key: object.MustKey(fmt.Sprintf("out/%02d", i)), ID: object.Current})
	}
	if many {
		if _, _, err := x.s.RemoveMany(t.Context(), plates, list, me); err != nil {
			t.Fatal(err)
		}
		return
	}
	// Under a lease each is a transaction of its own, locked before it is read.
	l, _, ok, err := x.s.Catalog.Claim(t.Context(), "one by one", "test", time.Minute)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	for _, r := range list {
		if _, err := x.s.Remove(catalog.UnderLease(t.Context(), l), at(r.Key.String()), nil, me); err != nil {
			t.Fatal(err)
		}
	}
}

// says writes down what is there, but for numbers and times.
func (x side) says(t *testing.T) string {
	t.Helper()
	if err := x.s.Fresh(t.Context(), time.Now()); err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	page, _, err := x.s.ListVersions(t.Context(), plates, catalog.Versions{Max: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range page {
		v := l.Version
		fmt.Fprintf(&out, "%s %d marker=%v plain=%v revision=%d %v\n", v.Key, v.Size, v.Marker, v.Plain, v.Revision,
			v.Metadata)
	}
	b, err := x.s.Catalog.Bucket(t.Context(), plates)
	if err != nil {
		t.Fatal(err)
	}
	journal, err := x.s.Catalog.Journal(t.Context(), catalog.JournalQuery{Bucket: "plates", Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[catalog.EntryKind]int{}
	for _, e := range journal.Entries {
		kinds[e.Kind]++
	}
	fmt.Fprintf(&out, "usage %+v\njournal %v\n", b.Usage, kinds)
	return out.String()
}
