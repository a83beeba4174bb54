package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/sign"
)

// Part of a multipart upload.
type Part struct {
	Number   int
	Size     int64
	ETag     string
	CRC64    uint64   // of a part that was just sent
	MD5      [16]byte // of a part that was just sent
	Modified time.Time
}

// document sends a document and reads the answer's into out, which may be nil.
func (c *Client) document(ctx context.Context, method, bucket, key string, query url.Values, header http.Header,
	doc string, out any) (http.Header, error) {
	r, err := c.request(ctx, method, bucket, key, query, strings.NewReader(doc))
	if err != nil {
		return nil, err
	}
	for name, v := range header {
		r.Header[name] = v
	}
	sum := sha256.Sum256([]byte(doc))
	resp, err := c.do(r, hex.EncodeToString(sum[:]))
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if out == nil {
		return resp.Header, nil
	}
	d := xml.NewDecoder(io.LimitReader(resp.Body, 32<<20))
	if r, ok := out.(interface{ read(*xml.Decoder) error }); ok {
		err = r.read(d)
	} else {
		err = d.Decode(out)
	}
	if err != nil {
		return nil, fault.New(fault.Unavailable, "foreign", "the answer cannot be read").In("address").Because(err)
	}
	return resp.Header, nil
}

// StartUpload begins a multipart upload and gives its id.
func (c *Client) StartUpload(ctx context.Context, bucket, key string, p Put) (string, error) {
	h := http.Header{"X-Amz-Checksum-Algorithm": {"CRC64NVME"}, "X-Amz-Checksum-Type": {"FULL_OBJECT"}}
	p.set(h)
	var d struct{ UploadId string }
	_, err := c.document(ctx, http.MethodPost, bucket, key, url.Values{"uploads": {""}}, h, "", &d)
	return d.UploadId, err
}

// PutPart sends a part of a known size.
func (c *Client) PutPart(ctx context.Context, bucket, key, upload string, number int, body io.Reader, size int64) (Part,
	error) {
	r, err := c.request(ctx, http.MethodPut, bucket, key,
		url.Values{"uploadId": {upload}, "partNumber": {strconv.Itoa(number)}}, nil)
	if err != nil {
		return Part{}, err
	}
	i, sum, err := c.send(r, body, size)
	if err != nil {
		return Part{}, err
	}
	return Part{Number: number, Size: size, ETag: i.ETag, CRC64: sum}, nil
}

// Begun is an upload that was begun and neither completed nor abandoned.
type Begun struct {
	Key, ID string
	Started time.Time
}

// BegunPage is a page of uploads under way; the next one begins after a key and an upload of it.
type BegunPage struct {
	Uploads           []Begun
	More              bool
	AfterKey, AfterID string
}

// UploadPage gives uploads under way beneath a prefix after one, at most limit; 0: as many as the
// service likes.
func (c *Client) UploadPage(ctx context.Context, bucket, prefix, afterKey, afterID string, limit int) (BegunPage,
	error) {
	q := url.Values{"uploads": {""}, "prefix": {prefix}, "encoding-type": {"url"}}
	if afterKey != "" {
		q.Set("key-marker", afterKey)
		q.Set("upload-id-marker", afterID)
	}
	if limit > 0 {
		q.Set("max-uploads", strconv.Itoa(limit))
	}
	var d struct {
		IsTruncated                       bool
		EncodingType                      string
		NextKeyMarker, NextUploadIdMarker string
		Upload                            []struct {
			Key, UploadId string
			Initiated     time.Time
		}
	}
	var out BegunPage
	if _, err := c.document(ctx, http.MethodGet, bucket, "", q, nil, "", &d); err != nil {
		return out, err
	}
	plain := func(s string) (string, error) {
		if d.EncodingType != "url" {
			return s, nil
		}
		return unescaped(s)
	}
	for _, u := range d.Upload {
		key, err := plain(u.Key)
		if err != nil {
			return out, err
		}
		out.Uploads = append(out.Uploads, Begun{key, u.UploadId, u.Initiated})
	}
	next, err := plain(d.NextKeyMarker)
	out.AfterKey, out.AfterID = next, d.NextUploadIdMarker
	out.More = d.IsTruncated && (next > afterKey || next == afterKey && d.NextUploadIdMarker != afterID)
	return out, err
}

// Uploads gives the uploads under way beneath a prefix, of every key.
func (c *Client) Uploads(ctx context.Context, bucket, prefix string, f func(Begun) error) error {
	for page := (BegunPage{More: true}); page.More; {
		var err error
		if page, err = c.UploadPage(ctx, bucket, prefix, page.AfterKey, page.AfterID, 0); err != nil {
			return err
		}
		for _, u := range page.Uploads {
			if err := f(u); err != nil {
				return err
			}
		}
	}
	return nil
}

// Parts gives all parts of an upload that are there.
func (c *Client) Parts(ctx context.Context, bucket, key, upload string) ([]Part, error) {
	var out []Part
	for marker := 0; ; {
		var d struct {
			IsTruncated          bool
			NextPartNumberMarker int
			Part                 []struct {
				PartNumber        int
				Size              int64
				ETag              string
				ChecksumCRC64NVME string
				LastModified      time.Time
			}
		}
		if _, err := c.document(ctx, http.MethodGet, bucket, key,
			url.Values{"uploadId": {upload}, "part-number-marker": {strconv.Itoa(marker)}}, nil, "", &d); err != nil {
			return nil, err
		}
		for _, p := range d.Part {
			out = append(out, Part{Number: p.PartNumber, Size: p.Size, ETag: strings.Trim(p.ETag, `"`),
				Modified: p.LastModified})
		}
		if !d.IsTruncated {
			return out, nil
		}
		marker = d.NextPartNumberMarker
	}
}

// CompleteUpload makes an object of an upload's parts. crc64 is that of the
// whole content, which the service compares; size its length; of opt the conditions
// count.
func (c *Client) CompleteUpload(ctx context.Context, bucket, key, upload string, parts []Part, size int64,
	crc64 *uint64, opt Put) (Info, error) {
	var doc bytes.Buffer
	doc.WriteString("<CompleteMultipartUpload>")
	for _, p := range parts {
		fmt.Fprintf(&doc, "<Part><PartNumber>%d</PartNumber><ETag>&quot;%s&quot;</ETag></Part>", p.Number, p.ETag)
	}
	doc.WriteString("</CompleteMultipartUpload>")
	h := http.Header{"X-Amz-Mp-Object-Size": {strconv.FormatInt(size, 10)}}
	if size < 0 {
		h = http.Header{}
	}
	if crc64 != nil {
		h.Set("X-Amz-Checksum-Crc64nvme", base64.StdEncoding.EncodeToString(sumBytes(*crc64)))
	}
	opt.conditions(h)
	var d struct{ ETag, ChecksumCRC64NVME string }
	got, err := c.document(ctx, http.MethodPost, bucket, key, url.Values{"uploadId": {upload}}, h, doc.String(), &d)
	if err != nil {
		return Info{}, err
	}
	return Info{Size: size, ETag: strings.Trim(d.ETag, `"`), CRC64: d.ChecksumCRC64NVME,
		Version: got.Get("X-Amz-Version-Id")}, nil
}

// SetTags replaces an object's tags; none takes them away.
func (c *Client) SetTags(ctx context.Context, bucket, key string, tags object.Tags) error {
	type tag struct{ Key, Value string }
	var set struct {
		XMLName xml.Name `xml:"Tagging"`
		Tags    []tag    `xml:"TagSet>Tag"`
	}
	for _, name := range slices.Sorted(maps.Keys(tags)) {
		set.Tags = append(set.Tags, tag{name, tags[name]})
	}
	if len(tags) == 0 {
		_, err := c.document(ctx, http.MethodDelete, bucket, key, url.Values{"tagging": {""}}, nil, "", nil)
		return err
	}
	doc, err := xml.Marshal(set)
	if err != nil {
		return err
	}
	_, err = c.document(ctx, http.MethodPut, bucket, key, url.Values{"tagging": {""}}, nil, string(doc), nil)
	return err
}

// SetMetadata replaces an object's type, headers and metadata with those of p, on the
// content that has an ETag; no bytes are moved.
func (c *Client) SetMetadata(ctx context.Context, bucket, key, etag string, p Put) error {
	_, err := c.SetMetadataOf(ctx, bucket, key, etag, p)
	return err
}

// SetMetadataOf is SetMetadata that gives ETag and version of what is there then.
func (c *Client) SetMetadataOf(ctx context.Context, bucket, key, etag string, p Put) (Info, error) {
	return c.CopyWithin(ctx, bucket, key, etag, key, p)
}

// CopyWithin makes an object of another one of its bucket that has an ETag, with the type,
// headers and metadata of p; no bytes are moved.
func (c *Client) CopyWithin(ctx context.Context, bucket, from, etag, key string, p Put) (Info, error) {
	h := http.Header{}
	p.set(h)
	h.Set("X-Amz-Copy-Source", (&url.URL{Path: bucket + "/" + from}).EscapedPath())
	h.Set("X-Amz-Copy-Source-If-Match", `"`+etag+`"`)
	h.Set("X-Amz-Metadata-Directive", "REPLACE")
	if p.ReplaceTags {
		h.Set("X-Amz-Tagging-Directive", "REPLACE")
	}
	var d struct{ ETag string }
	got, err := c.document(ctx, http.MethodPut, bucket, key, nil, h, "", &d)
	return Info{ETag: strings.Trim(d.ETag, `"`), Version: got.Get("X-Amz-Version-Id")}, err
}

// AbandonUpload ends an upload; its bytes go.
func (c *Client) AbandonUpload(ctx context.Context, bucket, key, upload string) error {
	_, err := c.document(ctx, http.MethodDelete, bucket, key, url.Values{"uploadId": {upload}}, nil, "", nil)
	return err
}

// GetRange reads length bytes of an object from a byte on, as long as it has an
// ETag.
func (c *Client) GetRange(ctx context.Context, bucket, key, version string, from, length int64,
	ifMatch string) (io.ReadCloser, error) {
	body, _, err := c.GetPiece(ctx, bucket, key, version, from, length, ifMatch)
	return body, err
}

// GetPiece is GetRange, and gives the size of the object too. It reads to the object's
// end where that comes first.
func (c *Client) GetPiece(ctx context.Context, bucket, key, version string, from, length int64,
	ifMatch string) (body io.ReadCloser, size int64, err error) {
	var q url.Values
	if version != "" {
		q = url.Values{"versionId": {version}}
	}
	r, err := c.request(ctx, http.MethodGet, bucket, key, q, nil)
	if err != nil {
		return nil, 0, err
	}
	r.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", from, from+length-1))
	if ifMatch != "" {
		r.Header.Set("If-Match", `"`+ifMatch+`"`)
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return nil, 0, err
	}
	var first, last int64
	if _, err := fmt.Sscanf(resp.Header.Get("Content-Range"), "bytes %d-%d/%d", &first, &last, &size); err != nil ||
		resp.StatusCode != http.StatusPartialContent || first != from {
		resp.Body.Close()
		return nil, 0, fault.New(fault.Unavailable, "foreign",
			"the service does not answer with the range that was asked for").
			In("range")
	}
	return resp.Body, size, nil
}

func sumBytes(crc uint64) []byte {
	h := digest.NewCRC64()
	b := h.Sum(nil)
	for i := range b {
		b[i] = byte(crc >> (56 - 8*i))
	}
	return b
}
