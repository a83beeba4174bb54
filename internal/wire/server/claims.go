package server

import (
	"crypto/md5"
	"encoding/base64"
	"io"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
	"spindle/internal/wire/sign"
)

const metaPrefix = "X-Amz-Meta-"

func (q *request) metadata() (object.Metadata, error) {
	fields := map[string]string{}
	for name, values := range q.r.Header {
		if rest, ok := strings.CutPrefix(name, metaPrefix); ok {
			fields[rest] = strings.Join(values, ",")
		}
	}
	return object.NewMetadata(fields)
}

func (q *request) headers() object.Headers {
	h := q.r.Header
	encoding := strings.Join(h.Values("Content-Encoding"), ",")
	if sign.IsChunked(q.auth.Payload) { // the chunks are how it travelled, not what it is
		var rest []string
		for part := range strings.SplitSeq(encoding, ",") {
			if part = strings.TrimSpace(part); part != "" && part != "aws-chunked" {
				rest = append(rest, part)
			}
		}
		encoding = strings.Join(rest, ",")
	}
	return object.Headers{ContentType: h.Get("Content-Type"), CacheControl: h.Get("Cache-Control"),
		ContentDisposition: h.Get("Content-Disposition"),
		ContentEncoding:    encoding, ContentLanguage: h.Get("Content-Language"), Expires: h.Get("Expires")}
}

// refuseUnsupported refuses headers that ask for what is not done here, so that
// nobody believes it was.
func (q *request) refuseUnsupported() error {
	for name := range q.r.Header {
		l := strings.ToLower(name)
		switch {
		case strings.HasPrefix(l, "x-amz-object-lock-"), strings.HasPrefix(l, "x-amz-grant-"),
			l == "x-amz-website-redirect-location", l == "x-amz-write-offset-bytes":
			return notImplemented(l)
		}
	}
	return q.privateACL()
}

var checksumHeaders = []struct {
	header string
	kind   digest.Kind
}{
	{"X-Amz-Checksum-Crc32", digest.CRC32}, {"X-Amz-Checksum-Crc32c", digest.CRC32C},
	{"X-Amz-Checksum-Crc64nvme", digest.CRC64NVME},
	{"X-Amz-Checksum-Sha1", digest.SHA1}, {"X-Amz-Checksum-Sha256", digest.SHA256},
}

func parseChecksum(kind digest.Kind, header, v string) ([]byte, error) {
	b, err := base64.StdEncoding.DecodeString(v)
	if err != nil || len(b) != kind.Size() {
		return nil, fault.New(fault.Invalid, "checksum-malformed",
			"Value for %s header is invalid: a %s has %d bytes in base64", strings.ToLower(header), kind, kind.Size()).In(header)
	}
	return b, nil
}

// claimedMD5 reads the MD5 that the request claims of its body; nil for none.
func (q *request) claimedMD5() (*[md5.Size]byte, error) {
	v := q.r.Header.Get("Content-Md5")
	if v == "" {
		return nil, nil
	}
	b, err := base64.StdEncoding.DecodeString(v)
	if err != nil || len(b) != md5.Size {
		return nil, fault.New(fault.Invalid, "digest-malformed",
			"The Content-MD5 you specified was invalid: it has 16 bytes in base64").In("Content-MD5")
	}
	return (*[md5.Size]byte)(b), nil
}

// claims reads what digests the request claims of its body.
func (q *request) claims(p *store.Put, body io.Reader) error {
	h := q.r.Header
	var err error
	if p.MD5, err = q.claimedMD5(); err != nil {
		return err
	}
	var value []byte
	for _, c := range checksumHeaders {
		v := h.Get(c.header)
		if v == "" {
			continue
		}
		if p.Checksum != digest.None {
			return fault.New(fault.Invalid, "checksum-malformed", "Expecting a single x-amz-checksum- header").In(c.header)
		}
		b, err := parseChecksum(c.kind, c.header, v)
		if err != nil {
			return err
		}
		p.Checksum, value = c.kind, b
	}
	if t := h.Get("x-amz-trailer"); t != "" && value == nil {
		found := false
		for _, c := range checksumHeaders {
			if strings.EqualFold(t, c.header) {
				p.Checksum, found = c.kind, true
				chunks, ok := body.(*sign.Reader)
				if !ok {
					return fault.New(fault.Invalid, "checksum-malformed",
						"a trailer was announced, and the body does not come in chunks").In("x-amz-trailer")
				}
				p.Claim = func() ([]byte, error) {
					v := chunks.Trailer.Get(c.header)
					if v == "" {
						return nil, fault.New(fault.Invalid, "checksum-malformed", "the trailer %s was announced and did not come", t).
							In("x-amz-trailer")
					}
					return parseChecksum(c.kind, c.header, v)
				}
			}
		}
		if !found {
			return fault.New(fault.Invalid, "checksum-malformed", "the trailer %s is not known", t).In("x-amz-trailer")
		}
		return nil
	}
	if p.Checksum == digest.None {
		name := h.Get("x-amz-sdk-checksum-algorithm")
		for kind, n := range checksumNames {
			if strings.EqualFold(n, name) {
				p.Checksum = kind // compute and keep it
			}
		}
	}
	p.Claim = func() ([]byte, error) { return value, nil }
	return nil
}

func setChecksums(h http.Header, v *object.Version) {
	h.Set("x-amz-checksum-crc64nvme", base64.StdEncoding.EncodeToString([]byte{byte(v.CRC64 >> 56), byte(v.CRC64 >> 48),
		byte(v.CRC64 >> 40), byte(v.CRC64 >> 32),
		byte(v.CRC64 >> 24), byte(v.CRC64 >> 16), byte(v.CRC64 >> 8), byte(v.CRC64)}))
	h.Set("x-amz-checksum-type", "FULL_OBJECT")
	for _, c := range checksumHeaders {
		if c.kind != v.Checksum.Kind || c.kind == digest.CRC64NVME {
			continue
		}
		sum := base64.StdEncoding.EncodeToString(v.Checksum.Bytes)
		if v.PartSums {
			// What stands for the parts goes alone: one type holds for all that is sent.
			h.Del("x-amz-checksum-crc64nvme")
			h.Set("x-amz-checksum-type", "COMPOSITE")
			sum += "-" + strconv.Itoa(v.ETag.Parts)
		}
		h.Set(c.header, sum)
	}
}
