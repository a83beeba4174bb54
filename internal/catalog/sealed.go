package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// CountSealed counts what is sealed under the master key.
func (c *Catalog) CountSealed(ctx context.Context) (int, error) {
	var n int
	err := c.db.GetContext(ctx, &n, `select (select count(*) from access_keys) + (select count(*) from body_keys)`)
	return n, mapError(err)
}

// Reseal has every sealed secret sealed anew, each in a change of its own, and
// says how many. The name of a body key is "body key N".
func (c *Catalog) Reseal(ctx context.Context, seal func(sealed []byte, name string) ([]byte, error)) (int, error) {
	n := 0
	for _, t := range []struct{ table, name string }{{"access_keys", "id"}, {"body_keys", "'body key ' || id"},
		{"endpoints", "'endpoint ' || id"}, {"regions", "'region ' || id"}} {
		var names []string
		if err := c.db.SelectContext(ctx, &names, `select `+t.name+` from `+t.table+` order by 1`); err != nil {
			return n, mapError(err)
		}
		for _, name := range names {
			err := c.inTx(ctx, func(tx *sqlx.Tx) error {
				var sealed []byte
				err := tx.GetContext(ctx, &sealed, `select sealed from `+t.table+` where `+t.name+` = $1 for update`, name)
				if errors.Is(err, sql.ErrNoRows) { // it was removed meanwhile
					return nil
				}
				if err != nil {
					return err
				}
				if sealed, err = seal(sealed, name); err != nil {
					return err
				}
				_, err = tx.ExecContext(ctx, `update `+t.table+` set sealed = $2 where `+t.name+` = $1`, name, sealed)
				return err
			})
			if err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}

// BodyKey gives a body key, sealed; 0 for the newest. It is nil when there is none.
func (c *Catalog) BodyKey(ctx context.Context, id int16) (n int16, sealed []byte, err error) {
	err = c.db.QueryRowxContext(ctx,
		`select id, sealed from body_keys where $1::smallint = 0 or id = $1 order by id desc limit 1`, id).Scan(&n, &sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil, nil
	}
	return n, sealed, mapError(err)
}

// NewBodyKey makes the first body key, when there is none, sealed for its name.
func (c *Catalog) NewBodyKey(ctx context.Context, seal func(name string) ([]byte, error)) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := lockAlone(ctx, tx, accessLock, bodyKeysLock); err != nil {
			return err
		}
		var there bool
		if err := tx.GetContext(ctx, &there, `select exists (select 1 from body_keys)`); err != nil || there {
			return err
		}
		var id int16
		if err := tx.GetContext(ctx, &id, `insert into body_keys (sealed) values ('') returning id`); err != nil {
			return err
		}
		sealed, err := seal(fmt.Sprintf("body key %d", id))
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `update body_keys set sealed = $2 where id = $1`, id, sealed)
		return err
	})
}
