package server

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
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
	if u.Origin != "" {
		if v, err := q.s.store.JudgeReplica(q.ctx(), a, u.Origin); err != nil {
			return err
		} else if v == replication.Newer {
			return store.NewerThere()
		}
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
