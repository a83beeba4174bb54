package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

const lookLacking = 25_000 // objects that a call looks at

func (d *Desk) lacking(ctx context.Context, in *struct {
	middle.BucketPath
	After string `query:"after" maxLength:"1024"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*struct {
	Body struct {
		Objects []api.LackingObject `json:"objects"`
		Looked  int64               `json:"looked" doc:"At so many objects, for this page"`
		Next    string              `json:"next,omitempty" doc:"Give it as after for what follows; absent at the end. A page may be short, or empty, and go on"`
	}
}, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err == nil {
		err = d.MayAt(ctx, access.Read, name, "")
	}
	if err != nil {
		return nil, err
	}
	f, err := d.Store.Facts(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Objects []api.LackingObject `json:"objects"`
			Looked  int64               `json:"looked" doc:"At so many objects, for this page"`
			Next    string              `json:"next,omitempty" doc:"Give it as after for what follows; absent at the end. A page may be short, or empty, and go on"`
		}
	}{}
	if out.Body.Objects = []api.LackingObject{}; len(f.Required) == 0 {
		return out, nil
	}
	list, looked, next, err := d.Store.Catalog.Lacking(ctx, f, in.After, lookLacking, in.Limit)
	for _, x := range list {
		out.Body.Objects = append(out.Body.Objects, api.LackingObject{Key: x.Key, Lacks: x.Breaches})
	}
	out.Body.Looked, out.Body.Next = looked, next
	return out, err
}
