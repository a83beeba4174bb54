package desk

import (
	"context"
	"encoding/hex"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// UploadInfo is an unfinished multipart upload.
type UploadInfo struct {
	ID      string    `json:"id"`
	Bucket  string    `json:"bucket"`
	Key     string    `json:"key"`
	Started time.Time `json:"started"`
	By      string    `json:"by" doc:"The access key that started it"`
	Source  string    `json:"source,omitempty"`
	Parts   int64     `json:"parts"`
	Bytes   int64     `json:"bytes" doc:"That its parts hold"`
	Last    time.Time `json:"last,omitzero" doc:"When the last part came"`
	Place   int64     `json:"place" doc:"In the list of all uploads"`
}

func uploadInfo(u *catalog.Upload, seen veil) UploadInfo {
	return UploadInfo{ID: u.ID, Bucket: u.Bucket.String(), Key: u.Key.String(), Started: u.Created, By: seen.by(u.Who), Source: seen.from(u.Who, u.Source), Parts: u.Parts, Bytes: u.Bytes, Last: u.Last, Place: u.Seq}
}

// UploadPart is a part of an unfinished upload.
type UploadPart struct {
	Number int       `json:"number"`
	Size   int64     `json:"size"`
	ETag   string    `json:"etag"`
	CRC64  string    `json:"crc64" doc:"CRC-64/NVME, in hex"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Source string    `json:"source,omitempty" doc:"The address it came from"`
}

func uploadPart(p catalog.Part, seen veil) UploadPart {
	return UploadPart{Number: p.Number, Size: p.Size, ETag: hex.EncodeToString(p.MD5[:]), CRC64: hex16(p.CRC64), At: p.At, By: seen.by(p.Who), Source: seen.from(p.Who, p.Source)}
}

func hex16(n uint64) string {
	s := strconv.FormatUint(n, 16)
	return "0000000000000000"[len(s):] + s
}

// UploadPage is a page of unfinished uploads, oldest first.
type UploadPage struct {
	Uploads []UploadInfo       `json:"uploads"`
	Next    int64              `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
	All     catalog.Unfinished `json:"all" doc:"What all of them hold, without filter"`
}

// UploadName names an upload.
type UploadName struct {
	Bucket string `json:"bucket" maxLength:"64"`
	Key    string `json:"key"`
	ID     string `json:"id" maxLength:"64"`
}

// PartName names a part of the object to be.
type PartName struct {
	Number int    `json:"number"`
	ETag   string `json:"etag,omitempty" doc:"What it must have"`
}

// UploadRef names an upload in an address.
type UploadRef struct {
	BucketPath
	ID  string `path:"id" maxLength:"64"`
	Key string `query:"key" required:"true"`
}

func (d *Desk) uploadCalls(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-uploads", Method: http.MethodGet, Path: "/api/v1/uploads", Summary: "List unfinished multipart uploads, oldest first", Tags: []string{"uploads"}},
		func(ctx context.Context, in *struct {
			Bucket    string `query:"bucket" maxLength:"64"`
			OlderThan string `query:"olderThan" maxLength:"64" doc:"A moment, or a time ago such as 7d: only those started before"`
			After     int64  `query:"after" minimum:"0"`
			Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*struct{ Body UploadPage }, error) {
			p, err := d.uploads(ctx, in.Bucket, in.OlderThan, in.After, in.Limit)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body UploadPage }{*p}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "start-upload", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/uploads", Summary: "Start a multipart upload", Tags: []string{"uploads"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			BucketPath
			Body struct {
				Key         string            `json:"key"`
				ContentType string            `json:"contentType,omitempty" maxLength:"256"`
				Metadata    map[string]string `json:"metadata,omitempty"`
				Tags        map[string]string `json:"tags,omitempty"`
			}
		}) (*struct{ Body UploadInfo }, error) {
			u, err := d.startUpload(ctx, in.Bucket, in.Body.Key, in.Body.ContentType, in.Body.Metadata, in.Body.Tags)
			if err != nil {
				return nil, d.problem(err)
			}
			return &struct{ Body UploadInfo }{uploadInfo(u, d.veilOf(ctx, ""))}, nil
		})
	type partsOut struct {
		Body struct {
			UploadInfo
			List []UploadPart `json:"list" doc:"The parts that are there, by number"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "show-upload", Method: http.MethodGet, Path: "/api/v1/buckets/{bucket}/uploads/{id}", Summary: "Show an unfinished upload and its parts", Tags: []string{"uploads"}},
		func(ctx context.Context, in *UploadRef) (*partsOut, error) {
			u, parts, err := d.upload1(ctx, in.Bucket, in.Key, in.ID)
			if err != nil {
				return nil, d.problem(err)
			}
			seen, err := d.veilFor(ctx, u.Bucket)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &partsOut{}
			out.Body.List = []UploadPart{}
			for _, p := range parts {
				u.Parts++
				u.Bytes += p.Size
				if p.At.After(u.Last) {
					u.Last = p.At
				}
				out.Body.List = append(out.Body.List, uploadPart(p, seen))
			}
			out.Body.UploadInfo = uploadInfo(u, seen)
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "complete-upload", Method: http.MethodPost, Path: "/api/v1/buckets/{bucket}/uploads/{id}/complete", Summary: "Make an object of an upload's parts",
		Description: "Without a list all parts that are there are taken, by number. Said again it gives the same object for a day.", Tags: []string{"uploads"}},
		func(ctx context.Context, in *struct {
			UploadRef
			Body struct {
				Parts    []PartName `json:"parts,omitempty" maxItems:"10000"`
				Size     int64      `json:"size,omitempty" doc:"Of the whole: compared when it is given"`
				IfAbsent bool       `json:"ifAbsent,omitempty"`
			}
		}) (*objectOut, error) {
			a, err := address(in.Bucket, in.Key)
			if err != nil {
				return nil, d.problem(err)
			}
			if err := d.may(ctx, access.Write, a); err != nil {
				return nil, d.problem(err)
			}
			if in.Body.IfAbsent {
				if err := d.mayAskOf(ctx, a); err != nil {
					return nil, d.problem(err)
				}
			}
			c := store.Complete{Address: a, Author: author(ctx), Upload: in.ID, Size: -1, IfAbsent: in.Body.IfAbsent}
			if in.Body.Size > 0 {
				c.Size = in.Body.Size
			}
			for _, p := range in.Body.Parts {
				x := store.CompletePart{Number: p.Number}
				if p.ETag != "" {
					raw, err := hex.DecodeString(p.ETag)
					if err != nil || len(raw) != 16 {
						return nil, d.problem(fault.New(fault.Invalid, "part-missing", "part %d has no ETag %q", p.Number, p.ETag).In("parts"))
					}
					x.MD5 = (*[16]byte)(raw)
				}
				c.Parts = append(c.Parts, x)
			}
			if len(c.Parts) == 0 {
				_, parts, err := d.upload1(ctx, in.Bucket, in.Key, in.ID)
				if err != nil && !fault.HasCode(err, "upload-missing") { // it may be completed already
					return nil, d.problem(err)
				}
				for _, p := range parts {
					c.Parts = append(c.Parts, store.CompletePart{Number: p.Number})
				}
			}
			v, err := d.store.Complete(ctx, c)
			if err != nil {
				return nil, d.problem(err)
			}
			return &objectOut{d.objectInfo(ctx, a.Bucket, v)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "abandon-uploads", Method: http.MethodPost, Path: "/api/v1/uploads/abandon", Summary: "Abandon unfinished uploads, or say what would go", Tags: []string{"uploads"}},
		func(ctx context.Context, in *struct {
			Body struct {
				Uploads   []UploadName `json:"uploads,omitempty" maxItems:"1000"`
				OlderThan string       `json:"olderThan,omitempty" maxLength:"64" doc:"All started before this moment or time ago; at most 1,000 a call"`
				Bucket    string       `json:"bucket,omitempty" maxLength:"64" doc:"With olderThan: only of this bucket"`
				Rehearse  bool         `json:"rehearse,omitempty"`
			}
		}) (*quantityOut, error) {
			q, err := d.abandon(ctx, in.Body.Uploads, in.Body.OlderThan, in.Body.Bucket, in.Body.Rehearse)
			if err != nil {
				return nil, d.problem(err)
			}
			return &quantityOut{q}, nil
		})
}

func (d *Desk) uploads(ctx context.Context, bucket, olderThan string, after int64, limit int) (*UploadPage, error) {
	l := catalog.UploadList{AfterSeq: after, Max: limit + 1}
	var err error
	if l.Account, err = d.journalOf(ctx, bucket, ""); err != nil {
		return nil, err
	}
	if bucket != "" {
		name, err := object.ParseBucketName(bucket)
		if err != nil {
			return nil, err
		}
		f, err := d.store.Bucket(ctx, name)
		if err != nil {
			return nil, err
		}
		l.Only = f.ID
	}
	if olderThan != "" {
		var err error
		if l.Before, err = moment(olderThan); err != nil {
			return nil, err
		}
	}
	list, err := d.store.Catalog.Uploads(ctx, l)
	if err != nil {
		return nil, err
	}
	p := &UploadPage{Uploads: []UploadInfo{}}
	for i, u := range list {
		if i == limit {
			p.Next = list[i-1].Seq
			break
		}
		seen, err := d.veilFor(ctx, u.Bucket)
		if err != nil && !fault.HasCode(err, "bucket-missing") {
			return nil, err
		}
		p.Uploads = append(p.Uploads, uploadInfo(u, seen))
	}
	p.All, err = d.store.Catalog.UnfinishedIn(ctx, l.Only, l.Account)
	return p, err
}

func (d *Desk) startUpload(ctx context.Context, bucket, key, contentType string, metadata, tags map[string]string) (*catalog.Upload, error) {
	a, err := address(bucket, key)
	if err != nil {
		return nil, err
	}
	if err := d.may(ctx, access.Write, a); err != nil {
		return nil, err
	}
	u := catalog.Upload{Headers: object.Headers{ContentType: contentType}}
	if u.Metadata, err = object.NewMetadata(metadata); err != nil {
		return nil, err
	}
	if u.Tags, err = object.NewTags(tags, object.MaxTags); err != nil {
		return nil, err
	}
	return d.store.StartUpload(ctx, a, u, author(ctx))
}

// upload1 gives an open upload and its parts.
func (d *Desk) upload1(ctx context.Context, bucket, key, id string) (*catalog.Upload, []catalog.Part, error) {
	a, err := address(bucket, key)
	if err != nil {
		return nil, nil, err
	}
	if err := d.may(ctx, access.Write, a); err != nil {
		return nil, nil, err
	}
	u, err := d.store.FindUpload(ctx, a, id)
	if err != nil {
		return nil, nil, err
	}
	parts, err := d.store.Catalog.Parts(ctx, u.Seq, 0, object.MaxParts)
	return u, parts, err
}

func (d *Desk) abandon(ctx context.Context, names []UploadName, olderThan, bucket string, rehearse bool) (q Quantity, err error) {
	for _, n := range names {
		u, parts, err := d.upload1(ctx, n.Bucket, n.Key, n.ID)
		if err != nil {
			return q, err
		}
		q.Objects++
		for _, p := range parts {
			q.Bytes += p.Size
		}
		if !rehearse {
			if err := d.store.Abandon(ctx, catalog.Address{Bucket: u.Bucket, Key: u.Key}, u.ID); err != nil {
				return q, err
			}
		}
	}
	if olderThan == "" {
		return q, nil
	}
	for after := int64(0); ; {
		page, err := d.uploads(ctx, bucket, olderThan, after, 1000)
		if err != nil {
			return q, err
		}
		for _, u := range page.Uploads {
			q.Objects++
			q.Bytes += u.Bytes
			if rehearse {
				continue
			}
			a, err := address(u.Bucket, u.Key)
			if err == nil {
				err = d.may(ctx, access.Write, a)
			}
			if err != nil {
				return q, err
			}
			if err := d.store.Abandon(ctx, a, u.ID); err != nil && !fault.HasCode(err, "upload-missing") {
				return q, err
			}
		}
		if page.Next == 0 || !rehearse {
			q.More = page.Next > 0
			return q, nil
		}
		after = page.Next
	}
}

// putPart takes a part's bytes from the console.
func (d *Desk) putPart(w http.ResponseWriter, r *http.Request) {
	a, err := address(chi.URLParam(r, "bucket"), r.URL.Query().Get("key"))
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	if err := d.may(r.Context(), access.Write, a); err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	n, err := strconv.Atoi(chi.URLParam(r, "number"))
	if err != nil {
		n = 0
	}
	p, err := d.store.PutPart(r.Context(), store.PutPart{Address: a, Author: author(r.Context()), Upload: chi.URLParam(r, "id"), Number: n, Size: r.ContentLength, Body: d.guarded(r, access.Write, a)})
	if err != nil {
		writeProblem(w, d.problem(err))
		return
	}
	writeJSON(w, http.StatusCreated, uploadPart(p, d.veilOf(r.Context(), "")))
}
