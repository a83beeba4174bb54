package wire

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// body gives the plain bytes of a request, which fail at their end when they are not
// what was signed; trailer is filled in by then.
func body(r *http.Request, g *signature) (io.Reader, http.Header, error) {
	trailer := http.Header{}
	switch g.payload {
	case "UNSIGNED-PAYLOAD", "":
		return r.Body, trailer, nil
	case "STREAMING-UNSIGNED-PAYLOAD-TRAILER":
		return &chunks{r: bufio.NewReaderSize(r.Body, 64<<10), trailer: trailer}, trailer, nil
	case "STREAMING-AWS4-HMAC-SHA256-PAYLOAD", "STREAMING-AWS4-HMAC-SHA256-PAYLOAD-TRAILER":
		return &chunks{r: bufio.NewReaderSize(r.Body, 64<<10), trailer: trailer, sign: g, last: g.hex}, trailer, nil
	}
	if len(g.payload) != 64 {
		return nil, nil, problem{http.StatusBadRequest, "InvalidArgument", "The digest of the body is none."}
	}
	return &summed{r: r.Body, sum: sha256.New(), want: g.payload}, trailer, nil
}

// summed compares a body with its SHA-256.
type summed struct {
	r    io.Reader
	sum  hash.Hash
	want string
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.sum.Write(p[:n])
	if err == io.EOF && hex.EncodeToString(s.sum.Sum(nil)) != s.want {
		return n, problem{http.StatusBadRequest, "XAmzContentSHA256Mismatch", "The body is another one than was signed."}
	}
	return n, err
}

var badChunk = problem{http.StatusBadRequest, "IncompleteBody", "The body's chunks cannot be read."}

// chunks decodes a body that comes in chunks, each "SIZE[;chunk-signature=HEX]", and
// ends with headers.
type chunks struct {
	r       *bufio.Reader
	left    int64
	begun   bool
	sum     hash.Hash
	claim   string
	sign    *signature // nil: chunks are not signed
	last    string     // the signature before
	trailer http.Header
}

func (c *chunks) Read(p []byte) (int, error) {
	for c.left == 0 {
		if err := c.next(); err != nil {
			return 0, err
		}
	}
	n, err := c.r.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	if c.sum != nil {
		c.sum.Write(p[:n])
	}
	if errors.Is(err, io.EOF) && c.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// next ends a chunk and begins another; at the end it reads the trailer and gives io.EOF.
func (c *chunks) next() error {
	if c.begun {
		if s, err := c.r.ReadString('\n'); err != nil || s != "\r\n" {
			return badChunk
		}
		if err := c.endChunk(); err != nil {
			return err
		}
	}
	c.begun = true
	head, err := c.r.ReadString('\n')
	if err != nil {
		return io.ErrUnexpectedEOF
	}
	size, more, _ := strings.Cut(strings.TrimSpace(head), ";")
	c.left, err = strconv.ParseInt(size, 16, 63)
	if err != nil || c.left < 0 {
		return badChunk
	}
	if c.sign != nil {
		c.sum, c.claim = sha256.New(), strings.TrimPrefix(more, "chunk-signature=")
	}
	if c.left > 0 {
		return nil
	}
	if err := c.endChunk(); err != nil {
		return err
	}
	for {
		s, err := c.r.ReadString('\n')
		s = strings.TrimSpace(s)
		if name, value, ok := strings.Cut(s, ":"); ok {
			c.trailer.Set(name, strings.TrimSpace(value))
		}
		if err != nil || s == "" {
			return io.EOF
		}
	}
}

// endChunk compares the signature of a chunk, which continues the one before.
func (c *chunks) endChunk() error {
	if c.sign == nil {
		return nil
	}
	text := "AWS4-HMAC-SHA256-PAYLOAD\n" + c.sign.moment.Format("20060102T150405Z") + "\n" + c.sign.day + "/" +
		c.sign.region + "/s3/aws4_request\n" + c.last + "\n" + sha("") + "\n" + hex.EncodeToString(c.sum.Sum(nil))
	if c.last = hex.EncodeToString(mac(c.sign.secret, text)); c.last != c.claim {
		return badSignature
	}
	return nil
}
