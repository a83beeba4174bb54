package catalog

import (
	"context"
	"time"

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
	c.reads.add(len(batch), time.Now())
	rows, err := c.hot.Query(ctx, lookupQuery, buckets, keys)
	if err != nil {
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
