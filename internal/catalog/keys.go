package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// AccessKey as stored: its secret is sealed.
type AccessKey struct {
	ID      string    `db:"id"`
	Account string    `db:"account"`
	Name    string    `db:"name"`
	Sealed  []byte    `db:"sealed"`
	Active  bool      `db:"active"`
	Created time.Time `db:"created"`
}

// Key finds an access key; nil when there is none.
func (c *Catalog) Key(ctx context.Context, id string) (*AccessKey, error) {
	var k AccessKey
	err := c.db.GetContext(ctx, &k, `select k.id, a.name as account, k.name, k.sealed, k.active, k.created
		from access_keys k join accounts a on a.id = k.account where k.id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &k, mapError(err)
}

// AnyKey gives some key when there is one, nil otherwise: for the first start.
func (c *Catalog) AnyKey(ctx context.Context) (*AccessKey, error) {
	var id string
	err := c.db.GetContext(ctx, &id, `select id from access_keys order by created limit 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, mapError(err)
	}
	return c.Key(ctx, id)
}

// PutKey writes a key and, when it is new, its account.
func (c *Catalog) PutKey(ctx context.Context, k AccessKey) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `insert into accounts (name) values ($1) on conflict do nothing`, k.Account); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into access_keys (id, account, name, sealed, active) select $1, id, $3, $4, $5 from accounts where name = $2
			on conflict (id) do update set name = excluded.name, sealed = excluded.sealed, active = excluded.active`, k.ID, k.Account, k.Name, k.Sealed, k.Active)
		return err
	})
}

// Session of a person or program that signed in.
type Session struct {
	Token   []byte    `db:"token"` // SHA-256 of the token in the cookie
	Key     string    `db:"key"`
	Forgery string    `db:"forgery"`
	Created time.Time `db:"created"`
	Expires time.Time `db:"expires"`
}

// PutSession writes a session and forgets expired ones.
func (c *Catalog) PutSession(ctx context.Context, s Session) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from sessions where expires < $1`, s.Created); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into sessions (token, key, forgery, created, expires) values ($1, $2, $3, $4, $5)`,
			s.Token, s.Key, s.Forgery, s.Created, s.Expires)
		return err
	})
}

// FindSession gives the session of a token that has not expired; nil when none.
func (c *Catalog) FindSession(ctx context.Context, token []byte, now time.Time) (*Session, error) {
	var s Session
	err := c.db.GetContext(ctx, &s, `select * from sessions where token = $1 and expires > $2`, token, now)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &s, mapError(err)
}

// EndSession removes a session.
func (c *Catalog) EndSession(ctx context.Context, token []byte) error {
	_, err := c.db.ExecContext(ctx, `delete from sessions where token = $1`, token)
	return mapError(err)
}
