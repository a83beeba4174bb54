package desk

import (
	"context"
	"encoding/json"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// optionalQuota tells a quota that is null from one that is not given.
type optionalQuota struct {
	given bool
	value *int64
}

// UnmarshalJSON notes that the field was there.
func (o *optionalQuota) UnmarshalJSON(b []byte) error {
	o.given = true
	return json.Unmarshal(b, &o.value)
}

// Schema describes the field to the OpenAPI document.
func (o optionalQuota) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true,
		Description: "Bytes; null removes the quota"}
}

// bucketChange says what to change of a bucket's settings; what it does not name
// stays as it is.
type bucketChange struct {
	Quota      optionalQuota        `json:"quota,omitempty" required:"false"`
	Versioning string               `json:"versioning,omitempty" enum:"off,on,paused" doc:"Off only while no version stands that off would not have"`
	Tags       *object.Edit         `json:"tags,omitempty" doc:"What to set and take away"`
	Sealing    *bool                `json:"sealing,omitempty" doc:"Encrypt new bodies at rest"`
	Tier       string               `json:"tier,omitempty" maxLength:"32" doc:"Where new bodies go that name no other"`
	Placement  string               `json:"placement,omitempty" maxLength:"32" doc:"For new objects only: existing ones are moved by an order of the kind place; none to remove it"`
	Required   *bucket.Requirements `json:"required,omitempty" maxItems:"100" doc:"All that is asked of metadata"`
	Journal    *journalChange       `json:"journal,omitempty" doc:"How changes of objects are kept on record"`
	IfRevision int                  `json:"ifRevision,omitempty" minimum:"1" doc:"Change only this revision of the settings"`
}

// journalChange says what to change of how a journal is kept.
type journalChange struct {
	Days   *int  `json:"days,omitempty" minimum:"0" maximum:"36500" doc:"How long entries are kept, at least; 0: as long as the service keeps its journal"`
	Paused *bool `json:"paused,omitempty" doc:"Changes are not recorded; what is there stays"`
}

func (c *bucketChange) edits() (edits []bucket.Edit, err error) {
	if c.Quota.given {
		edits = append(edits, bucket.Quota(c.Quota.value))
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
	Body bucketChange
}) (*bucketOut, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	edits, err := in.Body.edits()
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
