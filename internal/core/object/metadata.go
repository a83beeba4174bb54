package object

import (
	"encoding/base64"
	"mime"
	"strings"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// MaxMetadata is the greatest size of an object's metadata: the bytes of all
// names and values, as they travel.
const MaxMetadata = 2048

// Metadata is a set of valid fields: lower-case names, and values as text. On the wire a value
// beyond ASCII travels in encoded words (RFC 2047); nothing above the wire knows that form.
type Metadata map[string]string

// NewMetadata checks fields; encoded words in values are read as the text that they are of. The
// errors have the codes metadata-name, metadata-value and metadata-size, and name the field and
// the character.
func NewMetadata(fields map[string]string) (Metadata, error) {
	m := make(Metadata, len(fields))
	for name, value := range fields {
		name = strings.ToLower(name)
		if err := checkName(name); err != nil {
			return nil, err
		}
		value = FromWire(value)
		if at := invalidUTF8(value); at >= 0 {
			return nil, fault.New(fault.Invalid, "metadata-value", "byte %d of the value, 0x%02x, is not valid UTF-8", at+1,
				value[at]).In(name)
		}
		if n, r := control(value); n > 0 {
			return nil, fault.New(fault.Invalid, "metadata-value", "character %d of the value is a control character (U+%04X)",
				n, r).
				In(name).Do("remove it, or put it in percent-encoded")
		}
		if _, twice := m[name]; twice {
			return nil, fault.New(fault.Invalid, "metadata-name", "the field is given twice").In(name)
		}
		m[name] = value
	}
	if total := m.Size(); total > MaxMetadata {
		return nil, fault.New(fault.Invalid, "metadata-size", "the metadata has %d bytes, %d over the %d allowed", total,
			total-MaxMetadata, MaxMetadata).
			In("metadata").Do("shorten or drop fields; the largest is %q", m.largest())
	}
	return m, nil
}

// control gives the first control character of a value and which one of its characters that is,
// from 1; 0 for none. A tab is none.
func control(value string) (n int, r rune) {
	for _, r := range value {
		if n++; r < ' ' && r != '\t' || r == 0x7f {
			return n, r
		}
	}
	return 0, 0
}

const (
	wordStart = "=?utf-8?b?"
	wordBytes = 45 // of text in an encoded word, which has at most 75 letters (RFC 2047, section 2)
)

// ToWire writes a value as it travels: text that a header would not carry as it is goes in
// encoded words (RFC 2047), and so does what would be read as such.
func ToWire(value string) string {
	plain := !strings.Contains(value, "=?") && strings.TrimSpace(value) == value
	for i := 0; plain && i < len(value); i++ {
		plain = value[i] >= ' ' && value[i] < 0x7f || value[i] == '\t'
	}
	if plain {
		return value
	}
	var words []string
	for len(value) > 0 {
		n := min(wordBytes, len(value))
		for n < len(value) && !utf8.RuneStart(value[n]) {
			n--
		}
		words = append(words, wordStart+base64.StdEncoding.EncodeToString([]byte(value[:n]))+"?=")
		value = value[n:]
	}
	return strings.Join(words, " ")
}

// FromWire reads a value as it travels. What does not decode, or decodes to what no value may
// be, is text as it is.
func FromWire(value string) string {
	if !strings.Contains(value, "=?") {
		return value
	}
	var d mime.WordDecoder
	text, err := d.DecodeHeader(value)
	if n, _ := control(text); err != nil || n > 0 || invalidUTF8(text) >= 0 {
		return value
	}
	return text
}

func (m Metadata) largest() (name string) {
	for n, v := range m {
		if name == "" || len(n)+len(ToWire(v)) > len(name)+len(ToWire(m[name])) {
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

// Size gives the bytes that the metadata takes of MaxMetadata, as it travels.
func (m Metadata) Size() int {
	n := 0
	for name, value := range m {
		n += len(name) + len(ToWire(value))
	}
	return n
}
