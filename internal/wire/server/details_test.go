package server_test

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

func TestRanges(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	small := "0123456789"
	large := strings.Repeat(small, 30_000) // in a file of its own
	s.Do("PUT", "/plates/small", nil, small, true)
	s.Do("PUT", "/plates/large", nil, large, true)
	s.Do("PUT", "/plates/empty", nil, "", true)
	for _, c := range []struct {
		rng    string
		status int
		of     func(string) string
		says   string
	}{
		{"bytes=0-0", 206, func(b string) string { return b[:1] }, "bytes 0-0/%d"},
		{"bytes=3-5", 206, func(b string) string { return b[3:6] }, "bytes 3-5/%d"},
		{"bytes=4-", 206, func(b string) string { return b[4:] }, ""},
		{"bytes=-3", 206, func(b string) string { return b[len(b)-3:] }, ""},
		{"bytes=-99999999", 206, func(b string) string { return b }, ""},
		{"bytes=5-99999999", 206, func(b string) string { return b[5:] }, ""},
		{"bytes=99999999-", 416, nil, "bytes */%d"},
		{"bytes=-0", 416, nil, "bytes */%d"},
		{"bytes=5-3", 200, func(b string) string { return b }, ""},     // malformed: ignored
		{"bytes=0-1,4-5", 200, func(b string) string { return b }, ""}, // several: ignored
		{"lines=1-2", 200, func(b string) string { return b }, ""},
		{"bytes=x-", 200, func(b string) string { return b }, ""},
	} {
		for key, body := range map[string]string{"small": small, "large": large} {
			st, h, got := s.Do("GET", "/plates/"+key, map[string]string{"Range": c.rng}, "", true)
			if st != c.status || c.of != nil && got != c.of(body) {
				t.Errorf("%s of %s: %d, %d bytes", c.rng, key, st, len(got))
			}
			if c.says != "" && h.Get("Content-Range") != fmt.Sprintf(c.says, len(body)) {
				t.Errorf("%s of %s: Content-Range %q", c.rng, key, h.Get("Content-Range"))
			}
			st, h, got = s.Do("HEAD", "/plates/"+key, map[string]string{"Range": c.rng}, "", true)
			if st != c.status || got != "" || c.of != nil && h.Get("Content-Length") != fmt.Sprint(len(c.of(body))) {
				t.Errorf("HEAD %s of %s: %d, length %s", c.rng, key, st, h.Get("Content-Length"))
			}
		}
	}
	if st, _, got := s.Do("GET", "/plates/empty", nil, "", true); st != 200 || got != "" {
		t.Errorf("nothing: %d %q", st, got)
	}
	if st, _, _ := s.Do("GET", "/plates/empty", map[string]string{"Range": "bytes=0-"}, "", true); st != 416 {
		t.Errorf("a range of nothing: %d", st)
	}
}

func TestCopies(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	for _, b := range []string{"plates", "attic"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	s.Do("PUT", "/plates/from%20here", map[string]string{"x-amz-meta-taxon": "Erica", "Content-Type": "image/tiff",
		"Cache-Control": "no-store"}, "bytes", true)
	_, h, _ := s.Do("HEAD", "/plates/from%20here", nil, "", true)
	etag := h.Get("ETag")
	src := "/plates/from%20here"
	for _, x := range []struct {
		name   string
		to     string
		header map[string]string
		status int
		taxon  string
		ctype  string
	}{
		{"as it is", "/attic/a", map[string]string{}, 200, "Erica", "image/tiff"},
		{"without the slash", "/attic/a", map[string]string{"x-amz-copy-source": "plates/from%20here"}, 200, "Erica",
			"image/tiff"},
		{"given version null", "/attic/a", map[string]string{"x-amz-copy-source": src + "?versionId=null"}, 200, "Erica",
			"image/tiff"},
		{"with other metadata", "/attic/b", map[string]string{"x-amz-metadata-directive": "REPLACE",
			"x-amz-meta-taxon": "Calluna", "Content-Type": "text/plain"}, 200, "Calluna", "text/plain"},
		{"metadata without the directive", "/attic/b", map[string]string{"x-amz-meta-taxon": "Calluna"}, 200, "Erica",
			"image/tiff"},
		{"onto itself, changed", "/plates/from%20here", map[string]string{"x-amz-metadata-directive": "REPLACE",
			"x-amz-meta-taxon": "Erica"}, 200, "Erica", ""},
		{"onto itself, unchanged", "/plates/from%20here", map[string]string{}, 400, "Erica", ""},
		{"if it matches", "/attic/c", map[string]string{"x-amz-copy-source-if-match": etag}, 200, "Erica", ""},
		{"if it matches another", "/attic/d", map[string]string{"x-amz-copy-source-if-match": `"x"`}, 412, "", ""},
		{"if it does not match", "/attic/d", map[string]string{"x-amz-copy-source-if-none-match": etag}, 412, "", ""},
		{"if unchanged since", "/attic/d",
			map[string]string{"x-amz-copy-source-if-unmodified-since": "Mon, 02 Jan 2006 15:04:05 GMT"}, 412, "", ""},
		{"a wrong directive", "/attic/d", map[string]string{"x-amz-metadata-directive": "PERHAPS"}, 400, "", ""},
		{"from nothing", "/attic/d", map[string]string{"x-amz-copy-source": "/plates/none"}, 404, "", ""},
		{"from no bucket", "/attic/d", map[string]string{"x-amz-copy-source": "/nowhere/none"}, 404, "", ""},
		{"from a wrong name", "/attic/d", map[string]string{"x-amz-copy-source": "/UP/none"}, 400, "", ""},
		{"from no key", "/attic/d", map[string]string{"x-amz-copy-source": "/plates"}, 400, "", ""},
		{"from a wrong escape", "/attic/d", map[string]string{"x-amz-copy-source": "/plates/%zz"}, 400, "", ""},
		{"from another version", "/attic/d", map[string]string{"x-amz-copy-source": src + "?versionId=00000007"}, 404, "",
			""},
		{"from a malformed version", "/attic/d", map[string]string{"x-amz-copy-source": src + "?versionId=7"}, 400, "", ""},
		{"with a wrong tagging directive", "/attic/d", map[string]string{"x-amz-tagging-directive": "PERHAPS"}, 400, "", ""},
		{"into no bucket", "/nowhere/d", map[string]string{}, 404, "", ""},
		{"onto what is there", "/attic/a", map[string]string{"If-None-Match": "*"}, 412, "Erica", ""},
	} {
		if x.header["x-amz-copy-source"] == "" {
			x.header["x-amz-copy-source"] = src
		}
		st, _, b := s.Do("PUT", x.to, x.header, "", true)
		if st != x.status {
			t.Errorf("%s: %d %s", x.name, st, b)
		}
		st, h, got := s.Do("GET", x.to, nil, "", true)
		if x.taxon == "" {
			if st == 200 {
				t.Errorf("%s: there is a copy", x.name)
			}
			continue
		}
		if got != "bytes" || h.Get("x-amz-meta-taxon") != x.taxon || x.ctype != "" && h.Get("Content-Type") != x.ctype {
			t.Errorf("%s: %q, taxon %q, type %q", x.name, got, h.Get("x-amz-meta-taxon"), h.Get("Content-Type"))
		}
	}
}

func TestListingsThatAreHardToWrite(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	keys := []string{"a&b", "a<b>", `a"b'`, "a\x01b", "a\r\nb", "é/ü", "日本", "x y+z", "x%20y"}
	for _, k := range keys {
		if _, err := c.Put(t.Context(), "plates", k, strings.NewReader("x"), 1, client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	for _, version := range []string{"", "&list-type=2"} {
		st, _, b := s.Do("GET", "/plates?encoding-type=url&delimiter=%2F&prefix="+url.QueryEscape("é")+version, nil, "", true)
		want(t, "folded and encoded", st, b, 200, "<Prefix>%C3%A9/</Prefix>", "<Delimiter>/</Delimiter>",
			"<EncodingType>url</EncodingType>")
		var got []string
		marker := ""
		for range 20 {
			st, _, b := s.Do("GET", "/plates?encoding-type=url&max-keys=2"+version+marker, nil, "", true)
			var d struct {
				IsTruncated                       bool
				NextMarker, NextContinuationToken string
				Contents                          []struct{ Key string }
			}
			if err := xml.Unmarshal([]byte(b), &d); err != nil || st != 200 {
				t.Fatalf("%d %v: %s", st, err, b)
			}
			for _, o := range d.Contents {
				k, err := url.PathUnescape(o.Key)
				if err != nil {
					t.Fatal(err)
				}
				got = append(got, k)
			}
			if !d.IsTruncated {
				break
			}
			marker = "&marker=" + d.NextMarker
			if version != "" {
				marker = "&continuation-token=" + d.NextContinuationToken
			}
		}
		if len(got) != len(keys) {
			t.Errorf("version %q lists %q", version, got)
		}
	}
	st, _, b := s.Do("GET", "/plates?prefix=a", nil, "", true)
	want(t, "not encoded", st, b, 200, "<Key>a&amp;b</Key>", "<Key>a&lt;b&gt;</Key>", "a&#x1;b", "a&#xd;&#xa;b")
	st, _, b = s.Do("GET", "/plates?max-keys=0", nil, "", true)
	want(t, "of nothing", st, b, 200, "<MaxKeys>0</MaxKeys>", "<IsTruncated>false</IsTruncated>")
	st, _, b = s.Do("POST", "/plates?delete=", nil,
		"<Delete><Quiet>true</Quiet><Object><Key>a&amp;b</Key></Object><Object><Key>"+strings.Repeat("k",
			1025)+"</Key></Object><Object><Key>日本</Key><VersionId>x</VersionId></Object></Delete>", true)
	want(t, "quiet removal", st, b, 200, "<Code>KeyTooLongError</Code>",
		"<VersionId>x</VersionId><Code>InvalidArgument</Code>")
	if strings.Contains(b, "<Deleted>") {
		t.Errorf("a quiet removal tells of what went: %s", b)
	}
	for i := range 4 {
		if err := c.CreateBucket(t.Context(), fmt.Sprint("more-", i)); err != nil {
			t.Fatal(err)
		}
	}
	st, _, b = s.Do("GET", "/?max-buckets=2&prefix=more-", nil, "", true)
	want(t, "a page of buckets", st, b, 200, "<Name>more-0</Name>", "<Name>more-1</Name>",
		"<ContinuationToken>more-1</ContinuationToken>")
	st, _, b = s.Do("GET", "/?max-buckets=2&prefix=more-&continuation-token=more-1", nil, "", true)
	want(t, "the next", st, b, 200, "<Name>more-2</Name>", "<Name>more-3</Name>")
	if strings.Contains(b, "<ContinuationToken>") {
		t.Errorf("the last page has a token: %s", b)
	}
}

// keeper keeps all that is logged.
type keeper struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (k *keeper) Write(p []byte) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.b.Write(p)
}

// TestNoSecretIsLogged logs everything while secrets are used in every way,
// right and wrong, and looks for them in the log.
func TestNoSecretIsLogged(t *testing.T) {
	kept := &keeper{}
	dir := t.TempDir()
	s, err := service.Start(harness.Context(t), service.Config{Data: dir, Wire: "127.0.0.1:0", Desk: "127.0.0.1:0",
		Database: harness.Database(t), OwnerKey: harness.Key, OwnerSecret: harness.Secret},
		slog.New(slog.NewJSONHandler(kept, &slog.HandlerOptions{Level: slog.LevelDebug})))
	if err != nil {
		t.Fatal(err)
	}
	c, err := client.New(s.WireURL, "fenn", sign.Credential{ID: harness.Key, Secret: harness.Secret})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "k", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Fatal(err)
	}
	link := c.Presign("GET", "plates", "k", time.Minute)
	if resp, err := http.Get(link); err != nil || resp.StatusCode != 200 {
		t.Errorf("%v, %v", resp, err)
	}
	wrong := *c
	wrong.Key.Secret = "a-wrong-secret-to-find"
	if err := wrong.Remove(t.Context(), "plates", "k"); !fault.HasCode(err, "signature-mismatch") {
		t.Error(err)
	}
	cookie := ""
	for _, secret := range []string{harness.Secret, wrong.Key.Secret} {
		resp, err := http.Post(s.DeskURL+"/api/v1/session", "application/json",
			strings.NewReader(`{"key":"`+harness.Key+`","secret":"`+secret+`"}`))
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if strings.Contains(string(b), secret) {
			t.Error("the answer has the secret")
		}
		for _, k := range resp.Cookies() {
			cookie = k.Value
			if !k.HttpOnly || k.SameSite != http.SameSiteStrictMode {
				t.Errorf("the cookie is open to scripts or other sites: %+v", k)
			}
		}
	}
	if err := s.Stop(harness.Context(t)); err != nil {
		t.Error(err)
	}
	master, err := os.ReadFile(filepath.Join(dir, "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	_, signature, _ := strings.Cut(link, "X-Amz-Signature=")
	log := kept.b.String()
	if !strings.Contains(log, "PutObject") {
		t.Error("the log has nothing of the requests")
	}
	for what, secret := range map[string]string{"the secret": harness.Secret, "a wrong secret": wrong.Key.Secret,
		"the cookie": cookie, "the master key": strings.TrimSpace(string(master)), "a link's signature": signature} {
		if secret == "" || strings.Contains(log, secret) {
			t.Errorf("%s is in the log, or was not used", what)
		}
	}
}
