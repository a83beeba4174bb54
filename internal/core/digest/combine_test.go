package digest

import (
	"hash/crc32"
	"math/rand/v2"
	"testing"
)

func TestCombiningIsTheChecksumOfTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		p := make([]byte, r.IntN(5000))
		for i := range p {
			p[i] = byte(r.Uint32())
		}
		at := r.IntN(len(p) + 1)
		a, b := p[:at], p[at:]
		castagnoli := crc32.MakeTable(crc32.Castagnoli)
		for kind, f := range map[Kind]func([]byte) uint64{
			CRC64NVME: CRC64,
			CRC32:     func(p []byte) uint64 { return uint64(crc32.ChecksumIEEE(p)) },
			CRC32C:    func(p []byte) uint64 { return uint64(crc32.Checksum(p, castagnoli)) },
		} {
			if got := Combine(kind, f(a), f(b), int64(len(b))); got != f(p) {
				t.Fatalf("%s of %d and %d bytes: %x, want %x", kind, len(a), len(b), got, f(p))
			}
		}
	}
	if SHA256.CanCombine() || !CRC32C.CanCombine() {
		t.Error("what can be combined")
	}
}
