package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
)

// HoldBodies has the collector leave all bodies for a while: those that a snapshot refers to
// which is taken after this stay until it is over. It gives the number by which the hold is
// renewed and ended.
func (c *Catalog) HoldBodies(ctx context.Context, d time.Duration) (id int64, err error) {
	err = c.db.GetContext(ctx, &id,
		`insert into backups (until) values (clock_timestamp() + $1 * interval '1 second') returning id`, d.Seconds())
	return id, mapError(err)
}

// HoldOn renews a hold. The error for one that ran out has the code backup-late.
func (c *Catalog) HoldOn(ctx context.Context, id int64, d time.Duration) error {
	ok, err := c.changed(ctx, `update backups set until = clock_timestamp() + $2 * interval '1 second' where id = $1
		and until > clock_timestamp()`, id, d.Seconds())
	if err == nil && !ok {
		return fault.New(fault.Unavailable, "backup-late",
			"bodies that the backup needs may be gone: it was held up for too long").In("backup").Do("make it again")
	}
	return err
}

// LetBodies ends a hold, and those that ran out.
func (c *Catalog) LetBodies(ctx context.Context, id int64) error {
	_, err := c.changed(ctx, `delete from backups where id = $1 or until < clock_timestamp()`, id)
	return err
}

// BodiesHeld reports whether a backup is under way.
func (c *Catalog) BodiesHeld(ctx context.Context) (held bool, err error) {
	err = c.db.GetContext(ctx, &held, `select exists (select 1 from backups where until > clock_timestamp())`)
	return held, mapError(err)
}

// PutVolume has a volume be in another directory.
func (c *Catalog) PutVolume(ctx context.Context, marker, dir string) error {
	ok, err := c.changed(ctx, `update volumes set dir = $2 where marker = $1 and tier <> 0`, marker, dir)
	if err == nil && !ok {
		err = fault.New(fault.NotFound, "volume-missing", "no volume has the marker %s", marker).In("volume")
	}
	return err
}

// Restored clears what belongs to the moment of a backup and not to what is restored from it:
// claims of processes that are gone, and holds.
func (c *Catalog) Restored(ctx context.Context) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{`delete from backups`, `update works set lease = clock_timestamp() - interval '1 second'`} {
			if _, err := tx.ExecContext(ctx, q); err != nil {
				return err
			}
		}
		return nil
	})
}
