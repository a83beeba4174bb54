package objects

import (
	"context"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

// originInfo tells of an origin, if who asks may see it.
func originInfo(o object.Origin, v middle.Veil) *api.OriginInfo {
	if !v.Sees(o.Bucket, o.Key) {
		return &api.OriginInfo{How: o.How, At: o.At, By: v.By(o.Who)}
	}
	return &api.OriginInfo{How: o.How, Bucket: o.Bucket, Key: o.Key, Version: o.ID.String(), At: o.At, By: v.By(o.Who)}
}

func chapter(c store.Chapter, seen middle.Veil) api.Chapter {
	out := api.Chapter{Bucket: c.Bucket.String(), Key: c.Key.String(), Versions: []api.HistoryVersion{}}
	for _, p := range c.Versions {
		v := p.Version
		h := api.HistoryVersion{Version: v.ID().String(), Number: v.Number, Marker: v.Marker, Latest: p.Replaced.IsZero(),
			Size: v.Size, Created: v.Created, By: seen.By(v.By), Source: seen.From(v.By, v.Source),
			Replaced: p.Replaced, Revision: v.Revision, Metadata: v.Metadata, Tags: v.Tags}
		if !v.Marker {
			h.ETag = v.ETag.String()
		}
		if p.Origin != nil {
			h.Origin = originInfo(*p.Origin, seen)
		}
		for _, r := range p.Revisions {
			h.Revisions = append(h.Revisions, api.RevisionInfo{Revision: r.Number + 1, At: r.Until, By: seen.By(r.Who),
				Source: seen.From(r.Who, r.Source), Before: r.Metadata, Tags: r.Tags})
		}
		out.Versions = append(out.Versions, h)
	}
	for _, o := range c.Went {
		out.Went = append(out.Went, *originInfo(o, seen))
	}
	if c.More {
		out.Next = out.Versions[len(out.Versions)-1].Number
	}
	return out
}

type objectOut struct{ Body api.ObjectInfo }

func (d *Desk) versionCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnKey}, "object-history", "GET /buckets/{bucket}/history", "versions",
		"The history of a key: versions, delete markers, changes of metadata, renames", d.objectHistory)
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnPrefix}, "list-versions", "GET /buckets/{bucket}/versions", "versions",
		"List all versions and delete markers by key", d.listVersions)
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnKey}, "annotate-object", "PATCH /buckets/{bucket}/object", "versions",
		"Change metadata, tags or content type without uploading again",
		d.annotateObject, middle.Described(
			"The version gets the next revision. With ifRevision, a change that came between is refused with status 412 and the revision found."))
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnBucket}, "restore-object", "POST /buckets/{bucket}/restore", "versions",
		"Make an earlier version current again, by a copy of it", d.restoreObjectCall)
}

func (d *Desk) restoreObject(ctx context.Context, a catalog.Address, version, asOf string) (*object.Version, error) {
	var err error
	if err := d.May(ctx, access.Read|access.Write, a); err != nil {
		return nil, err
	}
	var id object.VersionID
	var at time.Time
	switch {
	case (version == "") == (asOf == ""):
		return nil, fault.New(fault.Invalid, "version-or-moment", "a restore needs a version or a moment, and not both").
			In("version").Do("take one from the key's history")
	case version != "":
		id, err = object.ParseVersionID(version)
	default:
		at, err = middle.Moment(asOf)
	}
	if err != nil {
		return nil, err
	}
	return d.Store.Restore(ctx, a, id, at, middle.Author(ctx))
}

func (d *Desk) objectHistory(ctx context.Context, in *struct {
	middle.BucketPath
	Key    string `query:"key" required:"true"`
	Before int64  `query:"before" minimum:"0" doc:"Versions older than this number"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Follow bool   `query:"followRenames" doc:"Also the names it had before and got later"`
}) (*struct {
	Body struct {
		Chapters []api.Chapter `json:"chapters" doc:"One for each name; the first is the one asked for"`
	}
}, error) {
	a, err := middle.Address(in.Bucket, in.Key)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.History(ctx, a, in.Before, in.Limit, in.Follow)
	if err != nil {
		return nil, d.HideMissing(ctx, a, err)
	}
	list = slices.DeleteFunc(list, func(c store.Chapter) bool { // names it had elsewhere
		return d.May(ctx, access.Read, catalog.Address{Bucket: c.Bucket, Key: c.Key}) != nil
	})
	out := &struct {
		Body struct {
			Chapters []api.Chapter `json:"chapters" doc:"One for each name; the first is the one asked for"`
		}
	}{}
	for _, c := range list {
		v, err := d.VeilFor(ctx, c.Bucket)
		if err != nil {
			return nil, err
		}
		out.Body.Chapters = append(out.Body.Chapters, chapter(c, v))
	}
	return out, nil
}

func (d *Desk) listVersions(ctx context.Context, in *struct {
	middle.BucketPath
	Prefix       string `query:"prefix"`
	Delimiter    string `query:"delimiter"`
	After        string `query:"after"`
	AfterVersion int64  `query:"afterVersion" minimum:"0"`
	Limit        int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*struct{ Body api.VersionPage }, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	for field, v := range map[string]string{"prefix": in.Prefix, "delimiter": in.Delimiter, "after": in.After} {
		if err := object.CheckText(field, v); err != nil {
			return nil, err
		}
	}
	page, more, err := d.Store.ListVersions(ctx, name,
		catalog.Versions{Prefix: in.Prefix, Delimiter: in.Delimiter, After: in.After, AfterNumber: in.AfterVersion,
			Max: in.Limit})
	if err != nil {
		return nil, err
	}
	seen, err := d.VeilFor(ctx, name)
	if err != nil {
		return nil, err
	}
	p := api.VersionPage{Versions: []api.ListedVersion{}, Prefixes: []string{}}
	for _, e := range page {
		v := e.Version
		if v == nil {
			p.Prefixes = append(p.Prefixes, e.Prefix)
			continue
		}
		p.Versions = append(p.Versions, api.ListedVersion{Key: v.Key.String(), Version: v.ID().String(), Number: v.Number,
			Latest: e.Latest, Marker: v.Marker, Size: v.Size, Created: v.Created, By: seen.By(v.By)})
	}
	if more {
		last := page[len(page)-1]
		if p.Next = last.Name(); last.Version != nil {
			p.NextVersion = last.Version.Number
		}
	}
	return &struct{ Body api.VersionPage }{p}, nil
}

func (d *Desk) annotateObject(ctx context.Context, in *struct {
	middle.BucketPath
	Key     string `query:"key" required:"true"`
	Version string `query:"version" maxLength:"64" doc:"A version's id; the current one otherwise"`
	Body    api.ObjectChange
}) (*objectOut, error) {
	a, err := middle.Address(in.Bucket, in.Key)
	if err == nil {
		err = d.May(ctx, access.Write, a)
	}
	if err != nil {
		return nil, err
	}
	v, a, err := d.findVersion(ctx, in.Bucket, in.Key, in.Version, "")
	if err != nil {
		return nil, err
	}
	an := store.Annotation{Address: a, Author: middle.Author(ctx), Metadata: in.Body.Metadata, Tags: in.Body.Tags,
		IfRevision: in.Body.IfRevision}
	if in.Version != "" {
		an.ID = v.ID()
	}
	if in.Body.ContentType != nil {
		h := v.Headers
		h.ContentType = *in.Body.ContentType
		an.Headers = &h
	}
	if an.Headers == nil && an.Metadata.Empty() && an.Tags.Empty() {
		return nil, fault.New(fault.Invalid, "no-change", "nothing to change was given").In("metadata").
			Do("set or unset a field or a tag")
	}
	if v, err = d.Store.Annotate(ctx, an); err != nil {
		return nil, err
	}
	return &objectOut{d.objectInfo(ctx, a.Bucket, v)}, nil
}

func (d *Desk) restoreObjectCall(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RestoreVersionAsk
}) (*objectOut, error) {
	a, err := middle.Address(in.Bucket, in.Body.Key)
	if err != nil {
		return nil, err
	}
	v, err := d.restoreObject(ctx, a, in.Body.Version, in.Body.AsOf)
	if err != nil {
		return nil, d.HideMissing(ctx, a, err)
	}
	return &objectOut{d.objectInfo(ctx, a.Bucket, v)}, nil
}
