package objects

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// objectInfo tells of a version; of one that came in parts also the SHA-256 of
// the whole, once it is worked out.
func (d *Desk) objectInfo(ctx context.Context, in object.BucketName, v *object.Version) api.ObjectInfo {
	o := describe(v)
	o.Tier = d.house.TierName(ctx, v)
	seen, err := d.VeilFor(ctx, in)
	if err != nil {
		seen = middle.Veil{} // the bucket has just gone: less is told
	}
	if o.Lacks, err = d.Store.Lacks(ctx, in, v); err != nil {
		d.Log.Debug("it is not told what an object lacks", "error", err)
	}
	o.CreatedBy, o.Source = seen.By(v.By), seen.From(v.By, v.Source)
	if o.Sealed = v.Body.Sealed(); v.Body.File < 0 {
		o.Sealed, _ = d.Store.Catalog.PartsSealed(ctx, -v.Body.File) // the listing goes without when the database is away
		if sum, err := d.Store.Catalog.Sum(ctx, v.Body); err == nil && sum != nil {
			o.Digests = append(o.Digests, api.DigestInfo{Kind: digest.SHA256.String(), Value: hex.EncodeToString(sum)})
		}
	}
	return o
}

func describe(v *object.Version) api.ObjectInfo {
	o := api.ObjectInfo{Key: v.Key.String(), Size: v.Size, Created: v.Created, CreatedBy: v.By, ETag: v.ETag.String(),
		ContentType: v.Headers.ContentType,
		Headers:     v.Headers, Metadata: v.Metadata, MetadataBytes: v.Metadata.Size(), Revision: v.Revision,
		Version: v.ID().String(), Tags: v.Tags, Source: v.Source, Marker: v.Marker, Arrived: "whole",
		Digests: []api.DigestInfo{{Kind: api.CRC64NVME, Value: fmt.Sprintf("%016x", v.CRC64)}}}
	if v.ETag.Parts == 0 {
		o.Digests = append(o.Digests, api.DigestInfo{Kind: "MD5", Value: hex.EncodeToString(v.ETag.MD5[:])})
	} else {
		o.Arrived = fmt.Sprintf("in %d parts", v.ETag.Parts)
	}
	if k := v.Checksum.Kind; k != digest.None && k != digest.CRC64NVME && !v.PartSums {
		o.Digests = append(o.Digests, api.DigestInfo{Kind: k.String(), Value: hex.EncodeToString(v.Checksum.Bytes)})
	}
	switch {
	case v.Marker:
		o.Digests, o.ETag = []api.DigestInfo{}, ""
	case v.Body.File == 0:
		o.Kept = "no bytes to keep"
	case v.Body.File < 0:
		o.Kept = fmt.Sprintf("in %d pieces, as it came", v.ETag.Parts)
	case v.Body.Offset == object.Pieced:
		o.Kept = "in pieces on several volumes, checked on every read"
	case v.Body.Offset == object.Framed:
		o.Kept = "a file of its own, in frames that are checked on every read"
	case v.Body.Offset < 0:
		o.Kept = "a file of its own"
	default:
		o.Kept = "in a segment, checked on every read"
	}
	return o
}

func (d *Desk) objectCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnPrefix}, "list-objects", "GET /buckets/{bucket}/objects", "objects",
		"List objects by key", d.listObjects)
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnKey}, "show-object", "GET /buckets/{bucket}/object", "objects",
		"Show an object", d.showObject)
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnBucket}, "copy-object", "POST /buckets/{bucket}/copy", "objects",
		"Copy or rename an object into this bucket", d.copyObjectCall)
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnBucket}, "link-object", "POST /buckets/{bucket}/link", "objects",
		"Make a link to an object that holds for a while", d.linkObject)
}

// VersionIn names an object, or a version of it.
type VersionIn struct {
	middle.BucketPath
	Key     string `query:"key" required:"true"`
	Version string `query:"version" maxLength:"64" doc:"A version's id; the current one otherwise"`
	AsOf    string `query:"asOf" maxLength:"64" doc:"The version that was current at this moment, RFC 3339, with the metadata of then"`
}

// find gives the current version of an object.
func (d *Desk) find(ctx context.Context, bucket, key string) (*object.Version, catalog.Address, error) {
	return d.findVersion(ctx, bucket, key, "", "")
}

// findVersion gives a version; what turns out to be a prefix is said to be one.
func (d *Desk) findVersion(ctx context.Context, bucket, key, version, asOf string) (*object.Version, catalog.Address,
	error) {
	v, a, err := d.lookForVersion(ctx, bucket, key, version, asOf)
	return v, a, d.HideMissing(ctx, a, err)
}

func (d *Desk) lookForVersion(ctx context.Context, bucket, key, version, asOf string) (*object.Version, catalog.Address,
	error) {
	a, err := middle.Address(bucket, key)
	if err != nil {
		return nil, a, err
	}
	switch {
	case version != "" && asOf != "":
		return nil, a, fault.New(fault.Invalid, "version-or-moment", "a version is named, and a moment too").In("version").
			Do("give one of them")
	case version != "":
		id, err := object.ParseVersionID(version)
		if err != nil {
			return nil, a, err
		}
		v, err := d.Store.FindVersion(ctx, a, id)
		return v, a, err
	case asOf != "":
		at, err := middle.Moment(asOf)
		if err != nil {
			return nil, a, err
		}
		v, err := d.Store.FindAsOf(ctx, a, at)
		return v, a, err
	}
	v, err := d.Store.Find(ctx, a)
	if !fault.HasCode(err, "key-missing") {
		return v, a, err
	}
	prefix := strings.TrimSuffix(key, "/") + "/"
	page, _, lerr := d.Store.List(ctx, a.Bucket, catalog.Listing{Prefix: prefix, Max: 1})
	if lerr != nil {
		return nil, a, lerr
	}
	if len(page) > 0 {
		return nil, a, fault.New(fault.NotFound, "key-is-prefix",
			"%q is no object but a prefix: objects lie beneath it, the first is %q", key, page[0].Name()).
			In("key").Do("list %s/%s to see them", bucket, prefix)
	}
	return nil, a, err
}

func (d *Desk) copyObject(ctx context.Context, fromBucket, fromKey, fromVersion, bucket, key, in string, move,
	ifAbsent bool) (*object.Version, error) {
	from, err := middle.Address(fromBucket, fromKey)
	if err != nil {
		return nil, err
	}
	reads := access.Read
	if move {
		reads |= access.Remove
	}
	if err := d.May(ctx, reads, from); err != nil {
		return nil, err
	}
	if _, _, err = d.findVersion(ctx, fromBucket, fromKey, fromVersion, ""); err != nil {
		return nil, err
	}
	id := object.Current
	if fromVersion != "" {
		if id, err = object.ParseVersionID(fromVersion); err != nil {
			return nil, err
		}
	}
	to, err := middle.Address(bucket, key)
	if err == nil {
		err = d.May(ctx, access.Write, to)
	}
	if err != nil {
		return nil, err
	}
	if ifAbsent {
		if err := d.MayAskOf(ctx, to); err != nil {
			return nil, err
		}
	}
	return d.Store.Copy(ctx, store.Copy{From: from, FromID: id, To: to, Author: middle.Author(ctx), Move: move, Tier: in,
		IfAbsent: ifAbsent})
}

func (d *Desk) showObject(ctx context.Context, in *struct {
	VersionIn
	Look bool `query:"look" doc:"Look whether its bytes are here; the digest of a large one is not compared"`
}) (*struct{ Body api.ObjectInfo }, error) {
	v, a, err := d.findVersion(ctx, in.Bucket, in.Key, in.Version, in.AsOf)
	if err != nil {
		return nil, err
	}
	info := d.objectInfo(ctx, a.Bucket, v)
	if info.Rights, err = d.access.Reach(ctx, in.Bucket, in.Key); err != nil {
		return nil, err
	}
	f, err := d.Store.Bucket(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	restored, err := d.Store.RestoreState(ctx, f.ID, v)
	if err != nil {
		return nil, err
	}
	info.Restored = house.RestoredInfo(restored)
	if in.Version == "" && in.AsOf == "" && f.Account == middle.Who(ctx).Subject.Account {
		copies, err := d.jobs.ReplicasOf(ctx, a)
		if err != nil {
			return nil, err
		}
		info.Of, info.Replicas = copies.Of, copies.Replicas
	}
	if in.Look && !v.Marker {
		if info.Problem, err = d.lookAt(ctx, a, v); err != nil {
			return nil, err
		}
	}
	return &struct{ Body api.ObjectInfo }{info}, nil
}

func (d *Desk) copyObjectCall(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.CopyAsk
}) (*struct{ Body api.ObjectInfo }, error) {
	v, err := d.copyObject(ctx, in.Body.FromBucket, in.Body.FromKey, in.Body.FromVersion, in.Bucket, in.Body.Key,
		in.Body.Tier, in.Body.Move, in.Body.IfAbsent)
	if err != nil {
		return nil, err
	}
	to, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.ObjectInfo }{d.objectInfo(ctx, to, v)}, nil
}

func (d *Desk) linkObject(ctx context.Context, in *struct {
	middle.HostIn
	middle.BucketPath
	Body api.LinkAsk
}) (*struct {
	Body struct {
		URL     string    `json:"url"`
		Expires time.Time `json:"expires"`
	}
}, error) {
	a, err := middle.Address(in.Bucket, in.Body.Key)
	if err == nil {
		err = d.May(ctx, access.Read, a)
	}
	if err == nil {
		_, _, err = d.find(ctx, in.Bucket, in.Body.Key)
	}
	if err != nil {
		return nil, err
	}
	holds := time.Duration(in.Body.Seconds) * time.Second
	k, err := d.access.LinkKey(ctx, a, in.Body.With, holds)
	if err != nil {
		return nil, err
	}
	c, err := client.New(d.WireInfo(in.Host).URL, d.Store.Region, sign.Credential{ID: k.ID, Secret: k.Secret})
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			URL     string    `json:"url"`
			Expires time.Time `json:"expires"`
		}
	}{}
	out.Body.URL = c.Presign(http.MethodGet, in.Bucket, in.Body.Key, holds)
	out.Body.Expires = time.Now().UTC().Add(holds).Truncate(time.Second)
	return out, nil
}
