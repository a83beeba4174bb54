package attack

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/sign"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

var owner = sign.Credential{ID: harness.Key, Secret: harness.Secret}

// call is a call of the desk, before it is sent.
type call struct {
	t    *testing.T
	r    *http.Request
	body string
}

func newCall(t *testing.T, s *harness.Running, method, path, body string) *call {
	t.Helper()
	r, err := http.NewRequest(method, s.DeskURL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	return &call{t, r, body}
}

// signed signs the call as it should be.
func (c *call) signed(k sign.Credential) *call {
	sum := sha256.Sum256([]byte(c.body))
	sign.SignDesk(c.r, k, "fenn", hex.EncodeToString(sum[:]), time.Now())
	return c
}

// send sends the call and gives status, the code of the problem, and the answer.
func (c *call) send() (int, string, string) {
	c.t.Helper()
	c.r.Body = io.NopCloser(strings.NewReader(c.body))
	c.r.ContentLength = int64(len(c.body))
	resp, err := http.DefaultTransport.RoundTrip(c.r)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	var p api.Problem
	_ = json.Unmarshal(b, &p) // an answer may be no document
	return resp.StatusCode, p.Code, string(b)
}

// asks makes a call, signed as it should be.
func asks(t *testing.T, s *harness.Running, k sign.Credential, method, path, body string) (int, string, string) {
	t.Helper()
	return newCall(t, s, method, path, body).signed(k).send()
}

// must is asks for what has to succeed.
func must(t *testing.T, s *harness.Running, k sign.Credential, method, path, body string) string {
	t.Helper()
	st, code, b := asks(t, s, k, method, path, body)
	if st >= 300 {
		t.Fatalf("%s %s: %d %s %s", method, path, st, code, b)
	}
	return b
}

// refused fails unless a call is refused with a code.
func refused(t *testing.T, what string, want string, st int, code, body string) {
	t.Helper()
	if st < 400 || code != want {
		t.Errorf("%s: status %d, code %q, want %q\n%s", what, st, code, want, body)
	}
}

// browser is somebody at the console.
type browser struct {
	t       *testing.T
	hc      *http.Client
	base    string
	forgery string
}

func newBrowser(t *testing.T, s *harness.Running) *browser {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &browser{t: t, hc: &http.Client{Jar: jar}, base: s.DeskURL}
}

func (b *browser) ask(method, path string, in any) (int, map[string]any) {
	b.t.Helper()
	raw, err := json.Marshal(in)
	if err != nil {
		b.t.Fatal(err)
	}
	if in == nil {
		raw = nil
	}
	r, err := http.NewRequest(method, b.base+path, bytes.NewReader(raw))
	if err != nil {
		b.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(api.ForgeryHeader, b.forgery)
	resp, err := b.hc.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer resp.Body.Close()
	out := map[string]any{}
	_ = json.NewDecoder(resp.Body).Decode(&out) // an answer may be empty
	return resp.StatusCode, out
}

func (b *browser) signIn(name, password string) (int, map[string]any) {
	b.t.Helper()
	harness.Secretly("a password", password)
	st, out := b.ask("POST", "/api/v1/session", map[string]string{"person": name, "password": password})
	if f, ok := out["forgery"].(string); ok {
		b.forgery = f
		harness.Secretly("a session's token against forgery", f)
	}
	return st, out
}

// person makes a person who can sign in at once.
func person(t *testing.T, s *harness.Running, name, password, account string, role access.Role) *browser {
	t.Helper()
	must(t, s, owner, "POST", "/api/v1/people",
		`{"name":"`+name+`","password":"`+password+`!","roles":[{"account":"`+account+`","role":"`+role.String()+`"}]}`)
	b := newBrowser(t, s)
	if st, e := b.signIn(name, password+"!"); st != 201 {
		t.Fatalf("%s signs in: %d %v", name, st, e)
	}
	if st, e := b.ask("POST", "/api/v1/session/password",
		map[string]string{"password": password + "!", "new": password}); st != 204 {
		t.Fatalf("%s changes the password: %d %v", name, st, e)
	}
	if st, e := b.signIn(name, password); st != 201 {
		t.Fatalf("%s signs in again: %d %v", name, st, e)
	}
	return b
}

// two starts two processes on one database.
func two(t *testing.T) (*harness.Running, *harness.Running) {
	t.Helper()
	url, data := harness.Database(t), t.TempDir()
	share := func(c *service.Config) { c.Database, c.Data = url, data }
	return harness.Service(t, share), harness.Service(t, share)
}

func wire(t *testing.T, s *harness.Running, k sign.Credential, method, path, body string, want int) string {
	t.Helper()
	st, _, b := s.As(k, method, path, nil, body)
	if st != want {
		t.Fatalf("%s %s: %d, want %d: %s", method, path, st, want, b)
	}
	return b
}

func limitedTo(bucket, prefix string) func(*catalog.AccessKey) {
	return func(k *catalog.AccessKey) { k.Limits = catalog.Limits{{Bucket: bucket, Prefix: prefix}} }
}

// certificate makes a certificate of the test's own and gives its files.
func certificate(t *testing.T) (certFile, keyFile string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "fenn"}, NotBefore: time.Now().
		Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	certFile, keyFile = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for path, b := range map[string]*pem.Block{certFile: {Type: "CERTIFICATE", Bytes: der},
		keyFile: {Type: "EC PRIVATE KEY", Bytes: raw}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return certFile, keyFile
}
