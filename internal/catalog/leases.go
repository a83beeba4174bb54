package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
)

// Lease is a claim of a piece of work: its number is greater than that of every
// claim before it.
type Lease struct {
	Name string
	Turn int64
}

type leaseKey struct{}

// UnderLease gives a context whose transactions commit only while a lease is held:
// what a worker does that was taken over meanwhile fails, in the transaction, with
// the code lease-lost.
func UnderLease(ctx context.Context, l Lease) context.Context {
	return context.WithValue(ctx, leaseKey{}, l)
}

func leaseLost(name string) error {
	return fault.New(fault.Conflict, "lease-lost", "the work %q was taken over by somebody else", name).In("lease").
		Do("leave it to them")
}

// holds refuses a transaction of a worker that was taken over. It keeps the claim as
// it is until the transaction ends.
func holds(ctx context.Context, tx *sqlx.Tx) error {
	l, ok := ctx.Value(leaseKey{}).(Lease)
	if !ok {
		return nil
	}
	var turn int64
	err := tx.GetContext(ctx, &turn, `select turn from works where name = $1 for share`, l.Name)
	if errors.Is(err, sql.ErrNoRows) || err == nil && turn != l.Turn {
		return leaseLost(l.Name)
	}
	return err
}

// Claim takes a piece of work that is due and that nobody holds, for some time, and
// gives where it stands. It reports false when there is nothing to take.
func (c *Catalog) Claim(ctx context.Context, name, holder string, d time.Duration) (l Lease, state []byte, ok bool,
	err error) {
	l.Name = name
	err = c.db.QueryRowxContext(ctx, `insert into works as w (name, holder, lease, turn)
		values ($1, $2, clock_timestamp() + $3::bigint * interval '1 ms', 1)
		on conflict (name) do update set holder = excluded.holder, lease = excluded.lease, turn = w.turn + 1
		where w.lease < clock_timestamp() and w.due <= clock_timestamp()
		returning turn, state`, name, holder, d.Milliseconds()).Scan(&l.Turn, &state)
	if errors.Is(err, sql.ErrNoRows) {
		return l, nil, false, nil
	}
	return l, state, err == nil, mapError(err)
}

// Renew holds a lease on. It reports false when somebody else has it.
func (c *Catalog) Renew(ctx context.Context, l Lease, d time.Duration) (bool, error) {
	return c.changed(ctx,
		`update works set lease = clock_timestamp() + $3::bigint * interval '1 ms' where name = $1 and turn = $2`, l.Name,
		l.Turn, d.Milliseconds())
}

// SaveWork keeps where a piece of work stands. The error for who no longer holds it
// has the code lease-lost.
func (c *Catalog) SaveWork(ctx context.Context, l Lease, state []byte) error {
	ok, err := c.changed(ctx, `update works set state = $3::jsonb where name = $1 and turn = $2`, l.Name, l.Turn,
		string(state))
	if err == nil && !ok {
		return leaseLost(l.Name)
	}
	return err
}

// Finish gives a lease up: the work is due again after a pause.
func (c *Catalog) Finish(ctx context.Context, l Lease, pause time.Duration) error {
	_, err := c.changed(ctx,
		`update works set lease = '-infinity', due = clock_timestamp() + $3::bigint * interval '1 ms' where name = $1
			and turn = $2`, l.Name, l.Turn, pause.Milliseconds())
	return err
}

// DueWithin has a piece of work due after a pause at the latest.
func (c *Catalog) DueWithin(ctx context.Context, name string, pause time.Duration) error {
	_, err := c.changed(ctx,
		`update works set due = least(due, clock_timestamp() + $2::bigint * interval '1 ms') where name = $1`, name,
		pause.Milliseconds())
	return err
}

// ForgetWork removes the row of a piece of work that is done for good, if the lease
// is still held.
func (c *Catalog) ForgetWork(ctx context.Context, l Lease) error {
	_, err := c.changed(ctx, `delete from works where name = $1 and turn = $2`, l.Name, l.Turn)
	return err
}

func (c *Catalog) changed(ctx context.Context, query string, args ...any) (bool, error) {
	r, err := c.db.ExecContext(ctx, query, args...)
	if err != nil {
		return false, mapError(err)
	}
	n, err := r.RowsAffected()
	return n > 0, mapError(err)
}

// ReleaseWork gives up all leases of a holder that stops.
func (c *Catalog) ReleaseWork(ctx context.Context, holder string) error {
	_, err := c.changed(ctx, `update works set lease = '-infinity' where holder = $1`, holder)
	return err
}

// WorkState gives where a piece of work stands; nil when it never ran.
func (c *Catalog) WorkState(ctx context.Context, name string) ([]byte, error) {
	var state []byte
	err := c.db.GetContext(ctx, &state, `select state from works where name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return state, mapError(err)
}
