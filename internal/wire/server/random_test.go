package server_test

import (
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// TestRandomRequestsNeverBreakTheService sends signed requests drawn from parts
// that mean something: whatever comes, the answer is in the dialect and never
// an internal error, and the service goes on.
func TestRandomRequestsNeverBreakTheService(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for range 1500 {
		method := pick("GET", "GET", "PUT", "HEAD", "DELETE", "POST", "OPTIONS", "PATCH")
		path := "/" + pick("", "plates", "plates", "plates", "nowhere", "UPPER", "..", "%00", "plates%2F")
		if r.IntN(3) > 0 {
			path += "/" + pick("k", "a/b", "..%2F..", "%00", "%ff", "%F0%9F%8C%BF", strings.Repeat("x", 1025), "a//b/",
				"%3Cscript%3E", "+")
		}
		var query []string
		for range r.IntN(4) {
			query = append(query, pick("prefix", "delimiter", "max-keys", "list-type", "marker", "start-after",
				"continuation-token", "encoding-type", "versions", "versioning", "acl", "uploads", "uploadId", "partNumber",
				"versionId", "delete", "tagging", "policy", "lifecycle", "response-content-type", "location", "x",
				"%zz")+"="+pick("", "", "1", "2", "-1", "99999999999999999999", "url", "%00", "%ff", "a/b", "null",
				"%0d%0aX:%20y"))
		}
		if len(query) > 0 {
			path += "?" + strings.Join(query, "&")
		}
		body := pick("", "", "x", strings.Repeat("y", 3000), "<Delete><Object><Key>k</Key></Object></Delete>", "<Delete>",
			"<?xml", "\xff\xfe", "<CreateBucketConfiguration><LocationConstraint>x</LocationConstraint></CreateBucketConfiguration>")
		req, err := http.NewRequest(method, s.WireURL+"/", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if u, err := req.URL.Parse(s.WireURL + path); err == nil {
			req.URL = u
		} else {
			continue // no client could send it
		}
		for range r.IntN(3) {
			req.Header.Set(pick("Range", "If-Match", "If-None-Match", "Content-MD5", "x-amz-meta-a", "x-amz-checksum-crc32",
				"x-amz-checksum-sha256", "x-amz-copy-source", "x-amz-metadata-directive", "x-amz-acl", "x-amz-trailer",
				"x-amz-tagging",
				"x-amz-decoded-content-length", "x-amz-storage-class", "Content-Encoding", "If-Modified-Since", "Expect"),
				pick("", "*", "x", "bytes=0-", "bytes=-1", "bytes=5-2", "bytes=0-0,2-3", "/plates/k", "plates/%00", "REPLACE",
					"AAAA", "-5", "\"abc\"", "x-amz-checksum-crc32", "é"))
		}
		payload := sign.Unsigned
		if r.IntN(5) == 0 {
			payload = pick(sign.StreamSigned, sign.StreamSignedTrailer, sign.StreamUnsignedTrailer, "STREAMING-ELSE", "nonsense",
				sign.EmptyHash)
		}
		sign.Sign(req, c.Key, "fenn", payload, time.Now())
		if r.IntN(20) == 0 {
			req.Header.Set("Authorization", pick("", "Basic eA==", req.Header.Get("Authorization")+"0", "AWS4-HMAC-SHA256 x"))
		}
		what := fmt.Sprintf("%s %s %q %v", method, path, body[:min(len(body), 40)], req.Header)
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			if strings.Contains(err.Error(), "invalid header") || strings.Contains(err.Error(), "Expect") {
				continue
			}
			t.Fatalf("%s: %v", what, err)
		}
		b, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if resp.StatusCode >= 500 && resp.StatusCode != 501 || resp.StatusCode < 200 {
			t.Fatalf("%s: status %d: %s", what, resp.StatusCode, b)
		}
		if resp.StatusCode >= 400 && len(b) > 0 {
			var e struct{ Code, Message, RequestId string }
			clean := strings.Map(func(r rune) rune {
				if r == 0 {
					return -1
				}
				return r
			}, string(b))
			for i := range 32 { // numeric references of control characters are the dialect's, not XML's
				clean = strings.ReplaceAll(clean, fmt.Sprintf("&#x%x;", i), "?")
			}
			if err := xml.Unmarshal([]byte(clean), &e); err != nil || e.Code == "" || e.Message == "" || e.RequestId == "" {
				t.Fatalf("%s: status %d, and not in the dialect (%v): %q", what, resp.StatusCode, err, b)
			}
		}
	}
	// A request may have removed the bucket while it was empty.
	if err := c.CreateBucket(t.Context(), "plates"); err != nil && !fault.HasCode(err, "bucket-exists") {
		t.Error(err)
	}
	if _, err := c.Put(t.Context(), "plates", "after", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

// TestReadsWhileItIsReplaced reads a key that is replaced all the time: every
// answer must be one of its contents, whole.
func TestReadsWhileItIsReplaced(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	sizes := []int{10, 100_000, 200_000, 5}
	put := func(n int) {
		if _, err := c.Put(t.Context(), "plates", "k", strings.NewReader(strings.Repeat(string(rune('a'+n)), sizes[n])),
			int64(sizes[n]), client.Put{}); err != nil {
			t.Error(err)
		}
	}
	put(0)
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ; n = (n + 1) % 4 {
			select {
			case <-stop:
				return
			default:
				put(n)
			}
		}
	}()
	for range 300 {
		o, err := c.Get(t.Context(), "plates", "k", "", 0, "")
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil || len(b) == 0 || len(b) != sizes[b[0]-'a'] || strings.Count(string(b), string(b[0])) != len(b) {
			t.Fatalf("%d bytes, %v", len(b), err)
		}
	}
	close(stop)
	<-done
}
