package server

import (
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/region"
	"spindle/internal/door"
	"spindle/internal/store"
	"spindle/internal/wire/sign"
)

type dialectError struct {
	code   string
	status int
}

// codes maps fault codes to the dialect's; what is not here goes by kind.
var codes = map[string]dialectError{
	"bucket-name":        {"InvalidBucketName", 400},
	"bucket-missing":     {"NoSuchBucket", 404},
	"bucket-exists":      {"BucketAlreadyOwnedByYou", 409},
	"bucket-in-region":   {"PermanentRedirect", 301},
	"bucket-not-empty":   {"BucketNotEmpty", 409},
	"key-missing":        {"NoSuchKey", 404},
	"key-deleted":        {"NoSuchKey", 404},
	"absent":             {"NoSuchKey", 404},
	"version-marker":     {"MethodNotAllowed", 405},
	"version-malformed":  {"InvalidArgument", 400},
	"versioning-kept":    {"InvalidBucketState", 409},
	"upload-missing":     {"NoSuchUpload", 404},
	"part-missing":       {"InvalidPart", 400},
	"part-order":         {"InvalidPartOrder", 400},
	"part-small":         {"EntityTooSmall", 400},
	"part-number":        {"InvalidArgument", 400},
	"part-range":         {"InvalidPartNumber", 416},
	"copy-range":         {"InvalidArgument", 400},
	"checksum-kind":      {"InvalidRequest", 400},
	"checksum-type":      {"InvalidRequest", 400},
	"tag-count":          {"BadRequest", 400},
	"tag-name":           {"InvalidTag", 400},
	"tag-value":          {"InvalidTag", 400},
	"version-missing":    {"NoSuchVersion", 404},
	"key-too-long":       {"KeyTooLongError", 400},
	"exists":             {"PreconditionFailed", 412},
	"mismatch":           {"PreconditionFailed", 412},
	"metadata-size":      {"MetadataTooLarge", 400},
	"headers-too-large":  {"RequestHeaderSectionTooLarge", 400},
	"digest-mismatch":    {"BadDigest", 400},
	"source-versioning":  {"InvalidRequest", 400},
	"target-versioning":  {"InvalidRequest", 400},
	"replication-target": {"InvalidRequest", 400},
	"newer-there":        {"ReplicaNewerThere", 409},
	"replica-returned":   {"ReplicaReturned", 409},
	"digest-malformed":   {"InvalidDigest", 400},
	"payload-mismatch":   {"XAmzContentSHA256Mismatch", 400},
	"payload-missing":    {"InvalidRequest", 400},
	"checksum-malformed": {"InvalidRequest", 400},
	"size-mismatch":      {"IncompleteBody", 400},
	"chunk-malformed":    {"IncompleteBody", 400},
	"length-missing":     {"MissingContentLength", 411},
	"object-too-large":   {"EntityTooLarge", 400},
	"document-too-large": {"MaxMessageLengthExceeded", 400},
	"document-malformed": {"MalformedXML", 400},
	"range":              {"InvalidRange", 416},
	"storage-class":      {"InvalidStorageClass", 400},
	"tier-missing":       {"InvalidStorageClass", 400},
	"restore-first":      {"InvalidObjectState", 403},
	"restore-needless":   {"InvalidObjectState", 403},
	"restore-under-way":  {"RestoreAlreadyInProgress", 409},
	"copy-to-itself":     {"InvalidRequest", 400},
	"copy-marker":        {"InvalidRequest", 400},
	"region":             {"AuthorizationHeaderMalformed", 400},
	"location":           {"InvalidLocationConstraint", 400},
	"auth-malformed":     {"AuthorizationHeaderMalformed", 400},
	"auth-query":         {"AuthorizationQueryParametersError", 400},
	"clock-skew":         {"RequestTimeTooSkewed", 403},
	"key-unknown":        {"InvalidAccessKeyId", 403},
	"signature-mismatch": {"SignatureDoesNotMatch", 403},
	"account-quota":      {"QuotaExceeded", 403},
	"account-buckets":    {"TooManyBuckets", 400},
	"key-off":            {"InvalidAccessKeyId", 403},
	"key-expired":        {"InvalidAccessKeyId", 403},
	"key-rate":           {"SlowDown", 503},
	"too-much-at-once":   {"SlowDown", 503},
	"too-many-attempts":  {"SlowDown", 503},
	"header-twice":       {"InvalidRequest", 400},
	"parameter-twice":    {"InvalidArgument", 400},
	"quota":              {"QuotaExceeded", 403},
	"disk-full":          {"InsufficientStorage", 507},
	"database-full":      {"InsufficientStorage", 507},
	"slow":               {"RequestTimeout", 400},
	"method":             {"MethodNotAllowed", 405},
	"header-malformed":   {"InvalidArgument", 400},
	"security-token":     {"InvalidToken", 400},
	"unsettled":          {"", 404}, // a probe's own code stands in Field
}

var byKind = map[fault.Kind]dialectError{
	fault.Internal: {"InternalError", 500}, fault.Invalid: {"InvalidArgument", 400}, fault.Unsigned: {"AccessDenied", 403},
	fault.Refused: {"AccessDenied", 403}, fault.NotFound: {"NoSuchKey", 404}, fault.Conflict: {"OperationAborted", 409},
	fault.Precondition: {"PreconditionFailed", 412}, fault.TooLarge: {"EntityTooLarge", 400},
	fault.Full:        {"InsufficientStorage", 507},
	fault.Unavailable: {"ServiceUnavailable", 503}, fault.Unfinished: {"NotImplemented", 501},
	fault.Damaged: {"ObjectDamaged", 409}, // no try again reads it
	fault.Slow:    {"RequestTimeout", 400},
}

func dialect(f *fault.Error) dialectError {
	if d, ok := codes[f.Code]; ok {
		if d.code == "" {
			d.code = f.Field
		}
		return d
	}
	return byKind[f.Kind]
}

func notImplemented(what string) error {
	return fault.New(fault.Unfinished, "not-implemented",
		"A header or request you provided implies functionality that is not implemented: %s", what).
		Do("docs/wire.md lists what is")
}

// inRegion says of a bucket that is missing here in which region of the house it is, to whoever
// signed for its account.
func (q *request) inRegion(err error) (*region.Region, error) {
	if !fault.HasCode(err, "bucket-missing") || q.key == nil || q.bucket.IsZero() {
		return nil, err
	}
	r, b, rerr := q.s.store.Catalog.RegionOf(q.ctx(), q.bucket)
	if rerr != nil || r == nil || b.Account != q.key.Account && !q.subject.Operator {
		return nil, err
	}
	return r, fault.New(fault.NotFound, "bucket-in-region", "the bucket is in the region %s", r.Name).In("bucket").
		Do("ask the service there: %s", r.Wire)
}

// fail answers with an error.
func (q *request) fail(err error) {
	// Of a database that broke off, too, the cause may be an early end: that is none of the body.
	if errors.Is(err, io.ErrUnexpectedEOF) && fault.KindOf(err) != fault.Unavailable {
		err = fault.New(fault.Invalid, "size-mismatch", "the body ended before the length that was declared").In("body").
			Do("send the whole body").Because(err)
	}
	moved, err := q.inRegion(err)
	f := fault.From(err)
	d := dialect(f)
	if gone := (*store.Deleted)(nil); errors.As(err, &gone) {
		q.w.Header().Set("x-amz-delete-marker", "true")
		q.w.Header().Set("x-amz-version-id", gone.Marker.ID().String())
	}
	if q.status != 0 {
		// The answer is under way: cut the connection, so that nobody takes a part for the whole.
		q.s.log.Debug("an answer broke off", "op", q.op, "request", q.id, "error", err)
		panic(http.ErrAbortHandler)
	}
	if d.status >= 500 && f.Kind != fault.Unfinished {
		q.s.log.Log(q.ctx(), door.Weight(q.ctx()), "a request failed", "op", q.op, "code", f.Code, "path",
			q.r.URL.EscapedPath(), "request", q.id, "error", err)
	}
	q.status = d.status
	h := q.w.Header()
	if moved != nil {
		h.Set("x-amz-bucket-region", moved.Name)
		h.Set("Location", moved.Wire+q.r.URL.RequestURI())
	}
	if f.Kind == fault.Unavailable {
		h.Set("Retry-After", strconv.Itoa(max(2, int(math.Ceil(f.After.Seconds())))))
	}
	if f.Kind == fault.Slow {
		h.Set("Connection", "close")
	}
	q.in.Refuse(q.w)
	if q.r.Method == http.MethodHead || d.status == http.StatusNotModified {
		q.w.WriteHeader(d.status)
		return
	}
	b := q.errorDoc(err, f, d.code, moved)
	h.Set("Content-Type", "application/xml")
	h.Del("Content-Length")
	h.Del("ETag")
	delete(h, "ETag")
	h.Del("Last-Modified")
	q.out = int64(len(b))
	q.w.WriteHeader(d.status)
	_, _ = q.w.Write(b) // the client may be gone
}

// errorDoc gives the document that tells of an error.
func (q *request) errorDoc(err error, f *fault.Error, code string, moved *region.Region) []byte {
	message := f.Message
	if f.Remedy != "" {
		message += ". To mend it: " + f.Remedy
	}
	x := newDoc("Error", false)
	x.text("Code", code)
	x.text("Message", message)
	if f.Field != "" && f.Code != "unsettled" {
		x.text("Field", f.Field)
	}
	if !q.bucket.IsZero() {
		x.text("BucketName", q.bucket.String())
	}
	if q.name != "" {
		x.text("Key", q.name)
	}
	if code == "AuthorizationHeaderMalformed" && f.Code == "region" {
		x.text("Region", q.s.store.Region)
	}
	if moved != nil {
		_, host, _ := strings.Cut(moved.Wire, "://")
		x.text("Endpoint", host)
		x.text("Bucket", q.bucket.String())
		x.text("Region", moved.Name)
	}
	x.text("Resource", q.r.URL.Path)
	signingDetails(x, err)
	x.text("RequestId", q.id)
	x.text("HostId", q.s.ids.Process())
	return x.bytes()
}

// signingDetails says what was signed, and when, as the service sees it: what those
// need who look for what differs.
func signingDetails(x *doc, err error) {
	if m := (*sign.Mismatch)(nil); errors.As(err, &m) {
		x.text("AWSAccessKeyId", m.KeyID)
		x.text("SignatureProvided", m.Signature)
		x.text("StringToSign", m.Signed)
		x.text("StringToSignBytes", fmt.Sprintf("% x", m.Signed))
		x.text("CanonicalRequest", m.Canonical)
		x.text("CanonicalRequestBytes", fmt.Sprintf("% x", m.Canonical))
	}
	l := (*sign.Late)(nil)
	if !errors.As(err, &l) {
		return
	}
	x.time("ServerTime", l.Now)
	if l.Expires.IsZero() {
		x.time("RequestTime", l.Signed)
		x.number("MaxAllowedSkewMilliseconds", sign.MaxSkew.Milliseconds())
		return
	}
	x.number("X-Amz-Expires", int64(l.Expires.Sub(l.Signed)/time.Second))
	x.time("Expires", l.Expires)
}
