package access

import (
	"context"
	"net/http"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func (d *Desk) sessionInfo(ctx context.Context, id *middle.Identity) (api.SessionInfo, error) {
	s := id.Subject
	out := api.SessionInfo{Name: s.Name, Account: s.Account, Role: s.Role.String(), Operator: s.Operator,
		Accounts: []api.RoleIn{}}
	if id.Key != nil {
		out.Key, out.Name = id.Key.ID, id.Key.Name
	}
	if id.Person != nil {
		out.Person, out.MustChange = id.Person.Name, id.Person.MustChange
		for _, m := range id.Person.Members {
			out.Accounts = append(out.Accounts, api.RoleIn{Account: m.Account, Role: m.Role.String()})
		}
	}
	if id.Session != nil {
		out.Forgery, out.Expires = id.Session.Forgery, id.Session.Expires
	}
	if !s.Operator {
		if len(out.Accounts) == 0 {
			out.Accounts = []api.RoleIn{{Account: s.Account, Role: s.Role.String()}}
		}
		return out, nil
	}
	all, err := d.Store.Catalog.Accounts(ctx, "", 1000)
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

func (d *Desk) sessionCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "sign-in", "POST /session", "session",
		"Sign in, as a person or with an access key", d.signInCall, middle.Answers(201))
	middle.Call(to, middle.Rule{}, "session", "GET /session", "session", "Who is signed in", d.session)
	middle.Call(to, middle.Rule{}, "switch-account", "POST /session/account", "session",
		"Act in another account", d.switchAccountCall)
	middle.Call(to, middle.Rule{}, "change-password", "POST /session/password", "session",
		"Change the password of who is signed in; all sessions end", d.changePasswordCall, middle.Answers(204))
	middle.Call(to, middle.Rule{}, "sign-out", "DELETE /session", "session", "End the session", d.signOut, middle.Answers(204))
}

func (d *Desk) cookie(token string, expires time.Time) http.Cookie {
	return http.Cookie{Name: api.SessionCookie, Value: token, Path: "/", Expires: expires, HttpOnly: true,
		Secure: d.Settings.Secure, SameSite: http.SameSiteStrictMode}
}

func (d *Desk) switchAccount(ctx context.Context, id *middle.Identity, account string) error {
	if id.Session == nil {
		return fault.New(fault.Invalid, "no-session", "a signed request acts in the account of its key").In("account").
			Do("sign with a key of %s", account)
	}
	info, err := d.sessionInfo(ctx, id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(info.Accounts, func(r api.RoleIn) bool { return r.Account == account }) {
		return fault.New(fault.Refused, "not-allowed", "%s has no role in the account %q", id.Subject.Name, account).
			In("account").Do("have an administrator of it give you one")
	}
	if err := d.Store.Catalog.SwitchSession(ctx, id.Session.ID, account); err != nil {
		return err
	}
	id.Session.Account = account
	return d.Holder(ctx, id)
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
	info, err := d.sessionInfo(ctx, middle.Who(ctx))
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.SessionInfo }{info}, nil
}

func (d *Desk) switchAccountCall(ctx context.Context,
	in *struct{ Body api.SwitchAsk }) (*struct{ Body api.SessionInfo }, error) {
	id := middle.Who(ctx)
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
	if err := d.changePassword(ctx, middle.Who(ctx), in.Body.Password, in.Body.New); err != nil {
		return nil, err
	}
	return nil, nil
}

func (d *Desk) signOut(ctx context.Context, _ *struct{}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if id := middle.Who(ctx); id.Session != nil {
		if err := d.Store.Catalog.EndSession(ctx, id.Session.ID, "", access.TrailSignedOut, middle.Author(ctx)); err != nil {
			return nil, err
		}
	}
	c := d.cookie("", time.Time{})
	c.MaxAge = -1
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{c}, nil
}
