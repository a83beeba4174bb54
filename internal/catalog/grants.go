package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// GrantRow is a grant with what is kept about it.
type GrantRow struct {
	ID        int64              `db:"id"`
	Bucket    string             `db:"bucket"`
	Account   string             `db:"account"` // that owns the bucket
	Prefix    []byte             `db:"prefix"`
	ToKind    access.GranteeKind `db:"to_kind"`
	ToName    string             `db:"to_name"`
	Rights    access.Rights      `db:"rights"`
	Expires   *time.Time         `db:"expires"`
	Note      string             `db:"note"`
	Created   time.Time          `db:"created"`
	CreatedBy string             `db:"created_by"`
	Revision  int                `db:"revision"`
}

// Grant gives what decisions need.
func (r GrantRow) Grant() access.Grant {
	g := access.Grant{ID: r.ID, Scope: access.Scope{Bucket: r.Bucket, Prefix: string(r.Prefix)},
		To: access.Grantee{Kind: r.ToKind, Name: r.ToName}, Rights: r.Rights}
	if r.Expires != nil {
		g.Expires = *r.Expires
	}
	return g
}

const grantQuery = `select g.id, b.name as bucket, a.name as account, g.prefix, g.to_kind, g.to_name, g.rights,
	g.expires, g.note, g.created, g.created_by, g.revision
	from grants g join buckets b on b.id = g.bucket and b.removed is null join accounts a on a.id = b.account `

// AllGrants gives every grant, for decisions.
func (c *Catalog) AllGrants(ctx context.Context) ([]access.Grant, error) {
	var rows []GrantRow
	if err := c.db.SelectContext(ctx, &rows, grantQuery); err != nil {
		return nil, mapError(err)
	}
	out := make([]access.Grant, len(rows))
	for i, r := range rows {
		out[i] = r.Grant()
	}
	return out, nil
}

// Grants gives a page of grants by id after an id, filtered by what is not zero:
// owner the account that owns the bucket or is granted something.
func (c *Catalog) Grants(ctx context.Context, owner, bucket string, to access.Grantee, after int64,
	limit int) ([]GrantRow, error) {
	out := []GrantRow{}
	q := where().and(`g.id > ?`, after).when(bucket != "", `b.name = ?`, bucket).
		when(owner != "", `a.name = ? or g.to_kind = @ToAccount and g.to_name = ? or g.to_kind = @ToKey and g.to_name in
			(select k.id from access_keys k join accounts ka on ka.id = k.account where ka.name = ?)`, owner, owner, owner).
		when(to != access.Grantee{}, `g.to_kind = ? and g.to_name = ?`, to.Kind, to.Name)
	err := c.db.SelectContext(ctx, &out, grantQuery+`where `+q.String()+` order by g.id limit `+q.arg(limit), q.args...)
	return out, mapError(err)
}

// GrantMissing is the error for a grant that is not there.
func GrantMissing(id int64) error {
	return fault.New(fault.NotFound, "grant-missing", "there is no grant %d", id).In("grant").
		Do("it may have gone with its bucket; list the grants")
}

// GrantOf gives one grant. The error for none has the code grant-missing.
func (c *Catalog) GrantOf(ctx context.Context, id int64) (*GrantRow, error) {
	var r GrantRow
	err := c.db.GetContext(ctx, &r, grantQuery+`where g.id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, GrantMissing(id)
	}
	return &r, mapError(err)
}

// CreateGrant writes a grant and gives its id. The errors have the codes
// bucket-missing, grantee-missing and grant-exists.
func (c *Catalog) CreateGrant(ctx context.Context, g GrantRow, by Author) (id int64, err error) {
	name, err := object.ParseBucketName(g.Bucket)
	if err != nil {
		return 0, err
	}
	if g.Prefix == nil {
		g.Prefix = []byte{}
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var bucket int64
		var owner string
		err := tx.QueryRowxContext(ctx,
			`select b.id, a.name from buckets b join accounts a on a.id = b.account where b.name = $1
				and b.removed is null for share of b`, g.Bucket).Scan(&bucket, &owner)
		if errors.Is(err, sql.ErrNoRows) {
			return noBucket(name)
		}
		if err != nil {
			return err
		}
		if err := grantee(ctx, tx, access.Grantee{Kind: g.ToKind, Name: g.ToName}); err != nil {
			return err
		}
		err = tx.GetContext(ctx, &id, `insert into grants (bucket, prefix, to_kind, to_name, rights, expires, note, created,
			created_by) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			on conflict do nothing returning id`, bucket, g.Prefix, g.ToKind, g.ToName, g.Rights, g.Expires, g.Note, by.At, by.Who)
		if errors.Is(err, sql.ErrNoRows) {
			var there int64
			if err := tx.GetContext(ctx, &there,
				`select id from grants where bucket = $1 and prefix = $2 and to_kind = $3 and to_name = $4`, bucket, g.Prefix,
				g.ToKind, g.ToName); err != nil {
				return err
			}
			return fault.New(fault.Conflict, "grant-exists", "grant %d gives %s something there already", there,
				access.Grantee{Kind: g.ToKind, Name: g.ToName}).In("to").Do("change that grant")
		}
		if err != nil {
			return err
		}
		return trailGrant(ctx, tx, by, access.TrailGrantCreated, owner, id, g.Grant())
	})
	return id, err
}

func grantee(ctx context.Context, tx *sqlx.Tx, to access.Grantee) error {
	q := map[access.GranteeKind]string{access.ToAccount: `accounts where name`, access.ToPerson: `people where name`,
		access.ToKey: `access_keys where id`}[to.Kind]
	if q == "" {
		return nil
	}
	var there bool
	if err := tx.GetContext(ctx, &there, `select exists (select 1 from `+q+` = $1)`, to.Name); err != nil {
		return err
	}
	if !there {
		return fault.New(fault.NotFound, "grantee-missing", "there is no %s", to).In("to").Do("check the name")
	}
	return nil
}

func trailGrant(ctx context.Context, tx *sqlx.Tx, by Author, kind, owner string, id int64, g access.Grant,
	changed ...string) error {
	d := map[string]any{"grant": id, "to": g.To.String(), "for": g.Rights.Purpose()}
	if !g.Expires.IsZero() {
		d["expires"] = g.Expires.UTC().Format(time.RFC3339)
	}
	if len(changed) > 0 {
		d[changedIn] = changed
	}
	return trail(ctx, tx, by, kind, owner, g.Scope.String(), d)
}

// ChangeGrant changes rights, expiry and note of a grant under lock.
func (c *Catalog) ChangeGrant(ctx context.Context, id int64, ifRevision int, by Author,
	edit func(*GrantRow) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var r GrantRow
		err := tx.GetContext(ctx, &r, grantQuery+`where g.id = $1 for update of g`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return GrantMissing(id)
		}
		if err != nil {
			return err
		}
		if ifRevision != 0 && ifRevision != r.Revision {
			return conflict("the grant", r.Revision, ifRevision)
		}
		before := r
		if err := edit(&r); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`update grants set rights = $2, expires = $3, note = $4, revision = revision + 1 where id = $1`, id, r.Rights,
			r.Expires, r.Note); err != nil {
			return err
		}
		return trailGrant(ctx, tx, by, access.TrailGrantChanged, r.Account, id, r.Grant(), settingsChanged(before, r)...)
	})
}

// RemoveGrant takes a grant away.
func (c *Catalog) RemoveGrant(ctx context.Context, id int64, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var r GrantRow
		err := tx.GetContext(ctx, &r, grantQuery+`where g.id = $1 for update of g`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return GrantMissing(id)
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `delete from grants where id = $1`, id); err != nil {
			return err
		}
		return trailGrant(ctx, tx, by, access.TrailGrantRemoved, r.Account, id, r.Grant())
	})
}
