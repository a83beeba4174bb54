package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

// editsOf gives the edits of a bucket's settings that a change asks for.
func editsOf(c *api.BucketChange) (edits []bucket.Edit, err error) {
	if c.Quota.Given {
		edits = append(edits, bucket.Quota(c.Quota.Value))
	}
	if c.Versioning != "" {
		v, err := object.ParseVersioning(c.Versioning)
		if err != nil {
			return nil, err
		}
		edits = append(edits, bucket.Versioning(v))
	}
	if c.Tags != nil {
		edits = append(edits, bucket.EditTags(*c.Tags))
	}
	if c.Sealing != nil {
		edits = append(edits, bucket.Sealing(*c.Sealing))
	}
	if c.Required != nil {
		edits = append(edits, bucket.Require(*c.Required))
	}
	if c.Journal != nil && c.Journal.Days != nil {
		edits = append(edits, bucket.JournalDays(*c.Journal.Days))
	}
	if c.Journal != nil && c.Journal.Paused != nil {
		edits = append(edits, bucket.PauseJournal(*c.Journal.Paused))
	}
	switch c.Placement {
	case "":
	case "none":
		edits = append(edits, bucket.Placement(""))
	default:
		edits = append(edits, bucket.Placement(c.Placement))
	}
	if c.Tier != "" {
		edits = append(edits, bucket.Tier(c.Tier))
	}
	return edits, nil
}

func (d *Desk) changeBucket(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.BucketChange
}) (*middle.BucketOut, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	edits, err := editsOf(&in.Body)
	if err == nil && (in.Body.Placement != "" || in.Body.Tier != "") {
		err = d.house.MayPlace(ctx, name, in.Body.Placement, in.Body.Tier)
	}
	if err == nil {
		err = d.Store.ChangeBucket(ctx, name, in.Body.IfRevision, middle.Author(ctx), edits...)
	}
	if err != nil {
		return nil, err
	}
	return d.Bucket(ctx, in.Bucket)
}
