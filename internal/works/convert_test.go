package works_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
	"spindle/internal/works/orders"
)

// converting orders a conversion.
func converting(prefix string) *catalog.Order {
	return &catalog.Order{Kind: "convert", Bucket: plates, What: catalog.OrderWhat{Prefix: []byte(prefix)}}
}

// content gives n bytes that no other seed gives.
func content(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 9))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func get(t *testing.T, s *store.Store, a catalog.Address, id object.VersionID) []byte {
	t.Helper()
	v, err := s.FindVersion(t.Context(), a, id)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := s.ReadAll(t.Context(), v, &b, func(int) error { return nil }); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestConversionsGoOnAfterAStop seals what a bucket holds, versions and shared
// bodies included, while crews come and go, and while others write.
func TestConversionsGoOnAfterAStop(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	type kept struct {
		at   catalog.Address
		id   object.VersionID
		body []byte
	}
	var all []kept
	sizes := []int{3000, 0, 1, 200_000, 90_000}
	for i := range 150 {
		for v := range 1 + i%3 {
			b := content(uint64(10*i+v), sizes[(i+v)%len(sizes)])
			key := fmt.Sprintf("in/%03d", i)
			w := put(t, s, key, b)
			all = append(all, kept{at(key), w.ID(), b})
		}
	}
	shared, err := s.Copy(ctx, store.Copy{From: at("in/003"), To: at("shared"), Author: me})
	if err != nil {
		t.Fatal(err)
	}
	all = append(all, kept{at("shared"), shared.ID(), get(t, s, at("in/003"), object.Current)})
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Sealing(true)); err != nil {
		t.Fatal(err)
	}
	r, err := orders.Rehearse(ctx, s, converting("in/"))
	if err != nil || r.Counts["converted"] == 0 || r.Counts["converted"]+r.Counts["unchanged"] != 150 {
		t.Fatalf("rehearsed: %+v, %v", r, err)
	}
	if left, err := orders.Rehearse(ctx, s, converting("none/")); err != nil ||
		left.Counts["converted"]+left.Counts["unchanged"] != 0 {
		t.Errorf("nothing beneath: %+v, %v", left, err)
	}
	id, err := orders.Order(ctx, s, converting(""), me)
	if err != nil {
		t.Fatal(err)
	}
	middles := 0
	for round := 0; state(t, s, id).State == catalog.OrderRunning; round++ {
		before := state(t, s, id).Progress.Done()
		crew := works.Start(s, works.Settings{OrdersEvery: 5 * time.Millisecond}, quiet())
		b := content(uint64(9000+round), 5000)
		w := put(t, s, fmt.Sprintf("in/%03d", round), b)
		all = append(all, kept{at(fmt.Sprintf("in/%03d", round)), w.ID(), b})
		until(t, "something more is done", func() bool {
			o := state(t, s, id)
			return o.Progress.Done() > before || o.State != catalog.OrderRunning
		})
		crew.Stop()
		if o := state(t, s, id); o.State == catalog.OrderRunning && o.Progress.Done() > 0 {
			middles++
		}
		if round > 100 {
			t.Fatalf("never done: %+v", state(t, s, id))
		}
	}
	if o := state(t, s, id); o.State != catalog.OrderDone || o.Progress.Bytes == 0 || middles == 0 {
		t.Fatalf("%+v; %d stops fell into the middle", o, middles)
	}
	for _, k := range all {
		if got := get(t, s, k.at, k.id); !bytes.Equal(got, k.body) {
			t.Errorf("%s, version %s: %d bytes, %d were written", k.at.Key, k.id, len(got), len(k.body))
		}
		v, err := s.FindVersion(ctx, k.at, k.id)
		if err != nil {
			t.Fatal(err)
		}
		if sealed, err := s.Sealed(ctx, plates, v); err != nil || !sealed {
			t.Errorf("%s, version %s is sealed: %v, %v", k.at.Key, k.id, sealed, err)
		}
	}
	if r, err := orders.Rehearse(ctx, s, converting("")); err != nil || r.Counts["converted"] != 0 {
		t.Errorf("rehearsed again: %+v, %v", r, err)
	}
	// What was written before goes once nobody can be reading it.
	crew := works.Start(s, works.Settings{CollectGrace: time.Millisecond, CollectEvery: 20 * time.Millisecond}, quiet())
	defer crew.Stop()
	until(t, "the plain files are gone", func() bool {
		plain := 0
		err := filepath.WalkDir(filepath.Join(harness.Volume(s).Dir(), "whole"),
			func(path string, d fs.DirEntry, err error) error {
				if err == nil && !d.IsDir() && d.Name()[0] < '4' { // bit 62 shows in the first digit
					plain++
				}
				return err
			})
		return err == nil && plain == 0
	})
	for _, k := range all {
		if got := get(t, s, k.at, k.id); !bytes.Equal(got, k.body) {
			t.Errorf("%s, version %s after the collection: %d bytes", k.at.Key, k.id, len(got))
		}
	}
}

// TestConversionsAndDamage do not make damage look good, nor does the scrubber
// overlook it in what is sealed.
func TestConversionsAndDamage(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	v := put(t, s, "large", content(1, 300_000))
	path := func(v *object.Version) string {
		name := fmt.Sprintf("%016x", v.Body.File)
		return filepath.Join(harness.Volume(s).Dir(), "whole", name[14:], name+".body")
	}
	flip := func(v *object.Version, at int64) {
		t.Helper()
		f, err := os.OpenFile(path(v), os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		b := make([]byte, 1)
		if _, err := f.ReadAt(b, at); err != nil {
			t.Fatal(err)
		}
		b[0] ^= 0x10
		if _, err := f.WriteAt(b, at); err != nil {
			t.Fatal(err)
		}
	}
	flip(v, 123_456)
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Sealing(true)); err != nil {
		t.Fatal(err)
	}
	id, err := orders.Order(ctx, s, converting(""), me)
	if err != nil {
		t.Fatal(err)
	}
	crew := works.Start(s, works.Settings{OrdersEvery: 5 * time.Millisecond}, quiet())
	until(t, "the conversion fails", func() bool { return state(t, s, id).State == catalog.OrderFailed })
	crew.Stop()
	if o := state(t, s, id); o.Problem == "" {
		t.Errorf("%+v", o)
	}
	if now, err := s.Find(ctx, at("large")); err != nil || now.Body != v.Body {
		t.Errorf("the damaged body was replaced: %+v, %v", now, err)
	}
	// Put again, sealed; then damaged at rest, in the header and in a chunk.
	for i, place := range []int64{30, 200_000} {
		w := put(t, s, "large", content(2, 300_000))
		if !w.Body.Sealed() {
			t.Fatal("not sealed")
		}
		flip(w, place)
		if err := harness.Volume(s).Check(t.Context(), w.Body, w.Size, w.CRC64,
			func(int) error { return nil }); fault.KindOf(err) != fault.Damaged {
			t.Errorf("%d: the scrubber finds %v", i, err)
		}
		var b bytes.Buffer
		if err := s.ReadAll(ctx, w, &b, func(int) error { return nil }); fault.KindOf(err) != fault.Damaged {
			t.Errorf("%d: reading gives %v after %d bytes", i, err, b.Len())
		}
	}
}
