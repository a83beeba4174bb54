package censusfile

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"hash"
	"io"
	"strconv"
	"time"

	"spindle/internal/core/census"
	"spindle/internal/core/digest"
)

// Writer writes one file of a census.
type Writer interface {
	Write(*census.Row) error
	// Close ends the file; what it was written to stays open.
	Close() error
}

// New begins a file with columns in a format.
func New(f census.Format, columns []census.Column, to io.Writer) (Writer, error) {
	switch f {
	case census.Parquet:
		return newParquet(columns, to)
	case census.JSONLines:
		return newLines(columns, to)
	}
	return newCSV(columns, to)
}

// Counted is where a file goes that is measured on its way.
type Counted struct {
	Bytes  int64
	sha    hash.Hash
	crc    hash.Hash64
	target io.Writer
}

// Count measures what is written to w.
func Count(w io.Writer) *Counted {
	c := &Counted{sha: sha256.New(), crc: digest.NewCRC64()}
	c.target = w
	return c
}

// Write passes bytes on.
func (c *Counted) Write(b []byte) (int, error) {
	n, err := c.target.Write(b)
	c.sha.Write(b[:n])
	c.crc.Write(b[:n])
	c.Bytes += int64(n)
	return n, err
}

// Sums gives SHA-256 in hex and CRC-64/NVME of what was written.
func (c *Counted) Sums() (sha string, crc uint64) {
	return hex.EncodeToString(c.sha.Sum(nil)), c.crc.Sum64()
}

const bufferSize = 256 << 10

// csvWriter writes as RFC 4180 says. A value that is missing is empty, and an empty text a
// pair of quotes.
type csvWriter struct {
	w       *bufio.Writer
	columns []census.Column
	line    []byte
	value   census.Value
}

func newCSV(columns []census.Column, to io.Writer) (Writer, error) {
	w := &csvWriter{w: bufio.NewWriterSize(to, bufferSize), columns: columns}
	for i, c := range columns {
		if i > 0 {
			w.line = append(w.line, ',')
		}
		w.line = appendField(w.line, []byte(c.Name))
	}
	_, err := w.w.Write(append(w.line, "\r\n"...))
	return w, err
}

func (w *csvWriter) Write(r *census.Row) error {
	w.line = w.line[:0]
	for i := range w.columns {
		c := &w.columns[i]
		if i > 0 {
			w.line = append(w.line, ',')
		}
		c.Of(r, &w.value)
		switch {
		case w.value.None:
		case c.Kind == census.Text || c.Kind == census.Map:
			w.line = appendField(w.line, w.value.Text)
		default:
			w.line = appendValue(w.line, c.Kind, &w.value)
		}
	}
	_, err := w.w.Write(append(w.line, "\r\n"...))
	return err
}

func (w *csvWriter) Close() error { return w.w.Flush() }

// appendField quotes a text where it must be.
func appendField(line, text []byte) []byte {
	plain := len(text) > 0 && text[0] != ' ' && text[len(text)-1] != ' '
	for _, b := range text {
		if b == '"' || b == ',' || b == '\r' || b == '\n' {
			plain = false
			break
		}
	}
	if plain {
		return append(line, text...)
	}
	line = append(line, '"')
	for _, b := range text {
		if b == '"' {
			line = append(line, '"')
		}
		line = append(line, b)
	}
	return append(line, '"')
}

// appendValue writes what is no text.
func appendValue(line []byte, k census.Kind, v *census.Value) []byte {
	switch k {
	case census.Moment:
		return time.UnixMicro(v.Number).UTC().AppendFormat(line, momentForm)
	case census.Truth:
		return strconv.AppendBool(line, v.Number == 1)
	}
	return strconv.AppendInt(line, v.Number, 10)
}

const momentForm = "2006-01-02T15:04:05.000000Z"

// linesWriter writes an object of JSON a line; what is missing is left out.
type linesWriter struct {
	w       *bufio.Writer
	columns []census.Column
	names   [][]byte
	line    []byte
	value   census.Value
}

func newLines(columns []census.Column, to io.Writer) (Writer, error) {
	w := &linesWriter{w: bufio.NewWriterSize(to, bufferSize), columns: columns}
	for _, c := range columns {
		name, err := json.Marshal(c.Name)
		if err != nil {
			return nil, err
		}
		w.names = append(w.names, name)
	}
	return w, nil
}

func (w *linesWriter) Write(r *census.Row) error {
	w.line = append(w.line[:0], '{')
	for i := range w.columns {
		c := &w.columns[i]
		if c.Of(r, &w.value); w.value.None {
			continue
		}
		if len(w.line) > 1 {
			w.line = append(w.line, ',')
		}
		w.line = append(append(w.line, w.names[i]...), ':')
		switch c.Kind {
		case census.Text:
			w.line = appendJSON(w.line, w.value.Text)
		case census.Map:
			w.line = append(w.line, w.value.Text...)
		case census.Moment:
			w.line = append(appendValue(append(w.line, '"'), c.Kind, &w.value), '"')
		default:
			w.line = appendValue(w.line, c.Kind, &w.value)
		}
	}
	_, err := w.w.Write(append(w.line, "}\n"...))
	return err
}

func (w *linesWriter) Close() error { return w.w.Flush() }

// appendJSON writes a text as JSON does (RFC 8259, section 7).
func appendJSON(line, text []byte) []byte {
	plain := true
	for _, b := range text {
		if b < ' ' || b == '"' || b == '\\' || b >= 0x7f {
			plain = false
			break
		}
	}
	if plain {
		return append(append(append(line, '"'), text...), '"')
	}
	b, _ := json.Marshal(string(text)) // a string always can be
	return append(line, b...)
}
