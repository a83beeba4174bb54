package server

import (
	"bytes"
	"crypto/md5"
	"encoding/xml"
	"io"
	"net/http"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

func (q *request) deleteObject() error {
	a, err := q.address()
	if err != nil {
		return err
	}
	id, err := q.versionID()
	if err != nil {
		return err
	}
	if err := q.mayAskOf(a); err != nil {
		return err
	}
	_, etag, err := q.writeConditions()
	if err != nil {
		return err
	}
	h := q.w.Header()
	if id != object.Current {
		if etag != nil {
			return notImplemented("If-Match with a version")
		}
		r, err := q.s.store.RemoveVersion(q.ctx(), a, id, q.author())
		if err != nil && !fault.HasCode(err, "version-missing") { // what is not there need not be removed
			return err
		}
		h.Set("x-amz-version-id", id.String())
		if r.Marker {
			h.Set("x-amz-delete-marker", "true")
		}
		return q.noBody(http.StatusNoContent)
	}
	r, err := q.s.store.Remove(q.ctx(), a, etag, q.author())
	if err != nil {
		return err
	}
	if r.Marker {
		h.Set("x-amz-delete-marker", "true")
		h.Set("x-amz-version-id", r.ID().String())
	}
	return q.noBody(http.StatusNoContent)
}

func (q *request) removeMany() error {
	want, err := q.claimedMD5()
	if err != nil {
		return err
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	sum := md5.New()
	var in struct {
		XMLName xml.Name
		Quiet   bool
		Object  []struct {
			Key       string
			VersionId string
			ETag      string
		}
	}
	if err := q.readDocument(io.TeeReader(body, sum), removeManyDocument, &in); err != nil {
		return err
	}
	if want != nil && !bytes.Equal(want[:], sum.Sum(nil)) {
		return fault.New(fault.Invalid, "digest-mismatch", "the MD5 of the document is not the one that was claimed").
			In("Content-MD5")
	}
	if in.XMLName.Local != "Delete" || len(in.Object) == 0 || len(in.Object) > maxRemovals {
		return malformed("the document names %d objects to remove; 1 to %d are allowed", len(in.Object), maxRemovals)
	}
	errs := make([]error, len(in.Object))
	var removals []store.Removal
	place := make([]int, len(in.Object))
	for i, o := range in.Object {
		var r store.Removal
		r.Key, errs[i] = object.ParseKey(o.Key)
		if errs[i] == nil && o.VersionId != "" {
			r.ID, errs[i] = object.ParseVersionID(o.VersionId)
		}
		if errs[i] == nil && o.ETag != "" {
			errs[i] = notImplemented("a condition in a list of objects to remove")
		}
		if errs[i] == nil {
			errs[i] = q.s.gate.May(q.ctx(), q.ask(access.Remove, q.bucket, o.Key))
		}
		if errs[i] == nil {
			place[i] = len(removals)
			removals = append(removals, r)
		}
	}
	results, failed, err := q.s.store.RemoveMany(q.ctx(), q.bucket, removals, q.author())
	if err != nil {
		return err
	}
	d := newDoc("DeleteResult", true)
	for i, o := range in.Object {
		err := errs[i]
		if err == nil {
			err = failed[place[i]]
		}
		if err != nil {
			f := fault.From(err)
			d.begin("Error")
			d.text("Key", o.Key)
			if o.VersionId != "" {
				d.text("VersionId", o.VersionId)
			}
			d.text("Code", dialect(f).code)
			d.text("Message", f.Message)
			d.end()
		} else if r := results[place[i]]; !in.Quiet {
			d.begin("Deleted")
			d.text("Key", o.Key)
			if o.VersionId != "" {
				d.text("VersionId", o.VersionId)
			}
			if r.Marker {
				d.bool("DeleteMarker", true)
				if o.VersionId != "" {
					d.text("DeleteMarkerVersionId", o.VersionId)
				} else {
					d.text("DeleteMarkerVersionId", r.ID().String())
				}
			}
			d.end()
		}
	}
	return q.xml(d)
}
