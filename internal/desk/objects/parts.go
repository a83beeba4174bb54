package objects

import (
	"context"
	"encoding/hex"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

func uploadPart(p catalog.Part, seen middle.Veil) api.UploadPart {
	return api.UploadPart{Number: p.Number, Size: p.Size, ETag: hex.EncodeToString(p.MD5[:]), CRC64: hex16(p.CRC64),
		At: p.At,
		By: seen.By(p.Who), Source: seen.From(p.Who, p.Source)}
}

func hex16(n uint64) string {
	s := strconv.FormatUint(n, 16)
	return "0000000000000000"[len(s):] + s
}

// PutPart takes a part's bytes from the console.
func (d *Desk) PutPart(w http.ResponseWriter, r *http.Request) error {
	a, err := d.written(r)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "number"))
	if err != nil {
		n = 0
	}
	p, err := d.Store.PutPart(r.Context(), store.PutPart{Address: a, Author: middle.Author(r.Context()),
		Upload: chi.URLParam(r, "id"), Number: n, Size: r.ContentLength, Body: d.guarded(r, access.Write, a)})
	if err != nil {
		return err
	}
	middle.WriteJSON(w, http.StatusCreated, uploadPart(p, d.VeilOf(r.Context(), "")))
	return nil
}

type partsOut struct{ Body api.PartPage }

func (d *Desk) showUpload(ctx context.Context, in *middle.UploadRef) (*partsOut, error) {
	u, parts, err := d.openUpload(ctx, in.Bucket, in.Key, in.ID)
	if err != nil {
		return nil, err
	}
	seen, err := d.VeilFor(ctx, u.Bucket)
	if err != nil {
		return nil, err
	}
	out := &partsOut{}
	out.Body.List = []api.UploadPart{}
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
}

func (d *Desk) completeUpload(ctx context.Context, in *struct {
	middle.UploadRef
	Body api.CompleteAsk
}) (*objectOut, error) {
	a, err := middle.Address(in.Bucket, in.Key)
	if err != nil {
		return nil, err
	}
	if err := d.May(ctx, access.Write, a); err != nil {
		return nil, err
	}
	if in.Body.IfAbsent {
		if err := d.MayAskOf(ctx, a); err != nil {
			return nil, err
		}
	}
	c := store.Complete{Address: a, Author: middle.Author(ctx), Upload: in.ID, Size: -1, IfAbsent: in.Body.IfAbsent}
	if in.Body.Size > 0 {
		c.Size = in.Body.Size
	}
	for _, p := range in.Body.Parts {
		x := store.CompletePart{Number: p.Number}
		if p.ETag != "" {
			raw, err := hex.DecodeString(p.ETag)
			if err != nil || len(raw) != 16 {
				return nil, fault.New(fault.Invalid, "part-missing", "part %d has no ETag %q", p.Number, p.ETag).In("parts")
			}
			x.MD5 = (*[16]byte)(raw)
		}
		c.Parts = append(c.Parts, x)
	}
	if len(c.Parts) == 0 {
		_, parts, err := d.openUpload(ctx, in.Bucket, in.Key, in.ID)
		if err != nil && !fault.HasCode(err, "upload-missing") { // it may be completed already
			return nil, err
		}
		for _, p := range parts {
			c.Parts = append(c.Parts, store.CompletePart{Number: p.Number})
		}
	}
	v, err := d.Store.Complete(ctx, c)
	if err != nil {
		return nil, err
	}
	return &objectOut{d.objectInfo(ctx, a.Bucket, v)}, nil
}
