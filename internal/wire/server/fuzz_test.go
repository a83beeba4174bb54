package server

import (
	"bytes"
	"encoding/xml"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/wire/sign"
)

// FuzzDocument takes apart whatever arrives as a document: it ends, with a fault
// that says so or within its bounds.
func FuzzDocument(f *testing.F) {
	for _, s := range []string{"<Delete><Object><Key>k</Key></Object></Delete>", "<Delete><Quiet>true</Quiet></Delete>",
		"<!DOCTYPE x>", "<a><a><a><a><a><a><a><a><a>", "<Delete/><Delete/>", "<Delete><![CDATA[x]]></Delete>",
		"<Delete>&#1;</Delete>", "<?xml version=\"1.0\" encoding=\"latin1\"?><Delete/>",
		"<Delete xmlns=\"a\" xmlns:b=\"c\"><b:Object/></Delete>", "", "\xff\xfe", "<Delete>" +
			strings.Repeat("<Object/>", 1200)} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		var in struct {
			XMLName xml.Name
			Object  []struct{ Key, VersionId string }
		}
		r := bytes.NewReader(body)
		err := readDocument(r, removeManyDocument, &in)
		if err == nil && r.Len() > 0 {
			t.Errorf("%d bytes were not looked at", r.Len())
		}
		if err != nil && fault.KindOf(err) != fault.Invalid {
			t.Errorf("%v is no fault of the document", err)
		}
		if len(in.Object) > maxRemovals+1 {
			t.Errorf("%d objects", len(in.Object))
		}
	})
}

// FuzzTarget finds bucket and key in any host and path: what comes out is what went
// in, and a bucket's name is one.
func FuzzTarget(f *testing.F) {
	for _, s := range [][2]string{{"localhost", "/plates/a/../b"}, {"plates.localhost:80", "/k"},
		{"PLATES.localhost", "//k"}, {"..localhost", "/"}, {"x", "/api/v1/keys"}, {"[::1]:5710", "/plates"},
		{".localhost", "/a/b"}, {"a.b.localhost", "/%2e%2e"}} {
		f.Add(s[0], s[1])
	}
	s := &Server{settings: Settings{Domains: []string{"localhost", "fen.example"}}}
	f.Fuzz(func(t *testing.T, host, path string) {
		q := &request{s: s, r: &http.Request{Host: host, URL: &url.URL{Path: path}}}
		err := q.target()
		if err != nil || q.bucket.IsZero() {
			return
		}
		whole := q.bucket.String() + "/" + q.name
		if q.isHost {
			if q.name != strings.TrimPrefix(path, "/") || !strings.HasPrefix(strings.ToLower(host), q.bucket.String()+".") {
				t.Errorf("%q %q gives %q", host, path, whole)
			}
		} else if got := strings.TrimPrefix(path, "/"); got != whole && got != q.bucket.String() {
			t.Errorf("%q %q gives %q", host, path, whole)
		}
	})
}

// FuzzTrailers reads requests whose bodies come in chunks with any payload word.
func FuzzTrailers(f *testing.F) {
	f.Add("STREAMING-UNSIGNED-PAYLOAD-TRAILER", []byte("5\r\nhello\r\n0\r\nx-amz-checksum-crc32:AAAAAA==\r\n\r\n"))
	f.Add("UNSIGNED-PAYLOAD", []byte("hello"))
	f.Add(sign.EmptyHash, []byte(""))
	f.Fuzz(func(t *testing.T, payload string, body []byte) {
		r := httptest.NewRequest("PUT", "/plates/k", bytes.NewReader(body))
		q := &request{r: r, auth: &sign.Auth{Payload: payload}}
		b, err := q.body()
		if err != nil {
			return
		}
		got, err := io.ReadAll(b)
		if len(got) > len(body) {
			t.Errorf("%d bytes came out of %d", len(got), len(body))
		}
		if err == nil && len(payload) == 64 && !strings.EqualFold(payload, sign.EmptyHash) && len(body) == 0 {
			t.Errorf("nothing fits the digest %s", payload)
		}
	})
}
