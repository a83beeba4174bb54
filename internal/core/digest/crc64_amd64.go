package digest

import "encoding/binary"

// fold runs blocks of 64 bytes at p into the four lanes.
//
//go:noescape
func fold(lanes *[8]uint64, p *byte, blocks int, k *[2]uint64)

// canFold reports whether the processor multiplies without carries.
func canFold() bool

var (
	folds = canFold()
	// Multipliers that move a lane 512 bits on. The product of two reflected
	// words stands one bit low, hence the exponents less one.
	foldBy = [2]uint64{power(512 + 64 - 1), power(512 - 1)}
)

func update(crc uint64, p []byte) uint64 {
	if len(p) < 256 || !folds {
		return bytewise(crc, p)
	}
	var lanes [8]uint64
	for i := range lanes {
		lanes[i] = binary.LittleEndian.Uint64(p[8*i:])
	}
	lanes[0] ^= crc
	blocks := len(p)/64 - 1
	fold(&lanes, &p[64], blocks, &foldBy)
	var rest [64]byte
	for i, v := range lanes {
		binary.LittleEndian.PutUint64(rest[8*i:], v)
	}
	return bytewise(bytewise(0, rest[:]), p[64*(blocks+1):])
}
