package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/census"
	"spindle/internal/core/fault"
)

type censusRow struct {
	ID       int64          `db:"id"`
	Account  string         `db:"account"`
	Name     string         `db:"name"`
	On       bool           `db:"active"`
	Source   []byte         `db:"source"`
	Target   []byte         `db:"target"`
	TargetAt sql.NullString `db:"target_at"`
	Spec     []byte         `db:"spec"`
	Next     *time.Time     `db:"next"`
	Revision int            `db:"revision"`
	Created  time.Time      `db:"created"`
	Changed  time.Time      `db:"changed"`
	Who      string         `db:"changed_by"`
	From     string         `db:"changed_from"`
}

func (r *censusRow) census() (*census.Census, error) {
	c := &census.Census{ID: r.ID, Account: r.Account, Name: r.Name, On: r.On, Next: r.Next, Revision: r.Revision,
		Created: r.Created.UTC(), Changed: r.Changed.UTC(), Who: r.Who, Source: r.From}
	err := errors.Join(json.Unmarshal(r.Source, &c.From), json.Unmarshal(r.Target, &c.To), json.Unmarshal(r.Spec, &c.Spec))
	c.To.Endpoint = r.TargetAt.String
	return c, err
}

func censuses(ctx context.Context, q selecting, rest string, args ...any) ([]*census.Census, error) {
	var rows []censusRow
	if err := q.SelectContext(ctx, &rows, `select j.id, a.name as account, j.name, j.active, j.source, j.target,
		t.name as target_at, j.spec, j.next, j.revision, j.created, j.changed, j.changed_by, j.changed_from from censuses j
		join accounts a on a.id = j.account left join endpoints t on t.id = j.target_at `+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*census.Census, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].census(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

var censusJobs = scheduled[census.Census]{jobs: "censuses", runs: "census_runs", of: "census", noun: "census",
	code: "census", command: "spindle census list", list: censuses, values: censusValues,
	update: `active = $5, source = $6, target = $7, target_at = $8, spec = $9, next = $10`,
	head:   func(x *census.Census) jobHead { return jobHead{x.ID, x.Account, x.Name, x.Revision, x.Next} },
	told:   func(x *census.Census) map[string]any { return map[string]any{"to": x.To.String()} }}

// Censuses gives the censuses of an account after a name, by name.
func (c *Catalog) Censuses(ctx context.Context, account, after string, limit int) ([]*census.Census, error) {
	return censusJobs.named(ctx, c.db, account, after, limit)
}

// Census gives a census of an account. The error for none has the code census-missing.
func (c *Catalog) Census(ctx context.Context, account, name string) (*census.Census, error) {
	return censusJobs.one(ctx, c.db, `where a.name = $1 and j.name = $2`, account, name)
}

// censusValues gives what a census's row holds of it.
func censusValues(ctx context.Context, tx *sqlx.Tx, x *census.Census) ([]any, error) {
	var at *int64
	if x.To.Endpoint != "" {
		e, err := oneEndpoint(ctx, tx, x.To.Endpoint, `where a.name = $1 and e.name = $2`, x.Account, x.To.Endpoint)
		if err != nil {
			return nil, fault.From(err).In("to")
		}
		at = &e.ID
	}
	source, serr := json.Marshal(x.From)
	target, terr := json.Marshal(x.To)
	spec, err := json.Marshal(x.Spec)
	return []any{x.Account, x.Name, x.On, string(source), string(target), at, string(spec), x.Next},
		errors.Join(serr, terr, err)
}

// AddCensus writes a new census down, and asks for its first run. The error for a name that
// is taken has the code census-exists.
func (c *Catalog) AddCensus(ctx context.Context, x *census.Census, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		values, err := censusValues(ctx, tx, x)
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &x.ID, `insert into censuses (account, name, active, source, target, target_at, spec, next,
			created, changed, changed_by, changed_from) select id, $2, $3, $4, $5, $6, $7, $8, $9, $9, $10, $11 from accounts
			where name = $1 returning id`, append(values, by.At, by.Who, by.Source)...)
		if err != nil {
			return censusJobs.taken(err, x.Name)
		}
		if _, err := tx.ExecContext(ctx, `insert into census_runs (census, state, who, asked) values ($1, 'waiting', $2, $3)`,
			x.ID, by.Who, by.At); err != nil {
			return err
		}
		return censusJobs.trail(ctx, tx, by, x, "added")
	})
}

// ChangeCensus changes a census as it is found. The errors are those of edit, and revision
// when it is at another than ifRevision, which is not 0.
func (c *Catalog) ChangeCensus(ctx context.Context, account, name string, ifRevision int, by Author,
	edit func(*census.Census) error) error {
	return censusJobs.change(ctx, c, account, name, ifRevision, by, edit)
}

// RemoveCensus takes a census away with what is known of its runs; its files stay. One that
// runs is refused with the code census-running.
func (c *Catalog) RemoveCensus(ctx context.Context, account, name string, by Author) error {
	return censusJobs.remove(ctx, c, account, name, by)
}

// CensusesDue gives the censuses whose schedule is due.
func (c *Catalog) CensusesDue(ctx context.Context, limit int) ([]*census.Census, error) {
	return censusJobs.due(ctx, c.db, limit)
}

// CensusNext puts a census's schedule on, and asks for a run unless one is open. It does
// nothing when another process did it first.
func (c *Catalog) CensusNext(ctx context.Context, x *census.Census, next *time.Time, run bool, now time.Time) error {
	return censusJobs.next(ctx, c, x, next, run, now)
}

// AskCensus asks for a run. The error when one is under way has the code census-running.
func (c *Catalog) AskCensus(ctx context.Context, x *census.Census, by Author) (id int64, err error) {
	err = c.db.GetContext(ctx, &id, `insert into census_runs (census, state, who, asked) values ($1, 'waiting', $2, $3)
		on conflict do nothing returning id`, x.ID, by.Who, by.At)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, fault.New(fault.Conflict, "census-running", "a run of %s is under way", x.Name).In("census").
			Do("wait for its end, or stop it")
	}
	return id, mapError(err)
}

type censusRunRow struct {
	jobRunRow
	AsOf   *time.Time `db:"as_of"`
	Result []byte     `db:"result"`
}

func (c *Catalog) censusRuns(ctx context.Context, rest string, args ...any) ([]census.Run, error) {
	var rows []censusRunRow
	if err := c.db.SelectContext(ctx, &rows, `select `+jobRunColumns+`, census as of, as_of, result from census_runs `+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]census.Run, len(rows))
	for i, r := range rows {
		out[i] = census.Run{Run: r.head(), AsOf: r.AsOf}
		if err := json.Unmarshal(r.Result, &out[i].Result); err != nil {
			return nil, err
		}
		out[i].To.Endpoint = out[i].Result.At
	}
	return out, nil
}

// CensusRuns gives the runs of a census before one (0: the latest), latest first.
func (c *Catalog) CensusRuns(ctx context.Context, of, before int64, limit int) ([]census.Run, error) {
	return c.censusRuns(ctx, censusJobs.runsBefore(), of, before, limit)
}

// LastCensusRuns gives the latest run of each of several censuses.
func (c *Catalog) LastCensusRuns(ctx context.Context, of []int64) (map[int64]census.Run, error) {
	list, err := c.censusRuns(ctx, censusJobs.lastRuns(), of)
	out := map[int64]census.Run{}
	for _, r := range list {
		out[r.Of] = r
	}
	return out, err
}

// CensusRun gives a run of a census; 0 names the latest that was written whole. The error
// for none has the code run-missing.
func (c *Catalog) CensusRun(ctx context.Context, of, id int64) (census.Run, error) {
	list, err := c.censusRuns(ctx, `where census = $1 and (id = $2 or $2 = 0 and state = 'done') order by id desc limit 1`,
		of, id)
	switch {
	case err != nil:
		return census.Run{}, err
	case len(list) > 0:
		return list[0], nil
	case id == 0:
		return census.Run{}, fault.New(fault.NotFound, "run-missing", "the census was not written yet").In("run").
			Do("spindle census show says how its runs stand")
	}
	return census.Run{}, fault.New(fault.NotFound, "run-missing", "the census has no run %d", id).In("run").
		Do("spindle census show lists them")
}

// StopCensus asks a run to stop; one that waits ends at once.
func (c *Catalog) StopCensus(ctx context.Context, run int64, now time.Time) error {
	return censusJobs.stop(ctx, c, run, now)
}

// CensusToRun gives the census with the oldest run that waits, or that a process left, with
// that run; nil for none.
func (c *Catalog) CensusToRun(ctx context.Context) (*census.Census, *census.Run, error) {
	list, err := c.censusRuns(ctx, `where state in ('waiting', 'running') order by id limit 1`)
	if err != nil || len(list) == 0 {
		return nil, nil, err
	}
	x, err := censusJobs.one(ctx, c.db, `where j.id = $1`, list[0].Of)
	if fault.HasCode(err, "census-missing") { // it was removed meanwhile
		return nil, nil, nil
	}
	return x, &list[0], err
}

// SaveCensusRun writes down how a run stands, under a lease. It gives whether somebody asked
// it to stop.
func (c *Catalog) SaveCensusRun(ctx context.Context, r *census.Run) (stop bool, err error) {
	r.Result.At = r.To.Endpoint
	result, err := json.Marshal(r.Result)
	if err != nil {
		return false, err
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &stop, `update census_runs set state = $2, started = $3, ended = $4, as_of = $5, code = $6,
			says = $7,
			result = $8 where id = $1 returning stop`, r.ID, r.State, r.Started, r.Ended, r.AsOf, r.Code, r.Says, string(result))
	})
	return stop, err
}
