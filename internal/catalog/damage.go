package catalog

import (
	"context"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/object"
)

// Damage of a body that a scrub or a read found.
type Damage struct {
	Bucket  string
	Key     string
	Body    object.BodyRef
	Found   time.Time
	Problem string
}

// ReportDamage records damage once, with a journal entry. It reports false when
// the key no longer refers to the body.
func (c *Catalog) ReportDamage(ctx context.Context, bucket int64, v *object.Version, problem string,
	at time.Time) (current bool, err error) {
	key := []byte(v.Key.String())
	defer c.LookAgain()
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &current, `select exists (select 1 from heads where bucket = $1 and key = $2
			and body_file = $3 and body_offset = $4)
			or exists (select 1 from history where bucket = $1 and key = $2 and body_file = $3 and body_offset = $4)
			or exists (select 1 from parts where body_file = $3 and body_offset = $4)`,
			bucket, key, v.Body.File, v.Body.Offset); err != nil || !current {
			return err
		}
		res, err := tx.ExecContext(ctx,
			`insert into damage (tier, file, place, bucket, key, found, problem) values ($1, $2, $3, $4, $5, $6, $7)
				on conflict do nothing`,
			v.Body.Tier, v.Body.File, v.Body.Offset, bucket, key, at, problem)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		d, err := documentOrNull(map[string]any{"problem": problem})
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`select note($1, $2, $3, $4, $5, $6, 'scrubber', '', $7::jsonb)`,
			at, int16(DamageFound), bucket, key, v.Number, v.Size, d)
		return err
	})
	return current, err
}

// Damaged gives the damage to bodies that versions still refer to; in buckets of one
// account when it is not "".
func (c *Catalog) Damaged(ctx context.Context, account string, limit int) ([]Damage, error) {
	var still []string // that something refers to the body
	q := where().when(account != "", `b.removed is null and b.account = (select id from accounts where name = ?)`, account)
	for _, table := range []string{"heads", "history", "parts"} {
		of := ` and h.bucket = d.bucket and h.key = d.key`
		if table == "parts" {
			of = ""
		}
		still = append(still,
			`exists (select 1 from `+table+` h where h.body_file = d.file and h.tier = d.tier
				and h.body_offset = d.place`+of+`)`)
	}
	q.and(strings.Join(still, " or "))
	rows, err := c.db.QueryContext(ctx, `select coalesce(b.name, ''), d.key, d.tier, d.file, d.place, d.found, d.problem
		from damage d
		left join buckets b on b.id = d.bucket where `+q.String()+` order by d.found desc limit `+q.arg(limit), q.args...)
	if err != nil {
		return nil, mapError(err)
	}
	defer rows.Close()
	var out []Damage
	for rows.Next() {
		var d Damage
		var key []byte
		if err := rows.Scan(&d.Bucket, &key, &d.Body.Tier, &d.Body.File, &d.Body.Offset, &d.Found, &d.Problem); err != nil {
			return nil, mapError(err)
		}
		d.Key, d.Found = string(key), d.Found.UTC()
		out = append(out, d)
	}
	return out, mapError(rows.Err())
}

// DamageAt says what is wrong with a body; "" for nothing that is known.
func (c *Catalog) DamageAt(ctx context.Context, ref object.BodyRef) (problem string, err error) {
	err = c.db.GetContext(ctx, &problem, `select coalesce((select problem from damage where tier = $1 and file = $2
		and place = $3 limit 1), '')`, ref.Tier, ref.File, ref.Offset)
	return problem, mapError(err)
}

// Mends says with what a damaged body could be replaced.
type Mends struct {
	Versions int64    // of its key that have another body
	Replicas []string // places that confirmed a copy of the key, as BUCKET/PREFIX or @ENDPOINT/BUCKET/PREFIX
}

// Mends gives what could mend a damaged body.
func (c *Catalog) Mends(ctx context.Context, d Damage) (m Mends, err error) {
	key := []byte(d.Key)
	if err := c.db.GetContext(ctx, &m.Versions, `select count(*) from (
			select body_file, body_offset from heads h join buckets b on b.id = h.bucket where b.name = $1 and b.removed is null
				and h.key = $2
			union all select body_file, body_offset from history h join buckets b on b.id = h.bucket where b.name = $1
				and b.removed is null and h.key = $2) v
		where body_file <> 0 and (body_file, body_offset) <> ($3, $4)`, d.Bucket, key, d.Body.File,
		d.Body.Offset); err != nil {
		return m, mapError(err)
	}
	err = c.db.SelectContext(ctx, &m.Replicas, `select case when e.name is null then '' else '@' || e.name || '/' end
			|| t.bucket || '/' || convert_from(t.prefix, 'UTF8')
		from replicas r join replication_targets t on t.id = r.target join replications u on u.id = t.rule
		join buckets b on b.id = u.bucket left join endpoints e on e.id = t.endpoint
		where b.name = $1 and b.removed is null and r.key = $2 and r.number <> 0 and not r.gone and r.confirmed is not null
		order by 1`, d.Bucket, key)
	return m, mapError(err)
}

// MendDamage forgets damage at a place that was found good again, with a
// journal entry when there was any.
func (c *Catalog) MendDamage(ctx context.Context, bucket int64, v *object.Version, at time.Time) error {
	problem, err := c.DamageAt(ctx, v.Body)
	if err != nil || problem == "" { // nearly always
		return err
	}
	defer c.LookAgain()
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, `delete from damage where tier = $1 and file = $2 and place = $3`, v.Body.Tier,
			v.Body.File, v.Body.Offset)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`select note($1, $2, $3, $4, $5, $6, 'scrubber', '', null)`,
			at, int16(DamageMended), bucket, []byte(v.Key.String()), v.Number, v.Size)
		return err
	})
}

// NoteMended has the journal tell that copies of a version's body were made anew from a
// good one.
func (c *Catalog) NoteMended(ctx context.Context, bucket int64, v *object.Version, copies int, why string) error {
	_, err := c.changed(ctx, `select note(clock_timestamp(), $1, $2, $3, nullif($4::bigint, 0), $5, 'scrubber', '',
		jsonb_build_object('copies', $6::integer, 'problem', $7::text))`, int16(CopyMended), bucket, []byte(v.Key.String()), v.Number, v.Size, copies, why)
	return err
}
