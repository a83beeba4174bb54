package desk

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// SessionEntry is a session that has not ended.
type SessionEntry struct {
	ID      int64     `json:"id"`
	Who     string    `json:"who"`
	Kind    string    `json:"kind" enum:"person,key"`
	Account string    `json:"account"`
	Source  string    `json:"source"`
	Program string    `json:"program"`
	Created time.Time `json:"created"`
	Seen    time.Time `json:"seen" doc:"Last, to the minute"`
	Expires time.Time `json:"expires"`
	Own     bool      `json:"own" doc:"It is the one that asks"`
}

func sessionEntry(s catalog.Session, asks *identity) SessionEntry {
	e := SessionEntry{ID: s.ID, Who: s.Holder(), Kind: "key", Account: s.Account, Source: s.Source, Program: s.Program,
		Created: s.Created.UTC(), Seen: s.Seen.UTC(), Expires: s.Expires.UTC(),
		Own: asks.session != nil && asks.session.ID == s.ID}
	if s.Person != nil {
		e.Kind = "person"
	}
	return e
}

func (d *Desk) sessionListCalls(to *calls) {
	call(to, rule{}, "list-sessions", "GET /sessions", "access",
		"List sessions, latest first: all for operators, those of their account for administrators, else your own",
		d.listSessions)
	call(to, rule{}, "end-session", "DELETE /sessions/{id}", "access", "End a session", d.endSession, answers(204))
}

// SessionPage is a page of a list.
type SessionPage struct {
	Sessions []SessionEntry `json:"sessions"`
	Next     int64          `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
}

type sessions struct{ Body SessionPage }

func (d *Desk) listSessions(ctx context.Context, in *struct {
	Before int64 `query:"before" minimum:"0"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*sessions, error) {
	id := who(ctx)
	account := id.subject.Account
	if id.subject.Operator {
		account = ""
	}
	out := &sessions{}
	var err error
	out.Body.Sessions, out.Body.Next, err = paged(in.Before, in.Limit,
		func(before int64, limit int) ([]catalog.Session, error) {
			return d.store.Catalog.Sessions(ctx, account, before, limit)
		},
		func(s catalog.Session) int64 { return s.ID },
		func(s catalog.Session) (SessionEntry, bool, error) {
			return sessionEntry(s, id), s.By() == id.subject.By() || id.subject.Administers(s.Account), nil
		})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (d *Desk) endSession(ctx context.Context, in *struct {
	ID int64 `path:"id" minimum:"1"`
}) (*struct{}, error) {
	id := who(ctx)
	list, err := d.store.Catalog.Sessions(ctx, "", in.ID+1, 1)
	if err == nil && (len(list) == 0 || list[0].ID != in.ID || list[0].By() != id.subject.By() &&
		!id.subject.Administers(list[0].Account)) {
		err = fault.New(fault.NotFound, "session-missing", "there is no session %d that you may end", in.ID).In("session").
			Do("it may have ended by itself")
	}
	if err == nil {
		err = d.store.Catalog.EndSession(ctx, in.ID, "", catalog.TrailSessionEnded, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return nil, nil
}
