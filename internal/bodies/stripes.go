package bodies

import (
	"encoding/binary"
	"sync"

	"github.com/klauspost/reedsolomon"

	"spindle/internal/core/digest"
	"spindle/internal/core/tier"
)

// A body in pieces is what stands in a file of frames, sealed or not, cut into stripes of
// blockSize for each data piece; the blocks of the last stripe are as short as they can be,
// filled up with zeros. To each stripe the parity blocks of a Reed-Solomon code are worked
// out. A piece is a file, all numbers little-endian:
//
//	blocks    a block of each stripe, followed by its digest: the CRC-64/NVME (8) of its
//	          place (file, piece and stripe, 8 each) and of the block
//	trailer   magic (8), data pieces (2), parity pieces (2), this piece (2), zero (2),
//	          block size (8), stored bytes of the body (8), file (8), CRC-64/NVME of what
//	          is before in the trailer (8)
//
// All pieces of a body have the number of its file, and lie on different volumes.
const (
	blockSize  = 64 << 10
	blockTail  = 8
	pieceTail  = 48
	pieceMagic = "SPPIECE\x01"
)

// striping is how the pieces of one body are cut.
type striping struct {
	tier.Pieces
	stored int64 // bytes
	file   int64
}

// stripes gives how many there are.
func (s striping) stripes() int64 {
	full := int64(s.Data) * blockSize
	return (s.stored + full - 1) / full
}

// block gives the length of the blocks of a stripe.
func (s striping) block(stripe int64) int {
	rest := s.stored - stripe*int64(s.Data)*blockSize
	return int(min(blockSize, (rest+int64(s.Data)-1)/int64(s.Data)))
}

// pieceSize gives the length of a piece's file.
func (s striping) pieceSize() int64 {
	n := s.stripes()
	if n == 0 {
		return pieceTail
	}
	return (n-1)*(blockSize+blockTail) + int64(s.block(n-1)) + blockTail + pieceTail
}

// blockDigest gives the digest of a block in its place.
func (s striping) blockDigest(piece int, stripe int64, block []byte) uint64 {
	var at [24]byte
	binary.LittleEndian.PutUint64(at[:], uint64(s.file))
	binary.LittleEndian.PutUint64(at[8:], uint64(piece))
	binary.LittleEndian.PutUint64(at[16:], uint64(stripe))
	return digest.UpdateCRC64(digest.CRC64(at[:]), block)
}

// trailer gives the trailer of a piece.
func (s striping) trailer(piece int) []byte {
	b := append(make([]byte, 0, pieceTail), pieceMagic...)
	for _, n := range []int{s.Data, s.Parity, piece, 0} {
		b = binary.LittleEndian.AppendUint16(b, uint16(n))
	}
	for _, n := range []int64{blockSize, s.stored, s.file} {
		b = binary.LittleEndian.AppendUint64(b, uint64(n))
	}
	return binary.LittleEndian.AppendUint64(b, digest.CRC64(b))
}

// parseTrailer reads the trailer of a piece of a file; false when it is none.
func parseTrailer(b []byte, file int64) (s striping, piece int, ok bool) {
	if len(b) != pieceTail || string(b[:8]) != pieceMagic ||
		binary.LittleEndian.Uint64(b[pieceTail-8:]) != digest.CRC64(b[:pieceTail-8]) {
		return s, 0, false
	}
	n := func(at int) int { return int(binary.LittleEndian.Uint16(b[at:])) }
	s.Data, s.Parity, piece = n(8), n(10), n(12)
	s.stored, s.file = int64(binary.LittleEndian.Uint64(b[24:])), int64(binary.LittleEndian.Uint64(b[32:]))
	ok = binary.LittleEndian.Uint64(b[16:]) == blockSize && s.file == file && s.stored > 0 && s.Data > 0 &&
		s.Parity > 0 && piece < s.All()
	return s, piece, ok
}

var coders sync.Map // tier.Pieces to reedsolomon.Encoder

// coder gives the code of some pieces, which any number of users may have.
func coder(p tier.Pieces) (reedsolomon.Encoder, error) {
	if c, ok := coders.Load(p); ok {
		return c.(reedsolomon.Encoder), nil
	}
	c, err := reedsolomon.New(p.Data, p.Parity)
	if err != nil {
		return nil, err
	}
	coders.Store(p, c)
	return c, nil
}
