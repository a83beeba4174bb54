package desk

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
	"spindle/internal/wire/sign"
)

// CookieName is the session's cookie.
const CookieName = "spindle-session"

// ForgeryHeader carries the session's token against forged requests.
const ForgeryHeader = "X-Spindle-Forgery"

type identityKey struct{}

// identity is who asks.
type identity struct {
	key     *keyring.Key
	session *catalog.Session // nil when the request is signed
	token   []byte
	source  string
}

func who(ctx context.Context) *identity {
	id, _ := ctx.Value(identityKey{}).(*identity)
	return id
}

func author(ctx context.Context) catalog.Author {
	id := who(ctx)
	return catalog.Author{Who: id.key.ID, Source: id.source}
}

// open are the calls that anyone may make.
var open = map[string]bool{"GET /api/v1/service": true, "POST /api/v1/session": true, "GET /openapi.yaml": true, "GET /openapi.json": true}

// identify finds who asks, by signature or session, and refuses others.
func (d *Desk) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		source, _, _ := net.SplitHostPort(r.RemoteAddr)
		id := &identity{source: source}
		ctx := context.WithValue(r.Context(), identityKey{}, id)
		if open[r.Method+" "+r.URL.Path] {
			next.ServeHTTP(w, r.WithContext(ctx))
			return
		}
		if err := d.recognise(r, id); err != nil {
			writeProblem(w, d.problem(err))
			return
		}
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

func (d *Desk) recognise(r *http.Request, id *identity) error {
	auth, err := sign.Parse(r)
	if err != nil {
		return err
	}
	if auth != nil {
		if id.key, err = d.keys.Find(r.Context(), auth.KeyID); err != nil {
			return err
		}
		if id.key == nil {
			return fault.New(fault.Refused, "key-unknown", "there is no access key %q here", auth.KeyID).In("key").Do("check the key's id")
		}
		return auth.Verify(r, id.key.Secret, time.Now())
	}
	c, err := r.Cookie(CookieName)
	if err != nil {
		return fault.New(fault.Unsigned, "signed-out", "nobody is signed in").In("session").Do("sign in, or sign the request")
	}
	sum := sha256.Sum256([]byte(c.Value))
	id.token = sum[:]
	if id.session, err = d.store.Catalog.FindSession(r.Context(), id.token, time.Now()); err != nil {
		return err
	}
	if id.session == nil {
		return fault.New(fault.Unsigned, "session-ended", "the session has ended").In("session").Do("sign in again")
	}
	if id.key, err = d.keys.Find(r.Context(), id.session.Key); err != nil {
		return err
	}
	if id.key == nil {
		return fault.New(fault.Unsigned, "session-ended", "the key of this session is gone").In("session").Do("sign in with another key")
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead &&
		subtle.ConstantTimeCompare([]byte(r.Header.Get(ForgeryHeader)), []byte(id.session.Forgery)) != 1 {
		return fault.New(fault.Refused, "forgery", "the request does not carry the session's token").In(ForgeryHeader).Do("reload the page, and try again")
	}
	return nil
}

// attempts slows down whoever guesses secrets: after five failures from an
// address or for a key, each further try waits twice as long.
type attempts struct {
	mu     sync.Mutex
	failed map[string]*tries
}

type tries struct {
	n     int
	until time.Time
}

func newAttempts() *attempts { return &attempts{failed: map[string]*tries{}} }

func (a *attempts) wait(names ...string) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	var longest time.Duration
	for _, n := range names {
		if t := a.failed[n]; t != nil {
			longest = max(longest, time.Until(t.until))
		}
	}
	return longest
}

func (a *attempts) note(ok bool, names ...string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.failed) > 10_000 {
		clear(a.failed)
	}
	for _, n := range names {
		if ok {
			delete(a.failed, n)
			continue
		}
		t := a.failed[n]
		if t == nil {
			t = &tries{}
			a.failed[n] = t
		}
		if t.n++; t.n >= 5 {
			t.until = time.Now().Add(min(time.Second<<min(t.n-5, 12), 15*time.Minute))
		}
	}
}

// SessionInfo says who is signed in.
type SessionInfo struct {
	Key     string    `json:"key" doc:"The access key's id"`
	Name    string    `json:"name" doc:"The access key's name"`
	Account string    `json:"account"`
	Forgery string    `json:"forgery" doc:"The token that every change must carry in the header X-Spindle-Forgery"`
	Expires time.Time `json:"expires"`
}

type sessionOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      SessionInfo
}

func (d *Desk) sessionCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in with an access key", Tags: []string{"session"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Key    string `json:"key" maxLength:"128" doc:"The access key's id"`
				Secret string `json:"secret" maxLength:"256" doc:"Its secret"`
			}
		}) (*sessionOut, error) {
			s, token, key, err := d.signIn(ctx, in.Body.Key, in.Body.Secret)
			if err != nil {
				return nil, d.problem(err)
			}
			return &sessionOut{SetCookie: d.cookie(token, s.Expires), Body: SessionInfo{Key: key.ID, Name: key.Name, Account: key.Account, Forgery: s.Forgery, Expires: s.Expires}}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "session", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Tags: []string{"session"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body SessionInfo }, error) {
			id := who(ctx)
			out := &struct{ Body SessionInfo }{SessionInfo{Key: id.key.ID, Name: id.key.Name, Account: id.key.Account}}
			if id.session != nil {
				out.Body.Forgery, out.Body.Expires = id.session.Forgery, id.session.Expires
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "End the session", Tags: []string{"session"}, DefaultStatus: 204},
		func(ctx context.Context, _ *struct{}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if id := who(ctx); id.session != nil {
				if err := d.store.Catalog.EndSession(ctx, id.token); err != nil {
					return nil, d.problem(err)
				}
			}
			c := d.cookie("", time.Time{})
			c.MaxAge = -1
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{c}, nil
		})
}

func (d *Desk) cookie(token string, expires time.Time) http.Cookie {
	return http.Cookie{Name: CookieName, Value: token, Path: "/", Expires: expires, HttpOnly: true, Secure: d.settings.Secure, SameSite: http.SameSiteStrictMode}
}

func (d *Desk) signIn(ctx context.Context, id, secret string) (*catalog.Session, string, *keyring.Key, error) {
	id = strings.TrimSpace(id)
	names := []string{"key " + id, "from " + who(ctx).source}
	if w := d.attempts.wait(names...); w > 0 {
		return nil, "", nil, fault.New(fault.Refused, "too-many-attempts", "too many attempts failed").In("secret").Do("wait %s, then try again", w.Round(time.Second))
	}
	key, err := d.keys.Find(ctx, id)
	if err != nil {
		return nil, "", nil, err
	}
	// Compare digests, so that neither time nor length tells anything; an
	// unknown key costs the same as a wrong secret.
	want, got := sha256.Sum256(nil), sha256.Sum256([]byte(strings.TrimSpace(secret)))
	if key != nil {
		want = sha256.Sum256([]byte(key.Secret))
	}
	ok := subtle.ConstantTimeCompare(want[:], got[:]) == 1 && key != nil
	d.attempts.note(ok, names...)
	if !ok {
		return nil, "", nil, fault.New(fault.Refused, "sign-in", "key and secret do not belong together").In("secret").Do("check both; they are shown once when a key is made")
	}
	now := time.Now().UTC()
	token := rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(token))
	s := &catalog.Session{Token: sum[:], Key: key.ID, Forgery: rand.Text(), Created: now, Expires: now.Add(d.settings.SessionFor)}
	if err := d.store.Catalog.PutSession(ctx, *s); err != nil {
		return nil, "", nil, err
	}
	d.log.Info("signed in", "key", key.ID, "from", who(ctx).source)
	return s, token, key, nil
}
