package object

import (
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"spindle/internal/core/fault"
)

// Bounds of names, as the wire has them.
const (
	MinBucketName = 3    // characters
	MaxBucketName = 63   // characters
	MaxKey        = 1024 // bytes of UTF-8
)

// BucketName is a valid name of a bucket. The zero value is none.
type BucketName struct{ s string }

func (n BucketName) String() string { return n.s }

// IsZero reports whether n is no name.
func (n BucketName) IsZero() bool { return n.s == "" }

// ParseBucketName checks a bucket's name: 3 to 63 of a-z, 0-9, hyphen and dot;
// a letter or digit first, last, and on both sides of each dot; not an IPv4
// address. The error has the code bucket-name and says which rule was broken.
func ParseBucketName(s string) (BucketName, error) {
	bad := func(format string, args ...any) (BucketName, error) {
		return BucketName{}, fault.New(fault.Invalid, "bucket-name", format, args...).In("bucket").
			Do("use 3 to 63 of a-z, 0-9, hyphens and dots, beginning and ending with a letter or digit")
	}
	if len(s) < MinBucketName || len(s) > MaxBucketName {
		return bad("a bucket's name has %d to %d characters; this has %d", MinBucketName, MaxBucketName, len(s))
	}
	for i := range len(s) {
		c := s[i]
		alnum := 'a' <= c && c <= 'z' || '0' <= c && c <= '9'
		switch {
		case alnum:
		case c != '-' && c != '.':
			return bad("character %d of the bucket's name, %q, is not allowed", i+1, firstRune(s[i:]))
		case i == 0 || i == len(s)-1:
			return bad("a bucket's name begins and ends with a letter or digit, not with %q", c)
		case s[i-1] == '.' || c == '.' && s[i-1] == '-':
			return bad("%q and %q stand next to each other at character %d of the bucket's name", s[i-1], c, i)
		}
	}
	if _, err := netip.ParseAddr(s); err == nil {
		return bad("a bucket's name may not be an IP address")
	}
	return BucketName{s}, nil
}

// CheckNew refuses a name that no new bucket may have: one that begins as host names
// of other scripts do (RFC 5890, section 2.3.2.1), since a bucket's name is part of a
// host name. The error has the code bucket-name.
func (n BucketName) CheckNew() error {
	if strings.HasPrefix(n.s, "xn--") {
		return fault.New(fault.Invalid, "bucket-name", "a bucket's name may not begin with xn--").In("bucket").
			Do("choose a name that begins otherwise")
	}
	return nil
}

func firstRune(s string) string {
	r, _ := utf8.DecodeRuneInString(s)
	return string(r)
}

// MustBucketName is ParseBucketName for names written in code.
func MustBucketName(s string) BucketName {
	n, err := ParseBucketName(s)
	if err != nil {
		panic(err)
	}
	return n
}

// Key is a valid object key. The zero value is none.
type Key struct{ s string }

func (k Key) String() string { return k.s }

// IsZero reports whether k is no key.
func (k Key) IsZero() bool { return k.s == "" }

// ParseKey checks a key: 1 to MaxKey bytes of valid UTF-8 (RFC 3629). The
// errors have the codes key-empty, key-too-long and key-encoding.
func ParseKey(s string) (Key, error) {
	switch {
	case s == "":
		return Key{}, fault.New(fault.Invalid, "key-empty", "a key has at least one byte").In("key").Do("name the object")
	case len(s) > MaxKey:
		return Key{}, fault.New(fault.Invalid, "key-too-long", "a key has at most %d bytes; this has %d", MaxKey, len(s)).
			In("key").Do("shorten it by %d bytes", len(s)-MaxKey)
	}
	if at := invalidUTF8(s); at >= 0 {
		return Key{}, fault.New(fault.Invalid, "key-encoding", "byte %d of the key, 0x%02x, is not valid UTF-8", at+1, s[at]).
			In("key").Do("send the key as UTF-8, percent-encoded")
	}
	return Key{s}, nil
}

func invalidUTF8(s string) int {
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return -1
}

// MustKey is ParseKey for keys written in code.
func MustKey(s string) Key {
	k, err := ParseKey(s)
	if err != nil {
		panic(err)
	}
	return k
}

// CheckText reports an error with the code text-encoding when s, a prefix, a
// marker or a delimiter named by field, is longer than a key or not UTF-8.
func CheckText(field, s string) error {
	if len(s) > MaxKey {
		return fault.New(fault.Invalid, "text-too-long", "at most %d bytes are allowed; this has %d", MaxKey, len(s)).
			In(field)
	}
	if at := invalidUTF8(s); at >= 0 {
		return fault.New(fault.Invalid, "text-encoding", "byte %d, 0x%02x, is not valid UTF-8", at+1, s[at]).In(field)
	}
	return nil
}

// Successor gives the least byte string greater than every string that begins
// with p, and false when there is none (p is empty or all 0xff).
func Successor(p string) (string, bool) {
	for i := len(p) - 1; i >= 0; i-- {
		if p[i] != 0xff {
			return p[:i] + string([]byte{p[i] + 1}), true
		}
	}
	return "", false
}

// SafePath turns what follows a prefix in a key into a relative path of a file
// that stays beneath its folder and can be created. The error has the code
// key-not-a-path and names the part at fault.
func SafePath(rel string) (string, error) {
	bad := func(why string) (string, error) {
		return "", fault.New(fault.Invalid, "key-not-a-path", "%q cannot be a file beneath a folder: %s", rel, why).
			In("key").Do("get this object alone, into a file you name")
	}
	if rel == "" || strings.HasSuffix(rel, "/") {
		return bad("it ends with a slash")
	}
	for part := range strings.SplitSeq(rel, "/") {
		switch {
		case part == "":
			return bad("it has an empty part")
		case part == "." || part == "..":
			return bad(fmt.Sprintf("it has the part %q", part))
		case len(part) > 255:
			return bad("a part has more than 255 bytes")
		case strings.ContainsRune(part, 0):
			return bad("it has a NUL")
		}
	}
	return rel, nil
}
