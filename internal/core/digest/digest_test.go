package digest

import (
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
