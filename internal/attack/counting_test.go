package attack

import (
	"bytes"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// TestASignedCallCountsAsSigned changes what was signed, says it again, and leaves
// out what has to be signed, at two processes.
func TestASignedCallCountsAsSigned(t *testing.T) {
	one, other := two(t)
	const body = `{"name":"meant","role":"reader"}`
	c := newCall(t, one, "POST", "/api/v1/keys", body).signed(owner)
	c.body = `{"name":"other","role":"writer"}`
	st, code, b := c.send()
	refused(t, "another body", "payload-mismatch", st, code, b)
	// The signature was used by that, also for the body that was meant.
	c.body = body
	st, code, b = c.send()
	refused(t, "a second time", "signature-used", st, code, b)

	c = newCall(t, one, "POST", "/api/v1/keys", body).signed(owner)
	if st, _, b := c.send(); st != 201 {
		t.Fatalf("as it was signed: %d %s", st, b)
	}
	st, code, b = c.send()
	refused(t, "again", "signature-used", st, code, b)
	c.r.URL.Host = strings.TrimPrefix(other.DeskURL, "http://") // the host that was signed stays
	st, code, b = c.send()
	refused(t, "again, at another process", "signature-used", st, code, b)

	for _, payload := range []string{sign.Unsigned, sign.StreamUnsignedTrailer, ""} {
		c := newCall(t, one, "POST", "/api/v1/keys", body)
		sign.SignDesk(c.r, owner, "fenn", payload, time.Now())
		if payload == "" {
			c.r.Header.Del(sign.HeaderPayload)
		}
		if st, code, b := c.send(); st < 400 {
			t.Errorf("with the payload %q: %d %s %s", payload, st, code, b)
		}
	}
	c = newCall(t, one, "POST", "/api/v1/keys", body).signed(owner)
	c.r.Header.Set("Spindle-Fields", "e30=")
	st, code, b = c.send()
	refused(t, "a header of the desk's that is not signed", "header-unsigned", st, code, b)
	c = newCall(t, one, "POST", "/api/v1/keys", body)
	c.r.Header.Del("Content-Type")
	c.signed(owner)
	c.r.Header.Set("Content-Type", "application/json")
	st, code, b = c.send()
	refused(t, "a type that is not signed", "header-unsigned", st, code, b)

	// An upload keeps nothing of a body that was not signed.
	wire(t, one, owner, "PUT", "/plates", "", 200)
	c = newCall(t, one, "PUT", "/api/v1/buckets/plates/body?key=k", "as it was signed").signed(owner)
	c.body = "as it was NOTed."
	st, code, b = c.send()
	refused(t, "an upload of other bytes", "payload-mismatch", st, code, b)
	wire(t, one, owner, "GET", "/plates/k", "", 404)

	// In chunks that are signed one by one, of any length.
	r, err := http.NewRequest("PUT", one.DeskURL+"/api/v1/buckets/plates/body?key=chunks", nil)
	if err != nil {
		t.Fatal(err)
	}
	auth := sign.SignDesk(r, owner, "fenn", sign.StreamSigned, time.Now())
	r.Body, r.ContentLength = io.NopCloser(sign.NewEncoder(auth, strings.NewReader("in chunks"), nil)), -1
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if got := wire(t, one, owner, "GET", "/plates/chunks", "", 200); resp.StatusCode != 201 || got != "in chunks" {
		t.Errorf("signed chunks: %d, %q", resp.StatusCode, got)
	}
}

// TestLinksOpenTheWireAlone makes links whose addresses are calls of the desk.
func TestLinksOpenTheWireAlone(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/api", "", 200)
	wire(t, s, owner, "PUT", "/api/v1/keys", "an object", 200)
	at := func(method string) string {
		u, err := url.Parse(s.DeskURL + "/api/v1/keys")
		if err != nil {
			t.Fatal(err)
		}
		return sign.Presign(method, u, owner, "fenn", time.Hour, time.Now()).String()
	}
	for _, method := range []string{"GET", "POST"} {
		r, err := http.NewRequest(method, at(method),
			strings.NewReader(map[string]string{"POST": `{"name":"x","role":"administrator"}`}[method]))
		if err != nil {
			t.Fatal(err)
		}
		if method == "GET" {
			r.Body, r.ContentLength = nil, 0
		}
		r.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != 403 || bytes.Contains(b, []byte(harness.Key)) || !bytes.Contains(b, []byte("desk-link")) {
			t.Errorf("a link %s at the desk: %d %s", method, resp.StatusCode, b)
		}
	}
	// A signature in the header is for one of the two.
	c := newCall(t, s, "GET", "/api/v1/keys", "")
	sign.Sign(c.r, owner, "fenn", sign.EmptyHash, time.Now())
	st, code, b := c.send()
	refused(t, "a signature of the wire at the desk", "auth-malformed", st, code, b)
	r, err := http.NewRequest("GET", s.WireURL+"/", nil)
	if err != nil {
		t.Fatal(err)
	}
	sign.SignDesk(r, owner, "fenn", sign.EmptyHash, time.Now())
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != 400 {
		t.Errorf("a signature of the desk at the wire: %d", resp.StatusCode)
	}
}

// TestWhatComesTwiceIsRefused sends what a signature joins or sorts, and a reader
// reads once.
func TestWhatComesTwiceIsRefused(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	wire(t, s, owner, "PUT", "/plates/k", "content", 200)
	send := func(path string, change func(http.Header)) (int, string) {
		r, err := http.NewRequest("GET", s.WireURL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		change(r.Header)
		sign.Sign(r, owner, "fenn", sign.EmptyHash, time.Now())
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	for name, c := range map[string]struct {
		path   string
		change func(http.Header)
	}{
		"a header of the dialect": {"/plates/k",
			func(h http.Header) { h.Add("X-Amz-Checksum-Mode", "DISABLED"); h.Add("X-Amz-Checksum-Mode", "ENABLED") }},
		"a signed header": {"/plates/k",
			func(h http.Header) { h.Add("Content-Type", "a/b"); h.Add("Content-Type", "c/d") }},
		"a parameter":             {"/plates/k?versionId=null&versionId=0", func(http.Header) {}},
		"one in another spelling": {"/plates/k?versionId=null&version%49d=0", func(http.Header) {}},
	} {
		if st, b := send(c.path, c.change); st != 400 {
			t.Errorf("%s twice: %d %s", name, st, b)
		}
	}
	st, code, b := asks(t, s, owner, "GET", "/api/v1/buckets?limit=1&limit=2", "")
	refused(t, "a parameter of the desk twice", "parameter-twice", st, code, b)
	must(t, s, owner, "GET", "/api/v1/journal?kind=written&kind=removed", "")
}

// TestSignInCannotBeForged has pages of other origins sign somebody in.
func TestSignInCannotBeForged(t *testing.T) {
	s := harness.Service(t, nil)
	for name, change := range map[string]func(http.Header){
		"no type":              func(h http.Header) { h.Del("Content-Type") },
		"a form's type":        func(h http.Header) { h.Set("Content-Type", "text/plain") },
		"a page of the wire's": func(h http.Header) { h.Set("Sec-Fetch-Site", "same-site") },
		"a page of another's":  func(h http.Header) { h.Set("Sec-Fetch-Site", "cross-site") },
	} {
		c := newCall(t, s, "POST", "/api/v1/session", `{"key":"`+harness.Key+`","secret":"`+harness.Secret+`"}`)
		change(c.r.Header)
		if st, code, b := c.send(); st != 415 && code != "forgery" || strings.Contains(b, "forgery\":") {
			t.Errorf("%s: %d %s", name, st, b)
		}
	}
	// What a page of the wire could be is told to run nothing.
	wire(t, s, owner, "PUT", "/plates", "", 200)
	s.As(owner, "PUT", "/plates/page.html", map[string]string{"Content-Type": "text/html"}, "<script>1</script>")
	s.Grant("plates", "", "anyone", "read from")
	for _, key := range []sign.Credential{{}, owner} {
		_, h, _ := s.As(key, "GET", "/plates/page.html", nil, "")
		if h.Get("X-Content-Type-Options") != "nosniff" || !strings.Contains(h.Get("Content-Security-Policy"), "sandbox") {
			t.Errorf("a page of the wire: %v", h)
		}
	}
	r := newCall(t, s, "GET", "/api/v1/buckets/plates/body?key=page.html", "").signed(owner).r
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if !strings.Contains(resp.Header.Get("Content-Security-Policy"), "sandbox") ||
		!strings.Contains(resp.Header.Get("Content-Disposition"), "attachment") {
		t.Errorf("a download: %v", resp.Header)
	}
	// A line's end in a type would write headers of its own into answers.
	st, code, b := asks(t, s, owner, "PATCH", "/api/v1/buckets/plates/object?key=page.html",
		`{"contentType":"text/html\r\nSet-Cookie: x=y"}`)
	refused(t, "a type with a line's end", "header-value", st, code, b)
	st, code, b = asks(t, s, owner, "POST", "/api/v1/buckets/plates/uploads", `{"key":"k","contentType":"a\nb"}`)
	refused(t, "a type of an upload with a line's end", "header-value", st, code, b)
}

// TestBeforeThePasswordIsChanged asks for what only begins like the call that is
// due.
func TestBeforeThePasswordIsChanged(t *testing.T) {
	s := harness.Service(t, nil)
	must(t, s, owner, "POST", "/api/v1/people",
		`{"name":"Ines Varga","password":"herons over the fen","roles":[{"account":"herbarium","role":"administrator"}]}`)
	b := newBrowser(t, s)
	if st, e := b.signIn("Ines Varga", "herons over the fen"); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	for _, c := range [][2]string{{"GET", "/api/v1/sessions"}, {"DELETE", "/api/v1/sessions/1"},
		{"POST", "/api/v1/session/account"}, {"GET", "/api/v1/events"}, {"GET", "/api/v1/buckets"},
		{"GET", "/api/v1/session/"}} {
		if st, e := b.ask(c[0], c[1], nil); st != 403 || e["code"] != "password-change" {
			t.Errorf("%s %s: %d %v", c[0], c[1], st, e)
		}
	}
	if st, _ := b.ask("GET", "/api/v1/session", nil); st != 200 {
		t.Errorf("who is signed in: %d", st)
	}
}

// TestLiveUpdatesEndWithTheKey listens, and is switched off.
func TestLiveUpdatesEndWithTheKey(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	k := s.NewKey("seed-lab", "listens", access.Reader, nil)
	r := newCall(t, s, "GET", "/api/v1/events", "").signed(k).r
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	words := make(chan string)
	go func() {
		defer close(words)
		buf := make([]byte, 4096)
		for {
			n, err := resp.Body.Read(buf)
			if err != nil {
				return
			}
			words <- string(buf[:n])
		}
	}()
	<-words // anything may have changed before
	wire(t, s, owner, "PUT", "/plates/theirs", "content", 200)
	for range 3 { // the first two may still say that anything did
		if word := <-words; strings.Contains(word, "topics") || strings.Contains(word, "plates") {
			t.Errorf("a change of another account is heard: %s", word)
		}
	}
	must(t, s, owner, "PATCH", "/api/v1/keys/"+k.ID, `{"active":false}`)
	for deadline := time.After(6 * time.Second); ; {
		select {
		case _, on := <-words:
			if !on {
				return
			}
		case <-deadline:
			t.Fatal("it goes on after the key was switched off")
		}
	}
}
