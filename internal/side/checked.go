package side

import (
	"crypto/md5"
	"encoding/hex"
	"hash"
	"io"
	"strings"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
)

// Checked gives the whole content of an object from a reader, and compares it with the digest
// that the side told of it: the CRC-64 when there is one, else the MD5. The last bytes come only
// when they agree, so what is damaged never seems whole. Where no digest was told, nothing can be
// compared; see Tells.
func Checked(r io.ReadCloser, f Facts) io.ReadCloser {
	c := &checked{ReadCloser: r, left: f.Size}
	switch {
	case f.CRC64 != nil:
		sum := digest.NewCRC64()
		c.sum, c.agrees = sum, func() bool { return sum.Sum64() == *f.CRC64 }
	case f.MD5 != "":
		c.sum = md5.New()
		c.agrees = func() bool { return strings.EqualFold(hex.EncodeToString(c.sum.Sum(nil)), f.MD5) }
	default:
		return r
	}
	return c
}

// Tells reports whether a side told a digest of an object's content.
func (f *Facts) Tells() bool { return f.CRC64 != nil || f.MD5 != "" }

type checked struct {
	io.ReadCloser
	left   int64 // bytes until the end
	sum    hash.Hash
	agrees func() bool
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.sum.Write(p[:n])
	c.left -= int64(n)
	if c.left < 0 || c.left == 0 && !c.agrees() {
		return 0, fault.New(fault.Damaged, "source-damaged", "the bytes that came are not those that the digest is of").
			In("source").Do("read it again; when that fails too, the object is damaged where it lies")
	}
	return n, err
}
