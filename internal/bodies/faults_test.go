package bodies_test

import (
	"bytes"
	"context"
	"hash"
	"math/rand/v2"
	"syscall"
	"testing"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/bodies/bodiestest"
	"spindle/internal/core/fault"
)

// Whatever a disk does, what was written is what is read, or the read says that it is not; what
// was refused is nowhere; and the volume goes on once the disk does.
func TestADiskOfManyFaults(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	dir := t.TempDir()
	disk := &bodiestest.FaultyDisk{}
	v, err := bodies.Open(dir, 0)
	if err != nil {
		t.Fatal(err)
	}
	v.On(disk)
	defer func() { v.Close() }()
	causes := []error{syscall.EIO, syscall.ENOSPC, syscall.EROFS, syscall.EMFILE, syscall.EINTR}
	disk.Plan(func(op bodiestest.Op, _ string) (f bodiestest.Fault) {
		switch r.IntN(14) {
		case 0:
			f.Err, f.Torn = causes[r.IntN(len(causes))], r.IntN(5000)
		case 1:
			f.Slow = time.Duration(r.IntN(2000)) * time.Microsecond
		case 2:
			f.Wrong = op == bodiestest.Read
		}
		return f
	})
	type kept struct {
		w    bodies.Written
		body []byte
	}
	var all []kept
	refused, unread := 0, 0
	for i := range 600 {
		size := []int{1 + r.IntN(6000), 1 + r.IntN(6000), 200_000 + r.IntN(300_000)}[r.IntN(3)]
		body := make([]byte, size)
		for j := range body {
			body[j] = byte(j*i + i)
		}
		w, err := v.Write(bytes.NewReader(body), -1, false, []hash.Hash{}, func(bodies.Written) error { return nil })
		if err == nil {
			err = w.There()
		}
		w.Release()
		if err != nil {
			known := map[string]bool{"disk-error": true, "disk-full": true, "volume-read-only": true, "too-many-files": true}
			if f := fault.From(err); !known[f.Code] || f.Remedy == "" {
				t.Fatalf("body %d is refused without a remedy: %v", i, err)
			}
			refused++
			continue
		}
		all = append(all, kept{w, body})
		x := all[r.IntN(len(all))]
		switch got, err := readBack(v, x.w); {
		case err != nil:
			unread++
		case !bytes.Equal(got, x.body):
			t.Fatalf("a body of %d bytes came back as another", len(x.body))
		}
		if i%150 == 149 { // a process that is killed, and the next
			v.Close()
			if v, err = bodies.Open(dir, 0); err != nil {
				t.Fatal(err)
			}
			v.On(disk)
		}
	}
	disk.Plan(nil)
	for _, x := range all {
		if got, err := readBack(v, x.w); err != nil || !bytes.Equal(got, x.body) {
			t.Errorf("a body of %d bytes, once the disk is well: %d bytes, %v", len(x.body), len(got), err)
		}
	}
	if refused < 20 || unread < 10 || len(all) < 50 {
		t.Errorf("%d kept, %d refused, %d not read: the faults did not come", len(all), refused, unread)
	}
}

// readBack reads a body and checks it.
func readBack(v *bodies.Volume, w bodies.Written) ([]byte, error) {
	if err := v.Check(context.Background(), w.Ref, w.Size, w.CRC64, func(int) error { return nil }); err != nil {
		return nil, err
	}
	if w.Ref.Offset >= 0 {
		b := make([]byte, w.Size)
		return b, v.ReadSmall(w.Ref, b, w.CRC64)
	}
	f, err := v.Open(context.Background(), w.Ref, w.Size)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	err = f.Send(&b, 0, w.Size, nil)
	return b.Bytes(), err
}

// Each fault has its answer: whether it passes, and what to do.
func TestFaultsOfADiskAreTold(t *testing.T) {
	v, err := bodies.Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	disk := &bodiestest.FaultyDisk{}
	v.On(disk)
	for cause, want := range map[error]struct {
		code string
		kind fault.Kind
	}{
		syscall.EIO: {"disk-error", fault.Internal}, syscall.ENOSPC: {"disk-full", fault.Full},
		syscall.EDQUOT: {"disk-full", fault.Full}, syscall.EROFS: {"volume-read-only", fault.Unavailable},
		syscall.EMFILE: {"too-many-files", fault.Unavailable}, syscall.ENFILE: {"too-many-files", fault.Unavailable},
	} {
		for _, op := range []bodiestest.Op{bodiestest.Create, bodiestest.Write, bodiestest.Sync, bodiestest.SyncDir} {
			for _, size := range []int{1000, 300_000} {
				fresh, err := bodies.Open(t.TempDir(), 0) // so that a segment has to be begun
				if err != nil {
					t.Fatal(err)
				}
				fresh.On(disk)
				disk.Fails(cause, op)
				w, err := fresh.Write(bytes.NewReader(make([]byte, size)), -1, false, nil,
					func(bodies.Written) error { return nil })
				disk.Plan(nil)
				w.Release()
				if f := fault.From(err); f.Code != want.code || f.Kind != want.kind || f.Remedy == "" {
					t.Errorf("%v when it is to %s (%d bytes): %v", cause, op, size, err)
				}
				fresh.Close()
			}
		}
	}
}
