package bodies

import (
	"bytes"
	"crypto/cipher"
	"crypto/md5"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
)

func noLimit(int) error    { return nil }
func accept(Written) error { return nil }
func content(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	p := make([]byte, n)
	for i := range p {
		p[i] = byte(r.Uint32())
	}
	return p
}

// oneKey is a sealer with one body key.
type oneKey struct{ key cipher.AEAD }

func (k oneKey) SealingKey() (uint16, cipher.AEAD, error) { return 1, k.key, nil }

func (k oneKey) OpeningKey(n uint16) (cipher.AEAD, error) {
	if n != 1 {
		return nil, errors.New("no such key")
	}
	return k.key, nil
}

func openVolume(t *testing.T) *Volume {
	t.Helper()
	v, err := Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { v.Close() })
	key, err := seal.NewKey(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	v.SealWith(oneKey{key})
	return v
}

// read gives a body's bytes as the store would.
func read(t *testing.T, v *Volume, w Written) ([]byte, error) {
	t.Helper()
	if w.Ref.File == 0 {
		return nil, nil
	}
	if w.Ref.Offset >= 0 {
		buf := make([]byte, w.Size)
		return buf, v.ReadSmall(w.Ref, buf, w.CRC64)
	}
	f, err := v.Open(t.Context(), w.Ref, w.Size)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	err = f.Send(&b, 0, w.Size, nil)
	return b.Bytes(), err
}

func TestBodiesComeBackAsWritten(t *testing.T) {
	v := openVolume(t)
	sizes := []int{0, 1, 31, 4096, SmallBody, SmallBody + 1, bufferSize, bufferSize + 1, 3*bufferSize + 17, 10 << 20}
	var wg sync.WaitGroup
	for round := range 4 {
		for i, n := range sizes {
			wg.Go(func() {
				p := content(n, uint64(10*i+round))
				sum := sha256.New()
				w, err := v.Write(iotest.HalfReader(bytes.NewReader(p)), -1, round%2 == 1, []hash.Hash{sum}, accept)
				if err != nil {
					t.Errorf("writing %d bytes: %v", n, err)
					return
				}
				want := sha256.Sum256(p)
				if w.Size != int64(n) || w.MD5 != md5.Sum(p) || w.CRC64 != digest.CRC64(p) || !bytes.Equal(sum.Sum(nil), want[:]) {
					t.Errorf("digests of %d bytes are wrong: %+v", n, w)
				}
				if w.Ref.Sealed() != (round%2 == 1 && n > 0) {
					t.Errorf("%d bytes: sealed is %v", n, w.Ref.Sealed())
				}
				got, err := read(t, v, w)
				if err != nil || !bytes.Equal(got, p) {
					t.Errorf("reading %d bytes back: %d bytes, %v", n, len(got), err)
				}
				if err := v.Check(t.Context(), w.Ref, w.Size, w.CRC64, noLimit); err != nil {
					t.Errorf("checking %d bytes: %v", n, err)
				}
			})
		}
	}
	wg.Wait()
}

func TestRefusedAndBrokenBodiesLeaveNoFile(t *testing.T) {
	v := openVolume(t)
	no := errors.New("no")
	for _, n := range []int{100, 3 << 20} {
		if _, err := v.Write(bytes.NewReader(content(n, 1)), int64(n), false, nil,
			func(Written) error { return no }); err != no {
			t.Errorf("refused body of %d bytes: %v", n, err)
		}
		if _, err := v.Write(io.MultiReader(bytes.NewReader(content(n, 1)), iotest.ErrReader(no)), int64(n), false, nil,
			accept); err != no {
			t.Errorf("broken body of %d bytes: %v", n, err)
		}
	}
	err := v.Walk(t.Context(), func(f File) error { t.Errorf("left behind: %+v", f); return nil })
	if err != nil {
		t.Error(err)
	}
}

func TestDamageIsFound(t *testing.T) {
	v := openVolume(t)
	flip := func(path string, at int64) {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		b := make([]byte, 1)
		if _, err := f.ReadAt(b, at); err != nil {
			t.Fatal(err)
		}
		b[0] ^= 1
		if _, err := f.WriteAt(b, at); err != nil {
			t.Fatal(err)
		}
	}
	for _, sealed := range []bool{false, true} {
		damageIsFound(t, v, sealed, flip)
	}
	if _, _, err := v.openFile(object.BodyRef{File: 12345, Offset: -1}, 1); fault.KindOf(err) != fault.Damaged {
		t.Errorf("opening a body that is gone: %v", err)
	}
}

func damageIsFound(t *testing.T, v *Volume, sealed bool, flip func(string, int64)) {
	small, err := v.Write(bytes.NewReader(content(5000, 1)), -1, sealed, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	large, err := v.Write(bytes.NewReader(content(500_000, 1)), -1, sealed, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	flip(v.segmentPath(small.Ref.File), small.Ref.Place()+4999)
	flip(v.wholePath(large.Ref.File), 300_000)
	for name, w := range map[string]Written{"small": small, "large": large} {
		if err := v.Check(t.Context(), w.Ref, w.Size, w.CRC64, noLimit); fault.KindOf(err) != fault.Damaged {
			t.Errorf("%s body with a flipped bit: %v", name, err)
		}
	}
	if _, err := read(t, v, small); fault.KindOf(err) != fault.Damaged {
		t.Errorf("reading a damaged small body: %v", err)
	}
	if err := os.Truncate(v.wholePath(large.Ref.File), 400_000); err != nil {
		t.Fatal(err)
	}
	if _, err := read(t, v, large); fault.KindOf(err) != fault.Damaged {
		t.Errorf("opening a short large body: %v", err)
	}
}

// TestRangesOfSealedBodies reads ranges that begin and end anywhere, and moves a
// small body as it was sealed.
func TestRangesOfSealedBodies(t *testing.T) {
	v := openVolume(t)
	p := content(3<<20+17, 5)
	w, err := v.Write(bytes.NewReader(p), int64(len(p)), true, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	stored, err := os.ReadFile(v.wholePath(w.Ref.File))
	if err != nil || bytes.Contains(stored, p[1000:1064]) {
		t.Errorf("plain bytes are on the disk (%v)", err)
	}
	f, err := v.Open(t.Context(), w.Ref, w.Size)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	r := rand.New(rand.NewPCG(1, 1))
	for range 100 {
		from := r.Int64N(w.Size)
		n := r.Int64N(w.Size-from) + 1
		var b bytes.Buffer
		if err := f.Send(&b, from, n, nil); err != nil || !bytes.Equal(b.Bytes(), p[from:from+n]) {
			t.Fatalf("%d bytes from %d: %d bytes, %v", n, from, b.Len(), err)
		}
	}
	small, err := v.Write(bytes.NewReader(p[:9000]), -1, true, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	to, err := v.CopySmall(small.Ref, small.Size, small.CRC64)
	if err != nil || to.Ref == small.Ref || !to.Ref.Sealed() {
		t.Fatalf("moved to %+v, %v", to, err)
	}
	small.Ref = to.Ref
	if got, err := read(t, v, small); err != nil || !bytes.Equal(got, p[:9000]) {
		t.Errorf("moved: %d bytes, %v", len(got), err)
	}
	v.SealWith(nil)
	if _, err := read(t, v, w); !fault.HasCode(err, "no-sealer") {
		t.Errorf("reading without keys: %v", err)
	}
}

func TestSegmentInUseIsNotLocked(t *testing.T) {
	v := openVolume(t)
	w, err := v.Write(bytes.NewReader([]byte("x")), 1, false, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok, err := v.LockSegment(w.Ref.File); ok || err != nil {
		t.Errorf("a segment that is appended to was locked: %v, %v", ok, err)
	}
	w.Release()
	v.Close()
	unlock, ok, err := v.LockSegment(w.Ref.File)
	if !ok || err != nil {
		t.Fatalf("a segment that was left is not to be had: %v, %v", ok, err)
	}
	unlock()
	if err := errors.Join(os.Rename(v.dir, v.dir+".moved"), os.Symlink(v.dir+".moved", v.dir)); err != nil { // elsewhere
		t.Fatal(err)
	}
	var files []File
	if err := v.Walk(t.Context(), func(f File) error { files = append(files, f); return nil }); err != nil {
		t.Fatal(err)
	}
	if len(files) != 1 || !files[0].Segment || files[0].Size != headerSize+1 ||
		time.Since(files[0].Changed) > time.Minute {
		t.Errorf("walk found %+v", files)
	}
	if err := v.RemoveSegment(w.Ref.File); err != nil {
		t.Error(err)
	}
	if m, _ := filepath.Glob(v.dir + "/segments/*"); len(m) != 0 {
		t.Errorf("still there: %v", m)
	}
}

// TestExchangedBodiesDoNotOpen swaps two sealed bodies of one size and one CRC in
// their segment, as somebody could who can write the disk and choose what is stored.
func TestExchangedBodiesDoNotOpen(t *testing.T) {
	v := openVolume(t)
	var w [2]Written
	plain := content(4096, 8)
	for i := range w { // the same content: so is every digest that the catalog keeps
		var err error
		if w[i], err = v.Write(bytes.NewReader(plain), -1, true, nil, accept); err != nil {
			t.Fatal(err)
		}
		if !w[i].Ref.Bound() {
			t.Fatalf("a body is not bound to its place: %+v", w[i].Ref)
		}
		if got, err := read(t, v, w[i]); err != nil || !bytes.Equal(got, plain) {
			t.Fatalf("before: %v", err)
		}
	}
	f, err := os.OpenFile(v.segmentPath(w[0].Ref.File), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var stored [2][]byte
	for i := range w {
		stored[i] = make([]byte, seal.Length(4096))
		if _, err := f.ReadAt(stored[i], w[i].Ref.Place()); err != nil {
			t.Fatal(err)
		}
	}
	for i := range w {
		if _, err := f.WriteAt(stored[1-i], w[i].Ref.Place()); err != nil {
			t.Fatal(err)
		}
	}
	for i := range w {
		if _, err := read(t, v, w[i]); fault.KindOf(err) != fault.Damaged {
			t.Errorf("body %d after they were exchanged: %v", i, err)
		}
	}
	// Moved by the volume itself it opens, and only there.
	for i := range w {
		if _, err := f.WriteAt(stored[i], w[i].Ref.Place()); err != nil {
			t.Fatal(err)
		}
	}
	to, err := v.CopySmall(w[0].Ref, w[0].Size, w[0].CRC64)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Release()
	if got, err := read(t, v, to); err != nil || !bytes.Equal(got, plain) {
		t.Errorf("moved: %v", err)
	}
}
