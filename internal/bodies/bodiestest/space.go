package bodiestest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// TestSpace tries what a space promises. open gives a fresh one with keys for sealed
// bodies, which the test closes.
func TestSpace(t *testing.T, open func(*testing.T) bodies.Space) {
	run := func(name string, f func(*testing.T, bodies.Space)) {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			t.Cleanup(func() { s.Close() })
			f(t, s)
		})
	}
	run("what was written is read", testWritten)
	run("what ends too early is not kept", testEnded)
	run("refused bodies leave nothing", testRefused)
	run("a body that is held stays", testHeld)
	run("small bodies move out of their file", testMoved)
	run("other digests are damage", testDamage)
}

// sizes are around every border that a space may have.
var sizes = []int{0, 1, 4 << 10, bodies.SmallBody - 1, bodies.SmallBody, bodies.SmallBody + 1, 1<<20 + 17}

func content(n int) []byte {
	r := rand.New(rand.NewPCG(uint64(n), 11))
	p := make([]byte, n)
	for i := range p {
		p[i] = byte(r.Uint32())
	}
	return p
}

func write(t *testing.T, s bodies.Space, body []byte, sealed bool) bodies.Written {
	t.Helper()
	w, err := s.Write(bytes.NewReader(body), int64(len(body)), sealed, nil, func(bodies.Written) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func read(s bodies.Space, ref object.BodyRef, size int64, crc uint64) ([]byte, error) {
	buf := make([]byte, size)
	switch {
	case ref.File == 0:
		return buf, nil
	case ref.Offset >= 0:
		return buf, s.ReadSmall(ref, buf, crc)
	}
	w, err := s.Open(context.Background(), ref, size)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	var b bytes.Buffer
	err = w.Send(&b, 0, size, nil)
	return b.Bytes(), err
}

func testWritten(t *testing.T, s bodies.Space) {
	for _, sealed := range []bool{false, true} {
		for _, n := range sizes {
			what := fmt.Sprintf("%d bytes, sealed %v", n, sealed)
			body := content(n)
			w := write(t, s, body, sealed)
			w.Release()
			if w.Size != int64(n) || n > 0 && (w.Ref.Tier != s.Tier() || w.Ref.Sealed() != sealed) {
				t.Errorf("%s: %+v", what, w)
			}
			if got, err := read(s, w.Ref, w.Size, w.CRC64); err != nil || !bytes.Equal(got, body) {
				t.Errorf("%s: %d bytes, %v", what, len(got), err)
			}
			if err := s.Check(t.Context(), w.Ref, w.Size, w.CRC64, func(int) error { return nil }); n > 0 && err != nil {
				t.Errorf("%s: %v", what, err)
			}
		}
	}
}

func testEnded(t *testing.T, s bodies.Space) {
	for _, n := range sizes[1:] {
		broken := io.MultiReader(bytes.NewReader(content(n)[:n/2]), iotest.ErrReader(errors.New("cut off")))
		if _, err := s.Write(broken, int64(n), false, []hash.Hash{}, func(bodies.Written) error { return nil }); err == nil {
			t.Errorf("%d bytes that were cut off were kept", n)
		}
	}
	wantFiles(t, s, 0)
}

func testRefused(t *testing.T, s bodies.Space) {
	for _, n := range sizes[1:] {
		refused := errors.New("another digest")
		if _, err := s.Write(bytes.NewReader(content(n)), int64(n), false, nil,
			func(bodies.Written) error { return refused }); !errors.Is(err, refused) {
			t.Errorf("%d bytes: %v", n, err)
		}
	}
	wantFiles(t, s, 0)
}

func testHeld(t *testing.T, s bodies.Space) {
	w := write(t, s, content(1<<20), false)
	if held, err := s.Held(w.Ref.File); !held || err != nil {
		t.Errorf("a body under way is held: %v, %v", held, err)
	}
	if n, err := s.RemoveWhole(w.Ref.File); n != 0 || err != nil {
		t.Errorf("a body under way was removed: %d, %v", n, err)
	}
	w.Release()
	if held, err := s.Held(w.Ref.File); held || err != nil {
		t.Errorf("a body that was released is held: %v, %v", held, err)
	}
	if n, err := s.RemoveWhole(w.Ref.File); n < 1<<20 || err != nil {
		t.Errorf("%d bytes freed, %v", n, err)
	}
	if n, err := s.RemoveWhole(w.Ref.File); n != 0 || err != nil {
		t.Errorf("removed again: %d, %v", n, err)
	}
	if _, err := read(s, w.Ref, w.Size, w.CRC64); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a body that is gone: %v", err)
	}
}

func testMoved(t *testing.T, s bodies.Space) {
	body := content(3000)
	w := write(t, s, body, true)
	w.Release()
	if w.Ref.Offset < 0 {
		t.Skip("the space keeps small bodies in files of their own")
	}
	to, err := s.CopySmall(w.Ref, w.Size, w.CRC64)
	if err != nil {
		t.Fatal(err)
	}
	to.Release()
	if got, err := read(s, to.Ref, w.Size, w.CRC64); err != nil || !bytes.Equal(got, body) || to.Ref == w.Ref {
		t.Errorf("%+v, %v", to.Ref, err)
	}
	if _, ok, err := s.LockSegment(w.Ref.File); ok || err != nil {
		t.Errorf("a file that is written to was given away: %v", err)
	}
}

func testDamage(t *testing.T, s bodies.Space) {
	for _, n := range sizes[1:] {
		w := write(t, s, content(n), false)
		w.Release()
		if err := s.Check(t.Context(), w.Ref, w.Size, w.CRC64^1,
			func(int) error { return nil }); fault.KindOf(err) != fault.Damaged {
			t.Errorf("%d bytes of another digest: %v", n, err)
		}
		if w.Ref.Offset < 0 {
			if _, err := s.Open(t.Context(), w.Ref, w.Size+1); fault.KindOf(err) != fault.Damaged {
				t.Errorf("%d bytes of another length: %v", n, err)
			}
		}
	}
}

func wantFiles(t *testing.T, s bodies.Space, want int) {
	t.Helper()
	for try := 0; ; try++ {
		n := 0
		err := s.Walk(t.Context(), func(f bodies.File) error {
			if !f.Segment {
				n++
			}
			return nil
		})
		if fault.KindOf(err) == fault.Unavailable && try < 5 { // a place that fails now and then is asked again
			continue
		}
		if err != nil || n != want {
			t.Errorf("%d files, want %d: %v", n, want, err)
		}
		return
	}
}
