package catalog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// SavedKind is what can be kept under a name.
type SavedKind string

// The kinds.
const (
	SavedFind    SavedKind = "find"    // a question
	SavedJournal SavedKind = "journal" // a filter
)

// Saved is what an account keeps under a name.
type Saved struct {
	Name  string          `db:"name"`
	Says  json.RawMessage `db:"says"`
	Saved time.Time       `db:"saved"`
	By    string          `db:"saved_by"`
}

// Saved gives what an account keeps of a kind, by name.
func (c *Catalog) Saved(ctx context.Context, account string, of SavedKind) ([]Saved, error) {
	list := []Saved{}
	err := c.db.SelectContext(ctx, &list, `select s.name, s.says, s.saved, s.saved_by
		from saved s join accounts a on a.id = s.account where a.name = $1 and s.of = $2 order by s.name
		limit 1000`, account, of)
	return list, mapError(err)
}

// Save keeps something under a name, in place of what has it.
func (c *Catalog) Save(ctx context.Context, account string, of SavedKind, name string, says any, by Author) error {
	doc, err := json.Marshal(says)
	if err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		before, err := savedSettings(ctx, tx, account, of, name)
		if err != nil {
			return err
		}
		is := map[string]any{}
		if err := json.Unmarshal(doc, &is); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert into saved (account, of, name, says, saved, saved_by)
			select id, $2, $3, $4::jsonb, $5, $6 from accounts where name = $1 on conflict (account, of, name) do update
			set says = excluded.says, saved = excluded.saved,
			saved_by = excluded.saved_by`, account, of, name, string(doc), by.At,
			by.Who); err != nil {
			return err
		}
		detail := map[string]any{"saved": says, changedIn: mapChanges(before, is)}
		if before == nil { // all that it says came with it
			detail[string(of)+" added"] = name
		}
		return trail(ctx, tx, by, access.TrailSetting, account, string(of)+" "+name, detail)
	})
}

// savedSettings gives what is kept under a name; nil when nothing is.
func savedSettings(ctx context.Context, tx *sqlx.Tx, account string, of SavedKind, name string) (map[string]any,
	error) {
	var list [][]byte
	var out map[string]any
	err := tx.SelectContext(ctx, &list, `select s.says from saved s join accounts a on a.id = s.account
		where a.name = $1 and s.of = $2 and s.name = $3 for update of s`, account, of, name)
	if err == nil && len(list) > 0 {
		err = json.Unmarshal(list[0], &out)
	}
	return out, err
}

// Forget takes away what is kept under a name. The error for nothing has the code
// saved-missing.
func (c *Catalog) Forget(ctx context.Context, account string, of SavedKind, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `delete from saved s using accounts a where a.id = s.account and a.name = $1
			and s.of = $2
			and s.name = $3`, account, of, name)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fault.New(fault.NotFound, "saved-missing", "nothing is saved as %q", name).In("name").
					Do("spindle %s saved lists what is", of)
			}
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, account, string(of)+" "+name, map[string]any{"forgotten": name})
	})
}
