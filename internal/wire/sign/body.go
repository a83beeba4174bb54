package sign

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"strings"

	"spindle/internal/core/fault"
)

// Body gives the decoded body of a request whose signature was verified: unpacked
// when it comes in chunks, compared with its SHA-256 when that was signed; nothing
// may be kept until it has reached its end without an error. With unsigned, a body
// that is not signed will do. The errors have the codes payload-missing,
// payload-kind, and at the end payload-mismatch or those of Reader.
func (a *Auth) Body(body io.Reader, unsigned bool) (io.Reader, error) {
	p := a.Payload
	switch {
	case IsChunked(p) && (unsigned || p != StreamUnsignedTrailer):
		return NewReader(a, body)
	case p == Unsigned && unsigned:
		return body, nil
	case len(p) == 64:
		if want, err := hex.DecodeString(p); err == nil {
			return &summed{r: body, h: sha256.New(), want: want}, nil
		}
	case !unsigned:
		return nil, fault.New(fault.Refused, "payload-unsigned", "the body is not signed: %s is %q",
			strings.ToLower(HeaderPayload), p).In(HeaderPayload).
			Do("send and sign the SHA-256 of the body")
	}
	return nil, fault.New(fault.Invalid, "payload-missing", "%s is neither a SHA-256 in hex nor a known word",
		strings.ToLower(HeaderPayload)).In(HeaderPayload).
		Do("send the SHA-256 of the body, or %s", Unsigned)
}

// summed compares a body with its signed SHA-256 at its end.
type summed struct {
	r    io.Reader
	h    hash.Hash
	want []byte
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.h.Write(p[:n])
	if err == io.EOF {
		if got := s.h.Sum(nil); string(got) != string(s.want) {
			return n, fault.New(fault.Invalid, "payload-mismatch", "the SHA-256 of the body is %x, and %x was signed", got,
				s.want).In("body").Do("send the body that was signed")
		}
	}
	return n, err
}
