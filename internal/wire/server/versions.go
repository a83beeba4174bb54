package server

import (
	"encoding/xml"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// versioningWords are the dialect's words for a bucket that has or had versioning.
var versioningWords = map[object.Versioning]string{object.On: "Enabled", object.Paused: "Suspended"}

func (q *request) getVersioning() error {
	b, err := q.s.store.Catalog.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	d := newDoc("VersioningConfiguration", true)
	if word := versioningWords[b.Versioning]; word != "" {
		d.text("Status", word)
	}
	return q.xml(d)
}

func (q *request) putVersioning() error {
	body, err := q.body()
	if err != nil {
		return err
	}
	var in struct {
		XMLName   xml.Name
		Status    string
		MfaDelete string
	}
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return err
	}
	if in.XMLName.Local != "VersioningConfiguration" {
		return fault.New(fault.Invalid, "document-malformed", "the document is no VersioningConfiguration").In("body")
	}
	if in.MfaDelete != "" && in.MfaDelete != "Disabled" || q.r.Header.Get("x-amz-mfa") != "" {
		return notImplemented("MfaDelete")
	}
	for v, word := range versioningWords {
		if in.Status == word {
			if err := q.s.store.ChangeBucket(q.ctx(), q.bucket, 0, q.author(), bucket.Versioning(v)); err != nil {
				return err
			}
			return q.noBody(http.StatusOK)
		}
	}
	return fault.New(fault.Invalid, "document-malformed", "the status is Enabled or Suspended, not %q", in.Status).
		In("Status")
}

func (q *request) listVersions() error {
	place, err := q.readPlace(q.query.Get("key-marker"), "max-keys")
	if err != nil {
		return err
	}
	l := catalog.Versions{Prefix: place.prefix, Delimiter: place.delimiter, After: place.after, Max: place.max}
	if l.AfterNumber, err = q.versionMarker(l.After); err != nil {
		return err
	}
	if err := q.build(); err != nil {
		return err
	}
	var page []catalog.Listed
	var more bool
	if l.Max > 0 {
		page, more, err = q.s.store.ListVersions(q.ctx(), q.bucket, l)
	} else {
		_, err = q.s.store.Bucket(q.ctx(), q.bucket)
	}
	if err != nil {
		return err
	}
	return q.xml(q.versionsDocument(place, page, more))
}

// versionMarker gives the number of the version after which a page of versions begins, 0 for none.
func (q *request) versionMarker(after string) (int64, error) {
	v := q.query.Get("version-id-marker")
	if v == "" {
		return 0, nil
	}
	if after == "" {
		return 0, fault.New(fault.Invalid, "version-id-marker",
			"A version-id marker cannot be specified without a key marker.").In("version-id-marker")
	}
	id, err := object.ParseVersionID(v)
	if err != nil || id != object.Plain {
		return int64(id), err
	}
	key, err := object.ParseKey(after)
	if err != nil {
		return 0, err
	}
	plain, err := q.s.store.FindVersion(q.ctx(), catalog.Address{Bucket: q.bucket, Key: key}, id)
	if err != nil {
		return 0, err
	}
	return plain.Number, nil
}

// versionsDocument writes a page of versions down.
func (q *request) versionsDocument(place *listing, page []catalog.Listed, more bool) *doc {
	encode := place.encode
	d := newDoc("ListVersionsResult", true)
	d.text("Name", q.bucket.String())
	d.text("Prefix", encode(place.prefix))
	d.text("KeyMarker", encode(place.after))
	d.text("VersionIdMarker", q.query.Get("version-id-marker"))
	d.number("MaxKeys", int64(place.max))
	if place.delimiter != "" {
		d.text("Delimiter", encode(place.delimiter))
	}
	if place.encoding != "" {
		d.text("EncodingType", place.encoding)
	}
	d.bool("IsTruncated", more)
	if more {
		last := page[len(page)-1]
		d.text("NextKeyMarker", encode(last.Name()))
		if last.Version != nil {
			d.text("NextVersionIdMarker", last.Version.ID().String())
		}
	}
	d.room(len(page) * entryRoom)
	for _, e := range page {
		v := e.Version
		if v == nil {
			continue
		}
		kind := "Version"
		if v.Marker {
			kind = "DeleteMarker"
		}
		d.begin(kind)
		d.text("Key", encode(v.Key.String()))
		d.text("VersionId", v.ID().String())
		d.bool("IsLatest", e.Latest)
		d.time("LastModified", v.Created)
		if !v.Marker {
			d.etag(v.ETag)
			d.number("Size", v.Size)
			d.text("StorageClass", place.class(v.Body.Tier))
		}
		q.owner(d, "Owner")
		d.end()
	}
	for _, e := range page {
		if e.Version == nil {
			d.begin("CommonPrefixes")
			d.text("Prefix", encode(e.Prefix))
			d.end()
		}
	}
	return d
}

// parseTagging reads tags as a header carries them: a query string.
func parseTagging(header string) (object.Tags, error) {
	if header == "" {
		return nil, nil
	}
	values, err := url.ParseQuery(header)
	if err != nil {
		return nil, fault.New(fault.Invalid, "tag-name", "the tags are no query string: %s", err).In("x-amz-tagging").
			Do("send them as name=value&name=value, percent-encoded")
	}
	fields := make(map[string]string, len(values))
	for name, v := range values {
		if len(v) > 1 {
			return nil, fault.New(fault.Invalid, "tag-name", "Cannot provide multiple Tags with the same key").In(name)
		}
		fields[name] = v[0]
	}
	return object.NewTags(fields, object.MaxTags)
}

func (q *request) readTagging(limit int) (object.Tags, error) {
	body, err := q.body()
	if err != nil {
		return nil, err
	}
	var in struct {
		XMLName xml.Name
		TagSet  *struct {
			Tag []struct{ Key, Value string }
		}
	}
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return nil, err
	}
	if in.XMLName.Local != "Tagging" || in.TagSet == nil {
		return nil, fault.New(fault.Invalid, "document-malformed", "the document is no Tagging with a TagSet").In("body")
	}
	fields := map[string]string{}
	for _, t := range in.TagSet.Tag {
		if _, twice := fields[t.Key]; twice {
			return nil, fault.New(fault.Invalid, "tag-name", "Cannot provide multiple Tags with the same key").In(t.Key)
		}
		fields[t.Key] = t.Value
	}
	return object.NewTags(fields, limit)
}

func writeTagging(tags object.Tags) *doc {
	d := newDoc("Tagging", true)
	d.begin("TagSet")
	for _, name := range slices.Sorted(maps.Keys(tags)) {
		d.begin("Tag")
		d.text("Key", name)
		d.text("Value", tags[name])
		d.end()
	}
	return d
}

func (q *request) getBucketTags() error {
	b, err := q.s.store.Catalog.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if len(b.Tags) == 0 {
		return q.answer(none("NoSuchTagSet", "The TagSet does not exist"))
	}
	return q.xml(writeTagging(b.Tags))
}

func (q *request) putBucketTags() error {
	tags, err := q.readTagging(object.MaxBucketTags)
	if err != nil {
		return err
	}
	if err := q.s.store.ChangeBucket(q.ctx(), q.bucket, 0, q.author(), bucket.Tags(tags)); err != nil {
		return err
	}
	return q.noBody(http.StatusNoContent)
}

func (q *request) deleteBucketTags() error {
	if err := q.s.store.ChangeBucket(q.ctx(), q.bucket, 0, q.author(), bucket.Tags(nil)); err != nil {
		return err
	}
	return q.noBody(http.StatusNoContent)
}

func (q *request) getTags() error {
	_, v, err := q.version()
	if err != nil {
		return err
	}
	return q.xml(writeTagging(v.Tags))
}

func (q *request) putTags() error {
	tags, err := q.readTagging(object.MaxTags)
	if err != nil {
		return err
	}
	return q.setTags(tags, http.StatusOK)
}

func (q *request) deleteTags() error {
	if _, err := io.Copy(io.Discard, q.r.Body); err != nil {
		return err
	}
	return q.setTags(nil, http.StatusNoContent)
}

func (q *request) setTags(tags object.Tags, status int) error {
	a, err := q.address()
	if err != nil {
		return err
	}
	id, err := q.versionID()
	if err != nil {
		return err
	}
	v, err := q.s.store.Annotate(q.ctx(), store.Annotation{Address: a, ID: id, Author: q.author(),
		Tags: object.Edit{Clear: true, Set: tags}})
	if err != nil {
		return q.hide(a, err)
	}
	if err := q.sayVersion("x-amz-version-id", v.ID()); err != nil {
		return err
	}
	return q.noBody(status)
}
