package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/runs"
)

// scheduled is what runs when it is asked to and by a schedule: its rows, those of its runs, and
// what both are called.
type scheduled[J any] struct {
	jobs, runs, of string // the tables, and the column by which a run names its job
	noun, code     string // as in "the census is at revision 3", and in codes of errors
	command        string // which lists them

	list   func(ctx context.Context, q selecting, rest string, args ...any) ([]*J, error)
	values func(ctx context.Context, tx *sqlx.Tx, j *J) ([]any, error) // of a row: account, name, and what update sets
	head   func(j *J) jobHead
	update string                    // of the columns that values give after the name
	told   func(j *J) map[string]any // to the trail, of one that was added or changed
}

// jobHead is what is asked of every job.
type jobHead struct {
	id       int64
	account  string
	name     string
	revision int
	next     *time.Time
}

// jobRunRow is what every run's row has; of is the number of its job.
type jobRunRow struct {
	ID      int64      `db:"id"`
	Of      int64      `db:"of"`
	State   runs.State `db:"state"`
	Who     string     `db:"who"`
	Stop    bool       `db:"stop"`
	Asked   time.Time  `db:"asked"`
	Started *time.Time `db:"started"`
	Ended   *time.Time `db:"ended"`
	Code    string     `db:"code"`
	Says    string     `db:"says"`
}

const jobRunColumns = `id, state, who, stop, asked, started, ended, code, says`

func (r *jobRunRow) head() runs.Run {
	return runs.Run{ID: r.ID, Of: r.Of, State: r.State, Who: r.Who, Stop: r.Stop, Asked: r.Asked.UTC(), Started: r.Started,
		Ended: r.Ended, Code: r.Code, Says: r.Says}
}

// one gives the job that a condition finds. The error for none has the code CODE-missing.
func (s *scheduled[J]) one(ctx context.Context, q selecting, rest string, args ...any) (*J, error) {
	all, err := s.list(ctx, q, rest, args...)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, fault.New(fault.NotFound, s.code+"-missing", "there is no such %s", s.noun).In(s.code).
			Do("%s names those there are", s.command)
	}
	return all[0], nil
}

// named gives the jobs of an account after a name, by name.
func (s *scheduled[J]) named(ctx context.Context, q selecting, account, after string, limit int) ([]*J, error) {
	return s.list(ctx, q, `where a.name = $1 and j.name > $2 order by j.name limit $3`, account, after, limit)
}

// due gives the jobs whose schedule is due.
func (s *scheduled[J]) due(ctx context.Context, q selecting, limit int) ([]*J, error) {
	return s.list(ctx, q, `where j.active and j.next <= clock_timestamp() order by j.next limit $1`, limit)
}

// locked gives a job of an account, locked.
func (s *scheduled[J]) locked(ctx context.Context, tx *sqlx.Tx, account, name string) (*J, error) {
	return s.one(ctx, tx, `where a.name = $1 and j.name = $2 for update of j`, account, name)
}

// taken makes of an error that tells of a double that the name is taken.
func (s *scheduled[J]) taken(err error, name string) error {
	if !unique(err) {
		return err
	}
	return fault.New(fault.Conflict, s.code+"-exists", "there is a %s named %q already", s.noun, name).In("name").
		Do("choose another name")
}

// trail notes what was done to a job, and which settings changed.
func (s *scheduled[J]) trail(ctx context.Context, tx *sqlx.Tx, by Author, j *J, done string, changed ...string) error {
	h := s.head(j)
	detail := map[string]any{}
	if done != "removed" {
		detail = s.told(j)
	}
	detail[s.noun+" "+done] = h.name
	if len(changed) > 0 {
		detail[changedIn] = changed
	}
	return trail(ctx, tx, by, access.TrailSetting, h.account, s.code+" "+h.name, detail)
}

// change changes a job as it is found. The errors are those of edit, and revision when it is at
// another than ifRevision, which is not 0.
func (s *scheduled[J]) change(ctx context.Context, c *Catalog, account, name string, ifRevision int, by Author,
	edit func(*J) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		j, err := s.locked(ctx, tx, account, name)
		if err != nil {
			return err
		}
		if err := fault.Revision("the "+s.noun, s.head(j).revision, ifRevision); err != nil {
			return err
		}
		before := *j
		if err := edit(j); err != nil {
			return err
		}
		values, err := s.values(ctx, tx, j)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update `+s.jobs+` set `+s.update+`, revision = revision + 1, changed = $2,
			changed_by = $3, changed_from = $4 where id = $1`,
			append([]any{s.head(j).id, by.At, by.Who, by.Source}, values[2:]...)...); err != nil {
			return err
		}
		return s.trail(ctx, tx, by, j, "changed", settingsChanged(before, *j)...)
	})
}

// remove takes a job away with its runs. One that runs is refused with the code CODE-running.
func (s *scheduled[J]) remove(ctx context.Context, c *Catalog, account, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		j, err := s.locked(ctx, tx, account, name)
		if err != nil {
			return err
		}
		id := s.head(j).id
		var running bool
		if err := tx.GetContext(ctx, &running, `select exists (select 1 from `+s.runs+` where `+s.of+` = $1
			and state = 'running')`, id); err != nil {
			return err
		}
		if running {
			return fault.New(fault.Conflict, s.code+"-running", "the %s %s is running", s.noun, name).In(s.code).
				Do("stop it first, or wait for its end")
		}
		if _, err := tx.ExecContext(ctx, `delete from `+s.jobs+` where id = $1`, id); err != nil {
			return err
		}
		return s.trail(ctx, tx, by, j, "removed")
	})
}

// next puts a job's schedule on, and asks for a run unless one is open. It does nothing when
// another process did it first.
func (s *scheduled[J]) next(ctx context.Context, c *Catalog, j *J, next *time.Time, run bool, now time.Time) error {
	h := s.head(j)
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `update `+s.jobs+` set next = $3 where id = $1 and next = $2`, h.id, h.next, next)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 || !run {
			return err
		}
		_, err = tx.ExecContext(ctx, `insert into `+s.runs+` (`+s.of+`, state, who, asked)
			values ($1, 'waiting', 'schedule', $2) on conflict do nothing`, h.id, now)
		return err
	})
}

// runsBefore is the condition of a job's runs before one (0: the latest), latest first.
func (s *scheduled[J]) runsBefore() string {
	return `where ` + s.of + ` = $1 and ($2 = 0 or id < $2) order by id desc limit $3`
}

// lastRuns is the condition of the latest run of each of several jobs.
func (s *scheduled[J]) lastRuns() string {
	return `where id in (select max(id) from ` + s.runs + ` where ` + s.of + ` = any($1) group by ` + s.of + `)`
}

// stop asks a run to stop; one that has not begun, or asks, ends at once.
func (s *scheduled[J]) stop(ctx context.Context, c *Catalog, run int64, now time.Time) error {
	_, err := c.changed(ctx, `update `+s.runs+` set stop = true,
		state = case when state in ('waiting', 'asking') then 'stopped' else state end,
		ended = case when state in ('waiting', 'asking') then $2 else ended end
		where id = $1 and state in ('waiting', 'running', 'asking')`, run, now)
	return err
}
