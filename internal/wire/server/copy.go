package server

import (
	"net/http"
	"net/url"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// copySource gives the source of a copy, and its version, if who asks may read it.
func (q *request) copySource() (from catalog.Address, id object.VersionID, err error) {
	raw, version, named := strings.Cut(q.r.Header.Get("x-amz-copy-source"), "?versionId=")
	if named {
		if id, err = object.ParseVersionID(version); err != nil {
			return from, id, err
		}
	}
	source, err := url.PathUnescape(raw)
	if err != nil {
		return from, id, fault.New(fault.Invalid, "copy-source", "the source is not a percent-encoded bucket and key").
			In("x-amz-copy-source")
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(source, "/"), "/")
	if from.Bucket, err = object.ParseBucketName(bucket); err != nil {
		return from, id, err
	}
	if from.Key, err = object.ParseKey(key); err != nil {
		return from, id, err
	}
	return from, id, q.s.gate.May(q.ctx(), q.ask(access.Read, from.Bucket, key))
}

// sourceConditions are the conditions on the source of a copy.
func (q *request) sourceConditions() (c object.Conditions) {
	h := q.r.Header
	c.IfMatch, c.IfNoneMatch = object.ParseTags(h.Get("x-amz-copy-source-if-match")),
		object.ParseTags(h.Get("x-amz-copy-source-if-none-match"))
	c.IfModifiedSince, _ = http.ParseTime(h.Get("x-amz-copy-source-if-modified-since"))
	c.IfUnmodifiedSince, _ = http.ParseTime(h.Get("x-amz-copy-source-if-unmodified-since"))
	return c
}

func (q *request) copyObject() error {
	if err := q.refuseUnsupported(); err != nil {
		return err
	}
	to, err := q.address()
	if err != nil {
		return err
	}
	from, id, err := q.copySource()
	if err != nil {
		return err
	}
	if err := q.mayAskOf(to); err != nil {
		return err
	}
	c := store.Copy{From: from, FromID: id, To: to, Author: q.author()}
	if c.Origin, err = q.origin(to); err != nil {
		return err
	}
	if c.Seal, err = q.seals(); err != nil {
		return err
	}
	if c.Tier, err = q.wantedTier(); err != nil {
		return err
	}
	switch v := q.r.Header.Get("x-amz-metadata-directive"); v {
	case "", "COPY":
	case "REPLACE":
		c.Replace, c.Headers = true, q.headers()
		if c.Metadata, err = q.metadata(); err != nil {
			return err
		}
	default:
		return fault.New(fault.Invalid, "metadata-directive", "the directive is COPY or REPLACE").
			In("x-amz-metadata-directive")
	}
	switch v := q.r.Header.Get("x-amz-tagging-directive"); v {
	case "", "COPY":
	case "REPLACE":
		c.ReplaceTags = true
		if c.Tags, err = parseTagging(q.r.Header.Get("x-amz-tagging")); err != nil {
			return err
		}
	default:
		return fault.New(fault.Invalid, "tagging-directive", "the directive is COPY or REPLACE").In("x-amz-tagging-directive")
	}
	c.If = q.sourceConditions()
	if c.IfAbsent, c.IfETag, err = q.writeConditions(); err != nil {
		return err
	}
	v, err := q.copyOrAnnotate(c)
	if fault.HasCode(err, "version-marker") {
		return fault.New(fault.Invalid, "copy-marker",
			"The source of a copy request may not specifically refer to a delete marker by version id.").In("x-amz-copy-source")
	}
	if err != nil {
		return q.hide(from, err) // what is not there is the source
	}
	if err := q.sayVersion("x-amz-version-id", v.ID()); err != nil {
		return err
	}
	if err := q.saySealed(v); err != nil {
		return err
	}
	if err := q.sayLacks(c.To.Bucket, v); err != nil {
		return err
	}
	if id != object.Current {
		q.w.Header().Set("x-amz-copy-source-version-id", id.String())
	}
	d := newDoc("CopyObjectResult", true)
	d.time("LastModified", v.Created)
	d.etag(v.ETag)
	sums := http.Header{}
	setChecksums(sums, v)
	d.text("ChecksumCRC64NVME", sums.Get("x-amz-checksum-crc64nvme"))
	d.text("ChecksumType", "FULL_OBJECT")
	return q.xml(d)
}

// copyOrAnnotate copies; a copy onto itself that changes metadata or tags is,
// where it would not add a version, a new revision of the one that is there.
func (q *request) copyOrAnnotate(c store.Copy) (*object.Version, error) {
	f, err := q.s.store.Bucket(q.ctx(), c.To.Bucket)
	if err != nil {
		return nil, err
	}
	if c.From != c.To || c.FromID != object.Current || f.Versioning == object.On || !c.Replace && !c.ReplaceTags ||
		c.Seal {
		return q.s.store.Copy(q.ctx(), c)
	}
	there, err := q.s.store.Find(q.ctx(), c.From)
	switch {
	case err != nil:
		return nil, err
	case !there.Plain || c.IfAbsent:
		return q.s.store.Copy(q.ctx(), c)
	case c.If.Read(there) != object.Proceed:
		return nil, fault.New(fault.Precondition, "mismatch", "the source is not as the request asked").In("source")
	}
	a := store.Annotation{Address: c.To, Author: c.Author, Origin: c.Origin}
	if c.Replace {
		a.Headers, a.Metadata = &c.Headers, object.Edit{Clear: true, Set: c.Metadata}
	}
	if c.ReplaceTags {
		a.Tags = object.Edit{Clear: true, Set: c.Tags}
	}
	return q.s.store.Annotate(q.ctx(), a)
}
