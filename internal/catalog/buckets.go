package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Bucket is what is known of a bucket.
type Bucket struct {
	ID      int64
	Name    object.BucketName
	Account string
	Region  string
	bucket.Settings
	Revision  int // of the settings, 1 for those it was made with
	Created   time.Time
	CreatedBy string
	Usage     Usage

	Operates bool // of one that is made: whoever makes it is bound by no placement
}

// Usage of a bucket at a moment.
type Usage struct {
	Objects       int64 `db:"objects"`
	Bytes         int64 `db:"bytes"`
	Previous      int64 `db:"prev"`
	PreviousBytes int64 `db:"prev_bytes"`
	Markers       int64 `db:"markers"`
}

// Add adds other usage.
func (u *Usage) Add(o Usage) {
	u.Objects += o.Objects
	u.Bytes += o.Bytes
	u.Previous += o.Previous
	u.PreviousBytes += o.PreviousBytes
	u.Markers += o.Markers
}

// settingsRow is what the database has of a bucket's settings.
type settingsRow struct {
	Versioning object.Versioning `db:"versioning"`
	Quota      *int64            `db:"quota"`
	Tags       []byte            `db:"tags"`
	Sealing    bool              `db:"sealing"`
	Tier       string            `db:"tier_name"`
	Placement  string            `db:"placement_name"`
	Required   []byte            `db:"required"`
	Kept       int               `db:"journal_days"`
	Paused     bool              `db:"journal_paused"`
	Revision   int               `db:"revision"`
}

const settingsColumns = `b.versioning, b.quota, b.tags, b.sealing, b.revision, b.required,
	b.journal_days, b.journal_paused,
	case when b.tier <> 0 then (select t.name from tiers t where t.id = b.tier) else '' end as tier_name,
	case when b.placement is not null then (select p.name from placements p where p.id = b.placement) else '' end
		as placement_name`

func (r *settingsRow) settings() (bucket.Settings, error) {
	s := bucket.Settings{Versioning: r.Versioning, Quota: r.Quota, Sealing: r.Sealing, Tier: r.Tier,
		Placement: r.Placement,
		Journal:   bucket.Journal{Days: r.Kept, Paused: r.Paused}}
	return s, errors.Join(json.Unmarshal(r.Tags, &s.Tags), readJSON(r.Required, &s.Required))
}

type bucketRow struct {
	ID        int64     `db:"id"`
	Name      string    `db:"name"`
	Account   string    `db:"account"`
	Region    string    `db:"region"`
	Created   time.Time `db:"created"`
	CreatedBy string    `db:"created_by"`
	settingsRow
	Usage
}

func (r *bucketRow) bucket() (*Bucket, error) {
	name, err := object.ParseBucketName(r.Name)
	if err != nil {
		return nil, err
	}
	settings, err := r.settings()
	if err != nil {
		return nil, err
	}
	return &Bucket{ID: r.ID, Name: name, Account: r.Account, Region: r.Region, Settings: settings, Revision: r.Revision,
		Created: r.Created.UTC(), CreatedBy: r.CreatedBy, Usage: r.Usage}, nil
}

// bucketQuery gives buckets with their usage: what was rolled up and what the
// journal has since.
const bucketQuery = `with since as (
  select j.bucket, sum(d_objects) as objects, sum(d_bytes) as bytes, sum(d_prev) as prev,
    sum(d_prev_bytes) as prev_bytes, sum(d_markers) as markers
  from journal j, followers f where f.name = 'usage' and (j.xid, j.seq) > (f.xid, f.seq) group by 1)
select b.id, b.name, a.name as account, b.region, ` + settingsColumns + `, b.created, b.created_by,
  (coalesce(u.objects, 0) + coalesce(s.objects, 0))::bigint as objects, (coalesce(u.bytes, 0) + coalesce(s.bytes,
    0))::bigint as bytes,
  (coalesce(u.prev, 0) + coalesce(s.prev, 0))::bigint as prev, (coalesce(u.prev_bytes, 0) + coalesce(s.prev_bytes,
    0))::bigint as prev_bytes,
  (coalesce(u.markers, 0) + coalesce(s.markers, 0))::bigint as markers
from buckets b join accounts a on a.id = b.account left join usage_now u on u.bucket = b.id left
  join since s on s.bucket = b.id
where b.removed is null `

// Buckets gives a page of buckets by name after a name: all, or those of an
// account and those named in also.
func (c *Catalog) Buckets(ctx context.Context, account string, also []string, after string, limit int) ([]*Bucket,
	error) {
	var rows []bucketRow
	q := where().and(`b.name > ?`, after).when(account != "", `a.name = ? or b.name = any(?::text[])`, account, also)
	if err := c.db.SelectContext(ctx, &rows, bucketQuery+`and `+q.String()+` order by b.name limit `+q.arg(limit),
		q.args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*Bucket, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].bucket(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func noBucket(name object.BucketName) error {
	return fault.New(fault.NotFound, "bucket-missing", "there is no bucket named %q", name).In("bucket").
		Do("check the name, or create it")
}

// Bucket gives one bucket. The error for none has the code bucket-missing.
func (c *Catalog) Bucket(ctx context.Context, name object.BucketName) (*Bucket, error) {
	var r bucketRow
	err := c.db.GetContext(ctx, &r, bucketQuery+`and b.name = $1`, name.String())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noBucket(name)
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.bucket()
}

// BucketFacts is what the start of a write needs to know, in one cheap look.
type BucketFacts struct {
	ID         int64             `db:"id"`
	Region     string            `db:"region"`
	Versioning object.Versioning `db:"versioning"`
	Created    time.Time         `db:"created"`
	Room       *int64            `db:"room"` // bytes left under the quota; nil: no quota
	Account    string            `db:"account"`
	// AccountRoom is what the account's quota leaves for all its buckets, some
	// moments ago; nil: no quota.
	AccountRoom *int64 `db:"account_room"`
	Sealing     bool   `db:"sealing"` // new bodies are encrypted at rest
	Tier        int16  `db:"tier"`    // where they go
	Fixed       string `db:"fixed"`   // the placement that an operator fixed for the account's buckets; "" for none
	Needs       []byte `db:"required"`

	Required bucket.Requirements `db:"-"` // what is asked of metadata, read from Needs
}

// Facts gives the bucket's facts for a write. The error for none has the code
// bucket-missing.
func (c *Catalog) Facts(ctx context.Context, name object.BucketName) (BucketFacts, error) {
	var f BucketFacts
	err := c.db.GetContext(ctx, &f, `select b.id, b.region, b.versioning, b.created, b.sealing, b.tier, b.required,
		a.name as account, case when a.placement_fixed then (select p.name from placements p where p.id = a.placement)
			else '' end as fixed, case
		when b.quota is not null then b.quota - used_bytes(b.id) end as room,
		case when a.quota is not null then a.quota - (select coalesce(sum(used_bytes(x.id)), 0) from buckets x
			where x.account = a.id and x.removed is null)::bigint end as account_room
		from buckets b join accounts a on a.id = b.account where b.name = $1 and b.removed is null`, name.String())
	if errors.Is(err, sql.ErrNoRows) {
		return f, noBucket(name)
	}
	return f, mapError(errors.Join(err, readJSON(f.Needs, &f.Required)))
}

// CreateBucket makes a bucket. The error for one that is there has the code
// bucket-exists.
func (c *Catalog) CreateBucket(ctx context.Context, b Bucket, by Author) error {
	tags, err := tagsDocument(b.Tags)
	if err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var id int64
		placed, err := place(ctx, tx, &b.Settings, bucket.Settings{})
		if err != nil {
			return err
		}
		in, err := tierNumber(ctx, tx, b.Tier)
		if err != nil {
			return err
		}
		var left *int // how many buckets the account may still have
		// First the lock, then the count: one statement would count what it saw before it waited.
		err = tx.GetContext(ctx, &id, `select id from accounts where name = $1 for update`, b.Account)
		if err == nil {
			err = tx.GetContext(ctx, &left,
				`select buckets - (select count(*) from buckets b where b.account = accounts.id and b.removed is null)::int
					from accounts where id = $1`, id)
		}
		if errors.Is(err, sql.ErrNoRows) {
			return noAccount(b.Account)
		}
		if err != nil {
			return err
		}
		if err := mayBeHere(ctx, tx, b); err != nil {
			return err
		}
		if left != nil && *left <= 0 {
			return fault.New(fault.Full, "account-buckets", "the account %q has as many buckets as it may", b.Account).
				In("account").Do("remove one, or have the operator allow more")
		}
		err = tx.GetContext(ctx, &id, `insert into buckets (name, account, region, quota, versioning, tags, sealing, tier,
			placement, created, created_by) select $1, id, $3, $4, $7, $8::jsonb, $9, $10, $11, $5, $6 from accounts
				where name = $2 returning id`, b.Name.String(), b.Account, b.Region, b.Quota, by.At, by.Who, b.Versioning,
			tags, b.Sealing, in, placed)
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "23505" {
			return fault.New(fault.Conflict, "bucket-exists", "there is a bucket named %q already", b.Name).In("bucket").
				Do("choose another name")
		}
		if err != nil {
			return err
		}
		return journalBucket(ctx, tx, BucketCreated, id, by,
			map[string]any{"name": b.Name.String(), "region": b.Region, "versioning": b.Versioning.String()})
	})
}

// mayBeHere refuses a bucket whose name a sister has, and one of an account that is not
// admitted to this region. The errors have the codes bucket-exists and account-not-admitted.
func mayBeHere(ctx context.Context, tx *sqlx.Tx, b Bucket) error {
	var why struct {
		Admitted bool           `db:"admitted"`
		Region   sql.NullString `db:"region"`
		Own      bool           `db:"own"`
	}
	if err := tx.GetContext(ctx, &why, `select a.admitted, x.region, coalesce(x.account = a.name, false) as own
		from accounts a left join lateral (select r.name as region, rb.account from region_buckets rb
			join regions r on r.id = rb.region where rb.name = $2 limit 1) x on true where a.name = $1`, b.Account,
		b.Name.String()); err != nil {
		return err
	}
	switch {
	case !why.Admitted:
		return fault.New(fault.Refused, "account-not-admitted", "the account %s is not admitted to the region %s", b.Account,
			b.Region).In("region").Do("make it in another region, or have an operator admit the account (spindle region admit)")
	case why.Region.Valid && why.Own:
		return fault.New(fault.Conflict, "bucket-exists", "there is a bucket named %q already, in the region %s", b.Name,
			why.Region.String).In("bucket").Do("choose another name")
	case why.Region.Valid:
		return fault.New(fault.Conflict, "bucket-exists", "there is a bucket named %q already", b.Name).In("bucket").
			Do("choose another name")
	}
	return nil
}

// journalBucket tells the journal and the trail what happened to a bucket; the trail also which
// settings changed.
func journalBucket(ctx context.Context, tx *sqlx.Tx, kind EntryKind, id int64, by Author, detail map[string]any,
	changed ...string) error {
	d, err := documentOrNull(detail)
	if err != nil {
		return err
	}
	var b struct {
		Name    string `db:"name"`
		Account string `db:"account"`
	}
	if err := tx.GetContext(ctx, &b,
		`select b.name, a.name as account from buckets b join accounts a on a.id = b.account where b.id = $1`,
		id); err != nil {
		return err
	}
	told := map[string]any{kind.String(): detail}
	if len(changed) > 0 {
		told[changedIn] = changed
	}
	if err := trail(ctx, tx, by, access.TrailSetting, b.Account, b.Name, told); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `select note($1, $2, $3, null, null, 0, $4, $5, $6::jsonb)`,
		by.At, int16(kind), id, by.Who, by.Source, d)
	return err
}

// lockBucket takes the bucket alone: no change of its objects commits meanwhile.
func lockBucket(ctx context.Context, tx *sqlx.Tx, name object.BucketName) (id int64, err error) {
	err = tx.GetContext(ctx, &id, `select id from buckets where name = $1 and removed is null for update`, name.String())
	if errors.Is(err, sql.ErrNoRows) {
		return 0, noBucket(name)
	}
	if err == nil {
		err = lockAlone(ctx, tx, bucketLock, id)
	}
	return id, err
}

// RemoveBucket removes an empty bucket. The error for one that holds something
// has the code bucket-not-empty.
func (c *Catalog) RemoveBucket(ctx context.Context, name object.BucketName, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		id, err := lockBucket(ctx, tx, name)
		if err != nil {
			return err
		}
		var held bool
		if err := tx.GetContext(ctx, &held,
			`select exists (select 1 from heads where bucket = $1) or exists (select 1 from history where bucket = $1)`,
			id); err != nil {
			return err
		}
		if held {
			return fault.New(fault.Conflict, "bucket-not-empty",
				"the bucket %q still holds objects, previous versions or delete markers", name).In("bucket").
				Do("empty it first, with its versions")
		}
		// Unfinished uploads go with the bucket.
		if _, err := tx.ExecContext(ctx,
			named(`with gone as (update uploads set state = @UploadAbandoned, ended = now() where bucket = $1
				and state = @UploadOpen returning seq) select drop_parts(seq, false) from gone`), id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update buckets set removed = $2 where id = $1`, id, by.At); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `delete from grants where bucket = $1`, id); err != nil {
			return err
		}
		// An order does not go on in a bucket that is made again under the name.
		if _, err := tx.ExecContext(ctx,
			`update orders set state = 'failed', problem = 'the bucket was removed', changed = now() where bucket = $1
				and state in ('running', 'stopped')`, id); err != nil {
			return err
		}
		return journalBucket(ctx, tx, BucketRemoved, id, by, map[string]any{"name": name.String()})
	})
}

// ChangeBucket changes a bucket's settings in one transaction: the edits get them as
// they are, in turn, and all of what comes of it holds, or nothing. No object of the
// bucket changes meanwhile. With ifRevision, only that revision is changed (0:
// whichever is there). Edits that change nothing make no revision.
//
// The errors are those of the edits and of Settings.Check, and bucket-missing,
// revision, quota-below-use (a quota shrinks to what is used at the most) and
// versioning-kept (off only while nothing stands that off would not have).
func (c *Catalog) ChangeBucket(ctx context.Context, name object.BucketName, ifRevision int, by Author,
	edits ...bucket.Edit) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		id, err := lockBucket(ctx, tx, name)
		if err != nil {
			return err
		}
		var row settingsRow
		if err := tx.GetContext(ctx, &row, `select `+settingsColumns+` from buckets b where b.id = $1`, id); err != nil {
			return err
		}
		before, err := row.settings()
		if err != nil {
			return err
		}
		if err := fault.Revision("the bucket", row.Revision, ifRevision); err != nil {
			return err
		}
		after := before.Clone()
		for _, edit := range edits {
			if err := edit(&after); err != nil {
				return err
			}
		}
		placed, err := place(ctx, tx, &after, before)
		if err != nil {
			return err
		}
		changed := after.Differences(before)
		if len(changed) == 0 {
			return nil
		}
		if err := after.Check(); err != nil {
			return err
		}
		if err := mayChange(ctx, tx, id, name, before, after); err != nil {
			return err
		}
		tags, err := tagsDocument(after.Tags)
		if err != nil {
			return err
		}
		in, err := tierNumber(ctx, tx, after.Tier)
		if err != nil {
			return err
		}
		required, err := requiredDocument(after.Required)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update buckets set versioning = $2, quota = $3, tags = $4::jsonb, sealing = $5,
			tier = $6, required = $7::jsonb, journal_days = $8, journal_paused = $9, placement = $10,
			revision = revision + 1 where id = $1`, id, after.Versioning, after.Quota, tags, after.Sealing, in, required,
			after.Journal.Days, after.Journal.Paused, placed); err != nil {
			return err
		}
		if err := pauseJournal(ctx, tx, id, before.Journal, after.Journal); err != nil {
			return err
		}
		if after.Versioning != before.Versioning {
			changed["was"] = before.Versioning.String()
		}
		return journalBucket(ctx, tx, BucketChanged, id, by, changed, settingsChanged(before, after)...)
	})
}

// tierNumber gives the number of a tier by its name, main for none.
func tierNumber(ctx context.Context, tx *sqlx.Tx, name string) (int16, error) {
	if name == "" {
		return tier.Main, nil
	}
	all, err := tiers(ctx, tx)
	if err != nil {
		return 0, err
	}
	t, err := all.Find(name)
	if err != nil {
		return 0, err
	}
	return t.ID, nil
}

// requiredDocument renders what is asked of metadata; null for nothing.
func requiredDocument(list bucket.Requirements) (*string, error) {
	if len(list) == 0 {
		return nil, nil
	}
	b, err := json.Marshal(list)
	text := string(b)
	return &text, err
}

// tagsDocument renders a bucket's tags, which are never null.
func tagsDocument(t object.Tags) (string, error) {
	if len(t) == 0 {
		return "{}", nil
	}
	b, err := json.Marshal(t)
	return string(b), err
}

// mayChange refuses settings that what the bucket holds does not allow.
func mayChange(ctx context.Context, tx *sqlx.Tx, id int64, name object.BucketName, before,
	after bucket.Settings) error {
	if after.Quota != nil && (before.Quota == nil || *after.Quota != *before.Quota) {
		var used int64
		if err := tx.GetContext(ctx, &used, `select used_bytes($1)`, id); err != nil {
			return err
		}
		if *after.Quota < used {
			return fault.New(fault.Conflict, "quota-below-use", "the bucket holds %s bytes, more than a quota of %s",
				humanize.Comma(used), humanize.Comma(*after.Quota)).
				In("quota").Do("set it to %s bytes at least, or remove objects first", humanize.Comma(used))
		}
	}
	if after.Versioning == object.Off && before.Versioning != object.Off {
		var kept bool
		if err := tx.GetContext(ctx, &kept, `select exists (select 1 from history where bucket = $1)
			or exists (select 1 from heads where bucket = $1 and (marker or not plain))`, id); err != nil {
			return err
		}
		if kept {
			return fault.New(fault.Conflict, "versioning-kept",
				"the bucket %q holds versions or delete markers that were made while versioning was on", name).
				In("versioning").Do("pause it instead: what is there stays, and nothing is added")
		}
	}
	return nil
}

// PrefixUsage is usage beneath a prefix that ends with a slash.
type PrefixUsage struct {
	Prefix []byte `db:"prefix"`
	Usage
}

// UsageOf gives usage beneath each of some prefixes of a bucket, as far as the
// usage follower has read. Prefixes deeper than six levels are not counted.
func (c *Catalog) UsageOf(ctx context.Context, bucket int64, prefixes []string) (map[string]Usage, error) {
	in := make([][]byte, len(prefixes))
	for i, p := range prefixes {
		in[i] = []byte(p)
	}
	var rows []PrefixUsage
	err := c.db.SelectContext(ctx, &rows, `select u.prefix, u.objects, u.bytes, u.prev, u.prev_bytes, u.markers
		from unnest($2::bytea[]) p
		cross join lateral (select * from usage_prefixes where bucket = $1 and prefix = p limit 1) u`, bucket, in)
	out := make(map[string]Usage, len(rows))
	for _, r := range rows {
		out[string(r.Prefix)] = r.Usage
	}
	return out, mapError(err)
}

// UsageBeneath gives usage of the prefixes one level beneath a prefix ("" or
// ending with a slash), those with the most bytes of previous versions first.
func (c *Catalog) UsageBeneath(ctx context.Context, bucket int64, prefix string, limit int) ([]PrefixUsage, error) {
	until := endOf(prefix)
	var rows []PrefixUsage
	err := c.db.SelectContext(ctx, &rows, `select prefix, objects, bytes, prev, prev_bytes, markers from usage_prefixes
		where bucket = $1 and prefix > $2 and prefix < $3 and (objects <> 0 or prev <> 0
			or markers <> 0)
		and position('\x2f'::bytea in substring(prefix from length($2::bytea) + 1)) = length(prefix) - length($2::bytea)
		order by prev_bytes desc, markers desc, prefix limit $4`, bucket, []byte(prefix), until, limit)
	return rows, mapError(err)
}
