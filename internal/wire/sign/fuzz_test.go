package sign

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
)

// FuzzReader decodes whatever arrives as a body in chunks: it must end, and
// give nothing that was not there.
func FuzzReader(f *testing.F) {
	r := httptest.NewRequest("PUT", "/plates/x", nil)
	a := Sign(r, cred, "fenn", StreamUnsignedTrailer, at)
	good, err := io.ReadAll(NewEncoder(a, strings.NewReader("hello"),
		func() (string, string) { return "x-amz-checksum-crc32", "AAAAAA==" }))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte("0\r\n\r\n"))
	f.Add([]byte("ffffffffffffffff\r\n"))
	f.Add([]byte("-5\r\nhello\r\n0\r\n\r\n"))
	f.Add([]byte("5;chunk-signature=\r\nhello\r\n0\r\n" + strings.Repeat("a:b\r\n", 40) + "\r\n"))
	f.Add([]byte(strings.Repeat("x", 5000)))
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, kind := range []string{StreamUnsignedTrailer, StreamSigned, StreamSignedTrailer} {
			b := *a
			b.Payload = kind
			dec, err := NewReader(&b, bytes.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			got, _ := io.ReadAll(dec)
			if len(got) > len(body) {
				t.Fatalf("%d bytes came out of %d", len(got), len(body))
			}
		}
	})
}

// TestMutatedBodiesAreNeverTakenForWhole changes one byte of a signed body at
// every place in turn.
func TestMutatedBodiesAreNeverTakenForWhole(t *testing.T) {
	r := httptest.NewRequest("PUT", "/plates/x", nil)
	a := Sign(r, cred, "fenn", StreamSignedTrailer, at)
	body := "Calluna vulgaris, wet heath, 348 m"
	good, err := io.ReadAll(NewEncoder(a, strings.NewReader(body),
		func() (string, string) { return "x-amz-checksum-crc32", "AAAAAA==" }))
	if err != nil {
		t.Fatal(err)
	}
	rnd := rand.New(rand.NewPCG(1, 1))
	for i := range good {
		bad := bytes.Clone(good)
		bad[i] ^= byte(1 << rnd.IntN(8))
		dec, err := NewReader(a, bytes.NewReader(bad))
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(dec)
		if err == nil && (string(got) != body || dec.Trailer.Get("x-amz-checksum-crc32") != "AAAAAA==") {
			t.Errorf("byte %d changed (%q): accepted as %q, %v", i, bad[max(0, i-5):min(len(bad), i+5)], got, dec.Trailer)
		}
	}
}

// FuzzParse reads authorizations of any form: it must not panic.
func FuzzParse(f *testing.F) {
	f.Add("AWS4-HMAC-SHA256 Credential=K/20260314/fenn/s3/aws4_request, SignedHeaders=host, Signature="+strings.Repeat("0",
		64), "X-Amz-Signature=x&X-Amz-Algorithm=y")
	f.Add("AWS4-HMAC-SHA256 Credential=////, SignedHeaders=;;, Signature=",
		"X-Amz-Algorithm=AWS4-HMAC-SHA256&X-Amz-Credential=a&X-Amz-Expires=1")
	f.Fuzz(func(t *testing.T, header, query string) {
		r := httptest.NewRequest("GET", "/plates/x", nil)
		r.Header.Set("Authorization", header)
		r.Header.Set(HeaderDate, at.Format(timeFormat))
		if a, err := Parse(r); err == nil && a != nil {
			if a.Verify(r, "secret", at) == nil {
				t.Errorf("%q verifies", header)
			}
		}
		q := httptest.NewRequest("GET", "/plates/x", nil)
		q.URL.RawQuery = query
		if a, err := Parse(q); err == nil && a != nil {
			if a.Verify(q, "secret", at) == nil {
				t.Errorf("%q verifies", query)
			}
		}
	})
}

// FuzzAuth reads whatever stands where a signature should, in header and query: it
// must not break, and never fit.
func FuzzAuth(f *testing.F) {
	good := httptest.NewRequest("GET", "/plates/k?versionId=null", nil)
	Sign(good, cred, "fenn", EmptyHash, at)
	f.Add(good.Header.Get("Authorization"), "versionId=null", "20260729T120000Z")
	f.Add("", "X-Amz-Algorithm=AWS4-HMAC-SHA256&X-Amz-Signature=", "")
	f.Add("AWS4-HMAC-SHA256 Credential=a/b/c/d/aws4_request", "a=b&a=c", "x")
	f.Add("AWS4-HMAC-SHA256 Credential=////aws4_request,SignedHeaders=;;,Signature="+strings.Repeat("0", 64), "%zz", "")
	f.Fuzz(func(t *testing.T, header, query, date string) {
		r := httptest.NewRequest("GET", "/plates/k", nil)
		r.URL.RawQuery = query
		r.Header["Authorization"], r.Header["X-Amz-Date"] = []string{header}, []string{date}
		_ = Once(r)
		for _, parse := range []func(*http.Request) (*Auth, error){Parse, ParseDesk} {
			a, err := parse(r)
			if err != nil || a == nil {
				continue
			}
			if a.Verify(r, "a secret that nobody has", a.Time) == nil {
				t.Errorf("%q %q fits", header, query)
			}
		}
	})
}

// FuzzQuery holds that how parameters are written changes nothing of their meaning:
// what is signed the same is read the same.
func FuzzQuery(f *testing.F) {
	f.Add("a=b&c=d", "c=d&a=b")
	f.Add("a=b+c", "a=b%20c")
	f.Add("a", "a=")
	f.Add("a=%41", "a=A")
	f.Add("a=1&a=2", "a=2&a=1")
	f.Fuzz(func(t *testing.T, one, other string) {
		if canonicalQuery(one, false) != canonicalQuery(other, false) {
			return
		}
		x, errx := url.ParseQuery(one)
		y, erry := url.ParseQuery(other)
		if errx != nil || erry != nil {
			return // the wire refuses it
		}
		r := httptest.NewRequest("GET", "/", nil)
		for _, q := range []string{one, other} {
			if r.URL.RawQuery = q; Once(r) != nil {
				return
			}
		}
		for name := range x {
			if x.Get(name) != y.Get(name) {
				t.Errorf("%q and %q are signed the same, and %s is %q and %q", one, other, name, x.Get(name), y.Get(name))
			}
		}
	})
}
