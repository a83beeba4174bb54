package server

import (
	"encoding/base64"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/sign"
)

// listing is what both versions of the listing share.
type listing struct {
	prefix, delimiter, after string
	max                      int
	encode                   func(string) string
	encoding                 string
	class                    func(int16) string
	page                     []catalog.Entry
	more                     bool
}

// readPlace reads what all listings share: where, after what, how many, encoded how.
func (q *request) readPlace(after, limit string) (*listing, error) {
	l := &listing{prefix: q.query.Get("prefix"), delimiter: q.query.Get("delimiter"), after: after,
		encode: func(s string) string { return s }}
	for name, v := range map[string]string{"prefix": l.prefix, "delimiter": l.delimiter, "marker": after} {
		if err := object.CheckText(name, v); err != nil {
			return nil, err
		}
	}
	var err error
	if l.class, err = q.classes(); err != nil {
		return nil, err
	}
	if l.max, err = q.count(limit, 1000); err != nil {
		return nil, err
	}
	switch l.encoding = q.query.Get("encoding-type"); l.encoding {
	case "":
	case "url":
		l.encode = func(s string) string { return sign.Escape(s, false) }
	default:
		return nil, fault.New(fault.Invalid, "encoding-type", "the only encoding is url").In("encoding-type")
	}
	return l, nil
}

func (q *request) readListing(after string) (*listing, error) {
	l, err := q.readPlace(after, "max-keys")
	if err != nil {
		return nil, err
	}
	if l.max == 0 {
		_, err := q.s.store.Bucket(q.ctx(), q.bucket)
		return l, err
	}
	if err := q.build(); err != nil {
		return nil, err
	}
	l.page, l.more, err = q.s.store.List(q.ctx(), q.bucket,
		catalog.Listing{Prefix: l.prefix, Delimiter: l.delimiter, After: after, Max: l.max, Brief: true})
	return l, err
}

// fold gives what key is folded to at the delimiter, or nothing.
func (l *listing) fold(key string) string {
	if l.delimiter == "" {
		return ""
	}
	at := strings.Index(key[len(l.prefix):], l.delimiter)
	if at < 0 {
		return ""
	}
	return key[:len(l.prefix)+at+len(l.delimiter)]
}

func (l *listing) last() string { return l.page[len(l.page)-1].Name() }

// checksumNames are the dialect's names of the kinds of digest.
var checksumNames = map[digest.Kind]string{digest.CRC32: "CRC32", digest.CRC32C: "CRC32C",
	digest.CRC64NVME: "CRC64NVME", digest.SHA1: "SHA1", digest.SHA256: "SHA256"}

// entryRoom is about how much an entry takes in a document.
const entryRoom = 400

func (l *listing) write(q *request, d *doc, owner bool) {
	d.room(len(l.page) * entryRoom)
	for _, e := range l.page {
		v := e.Version
		if v == nil {
			continue
		}
		d.begin("Contents")
		d.text("Key", l.encode(v.Key.String()))
		d.time("LastModified", v.Created)
		d.etag(v.ETag)
		kind := v.Checksum.Kind
		if kind == digest.None {
			kind = digest.CRC64NVME
		}
		d.text("ChecksumAlgorithm", checksumNames[kind])
		d.text("ChecksumType", checksumType(v.PartSums))
		d.number("Size", v.Size)
		if owner {
			q.owner(d, "Owner")
		}
		d.text("StorageClass", l.class(v.Body.Tier))
		d.end()
	}
	for _, e := range l.page {
		if e.Version == nil {
			d.begin("CommonPrefixes")
			d.text("Prefix", l.encode(e.Prefix))
			d.end()
		}
	}
}

func (q *request) listV1() error {
	marker := q.query.Get("marker")
	l, err := q.readListing(marker)
	if err != nil {
		return err
	}
	d := newDoc("ListBucketResult", true)
	d.text("Name", q.bucket.String())
	d.text("Prefix", l.encode(l.prefix))
	d.text("Marker", l.encode(marker))
	d.number("MaxKeys", int64(l.max))
	if l.delimiter != "" {
		d.text("Delimiter", l.encode(l.delimiter))
	}
	if l.encoding != "" {
		d.text("EncodingType", l.encoding)
	}
	d.bool("IsTruncated", l.more)
	if l.more {
		d.text("NextMarker", l.encode(l.last()))
	}
	l.write(q, d, true)
	return q.xml(d)
}

func (q *request) listV2() error {
	if v := q.query.Get("list-type"); v != "2" {
		return fault.New(fault.Invalid, "list-type", "there is no listing of the type %q", v).In("list-type").
			Do("ask for list-type=2, or leave it out for the first kind")
	}
	start, token := q.query.Get("start-after"), q.query.Get("continuation-token")
	after := start
	if q.query.Has("continuation-token") {
		raw, err := base64.RawURLEncoding.DecodeString(token)
		if err != nil || len(raw) == 0 {
			return fault.New(fault.Invalid, "continuation-token", "The continuation token provided is incorrect").
				In("continuation-token").Do("use the token of the page before, unchanged")
		}
		after = string(raw)
	}
	l, err := q.readListing(after)
	if err != nil {
		return err
	}
	d := newDoc("ListBucketResult", true)
	d.text("Name", q.bucket.String())
	d.text("Prefix", l.encode(l.prefix))
	if l.delimiter != "" {
		d.text("Delimiter", l.encode(l.delimiter))
	}
	d.number("MaxKeys", int64(l.max))
	d.number("KeyCount", int64(len(l.page)))
	if l.encoding != "" {
		d.text("EncodingType", l.encoding)
	}
	if start != "" {
		d.text("StartAfter", l.encode(start))
	}
	if token != "" {
		d.text("ContinuationToken", token)
	}
	d.bool("IsTruncated", l.more)
	if l.more {
		d.text("NextContinuationToken", base64.RawURLEncoding.EncodeToString([]byte(l.last())))
	}
	l.write(q, d, q.query.Get("fetch-owner") == "true")
	return q.xml(d)
}
