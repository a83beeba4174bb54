package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Begun is an upload that was begun at an endpoint.
type Begun struct {
	Endpoint int64
	Bucket   string // there
	Key      string // there
	Upload   string
	Content  string // size and digest of what is sent
}

// HoldUpload writes an upload down, or that its parts are still sent: for a while nobody else
// takes it up. It is let go of by a hold of 0.
func (c *Catalog) HoldUpload(ctx context.Context, b Begun, hold time.Duration) error {
	_, err := c.changed(ctx, `insert into begun_uploads (endpoint, bucket, key, upload, content, held)
		values ($1, $2, $3, $4, $5, clock_timestamp() + $6::bigint * interval '1 ms')
		on conflict (endpoint, bucket, key, upload) do update set held = excluded.held`, b.Endpoint, b.Bucket, []byte(b.Key),
		b.Upload, b.Content, hold.Milliseconds())
	return err
}

// TakeUpload gives an upload of a key and content that somebody began and nobody holds, "" for
// none, and holds it.
func (c *Catalog) TakeUpload(ctx context.Context, b Begun, hold time.Duration) (upload string, err error) {
	err = c.db.GetContext(ctx, &upload, `update begun_uploads set held = clock_timestamp() + $5::bigint * interval '1 ms'
		where ctid = (select ctid from begun_uploads where endpoint = $1 and bucket = $2 and key = $3 and content = $4
			and held <= clock_timestamp() order by held desc limit 1 for update skip locked) returning upload`, b.Endpoint,
		b.Bucket, []byte(b.Key), b.Content, hold.Milliseconds())
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return upload, mapError(err)
}

// EndUpload forgets an upload that was completed or given up.
func (c *Catalog) EndUpload(ctx context.Context, b Begun) error {
	_, err := c.changed(ctx, `delete from begun_uploads where endpoint = $1 and bucket = $2 and key = $3 and upload = $4`,
		b.Endpoint, b.Bucket, []byte(b.Key), b.Upload)
	return err
}

// LeftUploads gives uploads that nobody went on with for some time, the oldest first.
func (c *Catalog) LeftUploads(ctx context.Context, unheld time.Duration, limit int) ([]Begun, error) {
	var rows []struct {
		Endpoint int64  `db:"endpoint"`
		Bucket   string `db:"bucket"`
		Key      []byte `db:"key"`
		Upload   string `db:"upload"`
		Content  string `db:"content"`
	}
	err := c.db.SelectContext(ctx, &rows, `select endpoint, bucket, key, upload, content from begun_uploads
		where held < clock_timestamp() - $1::bigint * interval '1 ms' order by held limit $2`, unheld.Milliseconds(), limit)
	out := make([]Begun, len(rows))
	for i, r := range rows {
		out[i] = Begun{r.Endpoint, r.Bucket, string(r.Key), r.Upload, r.Content}
	}
	return out, mapError(err)
}
