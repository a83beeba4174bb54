package sign

import (
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Escape percent-encodes all but unreserved characters (RFC 3986, section 2.3),
// and slashes unless told.
func Escape(s string, slash bool) string {
	plain := func(c byte) bool {
		return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '_' || c == '.' ||
			c == '~' || c == '/' && !slash
	}
	at := 0
	for at < len(s) && plain(s[at]) {
		at++
	}
	if at == len(s) {
		return s
	}
	b := append(make([]byte, 0, len(s)+16), s[:at]...)
	for _, c := range []byte(s[at:]) {
		if plain(c) {
			b = append(b, c)
			continue
		}
		const digits = "0123456789ABCDEF"
		b = append(b, '%', digits[c>>4], digits[c&15])
	}
	return string(b)
}

// canonicalName gives a header's name as requests keep it.
func canonicalName(name string) string {
	if known, ok := names[name]; ok {
		return known
	}
	return http.CanonicalHeaderKey(name)
}

// ofDialect reports whether a header is the dialect's.
func ofDialect(name string) bool {
	const prefix = "x-amz-"
	return len(name) >= len(prefix) && strings.EqualFold(name[:len(prefix)], prefix)
}

// lower gives a header's name in small letters.
func lower(name string) string {
	switch name {
	case HeaderDate:
		return "x-amz-date"
	case HeaderPayload:
		return "x-amz-content-sha256"
	}
	return strings.ToLower(name)
}

// canonical writes the request as it is signed behind b.
func (a *Auth) canonical(b []byte, r *http.Request, path string) []byte {
	b = append(append(b, r.Method...), '\n')
	if path == "" {
		b = append(b, '/')
	}
	b = append(append(b, path...), '\n')
	b = append(append(b, canonicalQuery(r.URL.RawQuery, a.Presigned)...), '\n')
	for _, name := range a.headers {
		b = append(append(b, name...), ':')
		switch name {
		case "host":
			b = append(b, r.Host...)
		case "content-length":
			b = strconv.AppendInt(b, max(r.ContentLength, 0), 10)
		default:
			for i, v := range r.Header[canonicalName(name)] {
				if i > 0 {
					b = append(b, ',')
				}
				b = append(b, squeeze(v)...)
			}
		}
		b = append(b, '\n')
	}
	b = append(b, '\n')
	for i, name := range a.headers {
		if i > 0 {
			b = append(b, ';')
		}
		b = append(b, name...)
	}
	return append(append(b, '\n'), a.Payload...)
}

func squeeze(s string) string {
	s = strings.TrimSpace(s)
	if strings.Contains(s, "  ") {
		s = strings.Join(strings.Fields(s), " ")
	}
	return s
}

func canonicalQuery(raw string, presigned bool) string {
	if raw == "" {
		return ""
	}
	type pair struct{ name, value string }
	var pairs []pair
	for part := range strings.SplitSeq(raw, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		name, value = reescape(name), reescape(value)
		if presigned && name == "X-Amz-Signature" {
			continue
		}
		pairs = append(pairs, pair{name, value})
	}
	slices.SortFunc(pairs, func(a, b pair) int {
		if c := strings.Compare(a.name, b.name); c != 0 {
			return c
		}
		return strings.Compare(a.value, b.value)
	})
	var b strings.Builder
	for i, p := range pairs {
		if i > 0 {
			b.WriteByte('&')
		}
		b.WriteString(p.name)
		b.WriteByte('=')
		b.WriteString(p.value)
	}
	return b.String()
}

func reescape(s string) string {
	u, err := url.QueryUnescape(s)
	if err != nil {
		return s // it will not verify, as it should not
	}
	return Escape(u, true)
}

// unescape gives a name or value of a query that was read before.
func unescape(s string) string {
	u, err := url.QueryUnescape(s)
	if err != nil {
		return s
	}
	return u
}
