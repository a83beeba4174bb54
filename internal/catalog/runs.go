package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
)

// RunState is how a run of rules stands.
type RunState int16

// The states of a run.
const (
	RunWaiting RunState = iota // for a process to take it
	RunUnderWay
	RunAsks // whether it may remove so much
	RunDone
	RunStopped
	RunFailed
)

var runStates = [...]string{"waiting", "under way", "asks", "done", "stopped", "failed"}

// String gives the state's name.
func (s RunState) String() string { return runStates[s] }

// RunPlace is where a run goes on, when it looks at the whole bucket.
type RunPlace struct {
	Table int   `json:"table"` // 0 for heads, 1 for history
	Block int64 `json:"block"`
}

// Run is one time that the rules of a bucket were carried out.
type Run struct {
	ID       int64
	Bucket   int64
	Revision int // of the rules
	State    RunState
	Whole    bool      // it looks at the whole bucket
	Started  time.Time // ages are judged by this moment
	Ended    *time.Time
	Who      string
	Allowed  string // who let it go beyond the guard
	Counts   []lifecycle.RunCount
	Place    RunPlace
	Says     string
}

type runRow struct {
	ID       int64      `db:"id"`
	Bucket   int64      `db:"bucket"`
	Revision int        `db:"revision"`
	State    RunState   `db:"state"`
	Whole    bool       `db:"whole"`
	Started  time.Time  `db:"started"`
	Ended    *time.Time `db:"ended"`
	Who      string     `db:"who"`
	Allowed  string     `db:"allowed"`
	Counts   []byte     `db:"counts"`
	Place    []byte     `db:"place"`
	Says     string     `db:"says"`
}

func (r *runRow) run() (*Run, error) {
	x := &Run{ID: r.ID, Bucket: r.Bucket, Revision: r.Revision, State: r.State, Whole: r.Whole, Started: r.Started.UTC(),
		Ended: r.Ended, Who: r.Who, Allowed: r.Allowed, Says: r.Says}
	return x, errors.Join(json.Unmarshal(r.Counts, &x.Counts), json.Unmarshal(r.Place, &x.Place))
}

const runColumns = `id, bucket, revision, state, whole, started, ended, who, allowed, counts, place, says`

// OpenRun begins a run. The error when one is open has the code run-open.
func (c *Catalog) OpenRun(ctx context.Context, r *Run) error {
	counts, err := json.Marshal(append([]lifecycle.RunCount{}, r.Counts...))
	if err != nil {
		return err
	}
	err = c.db.GetContext(ctx, &r.ID, `insert into lifecycle_runs (bucket, revision, state, whole, started, who, counts,
		says)
		values ($1, $2, $3, $4, $5, $6, $7::jsonb, $8)
		returning id`, r.Bucket, r.Revision, r.State, r.Whole, r.Started, r.Who,
		string(counts), r.Says)
	if unique(err) {
		return fault.New(fault.Conflict, "run-open",
			"a run of the bucket's rules is under way, or waits for an answer").In("bucket").
			Do("watch it, answer it or stop it first (spindle lifecycle run)")
	}
	return mapError(err)
}

func (c *Catalog) readRun(ctx context.Context, where string, args ...any) (*Run, error) {
	var r runRow
	err := c.db.GetContext(ctx, &r, `select `+runColumns+` from lifecycle_runs where `+where, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.run()
}

// RunOpen gives the run of a bucket that has not ended, nil for none.
func (c *Catalog) RunOpen(ctx context.Context, bucket int64) (*Run, error) {
	return c.readRun(ctx, `bucket = $1 and ended is null`, bucket)
}

// RunOf gives a run. The error for none in the bucket has the code run-missing.
func (c *Catalog) RunOf(ctx context.Context, bucket, id int64) (*Run, error) {
	r, err := c.readRun(ctx, `bucket = $1 and id = $2`, bucket, id)
	if err == nil && r == nil {
		err = fault.New(fault.NotFound, "run-missing", "the bucket's rules had no run %d", id).In("run").
			Do("list them: spindle lifecycle run list")
	}
	return r, err
}

// Runs gives the runs of a bucket before one (0: all), latest first.
func (c *Catalog) Runs(ctx context.Context, bucket, before int64, limit int) (out []*Run, err error) {
	var rows []runRow
	if err := c.db.SelectContext(ctx, &rows, `select `+runColumns+` from lifecycle_runs where bucket = $1
		and ($2 = 0 or id < $2) order by id desc limit $3`, bucket, before, limit); err != nil {
		return nil, mapError(err)
	}
	for i := range rows {
		r, err := rows[i].run()
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// RunToTell is a run that somebody should look at.
type RunToTell struct {
	Bucket  string    `db:"name"`
	State   RunState  `db:"state"`
	Says    string    `db:"says"`
	Started time.Time `db:"started"`
}

// RunsToTell gives the last runs that ask or failed, of buckets of an account ("": all).
func (c *Catalog) RunsToTell(ctx context.Context, account string, limit int) (out []RunToTell, err error) {
	q := where().when(account != "", `a.name = ?`, account)
	err = c.db.SelectContext(ctx, &out, `select b.name, r.state, r.says, r.started
		from (select distinct on (bucket) bucket, state,
			says, started from lifecycle_runs order by bucket, id desc) r
		join buckets b on b.id = r.bucket and b.removed is null join accounts a on a.id = b.account
		where r.state in (2, 5) and `+q.String()+` order by b.name limit `+q.arg(limit), q.args...)
	return out, mapError(err)
}

func runStopped() error {
	return fault.New(fault.Conflict, "run-stopped", "the run was stopped meanwhile").In("run")
}

// saveRun keeps how far a run is, in a transaction of what it did.
func saveRun(ctx context.Context, tx *sqlx.Tx, r *Run) error {
	counts, err := json.Marshal(r.Counts)
	if err != nil {
		return err
	}
	place, err := json.Marshal(r.Place)
	if err != nil {
		return err
	}
	res, err := tx.ExecContext(ctx, `update lifecycle_runs set state = $2, counts = $3::jsonb, place = $4::jsonb,
		says = $5,
		ended = case when $2::smallint >= 3 then clock_timestamp() end, whole = $6 where id = $1 and ended is null
		and (state <> 2 or $2 <> 1 or allowed <> '')`, r.ID, int16(r.State), string(counts), string(place), r.Says, r.Whole)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 1 {
		return err
	}
	return runStopped()
}

// SaveRun keeps how far a run is. The error when it was stopped meanwhile has the code
// run-stopped.
func (c *Catalog) SaveRun(ctx context.Context, r *Run) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error { return saveRun(ctx, tx, r) })
}

// EndRun ends a run that did all that was due at its start; the next one begins there.
func (c *Catalog) EndRun(ctx context.Context, r *Run, upto time.Time, at JournalEnd) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if r.ID != 0 {
			if err := saveRun(ctx, tx, r); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `update lifecycles set upto = $3 where bucket = $1 and revision = $2`, r.Bucket,
			r.Revision,
			upto); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update followers set xid = $2::xid8, seq = $3, upto = $4, moved = now() where name = $1
			and (xid, seq) < ($2::xid8, $3)`, followerOf(r.Bucket), at.XID, at.Seq, upto)
		return err
	})
}

// AnswerRun lets a run that asks go on, or stops a run that has not ended, with an entry
// of the journal. The error when there is none such has the code run-answer.
func (c *Catalog) AnswerRun(ctx context.Context, bucket, id int64, goOn bool, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		q, what := `update lifecycle_runs set state = 4, ended = clock_timestamp(), says = 'stopped by ' || $3::text
			where bucket = $1 and id = $2 and ended is null`, "run stopped"
		if goOn {
			q, what = `update lifecycle_runs set state = 0, allowed = $3 where bucket = $1 and id = $2 and state = 2`,
				"run let go on"
		}
		res, err := tx.ExecContext(ctx, q, bucket, id, by.Who)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			if err == nil {
				err = fault.New(fault.Conflict, "run-answer", "the run does not wait for this any more").In("run").
					Do("look how it stands: spindle lifecycle run show")
			}
			return err
		}
		return journalBucket(ctx, tx, BucketChanged, bucket, by, map[string]any{"lifecycle": what, "run": id})
	})
}

// Outcome is what a run did to a version or an upload, or why it could not.
type Outcome struct {
	Seq    int64     `db:"seq"`
	At     time.Time `db:"at"`
	Key    []byte    `db:"key"`
	Number int64     `db:"number"`
	Size   int64     `db:"size"`
	Rule   string    `db:"rule"`
	Did    string    `db:"did"`
	Says   string    `db:"says"`
}

// noteOutcomes keeps outcomes of a run, in a transaction of what it did.
func noteOutcomes(ctx context.Context, tx *sqlx.Tx, run int64, list []Outcome) error {
	if len(list) == 0 {
		return nil
	}
	n := len(list)
	keys, numbers, sizes, rules, dids, says := make([][]byte, n), make([]int64, n), make([]int64, n), make([]string, n),
		make([]string, n), make([]string, n)
	for i, o := range list {
		keys[i], numbers[i], sizes[i], rules[i], dids[i], says[i] = o.Key, o.Number, o.Size, o.Rule, o.Did, o.Says
	}
	_, err := tx.ExecContext(ctx, `insert into lifecycle_outcomes (run, at, key, number, size, rule, did, says)
		select $1, clock_timestamp(), k, n, s, r, d, y from unnest($2::bytea[], $3::bigint[], $4::bigint[], $5::text[],
		$6::text[],
			$7::text[]) x(k, n, s, r, d, y)`, run, keys, numbers, sizes, rules, dids, says)
	return err
}

// NoteOutcomes keeps outcomes of a run, and how far it is.
func (c *Catalog) NoteOutcomes(ctx context.Context, r *Run, list []Outcome) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := noteOutcomes(ctx, tx, r.ID, list); err != nil {
			return err
		}
		return saveRun(ctx, tx, r)
	})
}

// Outcomes gives the outcomes of a run after one (0: all), in their order; failed gives
// those that could not be done alone.
func (c *Catalog) Outcomes(ctx context.Context, run, after int64, failed bool, limit int) (out []Outcome, err error) {
	err = c.db.SelectContext(ctx, &out, `select seq, at, key, number, size, rule, did, says from lifecycle_outcomes
		where run = $1 and seq > $2 and (not $3 or says <> '') order by seq limit $4`, run, after, failed, limit)
	return out, mapError(err)
}

// JournalEnd is a place in the journal: all before it is committed and read.
type JournalEnd struct {
	XID string `db:"xid"`
	Seq int64  `db:"seq"`
}

// JournalEnd gives the last place before which nothing more can come.
func (c *Catalog) JournalEnd(ctx context.Context) (e JournalEnd, err error) {
	err = c.db.GetContext(ctx, &e, `select j.xid::text as xid, j.seq from journal j where `+belowHorizon+`
		order by j.xid desc, j.seq desc limit 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return JournalEnd{"0", 0}, nil
	}
	return e, mapError(err)
}

// Due asks for the keys of a bucket of which something may be due now.
type Due struct {
	Bucket int64
	From   time.Time // all that was due before is done
	To     time.Time
	Ages   []int // days
	End    JournalEnd
}

// keysAtOnce is how many keys are given at a time.
const keysAtOnce = 500

// DueKeys gives the keys on which something happened so many days before the stretch
// of time, or since the rules last read the journal: of no other anything has come to be
// due. They come in batches.
func (c *Catalog) DueKeys(ctx context.Context, d Due, f func([][]byte) error) error {
	q := where(d.Bucket)
	var windows []string
	for _, days := range d.Ages {
		age := time.Duration(days) * lifecycle.Day
		windows = append(windows, `at > `+q.arg(d.From.Add(-age))+` and at <= `+q.arg(d.To.Add(-age)))
	}
	windows = append(windows,
		`(xid, seq) > (select x.xid, x.seq from followers x where x.name = `+q.arg(followerOf(d.Bucket))+
			`) and (xid, seq) <= (`+q.arg(d.End.XID)+`::xid8, `+q.arg(d.End.Seq)+`)`)
	var union []string
	for _, w := range windows {
		union = append(union, `select key from journal where bucket = $1 and key is not null and `+w)
	}
	return c.streamKeys(ctx, `select distinct key from (`+joined(union, " union all ")+`) x`, q.args, f)
}

func joined(list []string, with string) (s string) {
	for i, x := range list {
		if i > 0 {
			s += with
		}
		s += x
	}
	return s
}

func (c *Catalog) streamKeys(ctx context.Context, query string, args []any, f func([][]byte) error) error {
	rows, err := c.db.QueryContext(ctx, query, args...)
	if err != nil {
		return mapError(err)
	}
	defer rows.Close()
	var batch [][]byte
	for rows.Next() {
		var key []byte
		if err := rows.Scan(&key); err != nil {
			return mapError(err)
		}
		if batch = append(batch, key); len(batch) == keysAtOnce {
			if err := f(batch); err != nil {
				return err
			}
			batch = nil
		}
	}
	if err := rows.Err(); err != nil {
		return mapError(err)
	}
	rows.Close() // before the last batch is acted on, which may take long
	if len(batch) > 0 {
		return f(batch)
	}
	return nil
}

// walkBlocks is how many blocks of a table are looked at at a time.
const walkBlocks = 4096

// WalkKeys gives the keys of a bucket that rules hold and of which something may be due,
// in the order in which they stand on the disk, from a place on; after each stretch of
// the tables it says where it goes on.
func (c *Catalog) WalkKeys(ctx context.Context, bucket int64, set *lifecycle.Set, now time.Time, from RunPlace,
	f func([][]byte) error, passed func(RunPlace) error) error {
	for ; from.Table < 2; from.Table, from.Block = from.Table+1, 0 {
		table := [...]string{"heads", "history"}[from.Table]
		var blocks int64
		if err := c.db.GetContext(ctx, &blocks,
			`select pg_relation_size($1::regclass) / current_setting('block_size')::bigint`, table); err != nil {
			return mapError(err)
		}
		for ; from.Block <= blocks; from.Block += walkBlocks {
			if err := passed(from); err != nil {
				return err
			}
			q := where(bucket, from.Block, from.Block+walkBlocks)
			may := q.mayBeDue(set, now, from.Table == 1)
			if err := c.streamKeys(ctx, `select h.key from `+table+` h where h.bucket = $1
				and h.ctid >= format('(%s,0)', $2::bigint)::tid and h.ctid < format('(%s,0)', $3::bigint)::tid and `+may, q.args,
				f); err != nil {
				return err
			}
		}
	}
	return nil
}

// mayBeDue asks for rows h that a rule holds and that are old enough for one of its
// actions.
func (q *conditions) mayBeDue(set *lifecycle.Set, now time.Time, previous bool) string {
	var any []string
	for _, r := range set.Rules {
		if !r.On() {
			continue
		}
		scope := "" // an argument that no term names is none
		for _, a := range r.Actions {
			since, term := `h.created`, `not h.marker`
			switch {
			case a.Of == lifecycle.Uploads || (a.Of == lifecycle.Previous) != previous:
				continue
			case a.Of == lifecycle.Markers:
				term = `h.marker`
			case previous:
				since, term = `h.replaced`, `true`
			}
			switch {
			case a.Date.IsZero():
				term += ` and ` + since + ` <= ` + q.arg(now.Add(-time.Duration(a.Days)*lifecycle.Day))
			case a.Date.After(now):
				continue
			}
			if scope == "" {
				scope = q.scopeTerms(&r.Scope)
			}
			any = append(any, `(`+scope+` and `+term+`)`)
		}
	}
	if len(any) == 0 {
		return `false`
	}
	return `(` + joined(any, " or ") + `)`
}

// JournalFrom gives the moment from which on all of the journal of a bucket is there; zero
// when nothing of it has been let go of. forgets says that months of the whole journal are.
func (c *Catalog) JournalFrom(ctx context.Context, bucket int64, forgets bool) (time.Time, error) {
	var from sql.NullTime
	err := c.db.GetContext(ctx, &from, `select greatest(case when $2 then (select min(to_date(substring(c.relname
		from 9), 'YYYY_MM'))::timestamp
			at time zone 'UTC' from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'journal'::regclass
			and c.relname ~ '^journal_\d{4}_\d{2}$') end,
		(select max(coalesce(until, now())) from journal_gaps where bucket = $1))`, bucket, forgets)
	return from.Time, mapError(err)
}

// OpenUploads gives the unfinished uploads of a bucket started before a moment, after
// one of them.
func (c *Catalog) OpenUploads(ctx context.Context, bucket int64, before time.Time, after int64, limit int) ([]*Upload,
	error) {
	return c.Uploads(ctx, UploadList{Only: bucket, Before: before, AfterSeq: after, Max: limit})
}

// KeyOf reads a key that the catalog has.
func KeyOf(raw []byte) (object.Key, error) { return object.ParseKey(string(raw)) }
