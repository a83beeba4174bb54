package wire

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"spindle/internal/standin/hold"
)

var kept = []string{"Cache-Control", "Content-Disposition", "Content-Encoding", "Content-Language", "Expires"}

const (
	crcHeader = "X-Amz-Checksum-Crc64nvme"
	metaStart = "X-Amz-Meta-"
)

func sumText(crc uint64) string {
	return base64.StdEncoding.EncodeToString(binary.BigEndian.AppendUint64(nil, crc))
}

// facts reads what a put says of an object.
func (c *call) facts() (hold.Facts, error) {
	h := c.r.Header
	f := hold.Facts{Type: h.Get("Content-Type"), Headers: map[string]string{}, Metadata: map[string]string{}}
	if f.Type == "" {
		f.Type = "binary/octet-stream"
	}
	for _, name := range kept {
		v := h.Get(name)
		if name == "Content-Encoding" {
			v = strings.Trim(strings.ReplaceAll(v, "aws-chunked", ""), ", ")
		}
		if v != "" {
			f.Headers[name] = v
		}
	}
	bytes := 0
	for name := range h {
		if rest, ok := strings.CutPrefix(name, metaStart); ok {
			f.Metadata[strings.ToLower(rest)] = h.Get(name)
			bytes += len(rest) + len(h.Get(name))
		}
	}
	if bytes > 2048 {
		return f, problem{http.StatusBadRequest, "MetadataTooLarge", "The metadata has more than 2 KiB."}
	}
	if f.Class = h.Get("X-Amz-Storage-Class"); f.Class == "STANDARD" {
		f.Class = ""
	}
	if c.faults.lacks("classes") {
		f.Class = "" // it does not know what that is
	}
	if f.Class != "" && !slices.Contains(classes, f.Class) {
		return f, problem{http.StatusBadRequest, "InvalidStorageClass", "There is no such class."}
	}
	if t := h.Get("X-Amz-Tagging"); t != "" {
		if c.faults.lacks("tags") {
			return f, notImplemented
		}
		q, err := url.ParseQuery(t)
		if err != nil {
			return f, problem{http.StatusBadRequest, "InvalidTag", "The tags cannot be read."}
		}
		f.Tags = map[string]string{}
		for name := range q {
			f.Tags[name] = q.Get(name)
		}
	}
	return f, nil
}

// classes that it keeps objects in beside the usual one.
var classes = []string{"COOL", "COLD"}

func (c *call) condition() (hold.Condition, error) {
	cond := hold.Condition{Absent: c.r.Header.Get("If-None-Match") == "*",
		ETag: strings.Trim(c.r.Header.Get("If-Match"), `"`)}
	if c.faults.lacks("conditions") && cond != (hold.Condition{}) {
		return cond, notImplemented
	}
	return cond, nil
}

// stage takes the body of a request in and compares what the request claims of it.
func (c *call) stage() (*hold.Body, error) {
	if f := c.faults; f.MaxKey > 0 && len(c.key) > f.MaxKey {
		return nil, problem{http.StatusBadRequest, "KeyTooLongError", "The key is too long."}
	}
	if n := c.length(); c.faults.MaxObject > 0 && n > c.faults.MaxObject {
		return nil, problem{http.StatusBadRequest, "EntityTooLarge", "The object is too large."}
	}
	r, trailer, err := body(c.r, c.signed)
	if err != nil {
		return nil, err
	}
	if c.Moods.happens(c.faults.Cut) {
		r = io.MultiReader(io.LimitReader(r, c.length()/2), cutReader{})
	}
	var spoil func([]byte)
	if c.Moods.happens(c.faults.Wrong) {
		spoil = spoiler()
	}
	b, err := c.Hold.Stage(r, spoil)
	if err != nil {
		return nil, err
	}
	claim := c.r.Header.Get(crcHeader)
	if claim == "" {
		claim = trailer.Get(crcHeader)
	}
	md5 := c.r.Header.Get("Content-Md5")
	sum, err := hex.DecodeString(b.ETag)
	if spoil == nil && (err != nil || claim != "" && claim != sumText(b.CRC64) ||
		md5 != "" && md5 != base64.StdEncoding.EncodeToString(sum)) {
		c.Hold.Discard(b)
		return nil, problem{http.StatusBadRequest, "BadDigest", "The body has another digest."}
	}
	return b, nil
}

// length gives the plain length of a request's body.
func (c *call) length() int64 {
	if n, err := strconv.ParseInt(c.r.Header.Get("X-Amz-Decoded-Content-Length"), 10, 64); err == nil {
		return n
	}
	return c.r.ContentLength
}

type cutReader struct{}

func (cutReader) Read([]byte) (int, error) { panic(http.ErrAbortHandler) }

// spoiler changes the first byte that passes.
func spoiler() func([]byte) {
	done := false
	return func(p []byte) {
		if !done && len(p) > 0 {
			p[0] ^= 0x55
			done = true
		}
	}
}

func (c *call) put() error {
	f, err := c.facts()
	if err != nil {
		return err
	}
	cond, err := c.condition()
	if err != nil {
		return err
	}
	if _, err := c.Hold.Bucket(c.bucket); err != nil {
		return err
	}
	b, err := c.stage()
	if err != nil {
		return err
	}
	v, err := c.Hold.Put(c.bucket, c.key, b, f, cond, c.now)
	if err != nil {
		c.Hold.Discard(b)
		return err
	}
	if c.Heard != nil {
		c.Heard(c.bucket, c.key)
	}
	c.tell(v)
	return nil
}

// tell says in headers what a version is.
func (c *call) tell(v *hold.Version) {
	h := c.w.Header()
	h.Set("ETag", `"`+v.ETag+`"`)
	if !c.faults.lacks("checksums") {
		h.Set(crcHeader, sumText(v.CRC64))
		h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
	}
	c.tellID(v)
}

func (c *call) tellID(v *hold.Version) {
	if b, err := c.Hold.Bucket(c.bucket); err == nil && b.Versioning != hold.Off {
		c.w.Header().Set("X-Amz-Version-Id", v.ID)
	}
}

func (c *call) copy() error {
	source, err := url.PathUnescape(c.r.Header.Get("X-Amz-Copy-Source"))
	if err != nil {
		return problem{http.StatusBadRequest, "InvalidArgument", "The source cannot be read."}
	}
	source, id, _ := strings.Cut(source, "?versionId=")
	bucket, key, _ := strings.Cut(strings.TrimPrefix(source, "/"), "/")
	from, err := c.Hold.Get(bucket, key, id)
	if err != nil {
		return err
	}
	if from.Marker {
		return hold.ErrNoKey
	}
	if want := strings.Trim(c.r.Header.Get("X-Amz-Copy-Source-If-Match"), `"`); want != "" && want != from.ETag {
		return hold.ErrCondition
	}
	f := from.Facts
	replaces := c.r.Header.Get("X-Amz-Metadata-Directive") == "REPLACE"
	if replaces {
		if f, err = c.facts(); err != nil {
			return err
		}
		if c.r.Header.Get("X-Amz-Tagging-Directive") != "REPLACE" {
			f.Tags = from.Tags
		}
	} else if bucket == c.bucket && key == c.key && id == "" && c.r.Header.Get("X-Amz-Storage-Class") == "" {
		return problem{http.StatusBadRequest, "InvalidRequest", "A copy onto itself has to change something."}
	}
	v, err := c.Hold.Put(c.bucket, c.key, c.Hold.Same(from), f, hold.Condition{}, c.now)
	if err != nil {
		return err
	}
	c.tellID(v)
	return c.document(struct {
		XMLName            xml.Name `xml:"CopyObjectResult"`
		LastModified, ETag string
	}{LastModified: when(v.Modified), ETag: `"` + v.ETag + `"`})
}

// get answers reading an object, or its head.
func (c *call) get() error {
	v, err := c.Hold.Get(c.bucket, c.key, c.q.Get("versionId"))
	if err != nil {
		return err
	}
	if v.Marker {
		c.w.Header().Set("X-Amz-Delete-Marker", "true")
		c.w.Header().Set("X-Amz-Version-Id", v.ID)
		if c.q.Get("versionId") != "" {
			return problem{http.StatusMethodNotAllowed, "MethodNotAllowed", "It is a delete marker."}
		}
		return hold.ErrNoKey
	}
	h := c.w.Header()
	c.tell(v)
	h.Set("Content-Type", v.Type)
	for name, value := range v.Headers {
		h.Set(name, value)
	}
	for name, value := range v.Metadata {
		h.Set(metaStart+name, value)
	}
	if len(v.Tags) > 0 {
		h.Set("X-Amz-Tagging-Count", strconv.Itoa(len(v.Tags)))
	}
	if v.Class != "" {
		h.Set("X-Amz-Storage-Class", v.Class)
	}
	from, err := c.Hold.Read(v)
	if err != nil {
		return err
	}
	defer from.Close()
	if c.r.Header.Get("Range") != "" {
		h.Del(crcHeader)
	}
	http.ServeContent(&leaving{ResponseWriter: c.w, c: c, cut: c.r.Method == http.MethodGet &&
		c.Moods.happens(c.faults.Cut), left: v.Size / 2, rot: c.Moods.happens(c.faults.Rot)}, c.r, "", v.Modified, from)
	return nil
}

// leaving is a body on its way out.
type leaving struct {
	http.ResponseWriter
	c    *call
	cut  bool
	left int64
	rot  bool
}

func (l *leaving) Write(p []byte) (int, error) {
	if l.rot && len(p) > 0 {
		p = append([]byte{p[0] ^ 0x55}, p[1:]...)
		l.rot = false
	}
	if l.cut && int64(len(p)) > l.left {
		_, _ = l.ResponseWriter.Write(p[:l.left])
		panic(http.ErrAbortHandler)
	}
	l.left -= int64(len(p))
	l.c.Moods.pass(len(p))
	l.c.count("out", int64(len(p)))
	return l.ResponseWriter.Write(p)
}

func (c *call) remove() error {
	v, err := c.Hold.Delete(c.bucket, c.key, c.q.Get("versionId"), c.now)
	if err != nil {
		return err
	}
	if v != nil {
		c.tellID(v)
		if v.Marker {
			c.w.Header().Set("X-Amz-Delete-Marker", "true")
		}
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (c *call) removeMany() error {
	var d struct {
		Quiet  bool
		Object []struct{ Key, VersionId string }
	}
	if err := c.read(&d); err != nil {
		return err
	}
	type done struct{ Key, VersionId string }
	var doc struct {
		XMLName xml.Name `xml:"DeleteResult"`
		Deleted []done
	}
	for _, o := range d.Object {
		if _, err := c.Hold.Delete(c.bucket, o.Key, o.VersionId, c.now); err != nil {
			return err
		}
		if !d.Quiet {
			doc.Deleted = append(doc.Deleted, done(o))
		}
	}
	return c.document(doc)
}

type tagging struct {
	XMLName xml.Name `xml:"Tagging"`
	Tags    []tag    `xml:"TagSet>Tag"`
}

type tag struct{ Key, Value string }

func (c *call) getTags() error {
	v, err := c.Hold.Get(c.bucket, c.key, c.q.Get("versionId"))
	if err != nil {
		return err
	}
	var d tagging
	for name, value := range v.Tags {
		d.Tags = append(d.Tags, tag{name, value})
	}
	slices.SortFunc(d.Tags, func(a, b tag) int { return strings.Compare(a.Key, b.Key) })
	return c.document(d)
}

func (c *call) putTags() error {
	tags := map[string]string{}
	if c.r.Method == http.MethodPut {
		var d tagging
		if err := c.read(&d); err != nil {
			return err
		}
		for _, t := range d.Tags {
			tags[t.Key] = t.Value
		}
	}
	if err := c.Hold.Alter(c.bucket, c.key, c.q.Get("versionId"), func(f *hold.Facts) { f.Tags = tags }); err != nil {
		return err
	}
	if c.r.Method == http.MethodDelete {
		c.w.WriteHeader(http.StatusNoContent)
	}
	return nil
}
