package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
)

type syncRow struct {
	ID       int64          `db:"id"`
	Account  string         `db:"account"`
	Name     string         `db:"name"`
	On       bool           `db:"active"`
	Source   []byte         `db:"source"`
	SourceAt sql.NullString `db:"source_at"`
	Target   []byte         `db:"target"`
	TargetAt sql.NullString `db:"target_at"`
	Spec     []byte         `db:"spec"`
	Secret   []byte         `db:"secret"`
	Next     *time.Time     `db:"next"`
	FromMark string         `db:"source_mark"`
	ToMark   string         `db:"target_mark"`
	Revision int            `db:"revision"`
	Created  time.Time      `db:"created"`
	Changed  time.Time      `db:"changed"`
	Who      string         `db:"changed_by"`
	From     string         `db:"changed_from"`
}

const syncQuery = `select j.id, a.name as account, j.name, j.active, j.source, s.name as source_at, j.target,
	t.name as target_at, j.spec, j.secret, j.next, j.source_mark, j.target_mark, j.revision, j.created, j.changed,
	j.changed_by,
	j.changed_from from sync_jobs j join accounts a on a.id = j.account left join endpoints s on s.id = j.source_at
	left join endpoints t on t.id = j.target_at `

func (r *syncRow) job() (*syncing.Job, error) {
	j := &syncing.Job{ID: r.ID, Account: r.Account, Name: r.Name, On: r.On, Revision: r.Revision, Created: r.Created.UTC(),
		Changed: r.Changed.UTC(), Who: r.Who, Source: r.From, Next: r.Next, FromMark: r.FromMark, ToMark: r.ToMark,
		Secret: r.Secret}
	err := errors.Join(json.Unmarshal(r.Source, &j.From), json.Unmarshal(r.Target, &j.To), json.Unmarshal(r.Spec, &j.Spec))
	j.From.Endpoint, j.To.Endpoint = r.SourceAt.String, r.TargetAt.String
	return j, err
}

func syncs(ctx context.Context, q selecting, rest string, args ...any) ([]*syncing.Job, error) {
	var rows []syncRow
	if err := q.SelectContext(ctx, &rows, syncQuery+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*syncing.Job, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].job(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

var syncJobs = scheduled[syncing.Job]{jobs: "sync_jobs", runs: "sync_runs", of: "job", noun: "sync job", code: "sync",
	command: "spindle sync list", list: syncs, values: syncValues,
	update: `active = $5, source = $6, source_at = $7, target = $8, target_at = $9, spec = $10, next = $11, secret = $12,
		source_mark = $13, target_mark = $14`,
	head: func(j *syncing.Job) jobHead { return jobHead{j.ID, j.Account, j.Name, j.Revision, j.Next} },
	told: func(j *syncing.Job) map[string]any {
		return map[string]any{"from": j.From.String(), "to": j.To.String(), "mode": j.Mode}
	}}

// Syncs gives the sync jobs of an account after a name, by name.
func (c *Catalog) Syncs(ctx context.Context, account, after string, limit int) ([]*syncing.Job, error) {
	return syncJobs.named(ctx, c.db, account, after, limit)
}

// Sync gives a sync job of an account. The error for none has the code sync-missing.
func (c *Catalog) Sync(ctx context.Context, account, name string) (*syncing.Job, error) {
	return syncJobs.one(ctx, c.db, `where a.name = $1 and j.name = $2`, account, name)
}

// SyncByID gives a sync job by its number.
func (c *Catalog) SyncByID(ctx context.Context, id int64) (*syncing.Job, error) {
	return syncJobs.one(ctx, c.db, `where j.id = $1`, id)
}

// SyncSecret names what a job's keys are made of where it is sealed.
func SyncSecret(recipient string) string { return "sync sealing " + recipient }

// values gives what a job's row holds of it.
func syncValues(ctx context.Context, tx *sqlx.Tx, j *syncing.Job) ([]any, error) {
	at := func(p syncing.Place) (*int64, error) {
		if p.Endpoint == "" {
			return nil, nil
		}
		e, err := oneEndpoint(ctx, tx, p.Endpoint, `where a.name = $1 and e.name = $2`, j.Account, p.Endpoint)
		if err != nil {
			return nil, err
		}
		return &e.ID, nil
	}
	from, err := at(j.From)
	if err != nil {
		return nil, fault.From(err).In("from")
	}
	to, err := at(j.To)
	if err != nil {
		return nil, fault.From(err).In("to")
	}
	source, serr := json.Marshal(j.From)
	target, terr := json.Marshal(j.To)
	spec, err := json.Marshal(j.Spec)
	return []any{j.Account, j.Name, j.On, string(source), from, string(target), to, string(spec), j.Next,
			j.Secret, j.FromMark, j.ToMark},
		errors.Join(serr, terr, err)
}

// AddSync writes a new sync job down. The error for a name that is taken has the code
// sync-exists.
func (c *Catalog) AddSync(ctx context.Context, j *syncing.Job, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		values, err := syncValues(ctx, tx, j)
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &j.ID, `insert into sync_jobs (account, name, active, source, source_at, target, target_at,
			spec,
			next, secret, source_mark, target_mark, created, changed, changed_by, changed_from)
			select id, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $13, $14, $15 from accounts where name = $1
			returning id`, append(values, by.At, by.Who, by.Source)...)
		if err != nil {
			return syncJobs.taken(err, j.Name)
		}
		return syncJobs.trail(ctx, tx, by, j, "added")
	})
}

// ChangeSync changes a sync job as it is found; what the sides were is forgotten when they
// are others. The errors are those of edit, and revision when it is at another than
// ifRevision, which is not 0.
func (c *Catalog) ChangeSync(ctx context.Context, account, name string, ifRevision int, by Author,
	edit func(*syncing.Job) error) error {
	return syncJobs.change(ctx, c, account, name, ifRevision, by, func(j *syncing.Job) error {
		from, to := j.From, j.To
		if err := edit(j); err != nil {
			return err
		}
		if j.From != from {
			j.FromMark = ""
		}
		if j.To != to {
			j.ToMark = ""
		}
		return nil
	})
}

// RemoveSync takes a sync job away with its runs. One that runs is refused with the code
// sync-running.
func (c *Catalog) RemoveSync(ctx context.Context, account, name string, by Author) error {
	return syncJobs.remove(ctx, c, account, name, by)
}

// SyncsDue gives the jobs whose schedule is due.
func (c *Catalog) SyncsDue(ctx context.Context, limit int) ([]*syncing.Job, error) {
	return syncJobs.due(ctx, c.db, limit)
}

// SyncNext puts a job's schedule on, and asks for a run unless one is open. It does nothing
// when another process did it first.
func (c *Catalog) SyncNext(ctx context.Context, j *syncing.Job, next *time.Time, run bool, now time.Time) error {
	return syncJobs.next(ctx, c, j, next, run, now)
}

type syncRunRow struct {
	jobRunRow
	Anyway bool   `db:"anyway"`
	Tally  []byte `db:"tally"`
}

func (c *Catalog) syncRuns(ctx context.Context, rest string, args ...any) ([]syncing.Run, error) {
	var rows []syncRunRow
	if err := c.db.SelectContext(ctx, &rows, `select `+jobRunColumns+`, job as of, anyway, tally from sync_runs `+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]syncing.Run, len(rows))
	for i, r := range rows {
		out[i] = syncing.Run{Run: r.head(), Anyway: r.Anyway}
		if err := json.Unmarshal(r.Tally, &out[i].Tally); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// SyncRuns gives the runs of a job before one (0: the latest), latest first.
func (c *Catalog) SyncRuns(ctx context.Context, job, before int64, limit int) ([]syncing.Run, error) {
	return c.syncRuns(ctx, syncJobs.runsBefore(), job, before, limit)
}

// LastSyncRuns gives the latest run of each of several jobs.
func (c *Catalog) LastSyncRuns(ctx context.Context, jobs []int64) (map[int64]syncing.Run, error) {
	list, err := c.syncRuns(ctx, syncJobs.lastRuns(), jobs)
	out := map[int64]syncing.Run{}
	for _, r := range list {
		out[r.Of] = r
	}
	return out, err
}

// SyncRun gives a run of a job. The error for none has the code run-missing.
func (c *Catalog) SyncRun(ctx context.Context, job, id int64) (syncing.Run, error) {
	list, err := c.syncRuns(ctx, `where job = $1 and id = $2`, job, id)
	if err == nil && len(list) == 0 {
		err = fault.New(fault.NotFound, "run-missing", "the job has no run %d",
			id).In("run").Do("spindle sync runs lists them")
	}
	if err != nil {
		return syncing.Run{}, err
	}
	return list[0], nil
}

// AskSync asks for a run of a job; one that waits for an answer goes on. The error when
// one is under way has the code sync-running.
func (c *Catalog) AskSync(ctx context.Context, j *syncing.Job, anyway bool, by Author) (id int64, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `select 1 from sync_jobs where id = $1 for update`, j.ID); err != nil {
			return err
		}
		var open struct {
			ID    int64      `db:"id"`
			State runs.State `db:"state"`
		}
		err := tx.GetContext(ctx, &open, `select id, state from sync_runs where job = $1 and ended is null
			and state in ('waiting', 'running', 'asking')`, j.ID)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return tx.GetContext(ctx, &id, `insert into sync_runs (job, state, who, anyway, asked)
				values ($1, 'waiting', $2, $3, $4)
				returning id`, j.ID, by.Who, anyway, by.At)
		case err != nil:
			return err
		case open.State != runs.Asking:
			return fault.New(fault.Conflict, "sync-running", "the run %d of %s is under way", open.ID, j.Name).In("sync").
				Do("watch it, or stop it")
		}
		id = open.ID
		_, err = tx.ExecContext(ctx, `update sync_runs set state = 'waiting', anyway = $2, who = $3, code = '', says = '',
			stop = false where id = $1`, id, anyway, by.Who)
		return err
	})
	return id, err
}

// StopSync asks a run to stop; one that waits, or asks, ends at once.
func (c *Catalog) StopSync(ctx context.Context, run int64, now time.Time) error {
	return syncJobs.stop(ctx, c, run, now)
}

// SyncsToRun gives jobs with a run that waits, or that a process left, the oldest first.
func (c *Catalog) SyncsToRun(ctx context.Context, limit int) ([]*syncing.Job, error) {
	return syncs(ctx, c.db, `where j.id in (select job from sync_runs where state in ('waiting', 'running') order by id
		limit $1)`,
		limit)
}

// OpenSyncRun gives the run of a job that is to be done, nil for none.
func (c *Catalog) OpenSyncRun(ctx context.Context, job int64) (*syncing.Run, error) {
	list, err := c.syncRuns(ctx, `where job = $1 and state in ('waiting', 'running')`, job)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// SaveSyncRun writes down how a run stands, and what became of objects, under a lease. It
// gives whether somebody asked it to stop.
func (c *Catalog) SaveSyncRun(ctx context.Context, r *syncing.Run, outcomes []syncing.Outcome) (stop bool, err error) {
	tally, err := json.Marshal(r.Tally)
	if err != nil {
		return false, err
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &stop, `update sync_runs set state = $2, started = $3, ended = $4, code = $5, says = $6,
			tally = $7 where id = $1 returning stop`, r.ID, r.State, r.Started, r.Ended, r.Code, r.Says, string(tally)); err != nil {
			return err
		}
		if len(outcomes) == 0 {
			return nil
		}
		keys, deeds, whys := make([][]byte, len(outcomes)), make([]string, len(outcomes)), make([]string, len(outcomes))
		bytes, codes, says := make([]int64, len(outcomes)), make([]string, len(outcomes)), make([]string, len(outcomes))
		for i, o := range outcomes {
			keys[i], deeds[i], whys[i], bytes[i], codes[i], says[i] = []byte(o.Key), string(o.Do), string(o.Why), o.Bytes,
				o.Code,
				o.Says
		}
		_, err := tx.ExecContext(ctx, `insert into sync_outcomes (run, key, deed, why, bytes, code, says)
			select $1, * from unnest($2::bytea[], $3::text[], $4::text[], $5::bigint[], $6::text[],
			$7::text[])`, r.ID, keys, deeds,
			whys, bytes, codes, says)
		return err
	})
	return stop, err
}

// KeepSyncMarks remembers what the sides of a job were at a run that was good.
func (c *Catalog) KeepSyncMarks(ctx context.Context, j *syncing.Job, from, to string) error {
	_, err := c.changed(ctx, `update sync_jobs set source_mark = $3, target_mark = $4 where id = $1 and revision = $2`,
		j.ID,
		j.Revision, from, to)
	return err
}

// SyncOutcomes gives what became of objects in a run, after one, in the order in which it
// was written down.
func (c *Catalog) SyncOutcomes(ctx context.Context, run, after int64, failed bool, limit int) ([]syncing.Outcome,
	error) {
	var rows []struct {
		Seq   int64        `db:"seq"`
		Key   []byte       `db:"key"`
		Do    syncing.Deed `db:"deed"`
		Why   syncing.Why  `db:"why"`
		Bytes int64        `db:"bytes"`
		Code  string       `db:"code"`
		Says  string       `db:"says"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select seq, key, deed, why, bytes, code, says from sync_outcomes
		where run = $1 and seq > $2 and (not $3 or code <> '') order by seq
		limit $4`, run, after, failed, limit); err != nil {
		return nil, mapError(err)
	}
	out := make([]syncing.Outcome, len(rows))
	for i, r := range rows {
		out[i] = syncing.Outcome{Seq: r.Seq, Key: string(r.Key), Do: r.Do, Why: r.Why, Bytes: r.Bytes, Code: r.Code,
			Says: r.Says}
	}
	return out, nil
}

// SyncUpload gives an upload of an object's content that a run of the job began, "" for
// none.
func (c *Catalog) SyncUpload(ctx context.Context, job int64, key, content string) (upload string, err error) {
	err = c.db.GetContext(ctx, &upload, `select upload from sync_uploads where job = $1 and key = $2 and content = $3`,
		job,
		[]byte(key), content)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return upload, mapError(err)
}

// KeepSyncUpload remembers an upload; "" forgets it.
func (c *Catalog) KeepSyncUpload(ctx context.Context, job int64, key, content, upload string) error {
	if upload == "" {
		_, err := c.changed(ctx, `delete from sync_uploads where job = $1 and key = $2`, job, []byte(key))
		return err
	}
	_, err := c.changed(ctx, `insert into sync_uploads (job, key, content, upload) values ($1, $2, $3, $4)
		on conflict (job, key) do update set content = excluded.content, upload = excluded.upload`, job, []byte(key), content,
		upload)
	return err
}
