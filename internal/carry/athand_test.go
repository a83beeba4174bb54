package carry_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/carry"
	"spindle/internal/core/digest"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/side"
	"spindle/internal/side/sidetest"
)

// write puts an object with metadata and tags.
func write(t *testing.T, s side.Side, key, content string, tags object.Tags) {
	t.Helper()
	crc := digest.CRC64([]byte(content))
	if _, err := s.Write(t.Context(), key, sidetest.Bytes(content), side.Write{Facts: side.Facts{Size: int64(len(content)),
		CRC64: &crc, Metadata: object.Metadata{"of": key}, Tags: tags}}); err != nil {
		t.Fatal(err)
	}
}

// What was renamed at the source is copied at a target that can, and not sent; the copy has
// the metadata of the source as it is now.
func TestRenamedObjectsAreNotSent(t *testing.T) {
	all := sides(t)
	from := side.Beneath(all["a bucket here"], "from/")
	for name, can := range map[string]bool{"a bucket here": true, "at an able endpoint": true,
		"at a plain endpoint":  false,
		"through our own wire": true} {
		t.Run(name, func(t *testing.T) {
			to := side.Beneath(all[name], "to/")
			body := strings.Repeat(name, 5000)
			write(t, from, "a/old", body, nil)
			write(t, from, "b", "another", nil)
			run(t, mirror(from, to))
			if err := from.Remove(t.Context(), "a/old"); err != nil {
				t.Fatal(err)
			}
			write(t, from, "c/new", body, object.Tags{"kind": "moved"})
			var sent atomic.Int64
			j := mirror(from, to)
			j.Moved = func(n int64) { sent.Add(n) }
			plan, err := j.Rehearse(t.Context())
			if err != nil || plan.AtHand.Objects != 1 || plan.AtHand.Bytes != int64(len(body)) {
				t.Errorf("rehearsed: %+v, %v", plan, err)
			}
			r := run(t, j)
			if r.Written.Objects != 1 || r.Removed.Objects != 1 || (r.AtHand.Objects == 1) != can || can && sent.Load() > 0 {
				t.Errorf("%+v, %d bytes sent", r, sent.Load())
			}
			if got := held(t, to); len(got) != 2 || got[1] != "c/new="+body {
				t.Errorf("there are %.200q", got)
			}
			if f, err := to.Stat(t.Context(), "c/new"); err != nil || f.Metadata["of"] != "c/new" || f.Tags["kind"] != "moved" {
				t.Errorf("the copy is %+v, %v", f, err)
			}
			for _, key := range []string{"b", "c/new"} {
				if err := from.Remove(t.Context(), key); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// Tags, or an expression, say what takes part: others are neither written nor removed.
func TestTagsSayWhatTakesPart(t *testing.T) {
	all := sides(t)
	from, to := side.Beneath(all["a bucket here"], "from/"), all["at an able endpoint"]
	write(t, from, "a", "1", object.Tags{"keep": "yes"})
	write(t, from, "b", "2", object.Tags{"keep": "no"})
	write(t, from, "c", "3", nil)
	write(t, to, "b", "older", nil)
	write(t, to, "gone", "4", object.Tags{"keep": "yes"})
	write(t, to, "others", "5", nil)
	j := mirror(from, to)
	j.Options.Filter.Tags = object.Tags{"keep": "yes"}
	run(t, j)
	if got := strings.Join(held(t, to), " "); got != "a=1 b=older others=5" {
		t.Errorf("there is %s", got)
	}
	j = mirror(from, to)
	var err error
	if j.Options.Filter.Where, err = syncing.ParseWhere(`field "of" is one of b, others or key begins with c`,
		time.Now()); err != nil {
		t.Fatal(err)
	}
	run(t, j)
	if got := strings.Join(held(t, to), " "); got != "a=1 b=2 c=3" {
		t.Errorf("there is %s", got)
	}
}

// A sealed target is brought up to date as another is, and brought back from.
func TestSealedThereAndBack(t *testing.T) {
	keys, err := sealing.Derive("linen thread on a reel", sealing.Salt{1})
	if err != nil {
		t.Fatal(err)
	}
	for name, of := range sides(t) {
		t.Run(name, func(t *testing.T) {
			to := &side.Sealed{Of: of, Keys: keys, Names: true}
			from := &side.Folder{Dir: t.TempDir()}
			put(t, from.Dir, map[string]string{"a/1": "one", "a/2": strings.Repeat("two", 40_000), "é ö": "", "z": "last"})
			if r := run(t, mirror(from, to)); r.Written.Objects != 4 || r.Failed > 0 {
				t.Errorf("first: %+v", r)
			}
			j := mirror(from, to)
			if r := run(t, j); r.Same.Objects != 4 || r.Written.Objects > 0 {
				t.Errorf("again: %+v", r)
			}
			put(t, from.Dir, map[string]string{"z": "LAST"}) // as long, and as old
			j.Options.By = syncing.ByDigest
			if r := run(t, j); r.Written.Objects != 1 {
				t.Errorf("what changed: %+v", r)
			}
			back := &side.Folder{Dir: t.TempDir()}
			restore := &carry.Job{From: to, To: back, Guard: syncing.Usual, Options: syncing.Options{Mode: syncing.Accumulate}}
			if r := run(t, restore); r.Written.Objects != 4 {
				t.Errorf("back: %+v", r)
			}
			was, is := held(t, from), held(t, back)
			for i := range was {
				if was[i] != is[i] {
					t.Errorf("%.80q came back as %.80q", was[i], is[i])
				}
			}
			a, aerr := from.Stat(t.Context(), "z")
			b, berr := back.Stat(t.Context(), "z")
			if aerr != nil || berr != nil || !a.Modified.Equal(b.Modified) ||
				a.Metadata[side.FileMode] != b.Metadata[side.FileMode] {
				t.Errorf("time and permissions: %+v came back as %+v, %v, %v", a, b, aerr, berr)
			}
		})
	}
}

// A limit is asked for while bytes are sent, as of the time of day.
func TestLimitsAreAskedFor(t *testing.T) {
	from, to := &side.Folder{Dir: t.TempDir()}, &side.Folder{Dir: t.TempDir()}
	put(t, from.Dir, map[string]string{"a": strings.Repeat("x", 200_000)})
	j := mirror(from, to)
	asked := 0
	j.Rate = func(at time.Time) int64 {
		if time.Since(at) > time.Minute {
			t.Errorf("asked for %v", at)
		}
		asked++
		return 100 << 20
	}
	if r := run(t, j); r.Written.Objects != 1 || asked == 0 {
		t.Errorf("%+v, asked %d times", r, asked)
	}
}
