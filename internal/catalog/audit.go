package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// AuditFacts gathers what the audit of an account looks at.
func (c *Catalog) AuditFacts(ctx context.Context, account string, now time.Time) (*audit.Facts, error) {
	f := &audit.Facts{Now: now}
	for _, gather := range []func(context.Context, string, *audit.Facts) error{c.auditBuckets, c.auditKeys, c.auditGrants,
		c.auditEndpoints, c.auditTargets, c.auditJobs, c.auditRest} {
		if err := gather(ctx, account, f); err != nil {
			return nil, mapError(err)
		}
	}
	return f, nil
}

func (c *Catalog) auditBuckets(ctx context.Context, account string, f *audit.Facts) error {
	var rows []struct {
		Name     string `db:"name"`
		CleansUp bool   `db:"cleans_up"`
		Abandons bool   `db:"abandons"`
		Uploads  int64  `db:"uploads"`
		Held     int64  `db:"held"`
		Copied   bool   `db:"copied"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select b.name, u.uploads, u.held,
		exists (select 1 from lifecycles l, jsonb_array_elements(l.rules) r, jsonb_array_elements(r -> 'actions') a
			where l.bucket = b.id and not coalesce((r ->> 'off')::boolean, false) and a ->> 'of' = 'previous') as cleans_up,
		exists (select 1 from lifecycles l, jsonb_array_elements(l.rules) r, jsonb_array_elements(r -> 'actions') a
			where l.bucket = b.id and not coalesce((r ->> 'off')::boolean, false) and a ->> 'of' = 'uploads') as abandons,
		exists (select 1 from replications r where r.bucket = b.id and r.active)
			or exists (select 1 from sync_jobs j where j.account = b.account and j.active and j.source_at is null
				and j.source ->> 'bucket' = b.name) as copied
		from buckets b join accounts a on a.id = b.account, lateral (
			select count(distinct u.seq) as uploads, coalesce(sum(p.size), 0)::bigint as held from uploads u
				left join parts p on p.upload = u.seq where u.bucket = b.id and u.state = 0 and u.created < $2) u
		where a.name = $1 and b.removed is null`, account, f.Now.Add(-audit.Old)); err != nil {
		return err
	}
	for _, r := range rows {
		name, err := object.ParseBucketName(r.Name)
		if err != nil {
			return err
		}
		b, err := c.Bucket(ctx, name)
		if fault.HasCode(err, "bucket-missing") { // it went meanwhile
			continue
		}
		if err != nil {
			return err
		}
		lacking, more, err := c.countLacking(ctx, b)
		if err != nil {
			return err
		}
		f.Buckets = append(f.Buckets, audit.Bucket{Lacking: lacking, LackingMore: more, Name: r.Name,
			Versioning: b.Versioning.String(), Objects: b.Usage.Objects,
			Bytes: b.Usage.Bytes, Previous: b.Usage.Previous, PreviousBytes: b.Usage.PreviousBytes, Quota: b.Quota,
			CleansUp: r.CleansUp, Abandons: r.Abandons, Unfinished: r.Uploads, Held: r.Held, Copied: r.Copied})
	}
	return nil
}

func (c *Catalog) auditKeys(ctx context.Context, account string, f *audit.Facts) error {
	for after := ""; ; {
		list, err := c.AccessKeys(ctx, account, after, 500)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, k := range list {
			after = k.ID
			if k.Active && (k.Expires == nil || k.Expires.After(f.Now)) {
				f.Keys = append(f.Keys, audit.Key{ID: k.ID, Name: k.Name, Role: k.Role.String(), Operator: k.Operator,
					Limited: len(k.Limits) > 0, Used: k.Used, Created: k.Created, Expires: k.Expires})
			}
		}
	}
}

func (c *Catalog) auditGrants(ctx context.Context, account string, f *audit.Facts) error {
	var rows []struct {
		ID      int64         `db:"id"`
		Bucket  string        `db:"name"`
		Prefix  []byte        `db:"prefix"`
		Rights  access.Rights `db:"rights"`
		Expires *time.Time    `db:"expires"`
	}
	err := c.db.SelectContext(ctx, &rows, `select g.id, b.name, g.prefix, g.rights, g.expires from grants g
		join buckets b on b.id = g.bucket join accounts a on a.id = b.account
		where a.name = $1 and b.removed is null and g.to_kind = $2 and (g.expires is null or g.expires > $3)`, account,
		access.ToAnyone, f.Now)
	for _, r := range rows {
		f.Grants = append(f.Grants, audit.Grant{ID: r.ID, Bucket: r.Bucket, Prefix: string(r.Prefix),
			Rights:  r.Rights.String(),
			Expires: r.Expires})
	}
	return err
}

func (c *Catalog) auditEndpoints(ctx context.Context, account string, f *audit.Facts) error {
	list, err := c.Endpoints(ctx, account, "", 1000)
	for _, e := range list {
		x := audit.Endpoint{Name: e.Name, State: string(e.Health.State), Says: e.Health.Says}
		if at := e.Health.Checked; !at.IsZero() {
			x.Checked = &at
		}
		f.Endpoints = append(f.Endpoints, x)
	}
	return err
}

func (c *Catalog) auditTargets(ctx context.Context, account string, f *audit.Facts) error {
	var rows []struct {
		Rule     string         `db:"rule"`
		On       bool           `db:"active"`
		Endpoint sql.NullString `db:"endpoint"`
		Bucket   string         `db:"bucket"`
		Prefix   []byte         `db:"prefix"`
		ID       int64          `db:"id"`
		Waiting  int64          `db:"waiting"`
		Failed   int64          `db:"failed"`
		Oldest   *time.Time     `db:"oldest"`
		Verified *time.Time     `db:"verified"`
		Created  time.Time      `db:"created"`
	}
	err := c.db.SelectContext(ctx, &rows, `select t.id, r.name as rule, r.active, e.name as endpoint, t.bucket, t.prefix,
		t.verified, r.created,
		w.waiting, w.failed, w.oldest from replication_targets t join replications r on r.id = t.rule
		join accounts a on a.id = r.account left join endpoints e on e.id = t.endpoint, lateral (
			select count(*) as waiting, count(*) filter (where attempts > 0) as failed, min(x.since) as oldest from replicas x
				where x.target = t.id and x.waiting) w
		where a.name = $1`, account)
	if err != nil {
		return err
	}
	lagging, err := c.lagging(ctx, account)
	if err != nil {
		return err
	}
	for _, r := range rows {
		address := r.Bucket + "/" + string(r.Prefix)
		if r.Endpoint.Valid {
			address = "@" + r.Endpoint.String + "/" + address
		}
		f.Targets = append(f.Targets, audit.Target{Rule: r.Rule, Address: address, On: r.On, Waiting: r.Waiting,
			Failed: r.Failed,
			Oldest: r.Oldest, Verified: r.Verified, Created: r.Created, Lagging: lagging[r.ID]})
	}
	return nil
}

// lagging says of targets of an account that are late, or missed their lag target, what is so.
func (c *Catalog) lagging(ctx context.Context, account string) (map[int64]string, error) {
	rules, err := replications(ctx, c.db, `where a.name = $1`, account)
	if err != nil {
		return nil, err
	}
	var targets []int64
	for _, r := range rules {
		for _, t := range r.Targets {
			targets = append(targets, t.ID)
		}
	}
	now := c.Now()
	standing, err := c.Standing(ctx, targets, now.Add(-time.Hour))
	out := map[int64]string{}
	for _, r := range rules {
		for _, t := range r.Targets {
			if s := standing[t.ID]; s != nil {
				if is, why := replication.StandingOf(s.Facts(r, now)); is == replication.Late || is == replication.Missed {
					out[t.ID] = why
				}
			}
		}
	}
	return out, err
}

func (c *Catalog) auditJobs(ctx context.Context, account string, f *audit.Facts) error {
	var rows []struct {
		Name     string         `db:"name"`
		State    sql.NullString `db:"state"`
		Says     sql.NullString `db:"says"`
		Good     *time.Time     `db:"good"`
		Restored *time.Time     `db:"restored"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select j.name, l.state, l.says,
		(select max(ended) from sync_runs x where x.job = j.id and x.state = 'done') as good,
		(select max(x.ended) from sync_runs x join sync_jobs o on o.id = x.job where o.account = j.account
			and o.spec ->> 'restores' = j.name and x.state = 'done') as restored
		from sync_jobs j join accounts a on a.id = j.account
		left join lateral (select state, says from sync_runs x where x.job = j.id order by id desc limit 1) l on true
		where a.name = $1`, account); err != nil {
		return err
	}
	for _, r := range rows {
		j, err := c.Sync(ctx, account, r.Name)
		if err != nil {
			return err
		}
		f.Jobs = append(f.Jobs, audit.Job{Name: r.Name, To: j.To.String(), On: j.On, Scheduled: j.Schedule != "",
			Restores: j.Restores != "", State: r.State.String, Says: r.Says.String, Ended: r.Good, Restored: r.Restored,
			Created: j.Created})
	}
	return nil
}

// AuditFinding is a finding as it is kept.
type AuditFinding struct {
	audit.Finding
	First    time.Time
	Seen     time.Time
	Accepted *AuditAccepted // nil: it is not, or not any more
}

// AuditAccepted says who lets a finding be, why and until when.
type AuditAccepted struct {
	By, Why string
	Until   time.Time
}

// KeepAudit writes down what a run found: what is found no more is forgotten.
func (c *Catalog) KeepAudit(ctx context.Context, account string, now time.Time, list []audit.Finding) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var id int64
		if err := tx.GetContext(ctx, &id, `select id from accounts where name = $1`, account); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert into audits (account, at) values ($1, $2)
			on conflict (account) do update set at = excluded.at`, id, now); err != nil {
			return err
		}
		for _, f := range list {
			doc, err := json.Marshal(f)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `insert into audit_findings (account, check_name, subject, finding, first, seen)
				values ($1, $2, $3, $4, $5, $5) on conflict (account, check_name, subject)
				do update set finding = excluded.finding,
				seen = excluded.seen`, id, f.Check, f.Subject, string(doc), now); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `delete from audit_findings where account = $1 and seen < $2`, id, now)
		return err
	})
}

// Audit gives what the last run found, and when it was; zero for never.
func (c *Catalog) Audit(ctx context.Context, account string, now time.Time) (list []AuditFinding, at time.Time,
	err error) {
	err = c.db.GetContext(ctx, &at, `select x.at from audits x join accounts a on a.id = x.account where a.name = $1`,
		account)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, at, mapError(err)
	}
	var rows []struct {
		Finding []byte     `db:"finding"`
		First   time.Time  `db:"first"`
		Seen    time.Time  `db:"seen"`
		By      string     `db:"accepted_by"`
		Why     string     `db:"accepted_why"`
		Until   *time.Time `db:"accepted_until"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select finding, first, seen, accepted_by, accepted_why, accepted_until
		from audit_findings f join accounts a on a.id = f.account where a.name = $1
		order by finding ->> 'grade', check_name, (finding ->> 'cost')::bigint desc, subject`, account); err != nil {
		return nil, at, mapError(err)
	}
	list = make([]AuditFinding, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal(r.Finding, &list[i].Finding); err != nil {
			return nil, at, err
		}
		if list[i].First, list[i].Seen = r.First.UTC(), r.Seen.UTC(); r.Until != nil && r.Until.After(now) {
			list[i].Accepted = &AuditAccepted{r.By, r.Why, r.Until.UTC()}
		}
	}
	return list, at.UTC(), nil
}

// AcceptFinding lets a finding be until a moment, or with nil no more. The error for one
// that is not there has the code finding-missing.
func (c *Catalog) AcceptFinding(ctx context.Context, account, check, subject, why string, until *time.Time,
	by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `update audit_findings f set accepted_by = $4, accepted_why = $5, accepted_until = $6
			from accounts a where a.id = f.account and a.name = $1 and check_name = $2
			and subject = $3`, account, check, subject, by.Who,
			why, until)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			if err != nil {
				return err
			}
			return fault.New(fault.NotFound, "finding-missing", "the last audit found no such thing").In("subject").
				Do("spindle audit list names what it found")
		}
		return trail(ctx, tx, by, access.TrailSetting, account, "audit "+check, map[string]any{"finding": subject,
			"accepted": until != nil,
			"why":      why})
	})
}

// auditRest gathers rules that never acted, and posts and censuses that fail.
func (c *Catalog) auditRest(ctx context.Context, account string, f *audit.Facts) error {
	var rules []struct {
		Bucket string    `db:"name"`
		Rule   string    `db:"rule"`
		Saved  time.Time `db:"saved"`
	}
	if err := c.db.SelectContext(ctx, &rules, `select b.name, r ->> 'name' as rule, l.saved from lifecycles l
		join buckets b on b.id = l.bucket and b.removed is null
		join accounts a on a.id = b.account, jsonb_array_elements(l.rules) r
		where a.name = $1 and not coalesce((r ->> 'off')::boolean, false) and l.saved < $2
			and exists (select 1 from jsonb_array_elements(r -> 'actions') x where x ->> 'of' <> 'uploads')
			and not exists (select 1 from lifecycle_runs x join lifecycle_outcomes o on o.run = x.id
				where x.bucket = l.bucket and x.started > $3
				and o.rule = r ->> 'name')`, account, f.Now.Add(-audit.Fresh), f.Now.AddDate(0, 0, -90)); err != nil {
		return err
	}
	for _, r := range rules {
		f.Rules = append(f.Rules, audit.IdleRule{Bucket: r.Bucket, Name: r.Rule, Saved: r.Saved})
	}
	var failing []struct {
		Kind string `db:"kind"`
		Name string `db:"name"`
		Says string `db:"says"`
	}
	if err := c.db.SelectContext(ctx, &failing, `select 'post' as kind, p.name, p.problem as says from posts p
		join accounts a on a.id = p.account
		where a.name = $1 and p.active and p.failed > 3
		union all select 'census', x.name, r.says from censuses x join accounts a on a.id = x.account
		join lateral (select state, says
			from census_runs r where r.census = x.id order by id desc limit 1) r on r.state = 'failed'
			where a.name = $1`, account); err != nil {
		return err
	}
	for _, x := range failing {
		if x.Kind == "post" {
			f.Posts = append(f.Posts, audit.Failing{Name: x.Name, Says: x.Says})
		} else {
			f.Censuses = append(f.Censuses, audit.Failing{Name: x.Name, Says: x.Says})
		}
	}
	return nil
}
