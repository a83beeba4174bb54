package catalog

import (
	"context"
	"encoding/json"
	"time"

	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Compared is an object of a rule's source beside what is known of it at a target.
type Compared struct {
	*object.Version
	Have    replication.Have
	Known   bool // there is a record of it at the target
	Waiting bool
}

// ComparePage gives objects beneath the prefix of a rule, after a key, in the order of keys,
// with what is known of them at a target.
func (c *Catalog) ComparePage(ctx context.Context, r *replication.Rule, target int64, after string,
	limit int) ([]Compared, error) {
	var rows []struct {
		headRow
		Known    bool   `db:"known"`
		XNumber  int64  `db:"x_number"`
		XRev     int    `db:"x_revision"`
		XGone    bool   `db:"x_gone"`
		XETag    string `db:"x_etag"`
		XVersion string `db:"x_version"`
		Accepted int64  `db:"x_accepted"`
		Waiting  bool   `db:"waiting"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select `+keyedColumns+`,
		x.key is not null as known, coalesce(x.number, 0) as x_number, coalesce(x.revision, 0) as x_revision,
		coalesce(x.gone, false) as x_gone, coalesce(x.etag, '') as x_etag, coalesce(x.version, '') as x_version,
		coalesce(x.accepted, 0) as x_accepted, coalesce(x.waiting, false) as waiting
		from heads h left join replicas x on x.target = $1 and x.key = h.key
		where h.bucket = $2 and h.key > $3 and h.key >= $4 and h.key < $5 and not h.marker order by h.key limit $6`,
		target, r.BucketID, []byte(after), []byte(r.Prefix), endOf(r.Prefix), limit); err != nil {
		return nil, mapError(err)
	}
	out := make([]Compared, len(rows))
	for i := range rows {
		x := &rows[i]
		key, err := object.ParseKey(string(x.Key))
		if err != nil {
			return nil, err
		}
		v, err := x.version(key)
		if err != nil {
			return nil, err
		}
		out[i] = Compared{Version: v, Known: x.Known, Waiting: x.Waiting, Have: replication.Have{Number: x.XNumber,
			Revision: x.XRev, Gone: x.XGone, ETag: x.XETag, Version: x.XVersion, Accepted: x.Accepted}}
	}
	return out, nil
}

// CopyAgain has keys wait at a target as if nothing of them were there. With overwrite they
// replace whatever is there, a later removal too.
func (c *Catalog) CopyAgain(ctx context.Context, target int64, keys [][]byte, overwrite bool) error {
	_, err := c.db.ExecContext(ctx, `insert into replicas as r (target, key, waiting, since, due, repair, overwrite)
		select $1, k, true, clock_timestamp(), clock_timestamp(), true, $3 from unnest($2::bytea[]) k order by k
		on conflict (target, key) do update set waiting = true, number = 0, revision = 0, etag = '', version = '',
			accepted = 0, since = coalesce(r.since, excluded.since), due = excluded.due, seq = r.seq + 1, repair = true,
			overwrite = $3`, target, keys, overwrite)
	return mapError(err)
}

// AdoptReplica notes that a target has an object as it is, which was found there.
func (c *Catalog) AdoptReplica(ctx context.Context, target int64, x Compared, etag, version string) error {
	_, err := c.db.ExecContext(ctx, `insert into replicas (target, key, number, revision, etag, version, confirmed,
		waiting)
		values ($1, $2, $3, $4, $5, $6, clock_timestamp(), false) on conflict (target, key) do update set number = $3,
		revision = $4, etag = $5, version = $6, gone = false, confirmed = clock_timestamp()
		where not replicas.waiting`, target, []byte(x.Key.String()), x.Number, x.Revision, etag, version)
	return mapError(err)
}

// KeepVerify notes what a comparison of both sides came to.
func (c *Catalog) KeepVerify(ctx context.Context, target int64, at time.Time, good bool, result any) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	_, err = c.db.ExecContext(ctx, `update replication_targets set verify = $2::jsonb,
		verified = case when $3 then $4 else verified end where id = $1`, target, string(raw), good, at)
	return mapError(err)
}
