package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/query"
	"spindle/internal/core/replication"
)

// MarkReplications is the mark of the replication rules and their targets.
const MarkReplications Mark = "replications"

// replicationsLock keeps the follower there while there are rules.
const replicationsLock = 7307

// replicationFollower reads the journal for the rules, while there are any.
const replicationFollower = "replication"

// ServiceID is what this service is told apart by from others; it is drawn at the first
// start.
func (c *Catalog) ServiceID(ctx context.Context) (id string, err error) {
	_, err = c.db.ExecContext(ctx, `insert into service (id) values (gen_random_uuid()::text) on conflict do nothing`)
	if err == nil {
		err = c.db.GetContext(ctx, &id, `select id from service`)
	}
	return id, mapError(err)
}

type replicationRow struct {
	ID        int64      `db:"id"`
	Bucket    int64      `db:"bucket"`
	BucketIs  string     `db:"bucket_name"`
	Account   string     `db:"account"`
	Name      string     `db:"name"`
	Active    bool       `db:"active"`
	Priority  int        `db:"priority"`
	Prefix    []byte     `db:"prefix"`
	Tags      []byte     `db:"tags"`
	Where     string     `db:"where_"`
	Markers   bool       `db:"markers"`
	Removals  bool       `db:"removals"`
	Onward    bool       `db:"onward"`
	LagShare  float64    `db:"lag_share"`
	LagWithin int64      `db:"lag_within"`
	First     int64      `db:"first"`
	Revision  int        `db:"revision"`
	Created   time.Time  `db:"created"`
	Changed   time.Time  `db:"changed"`
	CreatedBy string     `db:"created_by"`
	Source    string     `db:"source"`
	Paused    *time.Time `db:"paused"`
}

type targetRow struct {
	ID         int64          `db:"id"`
	Rule       int64          `db:"rule"`
	EndpointID sql.NullInt64  `db:"endpoint"`
	Endpoint   sql.NullString `db:"endpoint_name"`
	Bucket     string         `db:"bucket"`
	Prefix     []byte         `db:"prefix"`
	Class      string         `db:"class"`
	Sealed     bool           `db:"sealed"`
}

func (r *replicationRow) rule(targets []targetRow) (*replication.Rule, error) {
	out := &replication.Rule{ID: r.ID, Account: r.Account, Bucket: r.BucketIs, Name: r.Name, On: r.Active,
		Priority: r.Priority, Prefix: string(r.Prefix), Markers: r.Markers, Removals: r.Removals, Onward: r.Onward,
		Lag: replication.Lag{Share: r.LagShare, Within: time.Duration(r.LagWithin) * time.Millisecond}, First: r.First,
		Revision: r.Revision, Created: r.Created.UTC(), Changed: r.Changed.UTC(), By: r.CreatedBy, Source: r.Source,
		BucketID: r.Bucket, Paused: r.Paused}
	for _, t := range targets {
		if t.Rule == r.ID {
			out.Targets = append(out.Targets, replication.Target{ID: t.ID, EndpointID: t.EndpointID.Int64,
				Endpoint: t.Endpoint.String, Bucket: t.Bucket, Prefix: string(t.Prefix), Class: t.Class, Sealed: t.Sealed})
		}
	}
	var err error
	out.Where, err = query.ParseScope(r.Where, r.Changed, query.Lasting)
	return out, errors.Join(err, readJSON(r.Tags, &out.Tags))
}

// Replications gives all rules of buckets that are there, those of greater priority first.
func (c *Catalog) Replications(ctx context.Context) ([]*replication.Rule, error) {
	return replications(ctx, c.db, ``)
}

// replications reads rules; rest narrows them to some, by its arguments.
func replications(ctx context.Context, q selecting, rest string, args ...any) ([]*replication.Rule, error) {
	var rows []replicationRow
	if err := q.SelectContext(ctx, &rows, `select r.id, r.bucket, b.name as bucket_name, a.name as account, r.name, active,
		priority, prefix, r.tags, r.where_, markers, removals, onward, lag_share, lag_within, first, r.revision, r.created,
		r.changed,
		r.created_by, r.source, r.paused from replications r join buckets b on b.id = r.bucket and b.removed is null
		join accounts a on a.id = r.account `+rest+` order by priority desc, r.id`, args...); err != nil {
		return nil, mapError(err)
	}
	var targets []targetRow
	if len(rows) > 0 {
		if err := q.SelectContext(ctx, &targets, `select t.id, t.rule, t.endpoint, e.name as endpoint_name, t.bucket,
			t.prefix,
			t.class, t.sealed from replication_targets t left join endpoints e on e.id = t.endpoint order by t.id`); err != nil {
			return nil, mapError(err)
		}
	}
	out := make([]*replication.Rule, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].rule(targets); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ReplicationMissing is the error for a rule that there is not.
func ReplicationMissing(name string) error {
	return fault.New(fault.NotFound, "replication-missing", "there is no replication rule %q", name).In("rule").
		Do("spindle replication list names those there are")
}

// ReplicationExists is the error for a name that another rule has.
func ReplicationExists(name string) error {
	return fault.New(fault.Conflict, "replication-exists", "there is a replication rule named %q already", name).
		In("name").Do("choose another name")
}

// AddReplication writes a new rule down, which acts on what is committed from now on. The
// error for a name that is taken has the code replication-exists.
func (c *Catalog) AddReplication(ctx context.Context, r *replication.Rule, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := lockAlone(ctx, tx, replicationsLock, 1); err != nil {
			return err
		}
		tags, err := documentOrNull(r.Tags)
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &r.ID, `insert into replications (bucket, account, name, active, priority, prefix, tags,
			markers, removals, onward, lag_share, lag_within, first, created, changed, created_by, source, where_, paused)
			select b.id, b.account, $2, $3, $4, $5, $6::jsonb, $7, $8, $9, $10, $11, (select last_value
			from version_numbers) + 1,
			$12, $12, $13, $14, $15, case when $3 then null else clock_timestamp() end from buckets b where b.name = $1 and b.removed is null returning id`, r.Bucket, r.Name, r.On,
			r.Priority, []byte(r.Prefix), tags, r.Markers, r.Removals, r.Onward, r.Lag.Share, r.Lag.Within.Milliseconds(), by.At,
			by.Who, by.Source, r.Where.String())
		if unique(err) {
			return ReplicationExists(r.Name)
		}
		if errors.Is(err, sql.ErrNoRows) {
			return fault.New(fault.NotFound, "bucket-missing", "there is no bucket named %q", r.Bucket).In("bucket")
		}
		if err != nil {
			return err
		}
		if err := putTargets(ctx, tx, r); err != nil {
			return err
		}
		// Nothing that commits after this is below the place: this transaction is under way.
		if _, err := tx.ExecContext(ctx, `insert into followers (name, xid, seq, upto)
			values ($1, journal_horizon(), 0, 'epoch') on conflict do nothing`,
			replicationFollower); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, r.Account, "replication "+r.Name,
			map[string]any{"replication added": r.Name,
				"does": r.Words()})
	})
}

// putTargets writes the targets of a rule down: those that have no number yet get one.
func putTargets(ctx context.Context, tx *sqlx.Tx, r *replication.Rule) error {
	for i := range r.Targets {
		t := &r.Targets[i]
		if t.ID != 0 {
			if _, err := tx.ExecContext(ctx, `update replication_targets set class = $2, sealed = $3 where id = $1`, t.ID,
				t.Class, t.Sealed); err != nil {
				return err
			}
			continue
		}
		if t.Endpoint != "" && t.EndpointID == 0 {
			return fault.New(fault.Internal, "target-endpoint", "the target %s has no endpoint", t.Address()).In("targets")
		}
		if err := tx.GetContext(ctx, &t.ID, `insert into replication_targets (rule, endpoint, bucket, prefix, class, sealed)
			values ($1, $2, $3, $4, $5, $6) returning id`, r.ID, orNull(t.EndpointID, t.EndpointID == 0), t.Bucket,
			[]byte(t.Prefix), t.Class, t.Sealed); err != nil {
			return err
		}
	}
	return nil
}

// ChangeReplication changes a rule of an account as it is found. Targets that are not
// named any more are forgotten, with what was known of their copies. The errors are those
// of edit, revision, and replication-missing.
func (c *Catalog) ChangeReplication(ctx context.Context, account, name string, ifRevision int, by Author,
	edit func(*replication.Rule) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := lockReplication(ctx, tx, account, name)
		if err != nil {
			return err
		}
		if err := fault.Revision("the rule", r.Revision, ifRevision); err != nil {
			return err
		}
		before := *r
		was := r.Targets
		if err := edit(r); err != nil {
			return err
		}
		tags, err := documentOrNull(r.Tags)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update replications set active = $2, priority = $3, prefix = $4, tags = $5::jsonb,
			markers = $6, removals = $7, onward = $8, lag_share = $9, lag_within = $10, created_by = $11, source = $12,
			changed = $13,
			where_ = $14, revision = revision + 1,
			paused = case when $2 then null else coalesce(paused, clock_timestamp()) end where id = $1`, r.ID, r.On, r.Priority, []byte(r.Prefix), tags, r.Markers, r.Removals, r.Onward,
			r.Lag.Share, r.Lag.Within.Milliseconds(), by.Who, by.Source, by.At, r.Where.String()); err != nil {
			return err
		}
		if err := putTargets(ctx, tx, r); err != nil {
			return err
		}
		if r.On { // what was paused by a version that did not keep what happens meanwhile
			if _, err := tx.ExecContext(ctx, `update replication_targets set compare = false, backfill = 1, place = null,
				asked = 0 where rule = $1 and compare`, r.ID); err != nil {
				return err
			}
		}
		for _, t := range was {
			if !keeps(r, t.ID) {
				if err := dropTarget(ctx, tx, t.ID); err != nil {
					return err
				}
			}
		}
		return trail(ctx, tx, by, access.TrailSetting, account, "replication "+name,
			map[string]any{"replication changed": name,
				"does": r.Words(), "on": r.On, changedIn: settingsChanged(before, *r)})
	})
}

func keeps(r *replication.Rule, target int64) bool {
	for _, t := range r.Targets {
		if t.ID == target {
			return true
		}
	}
	return false
}

func dropTarget(ctx context.Context, tx *sqlx.Tx, id int64) error {
	for _, q := range []string{`delete from replicas where target = $1`, `delete from replication_lags where target = $1`,
		`delete from replication_targets where id = $1`} {
		if _, err := tx.ExecContext(ctx, q, id); err != nil {
			return err
		}
	}
	return nil
}

func lockReplication(ctx context.Context, tx *sqlx.Tx, account, name string) (*replication.Rule, error) {
	if _, err := tx.ExecContext(ctx, `select 1 from replications r join accounts a on a.id = r.account
		where a.name = $1 and r.name = $2 for update of r`, account, name); err != nil {
		return nil, err
	}
	all, err := replications(ctx, tx, `where a.name = $1 and r.name = $2`, account, name)
	if err == nil && len(all) == 0 {
		err = ReplicationMissing(name)
	}
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// RemoveReplication takes a rule away. What was copied stays where it is.
func (c *Catalog) RemoveReplication(ctx context.Context, account, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := lockAlone(ctx, tx, replicationsLock, 1); err != nil {
			return err
		}
		r, err := lockReplication(ctx, tx, account, name)
		if err != nil {
			return err
		}
		for _, t := range r.Targets {
			if err := dropTarget(ctx, tx, t.ID); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `delete from replications where id = $1`, r.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `delete from followers where name = $1 and not exists
			(select 1 from replications)`, replicationFollower); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, account, "replication "+name,
			map[string]any{"replication removed": name})
	})
}
