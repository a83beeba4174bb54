package catalog

import (
	"context"
	"database/sql"
	"time"

	"spindle/internal/core/object"
)

// Sketch is what a comparison needs of a current object.
type Sketch struct {
	Key     string
	Size    int64 // bytes
	Created time.Time
	ETag    object.ETag
	CRC64   uint64
}

// Sketches calls f with a page of current objects beneath a prefix after a key, in byte
// order: less of each than List, and faster.
func (c *Catalog) Sketches(ctx context.Context, bucket int64, prefix, after string, limit int, f func(Sketch)) error {
	rows, err := c.db.QueryContext(ctx, `select key, size, created, md5, parts, crc64 from heads
		where bucket = $1 and key >= $2 and key > $3 and key < $4 and not marker order by key
		limit $5`,
		bucket, []byte(prefix), []byte(after), endOf(prefix), limit)
	if err != nil {
		return mapError(err)
	}
	defer rows.Close()
	var key, md5 sql.RawBytes
	for rows.Next() {
		var s Sketch
		var parts sql.NullInt32
		var crc int64
		if err := rows.Scan(&key, &s.Size, &s.Created, &md5, &parts, &crc); err != nil {
			return mapError(err)
		}
		s.Key, s.ETag.Parts, s.CRC64 = string(key), int(parts.Int32), uint64(crc)
		copy(s.ETag.MD5[:], md5)
		f(s)
	}
	return mapError(rows.Err())
}
