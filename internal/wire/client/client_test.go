package client_test

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/iotest"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// against gives a client of a service that answers as it is told.
func against(t *testing.T, h http.HandlerFunc) *client.Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := client.New(s.URL, "fenn", sign.Credential{ID: "K", Secret: "a-secret"})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func sum(b string) string {
	return base64.StdEncoding.EncodeToString(binary.BigEndian.AppendUint64(nil, digest.CRC64([]byte(b))))
}

// TestWrongAnswersAreNoticed puts a client before services that lie, break off
// or are something else.
func TestWrongAnswersAreNoticed(t *testing.T) {
	read := func(c *client.Client) error {
		o, err := c.Get(t.Context(), "plates", "k", "", 0, "")
		if err != nil {
			return err
		}
		defer o.Body.Close()
		_, err = io.ReadAll(o.Body)
		return err
	}
	put := func(c *client.Client) error {
		_, err := c.Put(t.Context(), "plates", "k", strings.NewReader("hello"), 5, client.Put{})
		return err
	}
	list := func(c *client.Client) error {
		_, err := c.List(t.Context(), "plates", "", "", "", 10)
		return err
	}
	for _, c := range []struct {
		name   string
		answer http.HandlerFunc
		do     func(*client.Client) error
		code   string
	}{
		{"right", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("x-amz-checksum-crc64nvme", sum("hello"))
			io.WriteString(w, "hello")
		}, read, ""},
		{"other bytes", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("x-amz-checksum-crc64nvme", sum("hello"))
			io.WriteString(w, "hellO")
		}, read, "digest-mismatch"},
		{"holds other bytes", func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			w.Header().Set("x-amz-checksum-crc64nvme", sum("hellO"))
		}, put, "digest-mismatch"},
		{"a page of something else",
			func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(502); io.WriteString(w, "<html>") }, list, "foreign"},
		{"no listing", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<html><p>") }, list, "foreign"},
		{"a key that cannot be decoded", func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, `<ListBucketResult><Contents><Key>%zz</Key></Contents></ListBucketResult>`)
		}, list, "foreign"},
		{"an error of the dialect", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(404)
			io.WriteString(w, `<Error><Code>NoSuchBucket</Code><Message>none. To mend it: make it</Message></Error>`)
		}, list, "bucket-missing"},
		{"an error that nobody knows", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(418)
			io.WriteString(w, `<Error><Code>Teapot</Code><Message>short and stout</Message></Error>`)
		}, list, "wire-error"},
		{"a refusal without words", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }, read, "refused"},
	} {
		err := c.do(against(t, c.answer))
		if c.code == "" && err != nil || c.code != "" && !fault.HasCode(err, c.code) {
			t.Errorf("%s: %v, want code %q", c.name, err, c.code)
		}
		if c.code == "bucket-missing" && fault.From(err).Remedy != "make it" {
			t.Errorf("%s: remedy %q", c.name, fault.From(err).Remedy)
		}
	}
	cut := against(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "10")
		io.WriteString(w, "half")
	})
	if err := read(cut); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("an answer that breaks off: %v", err)
	}
	nobody, err := client.New("http://127.0.0.1:1", "fenn", sign.Credential{})
	if err != nil {
		t.Fatal(err)
	}
	if err := list(nobody); !fault.HasCode(err, "unreachable") {
		t.Errorf("nobody there: %v", err)
	}
	for _, bad := range []string{"", "plates", "ftp://x", "http://", "http://%zz"} {
		if _, err := client.New(bad, "fenn", sign.Credential{}); !fault.HasCode(err, "address") {
			t.Errorf("address %q: %v", bad, err)
		}
	}
}

func TestASourceThatBreaksIsNotTheServicesFault(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) })
	broken := errors.New("the disk is gone")
	_, err := c.Put(t.Context(), "plates", "k", io.MultiReader(strings.NewReader("he"), iotest.ErrReader(broken)), 5,
		client.Put{})
	if !errors.Is(err, broken) {
		t.Errorf("got %v", err)
	}
	_, err = c.Put(t.Context(), "plates", "k", strings.NewReader("shorter"), 500, client.Put{})
	if err == nil {
		t.Error("a source that is shorter than said was put")
	}
}

// TestPagesOfAListing follows the tokens of a service to the end.
func TestPagesOfAListing(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		var at int
		fmt.Sscan(q.Get("continuation-token"), &at)
		var b bytes.Buffer
		b.WriteString("<ListBucketResult>")
		for i := at; i < min(at+3, 8); i++ {
			fmt.Fprintf(&b, "<Contents><Key>a%%20b%%2B%d</Key><Size>%d</Size><ETag>&quot;e&quot;</ETag><LastModified>2026-03-14T14:02:07.000Z</LastModified></Contents>", i, i)
		}
		if at+3 < 8 {
			fmt.Fprintf(&b, "<NextContinuationToken>%d</NextContinuationToken>", at+3)
		}
		b.WriteString("<CommonPrefixes><Prefix>x%2F</Prefix></CommonPrefixes></ListBucketResult>")
		w.Write(b.Bytes())
	})
	n := 0
	for next := ""; ; {
		p, err := c.List(t.Context(), "plates", "", "/", next, 3)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range p.Objects {
			if o.Key != fmt.Sprintf("a b+%d", n) || o.Size != int64(n) || o.ETag != "e" || o.Modified.IsZero() {
				t.Errorf("object %d: %+v", n, o)
			}
			n++
		}
		if len(p.Prefixes) != 1 || p.Prefixes[0] != "x/" {
			t.Errorf("prefixes %q", p.Prefixes)
		}
		if next = p.Next; next == "" {
			break
		}
	}
	if n != 8 {
		t.Errorf("%d objects", n)
	}
}

func TestAddressesOfKeys(t *testing.T) {
	c, err := client.New("http://localhost:5710/ignored?x", "fenn", sign.Credential{})
	if err != nil {
		t.Fatal(err)
	}
	host := *c
	host.HostStyle = true
	for _, x := range []struct {
		c           *client.Client
		bucket, key string
		want        string
	}{
		{c, "", "", "http://localhost:5710/"}, {c, "plates", "", "http://localhost:5710/plates"},
		{c, "plates", "a b/ä+?#%", "http://localhost:5710/plates/a%20b/%C3%A4%2B%3F%23%25"},
		{c, "plates", "../x//y/", "http://localhost:5710/plates/../x//y/"},
		{&host, "plates", "k", "http://plates.localhost:5710/k"}, {&host, "plates", "", "http://plates.localhost:5710/"},
	} {
		if got := x.c.URL(x.bucket, x.key, nil).String(); got != x.want {
			t.Errorf("%s/%s: %s, want %s", x.bucket, x.key, got, x.want)
		}
	}
}
