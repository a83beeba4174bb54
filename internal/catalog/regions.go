package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/region"
)

type regionRow struct {
	ID       int64      `db:"id"`
	Name     string     `db:"name"`
	Desk     string     `db:"desk"`
	Wire     string     `db:"wire"`
	Service  string     `db:"service"`
	Note     string     `db:"note"`
	KeyID    string     `db:"key_id"`
	Sealed   []byte     `db:"sealed"`
	Revision int        `db:"revision"`
	Created  time.Time  `db:"created"`
	By       string     `db:"created_by"`
	State    string     `db:"state"`
	Since    time.Time  `db:"since"`
	Seen     *time.Time `db:"seen"`
	Latency  int64      `db:"latency"`
	Says     string     `db:"says"`
	Places   []byte     `db:"placements"`
}

func (r *regionRow) region() (*region.Region, error) {
	out := &region.Region{ID: r.ID, Name: r.Name, Desk: r.Desk, Wire: r.Wire, Service: r.Service, Note: r.Note,
		KeyID: r.KeyID, Sealed: r.Sealed, Revision: r.Revision, Created: r.Created.UTC(), By: r.By,
		State: region.State(r.State), Since: r.Since, Seen: r.Seen, Latency: time.Duration(r.Latency) * time.Microsecond,
		Says: r.Says}
	return out, json.Unmarshal(r.Places, &out.Placements)
}

// Regions gives the sisters of this service by name.
func (c *Catalog) Regions(ctx context.Context) ([]*region.Region, error) {
	var rows []regionRow
	if err := c.db.SelectContext(ctx, &rows, `select * from regions order by name`); err != nil {
		return nil, mapError(err)
	}
	out := make([]*region.Region, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].region(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Region gives a sister by its name. The error for none has the code region-missing.
func (c *Catalog) Region(ctx context.Context, name string) (*region.Region, error) {
	var r regionRow
	err := c.db.GetContext(ctx, &r, `select * from regions where name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noRegion(name)
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.region()
}

func noRegion(name string) error {
	return fault.New(fault.NotFound, "region-missing", "there is no region %q beside this one", name).In("region").
		Do("choose one of those there are (spindle region list)")
}

// RegionSecret names the secret of a sister where it is sealed.
func RegionSecret(id int64) string { return "region " + strconv.FormatInt(id, 10) }

// AddRegion writes a sister down; seal seals its secret for a name. The error for one that is
// known, by its name or as a service, has the code region-exists.
func (c *Catalog) AddRegion(ctx context.Context, r *region.Region, by Author,
	seal func(name string) ([]byte, error)) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &r.ID, `select nextval(pg_get_serial_sequence('regions', 'id'))`); err != nil {
			return err
		}
		sealed, err := seal(RegionSecret(r.ID))
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `insert into regions (id, name, desk, wire, service, note, key_id, sealed, created,
			created_by) overriding system value values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`, r.ID, r.Name, r.Desk,
			r.Wire, r.Service, r.Note, r.KeyID, sealed, by.At, by.Who)
		if unique(err) {
			return fault.New(fault.Conflict, "region-exists", "the region %s is known already", r.Name).In("name").
				Do("remove it first to enter it anew (spindle region remove)")
		}
		if err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "region "+r.Name, map[string]any{"region added": r.Name,
			"desk": r.Desk})
	})
}

// RemoveRegion forgets a sister, and what it told.
func (c *Catalog) RemoveRegion(ctx context.Context, name string, by Author) error {
	defer c.LookAgain()
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `delete from regions where name = $1`, name)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return noRegion(name)
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "region "+name, map[string]any{"region removed": name})
	})
}

// RegionTold is what a sister tells of itself.
type RegionTold struct {
	Wire       string
	Buckets    []region.Bucket
	Admitted   []string // accounts
	Placements []string // by name
	Latency    time.Duration
}

// HearRegion keeps what a sister told, in place of what it told before; told is nil of one that
// did not answer, of which says tells why.
func (c *Catalog) HearRegion(ctx context.Context, id int64, told *RegionTold, says string) error {
	if told == nil {
		_, err := c.changed(ctx, `update regions set since = case when state = $2 then since else now() end, state = $2,
			says = $3 where id = $1`, id, string(region.Away), says)
		return err
	}
	buckets, err := json.Marshal(told.Buckets)
	places, err2 := json.Marshal(told.Placements)
	if err = errors.Join(err, err2); err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []struct {
			text string
			in   []any
		}{
			{`update regions set since = case when state = $2 then since else now() end, state = $2, says = '', seen = now(),
				wire = $3, latency = $4, placements = $5 where id = $1`,
				[]any{id, string(region.Here), told.Wire, told.Latency.Microseconds(), string(places)}},
			{`with now as (select * from jsonb_to_recordset($2::jsonb) x("Name" text, "Account" text, "Created" timestamptz,
					"Objects" bigint, "Bytes" bigint)),
				gone as (delete from region_buckets where region = $1 and not name in (select "Name" from now))
				insert into region_buckets (region, name, account, created, objects, bytes)
				select $1, "Name", "Account", "Created", "Objects", "Bytes" from now
				on conflict (region, name) do update set account = excluded.account, created = excluded.created,
				objects = excluded.objects, bytes = excluded.bytes
				where (region_buckets.account, region_buckets.objects, region_buckets.bytes)
					is distinct from (excluded.account, excluded.objects, excluded.bytes)`, []any{id, string(buckets)}},
			{`delete from region_accounts where region = $1 and not account = any($2)`, []any{id, told.Admitted}},
			{`insert into region_accounts (region, account) select $1, unnest($2::text[]) on conflict do nothing`,
				[]any{id, told.Admitted}},
		} {
			if _, err := tx.ExecContext(ctx, q.text, q.in...); err != nil {
				return err
			}
		}
		return nil
	})
}

const regionBucketQuery = `select r.name as region, b.name, b.account, b.created, b.objects, b.bytes,
	coalesce(r.seen, r.created) as told from region_buckets b join regions r on r.id = b.region `

type regionBucketRow struct {
	Region  string    `db:"region"`
	Name    string    `db:"name"`
	Account string    `db:"account"`
	Created time.Time `db:"created"`
	Objects int64     `db:"objects"`
	Bytes   int64     `db:"bytes"`
	Told    time.Time `db:"told"`
}

// RegionBuckets gives a page of the sisters' buckets by name after a name, of an account or
// ("") of all.
func (c *Catalog) RegionBuckets(ctx context.Context, account, after string, limit int) ([]region.Bucket, error) {
	var rows []regionBucketRow
	q := where().and(`b.name > ?`, after).when(account != "", `b.account = ?`, account)
	if err := c.db.SelectContext(ctx, &rows, regionBucketQuery+`where `+q.String()+` order by b.name, r.name limit `+
		q.arg(limit), q.args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]region.Bucket, len(rows))
	for i, r := range rows {
		out[i] = region.Bucket(r)
	}
	return out, nil
}

// RegionOf gives the sister that has a bucket, nil for none.
func (c *Catalog) RegionOf(ctx context.Context, name object.BucketName) (*region.Region, *region.Bucket, error) {
	var row regionBucketRow
	err := c.db.GetContext(ctx, &row, regionBucketQuery+`where b.name = $1 order by b.created limit 1`, name.String())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, mapError(err)
	}
	r, err := c.Region(ctx, row.Region)
	b := region.Bucket(row)
	return r, &b, err
}

// Admission gives where an account may make buckets; own is the name of this region. The error
// for no such account has the code account-missing.
func (c *Catalog) Admission(ctx context.Context, account, own string) (*region.Admission, error) {
	var row struct {
		Here    bool   `db:"admitted"`
		Default string `db:"home_region"`
		There   string `db:"there"`
	}
	err := c.db.GetContext(ctx, &row, `select admitted, home_region, (select coalesce(jsonb_agg(r.name order by r.name), '[]')
		from regions r join region_accounts x on x.region = r.id where x.account = a.name)::text as there
		from accounts a where name = $1`, account)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noAccount(account)
	}
	if err != nil {
		return nil, mapError(err)
	}
	out := &region.Admission{Account: account, Own: own, Here: row.Here, Default: row.Default}
	return out, json.Unmarshal([]byte(row.There), &out.There)
}

// Admit says whether an account may make buckets in this region.
func (c *Catalog) Admit(ctx context.Context, account string, admitted bool, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `update accounts set admitted = $2 where name = $1`, account, admitted)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return noAccount(account)
		}
		return trail(ctx, tx, by, access.TrailAccountChanged, account, account, map[string]any{"admitted": admitted})
	})
}

// RegionHolds is what a region has.
type RegionHolds struct {
	Buckets  int
	Accounts []string // that are admitted
}

// RegionsHold gives what each region has, by its name; this one's is "".
func (c *Catalog) RegionsHold(ctx context.Context) (map[string]RegionHolds, error) {
	var rows []struct {
		Name     string `db:"name"`
		Buckets  int    `db:"buckets"`
		Accounts string `db:"accounts"`
	}
	err := c.db.SelectContext(ctx, &rows, `select r.name, (select count(*) from region_buckets b where b.region = r.id)
			as buckets, (select coalesce(jsonb_agg(x.account order by x.account), '[]') from region_accounts x
				where x.region = r.id)::text as accounts from regions r
		union all select '', (select count(*) from buckets where removed is null),
			(select coalesce(jsonb_agg(name order by name), '[]') from accounts where admitted)::text`)
	out := make(map[string]RegionHolds, len(rows))
	for _, r := range rows {
		h := RegionHolds{Buckets: r.Buckets}
		err = errors.Join(err, json.Unmarshal([]byte(r.Accounts), &h.Accounts))
		out[r.Name] = h
	}
	return out, mapError(err)
}
