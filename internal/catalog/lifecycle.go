package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
)

// Lifecycle are the rules of a bucket as they are kept.
type Lifecycle struct {
	Bucket   int64
	Revision int // 0: there never were any
	Rules    []lifecycle.Form
	Saved    time.Time
	SavedBy  string
	Acts     time.Time  // from when on they act
	Upto     *time.Time // what was due before is found; nil: the whole bucket is to be looked at
}

type lifecycleRow struct {
	Bucket   int64      `db:"bucket"`
	Name     string     `db:"name"`
	Revision int        `db:"revision"`
	Rules    []byte     `db:"rules"`
	Saved    time.Time  `db:"saved"`
	SavedBy  string     `db:"saved_by"`
	Acts     time.Time  `db:"acts"`
	Upto     *time.Time `db:"upto"`
}

func (r *lifecycleRow) lifecycle() (*Lifecycle, error) {
	l := &Lifecycle{Bucket: r.Bucket, Revision: r.Revision, Saved: r.Saved.UTC(), SavedBy: r.SavedBy, Acts: r.Acts.UTC(),
		Upto: r.Upto}
	return l, json.Unmarshal(r.Rules, &l.Rules)
}

const lifecycleColumns = `bucket, revision, rules, saved, saved_by, acts, upto`

// Lifecycle gives the rules of a bucket; none with revision 0 when there never were any.
func (c *Catalog) Lifecycle(ctx context.Context, bucket int64) (*Lifecycle, error) {
	l, err := lifecycleOf(ctx, c.db, bucket)
	return l, mapError(err)
}

func lifecycleOf(ctx context.Context, q sqlx.QueryerContext, bucket int64) (*Lifecycle, error) {
	var r lifecycleRow
	err := sqlx.GetContext(ctx, q, &r, `select `+lifecycleColumns+` from lifecycles where bucket = $1`, bucket)
	if errors.Is(err, sql.ErrNoRows) {
		return &Lifecycle{Bucket: bucket}, nil
	}
	if err != nil {
		return nil, err
	}
	return r.lifecycle()
}

// RulesOfAccount gives the rules of an account's buckets as they are written down, by the
// bucket's name.
func (c *Catalog) RulesOfAccount(ctx context.Context, account string) (map[string]json.RawMessage, error) {
	var rows []struct {
		Name  string `db:"name"`
		Rules []byte `db:"rules"`
	}
	err := c.db.SelectContext(ctx, &rows, `select b.name, l.rules from lifecycles l join buckets b on b.id = l.bucket
		join accounts a on a.id = b.account where b.removed is null and a.name = $1`, account)
	out := make(map[string]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Rules
	}
	return out, mapError(err)
}

// RuledBucket is a bucket with rules that act.
type RuledBucket struct {
	Name       object.BucketName
	Versioning object.Versioning
	*Lifecycle
}

// RuledBuckets gives the buckets with rules that act, after one of them.
func (c *Catalog) RuledBuckets(ctx context.Context, after int64, limit int) (out []RuledBucket, err error) {
	var rows []struct {
		lifecycleRow
		Versioning object.Versioning `db:"versioning"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select l.bucket, b.name, b.versioning, l.revision, l.rules, l.saved,
		l.saved_by,
		l.acts, l.upto from lifecycles l join buckets b on b.id = l.bucket and b.removed is null
		where l.ages and l.bucket > $1 order by l.bucket limit $2`, after, limit); err != nil {
		return nil, mapError(err)
	}
	for i := range rows {
		l, err := rows[i].lifecycle()
		if err != nil {
			return nil, err
		}
		name, err := object.ParseBucketName(rows[i].Name)
		if err != nil {
			return nil, err
		}
		out = append(out, RuledBucket{name, rows[i].Versioning, l})
	}
	return out, nil
}

// SavingRules says how the rules of a bucket are to change.
type SavingRules struct {
	IfRevision int // 0: whatever it is; -1: only when there are none
	Grace      time.Duration
	What       string // for their history
	// Edit gets the rules that are there and gives those to keep, with whether some begin
	// to act anew, and whether any acts.
	Edit func([]lifecycle.Form) (rules []lifecycle.Form, anew, acts bool, err error)
}

// SaveRules changes the rules of a bucket in one transaction; each state is kept. The
// error when they are at another revision has the code revision.
func (c *Catalog) SaveRules(ctx context.Context, name object.BucketName, s SavingRules, by Author) (out *Lifecycle,
	err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		bucket, err := lockBucket(ctx, tx, name)
		if err != nil {
			return err
		}
		l, err := lifecycleOf(ctx, tx, bucket)
		if err != nil {
			return err
		}
		if s.IfRevision >= 0 || l.Revision != 0 { // below 0: there must be none
			if err := fault.Revision("the set of rules", l.Revision, s.IfRevision); err != nil {
				return err
			}
		}
		rules, anew, acts, err := s.Edit(l.Rules)
		if err != nil {
			return err
		}
		if rules == nil {
			rules = []lifecycle.Form{}
		}
		doc, err := json.Marshal(rules)
		if err != nil {
			return err
		}
		from := by.At
		if anew {
			from = by.At.Add(s.Grace)
		} else if l.Acts.After(from) {
			from = l.Acts
		}
		var r lifecycleRow
		if err := tx.GetContext(ctx, &r, `insert into lifecycles (bucket, revision, rules, saved, saved_by, acts, ages)
			values ($1, $2, $3::jsonb, $4, $5, $6, $7) on conflict (bucket) do update set revision = excluded.revision,
				rules = excluded.rules, saved = excluded.saved, saved_by = excluded.saved_by, acts = excluded.acts,
				ages = excluded.ages, upto = null
			returning `+lifecycleColumns, bucket, l.Revision+1, string(doc), by.At, by.Who, from, acts); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert into lifecycles_past (bucket, revision, rules, at, who, source, what)
			values ($1, $2, $3::jsonb, $4, $5, $6, $7)`, bucket, l.Revision+1, string(doc), by.At, by.Who, by.Source,
			s.What); err != nil {
			return err
		}
		if err := followRules(ctx, tx, bucket, acts); err != nil {
			return err
		}
		if out, err = r.lifecycle(); err != nil {
			return err
		}
		return journalBucket(ctx, tx, BucketChanged, bucket, by, map[string]any{"lifecycle": s.What,
			"revision": l.Revision + 1}, "rules")
	})
	return out, err
}

// followRules has the rules of a bucket read the journal from now on, or no more.
func followRules(ctx context.Context, tx *sqlx.Tx, bucket int64, acts bool) error {
	q := `delete from followers where name = $1`
	if acts {
		q = `insert into followers (name, xid, seq, upto) select $1, coalesce(max(j.xid::text::bigint), 0)::text::xid8, 0,
			'epoch'
			from (select xid from journal where ` + belowHorizon + ` order by xid desc, seq desc limit 1) j
			on conflict (name) do nothing`
	}
	_, err := tx.ExecContext(ctx, q, followerOf(bucket))
	return err
}

func followerOf(bucket int64) string { return fmt.Sprintf("lifecycle of %d", bucket) }

// PastRules is a state that the rules of a bucket had.
type PastRules struct {
	Revision int       `db:"revision"`
	Raw      []byte    `db:"rules"`
	At       time.Time `db:"at"`
	Who      string    `db:"who"`
	Source   string    `db:"source"`
	What     string    `db:"what"`
	Rules    []lifecycle.Form
}

// PastRules gives the states of the rules of a bucket before a revision (0: all), latest
// first. Revision 0 is what there was before the first rules: none.
func (c *Catalog) PastRules(ctx context.Context, bucket int64, before, limit int) ([]PastRules, error) {
	var out []PastRules
	if err := c.db.SelectContext(ctx, &out, `select * from (
			select revision, rules, at, who, source, what from lifecycles_past where bucket = $1
			union all select 0, '[]', created, created_by, '', 'no rules yet' from buckets where id = $1
				and exists (select 1 from lifecycles_past where bucket = $1)) x
		where $2 = 0 or revision < $2 order by revision desc limit $3`, bucket, before, limit); err != nil {
		return nil, mapError(err)
	}
	for i := range out {
		if err := json.Unmarshal(out[i].Raw, &out[i].Rules); err != nil {
			return nil, err
		}
	}
	return out, nil
}
