package catalog

import "context"

// pulseQuery gives one text of all that changes about works beside the journal: settings, how
// endpoints and targets stand, whether something waits, and the last run of each job.
const pulseQuery = `with mine as (select id, name from accounts where $1 = '' or name = $1),
	jobs as (select j.id from sync_jobs j join mine on mine.id = j.account),
	lists as (select c.id from censuses c join mine on mine.id = c.account),
	rules as (select r.id, r.revision from replications r join mine on mine.id = r.account)
	select concat_ws(' ',
		case when $1 = '' then (select max(id) from trail)
			else (select max(id) from trail where account = $1) end,
		(select string_agg(concat(e.id, e.state, e.since), ',' order by e.id) from endpoints e
			join mine on mine.id = e.account),
		(select seq from followers where name = 'replication' and exists (select 1 from rules)),
		(select string_agg(concat(t.id, rules.revision, t.code, t.since, t.backfill, t.verified,
			exists (select 1 from replicas r where r.target = t.id and r.waiting)), ',' order by t.id)
			from replication_targets t join rules on rules.id = t.rule),
		(select string_agg((select concat(r.id, r.state) from sync_runs r where r.job = jobs.id order by r.id desc limit 1),
			',' order by jobs.id) from jobs),
		(select string_agg((select concat(r.id, r.state) from census_runs r where r.census = lists.id
			order by r.id desc limit 1), ',' order by lists.id) from lists),
		(select string_agg(concat(r.id, r.state), ',' order by r.id) from lifecycle_runs r join buckets b on b.id = r.bucket
			join mine on mine.id = b.account where r.ended is null),
		(select string_agg(concat(o.id, o.state), ',' order by o.id) from orders o where o.state = 'running'
			and ($1 = '' or o.account = $1)))`

// Pulse gives a text that changes whenever something changes about the works of an account, or of
// all ("") when none is named.
func (c *Catalog) Pulse(ctx context.Context, account string) (pulse string, err error) {
	err = c.db.GetContext(ctx, &pulse, pulseQuery, account)
	return pulse, mapError(err)
}
