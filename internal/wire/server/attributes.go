package server

import (
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

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
