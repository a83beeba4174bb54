package desk

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
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
	subject access.Subject
	key     *keyring.Key       // nil for a person
	person  *catalog.PersonRow // nil for a key
	session *catalog.Session   // nil when the request is signed
	source  string
	program string
}

func who(ctx context.Context) *identity {
	id, _ := ctx.Value(identityKey{}).(*identity)
	return id
}

func author(ctx context.Context) catalog.Author {
	id := who(ctx)
	return catalog.Author{At: time.Now().UTC().Truncate(time.Microsecond), Who: id.subject.Name, Source: id.source}
}

// open are the calls that anyone may make.
var open = map[string]bool{"GET /api/v1/service": true, "POST /api/v1/session": true, "GET /openapi.yaml": true, "GET /openapi.json": true}

// identify finds who asks, by signature or session, and refuses others.
func (d *Desk) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		source, _, _ := net.SplitHostPort(r.RemoteAddr)
		id := &identity{source: source, program: r.UserAgent()}
		if len(id.program) > 200 {
			id.program = id.program[:200]
		}
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
	ctx, now := r.Context(), time.Now()
	auth, err := sign.Parse(r)
	if err != nil {
		return err
	}
	if auth != nil {
		if id.key, err = d.gate.Key(ctx, auth.KeyID); err != nil {
			return err
		}
		if err := auth.Verify(r, id.key.Secret, now); err != nil {
			return err
		}
		id.subject = id.key.Subject()
		return d.gate.Use(id.key, id.source, now)
	}
	c, err := r.Cookie(CookieName)
	if err != nil {
		return fault.New(fault.Unsigned, "signed-out", "nobody is signed in").In("session").Do("sign in, or sign the request")
	}
	sum := sha256.Sum256([]byte(c.Value))
	if id.session, err = d.store.Catalog.FindSession(ctx, sum[:], now); err != nil {
		return err
	}
	if id.session == nil {
		return fault.New(fault.Unsigned, "session-ended", "the session has ended").In("session").Do("sign in again")
	}
	if err := d.holder(ctx, id); err != nil {
		return err
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead &&
		subtle.ConstantTimeCompare([]byte(r.Header.Get(ForgeryHeader)), []byte(id.session.Forgery)) != 1 {
		return fault.New(fault.Refused, "forgery", "the request does not carry the session's token").In(ForgeryHeader).Do("reload the page, and try again")
	}
	if id.person != nil && id.person.MustChange && !strings.HasPrefix(r.URL.Path, "/api/v1/session") {
		return fault.New(fault.Refused, "password-change", "the password was given by somebody else").In("password").Do("choose one of your own first")
	}
	return nil
}

// holder finds the key or person of a session, as they are now.
func (d *Desk) holder(ctx context.Context, id *identity) (err error) {
	gone := fault.New(fault.Unsigned, "session-ended", "the session has ended: what it was opened with works no more").In("session").Do("sign in again")
	if id.session.Key != nil {
		if id.key, err = d.gate.Keys.Find(ctx, *id.session.Key); err != nil {
			return err
		}
		if id.key == nil || id.key.Works(time.Now()) != nil {
			return gone
		}
		id.subject = id.key.Subject()
		if id.subject.Operator {
			id.subject.Account = id.session.Account
		}
		return nil
	}
	if id.person, err = d.store.Catalog.FindPerson(ctx, *id.session.Person); err != nil {
		return err
	}
	if id.person == nil || !id.person.Active {
		return gone
	}
	id.subject = access.Subject{Kind: access.Person, Name: id.person.Name, Account: id.session.Account, Operator: id.person.Operator}
	for _, m := range id.person.Members {
		if m.Account == id.session.Account {
			id.subject.Role = m.Role
		}
	}
	if id.subject.Role == access.None && !id.subject.Operator {
		return gone
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

// RoleIn is a role in an account.
type RoleIn struct {
	Account string `json:"account"`
	Role    string `json:"role" enum:"none,reader,writer,administrator" doc:"none takes a role away"`
}

// SessionInfo says who is signed in.
type SessionInfo struct {
	Key        string    `json:"key,omitempty" doc:"The access key's id, when a key signed in"`
	Person     string    `json:"person,omitempty" doc:"The person's name, when one signed in"`
	Name       string    `json:"name" doc:"The key's or person's name"`
	Account    string    `json:"account" doc:"That the session acts in"`
	Role       string    `json:"role" enum:"none,reader,writer,administrator" doc:"In that account"`
	Operator   bool      `json:"operator" doc:"Of the service"`
	Accounts   []RoleIn  `json:"accounts" doc:"Those the session can act in"`
	MustChange bool      `json:"mustChange,omitempty" doc:"The password must be changed first"`
	Forgery    string    `json:"forgery" doc:"The token that every change must carry in the header X-Spindle-Forgery"`
	Expires    time.Time `json:"expires"`
}

func (d *Desk) sessionInfo(ctx context.Context, id *identity) (SessionInfo, error) {
	s := id.subject
	out := SessionInfo{Name: s.Name, Account: s.Account, Role: s.Role.String(), Operator: s.Operator, Accounts: []RoleIn{}}
	if id.key != nil {
		out.Key, out.Name = id.key.ID, id.key.Name
	}
	if id.person != nil {
		out.Person, out.MustChange = id.person.Name, id.person.MustChange
		for _, m := range id.person.Members {
			out.Accounts = append(out.Accounts, RoleIn{m.Account, m.Role.String()})
		}
	}
	if id.session != nil {
		out.Forgery, out.Expires = id.session.Forgery, id.session.Expires
	}
	if !s.Operator {
		if len(out.Accounts) == 0 {
			out.Accounts = []RoleIn{{s.Account, s.Role.String()}}
		}
		return out, nil
	}
	all, err := d.store.Catalog.Accounts(ctx, "", 1000)
	out.Accounts = []RoleIn{}
	for _, a := range all {
		out.Accounts = append(out.Accounts, RoleIn{a.Name, access.Administrator.String()})
	}
	return out, err
}

type sessionOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      SessionInfo
}

func (d *Desk) sessionCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/v1/session", Summary: "Sign in, as a person or with an access key", Tags: []string{"session"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Person   string `json:"person,omitempty" maxLength:"128"`
				Password string `json:"password,omitempty" maxLength:"1024"`
				Key      string `json:"key,omitempty" maxLength:"128" doc:"An access key's id, instead"`
				Secret   string `json:"secret,omitempty" maxLength:"256" doc:"Its secret"`
			}
		}) (*sessionOut, error) {
			id, token, err := d.signIn(ctx, in.Body.Person, in.Body.Password, in.Body.Key, in.Body.Secret)
			if err != nil {
				return nil, d.problem(err)
			}
			info, err := d.sessionInfo(ctx, id)
			if err != nil {
				return nil, d.problem(err)
			}
			return &sessionOut{SetCookie: d.cookie(token, id.session.Expires), Body: info}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "session", Method: http.MethodGet, Path: "/api/v1/session", Summary: "Who is signed in", Tags: []string{"session"}},
		func(ctx context.Context, _ *struct{}) (*struct{ Body SessionInfo }, error) {
			info, err := d.sessionInfo(ctx, who(ctx))
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body SessionInfo }{info}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "switch-account", Method: http.MethodPost, Path: "/api/v1/session/account", Summary: "Act in another account", Tags: []string{"session"}},
		func(ctx context.Context, in *struct {
			Body struct {
				Account string `json:"account" maxLength:"64"`
			}
		}) (*struct{ Body SessionInfo }, error) {
			id := who(ctx)
			if err := d.switchAccount(ctx, id, in.Body.Account); err != nil {
				return nil, d.problem(err)
			}
			info, err := d.sessionInfo(ctx, id)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body SessionInfo }{info}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "change-password", Method: http.MethodPost, Path: "/api/v1/session/password", Summary: "Change the password of who is signed in; all sessions end", Tags: []string{"session"}, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			Body struct {
				Password string `json:"password" maxLength:"1024" doc:"The one there is"`
				New      string `json:"new" maxLength:"1024"`
			}
		}) (*struct{}, error) {
			if err := d.changePassword(ctx, who(ctx), in.Body.Password, in.Body.New); err != nil {
				return nil, d.problem(err)
			}
			return nil, nil
		})
	huma.Register(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/v1/session", Summary: "End the session", Tags: []string{"session"}, DefaultStatus: 204},
		func(ctx context.Context, _ *struct{}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if id := who(ctx); id.session != nil {
				if err := d.store.Catalog.EndSession(ctx, id.session.ID, "", catalog.TrailSignedOut, author(ctx)); err != nil {
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

func (d *Desk) signIn(ctx context.Context, person, password, key, secret string) (*identity, string, error) {
	id := who(ctx)
	person, key = strings.TrimSpace(person), strings.TrimSpace(key)
	name, field := "key "+key, "secret"
	if person != "" {
		name, field = "person "+person, "password"
	}
	if w := d.attempts.wait(name, "from "+id.source); w > 0 {
		return nil, "", fault.New(fault.Refused, "too-many-attempts", "too many attempts failed").In(field).Do("wait %s, then try again", w.Round(time.Second))
	}
	now := time.Now().UTC()
	s := &catalog.Session{Forgery: rand.Text(), Source: id.source, Program: id.program, Created: now, Expires: now.Add(d.settings.SessionFor)}
	var ok bool
	var err error
	if person != "" {
		ok, err = d.knowsPassword(ctx, id, s, person, password, now)
	} else {
		ok, err = d.knowsSecret(ctx, id, s, key, secret)
	}
	if err != nil {
		return nil, "", err
	}
	d.attempts.note(ok, name, "from "+id.source)
	if !ok {
		d.gate.Note(catalog.TrailEntry{Kind: catalog.TrailSignInFailed, Who: strings.TrimPrefix(strings.TrimPrefix(name, "key "), "person "), Source: id.source, Subject: name, Detail: map[string]any{}})
		if person != "" {
			return nil, "", fault.New(fault.Refused, "sign-in", "name and password do not belong together").In(field).Do("check both; an operator can give a new password")
		}
		return nil, "", fault.New(fault.Refused, "sign-in", "key and secret do not belong together").In(field).Do("check both; they are shown once when a key is made")
	}
	// A new token for every sign-in: one that somebody planted is never taken up.
	token := rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(token))
	s.Token = sum[:]
	if err := d.store.Catalog.PutSession(ctx, *s); err != nil {
		return nil, "", err
	}
	id.session = s
	d.log.Info("signed in", "as", s.Holder(), "from", id.source)
	return id, token, d.holder(ctx, id)
}

// knowsSecret compares digests, so that neither time nor length tells anything;
// an unknown key costs the same as a wrong secret.
func (d *Desk) knowsSecret(ctx context.Context, id *identity, s *catalog.Session, key, secret string) (bool, error) {
	k, err := d.gate.Keys.Find(ctx, key)
	if err != nil {
		return false, err
	}
	want, got := sha256.Sum256(nil), sha256.Sum256([]byte(strings.TrimSpace(secret)))
	if k != nil {
		want = sha256.Sum256([]byte(k.Secret))
	}
	if subtle.ConstantTimeCompare(want[:], got[:]) != 1 || k == nil {
		return false, nil
	}
	s.Key, s.Account = &k.ID, k.Account
	return true, d.gate.Use(k, id.source, time.Now())
}

func (d *Desk) knowsPassword(ctx context.Context, id *identity, s *catalog.Session, name, password string, now time.Time) (bool, error) {
	p, err := d.store.Catalog.FindPerson(ctx, name)
	if err != nil {
		return false, err
	}
	coded := ""
	if p != nil && p.Active {
		coded = p.Password
		if p.Locked != nil && now.Before(*p.Locked) {
			return false, fault.New(fault.Refused, "too-many-attempts", "too many attempts failed").In("password").Do("wait %s, then try again", p.Locked.Sub(now).Round(time.Second))
		}
	}
	ok, err := keyring.CheckPassword(ctx, password, coded)
	if err != nil {
		return false, err
	}
	if p != nil {
		if err := d.store.Catalog.NoteSignIn(ctx, p.Name, ok, now); err != nil {
			return false, err
		}
	}
	if !ok {
		return false, nil
	}
	s.Person = &p.Name
	switch {
	case len(p.Members) > 0:
		s.Account = p.Members[0].Account
	case p.Operator:
		if s.Account, err = d.operating(ctx); err != nil {
			return false, err
		}
	default:
		return false, fault.New(fault.Refused, "no-account", "%s has no role in any account", p.Name).In("person").Do("have an administrator give you one")
	}
	return true, nil
}

// operating gives the account that operates the service.
func (d *Desk) operating(ctx context.Context) (string, error) {
	all, err := d.store.Catalog.Accounts(ctx, "", 1000)
	for _, a := range all {
		if a.Operator {
			return a.Name, nil
		}
	}
	return "", err
}

func (d *Desk) switchAccount(ctx context.Context, id *identity, account string) error {
	if id.session == nil {
		return fault.New(fault.Invalid, "no-session", "a signed request acts in the account of its key").In("account").Do("sign with a key of %s", account)
	}
	info, err := d.sessionInfo(ctx, id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(info.Accounts, func(r RoleIn) bool { return r.Account == account }) {
		return fault.New(fault.Refused, "not-allowed", "%s has no role in the account %q", id.subject.Name, account).In("account").Do("have an administrator of it give you one")
	}
	if err := d.store.Catalog.SwitchSession(ctx, id.session.ID, account); err != nil {
		return err
	}
	id.session.Account = account
	return d.holder(ctx, id)
}

func (d *Desk) changePassword(ctx context.Context, id *identity, old, fresh string) error {
	if id.person == nil {
		return fault.New(fault.Invalid, "no-password", "a key has a secret, no password").In("password").Do("replace the key")
	}
	if w := d.attempts.wait("person " + id.person.Name); w > 0 {
		return fault.New(fault.Refused, "too-many-attempts", "too many attempts failed").In("password").Do("wait %s, then try again", w.Round(time.Second))
	}
	ok, err := keyring.CheckPassword(ctx, old, id.person.Password)
	if err != nil {
		return err
	}
	d.attempts.note(ok, "person "+id.person.Name)
	if !ok {
		return fault.New(fault.Refused, "sign-in", "this is not the password there is").In("password")
	}
	if old == fresh {
		return fault.New(fault.Invalid, "password-weak", "the new password is the old one").In("new").Do("choose another")
	}
	coded, err := keyring.HashPassword(ctx, fresh)
	if err != nil {
		return fault.From(err).In("new")
	}
	return d.store.Catalog.ChangePerson(ctx, id.person.Name, 0, author(ctx), catalog.TrailPassword, func(p *catalog.PersonRow) error {
		p.Password, p.MustChange, p.Failures, p.Locked = coded, false, 0, nil
		return nil
	})
}
