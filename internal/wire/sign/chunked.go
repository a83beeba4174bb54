package sign

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/core/fault"
)

// maxChunkLine bounds a chunk's header and each line of a trailer, in bytes.
const maxChunkLine = 1024

// maxTrailers bounds the lines of a trailer.
const maxTrailers = 16

// IsChunked reports whether a payload word stands for a body in chunks.
func IsChunked(payload string) bool { return strings.HasPrefix(payload, "STREAMING-") }

// Reader decodes a body in chunks and verifies what is signed. Bytes are given
// out before their chunk's signature is known: nothing may be kept until the
// reader has reached its end without an error.
type Reader struct {
	// Trailer has the fields after the last chunk, once the end was reached.
	Trailer http.Header

	auth     *Auth
	in       *bufio.Reader
	signed   bool
	trailing bool
	previous string
	left     int64
	expected string
	sum      hash.Hash
	started  bool
	done     bool
	err      error
}

// NewReader decodes a body of the kind that a verified Auth names. The error
// for an unknown kind has the code payload-kind.
func NewReader(a *Auth, body io.Reader) (*Reader, error) {
	r := &Reader{auth: a, in: bufio.NewReaderSize(body, 4<<10), previous: a.signature, Trailer: http.Header{}}
	switch a.Payload {
	case StreamSigned:
		r.signed = true
	case StreamSignedTrailer:
		r.signed, r.trailing = true, true
	case StreamUnsignedTrailer:
		r.trailing = true
	default:
		return nil, fault.New(fault.Unfinished, "payload-kind", "a payload of the kind %s is not supported", a.Payload).
			In(HeaderPayload).
			Do("sign the payload's SHA-256, or send it in chunks signed with HMAC-SHA-256")
	}
	if r.signed {
		r.sum = sha256.New()
	}
	return r, nil
}

func chunkFault(format string, args ...any) error {
	return fault.New(fault.Invalid, "chunk-malformed", format, args...).In("body").
		Do("check how the client cuts the body into chunks")
}

func (r *Reader) line() (string, error) {
	line, err := r.in.ReadSlice('\n')
	if err == bufio.ErrBufferFull || len(line) > maxChunkLine {
		return "", chunkFault("a line between chunks is longer than %d bytes", maxChunkLine)
	}
	if err == io.EOF {
		return "", io.ErrUnexpectedEOF
	}
	if err != nil {
		return "", err
	}
	return strings.TrimRight(string(line), "\r\n"), nil
}

// Read gives decoded bytes. It returns io.EOF only when every signature and
// the end of the body were right.
func (r *Reader) Read(p []byte) (int, error) {
	if r.err != nil {
		return 0, r.err
	}
	n, err := r.read(p)
	r.err = err
	return n, err
}

func (r *Reader) read(p []byte) (int, error) {
	if r.done {
		return 0, io.EOF
	}
	for r.left == 0 {
		if err := r.next(); err != nil {
			return 0, err
		}
		if r.done {
			return 0, io.EOF
		}
	}
	if int64(len(p)) > r.left {
		p = p[:r.left]
	}
	n, err := r.in.Read(p)
	r.left -= int64(n)
	if r.signed {
		r.sum.Write(p[:n])
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// next ends the chunk before and begins the next one.
func (r *Reader) next() error {
	if r.started {
		if err := r.endChunk(); err != nil {
			return err
		}
		if line, err := r.line(); err != nil {
			return err
		} else if line != "" {
			return chunkFault("a chunk is longer than its header says")
		}
	}
	r.started = true
	line, err := r.line()
	if err != nil {
		return err
	}
	size, ext, _ := strings.Cut(line, ";")
	r.left, err = strconv.ParseInt(strings.TrimSpace(size), 16, 64)
	if err != nil || r.left < 0 {
		return chunkFault("a chunk's size cannot be read")
	}
	if r.signed {
		var ok bool
		if r.expected, ok = strings.CutPrefix(ext, "chunk-signature="); !ok {
			return chunkFault("a chunk has no signature")
		}
	}
	if r.left > 0 {
		return nil
	}
	if err := r.endChunk(); err != nil {
		return err
	}
	return r.trailers()
}

// endChunk verifies the signature of the chunk that has been read.
func (r *Reader) endChunk() error {
	if !r.signed {
		return nil
	}
	sum := hex.EncodeToString(r.sum.Sum(nil))
	r.sum.Reset()
	return r.continues("-PAYLOAD", EmptyHash+"\n"+sum, r.expected)
}

// continues verifies a signature that follows the one before.
func (r *Reader) continues(kind, rest, signature string) error {
	want := r.auth.follow(kind, r.previous, rest)
	if subtle.ConstantTimeCompare([]byte(want), []byte(signature)) != 1 {
		return fault.New(fault.Refused, "signature-mismatch", "the signature of a chunk of the body does not fit").In("body").
			Do("send the body again; it was changed on the way or signed with another secret")
	}
	r.previous = want
	return nil
}

func (a *Auth) follow(kind, previous, rest string) string {
	b := a.preface(append([]byte(algorithm), kind...))
	b = append(append(append(b, previous...), '\n'), rest...)
	var out [2 * sha256.Size]byte
	a.key.mac(&out, b)
	return string(out[:])
}

func (r *Reader) trailers() error {
	var block bytes.Buffer
	signature := ""
	for range maxTrailers {
		line, err := r.line()
		if err == io.ErrUnexpectedEOF && !r.trailing {
			line, err = "", nil // some clients leave out the last empty line
		}
		if err != nil {
			return err
		}
		if line == "" {
			if r.signed && r.trailing {
				sum := sha256.Sum256(block.Bytes())
				if err := r.continues("-TRAILER", hex.EncodeToString(sum[:]), signature); err != nil {
					return err
				}
			}
			r.done = true
			return nil
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok || !r.trailing {
			return chunkFault("what follows the last chunk is no trailer")
		}
		name, value = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value)
		if name == "x-amz-trailer-signature" {
			signature = value
			continue
		}
		fmt.Fprintf(&block, "%s:%s\n", name, value)
		r.Trailer.Set(name, value)
	}
	return chunkFault("a trailer has more than %d lines", maxTrailers)
}

// chunkSize is how much a Writer puts into a chunk.
const chunkSize = 256 << 10

// Encoder encodes a body in chunks for a request that was signed with one of
// the words; trailer, when the word has one, is asked at the end for one line
// (name and value).
type Encoder struct {
	auth     *Auth
	src      io.Reader
	trailer  func() (name, value string)
	previous string
	raw      []byte
	out      bytes.Buffer
	ended    bool
}

// NewEncoder encodes src for a request signed as a.
func NewEncoder(a *Auth, src io.Reader, trailer func() (name, value string)) *Encoder {
	return &Encoder{auth: a, src: src, trailer: trailer, previous: a.signature, raw: make([]byte, chunkSize)}
}

// EncodedLength gives the bytes that a body of size has when encoded with a
// payload word and a trailer of a given name and value length.
func EncodedLength(payload string, size int64, trailerName string, trailerValue int) int64 {
	ext := int64(0)
	if payload != StreamUnsignedTrailer {
		ext = int64(len(";chunk-signature=")) + 64
	}
	chunk := func(n int64) int64 { return int64(len(strconv.FormatInt(n, 16))) + ext + 2 + n + 2 }
	n := size / chunkSize * chunk(chunkSize)
	if rest := size % chunkSize; rest > 0 {
		n += chunk(rest)
	}
	n += 1 + ext + 2 // the empty chunk; its second line end is the body's
	if payload != StreamSigned {
		n += int64(len(trailerName)) + 1 + int64(trailerValue) + 2
	}
	if payload == StreamSignedTrailer {
		n += int64(len("x-amz-trailer-signature:")) + 64 + 2
	}
	return n + 2
}

// Read gives encoded bytes.
func (e *Encoder) Read(p []byte) (int, error) {
	for e.out.Len() == 0 {
		if e.ended {
			return 0, io.EOF
		}
		e.out.Reset()
		n, err := io.ReadFull(e.src, e.raw)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return 0, err
		}
		if n > 0 {
			e.chunk(e.raw[:n])
			e.out.WriteString("\r\n")
		}
		if err != nil {
			e.chunk(nil)
			e.finish()
		}
	}
	return e.out.Read(p)
}

func (e *Encoder) chunk(data []byte) {
	fmt.Fprintf(&e.out, "%x", len(data))
	if e.auth.Payload != StreamUnsignedTrailer {
		sum := sha256.Sum256(data)
		e.previous = e.auth.follow("-PAYLOAD", e.previous, EmptyHash+"\n"+hex.EncodeToString(sum[:]))
		e.out.WriteString(";chunk-signature=" + e.previous)
	}
	e.out.WriteString("\r\n")
	e.out.Write(data)
}

func (e *Encoder) finish() {
	e.ended = true
	if e.auth.Payload != StreamSigned {
		name, value := e.trailer()
		fmt.Fprintf(&e.out, "%s:%s\r\n", name, value)
		if e.auth.Payload == StreamSignedTrailer {
			sum := sha256.Sum256([]byte(name + ":" + value + "\n"))
			fmt.Fprintf(&e.out, "x-amz-trailer-signature:%s\r\n",
				e.auth.follow("-TRAILER", e.previous, hex.EncodeToString(sum[:])))
		}
	}
	e.out.WriteString("\r\n")
}
