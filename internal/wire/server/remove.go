package server

import (
	"bytes"
	"crypto/md5"
	"encoding/xml"
	"io"
	"net/http"

	"spindle/internal/catalog"
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
	var r catalog.Result
	origin, err := q.origin(a)
	if err != nil {
		return err
	}
	if origin != "" && etag == nil {
		r, err = q.s.store.RemoveReplica(q.ctx(), a, origin, q.author())
	} else {
		r, err = q.s.store.Remove(q.ctx(), a, etag, q.author())
	}
	if err != nil {
		return err
	}
	if r.Marker {
		h.Set("x-amz-delete-marker", "true")
		h.Set("x-amz-version-id", r.ID().String())
	}
	return q.noBody(http.StatusNoContent)
}

// toRemove is an object that a document names.
type toRemove struct {
	Key       string
	VersionId string
	ETag      string
}

// removeManyBody reads what is to be removed, and whether the answer names failures alone.
func (q *request) removeManyBody() (named []toRemove, quiet bool, err error) {
	want, err := q.claimedMD5()
	if err != nil {
		return nil, false, err
	}
	body, err := q.body()
	if err != nil {
		return nil, false, err
	}
	sum := md5.New()
	var in struct {
		XMLName xml.Name
		Quiet   bool
		Object  []toRemove
	}
	if err := q.readDocument(io.TeeReader(body, sum), removeManyDocument, &in); err != nil {
		return nil, false, err
	}
	if want != nil && !bytes.Equal(want[:], sum.Sum(nil)) {
		return nil, false, fault.New(fault.Invalid, "digest-mismatch",
			"the MD5 of the document is not the one that was claimed").
			In("Content-MD5")
	}
	if in.XMLName.Local != "Delete" || len(in.Object) == 0 || len(in.Object) > maxRemovals {
		return nil, false, malformed("the document names %d objects to remove; 1 to %d are allowed", len(in.Object),
			maxRemovals)
	}
	return in.Object, in.Quiet, nil
}

func (q *request) removeMany() error {
	named, quiet, err := q.removeManyBody()
	if err != nil {
		return err
	}
	errs := make([]error, len(named))
	var removals []store.Removal
	place := make([]int, len(named))
	for i, o := range named {
		var r store.Removal
		if r, errs[i] = q.removal(o); errs[i] == nil {
			place[i] = len(removals)
			removals = append(removals, r)
		}
	}
	results, failed, err := q.s.store.RemoveMany(q.ctx(), q.bucket, removals, q.author())
	if err != nil {
		return err
	}
	d := newDoc("DeleteResult", true)
	for i, o := range named {
		err := errs[i]
		if err == nil {
			err = failed[place[i]]
		}
		if err != nil {
			d.notRemoved(o, fault.From(err))
		} else if !quiet {
			d.removed(o, results[place[i]])
		}
	}
	return q.xml(d)
}

// removal reads what is to be removed, and whether that may be.
func (q *request) removal(o toRemove) (r store.Removal, err error) {
	if r.Key, err = object.ParseKey(o.Key); err == nil && o.VersionId != "" {
		r.ID, err = object.ParseVersionID(o.VersionId)
	}
	if err == nil && o.ETag != "" {
		err = notImplemented("a condition in a list of objects to remove")
	}
	if err == nil {
		err = q.s.gate.May(q.ctx(), q.ask(access.Remove, q.bucket, o.Key))
	}
	return r, err
}

// names begins what is told of an object.
func (d *doc) names(element string, o toRemove) {
	d.begin(element)
	d.text("Key", o.Key)
	if o.VersionId != "" {
		d.text("VersionId", o.VersionId)
	}
}

func (d *doc) notRemoved(o toRemove, f *fault.Error) {
	d.names("Error", o)
	d.text("Code", dialect(f).code)
	d.text("Message", f.Message)
	d.end()
}

func (d *doc) removed(o toRemove, r catalog.Result) {
	d.names("Deleted", o)
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
