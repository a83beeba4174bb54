package desk

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// limitSchema describes a limit to the OpenAPI document.
type limitSchema struct{}

// Schema gives the description.
func (limitSchema) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true,
		Description: "Bytes; null removes the quota"}
}

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
	BucketPath
	Body api.BucketChange
}) (*bucketOut, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	edits, err := editsOf(&in.Body)
	if err == nil && (in.Body.Placement != "" || in.Body.Tier != "") {
		err = d.mayPlace(ctx, name, in.Body.Placement, in.Body.Tier)
	}
	if err == nil {
		err = d.store.ChangeBucket(ctx, name, in.Body.IfRevision, author(ctx), edits...)
	}
	if err != nil {
		return nil, err
	}
	return d.bucket(ctx, in.Bucket)
}
