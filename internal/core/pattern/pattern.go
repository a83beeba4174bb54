package pattern

import (
	"strings"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// Pattern is a pattern of keys that cannot be wrong: * is any number of characters,
// also none and also /, ? is one, and \ takes the next as it is.
type Pattern struct {
	text  string
	parts []part
}

type part struct {
	text string // to be matched as it is, when it is neither of the others
	any  bool   // any number of characters
	one  bool
}

// MaxLength is the greatest length of a pattern, in bytes.
const MaxLength = 1024

// Parse reads a pattern. The error has the code pattern.
func Parse(s string) (p Pattern, err error) {
	bad := func(says string) (Pattern, error) {
		return p, fault.New(fault.Invalid, "pattern", "the pattern %q %s", s, says).
			Do("write it as *.tif or plates/?/*; \\ takes the next character as it is")
	}
	switch {
	case s == "":
		return bad("is empty")
	case len(s) > MaxLength:
		return bad("is too long")
	case !utf8.ValidString(s):
		return bad("is not UTF-8")
	}
	p.text = s
	var text strings.Builder
	flush := func() {
		if text.Len() > 0 {
			p.parts = append(p.parts, part{text: text.String()})
			text.Reset()
		}
	}
	escaped := false
	for _, r := range s {
		switch {
		case escaped:
			text.WriteRune(r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == '*':
			if flush(); len(p.parts) == 0 || !p.parts[len(p.parts)-1].any {
				p.parts = append(p.parts, part{any: true})
			}
		case r == '?':
			flush()
			p.parts = append(p.parts, part{one: true})
		default:
			text.WriteRune(r)
		}
	}
	if escaped {
		return bad("ends with a \\ that takes nothing")
	}
	flush()
	return p, nil
}

// String gives the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Like gives the pattern as SQL's LIKE has it, with \ as escape.
func (p Pattern) Like() string {
	var b strings.Builder
	for _, x := range p.parts {
		switch {
		case x.any:
			b.WriteByte('%')
		case x.one:
			b.WriteByte('_')
		default:
			b.WriteString(likeEscape.Replace(x.text))
		}
	}
	return b.String()
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// Match reports whether a key is like the pattern. A key with a NUL in it is like no
// pattern that has a ?.
func (p Pattern) Match(key string) bool {
	if strings.Contains(p.text, "?") && strings.Contains(key, "\x00") {
		return false // the database has no text with it
	}
	return matchParts(p.parts, key)
}

// matchParts takes what matches and, where it goes wrong, lets the last star take one
// character more.
func matchParts(parts []part, s string) bool {
	at, star, from := 0, -1, 0
	for i := 0; ; {
		switch {
		case at < len(parts) && parts[at].any:
			star, from = at, i
			at++
			continue
		case at < len(parts) && parts[at].one && i < len(s):
			_, n := utf8.DecodeRuneInString(s[i:])
			i += n
			at++
			continue
		case at < len(parts) && !parts[at].one && strings.HasPrefix(s[i:], parts[at].text):
			i += len(parts[at].text)
			at++
			continue
		case at == len(parts) && i == len(s):
			return true
		}
		if star < 0 || from >= len(s) {
			return false
		}
		_, n := utf8.DecodeRuneInString(s[from:])
		from += n
		if at = star + 1; at < len(parts) && !parts[at].one {
			next := strings.Index(s[from:], parts[at].text)
			if next < 0 {
				return false
			}
			from += next
		}
		i = from
	}
}

// Any reports whether a key is like one of several patterns.
func Any(list []Pattern, key string) bool {
	for _, p := range list {
		if p.Match(key) {
			return true
		}
	}
	return false
}
