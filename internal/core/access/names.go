package access

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// Machine is who acts when the service itself, or somebody at its machine, does.
const Machine = "the machine"

// By gives the subject as records keep it: a key by its id, a person as "person
// NAME", others as "anyone". No two kinds have a text in common, since ids and
// reserved words have no such form.
func (s Subject) By() string {
	switch s.Kind {
	case Key:
		return s.Name
	case Person:
		return "person " + s.Name
	}
	return "anyone"
}

// ParseBy reads what By gives. Texts of others than keys and people, such as
// Machine, give the kind Anyone.
func ParseBy(text string) (kind SubjectKind, name string) {
	if name, ok := strings.CutPrefix(text, "person "); ok {
		return Person, name
	}
	if text == "anyone" || !isID(text) {
		return Anyone, text
	}
	return Key, text
}

// reserved are words that stand for something else where a name could stand.
var reserved = map[string]bool{"anyone": true, "everyone": true, "none": true, "all": true, "me": true, "self": true,
	"account": true, "person": true, "people": true, "key": true, "operator": true, "owner": true, "service": true,
	"system":   true,
	"scrubber": true, "collector": true, "machine": true, "spindle": true}

func isID(s string) bool {
	if len(s) < 3 || len(s) > 64 {
		return false
	}
	for i := range len(s) {
		c := s[i]
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '_') {
			return false
		}
	}
	return true
}

// CheckKeyID refuses what cannot be a key's id. The error has the code key-id.
func CheckKeyID(id string) error {
	if !isID(id) {
		return fault.New(fault.Invalid, "key-id", "a key's id has 3 to 64 letters, digits, hyphens and underscores").In("id")
	}
	if reserved[strings.ToLower(id)] {
		return fault.New(fault.Invalid, "key-id", "%q stands for something else, and cannot be a key's id", id).In("id").
			Do("choose another")
	}
	return nil
}

// CheckPersonName allows names as people write them: 2 to 64 characters. The error
// has the code person-name.
func CheckPersonName(name string) error {
	n := utf8.RuneCountInString(name)
	switch {
	case n < 2 || n > 64 || strings.TrimSpace(name) != name || strings.ContainsAny(name, `/\:"<>`) ||
		strings.Contains(name, "  "):
		return fault.New(fault.Invalid, "person-name",
			"%q cannot be a person's name: it has 2 to 64 characters, without any of / \\ : \" < >", name).In("name")
	case unseen(name, false):
		return fault.New(fault.Invalid, "person-name", "%+q has characters that nobody sees, or that look like others", name).
			In("name").Do("leave them out")
	case reserved[strings.ToLower(name)]:
		return fault.New(fault.Invalid, "person-name", "%q stands for something else, and cannot be a person's name", name).
			In("name").Do("choose another")
	}
	return nil
}

// CheckTitle refuses a title, such as the name of an application, of no or more
// than 64 characters or with ones that nobody sees. The error has the code title.
func CheckTitle(field, s string) error {
	if n := utf8.RuneCountInString(s); n < 1 || n > 64 || unseen(s, false) {
		return fault.New(fault.Invalid, "title", "%+q cannot be a name: it has 1 to 64 characters, all of which can be seen",
			s).In(field).Do("leave out what cannot be seen")
	}
	return nil
}

// CheckNote refuses notes of more than 1,000 bytes or with characters that nobody
// sees; lines may be broken. The error has the code note.
func CheckNote(note string) error {
	if len(note) > 1000 || unseen(note, true) {
		return fault.New(fault.Invalid, "note", "a note has at most 1,000 bytes, all of which can be seen").In("note").
			Do("shorten it, or leave out what cannot be seen")
	}
	return nil
}

// unseen reports whether a text has control or formatting characters, private or
// undefined ones, spaces other than the usual one, or bytes that are no UTF-8.
func unseen(s string, lines bool) bool {
	if !utf8.ValidString(s) {
		return true
	}
	return strings.ContainsFunc(s, func(r rune) bool {
		switch {
		case lines && (r == '\n' || r == '\t'), r == ' ':
			return false
		case r == utf8.RuneError:
			return true
		}
		return !unicode.In(r, unicode.L, unicode.M, unicode.N, unicode.P, unicode.S) ||
			unicode.In(r, unicode.Variation_Selector, unicode.Other_Default_Ignorable_Code_Point)
	})
}
