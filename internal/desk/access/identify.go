package access

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/hex"
	"io"
	"mime"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
	"spindle/internal/door"
	"spindle/internal/wire/sign"
)

// open are the calls that anyone may make.
var open = map[string]bool{"GET /api/v1/service": true, "POST /api/v1/session": true, "GET /openapi.yaml": true,
	"GET /openapi.json": true}

// dueToChange are the calls of who has to change the password first.
var dueToChange = map[string]bool{"GET /api/v1/session": true, "DELETE /api/v1/session": true,
	"POST /api/v1/session/password": true}

// Bounds of documents, in bytes and in things.
const (
	maxSignIn    = 16 << 10
	maxDocument  = 1 << 20
	maxStructure = 50_000 // objects, lists and their members
	maxDepth     = 16
)

// reads reports whether a method changes nothing.
func reads(method string) bool { return method == http.MethodGet || method == http.MethodHead }

// streams reports whether a call takes its body as it comes. What such a call keeps
// it keeps after the end of the body, when what was signed has been compared.
func streams(r *http.Request) bool {
	return r.Method == http.MethodPut && (strings.HasPrefix(r.URL.Path, "/api/v1/buckets/") ||
		strings.HasPrefix(r.URL.Path, "/api/v1/endpoints/")) && (strings.HasSuffix(r.URL.Path, "/body") ||
		strings.Contains(r.URL.Path, "/parts/"))
}

// Identify finds who asks, by signature or session, refuses others, and gives on no
// document that was not read to its end, compared with what was signed, and found
// to be JSON of a reasonable shape.
func (d *Desk) Identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if middle.Who(r.Context()) != nil { // a call from within
			next.ServeHTTP(w, r)
			return
		}
		source, _, _ := net.SplitHostPort(r.RemoteAddr)
		id := &middle.Identity{Source: source, Program: visible(r.UserAgent())}
		if c, err := r.Cookie(api.DeviceCookie); err == nil {
			id.Device = c.Value
		}
		var auth *sign.Auth
		free, asker := open[r.Method+" "+r.URL.Path], door.Source(r.RemoteAddr).String()
		err := sign.Once(r, "kind")
		if err == nil && !free {
			if auth, err = d.recognise(r, id); err == nil {
				asker = id.Subject.By()
				door.Trust(r.Context())
			}
		}
		if err == nil {
			var giveBack func()
			if giveBack, err = d.Held.Take(asker, perCall); err == nil {
				defer giveBack()
				r, err = d.document(r, auth, free)
			}
		}
		if err != nil {
			door.BodyOf(r).Refuse(w)
			middle.WriteProblem(w, d.Problem(r.Context(), err))
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), middle.IdentityKey{}, id)))
	})
}

// perCall is what a call is taken to hold in memory.
const perCall = 1 << 20

// visible gives at most 200 bytes of what a client calls itself, as can be shown.
func visible(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f {
			return -1
		}
		return r
	}, s)
	return s[:min(len(s), 200)]
}

// recognise finds who asks.
func (d *Desk) recognise(r *http.Request, id *middle.Identity) (*sign.Auth, error) {
	auth, err := sign.ParseDesk(r)
	if err != nil {
		return nil, err
	}
	if auth != nil {
		return auth, d.signed(r, id, auth)
	}
	return nil, d.signedIn(r, id)
}

// signed verifies the signature of a call. Those of calls that change something
// count once, in whichever process.
func (d *Desk) signed(r *http.Request, id *middle.Identity, auth *sign.Auth) (err error) {
	ctx, now := r.Context(), time.Now()
	if id.Key, err = d.Gate.Key(ctx, auth.KeyID); err != nil {
		return err
	}
	if err := d.Gate.Verify(id.Key, id.Source,
		func(secret string) error { return auth.Verify(r, secret, now) }); err != nil {
		return err
	}
	for name := range r.Header {
		name = strings.ToLower(name)
		if (strings.HasPrefix(name, "spindle-") || name == "content-type" && !reads(r.Method)) && !auth.Covers(name) {
			return fault.New(fault.Refused, "header-unsigned", "the header %s was sent and is not signed", name).In(name).
				Do("sign it")
		}
	}
	id.Subject = id.Key.Subject()
	if err := d.Gate.Use(id.Key, id.Source, now); err != nil || reads(r.Method) {
		return err
	}
	raw, err := hex.DecodeString(auth.Signature())
	if err != nil {
		return err
	}
	return d.Store.Catalog.UseSignature(ctx, raw, auth.Time.Add(sign.MaxSkew))
}

// signedIn finds the session of a call.
func (d *Desk) signedIn(r *http.Request, id *middle.Identity) error {
	ctx := r.Context()
	c, err := r.Cookie(api.SessionCookie)
	if err != nil {
		return fault.New(fault.Unsigned, "signed-out", "nobody is signed in").In("session").Do("sign in, or sign the request")
	}
	if id.Session, err = d.Store.Catalog.FindSession(ctx, digestOf(c.Value), time.Now()); err != nil {
		return err
	}
	if id.Session == nil {
		return middle.SessionEnded()
	}
	if err := d.Holder(ctx, id); err != nil {
		return err
	}
	if err := d.actsIn(r, id); err != nil {
		return err
	}
	if !reads(r.Method) && subtle.ConstantTimeCompare([]byte(r.Header.Get(api.ForgeryHeader)),
		[]byte(id.Session.Forgery)) != 1 {
		return fault.New(fault.Refused, "forgery", "the request does not carry the session's token").In(api.ForgeryHeader).
			Do("reload the page, and try again")
	}
	if id.Person != nil && id.Person.MustChange && !dueToChange[r.Method+" "+r.URL.Path] {
		return fault.New(fault.Refused, "password-change", "the password was given by somebody else").In("password").
			Do("choose one of your own first")
	}
	return nil
}

// accountParameter names the account that a page acts in, in an address that a browser opens by
// itself; elsewhere its header does. So two pages of one session may act in two accounts, and
// what one of them says of itself is where its requests go.
const accountParameter = "in"

// actsIn has a request of a session act in the account that it names. The error for one that its
// holder has no role in has the code not-allowed.
func (d *Desk) actsIn(r *http.Request, id *middle.Identity) error {
	account := r.Header.Get(api.AccountHeader)
	if account == "" && reads(r.Method) {
		account = r.URL.Query().Get(accountParameter)
	}
	if account == "" || account == id.Session.Account {
		return nil
	}
	info, err := d.sessionInfo(r.Context(), id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(info.Accounts, func(r api.RoleIn) bool { return r.Account == account }) {
		return fault.New(fault.Refused, "not-allowed", "%s has no role in the account %q", id.Subject.Name, account).
			In("account").Do("choose another account, or have an administrator of it give you a role")
	}
	id.Session.Account = account
	return d.Holder(r.Context(), id)
}

// document reads the document of a call, unless it takes its body as it comes.
func (d *Desk) document(r *http.Request, auth *sign.Auth, free bool) (*http.Request, error) {
	if r.Body == nil || r.Body == http.NoBody {
		return r, d.unforged(r, free)
	}
	if reads(r.Method) {
		return r, fault.New(fault.Invalid, "body-unasked", "the call takes no body").In("body").Do("leave it out")
	}
	if auth == nil {
		if err := d.unforged(r, free); err != nil {
			return r, err
		}
	}
	var body io.Reader = r.Body
	if auth != nil {
		var err error
		if body, err = auth.Body(r.Body, false); err != nil {
			return r, err
		}
	}
	changed := *r
	if streams(r) {
		changed.Body = struct {
			io.Reader
			io.Closer
		}{body, r.Body}
		if auth != nil && sign.IsChunked(auth.Payload) {
			changed.ContentLength = -1 // of the chunks, not of what is in them
		}
		return &changed, nil
	}
	most := int64(maxDocument)
	if free {
		most = maxSignIn
	}
	b, err := io.ReadAll(io.LimitReader(body, most+1))
	if err != nil {
		return r, err
	}
	if int64(len(b)) > most {
		return r, fault.New(fault.TooLarge, "document-too-large", "the document has more than %d bytes", most).In("body").
			Do("send less at a time")
	}
	if err := shaped(b); err != nil {
		return r, err
	}
	if len(b) > 0 && !isJSON(r.Header.Get("Content-Type")) {
		return r, fault.New(fault.Invalid, "content-type", "the document's type is %q, not application/json",
			r.Header.Get("Content-Type")).In("Content-Type").Do("send Content-Type: application/json")
	}
	changed.Body, changed.ContentLength = io.NopCloser(bytes.NewReader(b)), int64(len(b))
	return &changed, nil
}

// unforged refuses calls that a page of another origin makes with what a browser
// knows, where no token stands against it.
func (d *Desk) unforged(r *http.Request, free bool) error {
	if site := r.Header.Get("Sec-Fetch-Site"); free && !reads(r.Method) && site != "" && site != "same-origin" &&
		site != "none" {
		return fault.New(fault.Refused, "forgery", "a page of another origin made the request").In("Sec-Fetch-Site").
			Do("open the console itself")
	}
	return nil
}

func isJSON(contentType string) bool {
	t, _, err := mime.ParseMediaType(contentType)
	return err == nil && (t == "application/json" || strings.HasSuffix(t, "+json"))
}

// shaped refuses documents that cost far more to take apart than to send.
func shaped(b []byte) error {
	things, depth, quoted := 0, 0, false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			things++
			depth++
		case c == ',':
			things++
		case c == '}' || c == ']':
			depth--
		}
		if things > maxStructure || depth > maxDepth {
			return fault.New(fault.TooLarge, "document-shape",
				"the document has more than %d members, or is nested deeper than %d", maxStructure, maxDepth).In("body").
				Do("send less at a time")
		}
	}
	return nil
}
