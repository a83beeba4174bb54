package server

import (
	"net/http"
	"slices"
	"strings"

	"spindle/internal/core/fault"
)

type operation func(*request) error

// subresources are query parameters with a value that name a part of an object.
var subresources = []string{"uploadId", "partNumber"}

// parameters are those that may come without a value and name no part of a
// bucket or object.
var parameters = []string{"prefix", "delimiter", "marker", "max-keys", "encoding-type", "list-type", "continuation-token", "start-after", "fetch-owner", "max-buckets", "versionId", "x-id", "key-marker", "version-id-marker", "upload-id-marker", "part-number-marker", "max-uploads", "max-parts"}

// subresource gives the part of a bucket or object that a request is about; ""
// for the whole. A parameter without a value names one, unless it is known to
// be something else: so nothing that is not done here passes for something
// that is.
func (q *request) subresource() string {
	for _, name := range subresources {
		if q.query.Has(name) {
			return name
		}
	}
	for name, values := range q.query {
		if values[0] == "" && !slices.Contains(parameters, name) && !strings.HasPrefix(name, "response-") && !strings.HasPrefix(name, "X-Amz-") {
			return name
		}
	}
	return ""
}

// named is an operation with the dialect's name of it.
type named struct {
	name string
	op   operation
}

// operation chooses by method, resource and subresource; nil when unsupported.
func (q *request) operation() operation {
	sub := q.subresource()
	var n named
	switch {
	case q.bucket.IsZero():
		if q.r.Method == http.MethodGet && sub == "" {
			n = named{"ListBuckets", (*request).listBuckets}
		}
	case q.name == "":
		n = q.bucketOperation(sub)
	default:
		n = q.objectOperation(sub)
	}
	if n.op != nil {
		q.op = n.name
	}
	return n.op
}

func (q *request) bucketOperation(sub string) named {
	if sub == "" {
		switch q.r.Method {
		case http.MethodGet:
			if q.query.Get("list-type") == "2" {
				return named{"ListObjectsV2", (*request).listV2}
			}
			return named{"ListObjects", (*request).listV1}
		case http.MethodHead:
			return named{"HeadBucket", (*request).headBucket}
		case http.MethodPut:
			return named{"CreateBucket", (*request).createBucket}
		case http.MethodDelete:
			return named{"DeleteBucket", (*request).deleteBucket}
		}
		return named{}
	}
	switch {
	case sub == "delete" && q.r.Method == http.MethodPost:
		return named{"DeleteObjects", (*request).removeMany}
	case sub == "versioning" && q.r.Method == http.MethodGet:
		return named{"GetBucketVersioning", (*request).getVersioning}
	case sub == "versioning" && q.r.Method == http.MethodPut:
		return named{"PutBucketVersioning", (*request).putVersioning}
	case sub == "uploads" && q.r.Method == http.MethodGet:
		return named{"ListMultipartUploads", (*request).listUploads}
	case sub == "versions" && q.r.Method == http.MethodGet:
		return named{"ListObjectVersions", (*request).listVersions}
	case sub == "tagging" && q.r.Method == http.MethodGet:
		return named{"GetBucketTagging", (*request).getBucketTags}
	case sub == "tagging" && q.r.Method == http.MethodPut:
		return named{"PutBucketTagging", (*request).putBucketTags}
	case sub == "tagging" && q.r.Method == http.MethodDelete:
		return named{"DeleteBucketTagging", (*request).deleteBucketTags}
	case q.r.Method == http.MethodGet:
		if p, ok := bucketProbes[sub]; ok {
			return named{"GetBucket:" + sub, func(q *request) error { return q.probeBucket(p) }}
		}
	}
	return named{}
}

func (q *request) objectOperation(sub string) named {
	if sub == "" {
		switch q.r.Method {
		case http.MethodGet:
			return named{"GetObject", (*request).getObject}
		case http.MethodHead:
			return named{"HeadObject", (*request).getObject}
		case http.MethodPut:
			if q.r.Header.Get("x-amz-copy-source") != "" {
				return named{"CopyObject", (*request).copyObject}
			}
			return named{"PutObject", (*request).putObject}
		case http.MethodDelete:
			return named{"DeleteObject", (*request).deleteObject}
		}
		return named{}
	}
	switch {
	case sub == "uploads" && q.r.Method == http.MethodPost:
		return named{"CreateMultipartUpload", (*request).startUpload}
	case sub == "uploadId" && q.r.Method == http.MethodPut && q.r.Header.Get("x-amz-copy-source") != "":
		return named{"UploadPartCopy", (*request).copyPart}
	case sub == "uploadId" && q.r.Method == http.MethodPut:
		return named{"UploadPart", (*request).putPart}
	case sub == "uploadId" && q.r.Method == http.MethodGet:
		return named{"ListParts", (*request).listParts}
	case sub == "uploadId" && q.r.Method == http.MethodPost:
		return named{"CompleteMultipartUpload", (*request).completeUpload}
	case sub == "uploadId" && q.r.Method == http.MethodDelete:
		return named{"AbortMultipartUpload", (*request).abandonUpload}
	case sub == "partNumber" && q.r.Method == http.MethodGet:
		return named{"GetObject", (*request).getObject}
	case sub == "partNumber" && q.r.Method == http.MethodHead:
		return named{"HeadObject", (*request).getObject}
	case sub == "attributes" && q.r.Method == http.MethodGet:
		return named{"GetObjectAttributes", (*request).attributes}
	}
	if sub == "tagging" {
		switch q.r.Method {
		case http.MethodGet:
			return named{"GetObjectTagging", (*request).getTags}
		case http.MethodPut:
			return named{"PutObjectTagging", (*request).putTags}
		case http.MethodDelete:
			return named{"DeleteObjectTagging", (*request).deleteTags}
		}
	}
	if q.r.Method == http.MethodGet {
		if p, ok := objectProbes[sub]; ok {
			return named{"GetObject:" + sub, func(q *request) error { return q.probeObject(p) }}
		}
	}
	return named{}
}

// probe is an answer that is simple and true: an error code of the dialect, or
// a document.
type probe struct {
	none    string
	message string
	write   func(*request, *doc)
	root    string
}

func none(code, message string) probe { return probe{none: code, message: message} }

func empty(root string) probe { return probe{root: root, write: func(*request, *doc) {}} }

var bucketProbes = map[string]probe{
	"location":       {root: "LocationConstraint", write: nil},
	"acl":            {root: "AccessControlPolicy", write: ownerOnly},
	"logging":        empty("BucketLoggingStatus"),
	"notification":   empty("NotificationConfiguration"),
	"accelerate":     empty("AccelerateConfiguration"),
	"requestPayment": {root: "RequestPaymentConfiguration", write: func(_ *request, d *doc) { d.text("Payer", "BucketOwner") }},
	"policyStatus":   {root: "PolicyStatus", write: func(_ *request, d *doc) { d.bool("IsPublic", false) }},
	"ownershipControls": {root: "OwnershipControls", write: func(_ *request, d *doc) {
		d.begin("Rule")
		d.text("ObjectOwnership", "BucketOwnerEnforced")
		d.end()
	}},
	"publicAccessBlock": {root: "PublicAccessBlockConfiguration", write: func(_ *request, d *doc) {
		for _, n := range []string{"BlockPublicAcls", "IgnorePublicAcls", "BlockPublicPolicy", "RestrictPublicBuckets"} {
			d.bool(n, true)
		}
	}},
	"lifecycle":   none("NoSuchLifecycleConfiguration", "The lifecycle configuration does not exist"),
	"policy":      none("NoSuchBucketPolicy", "The bucket policy does not exist"),
	"cors":        none("NoSuchCORSConfiguration", "The CORS configuration does not exist"),
	"website":     none("NoSuchWebsiteConfiguration", "The specified bucket does not have a website configuration"),
	"encryption":  none("ServerSideEncryptionConfigurationNotFoundError", "The server side encryption configuration was not found"),
	"replication": none("ReplicationConfigurationNotFoundError", "The replication configuration was not found"),
	"object-lock": none("ObjectLockConfigurationNotFoundError", "Object Lock configuration does not exist for this bucket"),
}

var objectProbes = map[string]probe{
	"acl":        {root: "AccessControlPolicy", write: ownerOnly},
	"legal-hold": none("NoSuchObjectLockConfiguration", "The specified object does not have a ObjectLock configuration"),
	"retention":  none("NoSuchObjectLockConfiguration", "The specified object does not have a ObjectLock configuration"),
}

func ownerOnly(q *request, d *doc) {
	q.owner(d, "Owner")
	d.begin("AccessControlList")
	d.begin("Grant")
	d.b.WriteString(`<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="CanonicalUser">`)
	d.text("ID", q.key.Account)
	d.text("DisplayName", q.key.Account)
	d.b.WriteString("</Grantee>")
	d.text("Permission", "FULL_CONTROL")
	d.end()
	d.end()
}

func (q *request) owner(d *doc, name string) {
	d.begin(name)
	d.text("ID", q.key.Account)
	d.text("DisplayName", q.key.Account)
	d.end()
}

func (q *request) probeBucket(p probe) error {
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if p.root == "LocationConstraint" {
		d := newDoc(p.root, true)
		d.escape(f.Region)
		return q.xml(d)
	}
	return q.answer(p)
}

func (q *request) probeObject(p probe) error {
	if _, _, err := q.version(); err != nil {
		return err
	}
	return q.answer(p)
}

func (q *request) answer(p probe) error {
	if p.none != "" {
		return fault.New(fault.NotFound, "unsettled", "%s", p.message).In(p.none)
	}
	d := newDoc(p.root, true)
	p.write(q, d)
	return q.xml(d)
}
