package desk

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
)

// BucketInfo is a bucket with its settings and usage.
type BucketInfo struct {
	Name       string        `json:"name"`
	Account    string        `json:"account" doc:"The account that owns it"`
	Region     string        `json:"region"`
	Created    time.Time     `json:"created"`
	CreatedBy  string        `json:"createdBy" doc:"The access key that made it"`
	Quota      *int64        `json:"quota" doc:"Bytes; null for none"`
	Versioning string        `json:"versioning" enum:"off" doc:"Whether previous versions are kept"`
	Usage      catalog.Usage `json:"usage"`
}

func bucketInfo(b *catalog.Bucket) BucketInfo {
	return BucketInfo{Name: b.Name.String(), Account: b.Account, Region: b.Region, Created: b.Created, CreatedBy: b.CreatedBy, Quota: b.Quota, Versioning: "off", Usage: b.Usage}
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
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
	More    bool  `json:"more,omitempty" doc:"There is more to do: call again"`
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

func (d *Desk) bucketCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-buckets", Method: http.MethodGet, Path: "/api/v1/buckets", Summary: "List buckets by name", Tags: []string{"buckets"}},
		func(ctx context.Context, in *struct {
			After string `query:"after" maxLength:"64"`
			Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*struct{ Body BucketPage }, error) {
			page, err := d.store.Catalog.Buckets(ctx, in.After, in.Limit+1)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &struct{ Body BucketPage }{BucketPage{Buckets: []BucketInfo{}}}
			for i, b := range page {
				if i == in.Limit {
					out.Body.Next = page[i-1].Name.String()
					break
				}
				out.Body.Buckets = append(out.Body.Buckets, bucketInfo(b))
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "create-bucket", Method: http.MethodPost, Path: "/api/v1/buckets", Summary: "Create a bucket", Tags: []string{"buckets"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Name  string `json:"name" maxLength:"256"`
				Quota *int64 `json:"quota,omitempty" doc:"Bytes"`
			}
		}) (*bucketOut, error) {
			name, err := object.ParseBucketName(in.Body.Name)
			if err != nil {
				return nil, d.problem(err)
			}
			if err := d.store.CreateBucket(ctx, name, who(ctx).key.Account, "", in.Body.Quota, author(ctx)); err != nil {
				return nil, d.problem(err)
			}
			return d.bucket(ctx, name.String())
		})
	huma.Register(api, huma.Operation{OperationID: "show-bucket", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}", Summary: "Show a bucket", Tags: []string{"buckets"}},
		func(ctx context.Context, in *BucketPath) (*bucketOut, error) { return d.bucket(ctx, in.Bucket) })
	huma.Register(api, huma.Operation{OperationID: "change-bucket", Method: http.MethodPatch, Path: "/api/v1/buckets/{bucket}", Summary: "Change a bucket's settings", Tags: []string{"buckets"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				Quota optionalQuota `json:"quota,omitempty" required:"false"`
			}
		}) (*bucketOut, error) {
			name, err := object.ParseBucketName(in.Bucket)
			if err != nil {
				return nil, d.problem(err)
			}
			if in.Body.Quota.given {
				if err := d.store.SetQuota(ctx, name, in.Body.Quota.value, author(ctx)); err != nil {
					return nil, d.problem(err)
				}
			}
			return d.bucket(ctx, in.Bucket)
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
			return nil, nil
		})
	huma.Register(api, huma.Operation{OperationID: "remove-objects", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/remove", Summary: "Remove keys, or all beneath a prefix, or rehearse it",
		Description: "With rehearse, says what would go. Otherwise removes the keys, and the next objects beneath the prefix, at most 1,000 a call: call again while more is true. Safe to stop and repeat.", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				Keys     []string `json:"keys,omitempty" maxItems:"1000"`
				Prefix   *string  `json:"prefix,omitempty" doc:"All beneath it; empty for the whole bucket; absent for none"`
				Rehearse bool     `json:"rehearse,omitempty"`
			}
		}) (*quantityOut, error) {
			q, err := d.removeObjects(ctx, in.Bucket, in.Body.Keys, in.Body.Prefix, in.Body.Rehearse)
			if err != nil {
				return nil, d.problem(err)
			}
			return &quantityOut{q}, nil
		})
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
	return &bucketOut{bucketInfo(b)}, nil
}

func (d *Desk) removeObjects(ctx context.Context, bucket string, names []string, prefix *string, rehearse bool) (q Quantity, err error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return q, err
	}
	f, err := d.store.Catalog.Facts(ctx, name)
	if err != nil {
		return q, err
	}
	keys := make([]object.Key, 0, len(names))
	for _, n := range names {
		k, err := object.ParseKey(n)
		if err != nil {
			return q, err
		}
		keys = append(keys, k)
		v, err := d.store.Catalog.Lookup(ctx, catalog.Address{Bucket: name, Key: k})
		if err != nil {
			return q, err
		}
		if v.Version != nil {
			q.Objects++
			q.Bytes += v.Version.Size
		}
	}
	if prefix != nil {
		if err := object.CheckText("prefix", *prefix); err != nil {
			return q, err
		}
	}
	if rehearse {
		if prefix != nil {
			objects, bytes, err := d.store.Catalog.Count(ctx, f.ID, *prefix)
			if err != nil {
				return q, err
			}
			q.Objects += objects
			q.Bytes += bytes
		}
		return q, nil
	}
	if len(keys) > 0 {
		failed, err := d.store.RemoveMany(ctx, name, keys, author(ctx))
		if err != nil {
			return q, err
		}
		for _, err := range failed {
			return q, err
		}
	}
	if prefix != nil {
		c, err := d.store.RemoveUnder(ctx, name, *prefix, 1000, author(ctx))
		if err != nil {
			return q, err
		}
		q.Objects += c.Objects
		q.Bytes += c.Bytes
		q.More = c.More
	}
	return q, nil
}
