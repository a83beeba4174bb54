package digest

import (
	"encoding/binary"
	"hash"
)

// nvme is the reflected polynomial of CRC-64/NVME.
const nvme = 0x9a6c9329ac4bc9b5

// tables[k][b] is the CRC register after byte b followed by k zero bytes.
var tables = makeTables()

func makeTables() *[8][256]uint64 {
	t := new([8][256]uint64)
	for i := range 256 {
		c := uint64(i)
		for range 8 {
			if c&1 == 1 {
				c = c>>1 ^ nvme
			} else {
				c >>= 1
			}
		}
		t[0][i] = c
	}
	for i := range 256 {
		for k := 1; k < 8; k++ {
			t[k][i] = t[k-1][i]>>8 ^ t[0][byte(t[k-1][i])]
		}
	}
	return t
}

// power gives x^n modulo the polynomial, reflected: bit 63 is x^0.
func power(n int) uint64 {
	v := uint64(1) << 63
	for range n {
		if v&1 == 1 {
			v = v>>1 ^ nvme
		} else {
			v >>= 1
		}
	}
	return v
}

// bytewise runs the register over p by tables, without inversions.
func bytewise(crc uint64, p []byte) uint64 {
	for len(p) >= 8 {
		crc ^= binary.LittleEndian.Uint64(p)
		crc = tables[7][byte(crc)] ^ tables[6][byte(crc>>8)] ^ tables[5][byte(crc>>16)] ^ tables[4][byte(crc>>24)] ^
			tables[3][byte(crc>>32)] ^ tables[2][byte(crc>>40)] ^ tables[1][byte(crc>>48)] ^ tables[0][crc>>56]
		p = p[8:]
	}
	for _, b := range p {
		crc = tables[0][byte(crc)^b] ^ crc>>8
	}
	return crc
}

// UpdateCRC64 gives the CRC-64/NVME of the content that crc stands for,
// followed by p. The CRC of nothing is 0.
func UpdateCRC64(crc uint64, p []byte) uint64 { return ^update(^crc, p) }

// CRC64 gives the CRC-64/NVME of p.
func CRC64(p []byte) uint64 { return UpdateCRC64(0, p) }

type crc64Hash struct{ crc uint64 }

// NewCRC64 gives a hash.Hash64 of CRC-64/NVME; Sum appends it big-endian.
func NewCRC64() hash.Hash64 { return &crc64Hash{} }

func (h *crc64Hash) Write(p []byte) (int, error) { h.crc = UpdateCRC64(h.crc, p); return len(p), nil }
func (h *crc64Hash) Sum(b []byte) []byte         { return binary.BigEndian.AppendUint64(b, h.crc) }
func (h *crc64Hash) Sum64() uint64               { return h.crc }
func (h *crc64Hash) Reset()                      { h.crc = 0 }
func (h *crc64Hash) Size() int                   { return 8 }
func (h *crc64Hash) BlockSize() int              { return 64 }
