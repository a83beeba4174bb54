package server

import (
	"encoding/base64"
	"encoding/hex"
	"math"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

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
