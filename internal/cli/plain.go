package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"unicode/utf8"
)

// plainly is a writer to a terminal that passes nothing on which commands one: whatever a service
// calls things, its names stay text. It holds for what programs read too, and leaves JSON valid.
type plainly struct {
	to   io.Writer
	rest []byte // of a character that was cut
}

// commands reports whether a character commands a terminal, or turns the order of text round.
func commands(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Write writes text; the bytes of a character may come in two calls.
func (w *plainly) Write(p []byte) (int, error) {
	text := append(w.rest, p...)
	keep := len(text)
	for i := 1; i <= min(utf8.UTFMax-1, len(text)); i++ {
		if c := text[len(text)-i]; utf8.RuneStart(c) {
			if !utf8.FullRune(text[len(text)-i:]) {
				keep = len(text) - i
			}
			break
		}
	}
	w.rest = append([]byte(nil), text[keep:]...)
	out := string(text[:keep])
	if strings.ContainsFunc(out, commands) {
		var b strings.Builder
		for i, r := range out {
			if commands(r) {
				fmt.Fprintf(&b, `\u%04x`, r)
			} else if _, n := utf8.DecodeRuneInString(out[i:]); true {
				b.WriteString(out[i : i+n])
			}
		}
		out = b.String()
	}
	if _, err := io.WriteString(w.to, out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// turns notices pages that lead in a circle: of one call, the place of a page that is kept, and
// after how many more the next one is.
type turns struct {
	kept      string
	left, max int
}

// paging is what is known of the pages that a command asked for.
type paging struct {
	mu     sync.Mutex
	byPath map[string]*turns
}

// turned refuses a page that was asked for before, soon after pages begin to repeat; without
// keeping more than one of them.
func (g *paging) turned(method, path string, q url.Values) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	at := q.Get("after") + "\n" + q.Get("afterVersion") + "\n" + q.Get("before")
	if method != http.MethodGet || at == "\n\n" || at == "0\n\n" {
		delete(g.byPath, path)
		return nil
	}
	t := g.byPath[path]
	switch {
	case t == nil:
		g.byPath[path] = &turns{at, 1, 1}
	case t.kept == at:
		return foreign(http.StatusOK).Because(fmt.Errorf("the pages of %s lead in a circle", path))
	case t.left == 0:
		*t = turns{at, 2 * t.max, 2 * t.max}
	default:
		t.left--
	}
	return nil
}
