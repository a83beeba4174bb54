package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

const lagTold = 100_000 // entries of the journal that are counted at most

func (d *Desk) findIndexes(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Indexes []api.FindIndexInfo `json:"indexes" doc:"Of buckets with 20,000 objects and more, unless the service is set otherwise"`
		Behind  int                 `json:"behind" doc:"Entries of the journal, of the account, that the indexes have not read; find looks at what they name"`
	}
}, error) {
	list, err := d.Store.Catalog.FindIndexes(ctx, middle.Who(ctx).Subject.Account)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Indexes []api.FindIndexInfo `json:"indexes" doc:"Of buckets with 20,000 objects and more, unless the service is set otherwise"`
			Behind  int                 `json:"behind" doc:"Entries of the journal, of the account, that the indexes have not read; find looks at what they name"`
		}
	}{}
	out.Body.Indexes = []api.FindIndexInfo{}
	for _, x := range list {
		i := api.FindIndexInfo{Bucket: x.Bucket, State: "building", Objects: x.Objects, Segments: x.Segments, Bytes: x.Bytes,
			Built: x.Built}
		switch {
		case x.Merging:
			i.State = "merging"
		case x.Ready:
			i.State = "ready"
		}
		out.Body.Indexes = append(out.Body.Indexes, i)
	}
	out.Body.Behind, err = d.Store.Catalog.FindLag(ctx, middle.Who(ctx).Subject.Account, lagTold)
	return out, err
}

func (d *Desk) rebuildFindIndex(ctx context.Context, in *struct {
	Bucket string `path:"bucket" maxLength:"63"`
}) (*struct{}, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	facts, err := d.Store.Facts(ctx, name)
	if err == nil && facts.Account != middle.Who(ctx).Subject.Account {
		err = fault.New(fault.NotFound, "bucket-missing", "there is no bucket %q of this account", in.Bucket).In("bucket").
			Do("act in the account that the bucket is of")
	}
	if err != nil {
		return nil, err
	}
	return nil, d.Store.Catalog.RebuildFind(ctx, facts.ID)
}
