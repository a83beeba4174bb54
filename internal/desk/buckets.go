package desk

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/store"
)

// BucketInfo is a bucket with its settings and usage.
type BucketInfo struct {
	Name         string        `json:"name"`
	Account      string        `json:"account" doc:"The account that owns it"`
	Region       string        `json:"region"`
	Created      time.Time     `json:"created"`
	CreatedBy    string        `json:"createdBy" doc:"The access key that made it"`
	Quota        *int64        `json:"quota" doc:"Bytes; null for none"`
	Versioning   string        `json:"versioning" enum:"off,on,paused" doc:"Whether previous versions are kept"`
	Tags         object.Tags   `json:"tags,omitempty"`
	Usage        catalog.Usage `json:"usage"`
	AbandonAfter *int          `json:"abandonAfter" doc:"Days after which unfinished uploads are abandoned; null for never"`
	Revision     int           `json:"revision" doc:"Of the settings; 0 when they are not told"`
	Sealing      bool          `json:"sealing" doc:"New bodies are encrypted at rest"`
	Open         bool          `json:"open" doc:"Anyone may read or list some of it, without a key"`
	Partly       bool          `json:"partly,omitempty" doc:"Who asks may list some of it only: usage and quota are not told"`
	Places       []string      `json:"places,omitempty" doc:"The prefixes that who asks may list, when not all of it"`
	Rights       []string      `json:"rights" doc:"What who asks may do in the whole of it: list, read, write, remove, settings"`
	Shared       []SharedWith  `json:"shared,omitempty" doc:"Whom the bucket or a part of it was opened to, anyone first"`
}

func bucketInfo(b *catalog.Bucket) BucketInfo {
	return BucketInfo{Name: b.Name.String(), Account: b.Account, Region: b.Region, Created: b.Created, CreatedBy: b.CreatedBy,
		Quota: b.Quota, Versioning: b.Versioning.String(), Tags: b.Tags, Usage: b.Usage, AbandonAfter: b.AbandonAfter, Sealing: b.Sealing,
		Revision: b.Revision}
}

// share fills in what who asks may do in a bucket and whom it was opened to, and
// takes out what only those learn who may list all of it.
func (d *Desk) share(ctx context.Context, info *BucketInfo, b *catalog.Bucket) (err error) {
	if info.Rights, info.Shared, err = d.sharing(ctx, b); err != nil {
		return err
	}
	info.CreatedBy = d.veilOf(ctx, b.Account).by(info.CreatedBy)
	info.Open = len(info.Shared) > 0 && info.Shared[0].To == "anyone"
	if info.Partly = !slices.Contains(info.Rights, access.List.String()); info.Partly {
		info.Usage, info.Quota, info.Tags, info.AbandonAfter, info.Revision = catalog.Usage{}, nil, nil, nil, 0
		book, err := d.gate.Book(ctx)
		if err != nil {
			return err
		}
		info.Places = access.Places(who(ctx).subject, info.Name, b.Account, book, time.Now())
	}
	return nil
}

// BucketPage is a page of buckets by name.
type BucketPage struct {
	Buckets []BucketInfo `json:"buckets"`
	Next    string       `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}

// BucketPath names the bucket of a call.
type BucketPath struct {
	Bucket string `path:"bucket" maxLength:"64"`
}

type bucketOut struct{ Body BucketInfo }

// Quantity is a number of objects and bytes that something would touch or did.
type Quantity struct {
	Objects       int64  `json:"objects"`
	Bytes         int64  `json:"bytes"`
	Previous      int64  `json:"previous,omitempty" doc:"Previous versions"`
	PreviousBytes int64  `json:"previousBytes,omitempty"`
	Markers       int64  `json:"markers,omitempty" doc:"Delete markers"`
	Versioning    string `json:"versioning,omitempty" doc:"Of the bucket, in a rehearsal: where it is on, objects are deleted with a delete marker and can be brought back"`
	More          bool   `json:"more,omitempty" doc:"There is more to do: call again"`
}

type quantityOut struct{ Body Quantity }

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
	return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true, Description: "Bytes; null takes the quota away"}
}

// bucketChange says what to change of a bucket's settings; what it does not name
// stays as it is.
type bucketChange struct {
	Quota        optionalQuota `json:"quota,omitempty" required:"false"`
	Versioning   string        `json:"versioning,omitempty" enum:"off,on,paused" doc:"Off only while no version stands that off would not have"`
	Tags         *object.Edit  `json:"tags,omitempty" doc:"What to set and take away"`
	Sealing      *bool         `json:"sealing,omitempty" doc:"Encrypt new bodies at rest"`
	AbandonAfter *int          `json:"abandonAfter,omitempty" minimum:"0" maximum:"3650" doc:"Days after which unfinished uploads are abandoned; 0 for never"`
	Revision     int           `json:"revision,omitempty" minimum:"1" doc:"Change only this revision of the settings"`
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
	if c.AbandonAfter != nil {
		edits = append(edits, bucket.AbandonAfter(daysOrNever(*c.AbandonAfter)))
	}
	return edits, nil
}

// daysOrNever gives a number of days, nil for 0.
func daysOrNever(days int) *int {
	if days == 0 {
		return nil
	}
	return &days
}

func (d *Desk) bucketCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-buckets", Method: http.MethodGet, Path: "/api/v1/buckets", Summary: "List buckets by name", Tags: []string{"buckets"}},
		func(ctx context.Context, in *struct {
			Account string `query:"account" maxLength:"64" doc:"Only of this account"`
			After   string `query:"after" maxLength:"64"`
			Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*struct{ Body BucketPage }, error) {
			account, also, err := d.gate.Sees(ctx, who(ctx).subject)
			if err != nil {
				return nil, d.problem(err)
			}
			if in.Account != "" && in.Account != account {
				if account != "" {
					return nil, d.problem(notYours(ctx, in.Account))
				}
				account = in.Account
			}
			out := &struct{ Body BucketPage }{}
			out.Body.Buckets, out.Body.Next, err = paged(in.After, in.Limit,
				func(after string, limit int) ([]*catalog.Bucket, error) {
					return d.store.Catalog.Buckets(ctx, account, also, after, limit)
				},
				func(b *catalog.Bucket) string { return b.Name.String() },
				func(b *catalog.Bucket) (BucketInfo, bool, error) { return d.listed(ctx, b) })
			if err != nil {
				return nil, d.problem(err)
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "create-bucket", Method: http.MethodPost, Path: "/api/v1/buckets", Summary: "Create a bucket", Tags: []string{"buckets"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Name         string            `json:"name" maxLength:"256"`
				Quota        *int64            `json:"quota,omitempty" doc:"Bytes"`
				Versioning   string            `json:"versioning,omitempty" enum:"off,on,paused" default:"off"`
				Tags         map[string]string `json:"tags,omitempty"`
				Account      string            `json:"account,omitempty" maxLength:"64" doc:"That owns it; the one that asks otherwise. Operators may name another"`
				Sealing      bool              `json:"sealing,omitempty" doc:"Encrypt new bodies at rest"`
				AbandonAfter int               `json:"abandonAfter,omitempty" minimum:"0" maximum:"3650" doc:"Days after which unfinished uploads are abandoned; 0 for never"`
			}
		}) (*bucketOut, error) {
			b := catalog.Bucket{Account: in.Body.Account,
				Settings: bucket.Settings{Quota: in.Body.Quota, Sealing: in.Body.Sealing, AbandonAfter: daysOrNever(in.Body.AbandonAfter)}}
			if b.Account == "" {
				b.Account = who(ctx).subject.Account
			}
			err := d.administers(ctx, b.Account, "create a bucket")
			if err == nil {
				b.Name, err = object.ParseBucketName(in.Body.Name)
			}
			if err != nil {
				return nil, d.problem(err)
			}
			if b.Versioning, err = object.ParseVersioning(in.Body.Versioning); err != nil {
				return nil, d.problem(err)
			}
			if b.Tags, err = object.NewTags(in.Body.Tags, object.MaxBucketTags); err != nil {
				return nil, d.problem(err)
			}
			if err := d.store.CreateBucket(ctx, b, author(ctx)); err != nil {
				return nil, d.problem(err)
			}
			return d.bucket(ctx, b.Name.String())
		})
	huma.Register(api, huma.Operation{OperationID: "show-bucket", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}", Summary: "Show a bucket", Tags: []string{"buckets"}},
		func(ctx context.Context, in *BucketPath) (*bucketOut, error) { return d.bucket(ctx, in.Bucket) })
	huma.Register(api, huma.Operation{OperationID: "change-bucket", Method: http.MethodPatch, Path: "/api/v1/buckets/{bucket}", Summary: "Change a bucket's settings", Tags: []string{"buckets"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body bucketChange
		}) (*bucketOut, error) {
			name, err := object.ParseBucketName(in.Bucket)
			if err != nil {
				return nil, d.problem(err)
			}
			edits, err := in.Body.edits()
			if err == nil {
				err = d.store.ChangeBucket(ctx, name, in.Body.Revision, author(ctx), edits...)
			}
			if err != nil {
				return nil, d.problem(err)
			}
			return d.bucket(ctx, in.Bucket)
		})
	huma.Register(api, huma.Operation{OperationID: "prefix-usage", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}/prefixes", Summary: "What lies beneath the prefixes of a level, those with the most bytes in previous versions first", Tags: []string{"buckets"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Prefix string `query:"prefix" maxLength:"1024" doc:"Empty, or ending with a slash"`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"20"`
		}) (*struct {
			Body struct {
				Prefixes []PrefixInfo `json:"prefixes"`
			}
		}, error) {
			list, err := d.prefixes(ctx, in.Bucket, in.Prefix, in.Limit)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &struct {
				Body struct {
					Prefixes []PrefixInfo `json:"prefixes"`
				}
			}{}
			out.Body.Prefixes = list
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "remove-bucket", Method: http.MethodDelete, Path: "/api/v1/buckets/{bucket}", Summary: "Remove an empty bucket", Tags: []string{"buckets"}, DefaultStatus: 204},
		func(ctx context.Context, in *BucketPath) (*struct{}, error) {
			name, err := object.ParseBucketName(in.Bucket)
			if err != nil {
				return nil, d.problem(err)
			}
			if err := d.store.RemoveBucket(ctx, name, author(ctx)); err != nil {
				return nil, d.problem(err)
			}
			d.gate.Changed() // its grants went too
			return nil, nil
		})
	huma.Register(api, huma.Operation{OperationID: "remove-objects", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/remove", Summary: "Remove keys, or all beneath a prefix, or rehearse it",
		Description: "With rehearse, says what would go. Otherwise removes the keys, and the next objects beneath the prefix, at most 1,000 a call: call again while more is true. Safe to stop and repeat.", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				RemoveIn
			}
		}) (*quantityOut, error) {
			q, err := d.removeObjects(ctx, in.Bucket, in.Body.RemoveIn)
			if err != nil {
				return nil, d.problem(err)
			}
			return &quantityOut{q}, nil
		})
}

// listed shows a bucket in a list, if who asks may list some of it.
func (d *Desk) listed(ctx context.Context, b *catalog.Bucket) (info BucketInfo, seen bool, err error) {
	if seen, err = d.gate.Lists(ctx, who(ctx).subject, b); err != nil || !seen {
		return info, false, err
	}
	info = bucketInfo(b)
	return info, true, d.share(ctx, &info, b)
}

func (d *Desk) bucket(ctx context.Context, s string) (*bucketOut, error) {
	name, err := object.ParseBucketName(s)
	if err != nil {
		return nil, d.problem(err)
	}
	b, err := d.store.Catalog.Bucket(ctx, name)
	if err != nil {
		return nil, d.problem(err)
	}
	info := bucketInfo(b)
	if err := d.share(ctx, &info, b); err != nil {
		return nil, d.problem(err)
	}
	return &bucketOut{info}, nil
}

// PrefixInfo is usage beneath a prefix.
type PrefixInfo struct {
	Prefix string `json:"prefix"`
	catalog.Usage
}

func (d *Desk) prefixes(ctx context.Context, bucket, prefix string, limit int) ([]PrefixInfo, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	if err := object.CheckText("prefix", prefix); err != nil {
		return nil, err
	}
	if prefix != "" && prefix[len(prefix)-1] != '/' {
		return nil, fault.New(fault.Invalid, "prefix-slash", "usage is counted by prefixes that end with a slash").In("prefix").Do("end it with a slash")
	}
	f, err := d.store.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.store.Catalog.UsageBeneath(ctx, f.ID, prefix, limit)
	out := make([]PrefixInfo, len(list))
	for i, u := range list {
		out[i] = PrefixInfo{string(u.Prefix), u.Usage}
	}
	return out, err
}

// RemoveIn says what to remove.
type RemoveIn struct {
	Keys     []string `json:"keys,omitempty" maxItems:"1000" doc:"Their current objects; where versioning is on or paused a delete marker is left"`
	Versions []struct {
		Key     string `json:"key"`
		Version string `json:"version"`
	} `json:"versions,omitempty" maxItems:"1000" doc:"Versions or delete markers, for good"`
	Prefix       *string `json:"prefix,omitempty" doc:"All beneath it; empty for the whole bucket; absent for none"`
	WithVersions bool    `json:"withVersions,omitempty" doc:"Beneath the prefix, previous versions and delete markers too, for good"`
	Rehearse     bool    `json:"rehearse,omitempty"`
}

// tellsOfRemovals reports whether who asks may list all that is to be removed, and so
// may be told what there was. Others are told what they asked for; they can rehearse
// nothing, nor remove what they do not name.
func (d *Desk) tellsOfRemovals(ctx context.Context, bucket object.BucketName, in RemoveIn) (bool, error) {
	places := slices.Clone(in.Keys)
	for _, v := range in.Versions {
		places = append(places, v.Key)
	}
	if in.Prefix != nil {
		places = append(places, *in.Prefix)
	}
	for _, key := range places {
		x, _, err := d.gate.Decide(ctx, gate.Ask{Subject: who(ctx).subject, Do: access.List, Bucket: bucket, Key: key})
		switch {
		case err != nil:
			return false, err
		case x.Allowed:
		case in.Rehearse || in.Prefix != nil:
			return false, d.mayAt(ctx, access.List, bucket, key)
		default:
			return false, nil
		}
	}
	return true, nil
}

func (d *Desk) removeObjects(ctx context.Context, bucket string, in RemoveIn) (q Quantity, err error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return q, err
	}
	f, err := d.store.Facts(ctx, name)
	if err != nil {
		return q, err
	}
	if in.Rehearse {
		q.Versioning = f.Versioning.String()
	}
	tells, err := d.tellsOfRemovals(ctx, name, in)
	if err != nil {
		return q, err
	}
	var removals []store.Removal
	for _, n := range in.Keys {
		k, err := object.ParseKey(n)
		if err != nil {
			return q, err
		}
		if err := d.may(ctx, access.Remove, catalog.Address{Bucket: name, Key: k}); err != nil {
			return q, err
		}
		removals = append(removals, store.Removal{Key: k})
	}
	for _, n := range in.Versions {
		a, err := address(bucket, n.Key)
		if err != nil {
			return q, err
		}
		if err := d.may(ctx, access.Remove, a); err != nil {
			return q, err
		}
		id, err := object.ParseVersionID(n.Version)
		if err != nil {
			return q, err
		}
		removals = append(removals, store.Removal{Key: a.Key, ID: id})
		if !tells {
			q.Previous++
			continue
		}
		v, err := d.store.FindVersion(ctx, a, id)
		if err != nil {
			return q, err
		}
		if v.Marker {
			q.Markers++
		} else {
			q.Previous++
			q.PreviousBytes += v.Size
		}
	}
	if in.Prefix != nil {
		if err := object.CheckText("prefix", *in.Prefix); err != nil {
			return q, err
		}
		if err := d.mayAt(ctx, access.Remove, name, *in.Prefix); err != nil {
			return q, err
		}
	}
	if !tells {
		q.Objects = int64(len(in.Keys))
	} else if len(in.Keys) > 0 {
		objects, bytes, err := d.store.Catalog.CountKeys(ctx, f.ID, in.Keys)
		if err != nil {
			return q, err
		}
		q.Objects, q.Bytes = objects, bytes
	}
	add := func(u catalog.Usage) {
		q.Objects, q.Bytes, q.Previous, q.PreviousBytes, q.Markers = q.Objects+u.Objects, q.Bytes+u.Bytes, q.Previous+u.Previous, q.PreviousBytes+u.PreviousBytes, q.Markers+u.Markers
	}
	if in.Rehearse {
		if in.Prefix == nil {
			return q, nil
		}
		u, err := d.store.Catalog.CountAll(ctx, f.ID, *in.Prefix)
		if !in.WithVersions {
			u.Previous, u.PreviousBytes, u.Markers = 0, 0, 0
		}
		add(u)
		return q, err
	}
	if len(removals) > 0 {
		_, errs, err := d.store.RemoveMany(ctx, name, removals, author(ctx))
		if err := errors.Join(append(errs, err)...); err != nil {
			return q, err
		}
	}
	if in.Prefix != nil {
		step := d.store.RemoveUnder
		if in.WithVersions {
			step = d.store.PurgeUnder
		}
		c, err := step(ctx, name, *in.Prefix, 1000, author(ctx))
		if err != nil {
			return q, err
		}
		add(c.Usage)
		q.More = c.More
	}
	return q, nil
}
