package digest

import (
	"fmt"
	"hash/crc64"
	"math/rand/v2"
	"testing"
)

func TestCRC64AgreesWithTheStandardLibrary(t *testing.T) {
	if got := CRC64([]byte("123456789")); got != 0xae8b14860a799888 {
		t.Errorf("CRC64 of the catalogued check string = %#x, want 0xae8b14860a799888", got)
	}
	table := crc64.MakeTable(nvme)
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 10_000)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	for n := range 1500 {
		at := r.IntN(100)
		p := data[at : at+n]
		if got, want := CRC64(p), crc64.Checksum(p, table); got != want {
			t.Fatalf("CRC64 of %d bytes = %#x, want %#x", n, got, want)
		}
		cut := r.IntN(n + 1)
		if got, want := UpdateCRC64(CRC64(p[:cut]), p[cut:]), crc64.Checksum(p, table); got != want {
			t.Fatalf("CRC64 of %d bytes cut at %d = %#x, want %#x", n, cut, got, want)
		}
		if got, want := ^bytewise(^uint64(0), p), crc64.Checksum(p, table); got != want {
			t.Fatalf("by tables, CRC64 of %d bytes = %#x, want %#x", n, got, want)
		}
	}
}

func BenchmarkCRC64(b *testing.B) {
	p := make([]byte, 256<<10)
	b.SetBytes(int64(len(p)))
	for b.Loop() {
		CRC64(p)
	}
}

func TestKindsOfDigest(t *testing.T) {
	// Of "123456789", the check string of the catalogues (RFC 3720 for CRC-32C; FIPS 180-4 for SHA).
	want := map[Kind]string{CRC32: "cbf43926", CRC32C: "e3069283", CRC64NVME: "ae8b14860a799888",
		SHA1:   "f7c3bc1d808e04732adf679965ccc34ca7ae3441",
		SHA256: "15e2b0d3c33891ebb0f1ef609ec419420c20e320ce94c65fbc8c3312448eb225"}
	for k, hex := range want {
		h := k.New()
		for _, part := range []string{"1234", "", "56789"} {
			if n, err := h.Write([]byte(part)); n != len(part) || err != nil {
				t.Errorf("%s: writing gives %d, %v", k, n, err)
			}
		}
		if got := fmt.Sprintf("%x", h.Sum(nil)); got != hex || len(got) != 2*k.Size() || h.Size() != k.Size() {
			t.Errorf("%s is %s, want %s", k, got, hex)
		}
		if got := fmt.Sprintf("%x", h.Sum([]byte{0xff})); got != "ff"+hex {
			t.Errorf("%s does not append: %s", k, got)
		}
		h.Reset()
		if got := h.Sum(nil); fmt.Sprintf("%x", got) == hex {
			t.Errorf("%s is not reset", k)
		}
	}
	if None.New() != nil {
		t.Error("no kind has a hash")
	}
}
