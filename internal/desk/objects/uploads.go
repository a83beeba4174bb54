package objects

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

func uploadInfo(u *catalog.Upload, seen middle.Veil) api.UploadInfo {
	return api.UploadInfo{ID: u.ID, Bucket: u.Bucket.String(), Key: u.Key.String(), Started: u.Created, By: seen.By(u.Who),
		Source: seen.From(u.Who, u.Source), Parts: u.Parts, Bytes: u.Bytes, Last: u.Last, Place: u.Seq}
}

func (d *Desk) uploadCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-uploads", "GET /uploads", "uploads",
		"List unfinished multipart uploads, oldest first", d.listUploads)
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnBucket}, "start-upload", "POST /buckets/{bucket}/uploads", "uploads",
		"Start a multipart upload", d.startUploadCall, middle.Answers(201))
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnKey}, "show-upload", "GET /buckets/{bucket}/uploads/{id}", "uploads",
		"Show an unfinished upload and its parts", d.showUpload)
	middle.Call(to, middle.Rule{Do: access.Write, On: middle.OnKey}, "complete-upload", "POST /buckets/{bucket}/uploads/{id}/complete",
		"uploads",
		"Make an object of an upload's parts",
		d.completeUpload, middle.Described(
			"Without a list all parts that are there are taken, by number. Said again it gives the same object for a day."))
	middle.Call(to, middle.Rule{}, "abandon-uploads", "POST /uploads/abandon", "uploads",
		"Abandon unfinished uploads, or say what would go", d.abandonUploads)
}

func (d *Desk) uploads(ctx context.Context, bucket, olderThan string, after int64, limit int) (*api.UploadPage, error) {
	l := catalog.UploadList{AfterSeq: after, Max: limit + 1}
	var err error
	if l.Account, err = d.JournalOf(ctx, bucket, ""); err != nil {
		return nil, err
	}
	if bucket != "" {
		name, err := object.ParseBucketName(bucket)
		if err != nil {
			return nil, err
		}
		f, err := d.Store.Bucket(ctx, name)
		if err != nil {
			return nil, err
		}
		l.Only = f.ID
	}
	if olderThan != "" {
		var err error
		if l.Before, err = middle.Moment(olderThan); err != nil {
			return nil, err
		}
	}
	list, err := d.Store.Catalog.Uploads(ctx, l)
	if err != nil {
		return nil, err
	}
	p := &api.UploadPage{Uploads: []api.UploadInfo{}}
	for i, u := range list {
		if i == limit {
			p.Next = list[i-1].Seq
			break
		}
		seen, err := d.VeilFor(ctx, u.Bucket)
		if err != nil && !fault.HasCode(err, "bucket-missing") {
			return nil, err
		}
		p.Uploads = append(p.Uploads, uploadInfo(u, seen))
	}
	all, err := d.Store.Catalog.UnfinishedIn(ctx, l.Only, l.Account)
	p.All = api.UnfinishedInfo(all)
	return p, err
}

func (d *Desk) startUpload(ctx context.Context, bucket, key, contentType string, metadata,
	tags map[string]string) (*catalog.Upload, error) {
	a, err := middle.Address(bucket, key)
	if err != nil {
		return nil, err
	}
	if err := d.May(ctx, access.Write, a); err != nil {
		return nil, err
	}
	u := catalog.Upload{Headers: object.Headers{ContentType: contentType}}
	if u.Metadata, err = object.NewMetadata(metadata); err != nil {
		return nil, err
	}
	if u.Tags, err = object.NewTags(tags, object.MaxTags); err != nil {
		return nil, err
	}
	return d.Store.StartUpload(ctx, a, u, middle.Author(ctx))
}

// upload1 gives an open upload and its parts.
func (d *Desk) openUpload(ctx context.Context, bucket, key, id string) (*catalog.Upload, []catalog.Part, error) {
	a, err := middle.Address(bucket, key)
	if err != nil {
		return nil, nil, err
	}
	if err := d.May(ctx, access.Write, a); err != nil {
		return nil, nil, err
	}
	u, err := d.Store.FindUpload(ctx, a, id)
	if err != nil {
		return nil, nil, err
	}
	parts, err := d.Store.Catalog.Parts(ctx, u.Seq, 0, object.MaxParts)
	return u, parts, err
}

func (d *Desk) abandon(ctx context.Context, names []api.UploadName, olderThan, bucket string,
	rehearse bool) (q api.Quantity,
	err error) {
	for _, n := range names {
		u, parts, err := d.openUpload(ctx, n.Bucket, n.Key, n.ID)
		if err != nil {
			return q, err
		}
		q.Objects++
		for _, p := range parts {
			q.Bytes += p.Size
		}
		if !rehearse {
			if err := d.Store.Abandon(ctx, catalog.Address{Bucket: u.Bucket, Key: u.Key}, u.ID); err != nil {
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
			a, err := middle.Address(u.Bucket, u.Key)
			if err == nil {
				err = d.May(ctx, access.Write, a)
			}
			if err != nil {
				return q, err
			}
			if err := d.Store.Abandon(ctx, a, u.ID); err != nil && !fault.HasCode(err, "upload-missing") {
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

func (d *Desk) listUploads(ctx context.Context, in *struct {
	Bucket    string `query:"bucket" maxLength:"64"`
	OlderThan string `query:"olderThan" maxLength:"64" doc:"A moment, or a time ago such as 7d: only those started before"`
	After     int64  `query:"after" minimum:"0"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*struct{ Body api.UploadPage }, error) {
	p, err := d.uploads(ctx, in.Bucket, in.OlderThan, in.After, in.Limit)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.UploadPage }{*p}, nil
}

func (d *Desk) startUploadCall(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.NewUpload
}) (*struct{ Body api.UploadInfo }, error) {
	u, err := d.startUpload(ctx, in.Bucket, in.Body.Key, in.Body.ContentType, in.Body.Metadata, in.Body.Tags)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.UploadInfo }{uploadInfo(u, d.VeilOf(ctx, ""))}, nil
}

func (d *Desk) abandonUploads(ctx context.Context, in *struct{ Body api.AbandonAsk }) (*quantityOut, error) {
	q, err := d.abandon(ctx, in.Body.Uploads, in.Body.OlderThan, in.Body.Bucket, in.Body.Rehearse)
	if err != nil {
		return nil, err
	}
	return &quantityOut{q}, nil
}
