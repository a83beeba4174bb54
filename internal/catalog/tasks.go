package catalog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"
)

// Task is one small thing to do about one subject, not before a time.
type Task struct {
	ID       int64           `db:"id"`
	Kind     string          `db:"kind"`
	Subject  []byte          `db:"subject"`
	What     json.RawMessage `db:"what"`
	Due      time.Time       `db:"due"`
	Attempts int             `db:"attempts"` // that failed
	Turn     int64           `db:"turn"`     // of the claim
	Fault    string          `db:"fault"`    // of the last one
	Made     time.Time       `db:"made"`
}

// PutTasks writes tasks down in their order, in the transaction of what makes them
// when it is called in one of Follow's.
func PutTasks(ctx context.Context, tx *sqlx.Tx, tasks []Task) error {
	n := len(tasks)
	kinds, subjects, whats, dues := make([]string, n), make([][]byte, n), make([]string, n), make([]*time.Time, n)
	for i, t := range tasks {
		kinds[i], subjects[i], whats[i] = t.Kind, t.Subject, "{}"
		if len(t.What) > 0 {
			whats[i] = string(t.What)
		}
		if !t.Due.IsZero() {
			dues[i] = &tasks[i].Due
		}
	}
	_, err := tx.ExecContext(ctx, `insert into tasks (kind, subject, what, due)
		select k, s, w::jsonb, coalesce(d, now()) from unnest($1::text[], $2::bytea[], $3::text[],
			$4::timestamptz[]) with ordinality x(k, s, w, d, n) order by n`, kinds, subjects, whats, dues)
	return err
}

// AddTasks is PutTasks in a transaction of its own.
func (c *Catalog) AddTasks(ctx context.Context, tasks []Task) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error { return PutTasks(ctx, tx, tasks) })
}

// ClaimTasks takes tasks of a kind that are due, for some time, in their order: none
// of a subject of which an earlier one has not ended. Whoever claims one whose time
// ran out has a later turn.
func (c *Catalog) ClaimTasks(ctx context.Context, kind string, limit int, d time.Duration) ([]Task, error) {
	var out []Task
	err := c.db.SelectContext(ctx, &out, `update tasks t set turn = turn + 1,
		until = clock_timestamp() + $3::bigint * interval '1 ms'
		where t.ctid = any(array(select x.ctid from tasks x where x.kind = $1 and x.due <= clock_timestamp()
			and (x.until is null or x.until < clock_timestamp())
			and not exists (select 1 from tasks e where e.kind = x.kind and e.subject = x.subject and e.id < x.id)
			order by x.due, x.id limit $2 for update skip locked))
		returning id, kind, subject, what, due, attempts, turn, fault, made`, kind, limit, d.Milliseconds())
	return out, mapError(err)
}

// EndTasks removes tasks that are done, in the transaction of what was done when it
// is called in one. Those that somebody else has claimed meanwhile stay, and are
// the error lease-lost.
func EndTasks(ctx context.Context, tx *sqlx.Tx, tasks []Task) error {
	ids, turns := taskTurns(tasks)
	r, err := tx.ExecContext(ctx,
		`delete from tasks t using unnest($1::bigint[], $2::bigint[]) x(id, turn) where t.id = x.id and t.turn = x.turn`, ids,
		turns)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n < int64(len(tasks)) {
		return leaseLost("task")
	}
	return nil
}

func taskTurns(tasks []Task) (ids, turns []int64) {
	ids, turns = make([]int64, len(tasks)), make([]int64, len(tasks))
	for i, t := range tasks {
		ids[i], turns[i] = t.ID, t.Turn
	}
	return ids, turns
}

// TasksDone is EndTasks in a transaction of its own.
func (c *Catalog) TasksDone(ctx context.Context, tasks []Task) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error { return EndTasks(ctx, tx, tasks) })
}

// DelayTask puts a task off that failed, if the claim is still held.
func (c *Catalog) DelayTask(ctx context.Context, t Task, pause time.Duration, problem string) error {
	_, err := c.changed(ctx,
		`update tasks set attempts = attempts + 1, until = null, fault = $4,
			due = clock_timestamp() + $3::bigint * interval '1 ms' where id = $1 and turn = $2`,
		t.ID, t.Turn, pause.Milliseconds(), problem)
	return err
}
