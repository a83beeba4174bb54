package sign

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"spindle/internal/core/fault"
)

var (
	cred = Credential{ID: "FIELDKIT", Secret: "wool/and+flax"}
	at   = time.Date(2026, 3, 14, 14, 2, 7, 0, time.UTC)
)

// arrive turns a client's request into what a server sees.
func arrive(t *testing.T, r *http.Request) *http.Request {
	t.Helper()
	in := httptest.NewRequest(r.Method, r.URL.String(), r.Body)
	in.Host = r.URL.Host
	in.Header = r.Header.Clone()
	in.ContentLength = r.ContentLength
	return in
}

func TestSignedRequestsVerifyAndTamperedOnesDoNot(t *testing.T) {
	make := func() *http.Request {
		r, err := http.NewRequest("PUT", "http://127.0.0.1:5710/plates/a%20b/%2E%2E/%C3%A4+?b=2&a=1%2F&empty",
			strings.NewReader("x"))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("X-Amz-Meta-Taxon", "  Calluna   vulgaris ")
		Sign(r, cred, "fenn", Unsigned, at)
		return arrive(t, r)
	}
	for _, c := range []struct {
		name   string
		change func(*http.Request)
		now    time.Time
		secret string
		code   string
	}{
		{"as sent", func(*http.Request) {}, at, cred.Secret, ""},
		{"14 minutes late", func(*http.Request) {}, at.Add(14 * time.Minute), cred.Secret, ""},
		{"16 minutes late", func(*http.Request) {}, at.Add(16 * time.Minute), cred.Secret, "clock-skew"},
		{"16 minutes early", func(*http.Request) {}, at.Add(-16 * time.Minute), cred.Secret, "clock-skew"},
		{"other secret", func(*http.Request) {}, at, "wool", "signature-mismatch"},
		{"other method", func(r *http.Request) { r.Method = "DELETE" }, at, cred.Secret, "signature-mismatch"},
		{"other path", func(r *http.Request) { r.URL.Path += "x" }, at, cred.Secret, "signature-mismatch"},
		{"other query", func(r *http.Request) { r.URL.RawQuery += "&c=3" }, at, cred.Secret, "signature-mismatch"},
		{"other metadata", func(r *http.Request) { r.Header.Set("X-Amz-Meta-Taxon", "Erica") }, at, cred.Secret,
			"signature-mismatch"},
		{"header slipped in",
			func(r *http.Request) { r.Header.Set("X-Amz-Acl", "open") }, at, cred.Secret, "header-unsigned"},
		{"other host", func(r *http.Request) { r.Host = "other" }, at, cred.Secret, "signature-mismatch"},
	} {
		r := make()
		c.change(r)
		a, err := Parse(r)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if err := a.Verify(r, c.secret, c.now); code(err) != c.code {
			t.Errorf("%s: %v, want code %q", c.name, err, c.code)
		}
	}
}

func code(err error) string {
	if err == nil {
		return ""
	}
	return fault.From(err).Code
}

func TestPresignedLinks(t *testing.T) {
	u, err := url.Parse("http://127.0.0.1:5710/plates/" + Escape("a b/ä?&.tif", false))
	if err != nil {
		t.Fatal(err)
	}
	link := Presign("GET", u, cred, "fenn", time.Hour, at)
	for _, c := range []struct {
		name, link, method string
		now                time.Time
		code               string
	}{
		{"in time", link.String(), "GET", at.Add(59 * time.Minute), ""},
		{"expired", link.String(), "GET", at.Add(61 * time.Minute), "link-expired"},
		{"too early", link.String(), "GET", at.Add(-16 * time.Minute), "link-expired"},
		{"for another method", link.String(), "PUT", at, "signature-mismatch"},
		{"made longer", strings.Replace(link.String(), "Expires=3600", "Expires=7200", 1), "GET", at, "signature-mismatch"},
	} {
		r := httptest.NewRequest(c.method, c.link, nil)
		a, err := Parse(r)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if err := a.Verify(r, cred.Secret, c.now); code(err) != c.code {
			t.Errorf("%s: %v, want code %q", c.name, err, c.code)
		}
	}
	for _, bad := range []string{"X-Amz-Expires=0", "X-Amz-Expires=604801", "X-Amz-Expires=x"} {
		r := httptest.NewRequest("GET", strings.Replace(link.String(), "X-Amz-Expires=3600", bad, 1), nil)
		if _, err := Parse(r); code(err) != "auth-query" {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

func TestMalformedAuthorizations(t *testing.T) {
	for _, h := range []string{"Basic eA==", algorithm, algorithm + " Credential=x", algorithm +
		" Credential=a/b/c/d/e, SignedHeaders=host, Signature=00",
		algorithm + " Credential=K/20260314/fenn/ec2/aws4_request, SignedHeaders=host, Signature=" + strings.Repeat("0", 64),
		algorithm + " Credential=K/20260313/fenn/s3/aws4_request, SignedHeaders=host, Signature=" + strings.Repeat("0", 64),
		algorithm + " Credential=K/20260314/fenn/s3/aws4_request, SignedHeaders=x-amz-date, Signature=" +
			strings.Repeat("0", 64)} {
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("Authorization", h)
		r.Header.Set(HeaderDate, at.Format(timeFormat))
		if _, err := Parse(r); code(err) != "auth-malformed" {
			t.Errorf("%q: %v", h, err)
		}
	}
}

func TestBodiesInChunks(t *testing.T) {
	for _, kind := range []string{StreamSigned, StreamSignedTrailer, StreamUnsignedTrailer} {
		for _, n := range []int{0, 1, 100, chunkSize - 1, chunkSize, chunkSize + 1, 2 * chunkSize, 5*chunkSize + 77} {
			r := httptest.NewRequest("PUT", "/plates/x", nil)
			a := Sign(r, cred, "fenn", kind, at)
			body := bytes.Repeat([]byte{7, 8, 9}, n/3+1)[:n]
			trailer := func() (string, string) { return "x-amz-checksum-crc64nvme", "AAAAAAAAAAA=" }
			enc, err := io.ReadAll(iotest.OneByteReader(NewEncoder(a, bytes.NewReader(body), trailer)))
			if n > 1000 {
				enc, err = io.ReadAll(NewEncoder(a, bytes.NewReader(body), trailer))
			}
			if err != nil {
				t.Fatal(err)
			}
			if got := EncodedLength(kind, int64(n), "x-amz-checksum-crc64nvme", 12); got != int64(len(enc)) {
				t.Errorf("%s of %d bytes: encoded length %d, foretold %d", kind, n, len(enc), got)
			}
			dec, err := NewReader(a, bytes.NewReader(enc))
			if err != nil {
				t.Fatal(err)
			}
			got, err := io.ReadAll(dec)
			if err != nil || !bytes.Equal(got, body) {
				t.Errorf("%s of %d bytes came back as %d, %v", kind, n, len(got), err)
			}
			if want := kind != StreamSigned; (dec.Trailer.Get("x-amz-checksum-crc64nvme") != "") != want {
				t.Errorf("%s: trailer %v", kind, dec.Trailer)
			}
			if n == 0 {
				continue
			}
			for _, spoil := range []func([]byte) []byte{
				func(b []byte) []byte { return b[:len(b)-30] },
				func(b []byte) []byte { c := bytes.Clone(b); c[bytes.IndexByte(c, '\n')+1] ^= 1; return c },
				func(b []byte) []byte { return append([]byte("zz"), b...) },
			} {
				spoilt := spoil(enc)
				if kind == StreamUnsignedTrailer && len(spoilt) == len(enc) {
					continue // unsigned chunks: the trailer's digest finds it
				}
				dec, _ := NewReader(a, bytes.NewReader(spoilt))
				if _, err := io.ReadAll(dec); err == nil {
					t.Errorf("%s of %d bytes: a spoilt body was accepted", kind, n)
				}
			}
		}
	}
}
