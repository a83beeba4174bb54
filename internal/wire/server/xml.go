package server

import (
	"bufio"
	"encoding/xml"
	"io"
	"slices"
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
	b    []byte
	open []string
}

func newDoc(root string, spaced bool) *doc {
	d := &doc{b: make([]byte, 0, 1024)}
	d.b = append(d.b, xml.Header...)
	d.b = append(append(d.b, '<'), root...)
	if spaced {
		d.b = append(append(append(d.b, ` xmlns="`...), namespace...), '"')
	}
	d.b = append(d.b, '>')
	d.open = append(d.open, root)
	return d
}

// room makes room for what is to come, so that it is not made bit by bit.
func (d *doc) room(bytes int) { d.b = slices.Grow(d.b, bytes) }

func (d *doc) tag(name string)  { d.b = append(append(append(d.b, '<'), name...), '>') }
func (d *doc) shut(name string) { d.b = append(append(append(d.b, "</"...), name...), '>') }

func (d *doc) begin(name string) { d.tag(name); d.open = append(d.open, name) }

func (d *doc) end() {
	d.shut(d.open[len(d.open)-1])
	d.open = d.open[:len(d.open)-1]
}

func (d *doc) bytes() []byte {
	for len(d.open) > 0 {
		d.end()
	}
	return d.b
}

func (d *doc) text(name, value string) {
	d.tag(name)
	d.escape(value)
	d.shut(name)
}

func (d *doc) number(name string, n int64) {
	d.tag(name)
	d.b = strconv.AppendInt(d.b, n, 10)
	d.shut(name)
}

func (d *doc) bool(name string, v bool) { d.text(name, strconv.FormatBool(v)) }

func (d *doc) time(name string, at time.Time) {
	d.tag(name)
	at = at.UTC()
	d.b = at.AppendFormat(d.b, time.RFC3339) // of which the library has a fast form; it has no milliseconds
	ms := at.Nanosecond() / int(time.Millisecond)
	d.b = append(d.b[:len(d.b)-len("Z")], '.', byte('0'+ms/100), byte('0'+ms/10%10), byte('0'+ms%10), 'Z')
	d.shut(name)
}

// etag writes an entity tag, in its quotes.
func (d *doc) etag(e object.ETag) {
	d.tag("ETag")
	d.b = append(e.Append(append(d.b, "&quot;"...)), "&quot;"...)
	d.shut("ETag")
}

// escape writes text: as it is, up to each character that cannot be.
func (d *doc) escape(s string) {
	done := 0
	for at := 0; at < len(s); {
		size, instead := 1, ""
		switch c := s[at]; {
		case c == '&':
			instead = "&amp;"
		case c == '<':
			instead = "&lt;"
		case c == '>':
			instead = "&gt;"
		case c == '"':
			instead = "&quot;"
		case c < ' ' || c == 0x7f:
			instead = reference(rune(c))
		case c >= utf8.RuneSelf:
			var r rune
			if r, size = utf8.DecodeRuneInString(s[at:]); r == utf8.RuneError {
				instead = "\uFFFD"
			} else if r == 0xfffe || r == 0xffff {
				instead = reference(r)
			}
		}
		if instead != "" {
			d.b = append(append(d.b, s[done:at]...), instead...)
			done = at + size
		}
		at += size
	}
	d.b = append(d.b, s[done:]...)
}

func reference(r rune) string { return "&#x" + strconv.FormatInt(int64(r), 16) + ";" }

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
	c := &checked{d: xml.NewDecoder(src), src: src, most: most, shape: shapeOf(v)}
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

	shape  *shape
	places []elementIn // elements that it is in
	rooted bool        // the root began
}

// Token gives the next token (xml.TokenReader).
func (c *checked) Token() (xml.Token, error) {
	c.src.token = maxToken
	t, err := c.d.RawToken()
	if err != nil {
		return nil, err
	}
	c.tokens++
	switch t := t.(type) {
	case xml.StartElement:
		c.seen++
		if c.depth++; c.depth > maxDocumentDepth {
			c.refused = malformed("the document is nested deeper than %d", maxDocumentDepth)
		}
		c.enter(t)
		if c.depth == 2 {
			c.rows++
		}
	case xml.EndElement:
		c.depth--
		c.leave()
	case xml.CharData:
		c.within(t)
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
