package server

import (
	"bytes"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/digest"
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

const metaPrefix = "X-Amz-Meta-"

func (q *request) metadata() (object.Metadata, error) {
	fields := map[string]string{}
	for name, values := range q.r.Header {
		if rest, ok := strings.CutPrefix(name, metaPrefix); ok {
			fields[rest] = strings.Join(values, ",")
		}
	}
	return object.NewMetadata(fields)
}

func (q *request) headers() object.Headers {
	h := q.r.Header
	encoding := strings.Join(h.Values("Content-Encoding"), ",")
	if sign.IsChunked(q.auth.Payload) { // the chunks are how it travelled, not what it is
		var rest []string
		for part := range strings.SplitSeq(encoding, ",") {
			if part = strings.TrimSpace(part); part != "" && part != "aws-chunked" {
				rest = append(rest, part)
			}
		}
		encoding = strings.Join(rest, ",")
	}
	return object.Headers{ContentType: h.Get("Content-Type"), CacheControl: h.Get("Cache-Control"),
		ContentDisposition: h.Get("Content-Disposition"),
		ContentEncoding:    encoding, ContentLanguage: h.Get("Content-Language"), Expires: h.Get("Expires")}
}

// refuseUnsupported refuses headers that ask for what is not done here, so that
// nobody believes it was.
func (q *request) refuseUnsupported() error {
	for name, values := range q.r.Header {
		l := strings.ToLower(name)
		v := values[0]
		switch {
		case l == "x-amz-storage-class":
			if v != "STANDARD" {
				return fault.New(fault.Invalid, "storage-class", "the only storage class here is STANDARD").In(l).
					Do("leave the header out")
			}
		case strings.HasPrefix(l, "x-amz-object-lock-"), strings.HasPrefix(l, "x-amz-grant-"),
			l == "x-amz-website-redirect-location", l == "x-amz-write-offset-bytes":
			return notImplemented(l)
		}
	}
	return q.privateACL()
}

var checksumHeaders = []struct {
	header string
	kind   digest.Kind
}{
	{"X-Amz-Checksum-Crc32", digest.CRC32}, {"X-Amz-Checksum-Crc32c", digest.CRC32C},
	{"X-Amz-Checksum-Crc64nvme", digest.CRC64NVME},
	{"X-Amz-Checksum-Sha1", digest.SHA1}, {"X-Amz-Checksum-Sha256", digest.SHA256},
}

func parseChecksum(kind digest.Kind, header, v string) ([]byte, error) {
	b, err := base64.StdEncoding.DecodeString(v)
	if err != nil || len(b) != kind.Size() {
		return nil, fault.New(fault.Invalid, "checksum-malformed",
			"Value for %s header is invalid: a %s has %d bytes in base64", strings.ToLower(header), kind, kind.Size()).In(header)
	}
	return b, nil
}

// claimedMD5 reads the MD5 that the request claims of its body; nil for none.
func (q *request) claimedMD5() (*[md5.Size]byte, error) {
	v := q.r.Header.Get("Content-Md5")
	if v == "" {
		return nil, nil
	}
	b, err := base64.StdEncoding.DecodeString(v)
	if err != nil || len(b) != md5.Size {
		return nil, fault.New(fault.Invalid, "digest-malformed",
			"The Content-MD5 you specified was invalid: it has 16 bytes in base64").In("Content-MD5")
	}
	return (*[md5.Size]byte)(b), nil
}

// claims reads what digests the request claims of its body.
func (q *request) claims(p *store.Put, body io.Reader) error {
	h := q.r.Header
	var err error
	if p.MD5, err = q.claimedMD5(); err != nil {
		return err
	}
	var value []byte
	for _, c := range checksumHeaders {
		v := h.Get(c.header)
		if v == "" {
			continue
		}
		if p.Checksum != digest.None {
			return fault.New(fault.Invalid, "checksum-malformed", "Expecting a single x-amz-checksum- header").In(c.header)
		}
		b, err := parseChecksum(c.kind, c.header, v)
		if err != nil {
			return err
		}
		p.Checksum, value = c.kind, b
	}
	if t := h.Get("x-amz-trailer"); t != "" && value == nil {
		found := false
		for _, c := range checksumHeaders {
			if strings.EqualFold(t, c.header) {
				p.Checksum, found = c.kind, true
				chunks, ok := body.(*sign.Reader)
				if !ok {
					return fault.New(fault.Invalid, "checksum-malformed",
						"a trailer was announced, and the body does not come in chunks").In("x-amz-trailer")
				}
				p.Claim = func() ([]byte, error) {
					v := chunks.Trailer.Get(c.header)
					if v == "" {
						return nil, fault.New(fault.Invalid, "checksum-malformed", "the trailer %s was announced and did not come", t).
							In("x-amz-trailer")
					}
					return parseChecksum(c.kind, c.header, v)
				}
			}
		}
		if !found {
			return fault.New(fault.Invalid, "checksum-malformed", "the trailer %s is not known", t).In("x-amz-trailer")
		}
		return nil
	}
	if p.Checksum == digest.None {
		name := h.Get("x-amz-sdk-checksum-algorithm")
		for kind, n := range checksumNames {
			if strings.EqualFold(n, name) {
				p.Checksum = kind // compute and keep it
			}
		}
	}
	p.Claim = func() ([]byte, error) { return value, nil }
	return nil
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
	if v := q.r.Header.Get("If-Match"); v != "" {
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
	if p.Metadata, err = q.metadata(); err != nil {
		return err
	}
	if p.Tags, err = parseTagging(q.r.Header.Get("x-amz-tagging")); err != nil {
		return err
	}
	if p.Seal, err = q.seals(); err != nil {
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
	h.Set("Content-Length", "0")
	return q.noBody(http.StatusOK)
}

func setChecksums(h http.Header, v *object.Version) {
	h.Set("x-amz-checksum-crc64nvme", base64.StdEncoding.EncodeToString([]byte{byte(v.CRC64 >> 56), byte(v.CRC64 >> 48),
		byte(v.CRC64 >> 40), byte(v.CRC64 >> 32),
		byte(v.CRC64 >> 24), byte(v.CRC64 >> 16), byte(v.CRC64 >> 8), byte(v.CRC64)}))
	h.Set("x-amz-checksum-type", "FULL_OBJECT")
	for _, c := range checksumHeaders {
		if c.kind != v.Checksum.Kind || c.kind == digest.CRC64NVME {
			continue
		}
		sum := base64.StdEncoding.EncodeToString(v.Checksum.Bytes)
		if v.PartSums {
			// What stands for the parts goes alone: one type holds for all that is sent.
			h.Del("x-amz-checksum-crc64nvme")
			h.Set("x-amz-checksum-type", "COMPOSITE")
			sum += "-" + strconv.Itoa(v.ETag.Parts)
		}
		h.Set(c.header, sum)
	}
}

// overrides are query parameters that replace headers of an answer.
var overrides = map[string]string{"response-content-type": "Content-Type",
	"response-content-language": "Content-Language", "response-expires": "Expires",
	"response-cache-control": "Cache-Control", "response-content-disposition": "Content-Disposition",
	"response-content-encoding": "Content-Encoding"}

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

// What browsers are told of objects, which are anybody's: to take them for what
// they are, and as pages to run nothing, send nothing and be of no origin.
var (
	nosniff = []string{"nosniff"}
	sandbox = []string{"sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; media-src 'self'; form-action 'none'; frame-ancestors 'none'"}
)

func (q *request) getObject() error {
	if err := q.checkOverrides(); err != nil {
		return err
	}
	a, v, err := q.version()
	if err != nil {
		return err
	}
	h := q.w.Header()
	switch q.conditions().Read(v) {
	case object.NotModified:
		h.Set("ETag", `"`+v.ETag.String()+`"`)
		h.Set("Last-Modified", v.Created.Format(http.TimeFormat))
		return q.noBody(http.StatusNotModified)
	case object.Failed:
		return fault.New(fault.Precondition, "mismatch", "At least one of the pre-conditions you specified did not hold").
			In("condition")
	}
	from, length, part, err := q.stretch(v)
	if err != nil {
		return err
	}
	var body *store.Body
	if q.r.Method != http.MethodHead {
		tag := v.ETag
		if body, v, err = q.s.store.Open(q.ctx(), a, v); err != nil {
			return err
		}
		defer body.Close()
		if v.ETag != tag { // replaced between the look and the opening
			if from, length, part, err = q.wanted(v); err != nil {
				return err
			}
		}
	}
	if err := q.saySealed(v); err != nil {
		return err
	}
	h["Content-Length"] = []string{strconv.FormatInt(length, 10)}
	q.describe(v)
	status := http.StatusOK
	if part {
		status = http.StatusPartialContent
		h["Content-Range"] = []string{fmt.Sprintf("bytes %d-%d/%d", from, from+length-1, v.Size)}
	} else if strings.EqualFold(q.r.Header.Get("x-amz-checksum-mode"), "ENABLED") {
		setChecksums(h, v)
	}
	if body == nil {
		return q.noBody(status)
	}
	if err := body.Prepare(q.ctx(), from, length); err != nil {
		return err
	}
	q.status, q.out = status, length
	q.w.WriteHeader(status)
	return body.Send(q.w, from, length, q.between())
}

// checkOverrides refuses values that a request wants in the answer's header and that
// no header may have.
func (q *request) checkOverrides() error {
	for param := range overrides {
		if strings.ContainsFunc(q.query.Get(param), unicode.IsControl) {
			return fault.New(fault.Invalid, "override", "the value has a control character, which no header may have").In(param).
				Do("leave it out")
		}
	}
	return nil
}

// stretch gives what of a version is wanted, by a range or a part's number; part says
// that it is not all of it.
func (q *request) stretch(v *object.Version) (from, length int64, part bool, err error) {
	n := q.query.Get("partNumber")
	if from, length, part, err = q.wanted(v); err != nil || n == "" {
		if err != nil {
			q.w.Header().Set("Content-Range", fmt.Sprintf("bytes */%d", v.Size))
		}
		return from, length, part, err
	}
	if part {
		return 0, 0, false, fault.New(fault.Invalid, "part-and-range",
			"Cannot specify both Range header and partNumber query parameter").In("partNumber")
	}
	number, perr := strconv.Atoi(n)
	if perr != nil {
		number = 0
	}
	if err := store.CheckPartNumber(number); err != nil {
		return 0, 0, false, err
	}
	if from, length, err = q.partRange(v, number); err != nil {
		return 0, 0, false, err
	}
	q.w.Header().Set("x-amz-mp-parts-count", strconv.Itoa(max(1, v.ETag.Parts)))
	return from, length, v.Size > 0, nil
}

// describe puts what is known of a version into the answer's header, and what the
// request wants there instead.
func (q *request) describe(v *object.Version) {
	h := q.w.Header()
	h["Accept-Ranges"] = []string{"bytes"}
	h["Last-Modified"] = []string{v.Created.Format(http.TimeFormat)}
	h["ETag"] = []string{`"` + v.ETag.String() + `"`}
	ct := v.Headers.ContentType
	if ct == "" {
		ct = "binary/octet-stream"
	}
	h["Content-Type"] = []string{ct}
	h["X-Content-Type-Options"] = nosniff
	h["Content-Security-Policy"] = sandbox
	for name, value := range map[string]string{"Cache-Control": v.Headers.CacheControl,
		"Content-Disposition": v.Headers.ContentDisposition,
		"Content-Encoding":    v.Headers.ContentEncoding, "Content-Language": v.Headers.ContentLanguage,
		"Expires": v.Headers.Expires} {
		if value != "" {
			h[name] = []string{value}
		}
	}
	for name, value := range v.Metadata {
		h["x-amz-meta-"+name] = []string{value}
	}
	if len(v.Tags) > 0 {
		h.Set("x-amz-tagging-count", strconv.Itoa(len(v.Tags)))
	}
	if len(q.query) > 0 {
		for param, name := range overrides {
			if value := q.query.Get(param); value != "" {
				h.Set(name, value)
			}
		}
	}
}

// wanted gives the stretch of a version that the request asks for. Its Range counts
// unless If-Range names another version: by an entity tag that compares strongly, or
// by the exact date (RFC 9110, section 13.1.5).
func (q *request) wanted(v *object.Version) (from, length int64, part bool, err error) {
	if still := q.r.Header.Get("If-Range"); still != "" {
		at, err := http.ParseTime(still)
		if still != `"`+v.ETag.String()+`"` && (err != nil || !at.Equal(v.Created.Truncate(time.Second))) {
			return 0, v.Size, false, nil
		}
	}
	return parseRange(q.r.Header.Get("Range"), v.Size)
}

// parseRange reads a Range header (RFC 9110, section 14.1.2). One range is
// supported; what is malformed or names several is ignored, as the RFC allows.
func parseRange(header string, size int64) (from, length int64, part bool, err error) {
	spec, ok := strings.CutPrefix(header, "bytes=")
	if !ok || strings.Contains(spec, ",") {
		return 0, size, false, nil
	}
	a, b, ok := strings.Cut(strings.TrimSpace(spec), "-")
	unsatisfied := fault.New(fault.Invalid, "range", "The requested range is not satisfiable: the object has %d bytes",
		size).In("Range")
	if a == "" {
		n, perr := strconv.ParseInt(b, 10, 64)
		if !ok || perr != nil || n < 0 {
			return 0, size, false, nil
		}
		if n == 0 || size == 0 {
			return 0, 0, false, unsatisfied
		}
		n = min(n, size)
		return size - n, n, true, nil
	}
	from, perr := strconv.ParseInt(a, 10, 64)
	if !ok || perr != nil || from < 0 {
		return 0, size, false, nil
	}
	to := size - 1
	if b != "" {
		to, perr = strconv.ParseInt(b, 10, 64)
		if perr != nil || to < from {
			return 0, size, false, nil
		}
		to = min(to, size-1)
	}
	if from >= size {
		return 0, 0, false, unsatisfied
	}
	return from, to - from + 1, true, nil
}

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
	if c.Seal, err = q.seals(); err != nil {
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
	if c.IfAbsent, _, err = q.writeConditions(); err != nil {
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
	if id != object.Current {
		q.w.Header().Set("x-amz-copy-source-version-id", id.String())
	}
	d := newDoc("CopyObjectResult", true)
	d.time("LastModified", v.Created)
	d.text("ETag", `"`+v.ETag.String()+`"`)
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
	a := store.Annotation{Address: c.To, Author: c.Author}
	if c.Replace {
		a.Headers, a.Metadata = &c.Headers, object.Edit{Clear: true, Set: c.Metadata}
	}
	if c.ReplaceTags {
		a.Tags = object.Edit{Clear: true, Set: c.Tags}
	}
	return q.s.store.Annotate(q.ctx(), a)
}
