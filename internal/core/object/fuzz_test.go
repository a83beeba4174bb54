package object

import (
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// FuzzSafePath holds what SafePath allows against the file system's own idea.
func FuzzSafePath(f *testing.F) {
	for _, s := range []string{"a/b", "../x", "/x", "a//b", "a/./b", "..", "...", "a/..", "\x00", "ä/🌿",
		strings.Repeat("x", 300)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, rel string) {
		p, err := SafePath(rel)
		if err != nil {
			return
		}
		if !filepath.IsLocal(p) || filepath.Clean(p) != p || strings.Contains(p, "\x00") {
			t.Errorf("%q is allowed as %q", rel, p)
		}
		if joined := filepath.Join("/base", p); !strings.HasPrefix(joined, "/base/") {
			t.Errorf("%q leads to %q", rel, joined)
		}
	})
}

// FuzzNames holds the parsers to what they promise.
func FuzzNames(f *testing.F) {
	for _, s := range []string{"plates", "a.b-c", "192.168.0.1", "-x", "x..y", "é", "\xff", strings.Repeat("k", 1025),
		""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if n, err := ParseBucketName(s); err == nil {
			if n.String() != s || len(s) < MinBucketName || len(s) > MaxBucketName || strings.ToLower(s) != s ||
				strings.ContainsAny(s, "/_ %") || strings.Contains(s, "..") {
				t.Errorf("bucket %q is allowed", s)
			}
		}
		if k, err := ParseKey(s); (err == nil) != (s != "" && len(s) <= MaxKey && utf8.ValidString(s)) {
			t.Errorf("key %q: %v, %v", s, k, err)
		}
		if next, ok := Successor(s); ok {
			if next <= s || strings.HasPrefix(next, s) || s+"\xff\xff\xff" >= next {
				t.Errorf("%q follows %q", next, s)
			}
		}
		if m, err := NewMetadata(map[string]string{"field": s}); err == nil {
			if got := m["field"]; got != s && !strings.Contains(s, "=?") {
				t.Errorf("metadata %q is kept as %q", s, got)
			}
			wire := ToWire(m["field"])
			if got := FromWire(wire); got != m["field"] {
				t.Errorf("metadata %q travels as %q and comes back as %q", m["field"], wire, got)
			}
			for _, c := range []byte(wire) {
				if c < ' ' && c != '\t' || c >= 0x7f {
					t.Errorf("metadata %q travels as %q", s, wire)
				}
			}
			if strings.TrimSpace(wire) != wire {
				t.Errorf("metadata %q travels as %q, whose blanks a header loses", s, wire)
			}
		}
	})
}

func TestTagsOfConditions(t *testing.T) {
	for header, want := range map[string][]string{"": nil, "*": {"*"}, `"a"`: {"a"}, `W/"a", "b"`: {"a", "b"}, " , ,": nil,
		`a`: {"a"}, `"a-2"`: {"a-2"}} {
		got := ParseTags(header)
		if strings.Join(got, "|") != strings.Join(want, "|") {
			t.Errorf("%q gives %q, want %q", header, got, want)
		}
	}
	if got := (ETag{MD5: [16]byte{0xab, 1}}).String(); got != "ab010000000000000000000000000000" {
		t.Errorf("ETag %s", got)
	}
}
