package columns

import (
	"encoding/binary"
	"iter"
	"math/bits"
)

// Most is how many objects a segment holds at most.
const Most = 1 << 16

// Bits is a set of ordinals.
type Bits [Most / 64]uint64

// Set adds an ordinal.
func (b *Bits) Set(i int) { b[i>>6] |= 1 << (i & 63) }

// Has reports whether an ordinal is in the set.
func (b *Bits) Has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }

// Fill adds the first n ordinals.
func (b *Bits) Fill(n int) {
	for i := range n >> 6 {
		b[i] = ^uint64(0)
	}
	if n&63 != 0 {
		b[n>>6] |= 1<<(n&63) - 1
	}
}

// Or adds those of another set.
func (b *Bits) Or(o *Bits) {
	for i := range b {
		b[i] |= o[i]
	}
}

// And leaves those that are in another set too.
func (b *Bits) And(o *Bits) {
	for i := range b {
		b[i] &= o[i]
	}
}

// Without takes those of another set away.
func (b *Bits) Without(o *Bits) {
	for i := range b {
		b[i] &^= o[i]
	}
}

// Count gives how many ordinals are in the set.
func (b *Bits) Count() (n int) {
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

// All gives the ordinals in their order.
func (b *Bits) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range b {
			for ; w != 0; w &= w - 1 {
				if !yield(i<<6 + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}

// Pack gives the set as bytes, compressed.
func (b *Bits) Pack() []byte {
	raw := make([]byte, 0, Most/8)
	for _, w := range b {
		raw = binary.LittleEndian.AppendUint64(raw, w)
	}
	return squeeze(raw)
}

// Unpack reads a set; what is empty is an empty one.
func Unpack(packed []byte) (*Bits, error) {
	b := &Bits{}
	if len(packed) == 0 {
		return b, nil
	}
	raw, err := stretch(packed)
	if err != nil || len(raw) != Most/8 {
		return nil, damaged(err)
	}
	for i := range b {
		b[i] = binary.LittleEndian.Uint64(raw[8*i:])
	}
	return b, nil
}
