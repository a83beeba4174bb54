package wire

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"
)

// signature is what a request says of who signed it (version 4 of the scheme).
type signature struct {
	key, day, region string
	moment           time.Time
	headers          []string
	hex              string
	payload          string // digest of the body, or a word
	secret           []byte // derived
}

const skew = 15 * time.Minute

var (
	noSignature  = problem{http.StatusForbidden, "AccessDenied", "The request is not signed."}
	badSignature = problem{http.StatusForbidden, "SignatureDoesNotMatch", "The signature is another one."}
	noSuchKey    = problem{http.StatusForbidden, "InvalidAccessKeyId", "There is no such key."}
	tooSkewed    = problem{http.StatusForbidden, "RequestTimeTooSkewed", "The clocks are too far apart."}
)

func sha(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

func mac(key []byte, s string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(s))
	return h.Sum(nil)
}

// encode writes a string as the scheme does: all but letters, digits and -_.~ (and /
// in paths) in hex (RFC 3986, section 2.3).
func encode(s string, slash bool) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9', strings.IndexByte("-_.~", c) >= 0:
			b.WriteByte(c)
		case c == '/' && slash:
			b.WriteByte(c)
		default:
			b.WriteString("%" + strings.ToUpper(hex.EncodeToString([]byte{c})))
		}
	}
	return b.String()
}

// verify says who signed a request, or why nobody did.
func (s *Server) verify(r *http.Request, now time.Time) (*signature, error) {
	q := r.URL.Query()
	if q.Get("X-Amz-Signature") != "" {
		return s.verifyLink(r, q, now)
	}
	rest, ok := strings.CutPrefix(r.Header.Get("Authorization"), "AWS4-HMAC-SHA256 ")
	if !ok {
		return nil, noSignature
	}
	g := &signature{payload: r.Header.Get("X-Amz-Content-Sha256")}
	if g.payload == "" {
		g.payload = sha("")
	}
	var scope string
	for _, part := range strings.Split(rest, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch name {
		case "Credential":
			scope = value
		case "SignedHeaders":
			g.headers = strings.Split(value, ";")
		case "Signature":
			g.hex = value
		}
	}
	moment := r.Header.Get("X-Amz-Date")
	return g, s.compare(r, g, scope, moment, now, skew, q)
}

func (s *Server) verifyLink(r *http.Request, q url.Values, now time.Time) (*signature, error) {
	g := &signature{payload: "UNSIGNED-PAYLOAD", hex: q.Get("X-Amz-Signature"),
		headers: strings.Split(q.Get("X-Amz-SignedHeaders"), ";")}
	seconds, err := strconv.Atoi(q.Get("X-Amz-Expires"))
	if err != nil || seconds < 1 || seconds > 7*24*3600 {
		return nil, problem{http.StatusBadRequest, "AuthorizationQueryParametersError", "The link's time is not valid."}
	}
	q.Del("X-Amz-Signature")
	return g, s.compare(r, g, q.Get("X-Amz-Credential"), q.Get("X-Amz-Date"), now, time.Duration(seconds)*time.Second, q)
}

// compare makes the signature that the request ought to have.
func (s *Server) compare(r *http.Request, g *signature, scope, moment string, now time.Time, valid time.Duration,
	q url.Values) error {
	parts := strings.Split(scope, "/")
	if len(parts) != 5 || parts[3] != "s3" || parts[4] != "aws4_request" {
		return problem{http.StatusBadRequest, "AuthorizationHeaderMalformed", "The credential's scope is not valid."}
	}
	g.key, g.day, g.region = parts[0], parts[1], parts[2]
	secret, ok := s.Keys[g.key]
	if f := s.Moods.Now(); !ok || f.refuses(g.key) {
		return noSuchKey
	}
	if s.Region != "" && g.region != s.Region {
		return problem{http.StatusBadRequest, "AuthorizationHeaderMalformed",
			"The region '" + g.region + "' is wrong; expecting '" + s.Region + "'"}
	}
	var err error
	if g.moment, err = time.Parse("20060102T150405Z", moment); err != nil || g.moment.Format("20060102") != g.day {
		return problem{http.StatusForbidden, "AccessDenied", "The request has no valid date."}
	}
	if now.Sub(g.moment) > valid || g.moment.Sub(now) > skew {
		return tooSkewed
	}
	g.secret = mac(mac(mac(mac([]byte("AWS4"+secret), g.day), g.region), "s3"), "aws4_request")
	if !hmac.Equal([]byte(g.hex), []byte(hex.EncodeToString(mac(g.secret, "AWS4-HMAC-SHA256\n"+moment+"\n"+
		strings.Join(parts[1:], "/")+"\n"+sha(canonical(r, g, q)))))) {
		return badSignature
	}
	return nil
}

// canonical gives the form of a request that is signed.
func canonical(r *http.Request, g *signature, q url.Values) string {
	var pairs []string
	for name, values := range q {
		for _, v := range values {
			pairs = append(pairs, encode(name, false)+"="+encode(v, false))
		}
	}
	sort.Strings(pairs)
	var b strings.Builder
	b.WriteString(r.Method + "\n" + encode(r.URL.Path, true) + "\n" + strings.Join(pairs, "&") + "\n")
	for _, name := range g.headers {
		value := strings.Join(r.Header.Values(name), ",")
		switch name {
		case "host":
			value = r.Host
		case "content-length":
			value = strconv.FormatInt(r.ContentLength, 10)
		}
		b.WriteString(name + ":" + strings.Join(strings.Fields(value), " ") + "\n")
	}
	b.WriteString("\n" + strings.Join(g.headers, ";") + "\n" + g.payload)
	return b.String()
}
