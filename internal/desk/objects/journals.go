package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

func (d *Desk) bucketJournal(ctx context.Context, in *struct {
	middle.BucketPath
	Days int `query:"days" minimum:"0" maximum:"36500" doc:"Say how many entries would go if they were kept for so many days"`
}) (*struct{ Body api.BucketJournal }, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	c := d.Store.Catalog
	b, err := c.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	size, err := c.JournalSize(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	gaps, err := c.Gaps(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	out := api.BucketJournal{Days: b.Journal.Days, Paused: b.Journal.Paused, Revision: b.Revision, Entries: size.Entries,
		Bytes: size.Bytes,
		About: size.About, Gaps: []api.JournalGap{}}
	if size.First.Valid {
		first := size.First.Time.UTC()
		out.First = &first
	}
	for _, g := range gaps {
		x := api.JournalGap{Until: g.Until}
		if since := g.Since.UTC(); !since.IsZero() {
			x.Since = &since
		}
		out.Gaps = append(out.Gaps, x)
	}
	if in.Days > 0 {
		going, err := c.JournalOlder(ctx, b.ID, c.Now().AddDate(0, 0, -in.Days))
		if err != nil {
			return nil, err
		}
		out.Going = &going
	}
	return &struct{ Body api.BucketJournal }{out}, nil
}
