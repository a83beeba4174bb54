package catalog

import (
	"context"

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
	return found, err
}

func (c *Catalog) lookUp(ctx context.Context, batch []Address) ([]Found, error) {
	buckets, keys := make([]string, len(batch)), make([][]byte, len(batch))
	for i, a := range batch {
		buckets[i], keys[i] = a.Bucket.String(), []byte(a.Key.String())
	}
	rows, err := c.hot.Query(ctx, lookupQuery, buckets, keys)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make([]Found, len(batch))
	for rows.Next() {
		var r headRow
		var f Found
		var place int
		if err := rows.Scan(append([]any{&place, &r.Bucket, &f.Versioning}, r.targets()...)...); err != nil {
			return nil, err
		}
		f.Bucket = r.Bucket.Int64
		if r.Number.Valid {
			if f.Version, err = r.version(batch[place-1].Key); err != nil {
				return nil, err
			}
			if f.Version.Marker {
				f.Version, f.Deleted = nil, f.Version
			}
		}
		out[place-1] = f
	}
	return out, rows.Err()
}
