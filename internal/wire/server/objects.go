package server

import (
	"crypto/md5"
	"encoding/hex"
	"io"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
	"spindle/internal/wire/sign"
)

// body gives the decoded body of the request: unpacked when it comes in
// chunks, compared with its SHA-256 when that was signed.
func (q *request) body() (io.Reader, error) { return q.auth.Body(q.r.Body, true) }

// size gives the decoded length of the body.
func (q *request) size() (int64, error) {
	n := q.r.ContentLength
	if sign.IsChunked(q.auth.Payload) {
		v := q.r.Header.Get("x-amz-decoded-content-length")
		d, err := strconv.ParseInt(v, 10, 64)
		if err != nil || d < 0 {
			return 0, fault.New(fault.Invalid, "length-missing", "a body in chunks needs its decoded length").
				In("x-amz-decoded-content-length").Do("send the length of the body before it is cut into chunks")
		}
		return d, nil
	}
	if n < 0 {
		return 0, fault.New(fault.Invalid, "length-missing", "You must provide the Content-Length HTTP header").
			In("Content-Length").Do("send the length of the body, or send it in chunks of the dialect")
	}
	return n, nil
}

// mayAskOf refuses conditions on what is at an address to those who may neither
// list nor read it: the answer would tell them what is there.
func (q *request) mayAskOf(a catalog.Address) error {
	if q.r.Header.Get("If-Match") == "" && q.r.Header.Get("If-None-Match") == "" {
		return nil
	}
	for _, do := range []access.Rights{access.List, access.Read} {
		d, _, err := q.s.gate.Decide(q.ctx(), q.ask(do, a.Bucket, a.Key.String()))
		if err != nil || d.Allowed {
			return err
		}
	}
	return access.Decision{Why: q.subject.String() +
		" may neither list nor read what is there, which a condition would tell",
		Remedy: "send no condition, or have listing granted as well"}.Refused()
}

func (q *request) writeConditions() (absent bool, etag *object.ETag, err error) {
	if v := q.r.Header.Get("If-None-Match"); v != "" {
		if v != "*" {
			return false, nil, notImplemented("If-None-Match other than * on a write")
		}
		absent = true
	}
	switch v := q.r.Header.Get("If-Match"); v {
	case "":
	case "*": // whatever it is, it must be there
		etag = &object.AnyETag
	default:
		etag, err = parseETag(strings.Trim(v, `"`))
	}
	return absent, etag, err
}

// parseETag reads an ETag as this service gives them; one of another form can
// match nothing.
func parseETag(s string) (*object.ETag, error) {
	var e object.ETag
	sum, parts, has := strings.Cut(s, "-")
	b, err := hex.DecodeString(sum)
	if err == nil && has {
		e.Parts, err = strconv.Atoi(parts)
	}
	if err != nil || len(b) != md5.Size {
		return nil, fault.New(fault.Precondition, "mismatch", "the object's ETag is not %q", s).In("If-Match")
	}
	copy(e.MD5[:], b)
	return &e, nil
}

func (q *request) putObject() error {
	if err := q.refuseUnsupported(); err != nil {
		return err
	}
	a, err := q.address()
	if err != nil {
		return err
	}
	if err := q.mayAskOf(a); err != nil {
		return err
	}
	p := store.Put{Address: a, Author: q.author(), Headers: q.headers()}
	if p.Origin, err = q.origin(a); err != nil {
		return err
	}
	if p.Metadata, err = q.metadata(); err != nil {
		return err
	}
	if p.Tags, err = parseTagging(q.r.Header.Get("x-amz-tagging")); err != nil {
		return err
	}
	if p.Seal, err = q.seals(); err != nil {
		return err
	}
	if p.Tier, err = q.wantedTier(); err != nil {
		return err
	}
	if p.Size, err = q.size(); err != nil {
		return err
	}
	if p.IfAbsent, p.IfETag, err = q.writeConditions(); err != nil {
		return err
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	if err := q.claims(&p, body); err != nil {
		return err
	}
	p.Body = body
	v, err := q.s.store.Put(q.ctx(), p)
	if err != nil {
		return err
	}
	h := q.w.Header()
	h.Set("ETag", `"`+v.ETag.String()+`"`)
	setChecksums(h, v)
	if err := q.saySealed(v); err != nil {
		return err
	}
	if err := q.sayVersion("x-amz-version-id", v.ID()); err != nil {
		return err
	}
	if err := q.sayLacks(p.Bucket, v); err != nil {
		return err
	}
	h.Set("Content-Length", "0")
	return q.noBody(http.StatusOK)
}

// sayLacks tells what the bucket asks of metadata and the version has not.
func (q *request) sayLacks(name object.BucketName, v *object.Version) error {
	b, err := q.s.store.Lacks(q.ctx(), name, v)
	if len(b) > 0 {
		q.w.Header().Set("Spindle-Lacks", strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' {
				return '?'
			}
			return r
		}, bucket.Told(b)))
	}
	return err
}

func (q *request) conditions() (c object.Conditions) {
	h := q.r.Header
	c.IfMatch, c.IfNoneMatch = object.ParseTags(h.Get("If-Match")), object.ParseTags(h.Get("If-None-Match"))
	// A date that cannot be read is ignored (RFC 9110, section 13.1.3).
	c.IfModifiedSince, _ = http.ParseTime(h.Get("If-Modified-Since"))
	c.IfUnmodifiedSince, _ = http.ParseTime(h.Get("If-Unmodified-Since"))
	return c
}

// versionID gives the version that the request names.
func (q *request) versionID() (object.VersionID, error) {
	if v, ok := q.query["versionId"]; ok && v[0] != "" {
		return object.ParseVersionID(v[0])
	}
	return object.Current, nil
}

// sayVersion names a version in a header, in buckets that have or had
// versioning.
func (q *request) sayVersion(header string, id object.VersionID) error {
	if id == object.Plain {
		f, err := q.s.store.Bucket(q.ctx(), q.bucket)
		if err != nil || f.Versioning == object.Off {
			return err
		}
	}
	q.w.Header().Set(header, id.String())
	return nil
}

// version gives the version that the request is about, and names it in the
// answer. A delete marker is an error.
func (q *request) version() (a catalog.Address, v *object.Version, err error) {
	if a, err = q.address(); err != nil {
		return a, nil, err
	}
	id, err := q.versionID()
	if err != nil {
		return a, nil, err
	}
	if v, err = q.s.store.FindVersion(q.ctx(), a, id); err != nil {
		return a, nil, q.hide(a, err)
	}
	if v.Marker {
		h := q.w.Header()
		h.Set("x-amz-delete-marker", "true")
		h.Set("x-amz-version-id", v.ID().String())
		h.Set("Allow", http.MethodDelete)
		return a, nil, fault.New(fault.Conflict, "version-marker",
			"The specified method is not allowed against this resource: the version is a delete marker").In("versionId").
			Do("name another version")
	}
	return a, v, q.sayVersion("x-amz-version-id", v.ID())
}
