package access

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func sessionEntry(s catalog.Session, asks *middle.Identity) api.SessionEntry {
	e := api.SessionEntry{ID: s.ID, Who: s.Holder(), Kind: "key", Account: s.Account, Source: s.Source, Program: s.Program,
		Created: s.Created.UTC(), Seen: s.Seen.UTC(), Expires: s.Expires.UTC(),
		Own: asks.Session != nil && asks.Session.ID == s.ID}
	if s.Person != nil {
		e.Kind = "person"
	}
	return e
}

func (d *Desk) sessionListCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-sessions", "GET /sessions", "access",
		"List sessions, latest first: all for operators, those of their account for administrators, else your own",
		d.listSessions)
	middle.Call(to, middle.Rule{}, "end-session", "DELETE /sessions/{id}", "access", "End a session", d.endSession, middle.Answers(204))
}

type sessions struct{ Body api.SessionPage }

func (d *Desk) listSessions(ctx context.Context, in *struct {
	Before int64 `query:"before" minimum:"0"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*sessions, error) {
	id := middle.Who(ctx)
	account := id.Subject.Account
	if id.Subject.Operator {
		account = ""
	}
	out := &sessions{}
	var err error
	out.Body.Sessions, out.Body.Next, err = middle.Paged(in.Before, in.Limit,
		func(before int64, limit int) ([]catalog.Session, error) {
			return d.Store.Catalog.Sessions(ctx, account, before, limit)
		},
		func(s catalog.Session) int64 { return s.ID },
		func(s catalog.Session) (api.SessionEntry, bool, error) {
			return sessionEntry(s, id), s.By() == id.Subject.By() || id.Subject.Administers(s.Account), nil
		})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (d *Desk) endSession(ctx context.Context, in *struct {
	ID int64 `path:"id" minimum:"1"`
}) (*struct{}, error) {
	id := middle.Who(ctx)
	list, err := d.Store.Catalog.Sessions(ctx, "", in.ID+1, 1)
	if err == nil && (len(list) == 0 || list[0].ID != in.ID || list[0].By() != id.Subject.By() &&
		!id.Subject.Administers(list[0].Account)) {
		err = fault.New(fault.NotFound, "session-missing", "there is no session %d that you may end", in.ID).In("session").
			Do("it may have ended by itself")
	}
	if err == nil {
		err = d.Store.Catalog.EndSession(ctx, in.ID, "", access.TrailSessionEnded, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return nil, nil
}
