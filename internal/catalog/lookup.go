package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/object"
)

// Address names an object.
type Address struct {
	Bucket object.BucketName
	Key    object.Key
}

// Found answers a lookup.
type Found struct {
	Bucket  int64           // 0: no such bucket
	Version *object.Version // nil: no such key
}

// Lookup finds the current version at an address, in a round trip shared with
// other lookups. A bucket or key that is not there is no error.
func (c *Catalog) Lookup(ctx context.Context, a Address) (Found, error) { return c.looks.do(ctx, a) }

const headColumns = `number, revision, h.created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset, content_type, headers, metadata, written_by`

type headRow struct {
	Place        int64          `db:"place"`
	Bucket       sql.NullInt64  `db:"bucket"`
	Key          []byte         `db:"key"`
	Number       sql.NullInt64  `db:"number"`
	Revision     sql.NullInt32  `db:"revision"`
	Created      sql.NullTime   `db:"created"`
	Size         sql.NullInt64  `db:"size"`
	MD5          []byte         `db:"md5"`
	Parts        sql.NullInt32  `db:"parts"`
	CRC64        sql.NullInt64  `db:"crc64"`
	ChecksumKind sql.NullInt16  `db:"checksum_kind"`
	Checksum     []byte         `db:"checksum"`
	Tier         sql.NullInt16  `db:"tier"`
	BodyFile     sql.NullInt64  `db:"body_file"`
	BodyOffset   sql.NullInt64  `db:"body_offset"`
	ContentType  sql.NullString `db:"content_type"`
	Headers      []byte         `db:"headers"`
	Metadata     []byte         `db:"metadata"`
	WrittenBy    sql.NullString `db:"written_by"`
}

func (r *headRow) version(key object.Key) (*object.Version, error) {
	v := &object.Version{
		Key: key, Number: r.Number.Int64, Revision: int(r.Revision.Int32), Size: r.Size.Int64, Created: r.Created.Time.UTC(),
		ETag: object.ETag{Parts: int(r.Parts.Int32)}, CRC64: uint64(r.CRC64.Int64),
		Checksum: digest.Sum{Kind: digest.Kind(r.ChecksumKind.Int16), Bytes: r.Checksum},
		Body:     object.BodyRef{Tier: r.Tier.Int16, File: r.BodyFile.Int64, Offset: r.BodyOffset.Int64},
		By:       r.WrittenBy.String,
	}
	copy(v.ETag.MD5[:], r.MD5)
	v.Headers.ContentType = r.ContentType.String
	if r.Headers != nil {
		if err := json.Unmarshal(r.Headers, &v.Headers); err != nil {
			return nil, fmt.Errorf("headers of version %d: %w", v.Number, err)
		}
	}
	if r.Metadata != nil {
		if err := json.Unmarshal(r.Metadata, &v.Metadata); err != nil {
			return nil, fmt.Errorf("metadata of version %d: %w", v.Number, err)
		}
	}
	return v, nil
}

// lookupQuery finds buckets and current versions, each by its indexes: a limit
// in a lateral keeps the planner from joining whole tables.
const lookupQuery = `select q.i, b.id, h.number, h.revision, h.created, h.size, h.md5, h.parts, h.crc64, h.checksum_kind, h.checksum, h.tier,
	h.body_file, h.body_offset, h.content_type, h.headers, h.metadata, h.written_by
from unnest($1::text[], $2::bytea[]) with ordinality q(b, k, i)
left join lateral (select id from buckets where name = q.b and removed is null limit 1) b on true
left join lateral (select * from heads where heads.bucket = b.id and heads.key = q.k and not marker limit 1) h on true`

func (c *Catalog) lookupBatch(ctx context.Context, batch []Address) ([]Found, error) {
	buckets, keys := make([]string, len(batch)), make([][]byte, len(batch))
	for i, a := range batch {
		buckets[i], keys[i] = a.Bucket.String(), []byte(a.Key.String())
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	rows, err := c.db.QueryContext(ctx, lookupQuery, buckets, keys)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make([]Found, len(batch))
	for rows.Next() {
		var r headRow
		if err := rows.Scan(&r.Place, &r.Bucket, &r.Number, &r.Revision, &r.Created, &r.Size, &r.MD5, &r.Parts, &r.CRC64, &r.ChecksumKind,
			&r.Checksum, &r.Tier, &r.BodyFile, &r.BodyOffset, &r.ContentType, &r.Headers, &r.Metadata, &r.WrittenBy); err != nil {
			return nil, err
		}
		f := &out[r.Place-1]
		f.Bucket = r.Bucket.Int64
		if r.Number.Valid {
			if f.Version, err = r.version(batch[r.Place-1].Key); err != nil {
				return nil, err
			}
		}
	}
	return out, rows.Err()
}
