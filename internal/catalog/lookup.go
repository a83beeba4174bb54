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
	Bucket     int64 // 0: no such bucket
	Versioning object.Versioning
	Version    *object.Version // nil: no such key, or deleted
	Deleted    *object.Version // the delete marker that is current, if one is
}

// Lookup finds the current version at an address, in a round trip shared with
// other lookups. A bucket or key that is not there is no error.
func (c *Catalog) Lookup(ctx context.Context, a Address) (Found, error) { return c.looks.do(ctx, a) }

const headColumns = `number, revision, h.created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset, content_type, headers, metadata, h.tags, written_by, h.source, plain, marker`

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
	Tags         []byte         `db:"tags"`
	WrittenBy    sql.NullString `db:"written_by"`
	Source       sql.NullString `db:"source"`
	Plain        sql.NullBool   `db:"plain"`
	Marker       sql.NullBool   `db:"marker"`
}

func (r *headRow) version(key object.Key) (*object.Version, error) {
	v := &object.Version{
		Key: key, Number: r.Number.Int64, Revision: int(r.Revision.Int32), Size: r.Size.Int64, Created: r.Created.Time.UTC(),
		ETag: object.ETag{Parts: int(r.Parts.Int32)}, CRC64: uint64(r.CRC64.Int64),
		Checksum: digest.Sum{Kind: digest.Kind(r.ChecksumKind.Int16 % perPart), Bytes: r.Checksum}, PartSums: r.ChecksumKind.Int16 >= perPart,
		Body: object.BodyRef{Tier: r.Tier.Int16, File: r.BodyFile.Int64, Offset: r.BodyOffset.Int64},
		By:   r.WrittenBy.String, Source: r.Source.String, Plain: r.Plain.Bool, Marker: r.Marker.Bool,
	}
	copy(v.ETag.MD5[:], r.MD5)
	v.Headers.ContentType = r.ContentType.String
	if r.Headers != nil {
		if err := json.Unmarshal(r.Headers, &v.Headers); err != nil {
			return nil, fmt.Errorf("headers of version %d: %w", v.Number, err)
		}
	}
	if r.Tags != nil {
		if err := json.Unmarshal(r.Tags, &v.Tags); err != nil {
			return nil, fmt.Errorf("tags of version %d: %w", v.Number, err)
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
const lookupQuery = `select q.i, b.id, coalesce(b.versioning, 0), h.number, h.revision, h.created, h.size, h.md5, h.parts, h.crc64, h.checksum_kind, h.checksum, h.tier,
	h.body_file, h.body_offset, h.content_type, h.headers, h.metadata, h.tags, h.written_by, h.source, h.plain, h.marker
from unnest($1::text[], $2::bytea[]) with ordinality q(b, k, i)
left join lateral (select id, versioning from buckets where name = q.b and removed is null limit 1) b on true
left join lateral (select * from heads where heads.bucket = b.id and heads.key = q.k limit 1) h on true`

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
		var f Found
		if err := rows.Scan(&r.Place, &r.Bucket, &f.Versioning, &r.Number, &r.Revision, &r.Created, &r.Size, &r.MD5, &r.Parts, &r.CRC64, &r.ChecksumKind,
			&r.Checksum, &r.Tier, &r.BodyFile, &r.BodyOffset, &r.ContentType, &r.Headers, &r.Metadata, &r.Tags, &r.WrittenBy, &r.Source, &r.Plain, &r.Marker); err != nil {
			return nil, err
		}
		f.Bucket = r.Bucket.Int64
		if r.Number.Valid {
			if f.Version, err = r.version(batch[r.Place-1].Key); err != nil {
				return nil, err
			}
			if f.Version.Marker {
				f.Version, f.Deleted = nil, f.Version
			}
		}
		out[r.Place-1] = f
	}
	return out, rows.Err()
}
