package bodies_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

func pieced(t *testing.T, n, data, parity int) (*bodies.Shelf, []string) {
	return shelf(t, n, func(x *tier.Tier) { x.Pieces = &tier.Pieces{Data: data, Parity: parity} })
}

func random(n int) []byte {
	b, r := make([]byte, n), rand.New(rand.NewPCG(uint64(n), 5))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func sent(s bodies.Space, ref object.BodyRef, size, from, length int64) ([]byte, error) {
	w, err := s.Open(context.Background(), ref, size)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	var b bytes.Buffer
	err = w.Send(&b, from, length, nil)
	return b.Bytes(), err
}

func free(int) error { return nil }

// Any ranges of bodies around every border are what they were, whichever volumes are lost,
// and mending makes every piece what it was, byte for byte.
func TestAnyPiecesMayBeLost(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, p := range []tier.Pieces{{Data: 2, Parity: 1}, {Data: 4, Parity: 2}, {Data: 3, Parity: 3}} {
		s, dirs := pieced(t, p.All(), p.Data, p.Parity)
		full := p.Data * 64 << 10
		for _, n := range []int{1, 100, full - 45, full, full + 1, 3*full + 7, 1<<20 + 13} {
			for _, sealed := range []bool{false, true} {
				what := fmt.Sprintf("%s, %d bytes, sealed %v", p, n, sealed)
				body := random(n)
				w := keep(t, s, body, sealed)
				before := map[string][]byte{}
				for _, dir := range dirs {
					list := files(t, dir)
					if len(list) != 1 {
						t.Fatalf("%s: %d files on a volume", what, len(list))
					}
					b, err := os.ReadFile(list[0])
					if err != nil {
						t.Fatal(err)
					}
					before[list[0]] = b
				}
				lose(t, r, before, p.Parity)
				from := r.Int64N(int64(n))
				length := r.Int64N(int64(n)-from) + 1
				got, err := sent(s, w.Ref, w.Size, from, length)
				if err != nil || !bytes.Equal(got, body[from:from+length]) {
					t.Fatalf("%s: %d bytes from %d on: %v", what, length, from, err)
				}
				m, err := s.Mend(t.Context(), w.Ref, w.Size, w.CRC64, free)
				if err != nil || m.Copies == 0 {
					t.Fatalf("%s: mended %+v, %v", what, m, err)
				}
				if again, err := s.Mend(t.Context(), w.Ref, w.Size, w.CRC64, free); err != nil || again.Copies != 0 {
					t.Errorf("%s: mended again %+v, %v", what, again, err)
				}
				var pieces [][]byte
				for name := range before {
					b, err := os.ReadFile(name)
					if err != nil {
						t.Fatal(err)
					}
					pieces = append(pieces, b)
				}
				for name, was := range before { // a missing one may have come to lie on another volume
					found := false
					for _, b := range pieces {
						found = found || bytes.Equal(b, was)
					}
					if !found {
						t.Errorf("%s: the piece of %s is not what it was", what, filepath.Base(name))
					}
				}
				if freed, err := s.RemoveWhole(w.Ref.File); freed == 0 || err != nil {
					t.Errorf("%s: %d bytes freed, %v", what, freed, err)
				}
			}
		}
	}
}

// lose removes, cuts or damages some of the files.
func lose(t *testing.T, r *rand.Rand, all map[string][]byte, n int) {
	t.Helper()
	for name, b := range all {
		if n--; n < 0 {
			return
		}
		var err error
		switch r.IntN(4) {
		case 0:
			err = os.Remove(name)
		case 1:
			err = os.Truncate(name, int64(r.IntN(len(b))))
		default:
			b = bytes.Clone(b)
			b[r.IntN(len(b))] ^= 1 << r.IntN(8)
			err = os.WriteFile(name, b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// What more than may be lost were, is told as damage; what is away, as away.
func TestTooManyPiecesLost(t *testing.T) {
	s, dirs := pieced(t, 6, 4, 2)
	w := keep(t, s, random(700_000), false)
	for i, dir := range dirs[:3] {
		if err := os.Rename(dir, dir+".away"); err != nil {
			t.Fatal(err)
		}
		_, err := sent(s, w.Ref, w.Size, 0, w.Size)
		if i < 2 && err != nil || i == 2 && !fault.HasCode(err, "volume-away") {
			t.Errorf("%d volumes away: %v", i+1, err)
		}
	}
	if _, err := s.Write(bytes.NewReader(random(1000)), 1000, false, nil,
		func(bodies.Written) error { return nil }); !fault.HasCode(err, "volume-away") {
		t.Errorf("written with three of six volumes: %v", err)
	}
	for _, dir := range dirs[:3] {
		if err := os.Rename(dir+".away", dir); err != nil {
			t.Fatal(err)
		}
		if err := os.Remove(files(t, dir)[0]); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := sent(s, w.Ref, w.Size, 0, w.Size); fault.KindOf(err) != fault.Damaged {
		t.Errorf("three of six pieces lost: %v", err)
	}
	if _, err := s.Mend(t.Context(), w.Ref, w.Size, w.CRC64, free); fault.KindOf(err) != fault.Damaged {
		t.Errorf("three of six pieces lost: %v", err)
	}
}

// Losing two of six directories while bodies are written and read: no read fails, nothing
// that was kept is lost, and what was written short is made whole once they are back.
func TestVolumesAreLostUnderLoad(t *testing.T) {
	s, dirs := pieced(t, 6, 4, 2)
	type kept struct {
		bodies.Written
		body []byte
	}
	var mu sync.Mutex
	var all []kept
	some := func() (k kept, ok bool) {
		mu.Lock()
		defer mu.Unlock()
		if len(all) == 0 {
			return k, false
		}
		return all[rand.IntN(len(all))], true
	}
	stop := make(chan struct{})
	var work sync.WaitGroup
	for i := range 4 {
		work.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				body := random(1000 + 90_000*((i+n)%9))
				w, err := s.Write(bytes.NewReader(body), int64(len(body)), n%2 == 0, []hash.Hash{},
					func(bodies.Written) error { return nil })
				if err != nil {
					t.Errorf("a write failed: %v", err)
					return
				}
				w.Release()
				mu.Lock()
				all = append(all, kept{w, body})
				mu.Unlock()
			}
		})
		work.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if k, ok := some(); ok {
					if got, err := sent(s, k.Ref, k.Size, 0, k.Size); err != nil || !bytes.Equal(got, k.body) {
						t.Errorf("a read failed: %v", err)
						return
					}
				}
			}
		})
	}
	kept100 := func(more int) {
		mu.Lock()
		want := len(all) + more
		mu.Unlock()
		for {
			mu.Lock()
			n := len(all)
			mu.Unlock()
			if n >= want || t.Failed() {
				return
			}
		}
	}
	kept100(40)
	if err := os.Rename(dirs[1], dirs[1]+".away"); err != nil {
		t.Fatal(err)
	}
	kept100(40)
	if err := os.Rename(dirs[4], dirs[4]+".away"); err != nil {
		t.Fatal(err)
	}
	kept100(40)
	close(stop)
	work.Wait()
	owed := 0
	for _, k := range all {
		if got, err := sent(s, k.Ref, k.Size, 0, k.Size); err != nil || !bytes.Equal(got, k.body) {
			t.Errorf("a body is not what was written: %v", err)
		}
		owed += k.Owed
	}
	if owed == 0 {
		t.Error("all was written whole with two volumes away")
	}
	for _, i := range []int{1, 4} {
		if err := os.Rename(dirs[i]+".away", dirs[i]); err != nil {
			t.Fatal(err)
		}
	}
	for _, k := range all {
		m, err := s.Mend(t.Context(), k.Ref, k.Size, k.CRC64, free)
		if err != nil || m.Copies > k.Owed { // one that was left out may have been whole
			t.Errorf("%d pieces made of %d: %v", m.Copies, k.Owed, err)
		}
	}
	for _, dir := range dirs {
		if n := len(files(t, dir)); n != len(all) {
			t.Errorf("%d pieces on a volume, of %d bodies", n, len(all))
		}
	}
}

// A volume that fails while a body is written is left out of it.
func TestAPieceThatCannotBeWritten(t *testing.T) {
	s, dirs := pieced(t, 3, 2, 1)
	body := random(900_000)
	half := io.MultiReader(bytes.NewReader(body[:400_000]), &then{do: func() {
		for i := range 256 { // nothing new can be made there, and what is there is gone
			if err := os.RemoveAll(filepath.Join(dirs[0], "whole", fmt.Sprintf("%02x", i))); err != nil {
				t.Error(err)
			}
		}
	}}, bytes.NewReader(body[400_000:]))
	w, err := s.Write(half, -1, false, nil, func(bodies.Written) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	w.Release()
	if got, err := sent(s, w.Ref, w.Size, 0, w.Size); err != nil || !bytes.Equal(got, body) {
		t.Errorf("%v", err)
	}
	refused := errors.New("no")
	if _, err := s.Write(bytes.NewReader(body), -1, false, nil,
		func(bodies.Written) error { return refused }); !errors.Is(err, refused) {
		t.Errorf("a refused body: %v", err)
	}
	if n := len(files(t, dirs[1])); n != 1 {
		t.Errorf("%d files on a volume after a refusal", n)
	}
}

// then does something when it is read, and has no bytes.
type then struct{ do func() }

func (x *then) Read([]byte) (int, error) {
	if x.do != nil {
		x.do()
		x.do = nil
	}
	return 0, io.EOF
}
