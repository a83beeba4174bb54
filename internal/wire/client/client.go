package client

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/sign"
)

// Client asks one service as one key. Its methods may be used side by side.
type Client struct {
	Base      *url.URL // scheme and host
	HostStyle bool     // bucket.HOST instead of HOST/bucket
	Region    string
	Key       sign.Credential
	HTTP      *http.Client
	Now       func() time.Time // the clock to sign with; nil: the machine's
}

// Transport gives a transport fit for many transfers side by side.
func Transport() *http.Transport {
	return &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           dial(10 * time.Second),
		MaxIdleConnsPerHost:   64,
		IdleConnTimeout:       90 * time.Second,
		TLSHandshakeTimeout:   10 * time.Second,
		ExpectContinueTimeout: time.Second,
		WriteBufferSize:       128 << 10,
		ReadBufferSize:        64 << 10,
		DisableCompression:    true,
	}
}

// dial connects; names beneath localhost are this machine (RFC 6761, section
// 6.3), which not every resolver knows.
func dial(timeout time.Duration) func(context.Context, string, string) (net.Conn, error) {
	d := &net.Dialer{Timeout: timeout, KeepAlive: 30 * time.Second}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if host, port, err := net.SplitHostPort(address); err == nil && strings.HasSuffix(host, ".localhost") {
			address = net.JoinHostPort("localhost", port)
		}
		return d.DialContext(ctx, network, address)
	}
}

// New makes a client for a base address such as http://127.0.0.1:5710.
func New(base, region string, key sign.Credential) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fault.New(fault.Invalid, "address", "%q is no address of a service", base).In("address").
			Do("give it as http://HOST:PORT or https://HOST")
	}
	return &Client{Base: &url.URL{Scheme: u.Scheme, Host: u.Host}, Region: region, Key: key,
		HTTP: &http.Client{Transport: Transport()}}, nil
}

// URL gives the address of a key in a bucket; key "" is the bucket, bucket ""
// the service.
func (c *Client) URL(bucket, key string, query url.Values) *url.URL {
	u := *c.Base
	path := "/"
	switch {
	case bucket == "":
	case c.HostStyle:
		u.Host = bucket + "." + u.Host
		path = "/" + key
	case key == "":
		path = "/" + bucket
	default:
		path = "/" + bucket + "/" + key
	}
	u.Path, u.RawPath = path, sign.Escape(path, false)
	u.RawQuery = strings.ReplaceAll(query.Encode(), "+", "%20")
	return &u
}

func (c *Client) now() time.Time {
	if c.Now != nil {
		return c.Now()
	}
	return time.Now()
}

func (c *Client) request(ctx context.Context, method, bucket, key string, query url.Values,
	body io.Reader) (*http.Request, error) {
	r, err := http.NewRequestWithContext(ctx, method, "http://x/", body)
	if err != nil {
		return nil, err
	}
	r.URL = c.URL(bucket, key, query)
	r.Host = r.URL.Host
	return r, nil
}

// do sends a signed request; an answer of 300 or more becomes an error.
func (c *Client) do(r *http.Request, payload string) (*http.Response, error) {
	if payload != "" {
		sign.Sign(r, c.Key, c.Region, payload, c.now())
	}
	resp, err := c.HTTP.Do(r)
	if err != nil {
		return nil, Unreachable(err)
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	return nil, answerError(resp)
}

// Unreachable classifies an error of the connection.
func Unreachable(err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return f
	}
	if errors.Is(err, context.Canceled) {
		return fault.New(fault.Unavailable, "cancelled", "given up").Because(err)
	}
	who := "the service"
	var at *url.Error
	if errors.As(err, &at) {
		if u, perr := url.Parse(at.URL); perr == nil {
			who += " at " + u.Scheme + "://" + u.Host
		}
	}
	return fault.New(fault.Unavailable, "unreachable", "%s does not answer", who).In("address").
		Do("check the address, and that the service runs").Because(err)
}

var codeOf = map[string]struct {
	kind fault.Kind
	code string
}{
	"NoSuchBucket": {fault.NotFound, "bucket-missing"}, "NoSuchKey": {fault.NotFound, "key-missing"},
	"InvalidBucketName":       {fault.Invalid, "bucket-name"},
	"BucketAlreadyOwnedByYou": {fault.Conflict, "bucket-exists"}, "BucketAlreadyExists": {fault.Conflict, "bucket-exists"},
	"BucketNotEmpty":     {fault.Conflict, "bucket-not-empty"},
	"PreconditionFailed": {fault.Precondition, "mismatch"}, "BadDigest": {fault.Invalid, "digest-mismatch"},
	"QuotaExceeded":       {fault.Full, "quota"},
	"InsufficientStorage": {fault.Full, "disk-full"}, "SignatureDoesNotMatch": {fault.Refused, "signature-mismatch"},
	"InvalidAccessKeyId":   {fault.Refused, "key-unknown"},
	"RequestTimeTooSkewed": {fault.Refused, "clock-skew"}, "AccessDenied": {fault.Refused, "refused"},
	"NotImplemented":               {fault.Unfinished, "not-implemented"},
	"AuthorizationHeaderMalformed": {fault.Invalid, "region"}, "EntityTooLarge": {fault.TooLarge, "object-too-large"},
	"InvalidRange":   {fault.Invalid, "range"},
	"RequestTimeout": {fault.Slow, "slow"}, "NoSuchUpload": {fault.NotFound, "upload-missing"},
	"InvalidPart": {fault.Invalid, "part-missing"}, "InvalidPartOrder": {fault.Invalid, "part-order"},
	"EntityTooSmall": {fault.Invalid, "part-small"}, "NoSuchVersion": {fault.NotFound, "version-missing"},
	"NoSuchLifecycleConfiguration": {fault.NotFound, "rules-missing"},
	"InvalidTag":                   {fault.Invalid, "tag-value"}, "MetadataTooLarge": {fault.Invalid, "metadata-size"},
	"KeyTooLongError": {fault.Invalid, "key-too-long"}, "SlowDown": {fault.Unavailable, "busy"},
	"ServiceUnavailable": {fault.Unavailable, "busy"}, "InternalError": {fault.Unavailable, "wire-error"},
	"ObjectDamaged":     {fault.Damaged, "damaged"},
	"ReplicaNewerThere": {fault.Conflict, "newer-there"}, "ReplicaReturned": {fault.Conflict, "replica-returned"},
	"InvalidStorageClass": {fault.Invalid, "storage-class"},
}

func answerError(resp *http.Response) error {
	var d struct {
		Code, Message, Field, Region string
	}
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err := xml.Unmarshal(raw, &d); err != nil || d.Code == "" {
		switch resp.StatusCode {
		case http.StatusNotFound:
			return fault.New(fault.NotFound, "key-missing", "nothing is there").In("key")
		case http.StatusForbidden:
			return fault.New(fault.Refused, "refused", "the service refuses this key").In("key")
		case http.StatusNotModified:
			return fault.New(fault.Precondition, "not-modified", "the object is as it was")
		case http.StatusPreconditionFailed:
			return fault.New(fault.Precondition, "mismatch", "the object is not as the request asked")
		}
		return fault.New(fault.Unavailable, "foreign", "the address answers with status %d, and not in the dialect",
			resp.StatusCode).In("address").Do("check that address and port are the wire's").
			Again(retryAfter(resp.Header.Get("Retry-After")))
	}
	kind := fault.Internal
	code := "wire-error"
	if k, ok := codeOf[d.Code]; ok {
		kind, code = k.kind, k.code
	} else if resp.StatusCode == http.StatusServiceUnavailable {
		kind = fault.Unavailable
	} else if resp.StatusCode < 500 {
		kind = fault.Invalid
	}
	message, remedy, _ := strings.Cut(d.Message, ". To mend it: ")
	f := fault.New(kind, code, "%s", message).In(d.Field).Do("%s", remedy)
	if regionName.MatchString(d.Region) {
		f = f.Because(regionIs(d.Region))
	}
	return f.Again(retryAfter(resp.Header.Get("Retry-After")))
}

// maxRetryAfter is how long an answer is believed that asks to wait.
const maxRetryAfter = time.Hour

// retryAfter reads the header of the name (RFC 9110, section 10.2.3): seconds or a date,
// 0 for neither.
func retryAfter(s string) time.Duration {
	if n, err := strconv.Atoi(s); err == nil && n >= 0 {
		return min(time.Duration(n)*time.Second, maxRetryAfter)
	}
	if t, err := http.ParseTime(s); err == nil {
		return max(0, min(time.Until(t), maxRetryAfter))
	}
	return 0
}

// RegionNamed gives the region that the service named that gave an error.
func RegionNamed(err error) (string, bool) {
	r := regionIs("")
	ok := errors.As(err, &r)
	return string(r), ok
}

// regionIs is the region that an answer names, as the cause of an error.
type regionIs string

func (r regionIs) Error() string { return "its region is " + string(r) }

var regionName = regexp.MustCompile(`^[a-z0-9-]{1,64}$`)

// Put is what a put may carry.
type Put struct {
	ContentType string
	Headers     map[string]string // further standard headers
	Metadata    object.Metadata
	Tags        object.Tags
	ReplaceTags bool   // on a copy: with these tags instead of the source's
	Tier        string // where it goes, at a service of this kind; "": where the bucket says
	Class       string // storage class as the wire names it, instead of a tier
	IfAbsent    bool   // only if the key holds nothing
	IfETag      string // only if the key holds this content; "": whatever it holds
}

// Info is what an answer tells of an object.
type Info struct {
	Size        int64
	ETag        string
	CRC64       string // base64; "" when the service gives none
	ContentType string
	Modified    time.Time
	Metadata    object.Metadata
	Version     string // its id; "" where there is no versioning
	Headers     map[string]string
	Tags        int    // how many there are
	MD5         string // of the content, in hex, when the ETag is that; see wholeMD5
	Replica     string // how a service of this kind judges it beside the state that was asked about
	Lacks       string // what a bucket of Spindle asks of metadata, and was not given
	Class       string // storage class, in the service's words; "" for the usual one
}

// toldHeaders are the standard headers that an object keeps beside its type.
var toldHeaders = []string{"Cache-Control", "Content-Disposition", "Content-Encoding", "Content-Language", "Expires"}

func info(h http.Header, size int64) Info {
	i := Info{Size: size, ETag: strings.Trim(h.Get("ETag"), `"`), CRC64: h.Get("X-Amz-Checksum-Crc64nvme"),
		ContentType: h.Get("Content-Type"), Metadata: object.Metadata{}, Version: h.Get("X-Amz-Version-Id")}
	i.MD5 = wholeMD5(i.ETag, h)
	i.Modified, _ = http.ParseTime(h.Get("Last-Modified")) // zero when the service gives none
	i.Tags, _ = strconv.Atoi(h.Get("X-Amz-Tagging-Count")) // none: 0
	i.Class, i.Lacks, i.Replica = h.Get("X-Amz-Storage-Class"), h.Get("Spindle-Lacks"), h.Get("Spindle-Replica")
	for _, name := range toldHeaders {
		if v := h.Get(name); v != "" {
			if i.Headers == nil {
				i.Headers = map[string]string{}
			}
			i.Headers[name] = v
		}
	}
	for name := range h {
		if rest, ok := strings.CutPrefix(name, "X-Amz-Meta-"); ok {
			i.Metadata[strings.ToLower(rest)] = object.FromWire(h.Get(name))
		}
	}
	return i
}

const trailerName = "x-amz-checksum-crc64nvme"

// set puts what a put carries into a header.
func (p Put) set(h http.Header) {
	if p.ContentType != "" {
		h.Set("Content-Type", p.ContentType)
	}
	for name, v := range p.Headers {
		h.Set(name, v)
	}
	for name, v := range p.Metadata {
		h.Set("X-Amz-Meta-"+name, object.ToWire(v))
	}
	if len(p.Tags) > 0 {
		h.Set("X-Amz-Tagging", tagsIn(p.Tags))
	}
	if p.Class != "" {
		h.Set("X-Amz-Storage-Class", p.Class)
	}
	if p.Tier != "" {
		h.Set("X-Amz-Storage-Class", class(p.Tier))
	}
}

// class names a tier as the wire does: main in the dialect's default word, others by
// their names in capitals.
func class(tier string) string {
	if tier == "main" {
		return "STANDARD"
	}
	return strings.ToUpper(tier)
}

// conditions puts what a put asks of what is there into a header.
func (p Put) conditions(h http.Header) {
	if p.IfAbsent {
		h.Set("If-None-Match", "*")
	}
	if p.IfETag != "" {
		h.Set("If-Match", `"`+p.IfETag+`"`)
	}
}

// Put writes an object of a known size. The error when a condition does not hold has
// the kind fault.Precondition.
func (c *Client) Put(ctx context.Context, bucket, key string, body io.Reader, size int64, p Put) (Info, error) {
	r, err := c.request(ctx, http.MethodPut, bucket, key, nil, nil)
	if err != nil {
		return Info{}, err
	}
	p.set(r.Header)
	p.conditions(r.Header)
	i, _, err := c.send(r, body, size)
	return i, err
}

// send sends a body of a known size in chunks with its digest behind it, and
// compares the digest that comes back.
func (c *Client) send(r *http.Request, body io.Reader, size int64) (Info, uint64, error) {
	sum := digest.NewCRC64()
	h := r.Header
	h.Set("Content-Encoding", strings.TrimPrefix(h.Get("Content-Encoding")+",aws-chunked", ","))
	h.Set("X-Amz-Decoded-Content-Length", strconv.FormatInt(size, 10))
	h.Set("X-Amz-Trailer", trailerName)
	if size > 1<<20 {
		h.Set("Expect", "100-continue") // hear a refusal before sending
	}
	auth := sign.Sign(r, c.Key, c.Region, sign.StreamUnsignedTrailer, c.now())
	counted := &counting{r: io.LimitReader(body, size), sum: sum} // and not a byte further: it may be a pipe
	r.Body = io.NopCloser(sign.NewEncoder(auth, counted, func() (string, string) {
		return trailerName, base64.StdEncoding.EncodeToString(sum.Sum(nil))
	}))
	r.ContentLength = sign.EncodedLength(sign.StreamUnsignedTrailer, size, trailerName, 12)
	resp, err := c.do(r, "")
	if err != nil {
		if counted.err != nil { // the source broke, not the service
			return Info{}, 0, counted.err
		}
		return Info{}, 0, err
	}
	defer resp.Body.Close()
	if counted.n != size {
		return Info{}, 0, fault.New(fault.Conflict, "source-changed", "the source had %d bytes, and gave %d", size,
			counted.n).In("source").Do("put it again when nothing writes to it")
	}
	i := info(resp.Header, size)
	if want := base64.StdEncoding.EncodeToString(sum.Sum(nil)); i.CRC64 != "" && i.CRC64 != want {
		return i, 0, fault.New(fault.Damaged, "digest-mismatch", "the service holds the digest %s, and %s was sent", i.CRC64,
			want).Do("put it again")
	}
	return i, sum.Sum64(), nil
}

type counting struct {
	r   io.Reader
	sum hash.Hash
	n   int64
	err error
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	c.sum.Write(p[:n])
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// Object is an object being read.
type Object struct {
	Info
	Body io.ReadCloser // compared with the digest at its end, where the service gives one
}

// Get reads an object from a byte on; 0 for all of it. ifMatch, when not
// empty, is the ETag it must still have; version, when not empty, the version's id.
func (c *Client) Get(ctx context.Context, bucket, key, version string, from int64, ifMatch string) (*Object, error) {
	var q url.Values
	if version != "" {
		q = url.Values{"versionId": {version}}
	}
	r, err := c.request(ctx, http.MethodGet, bucket, key, q, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("X-Amz-Checksum-Mode", "ENABLED")
	if from > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	if ifMatch != "" {
		r.Header.Set("If-Match", `"`+ifMatch+`"`)
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return nil, err
	}
	o := &Object{Info: info(resp.Header, resp.ContentLength), Body: resp.Body}
	if want, err := base64.StdEncoding.DecodeString(o.CRC64); err == nil && len(want) == 8 &&
		resp.StatusCode == http.StatusOK {
		o.Body = &checked{ReadCloser: resp.Body, sum: digest.NewCRC64(), want: want}
	}
	return o, nil
}

type checked struct {
	io.ReadCloser
	sum  hash.Hash
	want []byte
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.sum.Write(p[:n])
	if err == io.EOF && !bytes.Equal(c.sum.Sum(nil), c.want) {
		return n, fault.New(fault.Damaged, "digest-mismatch", "the bytes that arrived do not have the digest of the object").
			Do("get it again")
	}
	return n, err
}

// Head gives what is known of an object.
func (c *Client) Head(ctx context.Context, bucket, key string) (Info, error) {
	return c.HeadVersion(ctx, bucket, key, "")
}

// HeadVersion gives what is known of a version of an object, "" for the current one.
func (c *Client) HeadVersion(ctx context.Context, bucket, key, version string) (Info, error) {
	return c.head(ctx, bucket, key, version, nil)
}

func (c *Client) head(ctx context.Context, bucket, key, version string, headers map[string]string) (Info, error) {
	var q url.Values
	if version != "" {
		q = url.Values{"versionId": {version}}
	}
	r, err := c.request(ctx, http.MethodHead, bucket, key, q, nil)
	if err != nil {
		return Info{}, err
	}
	r.Header.Set("X-Amz-Checksum-Mode", "ENABLED")
	for name, v := range headers {
		r.Header.Set(name, v)
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return Info{}, err
	}
	resp.Body.Close()
	return info(resp.Header, resp.ContentLength), nil
}

// Remove removes an object; one that is not there is no error.
func (c *Client) Remove(ctx context.Context, bucket, key string) error {
	return c.RemoveWith(ctx, bucket, key, nil)
}

// RemoveVersion removes a version for good, or a delete marker.
func (c *Client) RemoveVersion(ctx context.Context, bucket, key, version string) error {
	_, err := c.document(ctx, http.MethodDelete, bucket, key, url.Values{"versionId": {version}}, nil, "", nil)
	return err
}

// CreateBucket makes a bucket.
func (c *Client) CreateBucket(ctx context.Context, bucket string) error {
	return c.plain(ctx, http.MethodPut, bucket, "")
}

// SetVersioning switches a bucket's versioning on, or pauses it.
func (c *Client) SetVersioning(ctx context.Context, bucket string, on bool) error {
	word := "Suspended"
	if on {
		word = "Enabled"
	}
	_, err := c.document(ctx, http.MethodPut, bucket, "", url.Values{"versioning": {""}}, nil,
		"<VersioningConfiguration><Status>"+word+"</Status></VersioningConfiguration>", nil)
	return err
}

// Seal makes encryption at rest a bucket's default.
func (c *Client) Seal(ctx context.Context, bucket string) error {
	_, err := c.document(ctx, http.MethodPut, bucket, "", url.Values{"encryption": {""}}, nil,
		"<ServerSideEncryptionConfiguration><Rule><ApplyServerSideEncryptionByDefault><SSEAlgorithm>AES256</SSEAlgorithm></ApplyServerSideEncryptionByDefault></Rule></ServerSideEncryptionConfiguration>", nil)
	return err
}

func (c *Client) plain(ctx context.Context, method, bucket, key string) error {
	r, err := c.request(ctx, method, bucket, key, nil, nil)
	if err != nil {
		return err
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Presign gives a link to an object that holds for a while.
func (c *Client) Presign(method, bucket, key string, expires time.Duration) string {
	return sign.Presign(method, c.URL(bucket, key, nil), c.Key, c.Region, expires, c.now()).String()
}

// Trial is what a real request with a key came to.
type Trial struct {
	Request string // what was asked for, in words
	Allowed bool
	Status  int    // of the answer
	Code    string // of the answer, when it is an error
	Says    string // what the answer says, when it is an error
}

// Try makes a real request that shows whether the key may list, read, write,
// remove or change settings, and leaves everything as it was: to write it starts
// an upload and abandons it, to remove it names a version that cannot be, for
// settings it sends a document that is none. Errors are those of reaching the
// service.
func (c *Client) Try(ctx context.Context, do, bucket, key string) (Trial, error) {
	t := Trial{}
	method, query, body := http.MethodGet, url.Values{}, ""
	switch do {
	case "list":
		t.Request = "list one key"
		query = url.Values{"list-type": {"2"}, "max-keys": {"1"}, "prefix": {key}}
		key = ""
	case "read":
		t.Request, method = "read the object's head", http.MethodHead
	case "write":
		t.Request = "start an upload and abandon it"
		id, err := c.StartUpload(ctx, bucket, key, Put{})
		if err == nil {
			t.Allowed, t.Status = true, http.StatusOK
			return t, c.AbandonUpload(ctx, bucket, key, id)
		}
		return t.of(err)
	case "remove":
		t.Request, method = "remove a version that there is not", http.MethodDelete
		query = url.Values{"versionId": {strings.Repeat("0", 15) + "1"}}
	default:
		t.Request, method, body, key = "change versioning, with a document that is none", http.MethodPut, "<none/>", ""
		query = url.Values{"versioning": {""}}
	}
	r, err := c.request(ctx, method, bucket, key, query, strings.NewReader(body))
	if err != nil {
		return t, err
	}
	resp, err := c.do(r, sign.Unsigned)
	if err != nil {
		return t.of(err)
	}
	t.Allowed, t.Status = true, resp.StatusCode
	return t, resp.Body.Close()
}

// of reads an answer that is an error: one that is no refusal shows that the
// request was let in.
func (t Trial) of(err error) (Trial, error) {
	f := fault.From(err)
	if f.Kind == fault.Unavailable || f.Kind == fault.Internal {
		return t, err
	}
	t.Allowed = f.Kind != fault.Refused && f.Kind != fault.Unsigned
	t.Status, t.Code, t.Says = map[bool]int{true: http.StatusNotFound, false: http.StatusForbidden}[t.Allowed], f.Code,
		f.Message
	return t, nil
}
