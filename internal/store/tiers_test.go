package store_test

import (
	"bytes"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/store"
)

// addTier adds a tier on n new directories.
func addTier(t *testing.T, s *store.Store, name string, n int, change func(*tier.Tier)) (*tier.Tier, []string) {
	t.Helper()
	x := &tier.Tier{Name: name, Copies: 1}
	var dirs []string
	for i := range n {
		dir := filepath.Join(t.TempDir(), name+string(rune('a'+i)))
		dirs = append(dirs, dir)
		x.Volumes = append(x.Volumes, tier.Volume{Dir: dir})
	}
	if change != nil {
		change(x)
	}
	if err := s.AddTier(t.Context(), x, me); err != nil {
		t.Fatal(err)
	}
	return x, dirs
}

// TestTiersAreAddedChangedAndRemoved goes through a tier's life, with what is refused.
func TestTiersAreAddedChangedAndRemoved(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	_, dirs := addTier(t, s, "cellar", 1, func(x *tier.Tier) { x.Price = 1000 })
	again := func(name, dir string) error {
		return s.AddTier(ctx, &tier.Tier{Name: name, Copies: 1, Volumes: []tier.Volume{{Dir: dir}}}, me)
	}
	wantCode(t, "the same directory", again("attic", dirs[0]), "volume-taken")
	wantCode(t, "the same name", again("cellar", filepath.Join(t.TempDir(), "x")), "tier-exists")
	wantCode(t, "a name that is none", again("Cellar!", filepath.Join(t.TempDir(), "x")), "tier-name")
	once := filepath.Join(t.TempDir(), "x")
	wantCode(t, "a taken name", again("cellar", once), "tier-exists")
	wantCode(t, "the directory of what failed", again("attic", once), "")
	wantCode(t, "away with it", s.RemoveTier(ctx, "attic", me), "")
	wantCode(t, "too few volumes", s.AddTier(ctx, &tier.Tier{Name: "attic", Copies: 2,
		Volumes: []tier.Volume{{Dir: t.TempDir()}}}, me), "tier-copies")
	wantCode(t, "main with copies", s.ChangeTier(ctx, "main", 0, me,
		func(x *tier.Tier) error { x.Copies = 2; return nil }),
		"tier-main")
	wantCode(t, "main's price", s.ChangeTier(ctx, "main", 0, me,
		func(x *tier.Tier) error { x.Price = 20_000; return nil }), "")
	wantCode(t, "an old revision", s.ChangeTier(ctx, "main", 1, me, func(x *tier.Tier) error { return nil }), "revision")
	more := filepath.Join(t.TempDir(), "more")
	wantCode(t, "a volume more", s.ChangeTier(ctx, "cellar", 0, me, func(x *tier.Tier) error {
		x.Volumes = append(x.Volumes, tier.Volume{Dir: more})
		x.Copies = 2
		return nil
	}), "")
	wantCode(t, "the bucket's", s.ChangeBucket(ctx, plates, 0, me, bucket.Tier("cellar")), "")
	wantCode(t, "no such tier", s.ChangeBucket(ctx, plates, 0, me, bucket.Tier("attic")), "tier-missing")
	v := put(t, s, "k", "in two copies")
	if set, err := s.Tiers(ctx); err != nil || set.Name(v.Body.Tier) != "cellar" {
		t.Errorf("put into %d, %v", v.Body.Tier, err)
	}
	if got, err := get(t, s, "k"); got != "in two copies" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	wantCode(t, "one that a bucket names", s.RemoveTier(ctx, "cellar", me), "tier-used")
	wantCode(t, "back to main", s.ChangeBucket(ctx, plates, 0, me, bucket.Tier("main")), "")
	wantCode(t, "one that holds something", s.RemoveTier(ctx, "cellar", me), "tier-used")
	if _, err := s.Remove(ctx, at("k"), nil, me); err != nil {
		t.Fatal(err)
	}
	wantCode(t, "an empty one", s.RemoveTier(ctx, "cellar", me), "")
	wantCode(t, "main", s.RemoveTier(ctx, "main", me), "tier-used")
	p := putOf("k", "x", me)
	p.Tier = "cellar"
	_, err := s.Put(ctx, p)
	wantCode(t, "a put into one that is gone", err, "tier-missing")
}

// TestVersionsAreMoved moves small, large, empty and parted versions, current and
// previous, and reads them.
func TestVersionsAreMoved(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	cellar, _ := addTier(t, s, "cellar", 2, func(x *tier.Tier) { x.Copies, x.Packed, x.Sealed = 2, true, true })
	facts, err := s.Facts(ctx, plates)
	if err != nil {
		t.Fatal(err)
	}
	whole := strings.Repeat("a specimen sheet ", 100_000)
	want := map[string]string{"small": "a label", "large": whole, "empty": ""}
	for key, body := range want {
		put(t, s, key, body)
	}
	id := upload(t, s, "parts")
	first, last := bytes.Repeat([]byte("p"), object.MinPart), []byte("the last")
	part(t, s, "parts", id, 1, first)
	part(t, s, "parts", id, 4, last)
	if _, err := complete(s, t, "parts", id, nil, 1, 4); err != nil {
		t.Fatal(err)
	}
	want["parts"] = string(first) + string(last)
	put(t, s, "small", "a newer label")
	previous, err := s.Catalog.History(ctx, facts.ID, object.MustKey("small"), 0, 10)
	if err != nil || len(previous.Versions) != 2 {
		t.Fatal(err)
	}
	if moved, err := s.Move(ctx, facts.ID, previous.Versions[1].Version, cellar, store.Moving{Author: me,
		Rule: "old"}); !moved || err != nil {
		t.Errorf("a previous version: %v, %v", moved, err)
	}
	want["small"] = "a newer label"
	for key, body := range want {
		v, err := s.Find(ctx, at(key))
		if err != nil {
			t.Fatal(err)
		}
		if moved, err := s.Move(ctx, facts.ID, v, cellar, store.Moving{Author: me}); !moved || err != nil {
			t.Errorf("%s: %v, %v", key, moved, err)
		}
		if _, err := s.Move(ctx, facts.ID, v, cellar, store.Moving{Author: me}); !fault.HasCode(err, "version-moved") {
			t.Errorf("%s, moved as it was before: %v", key, err)
		}
		now, err := s.Find(ctx, at(key))
		if err != nil || now.Body.Tier != cellar.ID || now.ETag != v.ETag || now.Number != v.Number ||
			!now.Created.Equal(v.Created) {
			t.Errorf("%s is %+v, %v", key, now, err)
		}
		if got, err := get(t, s, key); got != body || err != nil {
			t.Errorf("%s: %d bytes, %v", key, len(got), err)
		}
		if moved, err := s.Move(ctx, facts.ID, now, cellar, store.Moving{Author: me}); moved || err != nil {
			t.Errorf("%s, to where it is: %v, %v", key, moved, err)
		}
	}
	// A copy keeps the tier, or names one; a rename never moves bytes.
	c, err := s.Copy(ctx, store.Copy{From: at("parts"), To: at("copy"), Author: me, Tier: "main"})
	if err != nil || c.Body.Tier != tier.Main || c.ETag.Parts != 2 {
		t.Errorf("copied to main: %+v, %v", c, err)
	}
	if c, err = s.Copy(ctx, store.Copy{From: at("large"), To: at("renamed"), Author: me,
		Move: true}); err != nil || c.Body.Tier != cellar.ID {
		t.Errorf("renamed: %+v, %v", c, err)
	}
	// Its metadata changed meanwhile: it may no longer be what it was judged by.
	v, err := s.Find(ctx, at("copy"))
	if err != nil {
		t.Fatal(err)
	}
	old := *v
	old.Revision = 7
	_, err = s.Move(ctx, facts.ID, &old, cellar, store.Moving{Author: me})
	wantCode(t, "another revision", err, "version-moved")
}

// TestRestoredFirst reads a version of a tier that is restored first: refused, restored,
// and refused again when the copy's time is over.
func TestRestoredFirst(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	addTier(t, s, "cellar", 1, func(x *tier.Tier) { x.Restore = &tier.Restore{Delay: 10 * time.Millisecond, Days: 3} })
	p := putOf("k", "kept cool", me)
	p.Tier = "cellar"
	if _, err := s.Put(ctx, p); err != nil {
		t.Fatal(err)
	}
	_, err := get(t, s, "k")
	wantCode(t, "read at once", err, "restore-first")
	_, err = s.Copy(ctx, store.Copy{From: at("k"), To: at("copy"), Author: me, Tier: "main"})
	wantCode(t, "copied at once", err, "restore-first")
	put(t, s, "main", "x")
	_, err = s.Fetch(ctx, at("main"), object.Current, 0, me)
	wantCode(t, "one that is read at once", err, "restore-needless")
	_, err = s.Fetch(ctx, at("k"), object.Current, -1, me)
	wantCode(t, "for no time", err, "restore-days")
	r, err := s.Fetch(ctx, at("k"), object.Current, 0, me)
	if err != nil || r.Ready() || r.Days != 3 {
		t.Fatalf("asked: %+v, %v", r, err)
	}
	var due []*catalog.RestoredCopy
	harness.Until(t, "the copy is due", func() bool {
		due, _, err = s.Catalog.RestoredDue(ctx, 10)
		return err == nil && len(due) == 1
	})
	if err := s.MakeRestored(ctx, *due[0]); err != nil {
		t.Fatal(err)
	}
	if got, err := get(t, s, "k"); got != "kept cool" || err != nil {
		t.Errorf("restored: %q, %v", got, err)
	}
	free, err := s.Catalog.Unreferenced(ctx, []object.BodyFile{due[0].Body.In()})
	if err != nil || len(free) != 1 {
		t.Errorf("%v, %v", free, err)
	}
	v, err := s.Find(ctx, at("k"))
	if err != nil {
		t.Fatal(err)
	}
	f, _ := s.Facts(ctx, plates)
	st, err := s.RestoreState(ctx, f.ID, v)
	if err != nil || !st.Ready() {
		t.Fatalf("%+v, %v", st, err)
	}
	if free, err = s.Catalog.Unreferenced(ctx, []object.BodyFile{st.Body.In()}); err != nil || len(free) != 0 {
		t.Errorf("the restored copy would be collected: %v, %v", free, err)
	}
	if err := s.Catalog.DropRestored(ctx, st.RestoredCopy); err != nil {
		t.Fatal(err)
	}
	_, err = get(t, s, "k")
	wantCode(t, "after its time", err, "restore-first")
}
