package bodies

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// TestTwoProcessesOnOneVolume writes and reads from two sides of a directory,
// closes one and opens it again, and compares everything with a model.
func TestTwoProcessesOnOneVolume(t *testing.T) {
	dir := t.TempDir()
	open := func() *Volume {
		v, err := Open(dir, 0)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	type kept struct {
		w    Written
		seed uint64
	}
	var mu sync.Mutex
	var model []kept
	for round := range 3 {
		vs := []*Volume{open(), open()}
		var wg sync.WaitGroup
		for g := range 6 {
			wg.Go(func() {
				r := rand.New(rand.NewPCG(uint64(round), uint64(g)))
				for range 15 {
					n := []int{1 + r.IntN(5000), r.IntN(SmallBody), SmallBody + r.IntN(400_000)}[r.IntN(3)]
					seed := r.Uint64()
					w, err := vs[g%2].Write(bytes.NewReader(content(n, seed)), int64(n), false, nil, accept)
					if err != nil {
						t.Error(err)
						return
					}
					mu.Lock()
					model = append(model, kept{w, seed})
					other := model[r.IntN(len(model))]
					mu.Unlock()
					got, err := read(t, vs[(g+1)%2], other.w) // what the other side wrote
					if err != nil || !bytes.Equal(got, content(int(other.w.Size), other.seed)) {
						t.Errorf("%+v came back as %d bytes, %v", other.w.Ref, len(got), err)
					}
				}
			})
		}
		wg.Wait()
		for _, v := range vs {
			v.Close()
		}
	}
	v := open()
	defer v.Close()
	places := map[object.BodyRef]bool{}
	for _, k := range model {
		if places[k.w.Ref] && k.w.Ref.File != 0 {
			t.Errorf("two bodies stand at %+v", k.w.Ref)
		}
		places[k.w.Ref] = true
		if err := v.Check(t.Context(), k.w.Ref, k.w.Size, k.w.CRC64, noLimit); err != nil {
			t.Errorf("%+v: %v", k.w.Ref, err)
		}
	}
	var files int
	if err := v.Walk(t.Context(), func(f File) error {
		files++
		if f.Size == 0 || f.Changed.After(time.Now().Add(time.Minute)) {
			t.Errorf("file %+v", f)
		}
		return nil
	}); err != nil || files == 0 {
		t.Errorf("%d files, %v", files, err)
	}
}

// TestADiskThatFails breaks the volume under the writer: errors are clear, and
// bodies written before stay readable.
func TestADiskThatFails(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Log("root writes where others may not: the folder is removed instead of closed")
	}
	v := openVolume(t)
	before, err := v.Write(bytes.NewReader(content(4000, 1)), -1, false, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(v.dir, "whole")); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Write(bytes.NewReader(content(500_000, 1)), -1, false, nil,
		accept); fault.KindOf(err) != fault.Internal || !fault.HasCode(err, "disk-error") {
		t.Errorf("writing into a folder that is gone: %v", err)
	}
	if got, err := read(t, v, before); err != nil || len(got) != 4000 {
		t.Errorf("what was there before: %d bytes, %v", len(got), err)
	}
	if err := os.Rename(v.segmentPath(before.Ref.File), filepath.Join(v.dir, "away")); err != nil {
		t.Fatal(err)
	}
	fresh, err := Open(v.dir, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer fresh.Close()
	if _, err := read(t, fresh, before); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a segment that is gone: %v", err)
	}
	short := before
	short.Ref.Offset += 10_000
	if err := os.Rename(filepath.Join(v.dir, "away"), v.segmentPath(before.Ref.File)); err != nil {
		t.Fatal(err)
	}
	if _, err := read(t, fresh, short); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a place beyond the segment: %v", err)
	}
	stop := errors.New("stop")
	if err := fresh.Check(t.Context(), before.Ref, before.Size, before.CRC64,
		func(int) error { return stop }); err != stop {
		t.Errorf("a check that is stopped: %v", err)
	}
	if n, err := fresh.RemoveWhole(12345); n != 0 || err != nil {
		t.Errorf("removing what is not there: %d, %v", n, err)
	}
	if _, ok, err := fresh.LockSegment(12345); ok || err != nil {
		t.Errorf("locking what is not there: %v, %v", ok, err)
	}
	if free, total, err := fresh.Free(); err != nil || free <= 0 || total < free {
		t.Errorf("free %d of %d, %v", free, total, err)
	}
	if _, err := fresh.Write(bytes.NewReader(nil), 1<<60, false, nil, accept); fault.KindOf(err) != fault.Full {
		t.Errorf("a body that is larger than the disk: %v", err)
	}
}

func TestCopiesOfSmallBodies(t *testing.T) {
	v := openVolume(t)
	w, err := v.Write(bytes.NewReader(content(7000, 3)), -1, false, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	to, err := v.CopySmall(w.Ref, w.Size, w.CRC64)
	if err != nil || to.Ref == w.Ref {
		t.Fatalf("copied to %+v, %v", to, err)
	}
	w.Ref = to.Ref
	if got, err := read(t, v, w); err != nil || digest.CRC64(got) != w.CRC64 {
		t.Errorf("the copy: %v", err)
	}
	if _, err := v.CopySmall(w.Ref, w.Size, w.CRC64+1); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a copy of what is damaged: %v", err)
	}
	v.Close()
	if _, err := v.Write(bytes.NewReader([]byte("late")), -1, false, nil, accept); !fault.HasCode(err, "closing") {
		t.Errorf("a body after the end: %v", err)
	}
}
