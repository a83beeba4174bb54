package sign

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"spindle/internal/core/fault"
)

// Spellings of the scheme.
const (
	algorithm  = "AWS4-HMAC-SHA256"
	terminator = "aws4_request"
	timeFormat = "20060102T150405Z"

	HeaderDate    = "X-Amz-Date"
	HeaderPayload = "X-Amz-Content-Sha256"
	headerToken   = "X-Amz-Security-Token"

	Unsigned              = "UNSIGNED-PAYLOAD"
	StreamSigned          = "STREAMING-AWS4-HMAC-SHA256-PAYLOAD"
	StreamSignedTrailer   = "STREAMING-AWS4-HMAC-SHA256-PAYLOAD-TRAILER"
	StreamUnsignedTrailer = "STREAMING-UNSIGNED-PAYLOAD-TRAILER"

	// EmptyHash is the SHA-256 of nothing.
	EmptyHash = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
)

// Scope is the service that a signature is for: one made for the wire opens
// nothing at the desk, nor the other way round.
type Scope string

// The scopes there are.
const (
	Wire Scope = "s3"
	Desk Scope = "desk"
)

// HeaderOnce carries a random text, so that two calls of the desk that are the
// same in all else have different signatures: each counts once.
const HeaderOnce = "Spindle-Once"

// MaxSkew is how far the clocks of client and service may be apart.
const MaxSkew = 15 * time.Minute

// MaxExpiry is how long a presigned link may hold.
const MaxExpiry = 7 * 24 * time.Hour

// Credential is an access key with its secret.
type Credential struct {
	ID     string
	Secret string
}

// Auth is what a request says about who signed it, and how.
type Auth struct {
	KeyID     string
	Region    string
	Time      time.Time
	Expires   time.Duration // of a presigned link
	Presigned bool
	Payload   string // the payload's digest or word

	day       string
	service   Scope
	headers   []string
	signature string
	key       *signingKey // derived, once verified
}

func malformed(format string, args ...any) *fault.Error {
	return fault.New(fault.Invalid, "auth-malformed", format, args...).In("authorization").
		Do("check how the client signs: signature version 4, with key, day, region and service in its scope")
}

// Parse finds the signature of a request of the wire, in its header or its
// query. It gives nil when there is none. The error for a temporary key's token has
// the code security-token.
func Parse(r *http.Request) (*Auth, error) {
	if r.Header.Get(headerToken) != "" || strings.Contains(strings.ToLower(r.URL.RawQuery), "x-amz-security-token=") {
		return nil, fault.New(fault.Invalid, "security-token",
			"the request carries a token of a temporary key, and there are none here").In(strings.ToLower(headerToken)).
			Do("take the token out of the client's settings, or use an access key that expires")
	}
	switch h := r.Header.Get("Authorization"); {
	case h != "":
		return parseHeader(r, h, Wire)
	case signedQuery(r):
		return parseQuery(r)
	}
	return nil, nil
}

// ParseDesk finds the signature of a call of the desk, which stands in the header
// alone: there are no links to calls. It gives nil when there is none. The error
// for one in the query has the code desk-link.
func ParseDesk(r *http.Request) (*Auth, error) {
	switch h := r.Header.Get("Authorization"); {
	case signedQuery(r):
		return nil, fault.New(fault.Refused, "desk-link", "the desk takes no signature in the address").In("query").
			Do("sign the call in its header, for the service %q", string(Desk))
	case h != "":
		return parseHeader(r, h, Desk)
	}
	return nil, nil
}

func signedQuery(r *http.Request) bool {
	return strings.Contains(r.URL.RawQuery, "X-Amz-Signature=") || strings.Contains(r.URL.RawQuery, "X-Amz-Algorithm=")
}

func parseHeader(r *http.Request, h string, scope Scope) (*Auth, error) {
	rest, ok := strings.CutPrefix(h, algorithm)
	if !ok {
		return nil, malformed("the signature's kind is not supported").Do("sign with version 4")
	}
	a := &Auth{}
	for part := range strings.SplitSeq(rest, ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok {
			return nil, malformed("a part of the authorization has no value")
		}
		switch name {
		case "Credential":
			if err := a.scope(value); err != nil {
				return nil, err
			}
		case "SignedHeaders":
			a.headers = strings.Split(value, ";")
		case "Signature":
			a.signature = value
		}
	}
	if a.KeyID == "" || len(a.headers) == 0 || len(a.signature) != 64 {
		return nil, malformed("the authorization lacks a credential, the signed headers or a signature of 64 digits")
	}
	var err error
	if date := r.Header.Get(HeaderDate); date != "" {
		a.Time, err = time.Parse(timeFormat, date)
	} else {
		a.Time, err = http.ParseTime(r.Header.Get("Date"))
	}
	if err != nil {
		return nil, fault.New(fault.Refused, "date-missing", "the request has no valid date").In(HeaderDate).
			Do("send the moment of signing as %s", timeFormat)
	}
	a.Payload = r.Header.Get(HeaderPayload)
	return a, a.check(scope)
}

func parseQuery(r *http.Request) (*Auth, error) {
	q := r.URL.Query()
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "auth-query", format, args...).In("query").
			Do("make the link again, with signature version 4")
	}
	if q.Get("X-Amz-Algorithm") != algorithm {
		return nil, bad("the link's signature is of a kind that is not supported")
	}
	a := &Auth{Presigned: true, Payload: Unsigned, headers: strings.Split(q.Get("X-Amz-SignedHeaders"), ";"),
		signature: q.Get("X-Amz-Signature")}
	for _, p := range []string{q.Get(HeaderPayload), r.Header.Get(HeaderPayload)} {
		if p != "" {
			a.Payload = p
		}
	}
	if err := a.scope(q.Get("X-Amz-Credential")); err != nil {
		return nil, err
	}
	var err error
	if a.Time, err = time.Parse(timeFormat, q.Get("X-Amz-Date")); err != nil {
		return nil, bad("the link has no valid date")
	}
	n, err := strconv.Atoi(q.Get("X-Amz-Expires"))
	if err != nil || n < 1 || time.Duration(n)*time.Second > MaxExpiry {
		return nil, bad("a link holds for 1 to %d seconds", int(MaxExpiry/time.Second))
	}
	a.Expires = time.Duration(n) * time.Second
	if len(a.signature) != 64 {
		return nil, bad("the link's signature has %d digits, not 64", len(a.signature))
	}
	return a, a.check(Wire)
}

func (a *Auth) scope(credential string) error {
	parts := strings.Split(credential, "/")
	if len(parts) < 5 || parts[len(parts)-1] != terminator {
		return malformed("the credential is not of the form KEY/DAY/REGION/SERVICE/%s", terminator)
	}
	n := len(parts)
	a.KeyID = strings.Join(parts[:n-4], "/")
	a.day, a.Region, a.service = parts[n-4], parts[n-3], Scope(parts[n-2])
	return nil
}

func (a *Auth) check(scope Scope) error {
	if a.service != scope {
		return malformed("the scope names the service %q, not %q", string(a.service), string(scope)).
			Do("sign for the service %s", string(scope))
	}
	if a.day != a.Time.Format("20060102") {
		return malformed("the scope's day %s is not the date's, %s", a.day, a.Time.Format("20060102"))
	}
	if !slices.Contains(a.headers, "host") {
		return malformed("the header host is not signed")
	}
	return nil
}

// Signature gives the signature itself, in hex.
func (a *Auth) Signature() string { return a.signature }

// Covers reports whether a header, by its name in small letters, is signed.
func (a *Auth) Covers(name string) bool { return slices.Contains(a.headers, name) }

// lists is the one header of the dialect that is read as it is signed when it
// comes more than once: all its values, with commas.
const lists = "X-Amz-Object-Attributes"

func twice(name string, times int) error {
	return fault.New(fault.Invalid, "header-twice", "the header %s was sent %d times", strings.ToLower(name), times).
		In(strings.ToLower(name)).Do("send it once")
}

// Once refuses what a signature joins or sorts, and a reader reads once: headers
// of the dialect and parameters that come twice. The errors have the codes
// header-twice and parameter-twice; parameters that may come several times are
// named.
func Once(r *http.Request, several ...string) error {
	for name, values := range r.Header {
		if len(values) > 1 && strings.HasPrefix(name, "X-Amz-") && name != lists {
			return twice(name, len(values))
		}
	}
	if !strings.Contains(r.URL.RawQuery, "&") {
		return nil
	}
	seen := make(map[string]bool, 8)
	for part := range strings.SplitSeq(r.URL.RawQuery, "&") {
		name, _, _ := strings.Cut(part, "=")
		if name = reescape(name); name != "" && seen[name] && !slices.Contains(several, name) {
			return fault.New(fault.Invalid, "parameter-twice", "the parameter %s was sent twice", name).In(name).
				Do("send it once")
		}
		seen[name] = true
	}
	return nil
}

// Verify compares the signature with what the secret makes of the request. The
// errors have the codes clock-skew, link-expired, header-unsigned,
// payload-missing and signature-mismatch.
func (a *Auth) Verify(r *http.Request, secret string, now time.Time) error {
	apart := now.Sub(a.Time)
	switch {
	case a.Presigned && apart < -MaxSkew:
		return fault.New(fault.Refused, "link-expired", "the link holds from %s, and it is %s here", stamp(a.Time),
			stamp(now)).In("date").Do("set the clock of the machine that made it")
	case a.Presigned && apart > a.Expires:
		return fault.New(fault.Refused, "link-expired", "Request has expired: the link held until %s, and it is %s",
			stamp(a.Time.Add(a.Expires)), stamp(now)).In("date").
			Do("make the link again").Because(&Late{Signed: a.Time, Expires: a.Time.Add(a.Expires), Now: now})
	case !a.Presigned && (apart > MaxSkew || apart < -MaxSkew):
		return fault.New(fault.Refused, "clock-skew", "the request was signed at %s, and it is %s here: more than %s apart",
			stamp(a.Time), stamp(now), MaxSkew).
			In("clock").Do("set the client's clock").Because(&Late{Signed: a.Time, Now: now})
	}
	for name := range r.Header {
		if !ofDialect(name) {
			continue
		}
		if l := lower(name); !slices.Contains(a.headers, l) && (l != "x-amz-content-sha256" || !a.Presigned) {
			return fault.New(fault.Refused, "header-unsigned", "the header %s was sent and is not signed", l).In(l).
				Do("sign every header of the dialect")
		}
	}
	if a.Payload == "" {
		if r.ContentLength != 0 && r.Method != http.MethodGet && r.Method != http.MethodHead {
			return fault.New(fault.Invalid, "payload-missing", "Missing required header for this request: %s",
				strings.ToLower(HeaderPayload)).
				In(HeaderPayload).Do("send the SHA-256 of the body, or %s", Unsigned)
		}
		a.Payload = EmptyHash
	}
	for _, name := range a.headers {
		if n := len(r.Header[canonicalName(name)]); n > 1 && !strings.EqualFold(name, lists) {
			return twice(name, n)
		}
	}
	a.key = keyFor(secret, a.day, a.Region, a.service)
	fits := func(path string) bool {
		var want [2 * sha256.Size]byte
		a.sign(&want, r, path)
		return subtle.ConstantTimeCompare(want[:], []byte(a.signature)) == 1
	}
	// The path is signed as every client should escape it, or as this one did.
	if path := Escape(r.URL.Path, false); !fits(path) && (path == r.URL.EscapedPath() || !fits(r.URL.EscapedPath())) {
		signed := a.canonical(nil, r, path)
		return fault.New(fault.Refused, "signature-mismatch", "the signature does not fit the request and the key's secret").
			In("secret").
			Do("check the secret, and that nothing between client and service changes the path, the query or the signed headers (%s)", strings.Join(a.headers, ", ")).
			Because(&Mismatch{KeyID: a.KeyID, Signature: a.signature, Canonical: string(signed), Signed: string(a.toSign(nil,
				signed))})
	}
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func (a *Auth) scopeString() string {
	return a.day + "/" + a.Region + "/" + string(a.service) + "/" + terminator
}

// drafts are where texts that are signed are put together.
var drafts = sync.Pool{New: func() any { b := make([]byte, 0, 2048); return &b }}

// mostKept is how large a draft may be that is used again.
const mostKept = 64 << 10

// sign writes the signature of a request, in hex.
func (a *Auth) sign(into *[2 * sha256.Size]byte, r *http.Request, path string) {
	draft := drafts.Get().(*[]byte)
	b := a.canonical((*draft)[:0], r, path)
	n := len(b)
	b = a.toSign(b, b)
	a.key.mac(into, b[n:])
	if cap(b) <= mostKept {
		*draft = b
		drafts.Put(draft)
	}
}

func (a *Auth) signatureOf(r *http.Request, path string) string {
	var out [2 * sha256.Size]byte
	a.sign(&out, r, path)
	return string(out[:])
}

// toSign writes the text that is signed for a canonical request behind b.
func (a *Auth) toSign(b, canonical []byte) []byte {
	sum := sha256.Sum256(canonical)
	b = a.preface(append(b, algorithm...))
	return hex.AppendEncode(b, sum[:])
}

// preface writes when and for what is signed behind b, which ends with the algorithm's name.
func (a *Auth) preface(b []byte) []byte {
	b = append(a.Time.AppendFormat(append(b, '\n'), timeFormat), '\n')
	for _, s := range [...]string{a.day, a.Region, string(a.service)} {
		b = append(append(b, s...), '/')
	}
	return append(append(b, terminator...), '\n')
}

// Mismatch is what the service would have signed, for whoever looks for the
// difference. It stands beneath the error with the code signature-mismatch.
type Mismatch struct {
	KeyID     string
	Signature string // that came
	Canonical string // the request as it is signed
	Signed    string // the text that is signed, with the digest of the canonical request
}

// Error says that the signatures differ.
func (m *Mismatch) Error() string { return "the signature " + m.Signature + " does not fit" }

// Late is when a request was signed and when it was looked at. It stands beneath the
// errors with the codes clock-skew and link-expired.
type Late struct{ Signed, Expires, Now time.Time }

// Error says how far apart they are.
func (l *Late) Error() string { return "signed " + l.Now.Sub(l.Signed).String() + " before" }

// keys holds derived signing keys: the derivation costs as much as the rest.
var keys struct {
	sync.Mutex
	m map[[4]string]*signingKey
}

// names are the headers that most requests have, by their names in small letters.
var names = func() map[string]string {
	out := map[string]string{}
	for _, name := range []string{HeaderDate, HeaderPayload, "X-Amz-Decoded-Content-Length", "X-Amz-Trailer",
		"X-Amz-Checksum-Crc64nvme", "X-Amz-Checksum-Crc32", "X-Amz-Sdk-Checksum-Algorithm", "Content-Type", "Content-Md5",
		"Content-Encoding", "User-Agent", "Accept-Encoding", "Range", "Date", "Host"} {
		out[strings.ToLower(name)] = name
	}
	return out
}()
