package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// RestoredCopy is a copy of a version of a tier that is not read itself.
type RestoredCopy struct {
	Bucket int64
	Key    object.Key
	Number int64
	Asked  time.Time
	Due    time.Time // when it will be there, or was
	Days   int       // that it stays
	Until  *time.Time
	Body   object.BodyRef
	Fault  string // why it cannot be made
}

type restoredRow struct {
	Bucket int64      `db:"bucket"`
	Key    []byte     `db:"key"`
	Number int64      `db:"number"`
	Asked  time.Time  `db:"asked"`
	Due    time.Time  `db:"due"`
	Days   int        `db:"days"`
	Until  *time.Time `db:"until"`
	Tier   int16      `db:"tier"`
	File   int64      `db:"body_file"`
	Offset int64      `db:"body_offset"`
	Fault  string     `db:"fault"`
}

func (r *restoredRow) copy() (*RestoredCopy, error) {
	key, err := object.ParseKey(string(r.Key))
	return &RestoredCopy{Bucket: r.Bucket, Key: key, Number: r.Number, Asked: r.Asked.UTC(), Due: r.Due.UTC(),
		Days:  r.Days,
		Until: r.Until, Body: object.BodyRef{Tier: r.Tier, File: r.File, Offset: r.Offset}, Fault: r.Fault}, err
}

const restoredColumns = `bucket, key, number, asked, due, days, until, tier, body_file, body_offset, fault`

// RestoredCopy gives the restored copy of a version, nil for none.
func (c *Catalog) RestoredCopy(ctx context.Context, bucket int64, key object.Key, number int64) (*RestoredCopy, error) {
	var r restoredRow
	err := c.db.GetContext(ctx, &r, `select `+restoredColumns+` from restored where bucket = $1 and key = $2
		and number = $3
		and (until is null or until > clock_timestamp())`, bucket, []byte(key.String()), number)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.copy()
}

// AskRestored writes down that a restored copy is wanted; of one that is there, how long
// it stays counts from now.
func (c *Catalog) AskRestored(ctx context.Context, bucket int64, v *object.Version, days int, delay time.Duration,
	by Author) (out *RestoredCopy, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var r restoredRow
		raw := []byte(v.Key.String())
		if err := tx.GetContext(ctx, &r, `insert into restored (bucket, key, number, asked, due, days, size, crc64, who,
			source)
			values ($1, $2, $3, $4::timestamptz, $4::timestamptz + $6::bigint * interval '1 ms', $5, $7, $8, $9, $10)
			on conflict (bucket, key, number) do update set days = excluded.days, fault = '',
				until = case when restored.until is not null then excluded.asked + excluded.days * interval '1 day' end
			returning `+restoredColumns, bucket, raw, v.Number, by.At, days, delay.Milliseconds(), v.Size, int64(v.CRC64), by.Who,
			by.Source); err != nil {
			return err
		}
		if out, err = r.copy(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `select note($1, $2, $3, $4, $5, $6, $7, $8, jsonb_build_object('days',
			$9::integer))`, by.At, int16(CopyAsked), bucket, raw,
			v.Number, v.Size, by.Who, by.Source, days)
		return err
	})
	return out, err
}

// RestoredDue gives copies that are due to be made, or (gone) whose time is over.
func (c *Catalog) RestoredDue(ctx context.Context, limit int) (due, gone []*RestoredCopy, err error) {
	read := func(where string) (out []*RestoredCopy, err error) {
		var rows []restoredRow
		if err := c.db.SelectContext(ctx, &rows, `select `+restoredColumns+` from restored where `+where+` limit $1`,
			limit); err != nil {
			return nil, mapError(err)
		}
		for i := range rows {
			x, err := rows[i].copy()
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
		return out, nil
	}
	if due, err = read(`until is null and fault = '' and due <= clock_timestamp() order by due`); err != nil {
		return nil, nil, err
	}
	gone, err = read(`until <= clock_timestamp()`)
	return due, gone, err
}

// HaveRestored writes down that a copy is there, with an entry of the journal. The error
// when the version or the wish is gone has the code version-moved.
func (c *Catalog) HaveRestored(ctx context.Context, r RestoredCopy, body object.BodyRef) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, `with there as (
				update restored r set until = clock_timestamp() + days * interval '1 day', tier = $4, body_file = $5,
				body_offset = $6
				where bucket = $1 and key = $2 and number = $3 and until is null
					and (exists (select 1 from heads h where h.bucket = $1 and h.key = $2 and h.number = $3)
						or exists (select 1 from history h where h.bucket = $1 and h.key = $2 and h.number = $3))
				returning *)
			select note(clock_timestamp(), $7, bucket, key, number, size, who, source, jsonb_build_object('until', until))
			from there`,
			r.Bucket, []byte(r.Key.String()), r.Number, body.Tier, body.File, body.Offset, int16(CopyRestored))
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 1 {
			return err
		}
		return fault.New(fault.Conflict, "version-moved", "the version is gone, or its copy is wanted no more").In("version")
	})
}

// FailRestored writes down why a copy cannot be made; it is tried again when it is asked
// for again.
func (c *Catalog) FailRestored(ctx context.Context, r RestoredCopy, why string) error {
	_, err := c.changed(ctx,
		`update restored set fault = $4 where bucket = $1 and key = $2 and number = $3 and until is null`,
		r.Bucket, []byte(r.Key.String()), r.Number, why)
	return err
}

// DropRestored lets go of a copy whose time is over, or whose version is gone.
func (c *Catalog) DropRestored(ctx context.Context, r RestoredCopy) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var f object.BodyFile
		err := tx.GetContext(ctx, &f, `delete from restored where bucket = $1 and key = $2 and number = $3
			returning tier, body_file as file`, r.Bucket, []byte(r.Key.String()), r.Number)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil || f.File == 0 {
			return err
		}
		return release(ctx, tx, f)
	})
}
