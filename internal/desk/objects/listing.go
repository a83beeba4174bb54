package objects

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

// listedOf gives a version as it stands in a list.
func listedOf(v *object.Version, seen middle.Veil) api.ListedObject {
	return api.ListedObject{Key: v.Key.String(), Size: v.Size, Created: v.Created, ETag: v.ETag.String(),
		CRC64: fmt.Sprintf("%016x", v.CRC64), ContentType: v.Headers.ContentType, By: seen.By(v.By), Version: v.ID().String()}
}

// listed says what a listing tells of objects beside the usual.
type listed struct{ metadata, copies, look bool }

func (d *Desk) list(ctx context.Context, bucket string, l catalog.Listing, asOf string, also listed) (*api.ObjectPage,
	error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	for field, v := range map[string]string{"prefix": l.Prefix, "delimiter": l.Delimiter, "after": l.After} {
		if err := object.CheckText(field, v); err != nil {
			return nil, err
		}
	}
	entries, next, err := d.entries(ctx, name, l, asOf)
	if err != nil {
		return nil, err
	}
	seen, err := d.VeilFor(ctx, name)
	if err != nil {
		return nil, err
	}
	p := &api.ObjectPage{Objects: []api.ListedObject{}, Prefixes: []string{}}
	for _, e := range entries {
		v := e.Version
		if v == nil {
			p.Prefixes = append(p.Prefixes, e.Prefix)
			continue
		}
		o := listedOf(v, seen)
		if also.metadata {
			o.Metadata = v.Metadata
		}
		p.Objects = append(p.Objects, o)
	}
	if also.look {
		if err := d.lookAtAll(ctx, name, entries, p.Objects); err != nil {
			return nil, err
		}
	}
	if also.copies && asOf == "" {
		if err := d.copiesOf(ctx, name, entries, p.Objects); err != nil {
			return nil, err
		}
	}
	if p.Next = next; len(p.Prefixes) > 0 && l.Delimiter == "/" && asOf == "" {
		p.Usage, err = d.usageOf(ctx, name, p.Prefixes)
	}
	return p, err
}

// entries gives a page of a bucket, now or as of a moment, and where to go on.
func (d *Desk) entries(ctx context.Context, name object.BucketName, l catalog.Listing,
	asOf string) (list []catalog.Entry,
	next string, err error) {
	if asOf != "" {
		at, err := middle.Moment(asOf)
		if err != nil {
			return nil, "", err
		}
		return d.Store.ListAsOf(ctx, name, l, at)
	}
	list, more, err := d.Store.List(ctx, name, l)
	if more && len(list) > 0 {
		next = list[len(list)-1].Name()
	}
	return list, next, err
}

// usageOf gives what is beneath prefixes of a bucket.
func (d *Desk) usageOf(ctx context.Context, name object.BucketName, prefixes []string) (map[string]api.UsageInfo,
	error) {
	f, err := d.Store.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	usage, err := d.Store.Catalog.UsageOf(ctx, f.ID, prefixes)
	if err != nil {
		return nil, err
	}
	out := make(map[string]api.UsageInfo, len(usage))
	for prefix, u := range usage {
		out[prefix] = api.UsageInfo(u)
	}
	return out, nil
}

// looksAtOnce is how many bodies of a page are looked at side by side: those of a tier elsewhere
// take a question to its endpoint each.
const looksAtOnce = 16

// lookAtAll says of each listed object what is wrong with its bytes.
func (d *Desk) lookAtAll(ctx context.Context, name object.BucketName, entries []catalog.Entry,
	into []api.ListedObject) error {
	looks, ctx := errgroup.WithContext(ctx)
	looks.SetLimit(looksAtOnce)
	i := 0
	for _, e := range entries {
		if e.Version == nil {
			continue
		}
		o, v := &into[i], e.Version
		i++
		looks.Go(func() (err error) {
			o.Problem, err = d.lookAt(ctx, catalog.Address{Bucket: name, Key: v.Key}, v)
			return err
		})
	}
	return looks.Wait()
}

// lookAt says what is wrong with the bytes of a version: they are known to be damaged, are not
// there, or cannot be had. What has to be restored first is not looked at.
func (d *Desk) lookAt(ctx context.Context, a catalog.Address, v *object.Version) (problem string, err error) {
	err = d.Store.Look(ctx, a, v)
	if err == nil {
		return "", nil
	}
	switch f := fault.From(err); {
	case f.Kind == fault.Damaged, fault.HasCode(err, "volume-away"), f.Code == "disk-error":
		return f.Message, nil
	case fault.KindOf(err) == fault.NotFound, f.Kind == fault.Conflict:
		return "", nil // removed meanwhile, or not to be read at once
	}
	return "", err
}

// copiesOf tells of listed objects how they stand where rules copy them to: names of
// rules are those of the bucket's account.
func (d *Desk) copiesOf(ctx context.Context, name object.BucketName, entries []catalog.Entry,
	into []api.ListedObject) error {
	f, err := d.Store.Bucket(ctx, name)
	if err != nil || f.Account != middle.Who(ctx).Subject.Account {
		return err
	}
	var versions []*object.Version
	for _, e := range entries {
		if e.Version != nil {
			versions = append(versions, e.Version)
		}
	}
	states, err := d.Store.ReplicaStates(ctx, f.ID, versions)
	if err != nil {
		return err
	}
	for i, list := range states {
		for _, s := range list {
			into[i].Copies = append(into[i].Copies, api.CopyState{Rule: s.Rule.Name, State: string(s.State), Why: s.Why})
		}
	}
	return nil
}

func (d *Desk) listObjects(ctx context.Context, in *struct {
	middle.BucketPath
	Prefix    string `query:"prefix"`
	Delimiter string `query:"delimiter"`
	After     string `query:"after" doc:"A key or folded prefix; exclusive"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	Metadata  bool   `query:"metadata" doc:"With each object's metadata"`
	Copies    bool   `query:"copies" doc:"With the state of each object's copies; for the account of the bucket"`
	Look      bool   `query:"look" doc:"Look whether each object's bytes are here; digests of large ones are not compared"`
	AsOf      string `query:"asOf" maxLength:"64" doc:"How the bucket stood at this moment, RFC 3339"`
}) (*struct{ Body api.ObjectPage }, error) {
	page, err := d.list(ctx, in.Bucket, catalog.Listing{Prefix: in.Prefix, Delimiter: in.Delimiter, After: in.After,
		Max: in.Limit, Full: in.Metadata || in.Copies}, in.AsOf, listed{in.Metadata, in.Copies, in.Look})
	if err != nil {
		return nil, err
	}
	if page.Rights, err = d.access.Reach(ctx, in.Bucket, in.Prefix); err != nil {
		return nil, err
	}
	return &struct{ Body api.ObjectPage }{*page}, nil
}
