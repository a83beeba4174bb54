package catalog

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// AccessKey as stored: its secret is sealed.
type AccessKey struct {
	ID        string      `db:"id"`
	Account   string      `db:"account"`
	Operator  bool        `db:"operator"` // it operates the service: given by an operator only
	Name      string      `db:"name"`
	Note      string      `db:"note"`
	Role      access.Role `db:"role"`
	Limits    Limits      `db:"limits"`
	Rate      int         `db:"rate"` // requests a second; 0: any number
	Sealed    []byte      `db:"sealed"`
	Active    bool        `db:"active"`
	Expires   *time.Time  `db:"expires"`
	Created   time.Time   `db:"created"`
	CreatedBy string      `db:"created_by"`
	Used      *time.Time  `db:"used"`
	UsedFrom  string      `db:"used_from"`
	Replaced  *string     `db:"replaced"` // the key that replaced it
	Revision  int         `db:"revision"`
}

// Limits are what a key is limited to, as the database keeps them.
type Limits []access.Scope

type limitDoc struct {
	Bucket string `json:"bucket"`
	Prefix string `json:"prefix"` // hex: a prefix may have any bytes
}

// Scan reads limits.
func (l *Limits) Scan(v any) error {
	var docs []limitDoc
	b, ok := v.([]byte)
	if s, text := v.(string); text {
		b, ok = []byte(s), true
	}
	if !ok {
		return errors.New("limits are no text")
	}
	if err := json.Unmarshal(b, &docs); err != nil {
		return err
	}
	for _, d := range docs {
		p, err := hex.DecodeString(d.Prefix)
		if err != nil {
			return err
		}
		*l = append(*l, access.Scope{Bucket: d.Bucket, Prefix: string(p)})
	}
	return nil
}

func (l Limits) text() (string, error) {
	docs := []limitDoc{}
	for _, s := range l {
		docs = append(docs, limitDoc{s.Bucket, hexKey(s.Prefix)})
	}
	b, err := json.Marshal(docs)
	return string(b), err
}

const keyQuery = `select k.id, a.name as account, k.operator, k.name, k.note, k.role, k.limits, k.rate, k.sealed,
	k.active, k.expires, k.created, k.created_by, k.used, k.used_from, k.replaced, k.revision
	from access_keys k join accounts a on a.id = k.account `

// Key finds an access key; nil when there is none.
func (c *Catalog) Key(ctx context.Context, id string) (*AccessKey, error) {
	var k AccessKey
	err := c.db.GetContext(ctx, &k, keyQuery+`where k.id = $1`, plainText(id))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &k, mapError(err)
}

// KeysNamed gives the ids of keys of an account that have a name and were not replaced, two at most.
func (c *Catalog) KeysNamed(ctx context.Context, account, name string) (ids []string, err error) {
	err = c.db.SelectContext(ctx, &ids, `select k.id from access_keys k join accounts a on a.id = k.account
		where a.name = $1 and k.name = $2 and k.replaced is null order by k.id limit 2`, plainText(account), plainText(name))
	return ids, mapError(err)
}

// AccessKeys gives a page of keys by id after an id; those of one account when it is
// not "".
func (c *Catalog) AccessKeys(ctx context.Context, account, after string, limit int) ([]AccessKey, error) {
	out := []AccessKey{}
	q := where().and(`k.id > ?`, after).when(account != "", `a.name = ?`, account)
	err := c.db.SelectContext(ctx, &out, keyQuery+`where `+q.String()+` order by k.id limit `+q.arg(limit), q.args...)
	return out, mapError(err)
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

// FirstKey writes the first key and its account, which operates the service. It
// does nothing when there is a key.
func (c *Catalog) FirstKey(ctx context.Context, k AccessKey) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`insert into accounts (name, operator) values ($1, true) on conflict (name) do update set operator = true`,
			k.Account); err != nil {
			return err
		}
		k.Operator, k.Role, k.Limits = true, access.Administrator, nil
		return putKey(ctx, tx, k, Author{At: k.Created})
	})
}

func putKey(ctx context.Context, tx *sqlx.Tx, k AccessKey, by Author) error {
	limits, err := k.Limits.text()
	if err != nil {
		return err
	}
	if by.At.IsZero() {
		by.At = time.Now()
	}
	if err := soleName(ctx, tx, "people", "name", k.ID, "id"); err != nil {
		return err
	}
	r, err := tx.ExecContext(ctx, `insert into access_keys (id, account, name, note, role, limits, rate, sealed, active,
		expires, created, created_by, operator)
		select $1, id, $3, $4, $5, $6::jsonb, $7, $8, $9, $10, $11, $12, $13 from accounts where name = $2`,
		k.ID, k.Account, k.Name, k.Note, k.Role, limits, k.Rate, k.Sealed, k.Active, k.Expires, by.At, by.Who, k.Operator)
	if exists(err) {
		return fault.New(fault.Conflict, "key-exists", "there is a key with the id %q already", k.ID).In("id").
			Do("choose another id, or leave it out to have one made")
	}
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err == nil && n == 0 {
		return noAccount(k.Account)
	}
	return nil
}

func keyDetail(k AccessKey) map[string]any {
	d := map[string]any{"name": k.Name, "role": k.Role.String(), "active": k.Active}
	if k.Operator {
		d["operator"] = true
	}
	if len(k.Limits) > 0 {
		var l []string
		for _, s := range k.Limits {
			l = append(l, plainText(s.String()))
		}
		d["limits"] = l
	}
	if k.Expires != nil {
		d["expires"] = k.Expires.UTC().Format(time.RFC3339)
	}
	return d
}

// CreateKey writes a key. The errors have the codes key-exists, name-taken,
// account-missing, operator-only and operator-role.
func (c *Catalog) CreateKey(ctx context.Context, k AccessKey, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := mayTouchKey(ctx, tx, by, k); err != nil {
			return err
		}
		if err := putKey(ctx, tx, k, by); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailKeyCreated, k.Account, k.ID, keyDetail(k))
	})
}

func noKey(id string) error {
	return fault.New(fault.NotFound, "key-missing", "there is no key with the id %q", id).In("key").Do("check the id")
}

func lockKey(ctx context.Context, tx *sqlx.Tx, id string, ifRevision int) (AccessKey, error) {
	var k AccessKey
	if err := lockAlone(ctx, tx, accessLock, operatorsLock); err != nil {
		return k, err
	}
	err := tx.GetContext(ctx, &k, keyQuery+`where k.id = $1 for update of k`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return k, noKey(id)
	}
	if err == nil && ifRevision != 0 && ifRevision != k.Revision {
		err = conflict("the key", k.Revision, ifRevision)
	}
	return k, err
}

func operates(k AccessKey) bool {
	return k.Operator && k.Active && k.Expires == nil
}

// ChangeKey changes a key under lock: edit gets what is there. Beside the errors
// of edit there are operator-only, operator-role and last-operator.
func (c *Catalog) ChangeKey(ctx context.Context, id string, ifRevision int, by Author,
	edit func(*AccessKey) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		k, err := lockKey(ctx, tx, id, ifRevision)
		if err != nil {
			return err
		}
		if err := mayTouchKey(ctx, tx, by, k); err != nil {
			return err
		}
		before := k
		was := operates(k)
		if err := edit(&k); err != nil {
			return err
		}
		if err := mayTouchKey(ctx, tx, by, k); err != nil {
			return err
		}
		if was && !operates(k) {
			if err := lastOperator(ctx, tx, id); err != nil {
				return err
			}
		}
		if err := writeKey(ctx, tx, k); err != nil {
			return err
		}
		detail := keyDetail(k)
		detail[changedIn] = settingsChanged(before, k)
		return trail(ctx, tx, by, access.TrailKeyChanged, k.Account, id, detail)
	})
}

func writeKey(ctx context.Context, tx *sqlx.Tx, k AccessKey) error {
	limits, err := k.Limits.text()
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx,
		`update access_keys set name = $2, note = $3, role = $4, limits = $5::jsonb, rate = $6, active = $7, expires = $8,
			replaced = $9, operator = $10, revision = revision + 1 where id = $1`,
		k.ID, k.Name, k.Note, k.Role, limits, k.Rate, k.Active, k.Expires, k.Replaced, k.Operator)
	return err
}

// ReplaceKey writes a key in place of another, with its name, role, limits and
// grants; the old one works until a moment.
func (c *Catalog) ReplaceKey(ctx context.Context, old string, id string, sealed []byte, until time.Time,
	by Author) (AccessKey, error) {
	var k AccessKey
	err := c.inTx(ctx, func(tx *sqlx.Tx) error {
		var err error
		if k, err = lockKey(ctx, tx, old, 0); err != nil {
			return err
		}
		if err := mayTouchKey(ctx, tx, by, k); err != nil {
			return err
		}
		if k.Replaced != nil {
			return fault.New(fault.Conflict, "key-replaced", "the key %q was replaced by %q already", old, *k.Replaced).
				In("key").Do("replace that one")
		}
		was := k
		was.Replaced = &id
		if was.Expires == nil || was.Expires.After(until) {
			was.Expires = &until
		}
		if err := writeKey(ctx, tx, was); err != nil {
			return err
		}
		k.ID, k.Sealed, k.Active, k.Used, k.UsedFrom, k.Revision = id, sealed, true, nil, "", 1
		k.Created, k.CreatedBy = by.At, by.Who
		if err := putKey(ctx, tx, k, by); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, named(`insert into grants (bucket, prefix, to_kind, to_name, rights, expires, note,
			created, created_by)
			select bucket, prefix, to_kind, $2, rights, expires, note, $3, $4 from grants where to_kind = @ToKey
				and to_name = $1`), old, id, by.At, by.Who); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailKeyReplaced, k.Account, old,
			map[string]any{"by": id, "until": until.UTC().Format(time.RFC3339)})
	})
	return k, err
}

// RemoveKey removes a key, its sessions and what was granted to it.
func (c *Catalog) RemoveKey(ctx context.Context, id string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		k, err := lockKey(ctx, tx, id, 0)
		if err != nil {
			return err
		}
		if err := mayTouchKey(ctx, tx, by, k); err != nil {
			return err
		}
		if operates(k) {
			if err := lastOperator(ctx, tx, id); err != nil {
				return err
			}
		}
		for _, q := range []string{named(`delete from grants where to_kind = @ToKey and to_name = $1`),
			`delete from access_keys where id = $1`} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		return trail(ctx, tx, by, access.TrailKeyRemoved, k.Account, id, keyDetail(k))
	})
}

// KeyUse says when a key was used last and from where.
type KeyUse struct {
	ID   string
	At   time.Time
	From string
}

// NoteUse records when keys were used.
func (c *Catalog) NoteUse(ctx context.Context, uses []KeyUse) error {
	id, at, from := make([]string, len(uses)), make([]time.Time, len(uses)), make([]string, len(uses))
	for i, u := range uses {
		id[i], at[i], from[i] = u.ID, u.At, u.From
	}
	_, err := c.db.ExecContext(ctx, `update access_keys k set used = u.at, used_from = u.source
		from unnest($1::text[], $2::timestamptz[], $3::text[]) u(id, at, source)
		where k.id = u.id and (k.used is null or k.used < u.at)`, id, at, from)
	return mapError(err)
}
