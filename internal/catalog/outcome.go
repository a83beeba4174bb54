package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// A connection can break off after a commit was asked for and before it was answered. What
// became of it is looked up then, before anybody is told anything.

// settleFor is how long the outcome of a commit may be looked for.
const settleFor = 20 * time.Second

// backend is the server's side of a connection.
type backend struct {
	pid  int32
	born time.Time
}

const backendKey = "backend"

// lostError says that a connection broke off while its answer was waited for.
type lostError struct {
	at    backend
	cause error
}

func (e *lostError) Error() string { return "the answer was lost: " + e.cause.Error() }
func (e *lostError) Unwrap() error { return e.cause }

// lost tells an answer that was lost from a refusal.
func lost(conn *pgx.Conn, err error) error {
	if err == nil || !conn.IsClosed() {
		return err
	}
	b, _ := conn.PgConn().CustomData()[backendKey].(backend)
	return &lostError{b, err}
}

func unknownOutcome(cause error) error {
	return fault.New(fault.Unavailable, "outcome-unknown",
		"the database broke off before it answered, and cannot be asked whether the change was made").
		Do("look whether it was, or make it again; what is repeated does no harm").Because(cause)
}

// settle finds out what became of a batch whose answer was lost, and carries out what was not
// done. The error when that cannot be known has the code outcome-unknown.
func (c *Catalog) settle(batch []Change, cause error) ([]Result, []error) {
	ctx, cancel := context.WithTimeout(context.Background(), settleFor)
	defer cancel()
	results, errs := make([]Result, len(batch)), make([]error, len(batch))
	var l *lostError
	if !errors.As(cause, &l) {
		return results, each(errs, mapError(cause))
	}
	var made []*Result
	err := patiently(ctx, func() error {
		err := c.end(ctx, l.at)
		if err == nil {
			made, err = c.made(ctx, batch)
		}
		return err
	})
	if err != nil {
		return results, each(errs, unknownOutcome(errors.Join(l.cause, err)))
	}
	var again []Change
	var places []int
	for i, m := range made {
		if m != nil {
			results[i] = *m
		} else {
			again, places = append(again, batch[i]), append(places, i)
		}
	}
	if len(again) == 0 {
		c.wake()
		return results, errs
	}
	rs, err := c.commitBatch(ctx, again)
	for n, i := range places {
		if err != nil {
			errs[i] = mapError(err)
		} else {
			results[i] = rs[n]
		}
	}
	return results, errs
}

func each(errs []error, err error) []error {
	for i := range errs {
		errs[i] = err
	}
	return errs
}

// patiently asks again while the database does not answer, until ctx ends.
func patiently(ctx context.Context, f func() error) error {
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := f()
		if err == nil || fault.KindOf(mapError(err)) != fault.Unavailable {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}

// end has the server's side of a broken connection end, if it is there yet: after that
// nothing more comes of it.
func (c *Catalog) end(ctx context.Context, b backend) error {
	return c.ended(ctx, `pid = $1 and backend_start = $2`, b.pid, b.born)
}

func (c *Catalog) ended(ctx context.Context, which string, args ...any) error {
	ctx, cancel := context.WithTimeout(ctx, connectFor+endFor)
	defer cancel()
	var ended bool
	err := c.db.GetContext(ctx, &ended, fmt.Sprintf(`select coalesce(bool_and(pg_terminate_backend(pid, %d)), true)
		from pg_stat_activity where %s`, endFor.Milliseconds(), which), args...)
	if err == nil && !ended {
		err = fault.New(fault.Unavailable, "database-hangs", "a process of the database's server does not end").
			In("database").Do("look at the database's machine")
	}
	return err
}

// endFor is how long the server's side may take to end.
const endFor = 5 * time.Second

// madeQuery finds the entries that changes made: of a key at its moment there is one, and its
// version, while it is there, has the change's body.
var madeQuery = named(`select w.i, j.kind, coalesce(j.number, 0) as number, coalesce(j.detail, '{}') as detail,
	coalesce(v.plain, b.versioning <> @On) as plain, b.versioning
from unnest($1::bigint[], $2::bytea[], $3::timestamptz[], $4::smallint[], $5::text[], $6::bigint[], $7::bigint[])
	with ordinality w(bucket, key, at, kind, who, file, place, i)
join buckets b on b.id = w.bucket
join lateral (select * from journal x where x.at = w.at and x.bucket = w.bucket and x.key = w.key and x.who = w.who
	and x.kind = any(array[w.kind, case w.kind when @ObjectRemoved then @ObjectDeleted else w.kind end])
	order by xid, seq limit 1) j on true
left join lateral (
	select plain, body_file, body_offset from heads h where h.bucket = w.bucket and h.key = w.key and h.number = j.number
	union all
	select plain, body_file, body_offset from history h where h.bucket = w.bucket and h.key = w.key
	and h.number = j.number) v on true
where not w.kind = any(array[@Writes]::smallint[]) or v.body_file is null
	or v.body_file = w.file and v.body_offset = w.place`)

// made gives what changes made, nil for those that made nothing.
func (c *Catalog) made(ctx context.Context, changes []Change) ([]*Result, error) {
	n := len(changes)
	buckets, keys, at := make([]int64, n), make([][]byte, n), make([]time.Time, n)
	kinds, who, files, places := make([]int16, n), make([]string, n), make([]int64, n), make([]int64, n)
	for i, ch := range changes {
		buckets[i], keys[i], at[i], who[i] = ch.Bucket, []byte(ch.Key), ch.At, ch.Who
		kinds[i] = int16(max(ch.Kind, ObjectWritten))
		if ch.Version != nil {
			files[i], places[i] = ch.Version.Body.File, ch.Version.Body.Offset
		}
	}
	var rows []struct {
		Place      int               `db:"i"`
		Kind       EntryKind         `db:"kind"`
		Number     int64             `db:"number"`
		Detail     []byte            `db:"detail"`
		Plain      bool              `db:"plain"`
		Versioning object.Versioning `db:"versioning"`
	}
	ctx, cancel := context.WithTimeout(ctx, answerFor)
	defer cancel()
	if err := c.db.SelectContext(ctx, &rows, madeQuery, buckets, keys, at, kinds, who, files, places); err != nil {
		return nil, mapError(err)
	}
	out := make([]*Result, n)
	for _, r := range rows {
		var d struct {
			Revision int  `json:"revision"`
			Marker   bool `json:"marker"`
		}
		if err := json.Unmarshal(r.Detail, &d); err != nil {
			return nil, err
		}
		res := &Result{Number: r.Number, Versioning: r.Versioning, Revision: max(1, d.Revision),
			Marker: d.Marker || r.Kind == ObjectDeleted, Freed: true}
		if res.Versioning == object.On && r.Plain {
			res.Versioning = object.Paused // as it was then: the version has no number to the outside
		} else if !r.Plain {
			res.Versioning = object.On
		}
		out[r.Place-1] = res
	}
	return out, nil
}

// commitTx commits a transaction; of one whose answer is lost it finds out what became of it.
func (c *Catalog) commitTx(ctx context.Context, tx *sqlx.Tx) error {
	var number sql.NullString // of a transaction that wrote something
	if err := tx.GetContext(ctx, &number, `select pg_current_xact_id_if_assigned()::text`); err != nil {
		_ = tx.Rollback()
		return err
	}
	err := tx.Commit()
	if err == nil || !number.Valid || fault.KindOf(mapError(err)) != fault.Unavailable || retryable(err) {
		return err
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settleFor)
	defer cancel()
	var status string
	asked := patiently(ctx, func() error {
		if err := c.ended(ctx, `backend_xid = $1::text::xid8::xid`, number.String); err != nil {
			return err
		}
		return c.db.GetContext(ctx, &status, `select coalesce(pg_xact_status($1::text::xid8), 'unknown')`, number.String)
	})
	switch {
	case asked == nil && status == "committed":
		return nil
	case asked == nil && status == "aborted":
		return err
	}
	return unknownOutcome(errors.Join(err, asked))
}
