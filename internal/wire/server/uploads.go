package server

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

func checksumType(perPart bool) string {
	if perPart {
		return "COMPOSITE"
	}
	return "FULL_OBJECT"
}

// checksumElement gives the dialect's element for a kind of checksum.
func checksumElement(k digest.Kind) string { return "Checksum" + checksumNames[k] }

func (q *request) startUpload() error {
	if err := q.refuseUnsupported(); err != nil {
		return err
	}
	a, err := q.address()
	if err != nil {
		return err
	}
	u := catalog.Upload{Headers: q.headers()}
	if u.Origin, err = q.origin(a); err != nil {
		return err
	}
	if u.Sealed, err = q.seals(); err != nil {
		return err
	}
	if u.Metadata, err = q.metadata(); err != nil {
		return err
	}
	if u.Tags, err = parseTagging(q.r.Header.Get("x-amz-tagging")); err != nil {
		return err
	}
	h := q.w.Header()
	if name := q.r.Header.Get("x-amz-checksum-algorithm"); name != "" {
		for k, n := range checksumNames {
			if strings.EqualFold(n, name) {
				u.Checksum = k
			}
		}
		if u.Checksum == digest.None {
			return fault.New(fault.Invalid, "checksum-malformed", "Checksum algorithm provided is unsupported: %s", name).
				In("x-amz-checksum-algorithm")
		}
		switch t := q.r.Header.Get("x-amz-checksum-type"); t {
		case "COMPOSITE":
			u.PerPart = true
		case "FULL_OBJECT":
		case "":
			u.PerPart = u.Checksum != digest.CRC64NVME
		default:
			return fault.New(fault.Invalid, "checksum-malformed", "the checksum type is COMPOSITE or FULL_OBJECT").
				In("x-amz-checksum-type")
		}
		if u.PerPart && u.Checksum == digest.CRC64NVME {
			return fault.New(fault.Invalid, "checksum-malformed",
				"The COMPOSITE checksum type cannot be used with the crc64nvme checksum algorithm.").In("x-amz-checksum-type")
		}
		h.Set("x-amz-checksum-algorithm", checksumNames[u.Checksum])
		h.Set("x-amz-checksum-type", checksumType(u.PerPart))
	}
	if u.TierName, err = q.wantedTier(); err != nil {
		return err
	}
	started, err := q.s.store.StartUpload(q.ctx(), a, u, q.author())
	if err != nil {
		return err
	}
	if started.Sealed {
		h.Set(sealHeader, sealAlgorithm)
	}
	d := newDoc("InitiateMultipartUploadResult", true)
	d.text("Bucket", q.bucket.String())
	d.text("Key", a.Key.String())
	d.text("UploadId", started.ID)
	return q.xml(d)
}

// part reads which part of which upload the request is about.
func (q *request) part() (p store.PutPart, err error) {
	if p.Address, err = q.address(); err != nil {
		return p, err
	}
	p.Author, p.Upload = q.author(), q.query.Get("uploadId")
	n, err := strconv.Atoi(q.query.Get("partNumber"))
	if err != nil {
		n = 0
	}
	p.Number = n
	return p, store.CheckPartNumber(n)
}

func (q *request) putPart() error {
	p, err := q.part()
	if err != nil {
		return err
	}
	if p.Size, err = q.size(); err != nil {
		return err
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	// The claims are those of a put.
	var put store.Put
	if err := q.claims(&put, body); err != nil {
		return err
	}
	p.Body, p.MD5, p.Checksum, p.Claim = body, put.MD5, put.Checksum, put.Claim
	part, err := q.s.store.PutPart(q.ctx(), p)
	if err != nil {
		return err
	}
	h := q.w.Header()
	h.Set("ETag", `"`+hex.EncodeToString(part.MD5[:])+`"`)
	if part.Body.Sealed() {
		h.Set(sealHeader, sealAlgorithm)
	}
	for _, c := range checksumHeaders {
		if c.kind == digest.CRC64NVME {
			h.Set(c.header, base64.StdEncoding.EncodeToString(crcOf(part.CRC64)))
		} else if c.kind == p.Checksum && part.Checksum != nil {
			h.Set(c.header, base64.StdEncoding.EncodeToString(part.Checksum))
		}
	}
	h.Set("Content-Length", "0")
	return q.noBody(http.StatusOK)
}

func crcOf(crc uint64) []byte {
	v := object.Version{CRC64: crc}
	h := http.Header{}
	setChecksums(h, &v)
	b, _ := base64.StdEncoding.DecodeString(h.Get("x-amz-checksum-crc64nvme")) // it was just encoded
	return b
}

func (q *request) copyPart() error {
	p, err := q.part()
	if err != nil {
		return err
	}
	from, id, err := q.copySource()
	if err != nil {
		return err
	}
	offset, length := int64(0), int64(-1)
	if v := q.r.Header.Get("x-amz-copy-source-range"); v != "" {
		var to int64
		if n, err := fmt.Sscanf(v, "bytes=%d-%d", &offset, &to); err != nil || n != 2 || to < offset ||
			fmt.Sprintf("bytes=%d-%d", offset, to) != v {
			return fault.New(fault.Invalid, "copy-range",
				"The x-amz-copy-source-range value must be of the form bytes=first-last where first and last are the zero-based offsets of the first and last bytes to copy").In("x-amz-copy-source-range")
		}
		length = to - offset + 1
	}
	part, err := q.s.store.CopyPart(q.ctx(), p, from, id, offset, length, q.sourceConditions())
	if err != nil && !fault.HasCode(err, "upload-missing") {
		err = q.hide(from, err)
	}
	if err != nil {
		return err
	}
	if id != object.Current {
		q.w.Header().Set("x-amz-copy-source-version-id", id.String())
	}
	if part.Body.Sealed() {
		q.w.Header().Set(sealHeader, sealAlgorithm)
	}
	d := newDoc("CopyPartResult", true)
	d.time("LastModified", part.At)
	d.text("ETag", `"`+hex.EncodeToString(part.MD5[:])+`"`)
	d.text("ChecksumCRC64NVME", base64.StdEncoding.EncodeToString(crcOf(part.CRC64)))
	return q.xml(d)
}

func (q *request) listParts() error {
	a, err := q.address()
	if err != nil {
		return err
	}
	u, err := q.s.store.FindUpload(q.ctx(), a, q.query.Get("uploadId"))
	if err != nil {
		return err
	}
	limit, err := q.count("max-parts", 1000)
	if err != nil {
		return err
	}
	after := 0
	if v := q.query.Get("part-number-marker"); v != "" {
		if after, err = strconv.Atoi(v); err != nil || after < 0 {
			return fault.New(fault.Invalid, "part-number-marker", "the marker is a part number").In("part-number-marker")
		}
	}
	parts, err := q.s.store.Catalog.Parts(q.ctx(), u.Seq, after, limit+1)
	if err != nil {
		return err
	}
	more := len(parts) > limit
	parts = parts[:min(limit, len(parts))]
	d := newDoc("ListPartsResult", true)
	d.text("Bucket", q.bucket.String())
	d.text("Key", a.Key.String())
	d.text("UploadId", u.ID)
	q.owner(d, "Initiator")
	q.owner(d, "Owner")
	class, err := q.class(u.Tier)
	if err != nil {
		return err
	}
	d.text("StorageClass", class)
	d.number("PartNumberMarker", int64(after))
	if more && len(parts) > 0 {
		d.number("NextPartNumberMarker", int64(parts[len(parts)-1].Number))
	}
	d.number("MaxParts", int64(limit))
	d.bool("IsTruncated", more)
	if u.Checksum != digest.None {
		d.text("ChecksumAlgorithm", checksumNames[u.Checksum])
		d.text("ChecksumType", checksumType(u.PerPart))
	}
	for _, p := range parts {
		d.begin("Part")
		d.number("PartNumber", int64(p.Number))
		d.time("LastModified", p.At)
		d.text("ETag", `"`+hex.EncodeToString(p.MD5[:])+`"`)
		d.number("Size", p.Size)
		writePartSums(d, u.Checksum, p)
		d.end()
	}
	return q.xml(d)
}

func writePartSums(d *doc, kind digest.Kind, p catalog.Part) {
	d.text("ChecksumCRC64NVME", base64.StdEncoding.EncodeToString(crcOf(p.CRC64)))
	if kind != digest.None && kind != digest.CRC64NVME && p.Checksum != nil {
		d.text(checksumElement(kind), base64.StdEncoding.EncodeToString(p.Checksum))
	}
}

// count reads a number of entries for a page.
func (q *request) count(name string, most int) (int, error) {
	v := q.query.Get(name)
	if v == "" {
		return most, nil
	}
	n, err := strconv.Atoi(v)
	if err != nil || n < 0 || n > math.MaxInt32 {
		return 0, fault.New(fault.Invalid, name, "%s is a number from 0 to %d, of which %d count at the most", name,
			math.MaxInt32, most).In(name)
	}
	return min(n, most), nil
}

func (q *request) listUploads() error {
	get := q.query.Get
	place, err := q.readPlace(get("key-marker"), "max-uploads")
	if err != nil {
		return err
	}
	prefix, delimiter, marker, limit, encode := place.prefix, place.delimiter, place.after, place.max, place.encode
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	l := catalog.UploadList{Bucket: f.ID, Prefix: prefix, AfterKey: marker, Max: 1000}
	if id := get("upload-id-marker"); id != "" && marker != "" {
		key, err := object.ParseKey(marker)
		if err != nil {
			return err
		}
		u, err := q.s.store.FindUpload(q.ctx(), catalog.Address{Bucket: q.bucket, Key: key}, id)
		switch {
		case err == nil:
			l.AfterSeq = u.Seq
		case !fault.HasCode(err, "upload-missing"): // one that ended meanwhile: go on with the next key
			return err
		}
	}
	if err := q.build(); err != nil {
		return err
	}
	page, err := q.foldUploads(l, place)
	if err != nil {
		return err
	}
	d := newDoc("ListMultipartUploadsResult", true)
	d.text("Bucket", q.bucket.String())
	d.text("KeyMarker", encode(marker))
	d.text("UploadIdMarker", get("upload-id-marker"))
	if page.more {
		d.text("NextKeyMarker", encode(page.lastKey))
		d.text("NextUploadIdMarker", page.lastID)
	}
	d.text("Prefix", encode(prefix))
	if delimiter != "" {
		d.text("Delimiter", encode(delimiter))
	}
	if get("encoding-type") == "url" {
		d.text("EncodingType", "url")
	}
	d.number("MaxUploads", int64(limit))
	d.bool("IsTruncated", page.more)
	for _, u := range page.uploads {
		d.begin("Upload")
		d.text("Key", encode(u.Key.String()))
		d.text("UploadId", u.ID)
		q.owner(d, "Initiator")
		q.owner(d, "Owner")
		d.text("StorageClass", place.class(u.Tier))
		d.time("Initiated", u.Created)
		if u.Checksum != digest.None {
			d.text("ChecksumAlgorithm", checksumNames[u.Checksum])
			d.text("ChecksumType", checksumType(u.PerPart))
		}
		d.end()
	}
	for _, p := range page.folded {
		d.begin("CommonPrefixes")
		d.text("Prefix", encode(p))
		d.end()
	}
	return q.xml(d)
}

// uploadPage is a page of open uploads; those behind a delimiter are folded.
type uploadPage struct {
	uploads         []*catalog.Upload
	folded          []string
	more            bool
	lastKey, lastID string // of the last in the page
}

// foldUploads reads uploads from where l stands until the page is full.
func (q *request) foldUploads(l catalog.UploadList, at *listing) (page uploadPage, err error) {
	for {
		list, err := q.s.store.Catalog.Uploads(q.ctx(), l)
		if err != nil {
			return page, err
		}
		for _, u := range list {
			key := u.Key.String()
			l.AfterKey, l.AfterSeq = key, u.Seq
			fold := at.fold(key)
			if fold != "" && (fold <= at.after && strings.HasPrefix(at.after, fold) || len(page.folded) > 0 &&
				page.folded[len(page.folded)-1] == fold) {
				continue
			}
			if len(page.uploads)+len(page.folded) == at.max {
				page.more = true
				return page, nil
			}
			if fold != "" {
				page.folded = append(page.folded, fold)
				page.lastKey, page.lastID = fold, ""
				continue
			}
			page.uploads = append(page.uploads, u)
			page.lastKey, page.lastID = key, u.ID
		}
		if len(list) < l.Max {
			return page, nil
		}
	}
}

// completeIn is the document that completes an upload.
type completeIn struct {
	XMLName xml.Name
	Part    []completePartIn
}

type completePartIn struct {
	PartNumber                                                                     int
	ETag                                                                           string
	ChecksumCRC32, ChecksumCRC32C, ChecksumCRC64NVME, ChecksumSHA1, ChecksumSHA256 string
}

func (q *request) completeUpload() error {
	a, err := q.address()
	if err != nil {
		return err
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	upload := q.query.Get("uploadId")
	// The upload is looked for before its document is read; one that was completed says so again.
	if err := q.s.store.CheckUpload(q.ctx(), a, upload); err != nil {
		return err
	}
	var in completeIn
	if err := q.readDocument(body, completeDocument, &in); err != nil {
		return err
	}
	if in.XMLName.Local != "CompleteMultipartUpload" || len(in.Part) > object.MaxParts {
		return fault.New(fault.Invalid, "document-malformed",
			"the document is no CompleteMultipartUpload of at most %d parts", object.MaxParts).In("body")
	}
	if len(in.Part) == 0 {
		return fault.New(fault.Invalid, "document-malformed", "You must specify at least one part").In("body")
	}
	c := store.Complete{Address: a, Author: q.author(), Upload: upload, Size: -1}
	if err := q.mayAskOf(a); err != nil {
		return err
	}
	if c.IfAbsent, c.IfETag, err = q.writeConditions(); err != nil {
		return err
	}
	for _, p := range in.Part {
		x, err := p.parse()
		if err != nil {
			return err
		}
		c.Parts = append(c.Parts, x)
	}
	if err := q.readClaims(&c); err != nil {
		return err
	}
	v, err := q.s.store.Complete(q.ctx(), c)
	if err != nil {
		return err
	}
	return q.sayCompleted(a, v)
}

func (p completePartIn) parse() (x store.CompletePart, err error) {
	x.Number = p.PartNumber
	if p.ETag != "" {
		e, err := parseETag(strings.Trim(p.ETag, `"`))
		if err != nil || e.Parts != 0 {
			return x, fault.New(fault.Invalid, "part-missing", "part %d has no ETag %q", p.PartNumber, p.ETag).In("parts")
		}
		x.MD5 = &e.MD5
	}
	for kind, v := range map[digest.Kind]string{digest.CRC32: p.ChecksumCRC32, digest.CRC32C: p.ChecksumCRC32C,
		digest.SHA1: p.ChecksumSHA1, digest.SHA256: p.ChecksumSHA256} {
		if v != "" {
			if x.Checksum, err = parseChecksum(kind, checksumElement(kind), v); err != nil {
				return x, err
			}
		}
	}
	return x, nil
}

// readClaims reads what the headers say of the whole.
func (q *request) readClaims(c *store.Complete) (err error) {
	for _, h := range checksumHeaders {
		v := q.r.Header.Get(h.header)
		if v == "" {
			continue
		}
		if sum, _, per := strings.Cut(v, "-"); per {
			v = sum
		}
		c.Kind = h.kind
		if c.Checksum, err = parseChecksum(h.kind, h.header, v); err != nil {
			return err
		}
	}
	if v := q.r.Header.Get("x-amz-mp-object-size"); v != "" {
		if c.Size, err = strconv.ParseInt(v, 10, 64); err != nil || c.Size < 0 {
			return fault.New(fault.Invalid, "size", "the size is a number of bytes").In("x-amz-mp-object-size")
		}
	}
	return nil
}

func (q *request) sayCompleted(a catalog.Address, v *object.Version) error {
	if err := q.sayVersion("x-amz-version-id", v.ID()); err != nil {
		return err
	}
	if err := q.saySealed(v); err != nil {
		return err
	}
	d := newDoc("CompleteMultipartUploadResult", true)
	scheme := "http"
	if q.s.settings.TLS {
		scheme = "https"
	}
	d.text("Location", scheme+"://"+q.r.Host+q.r.URL.EscapedPath())
	d.text("Bucket", q.bucket.String())
	d.text("Key", a.Key.String())
	d.etag(v.ETag)
	sums := http.Header{}
	setChecksums(sums, v)
	for _, h := range checksumHeaders {
		if s := sums.Get(h.header); s != "" {
			d.text(checksumElement(h.kind), s)
		}
	}
	d.text("ChecksumType", sums.Get("x-amz-checksum-type"))
	return q.xml(d)
}

func (q *request) abandonUpload() error {
	a, err := q.address()
	if err != nil {
		return err
	}
	if err := q.s.store.Abandon(q.ctx(), a, q.query.Get("uploadId")); err != nil {
		return err
	}
	return q.noBody(http.StatusNoContent)
}

// attributes answers what an object's attributes are.
func (q *request) attributes() error {
	_, v, err := q.version()
	if err != nil {
		return err
	}
	q.w.Header().Set("Last-Modified", v.Created.Format(http.TimeFormat))
	d := newDoc("GetObjectAttributesResponse", true)
	wanted := strings.Join(q.r.Header.Values("x-amz-object-attributes"), ",")
	if wanted == "" {
		return fault.New(fault.Invalid, "attributes", "the header says which attributes are wanted").
			In("x-amz-object-attributes")
	}
	for name := range strings.SplitSeq(wanted, ",") {
		switch name = strings.TrimSpace(name); name {
		case "ETag":
			d.text("ETag", v.ETag.String())
		case "Checksum":
			d.begin("Checksum")
			sums := http.Header{}
			setChecksums(sums, v)
			for _, h := range checksumHeaders {
				if s := sums.Get(h.header); s != "" {
					d.text(checksumElement(h.kind), strings.Split(s, "-")[0])
				}
			}
			d.text("ChecksumType", sums.Get("x-amz-checksum-type"))
			d.end()
		case "ObjectParts":
			if v.ETag.Parts > 0 {
				if err := q.objectParts(d, v); err != nil {
					return err
				}
			}
		case "StorageClass":
			class, err := q.class(v.Body.Tier)
			if err != nil {
				return err
			}
			d.text("StorageClass", class)
		case "ObjectSize":
			d.number("ObjectSize", v.Size)
		default:
			return fault.New(fault.Invalid, "attributes", "Invalid attribute name specified: %s", name).
				In("x-amz-object-attributes")
		}
	}
	return q.xml(d)
}

func (q *request) objectParts(d *doc, v *object.Version) error {
	limit, after := 1000, 0
	for name, into := range map[string]*int{"x-amz-max-parts": &limit, "x-amz-part-number-marker": &after} {
		if s := q.r.Header.Get(name); s != "" {
			n, err := strconv.Atoi(s)
			if err != nil || n < 0 {
				return fault.New(fault.Invalid, "attributes", "%s is a number", name).In(name)
			}
			*into = n
		}
	}
	limit = min(limit, 1000)
	parts, err := q.s.store.Catalog.Parts(q.ctx(), -v.Body.File, after, limit+1)
	if err != nil {
		return err
	}
	more := len(parts) > limit
	parts = parts[:min(limit, len(parts))]
	d.begin("ObjectParts")
	d.number("TotalPartsCount", int64(v.ETag.Parts))
	d.number("PartNumberMarker", int64(after))
	if len(parts) > 0 {
		d.number("NextPartNumberMarker", int64(parts[len(parts)-1].Number))
	}
	d.number("MaxParts", int64(limit))
	d.bool("IsTruncated", more)
	for _, p := range parts {
		d.begin("Part")
		d.number("PartNumber", int64(p.Number))
		d.number("Size", p.Size)
		writePartSums(d, v.Checksum.Kind, p)
		d.end()
	}
	d.end()
	return nil
}

// partRange gives the bytes of the n-th part of an object; an object that was
// put at once is its own first part.
func (q *request) partRange(v *object.Version, n int) (from, length int64, err error) {
	none := fault.New(fault.Invalid, "part-range", "The requested partnumber is not satisfiable: the object has %d parts",
		max(1, v.ETag.Parts)).In("partNumber")
	if v.ETag.Parts == 0 {
		if n != 1 {
			return 0, 0, none
		}
		return 0, v.Size, nil
	}
	// Numbers may have gaps: the n-th is meant by its number.
	parts, err := q.s.store.Catalog.Parts(q.ctx(), -v.Body.File, n-1, 1)
	if err != nil {
		return 0, 0, err
	}
	if len(parts) == 0 || parts[0].Number != n {
		return 0, 0, none
	}
	return parts[0].Start, parts[0].Size, nil
}
