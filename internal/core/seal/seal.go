package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"io"
	"sync"

	"spindle/internal/core/fault"
)

// Sizes in bytes.
const (
	HeaderSize = 72
	ChunkSize  = 64 << 10
	TagSize    = 16
)

// The header: magic (4), version (2), number of the body key (2), chunk size
// (4), nonce of the wrapping (12), wrapped data key (48). Numbers are
// little-endian.
const (
	magic   = "SPSL"
	version = 2
	keyAt   = 24
	prefix  = 12 // of the header, authenticated with the wrapped key
)

// Header begins a sealed body.
type Header [HeaderSize]byte

// Length gives the bytes that a sealed body of n > 0 plain bytes has.
func Length(n int64) int64 {
	return HeaderSize + n + (n+ChunkSize-1)/ChunkSize*TagSize
}

// PlainLength gives the plain bytes that a sealed body of n bytes has.
func PlainLength(n int64) int64 {
	n -= HeaderSize
	return n - (n+ChunkSize+TagSize-1)/(ChunkSize+TagSize)*TagSize
}

// NewKey gives the cipher of a key of 32 bytes.
func NewKey(raw []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(raw)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// Wrapping is a data key that waits for its body's place.
type Wrapping struct {
	raw    []byte
	number uint16
	body   cipher.AEAD
}

// NewData makes a data key, to be wrapped under a body key.
func NewData(number uint16, body cipher.AEAD) (*Wrapping, cipher.AEAD, error) {
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return nil, nil, err
	}
	data, err := NewKey(raw)
	return &Wrapping{raw, number, body}, data, err
}

// Header wraps the data key for a body that begins at an offset of a file, which is
// -1 for one that is the file: the header opens there and nowhere else.
func (w *Wrapping) Header(file, offset int64) (h Header, err error) {
	copy(h[:], magic)
	binary.LittleEndian.PutUint16(h[4:], version)
	binary.LittleEndian.PutUint16(h[6:], w.number)
	binary.LittleEndian.PutUint32(h[8:], ChunkSize)
	if _, err := rand.Read(h[prefix:keyAt]); err != nil {
		return h, err
	}
	w.body.Seal(h[keyAt:keyAt], h[prefix:keyAt], w.raw, h.bound(file, offset))
	return h, nil
}

func (h *Header) version() uint16 { return binary.LittleEndian.Uint16(h[4:]) }

// bound gives what is authenticated with the wrapped key. Version 1 knew the file
// only, and of bodies in segments nothing.
func (h *Header) bound(file, offset int64) []byte {
	b := append(make([]byte, 0, prefix+16), h[:prefix]...)
	if h.version() == 1 {
		if offset >= 0 {
			file = 0
		}
		return binary.LittleEndian.AppendUint64(b, uint64(file))
	}
	return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(b, uint64(file)), uint64(offset))
}

// BodyKey gives the number of the body key that wraps the data key.
func (h *Header) BodyKey() (uint16, error) {
	switch v := h.version(); {
	case string(h[:4]) != magic:
		return 0, broken("the header of a sealed body is not there")
	case v < 1 || v > version || binary.LittleEndian.Uint32(h[8:]) != ChunkSize:
		return 0, fault.New(fault.Unavailable, "seal-version",
			"the body was sealed in version %d of the format, and this service knows versions up to %d", v, version).
			Do("run the version of the service that sealed it")
	}
	return binary.LittleEndian.Uint16(h[6:]), nil
}

// Open gives the cipher of the data key of the body that stands at an offset of a
// file (-1: it is the file), and the key in its wrapping, to be bound elsewhere.
// When the catalog says that the body is bound to its place, one of the version that
// was not is refused: it may have been put there.
func (h *Header) Open(number uint16, body cipher.AEAD, file, offset int64, bound bool) (cipher.AEAD, *Wrapping, error) {
	if bound && h.version() < 2 {
		return nil, nil, broken("a body of an older format stands in the place of another")
	}
	raw, err := body.Open(nil, h[prefix:keyAt], h[keyAt:], h.bound(file, offset))
	if err != nil {
		return nil, nil, broken("the header of the sealed body was changed, or belongs elsewhere")
	}
	data, err := NewKey(raw)
	return data, &Wrapping{raw, number, body}, err
}

func broken(format string, args ...any) error {
	return fault.New(fault.Damaged, "damaged", "the stored bytes are damaged: "+format, args...).
		Do("restore the object from a copy; the damage is reported on the overview")
}

func nonce(chunk int64, last bool) []byte {
	n := make([]byte, 12)
	if last {
		n[0] = 1
	}
	binary.LittleEndian.PutUint64(n[4:], uint64(chunk))
	return n
}

// Seal appends a sealed chunk to dst. All chunks but the last have ChunkSize.
func Seal(dst []byte, data cipher.AEAD, chunk int64, last bool, plain []byte) []byte {
	return data.Seal(dst, nonce(chunk, last), plain, nil)
}

// Open opens a sealed chunk in its place and gives the plain bytes.
func Open(data cipher.AEAD, chunk int64, last bool, sealed []byte) ([]byte, error) {
	plain, err := data.Open(sealed[:0], nonce(chunk, last), sealed, nil)
	if err != nil {
		return nil, broken("chunk %d of the sealed body was changed", chunk)
	}
	return plain, nil
}

// Whole seals a short body in one piece, appended to dst, with room for its header
// before it.
func Whole(dst []byte, data cipher.AEAD, plain []byte) []byte {
	dst = append(dst, make([]byte, HeaderSize)...)
	for i := int64(0); len(plain) > 0; i++ {
		n := min(len(plain), ChunkSize)
		dst = Seal(dst, data, i, n == len(plain), plain[:n])
		plain = plain[n:]
	}
	return dst
}

// OpenWhole opens what Whole sealed, without its header, into plain, which has
// the body's size.
func OpenWhole(plain []byte, data cipher.AEAD, chunks []byte) error {
	for i := int64(0); len(plain) > 0; i++ {
		n := min(len(plain), ChunkSize)
		if len(chunks) < n+TagSize {
			return broken("the sealed body ends early")
		}
		got, err := Open(data, i, n == len(plain), chunks[:n+TagSize])
		if err != nil {
			return err
		}
		copy(plain, got)
		plain, chunks = plain[n:], chunks[n+TagSize:]
	}
	return nil
}

// Writer seals a stream. Close writes the last chunk, not what it writes to.
type Writer struct {
	w     io.Writer
	data  cipher.AEAD
	chunk int64
	held  []byte // the bytes that may be the last chunk
	out   []byte
}

// NewWriter writes the header and gives a writer for the plain bytes.
func NewWriter(w io.Writer, h Header, data cipher.AEAD) (*Writer, error) {
	_, err := w.Write(h[:])
	return &Writer{w: w, data: data, held: make([]byte, 0, ChunkSize)}, err
}

// Write seals all of p but what may be the last chunk.
func (s *Writer) Write(p []byte) (int, error) {
	all := len(p)
	s.out = s.out[:0]
	if len(s.held) > 0 && len(s.held)+len(p) > ChunkSize {
		n := ChunkSize - len(s.held)
		s.held = append(s.held, p[:n]...)
		p = p[n:]
		s.seal(s.held, false)
		s.held = s.held[:0]
	}
	for len(p) > ChunkSize {
		s.seal(p[:ChunkSize], false)
		p = p[ChunkSize:]
	}
	s.held = append(s.held, p...)
	if len(s.out) == 0 {
		return all, nil
	}
	if _, err := s.w.Write(s.out); err != nil {
		return 0, err
	}
	return all, nil
}

func (s *Writer) seal(p []byte, last bool) {
	s.out = Seal(s.out, s.data, s.chunk, last, p)
	s.chunk++
}

// Close seals and writes the last chunk. A body has one byte at least.
func (s *Writer) Close() error {
	s.out = s.out[:0]
	s.seal(s.held, true)
	_, err := s.w.Write(s.out)
	return err
}

// Reader gives ranges of a sealed body.
type Reader struct {
	f    io.ReaderAt
	data cipher.AEAD
	size int64 // of the plain bytes
}

// NewReader reads the sealed body of size plain bytes in f; data is the cipher of
// its data key.
func NewReader(f io.ReaderAt, data cipher.AEAD, size int64) *Reader {
	return &Reader{f, data, size}
}

// ReadAt reads plain bytes, as io.ReaderAt says.
func (r *Reader) ReadAt(p []byte, offset int64) (n int, err error) {
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	for n < len(p) {
		if offset >= r.size {
			return n, io.EOF
		}
		pieces, err := r.Read(*buf, offset)
		if err != nil {
			return n, err
		}
		for _, piece := range pieces {
			m := copy(p[n:], piece)
			n, offset = n+m, offset+int64(m)
		}
	}
	return n, nil
}

// Stretch is how many plain bytes are read and opened at once.
const Stretch = 4 * ChunkSize

// Buffer is how large a buffer Read needs.
const Buffer = 4 * (ChunkSize + TagSize)

var buffers = sync.Pool{New: func() any { b := make([]byte, Buffer); return &b }}

// Read opens the chunks from offset on, as many as fit, and gives the plain bytes from there in
// pieces, one of each chunk: up to Stretch in all, and all that is left at the end. The pieces lie
// in buf, which has Buffer bytes.
func (r *Reader) Read(buf []byte, offset int64) ([][]byte, error) {
	first := offset / ChunkSize
	at := HeaderSize + first*(ChunkSize+TagSize)
	left := r.size - first*ChunkSize // plain bytes from the first chunk on
	n := min(left, Stretch)
	sealed := buf[:n+(n+ChunkSize-1)/ChunkSize*TagSize]
	if m, err := r.f.ReadAt(sealed, at); m < len(sealed) {
		if err == io.EOF {
			return nil, broken("the sealed body ends early")
		}
		return nil, err
	}
	pieces := make([][]byte, 0, Stretch/ChunkSize)
	for i := first; len(sealed) > 0; i++ {
		m := min(len(sealed), ChunkSize+TagSize)
		plain, err := Open(r.data, i, (i+1)*ChunkSize >= r.size, sealed[:m])
		if err != nil {
			return nil, err
		}
		pieces, sealed = append(pieces, plain), sealed[m:]
	}
	pieces[0] = pieces[0][offset-first*ChunkSize:]
	return pieces, nil
}
