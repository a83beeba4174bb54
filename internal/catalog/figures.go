package catalog

import (
	"context"
	"database/sql"
)

// Figure is a number to be watched, of something that is known by a number.
type Figure struct {
	Name  string  `db:"name"`
	Of    int64   `db:"of"` // 0: of the service
	Value float64 `db:"value"`
}

// Figures gives the numbers that are watched beside those of endpoints and replication.
func (c *Catalog) Figures(ctx context.Context) (out []Figure, err error) {
	err = c.db.SelectContext(ctx, &out, `
		with last as (select distinct on (job) * from sync_runs order by job, id desc)
		select 'job_good' as name, j.id as of, extract(epoch from clock_timestamp() - coalesce((select max(ended)
		from sync_runs r
				where r.job = j.id and r.state = 'done'), j.created))::double precision as value
			from sync_jobs j where j.spec ->> 'restores' is null
		union all select 'job_asks', job, (state = 'asking')::int from last
		union all select 'job_failed', job, coalesce((tally ->> 'failed')::bigint, 0) from last
		union all select 'audit_serious', a.id, count(f.account) from accounts a left
		join audit_findings f on f.account = a.id
			and f.finding ->> 'grade' = 'serious' and (f.accepted_until is null or f.accepted_until < clock_timestamp())
			group by a.id
		union all select 'audit_age', account, extract(epoch from clock_timestamp() - at) from audits
		union all select 'quota_used', b.id, (u.bytes + u.prev_bytes) / nullif(b.quota, 0)::double precision
			from buckets b join usage_now u on u.bucket = b.id where b.quota > 0 and b.removed is null
		union all select 'uploads_open', 0, count(*) from uploads where state = 0
		union all select 'orders_running', 0, count(*) from orders where state = 'running'
		union all select 'lifecycle_asks', 0, count(*) from lifecycle_runs where state = $1
		union all select 'damaged', 0, count(*) from damage
		union all select 'tasks_waiting', 0, count(*) from tasks
		union all select 'tasks_failed', 0, count(*) from tasks where attempts > 0
		union all select 'post_failed', id, failed from posts where active
		union all select 'census_failed', census, (state = 'failed')::int from (select distinct on (census) census, state
		from census_runs
			order by census, id desc) x
		union all select 'index_ready', bucket, ready::int from find_indexes
		union all select 'follower_lag', 0, extract(epoch from clock_timestamp() - min(upto)) from followers
		order by 1, 2`, RunAsks)
	return out, mapError(err)
}

// Pressure is how much the process asks of the database.
type Pressure struct {
	Pool    sql.DBStats
	Batches map[string]BatchFigures // of what shares round trips, by what it is
}

// BatchFigures are those of requests that share round trips.
type BatchFigures struct {
	Waiting  int   // requests
	Batches  int64 // since the start
	Requests int64 // in them
}

// Pressure says how much the process asks of the database.
func (c *Catalog) Pressure() Pressure {
	return Pressure{Pool: c.db.Stats(), Batches: map[string]BatchFigures{"commits": c.commits.figures(),
		"lookups": c.looks.figures()}}
}
