package server_test

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// raw sends bytes to the wire and gives what comes back, as it comes.
func raw(t *testing.T, s *harness.Running, request string) string {
	t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(s.WireURL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(10 * time.Second)); err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(c, request); err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(c)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// link makes a presigned address, and gives what stands after the host.
func link(t *testing.T, s *harness.Running, method, address string, at time.Time) string {
	t.Helper()
	u, err := url.Parse(s.WireURL + address)
	if err != nil {
		t.Fatal(err)
	}
	return sign.Presign(method, u, sign.Credential{ID: harness.Key, Secret: harness.Secret}, "fenn", time.Minute, at).
		RequestURI()
}

// TestHeadersAreSpelledAsTheDialectHasThem compares bytes on the socket.
func TestHeadersAreSpelledAsTheDialectHasThem(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates?versioning", nil, "<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>",
		true)
	s.Do("PUT", "/plates/k", map[string]string{"x-amz-meta-sheet": "4", "x-amz-tagging": "a=b"}, "lichen", true)
	for _, c := range []struct{ method, address, body, header string }{
		{"PUT", "/plates/other", "moss", "ETag: \""},
		{"PUT", "/plates/other", "moss", "x-amz-checksum-crc64nvme: "},
		{"PUT", "/plates/other", "moss", "x-amz-version-id: "},
		{"GET", "/plates/k", "", "ETag: \""},
		{"GET", "/plates/k", "", "x-amz-meta-sheet: 4"},
		{"GET", "/plates/k", "", "x-amz-tagging-count: 1"},
		{"HEAD", "/plates/k", "", "ETag: \""},
		{"HEAD", "/plates", "", "x-amz-bucket-region: fenn"},
		{"GET", "/plates/none", "", "x-amz-request-id: "},
		{"GET", "/plates/none", "", "x-amz-id-2: "},
	} {
		got := raw(t, s, fmt.Sprintf("%s %s HTTP/1.1\r\nHost: %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
			c.method, link(t, s, c.method, c.address, time.Now()), strings.TrimPrefix(s.WireURL, "http://"), len(c.body),
			c.body))
		head, _, _ := strings.Cut(got, "\r\n\r\n")
		if !strings.Contains(head, "\r\n"+c.header) || strings.Contains(head, "Etag") || strings.Contains(head, "X-Amz") {
			t.Errorf("%s %s: %q is not in\n%s", c.method, c.address, c.header, head)
		}
	}
}

// TestResumedDownloadsKeepToOneVersion asks for ranges of what was seen before.
func TestResumedDownloadsKeepToOneVersion(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	_, h, _ := s.Do("PUT", "/plates/k", nil, "first version", true)
	first := h.Get("ETag")
	_, h, _ = s.Do("HEAD", "/plates/k", nil, "", true)
	date := h.Get("Last-Modified")
	for still, want := range map[string]int{first: 206, "W/" + first: 200, `"0"`: 200, date: 206,
		"Thu, 01 Jan 2026 00:00:00 GMT": 200, "nonsense": 200} {
		if st, _, body := s.Do("GET", "/plates/k", map[string]string{"Range": "bytes=6-", "If-Range": still}, "",
			true); st != want || want == 200 && body != "first version" {
			t.Errorf("If-Range %s: %d %q, want %d", still, st, body, want)
		}
	}
	s.Do("PUT", "/plates/k", nil, "the second version", true)
	if st, _, body := s.Do("GET", "/plates/k", map[string]string{"Range": "bytes=6-", "If-Range": first}, "",
		true); st != 200 || body != "the second version" {
		t.Errorf("after a change: %d %q", st, body)
	}
	// A range beyond the end of what is there now is of something else too.
	if st, _, _ := s.Do("GET", "/plates/k", map[string]string{"Range": "bytes=900-", "If-Range": first}, "",
		true); st != 200 {
		t.Errorf("beyond the end: %d", st)
	}
}

// TestHeadersInALinkCount has the signer put the dialect's headers into the query.
func TestHeadersInALinkCount(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/from", nil, "lichen", true)
	ask := func(method, address, body string, header map[string]string) (int, string) {
		st, _, answer := s.Do(method, link(t, s, method, address, time.Now()), header, body, false)
		return st, answer
	}
	if st, b := ask("PUT", "/plates/k?x-amz-meta-Sheet=4&X-Amz-Tagging=a%3Db", "moss", nil); st != 200 {
		t.Fatalf("put: %d %s", st, b)
	}
	_, h, _ := s.Do("HEAD", "/plates/k", nil, "", true)
	if h.Get("x-amz-meta-sheet") != "4" || h.Get("x-amz-tagging-count") != "1" {
		t.Errorf("what the link said is not there: %v", h)
	}
	if st, b := ask("PUT", "/plates/copy?x-amz-copy-source=%2Fplates%2Ffrom", "", nil); st != 200 ||
		!strings.Contains(b, "CopyObjectResult") {
		t.Errorf("copy: %d %s", st, b)
	}
	if _, _, b := s.Do("GET", "/plates/copy", nil, "", true); b != "lichen" {
		t.Errorf("the copy holds %q", b)
	}
	for address, want := range map[string]string{
		"/plates/n?x-amz-checksum-crc32=AAAAAA%3D%3D":             "BadDigest", // of nothing
		"/plates/n?x-amz-storage-class=FROZEN":                    "InvalidStorageClass",
		"/plates/n?x-amz-server-side-encryption=unheard":          "InvalidArgument",
		"/plates/n?x-amz-acl=public-read":                         "NotImplemented",
		"/plates/n?x-amz-object-lock-mode=GOVERNANCE":             "NotImplemented",
		"/plates/n?x-amz-meta-a=one%0D%0Atwo":                     "InvalidArgument",
		"/plates/n?x-amz-meta-a=1&X-Amz-Meta-A=2":                 "InvalidRequest",
		"/plates/n?X-Amz-Security-Token=temporary":                "InvalidToken",
		"/plates/n?x-amz-copy-source=%2Fplates%2Fmissing":         "NoSuchKey",
		"/plates/n?X-Amz-Content-Sha256=" + sign.EmptyHash:        "SignatureDoesNotMatch", // Presign signs an open body
		"/plates/n?x-amz-meta-long=" + strings.Repeat("a", 3<<10): "MetadataTooLarge",
	} {
		if _, b := ask("PUT", address, "moss", nil); !strings.Contains(b, "<Code>"+want+"<") {
			t.Errorf("%s: %s, want %s", address, b, want)
		}
	}
	if st, _, _ := s.Do("HEAD", "/plates/n", nil, "", true); st != 404 {
		t.Error("something was written all the same")
	}
}

// TestUnreadableRequestsGetADocument sends what net/http refuses by itself.
func TestUnreadableRequestsGetADocument(t *testing.T) {
	s := harness.Service(t, nil)
	for request, want := range map[string]string{
		"GET /plates/%zz HTTP/1.1\r\nHost: x\r\n\r\n":                                  "BadRequest",
		"GET /plates\r\nHost: x\r\n\r\n":                                               "BadRequest",
		"GET / HTTP/1.1\r\n\r\n":                                                       "BadRequest",
		"GET / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: oiled\r\n\r\n":                "NotImplemented",
		"GET / HTTP/1.1\r\nHost: x\r\nA: " + strings.Repeat("a", 100<<10) + "\r\n\r\n": "RequestHeaderSectionTooLarge",
		"GET / HTTP/3.7\r\nHost: x\r\n\r\n":                                            "BadRequest",
	} {
		resp, err := http.ReadResponse(bufio.NewReader(strings.NewReader(raw(t, s, request))), nil)
		if err != nil {
			t.Errorf("%.40q: %v", request, err)
			continue
		}
		b, _ := io.ReadAll(resp.Body) // compared below
		if resp.Header.Get("Content-Type") != "application/xml" || !strings.Contains(string(b), "<Code>"+want+"<") ||
			!strings.Contains(string(b), "<RequestId>"+resp.Header.Get("x-amz-request-id")+"<") {
			t.Errorf("%.40q: %s %s", request, resp.Header.Get("Content-Type"), b)
		}
	}
}

// TestErrorsSayWhatWasSigned looks for what is needed to find a wrong signature.
func TestErrorsSayWhatWasSigned(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	_, _, b := s.As(sign.Credential{ID: harness.Key, Secret: "wrong"}, "GET", "/plates/k?partNumber=1",
		map[string]string{"x-amz-checksum-mode": "ENABLED"}, "")
	b = html.UnescapeString(b)
	for _, want := range []string{"<CanonicalRequest>GET\n/plates/k\npartNumber=1\nhost:", "x-amz-checksum-mode:ENABLED\n",
		"<StringToSign>AWS4-HMAC-SHA256\n",
		"<StringToSignBytes>41 57 53", "<SignatureProvided>", "<AWSAccessKeyId>" + harness.Key, "<HostId>"} {
		if !strings.Contains(b, want) {
			t.Errorf("%q is not in %s", want, b)
		}
	}
	if strings.Contains(b, harness.Secret) {
		t.Error("the answer has the secret")
	}
	st, _, b := s.Do("GET", link(t, s, "GET", "/plates/k", time.Now().Add(-time.Hour)), nil, "", false)
	if st != 403 || !strings.Contains(b, "<X-Amz-Expires>60<") || !strings.Contains(b, "<Expires>") ||
		!strings.Contains(b, "<ServerTime>") {
		t.Errorf("an old link: %d %s", st, b)
	}
	if st, _, b := s.Do("GET", "/plates/k", map[string]string{"x-amz-security-token": "temporary"}, "", true); st != 400 ||
		!strings.Contains(b, "<Code>InvalidToken<") {
		t.Errorf("a temporary key: %d %s", st, b)
	}
}

// TestAskingAmissIsSaid asks for what the dialect does not have.
func TestAskingAmissIsSaid(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/k", nil, "lichen", true)
	removal := "<Delete><Object><Key>k</Key></Object></Delete>"
	for _, c := range []struct {
		method, address string
		header          map[string]string
		body            string
		status          int
		code            string
	}{
		{"GET", "/plates?list-type=3", nil, "", 400, "InvalidArgument"},
		{"GET", "/plates?list-type=", nil, "", 400, "InvalidArgument"},
		{"GET", "/plates?list-type=2&continuation-token=", nil, "", 400, "InvalidArgument"},
		{"GET", "/plates?max-keys=2147483648", nil, "", 400, "InvalidArgument"},
		{"PUT", "/xn--plates", nil, "", 400, "InvalidBucketName"},
		{"POST", "/plates?delete", map[string]string{"Content-MD5": "nonsense"}, removal, 400, "InvalidDigest"},
		{"POST", "/plates?delete", map[string]string{"Content-MD5": "AAAAAAAAAAAAAAAAAAAAAA=="}, removal, 400, "BadDigest"},
		{"PATCH", "/plates/k", nil, "", 405, "MethodNotAllowed"},
		{"POST", "/plates/k", nil, "", 405, "MethodNotAllowed"},
		{"POST", "/plates", nil, "", 405, "MethodNotAllowed"},
		{"DELETE", "/", nil, "", 405, "MethodNotAllowed"},
		{"DELETE", "/plates?versioning", nil, "", 405, "MethodNotAllowed"},
		{"PUT", "/plates?replication", nil, "", 400, "MalformedXML"},
		{"POST", "/plates", map[string]string{"Content-Type": "multipart/form-data; boundary=a"}, "", 501, "NotImplemented"},
		{"PUT", "/plates?unheard", nil, "", 501, "NotImplemented"},
	} {
		st, h, b := s.Do(c.method, c.address, c.header, c.body, true)
		if st != c.status || !strings.Contains(b, "<Code>"+c.code+"<") || st == 405 && h.Get("Allow") == "" {
			t.Errorf("%s %s: %d %s %s, want %d %s", c.method, c.address, st, h.Get("Allow"), b, c.status, c.code)
		}
	}
	if st, _, _ := s.Do("HEAD", "/plates/k", nil, "", true); st != 200 {
		t.Error("the object was removed with a digest that is none")
	}
}
