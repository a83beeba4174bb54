package server_test

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// curl sends a request signed by curl's own signer and gives the answer's
// status and body.
func curl(t *testing.T, s *harness.Running, method, path string, args ...string) (int, string) {
	t.Helper()
	argv := append([]string{"-sS", "--path-as-is", "-X", method, "--aws-sigv4", "aws:amz:anywhere:s3", "-u", harness.Key +
		":" + harness.Secret,
		"-w", "\n%{http_code}"}, args...)
	if method == "HEAD" {
		argv = append(argv, "-I")
	}
	out, err := exec.Command("curl", append(argv, s.WireURL+path)...).CombinedOutput()
	if err != nil {
		t.Fatalf("curl %s %s: %v: %s", method, path, err, out)
	}
	i := bytes.LastIndexByte(out, '\n')
	status := 0
	if _, err := fmt.Sscan(string(out[i+1:]), &status); err != nil {
		t.Fatalf("curl %s %s: %s", method, path, out)
	}
	return status, string(out[:i])
}

func hexSum(s string) string { h := sha256.Sum256([]byte(s)); return hex.EncodeToString(h[:]) }

func payload(s string) []string {
	return []string{"-H", "x-amz-content-sha256: " + hexSum(s), "--data-binary", s}
}

func want(t *testing.T, what string, status int, body string, wantStatus int, parts ...string) {
	t.Helper()
	if status != wantStatus {
		t.Errorf("%s: status %d, want %d: %s", what, status, wantStatus, body)
	}
	for _, p := range parts {
		if !strings.Contains(body, p) {
			t.Errorf("%s: the answer lacks %q: %s", what, p, body)
		}
	}
}

// TestAgainstAnIndependentSigner walks the operations with curl, so that our
// client and server cannot agree on a mistake.
func TestAgainstAnIndependentSigner(t *testing.T) {
	s := harness.Service(t, nil)
	empty := []string{"-H", "x-amz-content-sha256: " + sign.EmptyHash}
	st, b := curl(t, s, "PUT", "/plates", empty...)
	want(t, "create", st, b, 200)
	st, b = curl(t, s, "PUT", "/plates", empty...)
	want(t, "create again", st, b, 409, "BucketAlreadyOwnedByYou")
	st, b = curl(t, s, "HEAD", "/plates")
	want(t, "head bucket", st, b, 200, "x-amz-bucket-region: fenn")
	st, b = curl(t, s, "GET", "/")
	want(t, "list buckets", st, b, 200, "<Name>plates</Name>")
	st, b = curl(t, s, "GET", "/plates?location=")
	want(t, "location", st, b, 200, ">fenn</LocationConstraint>")

	st, b = curl(t, s, "PUT", "/plates/2019/a.txt", append(payload("hello"), "-H", "x-amz-meta-taxon: Erica  cinerea",
		"-H", "Content-Type: text/plain", "-H", "Cache-Control: no-cache")...)
	want(t, "put", st, b, 200)
	st, b = curl(t, s, "PUT", "/plates/2019/unsigned", "-H", "x-amz-content-sha256: UNSIGNED-PAYLOAD", "--data-binary",
		"loose")
	want(t, "unsigned put", st, b, 200)
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-i")
	sum := md5.Sum([]byte("hello"))
	want(t, "get", st, b, 200, "hello", "x-amz-meta-taxon: Erica", "Content-Type: text/plain", "Cache-Control: no-cache",
		`ETag: "`+hex.EncodeToString(sum[:])+`"`, "Accept-Ranges: bytes")
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-i", "-H", "Range: bytes=1-3")
	want(t, "range", st, b, 206, "ell", "Content-Range: bytes 1-3/5")
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-H", "Range: bytes=-2")
	want(t, "suffix range", st, b, 206, "lo")
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-H", "Range: bytes=9-")
	want(t, "range beyond", st, b, 416, "InvalidRange")
	st, b = curl(t, s, "GET", "/plates/2019/a.txt?response-content-type=text%2Fx-test", "-i")
	want(t, "override", st, b, 200, "Content-Type: text/x-test")
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-H", "If-None-Match: \""+hex.EncodeToString(sum[:])+"\"")
	want(t, "not modified", st, b, 304)
	st, b = curl(t, s, "GET", "/plates/2019/a.txt", "-H", "If-Match: \"x\"")
	want(t, "if match", st, b, 412, "PreconditionFailed")
	st, b = curl(t, s, "PUT", "/plates/2019/a.txt", append(payload("other"), "-H", "If-None-Match: *")...)
	want(t, "only if absent", st, b, 412, "PreconditionFailed")
	st, b = curl(t, s, "PUT", "/plates/2019/a.txt", append(payload("other"), "-H",
		"If-Match: "+hex.EncodeToString(sum[:]))...)
	want(t, "only if ETag", st, b, 200)
	st, b = curl(t, s, "PUT", "/plates/copy", append(empty, "-H", "x-amz-copy-source: /plates/2019/a.txt")...)
	want(t, "copy", st, b, 200, "<CopyObjectResult", "<ETag>")
	st, b = curl(t, s, "GET", "/plates?delimiter=%2F&list-type=2")
	want(t, "list folded", st, b, 200, "<KeyCount>2</KeyCount>", "<CommonPrefixes><Prefix>2019/</Prefix>",
		"<Key>copy</Key>")
	st, b = curl(t, s, "GET", "/plates?max-keys=1")
	want(t, "list v1", st, b, 200, "<IsTruncated>true</IsTruncated>", "<NextMarker>2019/a.txt</NextMarker>")
	st, b = curl(t, s, "GET", "/plates?marker=2019%2Fa.txt&max-keys=1")
	want(t, "list v1 after", st, b, 200, "<Key>2019/unsigned</Key>")
	st, b = curl(t, s, "GET", "/plates?list-type=2&max-keys=1&start-after=2019%2Fa.txt")
	want(t, "list v2 start-after", st, b, 200, "<Key>2019/unsigned</Key>", "<NextContinuationToken>")
	st, b = curl(t, s, "DELETE", "/plates")
	want(t, "delete what is not empty", st, b, 409, "BucketNotEmpty")
	doc := `<Delete><Object><Key>2019/a.txt</Key></Object><Object><Key>2019/unsigned</Key></Object><Object><Key>never</Key></Object></Delete>`
	st, b = curl(t, s, "POST", "/plates?delete=", payload(doc)...)
	want(t, "remove many", st, b, 200, "<Deleted><Key>2019/a.txt</Key>", "<Deleted><Key>never</Key>")
	st, b = curl(t, s, "DELETE", "/plates/copy")
	want(t, "remove", st, b, 204)
	st, b = curl(t, s, "GET", "/plates/copy")
	want(t, "get what is gone", st, b, 404, "NoSuchKey")
	st, b = curl(t, s, "DELETE", "/plates")
	want(t, "remove bucket", st, b, 204)
	st, b = curl(t, s, "GET", "/plates")
	want(t, "list what is gone", st, b, 404, "NoSuchBucket")
}

// TestKeysOfAnyBytes puts, lists, reads and removes keys that ought to break
// something, with both signers.
func TestKeysOfAnyBytes(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	ctx := t.Context()
	if err := c.CreateBucket(ctx, "plates"); err != nil {
		t.Fatal(err)
	}
	keys := []string{"k", strings.Repeat("k", 1024), "../../etc/passwd", "a//b", "/leading", "trailing/", "./x/../y", "..",
		".", "nul\x00nul", "ctl\x01\x1f\x7f", "new\nline",
		"🌿/é", "<script>alert(1)</script>", "a b+c%20d&e=f?g#h;i\"'\\", "\ufffe", "CON", "~tilde*"}
	for _, k := range keys {
		if _, err := c.Put(ctx, "plates", k, strings.NewReader(k), int64(len(k)), client.Put{}); err != nil {
			t.Errorf("putting %q: %v", k, err)
		}
	}
	p, err := c.List(ctx, "plates", "", "", "", 1000)
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	for _, o := range p.Objects {
		listed[o.Key] = true
	}
	for _, k := range keys {
		if !listed[k] {
			t.Errorf("%q is not in the listing", k)
		}
		o, err := c.Get(ctx, "plates", k, "", 0, "")
		if err != nil {
			t.Errorf("getting %q: %v", k, err)
			continue
		}
		b, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil || string(b) != k {
			t.Errorf("%q came back as %q, %v", k, b, err)
		}
		if st, out := curl(t, s, "GET", "/plates/"+sign.Escape(k, false), "-o", "/dev/null"); st != 200 && k != ".." &&
			k != "." {
			t.Errorf("curl gets %q: %d %s", k, st, out)
		}
		if err := c.Remove(ctx, "plates", k); err != nil {
			t.Errorf("removing %q: %v", k, err)
		}
	}
	_, err = c.Put(ctx, "plates", strings.Repeat("k", 1025), strings.NewReader(""), 0, client.Put{})
	if !fault.HasCode(err, "key-too-long") {
		t.Errorf("a key of 1,025 bytes: %v", err)
	}
	st, _, b := s.Do("PUT", "/plates/%ff%fe", nil, "", true)
	want(t, "invalid UTF-8", st, b, 400, "InvalidArgument", "0xff")
	if m, _ := filepath.Glob("/etc/passwd.*"); len(m) > 0 {
		t.Errorf("files beside /etc/passwd: %v", m)
	}
}

func b64(b []byte) string { return base64.StdEncoding.EncodeToString(b) }

// TestDigestsAreChecked sends every kind of digest, right and wrong.
func TestDigestsAreChecked(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	body := "Drosera rotundifolia"
	m, h := md5.Sum([]byte(body)), sha256.Sum256([]byte(body))
	s1 := digest.SHA1.New()
	s1.Write([]byte(body))
	sums := map[string]string{
		"Content-MD5":          b64(m[:]),
		"x-amz-checksum-crc32": b64(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(body)))),
		"x-amz-checksum-crc32c": b64(binary.BigEndian.AppendUint32(nil,
			crc32.Checksum([]byte(body), crc32.MakeTable(crc32.Castagnoli)))),
		"x-amz-checksum-crc64nvme": b64(binary.BigEndian.AppendUint64(nil, digest.CRC64([]byte(body)))),
		"x-amz-checksum-sha1":      b64(s1.Sum(nil)),
		"x-amz-checksum-sha256":    b64(h[:]),
	}
	for name, sum := range sums {
		st, _, b := s.Do("PUT", "/plates/good", map[string]string{name: sum}, body, true)
		want(t, name, st, b, 200)
		if name != "Content-MD5" {
			_, hd, _ := s.Do("HEAD", "/plates/good", map[string]string{"x-amz-checksum-mode": "ENABLED"}, "", true)
			if hd.Get(name) != sum {
				t.Errorf("%s comes back as %q, want %q", name, hd.Get(name), sum)
			}
		}
		raw, _ := base64.StdEncoding.DecodeString(sum)
		raw[0] ^= 1
		st, _, b = s.Do("PUT", "/plates/bad", map[string]string{name: b64(raw)}, body, true)
		want(t, name+" wrong", st, b, 400, "BadDigest")
		st, _, b = s.Do("PUT", "/plates/bad", map[string]string{name: "nonsense"}, body, true)
		want(t, name+" malformed", st, b, 400)
		st, _, _ = s.Do("GET", "/plates/bad", nil, "", true)
		want(t, name+" wrong: nothing visible", st, "", 404)
	}
	st, b := curl(t, s, "PUT", "/plates/bad", "-H", "x-amz-content-sha256: "+hexSum("something else"), "--data-binary",
		body)
	want(t, "wrong SHA-256 of the payload", st, b, 400, "XAmzContentSHA256Mismatch")
}

// TestChunkedBodies sends the three kinds of chunked bodies, whole and spoilt.
func TestChunkedBodies(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	body := bytes.Repeat([]byte("sheet "), 100_000)
	right := b64(binary.BigEndian.AppendUint64(nil, digest.CRC64(body)))
	for _, kind := range []string{sign.StreamSigned, sign.StreamSignedTrailer, sign.StreamUnsignedTrailer} {
		for _, c := range []struct {
			name, trailer, secret string
			declared              int
			spoil                 bool
			status                int
			code                  string
		}{
			{"right", right, harness.Secret, len(body), false, 200, ""},
			{"wrong trailer", b64(make([]byte, 8)), harness.Secret, len(body), false, 400, "BadDigest"},
			{"wrong secret", right, "not-the-secret", len(body), false, 403, "SignatureDoesNotMatch"},
			{"wrong length", right, harness.Secret, len(body) + 1, false, 400, "IncompleteBody"},
			{"changed on the way", right, harness.Secret, len(body), true, 0, ""},
		} {
			if kind == sign.StreamSigned && c.name == "wrong trailer" {
				continue
			}
			r, err := http.NewRequest("PUT", s.WireURL+"/plates/k", nil)
			if err != nil {
				t.Fatal(err)
			}
			r.Header.Set("X-Amz-Decoded-Content-Length", fmt.Sprint(c.declared))
			r.Header.Set("Content-Encoding", "aws-chunked")
			if kind != sign.StreamSigned {
				r.Header.Set("X-Amz-Trailer", "x-amz-checksum-crc64nvme")
			}
			a := sign.Sign(r, sign.Credential{ID: harness.Key, Secret: c.secret}, "fenn", kind, time.Now())
			enc, err := io.ReadAll(sign.NewEncoder(a, bytes.NewReader(body),
				func() (string, string) { return "x-amz-checksum-crc64nvme", c.trailer }))
			if err != nil {
				t.Fatal(err)
			}
			if c.spoil {
				enc[len(enc)/2] ^= 1
			}
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(enc)), int64(len(enc))
			resp, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Fatal(err)
			}
			out, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if c.spoil {
				if resp.StatusCode < 400 {
					t.Errorf("%s, %s: accepted", kind, c.name)
				}
				continue
			}
			want(t, kind+", "+c.name, resp.StatusCode, string(out), c.status, c.code)
			if c.status == 200 {
				_, h, got := s.Do("GET", "/plates/k", nil, "", true)
				if got != string(body) || h.Get("Content-Encoding") != "" {
					t.Errorf("%s came back as %d bytes, encoding %q", kind, len(got), h.Get("Content-Encoding"))
				}
			}
		}
	}
}

func TestWhoMayAsk(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.StrictRegion = true })
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "a b/c", strings.NewReader("linked"), 6, client.Put{}); err != nil {
		t.Fatal(err)
	}
	st, _, b := s.Do("GET", "/plates/a%20b/c", nil, "", false)
	want(t, "unsigned", st, b, 403, "AccessDenied")
	try := func(what string, change func(*client.Client), code string) {
		t.Helper()
		k := *c
		change(&k)
		if _, err := k.List(t.Context(), "plates", "", "", "", 1); !fault.HasCode(err, code) {
			t.Errorf("%s: %v, want code %q", what, err, code)
		}
	}
	try("unknown key", func(k *client.Client) { k.Key.ID = "NOBODY" }, "key-unknown")
	try("wrong secret", func(k *client.Client) { k.Key.Secret = "guessed-secret" }, "signature-mismatch")
	try("clock 16 minutes off",
		func(k *client.Client) { k.Now = func() time.Time { return time.Now().Add(16 * time.Minute) } }, "clock-skew")
	try("other region", func(k *client.Client) { k.Region = "elsewhere" }, "region")

	link := c.Presign("GET", "plates", "a b/c", time.Minute)
	get := func(link string, header ...string) (int, string) {
		r, err := http.NewRequest("GET", link, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		out, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(out) + resp.Header.Get("Access-Control-Allow-Origin")
	}
	st, b = get(link, "Origin", "http://console.example")
	want(t, "presigned link from a page", st, b, 200, "linked", "http://console.example")
	st, b = get(strings.Replace(link, "a%20b", "a%20x", 1))
	want(t, "link of another key", st, b, 403, "SignatureDoesNotMatch")
	old := *c
	old.Now = func() time.Time { return time.Now().Add(-2 * time.Minute) }
	st, b = get(old.Presign("GET", "plates", "a b/c", time.Minute))
	want(t, "expired link", st, b, 403, "AccessDenied", "expired")

	u, err := url.Parse(s.WireURL)
	if err != nil {
		t.Fatal(err)
	}
	host := *c
	host.Base, host.HostStyle = &url.URL{Scheme: "http", Host: "localhost:" + u.Port()}, true
	p, err := host.List(t.Context(), "plates", "", "", "", 10)
	if err != nil || len(p.Objects) != 1 {
		t.Errorf("host style: %v, %v", p, err)
	}
	st, _, b = s.Do("OPTIONS", "/plates/x", map[string]string{"Origin": "http://console.example",
		"Access-Control-Request-Method": "PUT", "Access-Control-Request-Headers": "content-type"}, "", false)
	want(t, "preflight", st, b, 200)
}

func TestProbesAndTheUnsupported(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	s.Do("PUT", "/plates/k", nil, "x", true)
	for _, c := range []struct {
		method, path string
		header       string
		status       int
		part         string
	}{
		{"GET", "/plates?versioning=", "", 200, "<VersioningConfiguration"},
		{"GET", "/plates?lifecycle=", "", 404, "NoSuchLifecycleConfiguration"},
		{"GET", "/plates?policy=", "", 404, "NoSuchBucketPolicy"},
		{"GET", "/plates?cors=", "", 404, "NoSuchCORSConfiguration"}, {"GET", "/plates?acl=", "", 200, "FULL_CONTROL"},
		{"GET", "/plates?encryption=", "", 404, "ServerSideEncryptionConfigurationNotFoundError"},
		{"GET", "/plates?uploads=", "", 200, "ListMultipartUploadsResult"},
		{"GET", "/plates?tagging=", "", 404, "NoSuchTagSet"}, {"GET", "/plates/k?tagging=", "", 200, "<TagSet>"},
		{"GET", "/nowhere?versioning=", "", 404, "NoSuchBucket"},
		{"PUT", "/plates?versioning=", "", 400, "MalformedXML"}, {"PUT", "/plates?replication=", "", 400, "MalformedXML"},
		{"GET", "/plates?inventory=", "", 501, "NotImplemented"},
		{"PUT", "/plates/k?partNumber=1&uploadId=x", "", 404, "NoSuchUpload"},
		{"PUT", "/plates/k?partNumber=1", "", 501, "NotImplemented"}, {"POST", "/plates", "", 405, "MethodNotAllowed"},
		{"PATCH", "/plates/k", "", 405, "MethodNotAllowed"}, {"GET", "/plates/k?versionId=abc", "", 400, "InvalidArgument"},
		{"GET", "/plates/k?versionId=00000001", "", 404, "NoSuchVersion"}, {"GET", "/plates/k?versionId=null", "", 200, "x"},
		{"PUT", "/plates/k", "x-amz-tagging: a=b&a=c", 400, "InvalidTag"},
		{"PUT", "/plates/k", "x-amz-storage-class: COLD", 400, "InvalidStorageClass"},
		{"PUT", "/plates/k", "x-amz-server-side-encryption: aws:kms", 501, "NotImplemented"},
		{"PUT", "/plates/k", "x-amz-server-side-encryption: ROT13", 400, "InvalidArgument"},
		{"PUT", "/plates/k", "x-amz-server-side-encryption-customer-algorithm: AES256", 501, "NotImplemented"},
		{"PUT", "/plates/k", "x-amz-acl: public-read", 501, "NotImplemented"},
		{"PUT", "/PLATES", "", 400, "InvalidBucketName"},
		{"GET", "/plates?list-type=2&continuation-token=%21", "", 400, "InvalidArgument"},
		{"GET", "/plates?max-keys=-1", "", 400, "InvalidArgument"},
	} {
		h := map[string]string{}
		if name, value, ok := strings.Cut(c.header, ": "); ok {
			h[name] = value
		}
		st, _, b := s.Do(c.method, c.path, h, "", true)
		want(t, c.method+" "+c.path+" "+c.header, st, b, c.status, c.part)
	}
}

func TestHostileRequests(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.SlowAfter = time.Second })
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	st, _, b := s.Do("PUT", "/plates/k", map[string]string{"x-amz-meta-a": strings.Repeat("x", 2048)}, "x", true)
	want(t, "metadata over 2 KiB", st, b, 400, "MetadataTooLarge", "1 over")
	st, _, b = s.Do("PUT", "/plates/k", map[string]string{"x-filler": strings.Repeat("x", 10_000)}, "x", true)
	want(t, "10,000 bytes of header", st, b, 400, "RequestHeaderSectionTooLarge")
	st, _, b = s.Do("POST", "/plates?delete=", nil, strings.Repeat("<a>", 2000), true)
	want(t, "a deep document", st, b, 400, "MalformedXML", "has no element a")
	st, _, b = s.Do("POST", "/plates?delete=", nil, "<Delete>"+strings.Repeat("<Object><Key>k</Key></Object>",
		1001)+"</Delete>", true)
	want(t, "1,001 keys to remove", st, b, 400, "MalformedXML")
	st, _, b = s.Do("POST", "/plates?delete=", nil, `<!DOCTYPE x [<!ENTITY a "b">]><Delete/>`, true)
	want(t, "a type declaration", st, b, 400, "MalformedXML")
	st, _, b = s.Do("PUT", "/other", nil, strings.Repeat("x", 70_000), true)
	want(t, "a large document", st, b, 400, "MaxMessageLengthExceeded")

	// By hand: bodies that break off, stall, drip, and headers that never end.
	raw := func(length int) (net.Conn, string) {
		r, err := http.NewRequest("PUT", s.WireURL+"/plates/broken", nil)
		if err != nil {
			t.Fatal(err)
		}
		sign.Sign(r, sign.Credential{ID: harness.Key, Secret: harness.Secret}, "fenn", sign.Unsigned, time.Now())
		conn, err := net.Dial("tcp", r.URL.Host)
		if err != nil {
			t.Fatal(err)
		}
		var head strings.Builder
		fmt.Fprintf(&head, "PUT /plates/broken HTTP/1.1\r\nHost: %s\r\nContent-Length: %d\r\n", r.URL.Host, length)
		for k := range r.Header {
			fmt.Fprintf(&head, "%s: %s\r\n", k, r.Header.Get(k))
		}
		return conn, head.String() + "\r\n"
	}
	conn, head := raw(1000)
	fmt.Fprint(conn, head, "only this")
	conn.(*net.TCPConn).CloseWrite()
	out, _ := io.ReadAll(conn)
	want(t, "a body that breaks off", 0, string(out), 0, "IncompleteBody")
	conn.Close()

	conn, head = raw(1000)
	fmt.Fprint(conn, head, "silence follows")
	start := time.Now()
	conn.SetReadDeadline(start.Add(20 * time.Second))
	out, _ = io.ReadAll(conn)
	want(t, "a body that stalls", 0, string(out), 0, "RequestTimeout")
	conn.Close()

	conn, head = raw(1_000_000)
	fmt.Fprint(conn, head)
	go func() {
		for range 100 {
			if _, err := conn.Write([]byte("x")); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	conn.SetReadDeadline(time.Now().Add(20 * time.Second))
	out, _ = io.ReadAll(conn)
	want(t, "a body that drips", 0, string(out), 0, "RequestTimeout")
	conn.Close()

	conn, _ = raw(0)
	fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ")
	conn.SetReadDeadline(time.Now().Add(20 * time.Second))
	if _, err := io.ReadAll(conn); err != nil && !errors.Is(err, syscall.ECONNRESET) {
		t.Errorf("a header that never ends keeps its connection: %v", err)
	}
	conn.Close()

	p, err := c.List(t.Context(), "plates", "", "", "", 10)
	if err != nil || len(p.Objects) != 0 {
		t.Errorf("visible after all that: %v, %v", p, err)
	}
	if _, err := c.Put(t.Context(), "plates", "k", strings.NewReader("fine"), 4, client.Put{}); err != nil {
		t.Errorf("the service after all that: %v", err)
	}
}

// TestCheckNamesTheFieldAtFault gives the check wrong settings of every kind.
func TestCheckNamesTheFieldAtFault(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.StrictRegion = true })
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	dead, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := "http://" + dead.Addr().String()
	dead.Close()
	good := client.Settings{Address: s.WireURL, Style: "path", Region: "fenn",
		Key: sign.Credential{ID: harness.Key, Secret: harness.Secret}, Bucket: "plates", Write: true}
	for _, c := range []struct {
		name   string
		change func(*client.Settings)
		field  string
		says   string
	}{
		{"all right", func(*client.Settings) {}, "", ""},
		{"no address", func(s *client.Settings) { s.Address = "plates" }, "address", "no address"},
		{"unknown name", func(s *client.Settings) { s.Address = "http://no-such-host.invalid:5710" }, "address", "not known"},
		{"nobody there", func(s *client.Settings) { s.Address = nobody }, "port", "nothing listens"},
		{"the console's port",
			func(x *client.Settings) { x.Address = s.DeskURL }, "port", "it is the console's port; the wire is on"},
		{"TLS where there is none",
			func(s *client.Settings) { s.Address = strings.Replace(s.Address, "http:", "https:", 1) }, "protocol", "plain HTTP"},
		{"other region", func(s *client.Settings) { s.Region = "lowland" }, "region", "its region is fenn"},
		{"unknown key", func(s *client.Settings) { s.Key.ID = "NOBODY" }, "key", "no key"},
		{"wrong secret", func(s *client.Settings) { s.Key.Secret = "guessed-it" }, "key", "secret"},
		{"no such bucket", func(s *client.Settings) { s.Bucket = "nowhere" }, "bucket", "no bucket"},
	} {
		set := good
		c.change(&set)
		r := client.Check(t.Context(), set)
		wrong, seen := "", ""
		for _, f := range r.Findings {
			if f.Result == endpoint.Wrong {
				wrong, seen = f.Field, f.Seen
				break
			}
		}
		if wrong != c.field || !strings.Contains(seen, c.says) || r.Good != (c.field == "") {
			t.Errorf("%s: field %q at fault (%s), want %q (%s)", c.name, wrong, seen, c.field, c.says)
		}
	}
}
