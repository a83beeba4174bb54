package catalog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
)

// SavedFind is a question of find under a name.
type SavedFind struct {
	Name       string    `db:"name"`
	Expression string    `db:"expression"`
	Buckets    []string  `db:"-"` // none: all
	Versions   bool      `db:"versions"`
	Saved      time.Time `db:"saved"`
	By         string    `db:"saved_by"`
}

// SavedFinds gives the questions that an account keeps, by name.
func (c *Catalog) SavedFinds(ctx context.Context, account string) ([]SavedFind, error) {
	var rows []struct {
		SavedFind
		In []byte `db:"in_buckets"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select s.name, s.expression, to_json(s.buckets)::text as in_buckets, s.versions, s.saved, s.saved_by
		from saved_finds s join accounts a on a.id = s.account where a.name = $1 order by s.name limit 1000`, account); err != nil {
		return nil, mapError(err)
	}
	list := make([]SavedFind, len(rows))
	for i, r := range rows {
		list[i] = r.SavedFind
		if err := json.Unmarshal(r.In, &list[i].Buckets); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// SaveFind keeps a question under a name, in place of one that has it.
func (c *Catalog) SaveFind(ctx context.Context, account string, f SavedFind, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `insert into saved_finds (account, name, expression, buckets, versions, saved, saved_by)
			select id, $2, $3, $4::text[], $5, $6, $7 from accounts where name = $1 on conflict (account, name) do update
			set expression = excluded.expression, buckets = excluded.buckets, versions = excluded.versions, saved = excluded.saved,
			saved_by = excluded.saved_by`, account, f.Name, f.Expression, append([]string{}, f.Buckets...), f.Versions, by.At, by.Who); err != nil {
			return err
		}
		return trail(ctx, tx, by, TrailSetting, account, "find "+f.Name, map[string]any{"question saved": f.Expression})
	})
}

// ForgetFind takes a question away. The error for none has the code find-missing.
func (c *Catalog) ForgetFind(ctx context.Context, account, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `delete from saved_finds s using accounts a where a.id = s.account and a.name = $1 and s.name = $2`,
			account, name)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fault.New(fault.NotFound, "find-missing", "no question is saved as %q", name).In("name").Do("spindle find saved names those there are")
			}
			return err
		}
		return trail(ctx, tx, by, TrailSetting, account, "find "+name, map[string]any{"question forgotten": name})
	})
}
