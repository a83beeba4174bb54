package catalog

import (
	"context"
	"database/sql"
	"fmt"
)

// orderSlack is by how much more than is needed the base is raised.
const orderSlack = 1000

// keepOrder sees to it that what is written to the journal from now on comes after all that is
// in it. Entries are ordered by the numbers of their transactions, which begin low again in a
// cluster into which the database was restored: then a base is added to them, in the default of
// the column and in the horizon of every reader. The caller holds the migrations' lock.
func keepOrder(ctx context.Context, conn *sql.Conn) error {
	behind, err := orderBehind(ctx, conn)
	if err != nil || behind == 0 {
		return err // nothing is locked where nothing is to be done
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, `lock table journal in access exclusive mode`); err != nil {
		return err
	}
	if behind, err = orderBehind(ctx, tx); err != nil || behind == 0 {
		return err
	}
	var base int64
	if err := tx.QueryRowContext(ctx, `update journal_base set base = base + $1 returning base`,
		behind+orderSlack).Scan(&base); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf(`alter table journal alter column xid
		set default (pg_current_xact_id()::text::bigint + %d)::text::xid8`, base)); err != nil {
		return err
	}
	return tx.Commit()
}

// orderBehind gives by how much the next place of the journal would be before the last one;
// 0 when it is after it.
func orderBehind(ctx context.Context, q interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}) (behind int64, err error) {
	err = q.QueryRowContext(ctx, `select greatest(0, journal_last() + 1 -
		(select pg_snapshot_xmin(pg_current_snapshot())::text::bigint + base from journal_base))`).Scan(&behind)
	return behind, err
}
