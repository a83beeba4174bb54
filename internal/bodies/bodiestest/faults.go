package bodiestest

import (
	"bytes"
	"fmt"
	"syscall"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
)

// TestFaults tries what a space promises when its disk has faults. open gives a fresh one with keys for sealed
// bodies, on that disk alone; the test closes it.
func TestFaults(t *testing.T, open func(*testing.T, *FaultyDisk) bodies.Space) {
	for name, ops := range map[string][]Op{
		"takes no writes":  {Create, Write, Sync, SyncDir, Remove},
		"makes no files":   {Create},
		"writes nothing":   {Write},
		"syncs nothing":    {Sync, SyncDir},
		"gives no bodies":  {Open, Read},
		"fails altogether": {Open, Read, Create, Write, Sync, SyncDir, Remove},
	} {
		t.Run(name, func(t *testing.T) {
			disk := &FaultyDisk{}
			s := open(t, disk)
			t.Cleanup(func() { s.Close() })
			onFaultyDisk(t, s, disk, ops)
		})
	}
}

// onFaultyDisk writes bodies, has the disk fail, and be well again: what was written is there, and was never called
// damaged; what is refused leaves nothing.
func onFaultyDisk(t *testing.T, s bodies.Space, disk *FaultyDisk, ops []Op) {
	type kept struct {
		w    bodies.Written
		body []byte
	}
	var all []kept
	for _, sealed := range []bool{false, true} {
		for _, n := range []int{1, 4 << 10, bodies.SmallBody + 1, 1<<20 + 17} {
			w := write(t, s, content(n), sealed)
			w.Release()
			all = append(all, kept{w, content(n)})
		}
	}
	look := func(what string, well bool) {
		t.Helper()
		for _, k := range all {
			what := fmt.Sprintf("%s: a body of %d bytes", what, len(k.body))
			b, err := read(s, k.w.Ref, k.w.Size, k.w.CRC64)
			if err == nil && !bytes.Equal(b, k.body) || well && err != nil || fault.KindOf(err) == fault.Damaged {
				t.Errorf("%s is read as %d bytes, %v", what, len(b), err)
			}
			err = s.Check(t.Context(), k.w.Ref, k.w.Size, k.w.CRC64, func(int) error { return nil })
			if well && err != nil || fault.KindOf(err) == fault.Damaged {
				t.Errorf("%s is checked: %v", what, err)
			}
		}
	}
	reads := true
	for _, op := range ops {
		reads = reads && op != Open && op != Read
	}
	disk.Fails(syscall.EIO, ops...)
	look("with faults", reads)
	for _, n := range []int{4 << 10, 1<<20 + 17} {
		w, err := s.Write(bytes.NewReader(content(n)), int64(n), false, nil, func(bodies.Written) error { return nil })
		w.Release()
		if fault.KindOf(err) == fault.Damaged {
			t.Errorf("a write of %d bytes: %v", n, err)
		}
		if err == nil { // a disk that only reads badly takes it
			all = append(all, kept{w, content(n)})
		}
	}
	disk.Plan(nil)
	look("well again", true)
}
