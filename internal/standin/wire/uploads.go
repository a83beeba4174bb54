package wire

import (
	"encoding/xml"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"spindle/internal/standin/hold"
)

const (
	maxParts  = 10_000
	leastPart = 5 << 20 // bytes of each part but the last
)

func (c *call) startUpload() error {
	f, err := c.facts()
	if err != nil {
		return err
	}
	u, err := c.Hold.Start(c.bucket, c.key, f, c.now)
	if err != nil {
		return err
	}
	return c.document(struct {
		XMLName               xml.Name `xml:"InitiateMultipartUploadResult"`
		Bucket, Key, UploadId string
	}{Bucket: c.bucket, Key: c.key, UploadId: u.ID})
}

func (c *call) putPart() error {
	n, err := strconv.Atoi(c.q.Get("partNumber"))
	if err != nil || n < 1 || n > maxParts {
		return problem{http.StatusBadRequest, "InvalidArgument", "The part's number is not valid."}
	}
	if c.r.Header.Get("X-Amz-Copy-Source") != "" {
		return notImplemented
	}
	if _, err := c.Hold.Parts(c.bucket, c.key, c.q.Get("uploadId")); err != nil {
		return err
	}
	b, err := c.stage()
	if err != nil {
		return err
	}
	if err := c.Hold.PutPart(c.bucket, c.key, c.q.Get("uploadId"), n, b, c.now); err != nil {
		c.Hold.Discard(b)
		return err
	}
	c.w.Header().Set("ETag", `"`+b.ETag+`"`)
	if !c.faults.lacks("checksums") {
		c.w.Header().Set(crcHeader, sumText(b.CRC64))
	}
	return nil
}

func (c *call) listParts() error {
	parts, err := c.Hold.Parts(c.bucket, c.key, c.q.Get("uploadId"))
	if err != nil {
		return err
	}
	marker, _ := strconv.Atoi(c.q.Get("part-number-marker")) // none: from the first on
	type entry struct {
		PartNumber         int
		LastModified, ETag string
		Size               int64
	}
	var doc struct {
		XMLName               xml.Name `xml:"ListPartsResult"`
		Bucket, Key, UploadId string
		IsTruncated           bool
		NextPartNumberMarker  int
		Part                  []entry
	}
	doc.Bucket, doc.Key, doc.UploadId = c.bucket, c.key, c.q.Get("uploadId")
	for _, p := range parts {
		if p.Number <= marker {
			continue
		}
		if len(doc.Part) == 1000 {
			doc.IsTruncated = true
			break
		}
		doc.Part = append(doc.Part, entry{p.Number, when(p.Modified), `"` + p.ETag + `"`, p.Size})
		doc.NextPartNumberMarker = p.Number
	}
	return c.document(doc)
}

func (c *call) completeUpload() error {
	var d struct {
		Part []struct {
			PartNumber int
			ETag       string
		}
	}
	if err := c.read(&d); err != nil {
		return err
	}
	there, err := c.Hold.Parts(c.bucket, c.key, c.q.Get("uploadId"))
	if err != nil {
		return err
	}
	for i, want := range d.Part {
		if i > 0 && want.PartNumber <= d.Part[i-1].PartNumber {
			return problem{http.StatusBadRequest, "InvalidPartOrder", "The parts are not in order."}
		}
	}
	var parts []*hold.Part
	for i, want := range d.Part {
		at := slices.IndexFunc(there, func(p *hold.Part) bool {
			return p.Number == want.PartNumber && p.ETag == strings.Trim(want.ETag, `"`)
		})
		if at < 0 {
			return problem{http.StatusBadRequest, "InvalidPart", "A part is not there."}
		}
		if i < len(d.Part)-1 && there[at].Size < leastPart {
			return problem{http.StatusBadRequest, "EntityTooSmall", "A part is too small."}
		}
		parts = append(parts, there[at])
	}
	if len(parts) == 0 {
		return problem{http.StatusBadRequest, "MalformedXML", "There are no parts."}
	}
	cond, err := c.condition()
	if err != nil {
		return err
	}
	v, err := c.Hold.Complete(c.bucket, c.key, c.q.Get("uploadId"), parts, cond, c.now)
	if err != nil {
		return err
	}
	if claim := c.r.Header.Get(crcHeader); claim != "" && claim != sumText(v.CRC64) {
		if _, err := c.Hold.Delete(c.bucket, c.key, v.ID, c.now); err != nil {
			return err
		}
		return problem{http.StatusBadRequest, "BadDigest", "The object has another digest."}
	}
	c.tellID(v)
	doc := struct {
		XMLName                              xml.Name `xml:"CompleteMultipartUploadResult"`
		Bucket, Key, ETag, ChecksumCRC64NVME string
	}{Bucket: c.bucket, Key: c.key, ETag: `"` + v.ETag + `"`}
	if !c.faults.lacks("checksums") {
		doc.ChecksumCRC64NVME = sumText(v.CRC64)
	}
	return c.document(doc)
}

func (c *call) abandonUpload() error {
	if err := c.Hold.Abandon(c.bucket, c.key, c.q.Get("uploadId")); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (c *call) listUploads() error {
	all, err := c.Hold.Uploads(c.bucket, c.q.Get("prefix"))
	if err != nil {
		return err
	}
	type entry struct{ Key, UploadId, Initiated string }
	var doc struct {
		XMLName     xml.Name `xml:"ListMultipartUploadsResult"`
		Bucket      string
		IsTruncated bool
		Upload      []entry
	}
	doc.Bucket = c.bucket
	for _, u := range all[:min(len(all), 1000)] {
		doc.Upload = append(doc.Upload, entry{u.Key, u.ID, when(u.Started)})
	}
	return c.document(doc)
}
