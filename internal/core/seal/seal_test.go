package seal

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"spindle/internal/core/fault"
)

func sealed(t *testing.T, plain []byte, name int64) (all []byte, r func([]byte, int64) *Reader) {
	t.Helper()
	kek, err := NewKey(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		t.Fatal(err)
	}
	wrapping, data, err := NewData(3, kek)
	if err != nil {
		t.Fatal(err)
	}
	h, err := wrapping.Header(name, -1)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	w, err := NewWriter(&b, h, data)
	if err != nil {
		t.Fatal(err)
	}
	for p := plain; len(p) > 0; {
		n := min(len(p), 1+rand.IntN(300<<10))
		if _, err := w.Write(p[:n]); err != nil {
			t.Fatal(err)
		}
		p = p[n:]
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if whole := Whole(nil, data, plain); !bytes.Equal(whole[HeaderSize:], b.Bytes()[HeaderSize:]) {
		t.Errorf("%d bytes: sealed in one piece they differ from sealed as a stream", len(plain))
	}
	return b.Bytes(), func(all []byte, size int64) *Reader {
		var h Header
		copy(h[:], all)
		if n, err := h.BodyKey(); err != nil || n != 3 {
			t.Fatalf("the body key: %d, %v", n, err)
		}
		data, _, err := h.Open(3, kek, name, -1, false)
		if err != nil {
			t.Fatal(err)
		}
		return NewReader(bytes.NewReader(all), data, size)
	}
}

func TestThereAndBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	buf := make([]byte, Buffer)
	for _, n := range []int{1, 15, ChunkSize - 1, ChunkSize, ChunkSize + 1, 2 * ChunkSize, Stretch, Stretch + 1,
		3*Stretch - 5} {
		plain := make([]byte, n)
		for i := range plain {
			plain[i] = byte(rng.Uint32())
		}
		all, open := sealed(t, plain, 42)
		if int64(len(all)) != Length(int64(n)) {
			t.Errorf("%d bytes sealed are %d, not %d", n, len(all), Length(int64(n)))
		}
		if n > 100 && bytes.Contains(all, plain[:64]) {
			t.Errorf("%d bytes: plain bytes stand in what was sealed", n)
		}
		r := open(all, int64(n))
		for range 50 {
			at := rng.IntN(n)
			pieces, err := r.Read(buf, int64(at))
			got := bytes.Join(pieces, nil)
			if err != nil || len(got) == 0 || !bytes.Equal(got, plain[at:at+len(got)]) {
				t.Fatalf("%d bytes from %d: %d bytes, %v", n, at, len(got), err)
			}
		}
		if n <= 2*ChunkSize {
			whole := make([]byte, n)
			if err := OpenWhole(whole, r.data, bytes.Clone(all[HeaderSize:])); err != nil || !bytes.Equal(whole, plain) {
				t.Errorf("%d bytes in one piece: %v", n, err)
			}
		}
	}
}

// TestTampering changes sealed bodies in every way that somebody with the disk
// could, and none of them may be read as good.
func TestTampering(t *testing.T) {
	plain := make([]byte, 3*ChunkSize)
	for i := range plain {
		plain[i] = byte(i >> 8)
	}
	const step = ChunkSize + TagSize
	all, open := sealed(t, plain, 42)
	chunk := func(i int) []byte { return all[HeaderSize+i*step : HeaderSize+(i+1)*step] }
	head := all[:HeaderSize]
	join := func(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
	flipped := bytes.Clone(all)
	flipped[HeaderSize+step+100] ^= 1
	for name, c := range map[string]struct {
		bytes []byte
		size  int64
	}{
		"a bit":                {flipped, 3 * ChunkSize},
		"two chunks swapped":   {join(head, chunk(1), chunk(0), chunk(2)), 3 * ChunkSize},
		"a chunk doubled":      {join(head, chunk(0), chunk(0), chunk(2)), 3 * ChunkSize},
		"a chunk left out":     {join(head, chunk(0), chunk(2)), 2 * ChunkSize},
		"the end cut off":      {join(head, chunk(0), chunk(1)), 2 * ChunkSize},
		"a chunk added":        {join(all, chunk(1)), 4 * ChunkSize},
		"the last one shorter": {all[:len(all)-1], 3*ChunkSize - 1},
		"nothing left":         {join(head), 3 * ChunkSize},
	} {
		r := open(c.bytes, c.size)
		var err error
		for at := int64(0); at < c.size && err == nil; {
			var got [][]byte
			got, err = r.Read(make([]byte, Buffer), at)
			for _, piece := range got {
				at += int64(len(piece))
			}
		}
		if fault.KindOf(err) != fault.Damaged {
			t.Errorf("%s: %v", name, err)
		}
	}
	kek, _ := NewKey(bytes.Repeat([]byte{7}, 32))
	other, _ := NewKey(bytes.Repeat([]byte{8}, 32))
	var h Header
	copy(h[:], all)
	if _, _, err := h.Open(3, kek, 43, -1, false); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a header in the place of another body's: %v", err)
	}
	if _, _, err := h.Open(3, other, 42, -1, false); fault.KindOf(err) != fault.Damaged {
		t.Errorf("another body key: %v", err)
	}
	for at := range HeaderSize {
		bad := h
		bad[at] ^= 0x40
		_, err := bad.BodyKey()
		if err == nil {
			_, _, err = bad.Open(3, kek, 42, -1, false)
		}
		if err == nil {
			t.Errorf("byte %d of the header can be changed", at)
		}
	}
	h[4] = 9
	if _, err := h.BodyKey(); !fault.HasCode(err, "seal-version") {
		t.Errorf("a version to come: %v", err)
	}
}

// TestPlaces opens a body where it belongs, and in no other place of any file; one
// of the format that did not know its place opens, but not where the catalog says
// that a body is bound.
func TestPlaces(t *testing.T) {
	kek, err := NewKey(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		t.Fatal(err)
	}
	wrapping, _, err := NewData(3, kek)
	if err != nil {
		t.Fatal(err)
	}
	h, err := wrapping.Header(42, 100)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.Open(3, kek, 42, 100, true); err != nil {
		t.Errorf("in its place: %v", err)
	}
	for _, at := range [][2]int64{{42, 101}, {43, 100}, {100, 42}, {42, -1}, {0, 100}, {42, 0}} {
		if _, _, err := h.Open(3, kek, at[0], at[1], true); fault.KindOf(err) != fault.Damaged {
			t.Errorf("at %d of file %d: %v", at[1], at[0], err)
		}
	}
	// Version 1, as it was written: bound to a file of its own, or in a segment to nothing.
	for _, offset := range []int64{-1, 500} {
		var old Header
		copy(old[:], h[:prefix])
		old[4] = 1
		bound := append(append([]byte{}, old[:prefix]...), make([]byte, 8)...)
		if offset < 0 {
			bound[prefix] = 42
		}
		kek.Seal(old[keyAt:keyAt], old[prefix:keyAt], make([]byte, 32), bound)
		if _, _, err := old.Open(3, kek, 42, offset, false); err != nil {
			t.Errorf("of version 1, at %d: %v", offset, err)
		}
		if _, _, err := old.Open(3, kek, 42, offset, true); fault.KindOf(err) != fault.Damaged {
			t.Errorf("of version 1 in the place of a bound one, at %d: %v", offset, err)
		}
	}
}
