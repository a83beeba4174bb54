package server

import (
	"bytes"
	"encoding/xml"
	"io"
	"strconv"
	"time"
	"unicode/utf8"

	"spindle/internal/core/fault"
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

// Bounds of documents that arrive.
const (
	maxDocument      = 64 << 10 // bytes
	maxRemoveMany    = 8 << 20  // bytes: 1,000 keys of 1,024 bytes, escaped
	maxComplete      = 8 << 20  // bytes: 10,000 parts with all their checksums
	maxDocumentDepth = 8
)

// readDocument parses a body of at most limit bytes into v.
func readDocument(body io.Reader, limit int64, v any) error {
	raw, err := io.ReadAll(io.LimitReader(body, limit+1))
	if err != nil {
		return err
	}
	if int64(len(raw)) > limit {
		return fault.New(fault.Invalid, "document-too-large", "the document has more than %d bytes", limit).In("body").Do("send a smaller one")
	}
	bad := func(err error) error {
		f := fault.New(fault.Invalid, "document-malformed", "The XML you provided was not well-formed or did not validate against our published schema").In("body").Because(err)
		if err != nil {
			f.Message += ": " + err.Error()
		}
		return f
	}
	c := &checked{d: xml.NewDecoder(bytes.NewReader(raw))}
	err = xml.NewTokenDecoder(c).Decode(v)
	for err == nil { // what follows the root is looked at too
		_, err = c.Token()
	}
	switch {
	case c.refused != nil:
		return c.refused
	case err != io.EOF || c.seen == 0:
		return bad(err)
	}
	return nil
}

// checked gives a decoder's tokens and refuses what no document here has.
type checked struct {
	d           *xml.Decoder
	depth, seen int
	refused     *fault.Error
}

// Token gives the next token (xml.TokenReader).
func (c *checked) Token() (xml.Token, error) {
	t, err := c.d.RawToken()
	if err != nil {
		return nil, err
	}
	switch t.(type) {
	case xml.StartElement:
		c.seen++
		if c.depth++; c.depth > maxDocumentDepth {
			c.refused = fault.New(fault.Invalid, "document-malformed", "the document is nested deeper than %d", maxDocumentDepth).In("body")
			return nil, c.refused
		}
	case xml.EndElement:
		c.depth--
	case xml.Directive:
		c.refused = fault.New(fault.Invalid, "document-malformed", "the document has a type declaration, which is not allowed").In("body")
		return nil, c.refused
	}
	return t, nil
}
