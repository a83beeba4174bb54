package sealing

import (
	"bytes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"

	"spindle/internal/core/fault"
)

// Sizes in bytes: of the chunks of the format age, and of the header of a content here with
// the nonce that follows it.
const (
	ChunkSize  = 64 << 10
	tagSize    = chacha20poly1305.Overhead
	nonceSize  = 16
	sealedSize = ChunkSize + tagSize

	factsSize   = 26 // plain
	factsStanza = "spindle-facts"
	HeaderSize  = 275
)

// Facts are what the header says of a content.
type Facts struct {
	Size     int64 // bytes
	CRC64    uint64
	Modified time.Time
	Mode     uint16 // permissions of the file that it was; 0: of none
	About    bool   // something is said beside the content, bound to this header
}

// aboutBit of the mode says that something is said beside the content.
const aboutBit = 1 << 15

func (f Facts) bytes() []byte {
	mode := f.Mode
	if f.About {
		mode |= aboutBit
	}
	b := binary.BigEndian.AppendUint64(nil, uint64(f.Size))
	b = binary.BigEndian.AppendUint64(b, f.CRC64)
	b = binary.BigEndian.AppendUint64(b, uint64(f.Modified.UnixNano()))
	return binary.BigEndian.AppendUint16(b, mode)
}

func factsOf(b []byte) Facts {
	mode := binary.BigEndian.Uint16(b[24:])
	return Facts{Size: int64(binary.BigEndian.Uint64(b)), CRC64: binary.BigEndian.Uint64(b[8:]),
		Modified: time.Unix(0, int64(binary.BigEndian.Uint64(b[16:]))).UTC(), Mode: mode &^ aboutBit,
		About: mode&aboutBit != 0}
}

// Length gives the bytes that a content of n bytes has when it is sealed.
func Length(n int64) int64 { return HeaderSize + n + chunks(n)*tagSize }

// PlainLength gives the bytes of the content in a sealed file of n bytes, below 0 when no
// content has such a file.
func PlainLength(n int64) int64 {
	n -= HeaderSize
	plain := n - (n+sealedSize-1)/sealedSize*tagSize
	if n < tagSize || Length(plain) != n+HeaderSize {
		return -1
	}
	return plain
}

// chunks gives how many chunks n bytes make; nothing makes an empty one.
func chunks(n int64) int64 { return max(1, (n+ChunkSize-1)/ChunkSize) }

// File is a sealed content: its header and the key of its chunks.
type File struct {
	Facts
	head  []byte
	chunk cipher.AEAD
}

// Head gives the first HeaderSize bytes of the file.
func (f *File) Head() []byte { return f.head }

// recipient wraps the key of a file for the identity, and adds the facts.
type recipient struct {
	*age.X25519Recipient
	facts   []byte
	fileKey []byte
}

// Wrap makes the stanzas of a header.
func (r *recipient) Wrap(fileKey []byte) ([]*age.Stanza, error) {
	r.fileKey = bytes.Clone(fileKey)
	out, err := r.X25519Recipient.Wrap(fileKey)
	return append(out, &age.Stanza{Type: factsStanza, Body: r.facts}), err
}

// Begin makes the header of a content that is kept under a key.
func (k *Keys) Begin(key string, f Facts) (*File, error) {
	nonce := make([]byte, k.facts.NonceSize())
	_, _ = rand.Read(nonce)
	r := &recipient{X25519Recipient: k.identity.Recipient(), facts: k.facts.Seal(nonce, nonce, f.bytes(), []byte(key))}
	var head bytes.Buffer
	if _, err := age.Encrypt(&head, r); err != nil {
		return nil, err
	}
	if head.Len() != HeaderSize {
		return nil, fmt.Errorf("a header has %d bytes, not %d", head.Len(), HeaderSize)
	}
	return newFile(f, head.Bytes(), r.fileKey)
}

func newFile(f Facts, head, fileKey []byte) (*File, error) {
	raw, err := hkdf.Key(sha256.New, fileKey, head[HeaderSize-nonceSize:], "payload", chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	c, err := chacha20poly1305.New(raw)
	return &File{f, head, c}, err
}

// identity unwraps the key of a file, and keeps the facts.
type identity struct {
	*age.X25519Identity
	facts []byte
}

// Unwrap reads the stanzas of a header.
func (i *identity) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	for _, s := range stanzas {
		if s.Type == factsStanza {
			i.facts = s.Body
		}
	}
	return i.X25519Identity.Unwrap(stanzas)
}

func damaged(says string, args ...any) *fault.Error {
	return fault.New(fault.Damaged, "sealed-damaged", says, args...).In("content").
		Do("what is there was changed, cut or swapped; take it from an earlier version or another copy")
}

// Open reads the header of the content that is kept under a key. The errors have the codes
// sealed-damaged and passphrase-wrong.
func (k *Keys) Open(key string, head []byte) (*File, error) {
	if len(head) != HeaderSize {
		return nil, damaged("the file is cut off in its header")
	}
	i := &identity{X25519Identity: k.identity}
	fileKey, err := age.DecryptHeader(head[:HeaderSize-nonceSize], i)
	var none *age.NoIdentityMatchError
	switch {
	case errors.As(err, &none):
		return nil, fault.New(fault.Refused, "passphrase-wrong", "the file was sealed with another passphrase or salt").
			In("passphrase").Do("give the ones of the recovery sheet").Because(err)
	case err != nil:
		return nil, damaged("the header of the file cannot be read").Because(err)
	}
	n := k.facts.NonceSize()
	if len(i.facts) < n {
		return nil, damaged("the file has no facts")
	}
	b, err := k.facts.Open(nil, i.facts[:n], i.facts[n:], []byte(key))
	if err != nil || len(b) != factsSize {
		return nil, damaged("the file belongs to another key than %q", key).Because(err)
	}
	return newFile(factsOf(b), bytes.Clone(head), fileKey)
}

// Ranger reads a range of what a file is made of, or of the file.
type Ranger func(from, length int64) (io.ReadCloser, error)

// Sealed gives a range of the sealed file of a content.
func (f *File) Sealed(content Ranger, from, length int64) (io.ReadCloser, error) {
	if from+length <= HeaderSize {
		return io.NopCloser(bytes.NewReader(f.head[from : from+length])), nil
	}
	first := max(0, from-HeaderSize) / sealedSize
	end := min(f.Size, ((from+length-HeaderSize-1)/sealedSize+1)*ChunkSize)
	src, err := content(first*ChunkSize, end-first*ChunkSize)
	if err != nil {
		return nil, err
	}
	r := &pieces{src: src, take: ChunkSize, at: first, last: chunks(f.Size) - 1, left: length,
		skip: max(0, from-HeaderSize) - first*sealedSize, turn: f.seal, in: make([]byte, ChunkSize, sealedSize)}
	if from < HeaderSize {
		r.ready = f.head[from:]
	}
	return r, nil
}

// Opened gives a range of the content of a sealed file.
func (f *File) Opened(sealed Ranger, from, length int64) (io.ReadCloser, error) {
	first, last := from/ChunkSize, chunks(f.Size)-1
	end := min(Length(f.Size), HeaderSize+(max(0, from+length-1)/ChunkSize+1)*sealedSize)
	start := HeaderSize + first*sealedSize
	src, err := sealed(start, end-start)
	if err != nil {
		return nil, err
	}
	return &pieces{src: src, take: sealedSize, at: first, last: last, left: length, skip: from - first*ChunkSize,
		turn: f.open, in: make([]byte, sealedSize)}, nil
}

func chunkNonce(at int64, last bool) []byte {
	n := make([]byte, chacha20poly1305.NonceSize)
	binary.BigEndian.PutUint64(n[3:], uint64(at))
	if last {
		n[11] = 1
	}
	return n
}

func (f *File) seal(at int64, last bool, b []byte) ([]byte, error) {
	return f.chunk.Seal(b[:0], chunkNonce(at, last), b, nil), nil
}

func (f *File) open(at int64, last bool, b []byte) ([]byte, error) {
	out, err := f.chunk.Open(b[:0], chunkNonce(at, last), b, nil)
	if err != nil {
		return nil, damaged("chunk %d of the file is not what was sealed", at).Because(err)
	}
	return out, nil
}

// pieces turns chunk after chunk into what is read.
type pieces struct {
	src   io.ReadCloser
	take  int // bytes of a chunk as it comes
	at    int64
	last  int64
	skip  int64 // bytes that are turned and not read
	left  int64 // bytes to be read
	in    []byte
	ready []byte
	turn  func(at int64, last bool, b []byte) ([]byte, error)
}

// Read gives what is next.
func (p *pieces) Read(b []byte) (int, error) {
	if p.left == 0 {
		return 0, io.EOF
	}
	for len(p.ready) == 0 {
		n, err := io.ReadFull(p.src, p.in[:p.take])
		short := errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF)
		switch {
		case short && p.at < p.last:
			return 0, io.ErrUnexpectedEOF
		case err != nil && !short:
			return 0, err
		}
		out, err := p.turn(p.at, p.at == p.last, p.in[:n])
		if err != nil {
			return 0, err
		}
		if p.skip > int64(len(out)) || len(out) == 0 {
			return 0, io.ErrUnexpectedEOF
		}
		p.ready, p.skip, p.at = out[p.skip:], 0, p.at+1
	}
	n := copy(b, p.ready[:min(int64(len(p.ready)), p.left)])
	p.ready, p.left = p.ready[n:], p.left-int64(n)
	return n, nil
}

// Close lets go of the source.
func (p *pieces) Close() error { return p.src.Close() }
