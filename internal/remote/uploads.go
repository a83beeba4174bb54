package remote

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// holdUpload is how long an upload is held by whoever sends its parts.
const holdUpload = 2 * time.Minute

// HoldUpload has an upload at the endpoint be known as under way. A connection that is of no
// endpoint in the catalog knows of none.
func (c *Conn) HoldUpload(ctx context.Context, bucket, key, upload, content string) error {
	if c.catalog == nil {
		return nil
	}
	return c.catalog.HoldUpload(ctx, c.begun(bucket, key, upload, content), holdUpload)
}

// TakeUpload gives an interrupted upload of a content under a key, "" for none.
func (c *Conn) TakeUpload(ctx context.Context, bucket, key, content string) (string, error) {
	if c.catalog == nil {
		return "", nil
	}
	return c.catalog.TakeUpload(ctx, c.begun(bucket, key, "", content), holdUpload)
}

// LeaveUpload lets go of an upload that was interrupted: the next write of its content goes on.
func (c *Conn) LeaveUpload(ctx context.Context, bucket, key, upload, content string) error {
	if c.catalog == nil {
		return nil
	}
	return c.catalog.HoldUpload(ctx, c.begun(bucket, key, upload, content), 0)
}

// EndUpload forgets an upload that was completed or given up.
func (c *Conn) EndUpload(ctx context.Context, bucket, key, upload string) error {
	if c.catalog == nil {
		return nil
	}
	return c.catalog.EndUpload(ctx, c.begun(bucket, key, upload, ""))
}

func (c *Conn) begun(bucket, key, upload, content string) catalog.Begun {
	return catalog.Begun{Endpoint: c.ID, Bucket: bucket, Key: key, Upload: upload, Content: content}
}

// GiveUpUploads ends uploads at endpoints that nobody went on with for a time, so that their parts
// do not stay there. Endpoints that are away are asked another time.
func (p *Pool) GiveUpUploads(ctx context.Context, unheld time.Duration, limit int) error {
	left, err := p.catalog.LeftUploads(ctx, unheld, limit)
	if err != nil {
		return err
	}
	for _, b := range left {
		c, err := p.Get(ctx, b.Endpoint)
		if err != nil {
			return err
		}
		if c.Circuit.Wait(time.Now()) > 0 {
			continue
		}
		err = c.Client.AbandonUpload(ctx, b.Bucket, b.Key, b.Upload)
		c.Circuit.Note(err, time.Now())
		if err != nil && fault.KindOf(err) != fault.NotFound {
			continue
		}
		if err := p.catalog.EndUpload(ctx, b); err != nil {
			return err
		}
	}
	return nil
}
