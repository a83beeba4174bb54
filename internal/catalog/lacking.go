package catalog

import (
	"context"
	"encoding/json"
	"time"

	"spindle/internal/core/bucket"
	"spindle/internal/core/census"
	"spindle/internal/core/object"
)

// Lacking is an object whose metadata is not what its bucket asks for.
type Lacking struct {
	Key      string
	Breaches []bucket.Breach
}

// Lacking looks at objects of a bucket after a key, at most so many, and gives those that
// lack something, at most limit. next is where to go on; "" at the end.
func (c *Catalog) Lacking(ctx context.Context, f BucketFacts, after string, look, limit int) (list []Lacking,
	looked int64, next string,
	err error) {
	conn, err := c.db.DB.Conn(ctx)
	if err != nil {
		return nil, 0, "", mapError(err)
	}
	defer conn.Close()
	r := &SnapshotReader{conn: conn, names: map[int16]string{}}
	ask := &CensusAsk{Bucket: f.ID, Metadata: true, Limit: look}
	if after != "" {
		ask.Slice.From = after + "\x00"
	}
	last := ""
	err = r.Rows(ctx, ask, func(row *census.Row) error {
		if len(list) == limit {
			return nil // the rest of what was asked for passes by
		}
		looked, last = looked+1, string(row.Key)
		m := object.Metadata{}
		if len(row.Metadata) > 0 {
			if err := json.Unmarshal(row.Metadata, &m); err != nil {
				return err
			}
		}
		if b := f.Required.Breaches(last, m); len(b) > 0 {
			list = append(list, Lacking{last, b})
		}
		return nil
	})
	if looked == int64(look) || len(list) == limit {
		next = last
	}
	return list, looked, next, err
}

const countLackingFor = 10 * time.Second

// countLacking counts the objects of a bucket that lack something, as far as it comes in
// some seconds; more says that it did not come to the end.
func (c *Catalog) countLacking(ctx context.Context, b *Bucket) (n int64, more bool, err error) {
	if len(b.Required) == 0 {
		return 0, false, nil
	}
	const look = 50_000
	f := BucketFacts{ID: b.ID, Required: b.Required}
	begun := time.Now()
	for after := ""; ; {
		list, _, next, err := c.Lacking(ctx, f, after, look, look+1)
		if err != nil {
			return 0, false, err
		}
		n += int64(len(list))
		if next == "" || time.Since(begun) > countLackingFor {
			return n, next != "", nil
		}
		after = next
	}
}
