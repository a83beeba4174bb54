package server

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"io"
	"strconv"
	"time"
	"unicode/utf8"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

const namespace = "http://s3.amazonaws.com/doc/2006-03-01/"

// doc writes a document. Control characters become numeric references, as the
// dialect has them, although XML 1.0 knows no such characters.
type doc struct {
	b    bytes.Buffer
	open []string
}

func newDoc(root string, spaced bool) *doc {
	d := &doc{}
	d.b.WriteString(xml.Header)
	d.b.WriteString("<" + root)
	if spaced {
		d.b.WriteString(` xmlns="` + namespace + `"`)
	}
	d.b.WriteString(">")
	d.open = append(d.open, root)
	return d
}

func (d *doc) begin(name string) { d.b.WriteString("<" + name + ">"); d.open = append(d.open, name) }

func (d *doc) end() {
	d.b.WriteString("</" + d.open[len(d.open)-1] + ">")
	d.open = d.open[:len(d.open)-1]
}

func (d *doc) bytes() []byte {
	for len(d.open) > 0 {
		d.end()
	}
	return d.b.Bytes()
}

func (d *doc) text(name, value string) {
	d.b.WriteString("<" + name + ">")
	d.escape(value)
	d.b.WriteString("</" + name + ">")
}

func (d *doc) number(name string, n int64) { d.text(name, strconv.FormatInt(n, 10)) }
func (d *doc) bool(name string, v bool)    { d.text(name, strconv.FormatBool(v)) }
func (d *doc) time(name string, at time.Time) {
	d.text(name, at.UTC().Format("2006-01-02T15:04:05.000Z"))
}

func (d *doc) escape(s string) {
	for _, r := range s {
		switch {
		case r == '&':
			d.b.WriteString("&amp;")
		case r == '<':
			d.b.WriteString("&lt;")
		case r == '>':
			d.b.WriteString("&gt;")
		case r == '"':
			d.b.WriteString("&quot;")
		case r < ' ' || r == 0x7f || r == 0xfffe || r == 0xffff:
			d.b.WriteString("&#x" + strconv.FormatInt(int64(r), 16) + ";")
		case r == utf8.RuneError:
			d.b.WriteString("\uFFFD")
		default:
			d.b.WriteRune(r)
		}
	}
}

// bounds of a document that arrives.
type bounds struct {
	bytes    int64
	rows     int // elements directly in the root
	elements int // of all kinds together
}

// Bounds of the documents there are. maxToken is for a tag with its attributes, or
// the text between two: a key of 1,024 bytes, each of them a reference, has 9 KiB.
var (
	smallDocument      = bounds{64 << 10, 100, 300}
	removeManyDocument = bounds{8 << 20, maxRemovals + 1, maxRemovals*4 + 2}
	completeDocument   = bounds{8 << 20, object.MaxParts, object.MaxParts*8 + 1}
)

const (
	maxRemovals      = 1000
	maxDocumentDepth = 8
	maxToken         = 32 << 10
)

func malformed(format string, args ...any) *fault.Error {
	return fault.New(fault.Invalid, "document-malformed", format, args...).In("body")
}

func tooLarge() error {
	return fault.New(fault.Invalid, "document-too-large", "the document is larger than it may be").In("body").
		Do("send a smaller one")
}

// readDocument parses the body of the request into v as it comes, and gives up at
// the first thing beyond the bounds. The body is read to its end, so that what was
// signed is compared before anything is done.
func (q *request) readDocument(body io.Reader, most bounds, v any) error {
	if n := q.r.ContentLength; n < 0 || n > freely {
		if n > most.bytes {
			return tooLarge()
		}
		if n < 0 {
			n = most.bytes
		}
		if err := q.hold(n); err != nil {
			return err
		}
	}
	return readDocument(body, most, v)
}

func readDocument(body io.Reader, most bounds, v any) error {
	src := &source{r: bufio.NewReader(body), left: most.bytes}
	c := &checked{d: xml.NewDecoder(src), src: src, most: most}
	err := xml.NewTokenDecoder(c).Decode(v)
	for err == nil { // what follows the root is looked at too
		_, err = c.Token()
	}
	switch {
	case src.err != nil:
		return src.err
	case c.refused != nil:
		return c.refused
	case err != io.EOF || c.seen == 0:
		f := malformed("The XML you provided was not well-formed or did not validate against our published schema").
			Because(err)
		if err != nil {
			f.Message += ": " + err.Error()
		}
		return f
	}
	return nil
}

// source gives a document byte by byte, and no more of it than it may have, nor of
// one token.
type source struct {
	r     *bufio.Reader
	left  int64 // of the document
	token int   // of this token
	err   error // why it ended early
}

// ReadByte gives the next byte (io.ByteReader).
func (s *source) ReadByte() (byte, error) {
	if s.err != nil {
		return 0, s.err
	}
	b, err := s.r.ReadByte()
	switch {
	case err == io.EOF:
		return 0, err
	case err != nil:
		s.err = err
	case s.left <= 0:
		s.err = tooLarge()
	case s.token <= 0:
		s.err = malformed("a tag or text of the document has more than %d bytes", maxToken)
	}
	s.left--
	s.token--
	return b, s.err
}

// Read is there because the decoder asks for a reader; it uses ReadByte.
func (s *source) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	b, err := s.ReadByte()
	if err != nil {
		return 0, err
	}
	p[0] = b
	return 1, nil
}

// checked gives a decoder's tokens and refuses what no document here has.
type checked struct {
	d           *xml.Decoder
	src         *source
	most        bounds
	depth, seen int
	rows        int
	tokens      int
	refused     *fault.Error
}

// Token gives the next token (xml.TokenReader).
func (c *checked) Token() (xml.Token, error) {
	c.src.token = maxToken
	t, err := c.d.RawToken()
	if err != nil {
		return nil, err
	}
	c.tokens++
	switch t.(type) {
	case xml.StartElement:
		c.seen++
		if c.depth++; c.depth > maxDocumentDepth {
			c.refused = malformed("the document is nested deeper than %d", maxDocumentDepth)
		}
		if c.depth == 2 {
			c.rows++
		}
	case xml.EndElement:
		c.depth--
	case xml.Directive:
		c.refused = malformed("the document has a type declaration, which is not allowed")
	}
	if c.rows > c.most.rows || c.seen > c.most.elements || c.tokens > 4*c.most.elements+16 {
		c.refused = malformed("the document has more entries than it may, which are %d", c.most.rows)
	}
	if c.refused != nil {
		return nil, c.refused
	}
	return t, nil
}
