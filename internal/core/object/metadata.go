package object

import (
	"mime"
	"strings"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// MaxMetadata is the greatest size of an object's metadata: the bytes of all
// names and values, as they travel.
const MaxMetadata = 2048

// Metadata is a set of valid fields: lower-case names, values as they travel
// on the wire (text beyond ASCII in the encoded form of RFC 2047).
type Metadata map[string]string

// NewMetadata checks fields and encodes values beyond ASCII. The errors have
// the codes metadata-name, metadata-value and metadata-size, and name the
// field and the character.
func NewMetadata(fields map[string]string) (Metadata, error) {
	m := make(Metadata, len(fields))
	total := 0
	for name, value := range fields {
		name = strings.ToLower(name)
		if err := checkName(name); err != nil {
			return nil, err
		}
		if at := invalidUTF8(value); at >= 0 {
			return nil, fault.New(fault.Invalid, "metadata-value", "byte %d of the value, 0x%02x, is not valid UTF-8", at+1,
				value[at]).In(name)
		}
		n, ascii := 0, true
		for _, r := range value {
			n++
			if r < ' ' && r != '\t' || r == 0x7f {
				return nil, fault.New(fault.Invalid, "metadata-value", "character %d of the value is a control character (U+%04X)",
					n, r).
					In(name).Do("remove it, or put it in percent-encoded")
			}
			ascii = ascii && r < utf8.RuneSelf
		}
		if !ascii {
			value = mime.BEncoding.Encode("utf-8", value)
		}
		if _, twice := m[name]; twice {
			return nil, fault.New(fault.Invalid, "metadata-name", "the field is given twice").In(name)
		}
		m[name] = value
		total += len(name) + len(value)
	}
	if total > MaxMetadata {
		return nil, fault.New(fault.Invalid, "metadata-size", "the metadata has %d bytes, %d over the %d allowed", total,
			total-MaxMetadata, MaxMetadata).
			In("metadata").Do("shorten or drop fields; the largest is %q", m.largest())
	}
	return m, nil
}

func (m Metadata) largest() (name string) {
	for n, v := range m {
		if name == "" || len(n)+len(v) > len(name)+len(m[name]) {
			name = n
		}
	}
	return name
}

// checkName checks that a field's name is a token (RFC 9110, section 5.6.2).
func checkName(name string) error {
	if name == "" {
		return fault.New(fault.Invalid, "metadata-name", "a metadata field has a name").In("metadata")
	}
	for i, r := range name {
		if r > 'z' || r <= ' ' || strings.ContainsRune(`"(),/:;<=>?@[\]{}`, r) {
			return fault.New(fault.Invalid, "metadata-name", "character %d of the field's name, %q, is not allowed", i+1, r).
				In(name).Do("use letters, digits, hyphens and underscores")
		}
	}
	return nil
}

// Size gives the bytes that the metadata takes of MaxMetadata.
func (m Metadata) Size() int {
	n := 0
	for name, value := range m {
		n += len(name) + len(value)
	}
	return n
}

// Decoded gives the fields with encoded words (RFC 2047) read back as text;
// what does not decode stays as it travels.
func (m Metadata) Decoded() map[string]string {
	out := make(map[string]string, len(m))
	var d mime.WordDecoder
	for name, value := range m {
		if text, err := d.DecodeHeader(value); err == nil {
			value = text
		}
		out[name] = value
	}
	return out
}
