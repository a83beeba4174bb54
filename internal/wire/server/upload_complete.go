package server

import (
	"encoding/xml"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

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
