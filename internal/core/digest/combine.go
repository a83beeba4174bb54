package digest

// reflected polynomials of the CRCs that can be combined, in the low bits.
var polynomials = map[Kind]struct {
	poly  uint64
	width int
}{CRC32: {0xedb88320, 32}, CRC32C: {0x82f63b78, 32}, CRC64NVME: {nvme, 64}}

// CanCombine reports whether the checksum of a whole follows from those of its
// parts.
func (k Kind) CanCombine() bool { _, ok := polynomials[k]; return ok }

// Combine gives the checksum of a content from that of its beginning and that of
// the rest, whose length is n bytes. It panics for kinds that cannot be combined.
//
// Appending n bytes multiplies the register by x^(8n) modulo the polynomial;
// inversions at both ends cancel out.
func Combine(kind Kind, a, b uint64, n int64) uint64 {
	p := polynomials[kind]
	one := uint64(1) << (p.width - 1) // x^0, reflected
	shift, base := one, one>>8        // x^(8n), by squaring x^8
	for ; n > 0; n >>= 1 {
		if n&1 == 1 {
			shift = multiply(shift, base, p.poly, one)
		}
		base = multiply(base, base, p.poly, one)
	}
	return multiply(a, shift, p.poly, one) ^ b
}

// multiply multiplies two polynomials modulo a third, all reflected; one is x^0.
func multiply(a, b, poly, one uint64) uint64 {
	var product uint64
	for m := one; m != 0 && a != 0; m >>= 1 {
		if a&m != 0 {
			product ^= b
			a &^= m
		}
		if b&1 == 1 {
			b = b>>1 ^ poly
		} else {
			b >>= 1
		}
	}
	return product
}

// CombineCRC64 is Combine for CRC-64/NVME.
func CombineCRC64(a, b uint64, n int64) uint64 { return Combine(CRC64NVME, a, b, n) }
