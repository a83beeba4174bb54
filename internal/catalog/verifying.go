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
	Key      string
	Size     int64
	ETag     object.ETag
	CRC64    uint64
	Number   int64
	Revision int
	Have     replication.Have
	Known    bool // there is a record of it at the target
	Waiting  bool
}

// ComparePage gives objects of a rule that ought to be at a target, after a key, in the
// order of keys: those with the rule's tags, and replicas only when they travel on.
func (c *Catalog) ComparePage(ctx context.Context, r *replication.Rule, target int64, after string,
	limit int) ([]Compared, error) {
	var rows []struct {
		Key      []byte `db:"key"`
		Size     int64  `db:"size"`
		MD5      []byte `db:"md5"`
		Parts    int    `db:"parts"`
		CRC64    int64  `db:"crc64"`
		Number   int64  `db:"number"`
		Revision int    `db:"revision"`
		Known    bool   `db:"known"`
		XNumber  int64  `db:"x_number"`
		XRev     int    `db:"x_revision"`
		XGone    bool   `db:"x_gone"`
		XETag    string `db:"x_etag"`
		XVersion string `db:"x_version"`
		Waiting  bool   `db:"waiting"`
	}
	err := c.db.SelectContext(ctx, &rows, `select h.key, h.size, h.md5, h.parts, h.crc64, h.number, h.revision,
		x.key is not null as known, coalesce(x.number, 0) as x_number, coalesce(x.revision, 0) as x_revision,
		coalesce(x.gone, false) as x_gone, coalesce(x.etag, '') as x_etag, coalesce(x.version, '') as x_version,
		coalesce(x.waiting, false) as waiting
		from heads h left join replicas x on x.target = $1 and x.key = h.key
		where h.bucket = $2 and h.key > $3 and h.key >= $4 and h.key < $5 and not h.marker
			and ($6::jsonb is null or h.tags @> $6::jsonb) and ($7 or h.headers is null or not h.headers ? 'origin')
		order by h.key limit $8`, target, r.BucketID, []byte(after), []byte(r.Prefix), endOf(r.Prefix), tagsOrNull(r), r.Onward,
		limit)
	out := make([]Compared, len(rows))
	for i, r := range rows {
		out[i] = Compared{Key: string(r.Key), Size: r.Size, ETag: object.ETag{Parts: r.Parts}, CRC64: uint64(r.CRC64),
			Number: r.Number, Revision: r.Revision, Known: r.Known, Waiting: r.Waiting,
			Have: replication.Have{Number: r.XNumber, Revision: r.XRev, Gone: r.XGone, ETag: r.XETag, Version: r.XVersion}}
		copy(out[i].ETag.MD5[:], r.MD5)
	}
	return out, mapError(err)
}

// CopyAgain has keys wait at a target as if nothing of them were there.
func (c *Catalog) CopyAgain(ctx context.Context, target int64, keys [][]byte) error {
	_, err := c.db.ExecContext(ctx, `insert into replicas as r (target, key, waiting, since, due)
		select $1, k, true, clock_timestamp(), clock_timestamp() from unnest($2::bytea[]) k order by k
		on conflict (target, key) do update set waiting = true, number = 0, revision = 0, etag = '', version = '',
			since = coalesce(r.since, excluded.since), due = excluded.due, seq = r.seq + 1`, target, keys)
	return mapError(err)
}

// AdoptReplica notes that a target has an object as it is, which was found there.
func (c *Catalog) AdoptReplica(ctx context.Context, target int64, x Compared, etag, version string) error {
	_, err := c.db.ExecContext(ctx, `insert into replicas (target, key, number, revision, etag, version, confirmed,
		waiting)
		values ($1, $2, $3, $4, $5, $6, clock_timestamp(), false) on conflict (target, key) do update set number = $3,
		revision = $4, etag = $5, version = $6, gone = false, confirmed = clock_timestamp()
		where not replicas.waiting`, target, []byte(x.Key), x.Number, x.Revision, etag, version)
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
