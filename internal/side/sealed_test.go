package side_test

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/side"
	"spindle/internal/side/sidetest"
	"spindle/internal/standin"
)

func sealingKeys(t *testing.T, words string) *sealing.Keys {
	t.Helper()
	k, err := sealing.Derive(words, sealing.Salt{1})
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// A sealed side is a side as others, over an endpoint and over a folder, and what it keeps
// shows neither contents nor, where that is wanted, names.
func TestSealed(t *testing.T) {
	keys := sealingKeys(t, "linen thread on a reel")
	for _, names := range []bool{true, false} {
		t.Run(fmt.Sprintf("endpoint, names %v", names), func(t *testing.T) {
			r := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
			is, _ := harness.Standin(t, standin.Faults{}, "plates")
			conn, err := r.Remote.Get(t.Context(), r.StandinEndpoint("annex", is).ID)
			if err != nil {
				t.Fatal(err)
			}
			there := &side.There{Conn: conn, Bucket: "plates"}
			s := &side.Sealed{Of: side.Beneath(there, "kept/"), Keys: keys, Names: names}
			sidetest.TestSide(t, s, sidetest.Can{Metadata: true, AnyKey: true, Parts: true})
			showsNothing(t, s, there, names)
			aboutIsBound(t, s, there)
		})
		t.Run(fmt.Sprintf("folder, names %v", names), func(t *testing.T) {
			sidetest.TestSide(t, &side.Sealed{Of: &side.Folder{Dir: t.TempDir()}, Keys: keys, Names: names},
				sidetest.Can{AnyKey: names})
		})
	}
}

// aboutIsBound takes a version's metadata away, and gives it that of an earlier one.
func aboutIsBound(t *testing.T, s *side.Sealed, there side.Side) {
	put := func(collector string) side.Facts {
		t.Helper()
		crc := digest.CRC64([]byte(collector))
		if _, err := s.Write(t.Context(), "bound", sidetest.Bytes(collector), side.Write{Facts: side.Facts{
			Size: int64(len(collector)), CRC64: &crc, Metadata: object.Metadata{"collector": collector}}}); err != nil {
			t.Fatal(err)
		}
		for f, err := range side.All(t.Context(), there, "") {
			if err == nil {
				f, err = there.Stat(t.Context(), f.Key)
			}
			if err != nil {
				t.Fatal(err)
			}
			if key, err := s.Stat(t.Context(), "bound"); err == nil && key.ETag == "sealed "+f.ETag {
				return f
			}
		}
		t.Fatal("it is not there")
		return side.Facts{}
	}
	was := put("Varga")
	is := put("Lindqvist")
	for what, about := range map[string]object.Metadata{"taken away": {}, "of an earlier version": was.Metadata} {
		f := is
		f.Metadata = about
		if _, err := there.Annotate(t.Context(), f.Key, f); err != nil {
			t.Fatal(err)
		}
		if f, err := s.Stat(t.Context(), "bound"); !fault.HasCode(err, "sealed-damaged") {
			t.Errorf("metadata %s: %+v, %v", what, f.Metadata, err)
		}
	}
}

func showsNothing(t *testing.T, s *side.Sealed, there side.Side, names bool) {
	body := []byte("a confidential determination")
	crc := digest.CRC64(body)
	w := side.Write{Facts: side.Facts{Size: int64(len(body)), CRC64: &crc, Metadata: object.Metadata{"collector": "Varga"},
		Tags: object.Tags{"kind": "holotype"}, Headers: object.Headers{ContentType: "text/herbarium"}}}
	if _, err := s.Write(t.Context(), "secret/holotype.txt", sidetest.Bytes(body), w); err != nil {
		t.Fatal(err)
	}
	for f, err := range side.All(t.Context(), there, "") {
		if err != nil {
			t.Fatal(err)
		}
		if f, err = there.Stat(t.Context(), f.Key); err != nil {
			t.Fatal(err)
		}
		r, err := there.Read(t.Context(), f.Key, f.ETag, 0, f.Size)
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			t.Fatal(err)
		}
		shown := fmt.Sprintf("%q %+v %s", b, f, f.Metadata)
		for _, word := range []string{"confidential", "Varga", "holotype", "text/herbarium"} {
			if strings.Contains(shown, word) && (names || !strings.Contains(f.Key, word)) {
				t.Errorf("%q shows at the endpoint: %s", word, shown)
			}
		}
	}
}

// TestSealedSwaps has somebody at the other side swap and change files: each is named.
func TestSealedSwaps(t *testing.T) {
	dir := t.TempDir()
	s := &side.Sealed{Of: &side.Folder{Dir: dir}, Keys: sealingKeys(t, "linen thread on a reel")}
	for _, key := range []string{"one", "two"} {
		crc := digest.CRC64([]byte(key))
		if _, err := s.Write(t.Context(), key, sidetest.Bytes(key), side.Write{Facts: side.Facts{Size: 3,
			CRC64: &crc}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.Rename(filepath.Join(dir, "one"), filepath.Join(dir, "x")),
		os.Rename(filepath.Join(dir, "two"), filepath.Join(dir, "one")),
		os.Rename(filepath.Join(dir, "x"), filepath.Join(dir, "two"))); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{"one", "two"} {
		if f, err := s.Stat(t.Context(), key); !fault.HasCode(err, "sealed-damaged") {
			t.Errorf("%s, which was swapped: %+v, %v", key, f, err)
		}
		if r, err := s.Read(t.Context(), key, "", 0, 3); !fault.HasCode(err, "sealed-damaged") {
			t.Errorf("%s, which was swapped, is read: %v, %v", key, r, err)
		}
	}
	other := &side.Sealed{Of: s.Of, Keys: sealingKeys(t, "another passphrase")}
	if _, err := other.Stat(t.Context(), "one"); !fault.HasCode(err, "passphrase-wrong") {
		t.Errorf("another passphrase: %v", err)
	}
}

// TestMarks keeps the mark of a place, and refuses another.
func TestMarks(t *testing.T) {
	of := &side.Folder{Dir: t.TempDir()}
	if m, err := side.ReadMark(t.Context(), of); m != nil || err != nil {
		t.Errorf("no mark: %v, %v", m, err)
	}
	m, _, err := sealing.New("linen thread on a reel", true)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := side.KeepMark(t.Context(), of, m); err != nil {
			t.Fatal(err)
		}
	}
	back, err := side.ReadMark(t.Context(), of)
	if err != nil || back.Recipient != m.Recipient || string(back.Key) != string(m.Key) {
		t.Errorf("%+v, %v", back, err)
	}
	other := *m
	other.Names = false
	if err := side.KeepMark(t.Context(), of, &other); !fault.HasCode(err, "sealed-otherwise") {
		t.Errorf("another way: %v", err)
	}
}

// TestSortedBeyondMemory sorts more than is kept in memory.
func TestSortedBeyondMemory(t *testing.T) {
	const n = 120_001
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprintf("%x", rand.Uint64())
	}
	var got []string
	for f, err := range side.SortedForTest(func(yield func(side.Facts, error) bool) {
		for i, name := range names {
			if !yield(side.Facts{Key: name, Size: int64(i)}, nil) {
				return
			}
		}
	}) {
		if err != nil {
			t.Fatal(err)
		}
		if names[f.Size] != f.Key {
			t.Fatalf("%d is %q", f.Size, f.Key)
		}
		got = append(got, f.Key)
	}
	slices.Sort(names)
	if !slices.Equal(got, names) {
		t.Errorf("%d entries come in another order, or others", len(got))
	}
}
