package object

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// Limits of tags.
const (
	MaxTags       = 10  // of an object
	MaxBucketTags = 50  // of a bucket
	MaxTagName    = 128 // characters
	MaxTagValue   = 256 // characters
)

// Tags of an object or a bucket: valid names and values.
type Tags map[string]string

// NewTags checks tags, at most limit of them: names of 1 to 128 and values of
// up to 256 characters, of letters, digits, spaces and + - = . _ : / @. The
// errors have the codes tag-count, tag-name and tag-value, and name the tag and
// the character.
func NewTags(fields map[string]string, limit int) (Tags, error) {
	if len(fields) > limit {
		return nil, fault.New(fault.Invalid, "tag-count", "there are %d tags, %d over the %d allowed", len(fields),
			len(fields)-limit, limit).In("tags").Do("drop some")
	}
	for name, value := range fields {
		if name == "" {
			return nil, fault.New(fault.Invalid, "tag-name", "a tag has a name").In("tags")
		}
		if err := checkTag("tag-name", "name", name, name, MaxTagName); err != nil {
			return nil, err
		}
		if err := checkTag("tag-value", "value", name, value, MaxTagValue); err != nil {
			return nil, err
		}
	}
	return Tags(fields), nil
}

func checkTag(code, part, tag, s string, limit int) error {
	if at := invalidUTF8(s); at >= 0 {
		return fault.New(fault.Invalid, code, "byte %d of the %s, 0x%02x, is not valid UTF-8", at+1, part, s[at]).In(tag)
	}
	if n := utf8.RuneCountInString(s); n > limit {
		return fault.New(fault.Invalid, code, "the %s has %d characters, %d over the %d allowed", part, n, n-limit, limit).
			In(tag)
	}
	n := 0
	for _, r := range s {
		n++
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && r != ' ' &&
			!strings.ContainsRune("+-=._:/@", r) {
			return fault.New(fault.Invalid, code, "character %d of the %s, %q, is not allowed", n, part, r).
				In(tag).Do("use letters, digits, spaces and + - = . _ : / @")
		}
	}
	return nil
}

// Edit is a change of fields: what is set, and what is taken away.
type Edit struct {
	Set   map[string]string `json:"set,omitempty"`
	Unset []string          `json:"unset,omitempty"`
	Clear bool              `json:"clear,omitempty"` // take everything away first
}

// Empty reports whether the edit changes nothing by itself.
func (e Edit) Empty() bool { return len(e.Set) == 0 && len(e.Unset) == 0 && !e.Clear }

// Apply gives what a set of fields becomes; it leaves the given one alone. fold
// says that names differ by more than case only, as those of metadata do.
func (e Edit) Apply(fields map[string]string, fold bool) map[string]string {
	out := make(map[string]string, len(fields)+len(e.Set))
	name := func(s string) string {
		if fold {
			return strings.ToLower(s)
		}
		return s
	}
	if !e.Clear {
		for k, v := range fields {
			out[k] = v
		}
	}
	for _, k := range e.Unset {
		delete(out, name(k))
	}
	for k, v := range e.Set {
		out[name(k)] = v
	}
	return out
}
