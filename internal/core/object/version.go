package object

import (
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
)

// Limits of sizes, in bytes, and of parts.
const (
	MaxSize       = 5 << 30 // of an object put at once, and of a part
	MinPart       = 5 << 20 // of a part that is not the last
	MaxParts      = 10_000
	MaxPartedSize = 5 << 40 // of an object that came in parts
)

// ETag identifies the content of a version for conditions: the MD5 of the
// content, or, for content sent in parts, the MD5 of the parts' MD5s and their
// number. It is not the content's digest.
type ETag struct {
	MD5   [16]byte
	Parts int // 0 when the content was put at once
}

// AnyETag stands in a condition for whatever content is there, as long as some is.
var AnyETag = ETag{Parts: -1}

// Meets reports whether a content meets a condition that names an ETag, or AnyETag.
func (e ETag) Meets(want ETag) bool { return want == AnyETag || e == want }

// String gives the ETag without quotes: 32 hex digits, and "-N" for N parts.
func (e ETag) String() string { return string(e.Append(nil)) }

// Append writes the tag behind b.
func (e ETag) Append(b []byte) []byte {
	b = hex.AppendEncode(b, e.MD5[:])
	if e.Parts > 0 {
		b = strconv.AppendInt(append(b, '-'), int64(e.Parts), 10)
	}
	return b
}

// BodyRef says where the bytes of a version are.
type BodyRef struct {
	Tier   int16
	File   int64 // 0: there are no bytes; negative: the parts of the upload -File
	Offset int64 // Alone, Framed, Pieced, or where it begins in a segment, with BoundBit if it is bound to that
}

// Offsets of bodies that are a file of their own.
const (
	Alone  int64 = -1 // the file is the body
	Framed int64 = -2 // the file has the body in frames
	Pieced int64 = -3 // files of that number on several volumes have pieces of the body in frames
)

// InFrames reports whether a body is cut into frames, each with a digest of its own.
func (r BodyRef) InFrames() bool { return r.Offset == Framed || r.Offset == Pieced }

// BodyFile names a file of a tier's volume. Numbers of files tell them apart within a
// tier only.
type BodyFile struct {
	Tier int16 `db:"tier"`
	File int64 `db:"file"`
}

// In gives the file that a body is in, or is.
func (r BodyRef) In() BodyFile { return BodyFile{r.Tier, r.File} }

// SealedBit is set in the numbers of files that hold sealed bodies.
const SealedBit int64 = 1 << 62

// BoundBit is set in the offsets of sealed bodies in segments that open in no other
// place. It stands in the catalog, so that a body of the older format, which opens
// anywhere, cannot be put in the place of one. Segments are far smaller than that.
const BoundBit int64 = 1 << 30

// Bound reports whether a body in a segment is bound to its place.
func (r BodyRef) Bound() bool { return r.Offset >= 0 && r.Offset&BoundBit != 0 }

// Place gives where a body begins in its segment; Alone for one that is a file, in
// frames or not.
func (r BodyRef) Place() int64 {
	if r.Offset < 0 {
		return Alone
	}
	return r.Offset &^ BoundBit
}

// Sealed reports whether a body is encrypted at rest; one in parts is as its
// parts are.
func (r BodyRef) Sealed() bool { return r.File > 0 && r.File&SealedBit != 0 }

// Headers are the standard response headers that an object keeps, as they were
// sent when it was written (RFC 9110, section 8; RFC 9111, section 5).
type Headers struct {
	ContentType        string `json:"-"`
	CacheControl       string `json:"cache-control,omitempty"`
	ContentDisposition string `json:"content-disposition,omitempty"`
	ContentEncoding    string `json:"content-encoding,omitempty"`
	ContentLanguage    string `json:"content-language,omitempty"`
	Expires            string `json:"expires,omitempty"`
}

// Check refuses values that no header may have (RFC 9110, section 5.5): a line's end
// in one would let it write headers of its own into an answer. The error has the
// code header-value and names the header.
func (h Headers) Check() error {
	for _, f := range [...]struct{ name, value string }{{"Content-Type", h.ContentType}, {"Cache-Control", h.CacheControl},
		{"Content-Disposition", h.ContentDisposition},
		{"Content-Encoding", h.ContentEncoding}, {"Content-Language", h.ContentLanguage}, {"Expires", h.Expires}} {
		for i := range len(f.value) {
			if c := f.value[i]; c < ' ' && c != '\t' || c == 0x7f {
				return fault.New(fault.Invalid, "header-value",
					"character %d of %s is a control character (0x%02x), which no header may have", i+1, f.name, c).In(f.name).
					Do("leave it out")
			}
		}
	}
	return nil
}

// Version is what is known of one version of an object.
type Version struct {
	Key      Key
	Number   int64 // grows with every version in the service; not consecutive in a key
	Revision int   // of the metadata, from 1
	Size     int64 // bytes
	Created  time.Time
	ETag     ETag
	CRC64    uint64     // CRC-64/NVME of the content
	Checksum digest.Sum // what the client claimed and was checked, if anything
	PartSums bool       // Checksum is that of the parts' checksums, not of the content
	Headers  Headers
	Metadata Metadata
	Tags     Tags
	Body     BodyRef
	By       string    // the access key that wrote it
	Source   string    // the address it was written from
	Plain    bool      // written while versioning was off or paused
	Marker   bool      // a delete marker: it has no content
	Origin   string    // what it is a replica of, as replication.Origin writes it; "": of nothing
	Changed  time.Time // when its metadata, tags or headers were last changed; zero: never since it was written
}

// Conditions of a request on the current version (RFC 9110, section 13). Tags
// are without quotes; "*" stands for any.
type Conditions struct {
	IfMatch           []string
	IfNoneMatch       []string
	IfModifiedSince   time.Time
	IfUnmodifiedSince time.Time
}

// ParseTags splits a list of entity tags, dropping quotes and weakness marks.
func ParseTags(header string) []string {
	var tags []string
	for part := range strings.SplitSeq(header, ",") {
		part = strings.TrimPrefix(strings.TrimSpace(part), "W/")
		if part = strings.Trim(part, `"`); part != "" {
			tags = append(tags, part)
		}
	}
	return tags
}

func anyTag(tags []string, etag string) bool {
	for _, t := range tags {
		if t == "*" || strings.EqualFold(t, etag) {
			return true
		}
	}
	return false
}

// Outcome of conditions on a read.
type Outcome uint8

// What a read with conditions comes to.
const (
	Proceed     Outcome = iota
	NotModified         // 304
	Failed              // 412
)

// Read decides conditions on a read, in the order of RFC 9110, section 13.2.2.
// Times are compared in whole seconds.
func (c Conditions) Read(v *Version) Outcome {
	etag, at := v.ETag.String(), v.Created.Truncate(time.Second)
	if len(c.IfMatch) > 0 {
		if !anyTag(c.IfMatch, etag) {
			return Failed
		}
	} else if !c.IfUnmodifiedSince.IsZero() && at.After(c.IfUnmodifiedSince) {
		return Failed
	}
	if len(c.IfNoneMatch) > 0 {
		if anyTag(c.IfNoneMatch, etag) {
			return NotModified
		}
	} else if !c.IfModifiedSince.IsZero() && !at.After(c.IfModifiedSince) {
		return NotModified
	}
	return Proceed
}
