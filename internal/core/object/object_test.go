package object

import (
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
)

func TestParseBucketName(t *testing.T) {
	for _, c := range []struct{ name, want string }{
		{"plates", ""}, {"field-notes", ""}, {"a.b-c.9", ""}, {strings.Repeat("a", 63), ""},
		{"ab", "3 to 63"}, {"", "3 to 63"}, {strings.Repeat("a", 64), "has 64"},
		{"Plates", "character 1"}, {"pla_tes", `character 4 of the bucket's name, "_"`}, {"pl\x00ates", "character 3"},
		{"-plates", "begins and ends"}, {"plates.", "begins and ends"}, {"a..b", "next to each other"},
		{"a-.b", "next to each other"}, {"a.-b", "next to each other"}, {"192.168.0.1", "IP address"},
		{"../etc", "begins and ends"},
		{"plätes", `"ä"`},
	} {
		_, err := ParseBucketName(c.name)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("ParseBucketName(%q) = %v, want an error with %q", c.name, err, c.want)
		}
	}
}

func TestParseKey(t *testing.T) {
	for _, c := range []struct{ key, code string }{
		{"a", ""}, {strings.Repeat("k", 1024), ""}, {"../../etc/passwd", ""}, {"a//b", ""}, {"a/", ""}, {"./..", ""},
		{"nul\x00\x01\x7f", ""}, {"🌿", ""}, {"<script>", ""},
		{"", "key-empty"}, {strings.Repeat("k", 1025), "key-too-long"}, {strings.Repeat("ä", 513), "key-too-long"},
		{"a\xff", "key-encoding"}, {"\xed\xa0\x80", "key-encoding"},
	} {
		_, err := ParseKey(c.key)
		if got := codeOf(err); got != c.code {
			t.Errorf("ParseKey(%.20q) has code %q, want %q", c.key, got, c.code)
		}
	}
}

func codeOf(err error) string {
	if err == nil {
		return ""
	}
	return fault.From(err).Code
}

func TestMetadata(t *testing.T) {
	m, err := NewMetadata(map[string]string{"Taxon": "Calluna vulgaris", "collector": "Brändvold"})
	if err != nil || m["taxon"] != "Calluna vulgaris" || ToWire(m["collector"]) != "=?utf-8?b?QnLDpG5kdm9sZA==?=" {
		t.Fatalf("NewMetadata = %v, %v", m, err)
	}
	if m["collector"] != "Brändvold" || FromWire(ToWire(" two  blanks ")) != " two  blanks " {
		t.Errorf("text comes back as %q", m["collector"])
	}
	for _, c := range []struct{ name, value, code string }{
		{"sheet", strings.Repeat("x", 2043), ""}, {"sheet", strings.Repeat("x", 2044), "metadata-size"},
		{"a b", "x", "metadata-name"}, {"", "x", "metadata-name"}, {"ä", "x", "metadata-name"},
		{"a", "x\ny", "metadata-value"}, {"a", "\x00", "metadata-value"}, {"a", "\xff", "metadata-value"},
		{"a", "<script>", ""},
	} {
		if _, err := NewMetadata(map[string]string{c.name: c.value}); codeOf(err) != c.code {
			t.Errorf("NewMetadata(%q: %.10q) = %v, want code %q", c.name, c.value, err, c.code)
		}
	}
}

func TestSuccessorBoundsAPrefix(t *testing.T) {
	for _, c := range []struct{ in, want string }{{"a", "b"}, {"a/", "a0"}, {"a\xff", "b"}, {"\u00ff", "\xc3\xc0"},
		{"\xff\xff", ""}, {"", ""}} {
		got, ok := Successor(c.in)
		if got != c.want || ok != (c.want != "") {
			t.Errorf("Successor(%q) = %q, %v, want %q", c.in, got, ok, c.want)
		}
	}
}

func TestSafePath(t *testing.T) {
	for _, c := range []struct {
		rel string
		ok  bool
	}{
		{"a/b.tif", true}, {"a b", true}, {"...", true}, {"../x", false}, {"a/../../x", false}, {"/etc/passwd", false},
		{"a//b", false}, {"a/", false}, {"", false}, {"a/./b", false}, {"a\x00b", false}, {strings.Repeat("x", 256), false},
	} {
		if _, err := SafePath(c.rel); (err == nil) != c.ok {
			t.Errorf("SafePath(%q) = %v, want allowed %v", c.rel, err, c.ok)
		}
	}
}

func TestConditionsOnARead(t *testing.T) {
	at := time.Date(2026, 3, 14, 14, 2, 7, 500, time.UTC)
	v := &Version{Created: at, ETag: ETag{MD5: [16]byte{0xab}, Parts: 2}}
	tag := v.ETag.String()
	before, after := at.Add(-time.Hour), at.Add(time.Hour)
	for _, c := range []struct {
		name string
		c    Conditions
		want Outcome
	}{
		{"none", Conditions{}, Proceed},
		{"match", Conditions{IfMatch: ParseTags(`"x", "` + tag + `"`)}, Proceed},
		{"match any", Conditions{IfMatch: []string{"*"}}, Proceed},
		{"match other", Conditions{IfMatch: []string{"x"}}, Failed},
		{"none match", Conditions{IfNoneMatch: ParseTags(`W/"` + tag + `"`)}, NotModified},
		{"none match other", Conditions{IfNoneMatch: []string{"x"}, IfModifiedSince: after}, Proceed},
		{"modified since", Conditions{IfModifiedSince: before}, Proceed},
		{"not modified since, to the second", Conditions{IfModifiedSince: at.Truncate(time.Second)}, NotModified},
		{"unmodified since", Conditions{IfUnmodifiedSince: after}, Proceed},
		{"modified", Conditions{IfUnmodifiedSince: before}, Failed},
		{"match wins over unmodified since", Conditions{IfMatch: []string{tag}, IfUnmodifiedSince: before}, Proceed},
	} {
		if got := c.c.Read(v); got != c.want {
			t.Errorf("%s: outcome %d, want %d", c.name, got, c.want)
		}
	}
}
