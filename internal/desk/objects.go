package desk

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// ObjectInfo is what is known of an object.
type ObjectInfo struct {
	Key           string            `json:"key"`
	Size          int64             `json:"size"`
	Created       time.Time         `json:"created"`
	CreatedBy     string            `json:"createdBy" doc:"The access key that wrote it"`
	ETag          string            `json:"etag"`
	Digests       []DigestInfo      `json:"digests" doc:"Of the whole content"`
	ContentType   string            `json:"contentType"`
	Headers       object.Headers    `json:"headers,omitzero"`
	Metadata      map[string]string `json:"metadata,omitempty"`
	MetadataBytes int               `json:"metadataBytes" doc:"Of 2,048"`
	Revision      int               `json:"revision" doc:"Of the metadata"`
	Version       string            `json:"version" doc:"The version's id"`
	Tags          object.Tags       `json:"tags,omitempty"`
	Source        string            `json:"source,omitempty" doc:"The address it was written from"`
	Marker        bool              `json:"marker,omitempty" doc:"A delete marker: there is no content"`
	Tier          string            `json:"tier"`
	Arrived       string            `json:"arrived" doc:"Whole, or in how many parts"`
	Kept          string            `json:"kept" doc:"How the bytes lie on the volume"`
	Sealed        bool              `json:"sealed" doc:"The bytes are encrypted at rest"`
	Rights        []string          `json:"rights,omitempty" doc:"What who asks may do with the object, when it is shown: list, read, write, remove, settings"`
}

// DigestInfo is a digest of the whole content.
type DigestInfo struct {
	Kind  string `json:"kind"`
	Value string `json:"value" doc:"In hex"`
}

// objectInfo tells of a version; of one that came in parts also the SHA-256 of
// the whole, once it is worked out.
func (d *Desk) objectInfo(ctx context.Context, bucket object.BucketName, v *object.Version) ObjectInfo {
	o := describe(v)
	seen, err := d.veilFor(ctx, bucket)
	if err != nil {
		seen = veil{} // the bucket has just gone: less is told
	}
	o.CreatedBy, o.Source = seen.by(v.By), seen.from(v.By, v.Source)
	if o.Sealed = v.Body.Sealed(); v.Body.File < 0 {
		o.Sealed, _ = d.store.Catalog.PartsSealed(ctx, -v.Body.File) // the listing goes without when the database is away
		if sum, err := d.store.Catalog.Sum(ctx, v.Body); err == nil && sum != nil {
			o.Digests = append(o.Digests, DigestInfo{digest.SHA256.String(), hex.EncodeToString(sum)})
		}
	}
	return o
}

func describe(v *object.Version) ObjectInfo {
	o := ObjectInfo{Key: v.Key.String(), Size: v.Size, Created: v.Created, CreatedBy: v.By, ETag: v.ETag.String(), ContentType: v.Headers.ContentType,
		Headers: v.Headers, Metadata: v.Metadata.Decoded(), MetadataBytes: v.Metadata.Size(), Revision: v.Revision, Version: v.ID().String(), Tags: v.Tags, Source: v.Source, Marker: v.Marker, Tier: "main", Arrived: "whole",
		Digests: []DigestInfo{{"CRC-64/NVME", fmt.Sprintf("%016x", v.CRC64)}}}
	if v.ETag.Parts == 0 {
		o.Digests = append(o.Digests, DigestInfo{"MD5", hex.EncodeToString(v.ETag.MD5[:])})
	} else {
		o.Arrived = fmt.Sprintf("in %d parts", v.ETag.Parts)
	}
	if k := v.Checksum.Kind; k != digest.None && k != digest.CRC64NVME && !v.PartSums {
		o.Digests = append(o.Digests, DigestInfo{k.String(), hex.EncodeToString(v.Checksum.Bytes)})
	}
	switch {
	case v.Marker:
		o.Digests, o.ETag = []DigestInfo{}, ""
	case v.Body.File == 0:
		o.Kept = "no bytes to keep"
	case v.Body.File < 0:
		o.Kept = fmt.Sprintf("in %d pieces, as it came", v.ETag.Parts)
	case v.Body.Offset < 0:
		o.Kept = "a file of its own"
	default:
		o.Kept = "in a segment, checked on every read"
	}
	return o
}

// ListedObject is an object in a page.
type ListedObject struct {
	Key         string            `json:"key"`
	Size        int64             `json:"size"`
	Created     time.Time         `json:"created"`
	ETag        string            `json:"etag"`
	CRC64       string            `json:"crc64" doc:"CRC-64/NVME of the content, in hex"`
	ContentType string            `json:"contentType,omitempty"`
	By          string            `json:"by"`
	Version     string            `json:"version"`
	Metadata    map[string]string `json:"metadata,omitempty"`
}

// ObjectPage is a page of a bucket in byte order of keys.
type ObjectPage struct {
	Objects  []ListedObject           `json:"objects"`
	Prefixes []string                 `json:"prefixes" doc:"What the delimiter folds"`
	Usage    map[string]catalog.Usage `json:"usage,omitempty" doc:"Beneath each of the prefixes, as of the roll-up a second ago"`
	Rights   []string                 `json:"rights" doc:"What who asks may do beneath the prefix: list, read, write, remove, settings"`
	Next     string                   `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end. As of a moment a page can be empty and have a next"`
}

func (d *Desk) objectCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-objects", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}/objects", Summary: "List objects by key", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Prefix    string `query:"prefix"`
			Delimiter string `query:"delimiter"`
			After     string `query:"after" doc:"A key or folded prefix; exclusive"`
			Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
			Metadata  bool   `query:"metadata" doc:"With each object's metadata"`
			AsOf      string `query:"asOf" maxLength:"64" doc:"How the bucket stood at this moment, RFC 3339"`
		}) (*struct{ Body ObjectPage }, error) {
			page, err := d.list(ctx, in.Bucket, catalog.Listing{Prefix: in.Prefix, Delimiter: in.Delimiter, After: in.After, Max: in.Limit, Full: in.Metadata}, in.AsOf)
			if err != nil {
				return nil, d.problem(err)
			}
			if page.Rights, err = d.reach(ctx, in.Bucket, in.Prefix); err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectPage }{*page}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "show-object", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}/object", Summary: "Show an object", Tags: []string{"objects"}},
		func(ctx context.Context, in *VersionIn) (*struct{ Body ObjectInfo }, error) {
			v, a, err := d.findVersion(ctx, in.Bucket, in.Key, in.Version, in.AsOf)
			if err != nil {
				return nil, d.problem(err)
			}
			info := d.objectInfo(ctx, a.Bucket, v)
			if info.Rights, err = d.reach(ctx, in.Bucket, in.Key); err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectInfo }{info}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "copy-object", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/copy", Summary: "Copy or rename an object into this bucket", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				FromBucket  string `json:"fromBucket"`
				FromKey     string `json:"fromKey"`
				FromVersion string `json:"fromVersion,omitempty" doc:"A version's id; the current one otherwise"`
				Key         string `json:"key"`
				Move        bool   `json:"move,omitempty" doc:"Remove the source in the same transaction"`
				IfAbsent    bool   `json:"ifAbsent,omitempty" doc:"Refuse when the target is there"`
			}
		}) (*struct{ Body ObjectInfo }, error) {
			v, err := d.copyObject(ctx, in.Body.FromBucket, in.Body.FromKey, in.Body.FromVersion, in.Bucket, in.Body.Key, in.Body.Move, in.Body.IfAbsent)
			if err != nil {
				return nil, d.problem(err)
			}
			to, err := object.ParseBucketName(in.Bucket)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectInfo }{d.objectInfo(ctx, to, v)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "link-object", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/link", Summary: "Make a link to an object that holds for a while", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			HostIn
			BucketPath
			Body struct {
				Key     string `json:"key"`
				Seconds int    `json:"seconds" minimum:"1" maximum:"604800" default:"3600"`
				With    string `json:"with,omitempty" maxLength:"128" doc:"The key that signs the link, when a person asks: one of the account's that may read the object"`
			}
		}) (*struct {
			Body struct {
				URL     string    `json:"url"`
				Expires time.Time `json:"expires"`
			}
		}, error) {
			a, err := address(in.Bucket, in.Body.Key)
			if err == nil {
				err = d.may(ctx, access.Read, a)
			}
			if err == nil {
				_, _, err = d.find(ctx, in.Bucket, in.Body.Key)
			}
			if err != nil {
				return nil, d.problem(err)
			}
			holds := time.Duration(in.Body.Seconds) * time.Second
			k, err := d.linkKey(ctx, a, in.Body.With, holds)
			if err != nil {
				return nil, d.problem(err)
			}
			c, err := client.New(d.wireInfo(in.host).URL, d.store.Region, sign.Credential{ID: k.ID, Secret: k.Secret})
			if err != nil {
				return nil, d.problem(err)
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
		})
}

func address(bucket, key string) (a catalog.Address, err error) {
	if a.Bucket, err = object.ParseBucketName(bucket); err != nil {
		return a, err
	}
	a.Key, err = object.ParseKey(key)
	return a, err
}

// VersionIn names an object, or a version of it.
type VersionIn struct {
	BucketPath
	Key     string `query:"key" required:"true"`
	Version string `query:"version" maxLength:"64" doc:"A version's id; the current one otherwise"`
	AsOf    string `query:"asOf" maxLength:"64" doc:"The version that was current at this moment, RFC 3339, with the metadata of then"`
}

// moment reads a moment as programs write it.
func moment(s string) (time.Time, error) { return object.ParseMoment(s, time.Now().UTC()) }

// find gives the current version of an object.
func (d *Desk) find(ctx context.Context, bucket, key string) (*object.Version, catalog.Address, error) {
	return d.findVersion(ctx, bucket, key, "", "")
}

// findVersion gives a version; what turns out to be a prefix is said to be one.
func (d *Desk) findVersion(ctx context.Context, bucket, key, version, asOf string) (*object.Version, catalog.Address, error) {
	v, a, err := d.findVersion1(ctx, bucket, key, version, asOf)
	return v, a, d.hideMissing(ctx, a, err)
}

func (d *Desk) findVersion1(ctx context.Context, bucket, key, version, asOf string) (*object.Version, catalog.Address, error) {
	a, err := address(bucket, key)
	if err != nil {
		return nil, a, err
	}
	switch {
	case version != "" && asOf != "":
		return nil, a, fault.New(fault.Invalid, "version-or-moment", "a version is named, and a moment too").In("version").Do("give one of them")
	case version != "":
		id, err := object.ParseVersionID(version)
		if err != nil {
			return nil, a, err
		}
		v, err := d.store.FindVersion(ctx, a, id)
		return v, a, err
	case asOf != "":
		at, err := moment(asOf)
		if err != nil {
			return nil, a, err
		}
		v, err := d.store.FindAsOf(ctx, a, at)
		return v, a, err
	}
	v, err := d.store.Find(ctx, a)
	if !fault.HasCode(err, "key-missing") {
		return v, a, err
	}
	prefix := strings.TrimSuffix(key, "/") + "/"
	page, _, lerr := d.store.List(ctx, a.Bucket, catalog.Listing{Prefix: prefix, Max: 1})
	if lerr != nil {
		return nil, a, lerr
	}
	if len(page) > 0 {
		return nil, a, fault.New(fault.NotFound, "key-is-prefix", "%q is no object but a prefix: objects lie beneath it, the first is %q", key, page[0].Name()).
			In("key").Do("list %s/%s to see them", bucket, prefix)
	}
	return nil, a, err
}

func (d *Desk) list(ctx context.Context, bucket string, l catalog.Listing, asOf string) (*ObjectPage, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	for field, v := range map[string]string{"prefix": l.Prefix, "delimiter": l.Delimiter, "after": l.After} {
		if err := object.CheckText(field, v); err != nil {
			return nil, err
		}
	}
	var entries []catalog.Entry
	var next string
	if asOf != "" {
		at, err := moment(asOf)
		if err != nil {
			return nil, err
		}
		if entries, next, err = d.store.ListAsOf(ctx, name, l, at); err != nil {
			return nil, err
		}
	} else {
		var more bool
		if entries, more, err = d.store.List(ctx, name, l); err != nil {
			return nil, err
		}
		if more && len(entries) > 0 {
			next = entries[len(entries)-1].Name()
		}
	}
	seen, err := d.veilFor(ctx, name)
	if err != nil {
		return nil, err
	}
	p := &ObjectPage{Objects: []ListedObject{}, Prefixes: []string{}}
	for _, e := range entries {
		v := e.Version
		if v == nil {
			p.Prefixes = append(p.Prefixes, e.Prefix)
			continue
		}
		o := ListedObject{Key: v.Key.String(), Size: v.Size, Created: v.Created, ETag: v.ETag.String(), CRC64: fmt.Sprintf("%016x", v.CRC64), ContentType: v.Headers.ContentType, By: seen.by(v.By), Version: v.ID().String()}
		if l.Full {
			o.Metadata = v.Metadata.Decoded()
		}
		p.Objects = append(p.Objects, o)
	}
	p.Next = next
	if len(p.Prefixes) > 0 && l.Delimiter == "/" && asOf == "" {
		f, err := d.store.Bucket(ctx, name)
		if err != nil {
			return nil, err
		}
		if p.Usage, err = d.store.Catalog.UsageOf(ctx, f.ID, p.Prefixes); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (d *Desk) copyObject(ctx context.Context, fromBucket, fromKey, fromVersion, bucket, key string, move, ifAbsent bool) (*object.Version, error) {
	from, err := address(fromBucket, fromKey)
	if err != nil {
		return nil, err
	}
	reads := access.Read
	if move {
		reads |= access.Remove
	}
	if err := d.may(ctx, reads, from); err != nil {
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
	to, err := address(bucket, key)
	if err == nil {
		err = d.may(ctx, access.Write, to)
	}
	if err != nil {
		return nil, err
	}
	if ifAbsent {
		if err := d.mayAskOf(ctx, to); err != nil {
			return nil, err
		}
	}
	return d.store.Copy(ctx, store.Copy{From: from, FromID: id, To: to, Author: author(ctx), Move: move, IfAbsent: ifAbsent})
}

// download sends an object's bytes to the console. Nothing of it is shown by
// the browser: the bytes are anybody's.
func (d *Desk) download(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	a, err := address(chi.URLParam(r, "bucket"), query.Get("key"))
	if err == nil {
		err = d.may(r.Context(), access.Read, a)
	}
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	v, a, err := d.findVersion(r.Context(), chi.URLParam(r, "bucket"), query.Get("key"), query.Get("version"), query.Get("asOf"))
	if err == nil && v.Marker {
		err = fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content").In("version").Do("name another version; the key's history lists them")
	}
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	body, v, err := d.store.Open(r.Context(), a, v)
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	defer body.Close()
	name := path.Base(v.Key.String())
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": strings.Map(printable, name)}))
	h.Set("Content-Length", strconv.FormatInt(v.Size, 10))
	h.Set("Cache-Control", "private, no-store")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	if err := body.Prepare(r.Context(), 0, v.Size); err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	w.WriteHeader(http.StatusOK)
	again := d.again(r.Context(), access.Read, a)
	if err := body.Send(w, 0, v.Size, func() {
		if again() != nil {
			panic(http.ErrAbortHandler) // what is left of it may not be read any more
		}
	}); err != nil {
		d.log.Debug("a download broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
}

func printable(r rune) rune {
	if r < ' ' || r == 0x7f || r == '/' || r == '\\' || r == '"' {
		return '_'
	}
	return r
}

// upload takes an object's bytes from the console, or of a length that nobody
// knows yet from the command line.
func (d *Desk) upload(w http.ResponseWriter, r *http.Request) {
	a, err := address(chi.URLParam(r, "bucket"), r.URL.Query().Get("key"))
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	if err := d.may(r.Context(), access.Write, a); err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	ifAbsent := r.URL.Query().Get("ifAbsent") == "true"
	if ifAbsent {
		if err := d.mayAskOf(r.Context(), a); err != nil {
			writeProblem(w, d.problem(err))
			return
		}
	}
	meta, tags, err := uploadFields(r)
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	put := store.Put{Address: a, Author: author(r.Context()), Size: r.ContentLength, Headers: object.Headers{ContentType: r.Header.Get("Content-Type")},
		Body: d.guarded(r, access.Write, a), IfAbsent: ifAbsent, Metadata: meta, Tags: tags}
	v, err := d.store.Put(r.Context(), put)
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	writeJSON(w, http.StatusCreated, d.objectInfo(r.Context(), a.Bucket, v))
}

// guarded gives the body of a call for as long as it may still be written. It has
// to arrive at the least rate of the door.
func (d *Desk) guarded(r *http.Request, do access.Rights, a catalog.Address) io.Reader {
	return again{r.Body, d.again(r.Context(), do, a)}
}

// again asks before each read whether it may go on.
type again struct {
	r   io.Reader
	may func() error
}

func (a again) Read(b []byte) (int, error) {
	if err := a.may(); err != nil {
		return 0, err
	}
	n, err := a.r.Read(b)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fault.New(fault.Invalid, "size-mismatch", "the body ended before the length that was declared").In("body").Do("send the whole body").Because(err)
	}
	return n, err
}

// UploadFields is the header in which an upload carries metadata and tags: a
// JSON object with either, in base64.
const UploadFields = "Spindle-Fields"

func uploadFields(r *http.Request) (object.Metadata, object.Tags, error) {
	v := r.Header.Get(UploadFields)
	if v == "" {
		return nil, nil, nil
	}
	var in struct{ Metadata, Tags map[string]string }
	raw, err := base64.StdEncoding.DecodeString(v)
	if err == nil {
		err = json.Unmarshal(raw, &in)
	}
	if err != nil {
		return nil, nil, fault.New(fault.Invalid, "upload-fields", "the header is no JSON object in base64").In(UploadFields).Because(err)
	}
	meta, err := object.NewMetadata(in.Metadata)
	if err != nil {
		return nil, nil, err
	}
	tags, err := object.NewTags(in.Tags, object.MaxTags)
	return meta, tags, err
}
