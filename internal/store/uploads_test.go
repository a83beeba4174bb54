package store_test

import (
	"bytes"
	"crypto/md5"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

func upload(t *testing.T, s *store.Store, key string) string {
	t.Helper()
	u, err := s.StartUpload(t.Context(), at(key), catalog.Upload{Metadata: object.Metadata{"taxon": "Erica"}}, me)
	if err != nil {
		t.Fatal(err)
	}
	return u.ID
}

func part(t *testing.T, s *store.Store, key, id string, n int, b []byte) catalog.Part {
	t.Helper()
	p, err := s.PutPart(t.Context(), store.PutPart{Address: at(key), Author: me, Upload: id, Number: n,
		Body: bytes.NewReader(b), Size: int64(len(b))})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func complete(s *store.Store, t *testing.T, key, id string, change func(*store.Complete),
	numbers ...int) (*object.Version, error) {
	t.Helper()
	c := store.Complete{Address: at(key), Author: me, Upload: id, Size: -1}
	for _, n := range numbers {
		c.Parts = append(c.Parts, store.CompletePart{Number: n})
	}
	if change != nil {
		change(&c)
	}
	return s.Complete(t.Context(), c)
}

// TestRangesOfPartsAgainstTheWhole reads random ranges of objects whose parts
// have random sizes, and compares them with the content in memory.
func TestRangesOfPartsAgainstTheWhole(t *testing.T) {
	s := newStore(t, nil)
	r := rand.New(rand.NewPCG(8, 15))
	for round := range 3 {
		key := fmt.Sprint("k", round)
		id := upload(t, s, key)
		var whole []byte
		var numbers []int
		sums := md5.New()
		for n, i := 1+r.IntN(5), 0; i < 4; i, n = i+1, n+1+r.IntN(900) {
			size := object.MinPart + r.IntN(100_000)
			if i == 3 {
				size = []int{1, 0, 70_000}[round] // the last may be small, even empty
			}
			b := make([]byte, size)
			for j := 0; j < size; j += 1 + r.IntN(40) {
				b[j] = byte(r.Uint32())
			}
			p := part(t, s, key, id, n, b)
			sums.Write(p.MD5[:])
			whole, numbers = append(whole, b...), append(numbers, n)
		}
		v, err := complete(s, t, key, id, func(c *store.Complete) {
			c.Kind, c.Checksum, c.Size = digest.CRC64NVME, crc(whole), int64(len(whole))
		}, numbers...)
		if err != nil {
			t.Fatal(err)
		}
		if v.CRC64 != digest.CRC64(whole) || !bytes.Equal(sums.Sum(nil), v.ETag.MD5[:]) || v.ETag.Parts != 4 ||
			v.Metadata["taxon"] != "Erica" {
			t.Errorf("completed: %+v", v)
		}
		b, v, err := s.Open(t.Context(), at(key), v)
		if err != nil {
			t.Fatal(err)
		}
		for range 60 {
			from := r.IntN(len(whole) + 1)
			n := r.IntN(len(whole) - from + 1)
			if r.IntN(3) == 0 {
				n = min(n, 20)
			}
			var got bytes.Buffer
			if r.IntN(2) == 0 {
				if err := b.Prepare(t.Context(), int64(from), int64(n)); err != nil {
					t.Fatal(err)
				}
			}
			if err := b.Send(&got, int64(from), int64(n), nil); err != nil || !bytes.Equal(got.Bytes(), whole[from:from+n]) {
				t.Fatalf("bytes %d to %d of %d: got %d, %v", from, from+n, len(whole), got.Len(), err)
			}
		}
		b.Close()
	}
}

func crc(b []byte) []byte {
	h := digest.NewCRC64()
	h.Write(b)
	return h.Sum(nil)
}

func TestWhatAnUploadRefuses(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	big := make([]byte, object.MinPart)
	id := upload(t, s, "k")
	part(t, s, "k", id, 1, big)
	part(t, s, "k", id, 2, []byte("small"))
	part(t, s, "k", id, 3, []byte("last"))
	p := store.PutPart{Address: at("k"), Author: me, Upload: id, Number: 4, Body: strings.NewReader("body"), Size: 4}
	for what, x := range map[string]struct {
		change func(*store.PutPart)
		code   string
	}{
		"part 0":                {func(p *store.PutPart) { p.Number = 0 }, "part-number"},
		"part 10,001":           {func(p *store.PutPart) { p.Number = 10_001 }, "part-number"},
		"more than 5 GiB":       {func(p *store.PutPart) { p.Size = object.MaxSize + 1 }, "object-too-large"},
		"fewer bytes than said": {func(p *store.PutPart) { p.Size = 5 }, "size-mismatch"},
		"another upload":        {func(p *store.PutPart) { p.Upload = "nix" }, "upload-missing"},
		"another key":           {func(p *store.PutPart) { p.Address = at("other") }, "upload-missing"},
		"another bucket":        {func(p *store.PutPart) { p.Bucket = object.MustBucketName("nowhere") }, "bucket-missing"},
		"a wrong MD5":           {func(p *store.PutPart) { p.MD5 = &[16]byte{1} }, "digest-mismatch"},
		"a wrong CRC": {func(p *store.PutPart) {
			p.Checksum, p.Claim = digest.CRC32, func() ([]byte, error) { return []byte{1, 2, 3, 4}, nil }
		}, "digest-mismatch"},
		"a source that breaks": {
			func(p *store.PutPart) { p.Body = io.MultiReader(strings.NewReader("bo"), broken{}) }, "broken"},
	} {
		q := p
		q.Body = strings.NewReader("body")
		x.change(&q)
		_, err := s.PutPart(ctx, q)
		wantCode(t, what, err, x.code)
	}
	etag := object.ETag{MD5: [16]byte{7}}
	for what, x := range map[string]struct {
		change  func(*store.Complete)
		numbers []int
		code    string
	}{
		"nothing":            {nil, nil, "parts-none"},
		"a part that is not": {nil, []int{1, 9}, "part-missing"},
		"the wrong order":    {nil, []int{3, 1}, "part-order"},
		"a part twice":       {nil, []int{1, 1}, "part-order"},
		"a small one before": {nil, []int{1, 2, 3}, "part-small"},
		"another MD5":        {func(c *store.Complete) { c.Parts[0].MD5 = &[16]byte{1} }, []int{1, 3}, "part-missing"},
		"another size":       {func(c *store.Complete) { c.Size = 1 }, []int{1, 3}, "size-mismatch"},
		"another CRC-64": {
			func(c *store.Complete) { c.Kind, c.Checksum = digest.CRC64NVME, make([]byte, 8) }, []int{1, 3}, "digest-mismatch"},
		"a kind not asked for": {
			func(c *store.Complete) { c.Kind, c.Checksum = digest.SHA256, make([]byte, 32) }, []int{1, 3}, "checksum-kind"},
		"a key that is absent": {func(c *store.Complete) { c.IfETag = &etag }, []int{1, 3}, "absent"},
		"another upload":       {func(c *store.Complete) { c.Upload = "nix" }, []int{1, 3}, "upload-missing"},
	} {
		_, err := complete(s, t, "k", id, x.change, x.numbers...)
		wantCode(t, "completing with "+what, err, x.code)
	}
	// The key changed since: neither condition holds, and the upload is still there.
	put(t, s, "k", "somebody else's")
	_, err := complete(s, t, "k", id, func(c *store.Complete) { c.IfAbsent = true }, 1, 3)
	wantCode(t, "only if absent", err, "exists")
	_, err = complete(s, t, "k", id, func(c *store.Complete) { c.IfETag = &etag }, 1, 3)
	wantCode(t, "only if unchanged", err, "mismatch")
	if _, err := complete(s, t, "k", id, nil, 1, 3); err != nil {
		t.Errorf("without condition: %v", err)
	}
	if b, err := s.Catalog.Bucket(ctx, plates); err != nil || b.Usage.Objects != 1 || b.Usage.Bytes != object.MinPart+4 {
		t.Errorf("usage %+v, %v", b.Usage, err)
	}
	for _, kind := range []digest.Kind{digest.SHA1, digest.SHA256} {
		_, err := s.StartUpload(ctx, at("x"), catalog.Upload{Checksum: kind}, me)
		wantCode(t, kind.String()+" of the whole", err, "checksum-type")
	}
}

type broken struct{}

func (broken) Read([]byte) (int, error) {
	return 0, fault.New(fault.Unavailable, "broken", "the line broke")
}

// TestCompletingRaces completes, abandons and sends parts at the same time: the
// object is there whole, or the upload is gone, never half.
func TestCompletingRaces(t *testing.T) {
	s := newStore(t, nil)
	b := make([]byte, object.MinPart)
	for round := range 8 {
		key := fmt.Sprint("r", round)
		id := upload(t, s, key)
		part(t, s, key, id, 1, b)
		var wg sync.WaitGroup
		var completed, abandoned error
		wg.Go(func() { _, completed = complete(s, t, key, id, nil, 1) })
		wg.Go(func() { abandoned = s.Abandon(t.Context(), at(key), id) })
		wg.Go(func() {
			_, err := s.PutPart(t.Context(), store.PutPart{Address: at(key), Author: me, Upload: id, Number: 1,
				Body: strings.NewReader("late"), Size: 4})
			if err != nil && !fault.HasCode(err, "upload-missing") {
				t.Error(err)
			}
		})
		wg.Wait()
		v, err := s.Find(t.Context(), at(key))
		switch {
		case completed == nil && abandoned == nil:
			t.Error("it was completed and abandoned")
		case completed == nil && (err != nil || v.Size != object.MinPart && v.Size != 4):
			t.Errorf("completed, and there is %+v, %v", v, err)
		case completed == nil:
			var got bytes.Buffer
			if err := s.ReadAll(t.Context(), v, &got, func(int) error { return nil }); err != nil || int64(got.Len()) != v.Size {
				t.Errorf("completed, and it reads %d bytes, %v", got.Len(), err)
			}
		case !fault.HasCode(err, "key-missing"):
			t.Errorf("abandoned (%v), and there is %+v, %v", completed, v, err)
		}
	}
}

func TestAQuotaIsKeptWhenItCompletes(t *testing.T) {
	quota := int64(object.MinPart + 10)
	s := newStore(t, &quota)
	id := upload(t, s, "k")
	part(t, s, "k", id, 1, make([]byte, object.MinPart))
	part(t, s, "k", id, 2, make([]byte, 11))
	_, err := complete(s, t, "k", id, nil, 1, 2)
	wantCode(t, "over the quota", err, "quota")
	if _, err := complete(s, t, "k", id, nil, 1); err != nil {
		t.Errorf("within it: %v", err)
	}
	_, err = s.StartUpload(t.Context(), at("more"), catalog.Upload{}, me)
	wantCode(t, "with ten bytes left", err, "")
	put(t, s, "rest", "0123456789")
	_, err = s.StartUpload(t.Context(), at("more"), catalog.Upload{}, me)
	wantCode(t, "with none left", err, "quota")
}
