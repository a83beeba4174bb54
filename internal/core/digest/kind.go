package digest

import (
	"crypto/sha1"
	"crypto/sha256"
	"hash"
	"hash/crc32"
)

// Kind names a digest that a client may claim of its content.
type Kind uint8

// The kinds that the wire knows. Their numbers stand in the catalog.
const (
	None      Kind = 0
	CRC32     Kind = 1
	CRC32C    Kind = 2
	CRC64NVME Kind = 3
	SHA1      Kind = 4
	SHA256    Kind = 5
)

var kinds = [...]struct {
	name string
	size int
}{{"none", 0}, {"CRC-32", 4}, {"CRC-32C", 4}, {"CRC-64/NVME", 8}, {"SHA-1", 20}, {"SHA-256", 32}}

// String gives the kind's usual name.
func (k Kind) String() string { return kinds[k].name }

// Size gives the digest's length in bytes.
func (k Kind) Size() int { return kinds[k].size }

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// New gives a fresh hash of the kind, nil for None.
func (k Kind) New() hash.Hash {
	switch k {
	case CRC32:
		return crc32.NewIEEE()
	case CRC32C:
		return crc32.New(castagnoli)
	case CRC64NVME:
		return NewCRC64()
	case SHA1:
		return sha1.New()
	case SHA256:
		return sha256.New()
	}
	return nil
}

// Sum is a digest with its kind. The zero value is none.
type Sum struct {
	Kind  Kind
	Bytes []byte
}
