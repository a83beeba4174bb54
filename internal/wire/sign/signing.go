package sign

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

func mac(key []byte, s string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(s))
	return h.Sum(nil)
}

// signingKey is a key derived from a secret, with what has it in its state already.
type signingKey struct{ ready sync.Pool }

func newSigningKey(key []byte) *signingKey {
	return &signingKey{sync.Pool{New: func() any { return hmac.New(sha256.New, key) }}}
}

// mac writes the code of a text, in hex.
func (k *signingKey) mac(into *[2 * sha256.Size]byte, text []byte) {
	h := k.ready.Get().(hash.Hash)
	h.Reset()
	h.Write(text)
	var sum [sha256.Size]byte
	hex.Encode(into[:], h.Sum(sum[:0]))
	k.ready.Put(h)
}

func keyFor(secret, day, region string, scope Scope) *signingKey {
	id := [4]string{secret, day, region, string(scope)}
	keys.Lock()
	k, ok := keys.m[id]
	keys.Unlock()
	if ok {
		return k
	}
	k = newSigningKey(mac(mac(mac(mac([]byte("AWS4"+secret), day), region), string(scope)), terminator))
	keys.Lock()
	if keys.m == nil || len(keys.m) > 256 {
		keys.m = map[[4]string]*signingKey{}
	}
	keys.m[id] = k
	keys.Unlock()
	return k
}

// Sign signs a request's headers. payload is the SHA-256 of the body in hex, or
// one of the words. Every header of the dialect that is set by then is signed,
// with host and the content's type and MD5. The Auth continues into chunks.
func Sign(r *http.Request, c Credential, region, payload string, at time.Time) *Auth {
	return signFor(Wire, r, c, region, payload, at)
}

// SignDesk signs a call of the desk as Sign does a request of the wire. The desk's
// own headers are signed too, with a random one that no other call has.
func SignDesk(r *http.Request, c Credential, region, payload string, at time.Time) *Auth {
	r.Header.Set(HeaderOnce, rand.Text())
	return signFor(Desk, r, c, region, payload, at)
}

func signFor(scope Scope, r *http.Request, c Credential, region, payload string, at time.Time) *Auth {
	at = at.UTC()
	r.Header.Set(HeaderDate, at.Format(timeFormat))
	r.Header.Set(HeaderPayload, payload)
	headers := []string{"host"}
	for name := range r.Header {
		l := strings.ToLower(name)
		if strings.HasPrefix(l, "x-amz-") || strings.HasPrefix(l, "spindle-") || l == "content-type" || l == "content-md5" {
			headers = append(headers, l)
		}
	}
	slices.Sort(headers)
	if r.Host == "" {
		r.Host = r.URL.Host
	}
	a := &Auth{KeyID: c.ID, Region: region, Time: at, Payload: payload, day: at.Format("20060102"), service: scope,
		headers: headers}
	a.key = keyFor(c.Secret, a.day, region, scope)
	a.signature = a.signatureOf(r, Escape(r.URL.Path, false))
	r.Header.Set("Authorization",
		algorithm+" Credential="+c.ID+"/"+a.scopeString()+", SignedHeaders="+strings.Join(headers,
			";")+", Signature="+a.signature)
	return a
}

// Presign gives a link that carries its signature, for method and u, holding
// for expires from at.
func Presign(method string, u *url.URL, c Credential, region string, expires time.Duration, at time.Time) *url.URL {
	at = at.UTC()
	a := &Auth{KeyID: c.ID, Region: region, Time: at, Payload: Unsigned, Presigned: true, day: at.Format("20060102"),
		service: Wire, headers: []string{"host"}}
	q := u.Query()
	q.Set("X-Amz-Algorithm", algorithm)
	q.Set("X-Amz-Credential", c.ID+"/"+a.scopeString())
	q.Set("X-Amz-Date", at.Format(timeFormat))
	q.Set("X-Amz-Expires", strconv.Itoa(int(expires/time.Second)))
	q.Set("X-Amz-SignedHeaders", "host")
	signed := *u
	signed.RawQuery = strings.ReplaceAll(q.Encode(), "+", "%20")
	a.key = keyFor(c.Secret, a.day, region, Wire)
	sig := a.signatureOf(&http.Request{Method: method, URL: &signed, Host: u.Host, Header: http.Header{}},
		Escape(u.Path, false))
	signed.RawQuery += "&X-Amz-Signature=" + sig
	return &signed
}
