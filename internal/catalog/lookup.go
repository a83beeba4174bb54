package catalog

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"spindle/internal/core/object"
)

// Address names an object.
type Address struct {
	Bucket object.BucketName
	Key    object.Key
}

// Found answers a lookup.
type Found struct {
	Bucket     int64 // 0: no such bucket
	Versioning object.Versioning
	Version    *object.Version // nil: no such key, or deleted
	Deleted    *object.Version // the delete marker that is current, if one is
}

// Lookup finds the current version at an address, in a round trip shared with
// other lookups. A bucket or key that is not there is no error.
func (c *Catalog) Lookup(ctx context.Context, a Address) (Found, error) { return c.looks.do(ctx, a) }

// lookupQuery finds buckets and current versions, each by its indexes: a limit
// in a lateral keeps the planner from joining whole tables.
var lookupQuery = `select q.i, b.id, coalesce(b.versioning, 0), ` + versionColumns + `
from unnest($1::text[], $2::bytea[]) with ordinality q(b, k, i)
left join lateral (select id, versioning from buckets where name = q.b and removed is null limit 1) b on true
left join lateral (select * from heads where heads.bucket = b.id and heads.key = q.k limit 1) h on true`

// lookupBatch answers lookups. Where a connection breaks off it asks again, once: the pool may
// have kept one from before the server was started anew.
func (c *Catalog) lookupBatch(ctx context.Context, batch []Address) ([]Found, error) {
	ctx, cancel := context.WithTimeout(ctx, answerFor)
	defer cancel()
	found, err := c.lookUp(ctx, batch)
	if err != nil && ctx.Err() == nil && connectionTrouble(err) {
		found, err = c.lookUp(ctx, batch)
	}
	c.doubtOthers(err)
	return found, err
}

func (c *Catalog) lookUp(ctx context.Context, batch []Address) ([]Found, error) {
	buckets, keys := make([]string, len(batch)), make([][]byte, len(batch))
	for i, a := range batch {
		buckets[i], keys[i] = a.Bucket.String(), []byte(a.Key.String())
	}
	c.reads.add(len(batch), time.Now())
	var rows pgx.Rows
	if err := shared(ctx, func() (err error) {
		rows, err = c.hot.Query(ctx, lookupQuery, buckets, keys)
		return err
	}); err != nil {
		return nil, err
	}
	out := make([]Found, len(batch))
	return out, eachRow(rows, 3, func(r *row, own [][]byte) (err error) {
		place := integer(own[0]) - 1
		f := &out[place]
		f.Bucket, f.Versioning = integer(own[1]), object.Versioning(integer(own[2]))
		if !r.Number.Valid {
			return nil
		}
		if f.Version, err = r.version(batch[place].Key); err == nil && f.Version.Marker {
			f.Version, f.Deleted = nil, f.Version
		}
		return err
	})
}

// Before gives the newest version of a key that is no delete marker and not current, nil
// for none.
func (c *Catalog) Before(ctx context.Context, bucket int64, key object.Key) (*object.Version, error) {
	var r headRow
	err := c.db.GetContext(ctx, &r, `select `+versionColumns+` from history h where h.bucket = $1 and h.key = $2
		and not h.marker order by h.number desc limit 1`, bucket, []byte(key.String()))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.version(key)
}

// HadContent reports whether a key has or had a version with a content: of a size, and of a
// CRC-64 or, where that is nil, an MD5 in hex.
func (c *Catalog) HadContent(ctx context.Context, bucket int64, key string, size int64, md5 string,
	crc *uint64) (had bool, err error) {
	sum, _ := hex.DecodeString(md5) // none: no version has that
	var crc64 *int64
	if crc != nil {
		n := int64(*crc)
		crc64 = &n
	}
	err = c.db.GetContext(ctx, &had, `select exists (select 1 from (
			select size, md5, parts, crc64, marker from heads where bucket = $1 and key = $2
			union all select size, md5, parts, crc64, marker from history where bucket = $1 and key = $2) v
		where not marker and size = $3 and case when $5::bigint is null then parts = 0 and md5 = $4 else crc64 = $5 end)`,
		bucket, []byte(key), size, sum, crc64)
	return had, mapError(err)
}
