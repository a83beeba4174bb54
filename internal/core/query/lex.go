package query

import (
	"slices"
	"strings"
	"unicode"

	"spindle/internal/core/fault"
)

// reserved are the words of the language, which as values stand in quotation marks.
var reserved = func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields("and or not is one of begins ends with contains like over under at least most between " +
		"before after on has lacks ago") {
		out[w] = true
	}
	return out
}()

// token is a word, a quoted text or a sign, with where it stands.
type token struct {
	text   string
	at     int
	quoted bool
	sign   bool
	end    bool
}

// word reports whether a token is a word of the language.
func (t token) word(w string) bool { return !t.quoted && !t.sign && strings.EqualFold(t.text, w) }

func isWord(r rune) bool {
	return !unicode.IsSpace(r) && unicode.IsPrint(r) && !strings.ContainsRune(`(),"`, r)
}

// problem is the error for what is wrong at a place of an expression.
func problem(at int, says string, args ...any) *fault.Error {
	f := fault.New(fault.Invalid, "query", says, args...).In("query").
		Do("write tests joined by and, or, not, such as size over 10 MiB and field taxon is Drosera")
	f.At = &at
	return f
}

// lex cuts an expression into tokens; the last one is its end.
func lex(s string) (out []token, err error) {
	for i := 0; i < len(s); {
		r, size := rune(s[i]), 1
		if r >= 0x80 {
			for _, c := range s[i:] {
				r, size = c, len(string(c))
				break
			}
		}
		switch {
		case r == '"':
			text, n, err := quotation(s[i:], i)
			if err != nil {
				return nil, err
			}
			out = append(out, token{text: text, at: i, quoted: true})
			i += n
		case strings.ContainsRune("(),", r):
			out = append(out, token{text: string(r), at: i, sign: true})
			i++
		case isWord(r):
			j := strings.IndexFunc(s[i:], func(r rune) bool { return !isWord(r) })
			if j < 0 {
				j = len(s) - i
			}
			out = append(out, token{text: s[i : i+j], at: i})
			i += j
		case unicode.IsSpace(r):
			i += size
		default:
			return nil, problem(i, "the character %q has no place here", r)
		}
	}
	return append(out, token{at: len(s), end: true}), nil
}

// quotation reads a text in quotation marks, and gives how many bytes it takes.
func quotation(s string, at int) (text string, n int, err error) {
	var b strings.Builder
	escaped := false
	for i, r := range s[1:] {
		switch {
		case escaped:
			b.WriteRune(r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == '"':
			return b.String(), i + 2, nil
		default:
			b.WriteRune(r)
		}
	}
	return "", 0, problem(at, "the quotation mark is never closed").Do("close it")
}

// Nearest gives the word that one was perhaps meant to be, "" for none.
func Nearest(word string, among []string) string { return nearest(word, slices.Clone(among)) }

// nearest gives the word that one was perhaps meant to be, "" for none.
func nearest(word string, among []string) string {
	word = strings.ToLower(word)
	best, least := "", 3
	slices.Sort(among)
	for _, w := range among {
		if d := distance(word, w); d < least && d < len(w) {
			best, least = w, d
		}
	}
	return best
}

// distance is how many letters must be changed, left out or put in.
func distance(a, b string) int {
	if len(a) > 40 {
		return 40
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			was := row[j+1]
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			row[j+1] = min(row[j+1]+1, row[j]+1, last+cost)
			last = was
		}
	}
	return row[len(b)]
}
