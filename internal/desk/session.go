package desk

import (
	"context"
	"net/http"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
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
	device  string // the token of the device's cookie, if it has one
}

func who(ctx context.Context) *identity {
	id, _ := ctx.Value(identityKey{}).(*identity)
	return id
}

func author(ctx context.Context) catalog.Author {
	id := who(ctx)
	return catalog.Author{At: time.Now().UTC().Truncate(time.Microsecond), Who: id.subject.By(), Source: id.source}
}

// holder finds the key or person of a session, as they are now.
func (d *Desk) holder(ctx context.Context, id *identity) (err error) {
	gone := fault.New(fault.Unsigned, "session-ended",
		"the session has ended: the key or password it was opened with no longer works").
		In("session").Do("sign in again")
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
	id.subject = access.Subject{Kind: access.Person, Name: id.person.Name, Account: id.session.Account,
		Operator: id.person.Operator}
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

func (d *Desk) sessionInfo(ctx context.Context, id *identity) (api.SessionInfo, error) {
	s := id.subject
	out := api.SessionInfo{Name: s.Name, Account: s.Account, Role: s.Role.String(), Operator: s.Operator,
		Accounts: []api.RoleIn{}}
	if id.key != nil {
		out.Key, out.Name = id.key.ID, id.key.Name
	}
	if id.person != nil {
		out.Person, out.MustChange = id.person.Name, id.person.MustChange
		for _, m := range id.person.Members {
			out.Accounts = append(out.Accounts, api.RoleIn{Account: m.Account, Role: m.Role.String()})
		}
	}
	if id.session != nil {
		out.Forgery, out.Expires = id.session.Forgery, id.session.Expires
	}
	if !s.Operator {
		if len(out.Accounts) == 0 {
			out.Accounts = []api.RoleIn{{Account: s.Account, Role: s.Role.String()}}
		}
		return out, nil
	}
	all, err := d.store.Catalog.Accounts(ctx, "", 1000)
	out.Accounts = []api.RoleIn{}
	for _, a := range all {
		out.Accounts = append(out.Accounts, api.RoleIn{Account: a.Name, Role: access.Administrator.String()})
	}
	return out, err
}

type sessionOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      api.SessionInfo
}

func (d *Desk) sessionCalls(to *calls) {
	call(to, rule{}, "sign-in", "POST /session", "session",
		"Sign in, as a person or with an access key", d.signInCall, answers(201))
	call(to, rule{}, "session", "GET /session", "session", "Who is signed in", d.session)
	call(to, rule{}, "switch-account", "POST /session/account", "session",
		"Act in another account", d.switchAccountCall)
	call(to, rule{}, "change-password", "POST /session/password", "session",
		"Change the password of who is signed in; all sessions end", d.changePasswordCall, answers(204))
	call(to, rule{}, "sign-out", "DELETE /session", "session", "End the session", d.signOut, answers(204))
}

func (d *Desk) cookie(token string, expires time.Time) http.Cookie {
	return http.Cookie{Name: CookieName, Value: token, Path: "/", Expires: expires, HttpOnly: true,
		Secure: d.settings.Secure, SameSite: http.SameSiteStrictMode}
}

func (d *Desk) switchAccount(ctx context.Context, id *identity, account string) error {
	if id.session == nil {
		return fault.New(fault.Invalid, "no-session", "a signed request acts in the account of its key").In("account").
			Do("sign with a key of %s", account)
	}
	info, err := d.sessionInfo(ctx, id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(info.Accounts, func(r api.RoleIn) bool { return r.Account == account }) {
		return fault.New(fault.Refused, "not-allowed", "%s has no role in the account %q", id.subject.Name, account).
			In("account").Do("have an administrator of it give you one")
	}
	if err := d.store.Catalog.SwitchSession(ctx, id.session.ID, account); err != nil {
		return err
	}
	id.session.Account = account
	return d.holder(ctx, id)
}

func (d *Desk) signInCall(ctx context.Context, in *struct{ Body api.SignInAsk }) (*sessionOut, error) {
	id, cookies, err := d.signIn(ctx, in.Body.Person, in.Body.Password, in.Body.Key, in.Body.Secret)
	if err != nil {
		return nil, err
	}
	info, err := d.sessionInfo(ctx, id)
	if err != nil {
		return nil, err
	}
	return &sessionOut{SetCookie: cookies, Body: info}, nil
}

func (d *Desk) session(ctx context.Context, _ *struct{}) (*struct{ Body api.SessionInfo }, error) {
	info, err := d.sessionInfo(ctx, who(ctx))
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.SessionInfo }{info}, nil
}

func (d *Desk) switchAccountCall(ctx context.Context,
	in *struct{ Body api.SwitchAsk }) (*struct{ Body api.SessionInfo }, error) {
	id := who(ctx)
	if err := d.switchAccount(ctx, id, in.Body.Account); err != nil {
		return nil, err
	}
	info, err := d.sessionInfo(ctx, id)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.SessionInfo }{info}, nil
}

func (d *Desk) changePasswordCall(ctx context.Context, in *struct{ Body api.PasswordAsk }) (*struct{}, error) {
	if err := d.changePassword(ctx, who(ctx), in.Body.Password, in.Body.New); err != nil {
		return nil, err
	}
	return nil, nil
}

func (d *Desk) signOut(ctx context.Context, _ *struct{}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if id := who(ctx); id.session != nil {
		if err := d.store.Catalog.EndSession(ctx, id.session.ID, "", access.TrailSignedOut, author(ctx)); err != nil {
			return nil, err
		}
	}
	c := d.cookie("", time.Time{})
	c.MaxAge = -1
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{c}, nil
}
