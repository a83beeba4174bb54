package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

func (d *Desk) prefixes(ctx context.Context, bucket, prefix string, limit int) ([]api.PrefixInfo, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	if err := object.CheckText("prefix", prefix); err != nil {
		return nil, err
	}
	if prefix != "" && prefix[len(prefix)-1] != '/' {
		return nil, fault.New(fault.Invalid, "prefix-slash", "usage is counted by prefixes that end with a slash").
			In("prefix").Do("end it with a slash")
	}
	f, err := d.Store.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.UsageBeneath(ctx, f.ID, prefix, limit)
	out := make([]api.PrefixInfo, len(list))
	for i, u := range list {
		out[i] = api.PrefixInfo{Prefix: string(u.Prefix), UsageInfo: api.UsageInfo(u.Usage)}
	}
	return out, err
}

func (d *Desk) prefixUsage(ctx context.Context, in *struct {
	middle.BucketPath
	Prefix string `query:"prefix" maxLength:"1024" doc:"Empty, or ending with a slash"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"20"`
}) (*struct {
	Body struct {
		Prefixes []api.PrefixInfo `json:"prefixes"`
	}
}, error) {
	list, err := d.prefixes(ctx, in.Bucket, in.Prefix, in.Limit)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Prefixes []api.PrefixInfo `json:"prefixes"`
		}
	}{}
	out.Body.Prefixes = list
	return out, nil
}
