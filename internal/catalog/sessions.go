package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// Session of a person or program that signed in.
type Session struct {
	ID      int64     `db:"id"`
	Token   []byte    `db:"token"` // SHA-256 of the token in the cookie
	Person  *string   `db:"person"`
	Key     *string   `db:"key"`
	Account string    `db:"account"` // that it acts in
	Forgery string    `db:"forgery"`
	Source  string    `db:"source"`
	Program string    `db:"program"`
	Created time.Time `db:"created"`
	Seen    time.Time `db:"seen"`
	Expires time.Time `db:"expires"`
}

// Holder gives the person or key that signed in.
func (s *Session) Holder() string {
	if s.Person != nil {
		return *s.Person
	}
	return *s.Key
}

// By gives the holder as records keep it.
func (s *Session) By() string {
	if s.Person != nil {
		return access.Subject{Kind: access.Person, Name: *s.Person}.By()
	}
	return *s.Key
}

// PutSession writes a session with an entry of the trail, and forgets expired
// ones.
func (c *Catalog) PutSession(ctx context.Context, s Session) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from sessions where expires < $1`, s.Created); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`insert into sessions (token, person, key, account, forgery, source, program, created, seen, expires)
				values ($1, $2, $3, $4, $5, $6, $7, $8, $8, $9)`,
			s.Token, s.Person, s.Key, s.Account, s.Forgery, s.Source, plainText(s.Program), s.Created, s.Expires); err != nil {
			return err
		}
		return trail(ctx, tx, Author{At: s.Created, Who: s.By(), Source: s.Source}, access.TrailSignedIn, s.Account, s.By(),
			map[string]any{"program": plainText(s.Program)})
	})
}

// FindSession gives the session of a token that has not expired, and notes once
// a minute that it is in use; nil when none.
func (c *Catalog) FindSession(ctx context.Context, token []byte, now time.Time) (*Session, error) {
	var s Session
	err := c.db.GetContext(ctx, &s, `select * from sessions where token = $1 and expires > $2`, token, now)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err == nil && now.Sub(s.Seen) > time.Minute {
		_, err = c.db.ExecContext(ctx, `update sessions set seen = $2 where id = $1`, s.ID, now)
	}
	return &s, mapError(err)
}

// Sessions gives those that have not expired, of one account when it is not "",
// latest first.
func (c *Catalog) Sessions(ctx context.Context, account string, before int64, limit int) ([]Session, error) {
	out := []Session{}
	q := where().and(`expires > now()`).when(account != "", `account = ?`, account).when(before != 0, `id < ?`, before)
	err := c.db.SelectContext(ctx, &out,
		`select * from sessions where `+q.String()+` order by id desc limit `+q.arg(limit), q.args...)
	return out, mapError(err)
}

// SwitchSession lets a session act in another account.
func (c *Catalog) SwitchSession(ctx context.Context, id int64, account string) error {
	_, err := c.db.ExecContext(ctx, `update sessions set account = $2 where id = $1`, id, account)
	return mapError(err)
}

// EndSession removes a session, with an entry of the trail of a kind. The error
// for none in the account has the code session-missing.
func (c *Catalog) EndSession(ctx context.Context, id int64, account, kind string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var s Session
		q := where().and(`id = ?`, id).when(account != "", `account = ?`, account)
		err := tx.GetContext(ctx, &s, `delete from sessions where `+q.String()+` returning *`, q.args...)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.New(fault.NotFound, "session-missing", "there is no session %d", id).In("session").
				Do("it may have ended by itself")
		}
		if err != nil {
			return err
		}
		return trail(ctx, tx, by, kind, s.Account, s.By(), nil)
	})
}
