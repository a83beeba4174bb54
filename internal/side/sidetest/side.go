package sidetest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/side"
)

// Can says what a side can do beside keeping bytes.
type Can struct {
	Metadata bool // it keeps headers, metadata and tags
	AnyKey   bool // keys that no file could have
	Parts    bool // large objects go in parts
}

// Bytes is a body of some bytes.
type Bytes []byte

// Range gives a range.
func (b Bytes) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(b[from : from+length])), nil
}

// write says what is written of some bytes.
func write(b []byte) side.Write {
	sum := digest.NewCRC64()
	sum.Write(b)
	crc := sum.Sum64()
	return side.Write{Facts: side.Facts{Size: int64(len(b)), CRC64: &crc}}
}

// TestSide tries a side that is empty at first.
func TestSide(t *testing.T, s side.Side, can Can) {
	t.Run("there and back", func(t *testing.T) { thereAndBack(t, s, can) })
	t.Run("another digest", func(t *testing.T) { otherDigest(t, s) })
	t.Run("ranges", func(t *testing.T) { ranges(t, s) })
	t.Run("listing", func(t *testing.T) { listing(t, s, can) })
	if can.Metadata {
		t.Run("metadata alone", func(t *testing.T) { annotate(t, s) })
	}
	if can.Parts {
		t.Run("large", func(t *testing.T) { large(t, s) })
	}
}

func readAll(t *testing.T, s side.Side, f side.Facts) []byte {
	t.Helper()
	r, err := s.Read(t.Context(), f.Key, f.ETag, 0, f.Size)
	if err != nil {
		t.Fatalf("read %q: %v", f.Key, err)
	}
	defer r.Close()
	b, err := io.ReadAll(r)
	if err != nil {
		t.Fatalf("read %q: %v", f.Key, err)
	}
	return b
}

func thereAndBack(t *testing.T, s side.Side, can Can) {
	keys := []string{"one", "deep/er/two", "a b+c&d=e/ü.txt", "100%/x"}
	if can.AnyKey {
		keys = append(keys, "//double", "trailing/", "../up", ".")
	}
	for i, key := range keys {
		b := bytes.Repeat([]byte{byte(i)}, i*300_000)
		w := write(b)
		w.Headers = object.Headers{ContentType: "text/plain", CacheControl: "no-store"}
		w.Metadata, w.Tags = object.Metadata{"taxon": "Drosera"}, object.Tags{"kind": "note"}
		wrote, err := s.Write(t.Context(), key, Bytes(b), w)
		if err != nil {
			t.Fatalf("write %q: %v", key, err)
		}
		f, err := s.Stat(t.Context(), key)
		if err != nil || f.Key != key || f.Size != int64(len(b)) || f.ETag != wrote.ETag {
			t.Fatalf("%q: %+v, %v; written as %+v", key, f, err, wrote)
		}
		if can.Metadata && (f.Headers != w.Headers || !maps.Equal(f.Metadata, w.Metadata) || !maps.Equal(f.Tags, w.Tags)) {
			t.Errorf("%q has %+v %v %v", key, f.Headers, f.Metadata, f.Tags)
		}
		if got := readAll(t, s, f); !bytes.Equal(got, b) {
			t.Errorf("%q: other bytes came back", key)
		}
	}
	for _, key := range keys {
		if err := s.Remove(t.Context(), key); err != nil {
			t.Errorf("remove %q: %v", key, err)
		}
		if err := s.Remove(t.Context(), key); err != nil {
			t.Errorf("remove %q, which is gone: %v", key, err)
		}
		if _, err := s.Stat(t.Context(), key); fault.KindOf(err) != fault.NotFound || err == nil {
			t.Errorf("%q is gone, and stat says %v", key, err)
		}
	}
}

// What does not have the digest it is said to have is not there afterwards.
func otherDigest(t *testing.T, s side.Side) {
	w := write([]byte("what was meant"))
	if _, err := s.Write(t.Context(), "wrong", Bytes("what is sent!!"), w); err == nil {
		t.Error("another content than was meant was taken")
	}
}

func ranges(t *testing.T, s side.Side) {
	b := []byte("0123456789")
	f, err := s.Write(t.Context(), "ranges", Bytes(b), write(b))
	if err != nil {
		t.Fatal(err)
	}
	for from := range int64(10) {
		for n := int64(1); from+n <= 10; n++ {
			r, err := s.Read(t.Context(), "ranges", f.ETag, from, n)
			if err != nil {
				t.Fatal(err)
			}
			got, err := io.ReadAll(r)
			r.Close()
			if err != nil || string(got) != string(b[from:from+n]) {
				t.Errorf("%d bytes from %d: %q, %v", n, from, got, err)
			}
		}
	}
	if _, err := s.Write(t.Context(), "ranges", Bytes("abcdefghijk"), write([]byte("abcdefghijk"))); err != nil {
		t.Fatal(err)
	}
	if r, err := s.Read(t.Context(), "ranges", f.ETag, 0, 5); err == nil {
		r.Close()
		t.Error("what was replaced could be read as what it was")
	}
	if err := s.Remove(t.Context(), "ranges"); err != nil {
		t.Fatal(err)
	}
}

// Pages of all sizes give what a plain loop over the sorted keys gives.
func listing(t *testing.T, s side.Side, can Can) {
	rnd := rand.New(rand.NewPCG(3, 9))
	var keys []string
	for range 60 {
		k := fmt.Sprintf("%c/%c%d", 'a'+rnd.IntN(3), "x.y-"[rnd.IntN(4)], rnd.IntN(20))
		if rnd.IntN(3) == 0 {
			k = "list" + k // and no folder of that name
		}
		if !can.AnyKey && slices.ContainsFunc(keys, func(o string) bool {
			return strings.HasPrefix(o, k+"/") || strings.HasPrefix(k, o+"/")
		}) {
			continue
		}
		keys = append(keys, k)
		if _, err := s.Write(t.Context(), k, Bytes("x"), write([]byte("x"))); err != nil {
			t.Fatalf("write %q: %v", k, err)
		}
	}
	slices.Sort(keys)
	keys = slices.Compact(keys)
	for _, prefix := range []string{"", "a/", "a", "lista/x", "none"} {
		for _, limit := range []int{1, 7, 1000} {
			var want, got []string
			for _, k := range keys {
				if strings.HasPrefix(k, prefix) {
					want = append(want, k)
				}
			}
			for after := ""; ; {
				page, err := s.List(t.Context(), prefix, after, limit)
				if err != nil {
					t.Fatal(err)
				}
				for _, f := range page {
					got = append(got, f.Key)
					if f.Size != 1 {
						t.Errorf("%q has %d bytes in the listing", f.Key, f.Size)
					}
				}
				if len(page) == 0 {
					break
				}
				after = page[len(page)-1].Key
			}
			if !slices.Equal(got, want) {
				t.Errorf("prefix %q, pages of %d:\ngot  %q\nwant %q", prefix, limit, got, want)
			}
		}
	}
}

func annotate(t *testing.T, s side.Side) {
	f, err := s.Write(t.Context(), "annotated", Bytes("body"), write([]byte("body")))
	if err != nil {
		t.Fatal(err)
	}
	f.Metadata, f.Tags, f.Headers.ContentType = object.Metadata{"a": "b"}, object.Tags{"c": "d"}, "text/css"
	now, err := s.Annotate(t.Context(), "annotated", f)
	if fault.KindOf(err) == fault.Unfinished && err != nil {
		return // it says so, and who asked writes the whole
	}
	if err != nil {
		t.Fatal(err)
	}
	is, err := s.Stat(t.Context(), "annotated")
	if err != nil || is.ETag != now.ETag || !maps.Equal(is.Metadata, f.Metadata) || !maps.Equal(is.Tags, f.Tags) ||
		is.Headers.ContentType != "text/css" {
		t.Errorf("annotated: %+v, %v", is, err)
	}
	if got := readAll(t, s, is); string(got) != "body" {
		t.Errorf("its bytes: %q", got)
	}
	f.ETag = strings.Repeat("0", 32)
	if _, err := s.Annotate(t.Context(), "annotated", f); err == nil {
		t.Error("what has another content was annotated")
	}
}

// large is written in parts; broken off, the same write goes on where it was.
func large(t *testing.T, s side.Side) {
	b := bytes.Repeat([]byte("0123456789abcdef"), 70<<20/16)
	w := write(b)
	var sent int64
	upload := ""
	w.Keep = func(id string, _, _ int64) error { upload = id; return nil }
	broken := &breaking{Bytes: b, after: 3}
	if _, err := s.Write(t.Context(), "large", broken, w); err == nil {
		t.Fatal("a body that broke off was taken")
	}
	if upload == "" {
		t.Fatal("nobody heard of the upload")
	}
	w.Upload, w.Moved = upload, counting(&sent)
	f, err := s.Write(t.Context(), "large", Bytes(b), w)
	if err != nil {
		t.Fatal(err)
	}
	if sent >= int64(len(b)) {
		t.Errorf("%d bytes were sent the second time, of %d", sent, len(b))
	}
	f.Key = "large"
	if got := readAll(t, s, f); !bytes.Equal(got, b) {
		t.Error("other bytes came back")
	}
}
