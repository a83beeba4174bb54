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

// LogState is how the database's log of changes is kept outside of it.
type LogState struct {
	On     bool      // it is
	Kept   time.Time // when the last file was
	Failed time.Time // when one could not be
}

// Fails reports whether the last file could not be kept.
func (s LogState) Fails() bool { return s.On && s.Failed.After(s.Kept) }

// Log tells how the database's log of changes is kept.
func (c *Catalog) Log(ctx context.Context) (s LogState, err error) {
	err = c.db.QueryRowxContext(ctx, `select current_setting('archive_mode') <> 'off',
		coalesce(last_archived_time, 'epoch'), coalesce(last_failed_time, 'epoch') from pg_stat_archiver`).
		Scan(&s.On, &s.Kept, &s.Failed)
	return s, mapError(err)
}

// LogPlace gives the number of the database's cluster, and the file of its log that is written.
func (c *Catalog) LogPlace(ctx context.Context) (cluster, file string, err error) {
	err = c.db.QueryRowxContext(ctx, `select (select system_identifier::text from pg_control_system()),
		pg_walfile_name(pg_current_wal_lsn())`).Scan(&cluster, &file)
	return cluster, file, mapError(err)
}

// HandOnLog has the log up to now be kept, and waits for that. The error has the code log-late.
func (c *Catalog) HandOnLog(ctx context.Context, within time.Duration) error {
	var file string
	if err := c.db.GetContext(ctx, &file, `select pg_walfile_name(pg_switch_wal())`); err != nil {
		return mapError(err)
	}
	for end := time.Now().Add(within); time.Now().Before(end); {
		var kept bool
		if err := c.db.GetContext(ctx, &kept, `select coalesce(last_archived_wal >= $1, false) from pg_stat_archiver`,
			file); err != nil || kept {
			return mapError(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fault.New(fault.Unavailable, "log-late", "the database's log is not kept: %s waits", file).In("keep-log").
		Do("see that the folder of serve --keep-log can be written to by the database's user, and has room")
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
		for _, q := range []string{`delete from backups`,
			`update works set lease = clock_timestamp() - interval '1 second'`} {
			if _, err := tx.ExecContext(ctx, q); err != nil {
				return err
			}
		}
		return nil
	})
}
