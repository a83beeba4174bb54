package desk

import (
	"context"
	"time"

	"spindle/internal/core/object"
)

// BucketJournal is how the changes of a bucket's objects are kept on record.
type BucketJournal struct {
	Days     int          `json:"days" doc:"How long entries are kept, at least; 0: as long as the service keeps its journal"`
	Paused   bool         `json:"paused" doc:"Changes are not recorded; what is there stays"`
	Revision int          `json:"revision" doc:"Of the bucket's settings"`
	Entries  int64        `json:"entries"`
	Bytes    int64        `json:"bytes" doc:"Of the database's disk"`
	About    bool         `json:"about,omitempty" doc:"Entries and bytes were worked out from a part"`
	First    *time.Time   `json:"first,omitempty" doc:"Of the oldest entry"`
	Gaps     []JournalGap `json:"gaps" doc:"What is left out, latest first"`
	Going    *int64       `json:"going,omitempty" doc:"How many entries would go if they were kept for so many days"`
}

// JournalGap is a time of which changes of objects are not on record.
type JournalGap struct {
	Since *time.Time `json:"since,omitempty" doc:"Absent: from the beginning"`
	Until *time.Time `json:"until,omitempty" doc:"Absent: it goes on"`
}

func (d *Desk) bucketJournal(ctx context.Context, in *struct {
	BucketPath
	Days int `query:"days" minimum:"0" maximum:"36500" doc:"Say how many entries would go if they were kept for so many days"`
}) (*struct{ Body BucketJournal }, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	c := d.store.Catalog
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
	out := BucketJournal{Days: b.Journal.Days, Paused: b.Journal.Paused, Revision: b.Revision, Entries: size.Entries,
		Bytes: size.Bytes,
		About: size.About, Gaps: []JournalGap{}}
	if size.First.Valid {
		first := size.First.Time.UTC()
		out.First = &first
	}
	for _, g := range gaps {
		x := JournalGap{Until: g.Until}
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
	return &struct{ Body BucketJournal }{out}, nil
}
