package desk

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"spindle/internal/catalog"
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
	Version       int64             `json:"version"`
	Tier          string            `json:"tier"`
	Arrived       string            `json:"arrived" doc:"Whole, or in how many parts"`
	Kept          string            `json:"kept" doc:"How the bytes lie on the volume"`
}

// DigestInfo is a digest of the whole content.
type DigestInfo struct {
	Kind  string `json:"kind"`
	Value string `json:"value" doc:"In hex"`
}

func objectInfo(v *object.Version) ObjectInfo {
	o := ObjectInfo{Key: v.Key.String(), Size: v.Size, Created: v.Created, CreatedBy: v.By, ETag: v.ETag.String(), ContentType: v.Headers.ContentType,
		Headers: v.Headers, Metadata: v.Metadata.Decoded(), MetadataBytes: v.Metadata.Size(), Revision: v.Revision, Version: v.Number, Tier: "main", Arrived: "whole",
		Digests: []DigestInfo{{"CRC-64/NVME", fmt.Sprintf("%016x", v.CRC64)}}}
	if v.ETag.Parts == 0 {
		o.Digests = append(o.Digests, DigestInfo{"MD5", hex.EncodeToString(v.ETag.MD5[:])})
	} else {
		o.Arrived = fmt.Sprintf("in %d parts", v.ETag.Parts)
	}
	if k := v.Checksum.Kind; k != digest.None && k != digest.CRC64NVME {
		o.Digests = append(o.Digests, DigestInfo{k.String(), hex.EncodeToString(v.Checksum.Bytes)})
	}
	switch {
	case v.Body.File == 0:
		o.Kept = "no bytes to keep"
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
	Metadata    map[string]string `json:"metadata,omitempty"`
}

// ObjectPage is a page of a bucket in byte order of keys.
type ObjectPage struct {
	Objects  []ListedObject `json:"objects"`
	Prefixes []string       `json:"prefixes" doc:"What the delimiter folds"`
	Next     string         `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
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
		}) (*struct{ Body ObjectPage }, error) {
			page, err := d.list(ctx, in.Bucket, catalog.Listing{Prefix: in.Prefix, Delimiter: in.Delimiter, After: in.After, Max: in.Limit, Full: in.Metadata})
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectPage }{*page}, nil
		})
	type KeyIn struct {
		BucketPath
		Key string `query:"key" required:"true"`
	}
	huma.Register(api, huma.Operation{OperationID: "show-object", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}/object", Summary: "Show an object", Tags: []string{"objects"}},
		func(ctx context.Context, in *KeyIn) (*struct{ Body ObjectInfo }, error) {
			v, _, err := d.find(ctx, in.Bucket, in.Key)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectInfo }{objectInfo(v)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "copy-object", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/copy", Summary: "Copy or rename an object into this bucket", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				FromBucket string `json:"fromBucket"`
				FromKey    string `json:"fromKey"`
				Key        string `json:"key"`
				Move       bool   `json:"move,omitempty" doc:"Remove the source in the same transaction"`
				IfAbsent   bool   `json:"ifAbsent,omitempty" doc:"Refuse when the target is there"`
			}
		}) (*struct{ Body ObjectInfo }, error) {
			v, err := d.copyObject(ctx, in.Body.FromBucket, in.Body.FromKey, in.Bucket, in.Body.Key, in.Body.Move, in.Body.IfAbsent)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body ObjectInfo }{objectInfo(v)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "link-object", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/link", Summary: "Make a link to an object that holds for a while", Tags: []string{"objects"}},
		func(ctx context.Context, in *struct {
			HostIn
			BucketPath
			Body struct {
				Key     string `json:"key"`
				Seconds int    `json:"seconds" minimum:"1" maximum:"604800" default:"3600"`
			}
		}) (*struct {
			Body struct {
				URL     string    `json:"url"`
				Expires time.Time `json:"expires"`
			}
		}, error) {
			if _, _, err := d.find(ctx, in.Bucket, in.Body.Key); err != nil {
				return nil, d.problem(err)
			}
			k := who(ctx).key
			c, err := client.New(d.wireInfo(in.host).URL, d.store.Region, sign.Credential{ID: k.ID, Secret: k.Secret})
			if err != nil {
				return nil, d.problem(err)
			}
			holds := time.Duration(in.Body.Seconds) * time.Second
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

// find gives an object; what turns out to be a prefix is said to be one.
func (d *Desk) find(ctx context.Context, bucket, key string) (*object.Version, catalog.Address, error) {
	a, err := address(bucket, key)
	if err != nil {
		return nil, a, err
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

func (d *Desk) list(ctx context.Context, bucket string, l catalog.Listing) (*ObjectPage, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	for field, v := range map[string]string{"prefix": l.Prefix, "delimiter": l.Delimiter, "after": l.After} {
		if err := object.CheckText(field, v); err != nil {
			return nil, err
		}
	}
	entries, more, err := d.store.List(ctx, name, l)
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
		o := ListedObject{Key: v.Key.String(), Size: v.Size, Created: v.Created, ETag: v.ETag.String(), CRC64: fmt.Sprintf("%016x", v.CRC64), ContentType: v.Headers.ContentType, By: v.By}
		if l.Full {
			o.Metadata = v.Metadata.Decoded()
		}
		p.Objects = append(p.Objects, o)
	}
	if more && len(entries) > 0 {
		p.Next = entries[len(entries)-1].Name()
	}
	return p, nil
}

func (d *Desk) copyObject(ctx context.Context, fromBucket, fromKey, bucket, key string, move, ifAbsent bool) (*object.Version, error) {
	_, from, err := d.find(ctx, fromBucket, fromKey)
	if err != nil {
		return nil, err
	}
	to, err := address(bucket, key)
	if err != nil {
		return nil, err
	}
	return d.store.Copy(ctx, store.Copy{From: from, To: to, Author: author(ctx), Move: move, IfAbsent: ifAbsent})
}

// download sends an object's bytes to the console. Nothing of it is shown by
// the browser: the bytes are anybody's.
func (d *Desk) download(w http.ResponseWriter, r *http.Request) {
	v, a, err := d.find(r.Context(), chi.URLParam(r, "bucket"), r.URL.Query().Get("key"))
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
	w.WriteHeader(http.StatusOK)
	rc := http.NewResponseController(w)
	if err := body.Send(w, 0, v.Size, func() { _ = rc.SetWriteDeadline(time.Now().Add(2 * time.Minute)) }); err != nil {
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
	rc := http.NewResponseController(w)
	put := store.Put{Address: a, Author: author(r.Context()), Size: r.ContentLength, Headers: object.Headers{ContentType: r.Header.Get("Content-Type")},
		Body: patient{r.Body, rc}, IfAbsent: r.URL.Query().Get("ifAbsent") == "true"}
	v, err := d.store.Put(r.Context(), put)
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	writeJSON(w, http.StatusCreated, objectInfo(v))
}

// patient gives every read of a body half a minute.
type patient struct {
	r  io.Reader
	rc *http.ResponseController
}

func (p patient) Read(b []byte) (int, error) {
	_ = p.rc.SetReadDeadline(time.Now().Add(30 * time.Second))
	n, err := p.r.Read(b)
	var ne net.Error
	if errors.As(err, &ne) && ne.Timeout() {
		err = fault.New(fault.Slow, "slow", "the body did not arrive in time").In("body").Do("send it again").Because(err)
	} else if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fault.New(fault.Invalid, "size-mismatch", "the body ended before the length that was declared").In("body").Do("send the whole body").Because(err)
	}
	return n, err
}
