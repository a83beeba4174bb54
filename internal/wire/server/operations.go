package server

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
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
		if values[0] == "" && !slices.Contains(parameters, name) && !strings.HasPrefix(name, "response-") && !strings.HasPrefix(strings.ToLower(name), "x-amz-") {
			return name
		}
	}
	return ""
}

// named is an operation with the dialect's name of it, and what whoever asks for
// it must be allowed.
type named struct {
	name string
	op   operation
	need need
}

// need is what an operation needs: a right on the key, on what is beneath the
// prefix of a listing, or on some part of the bucket; or that the request is
// signed, or that who asks administers the account.
type need struct {
	do    access.Rights
	on    place
	admin bool
}

type place uint8

const (
	onKey place = iota
	onPrefix
	onBucket // some part of it
	onWhole  // the bucket as a whole
)

// Common needs.
var (
	signed   = need{}
	reads    = need{do: access.Read}
	writes   = need{do: access.Write}
	removes  = need{do: access.Remove}
	lists    = need{do: access.List, on: onPrefix}
	looks    = need{do: access.List, on: onBucket}
	settings = need{do: access.Settings, on: onWhole}
)

// operation chooses by method, resource and subresource; its op is nil when
// unsupported.
func (q *request) operation() named {
	sub := q.subresource()
	var n named
	switch {
	case q.bucket.IsZero():
		if q.r.Method == http.MethodGet && sub == "" {
			n = named{"ListBuckets", (*request).listBuckets, signed}
		}
	case q.name == "":
		n = q.bucketOperation(sub)
	default:
		n = q.objectOperation(sub)
	}
	if n.op != nil {
		q.op = n.name
	}
	return n
}

// unsupported is the error for a request that is no operation: it has a method that
// the dialect does not have there, or asks for something that is not done here.
func (q *request) unsupported() error {
	sub := q.subresource()
	_, ofBuckets := bucketProbes[sub]
	_, ofObjects := objectProbes[sub]
	has := q.methods()
	known := slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete}, q.r.Method)
	form := q.r.Method == http.MethodPost && strings.HasPrefix(q.r.Header.Get("Content-Type"), "multipart/form-data")
	switch {
	case form:
		return notImplemented("an upload by a form")
	case known && (len(has) == 0 || ofBuckets || ofObjects || slices.Contains(subresources, sub)):
		return notImplemented("this operation")
	}
	q.w.Header().Set("Allow", strings.Join(has, ", "))
	return fault.New(fault.Invalid, "method", "The specified method is not allowed against this resource: %s", q.r.Method).In("method").
		Do("use one of: %s", strings.Join(has, ", "))
}

// methods gives those that the request could have had.
func (q *request) methods() (has []string) {
	for _, m := range []string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete} {
		other, r := *q, *q.r
		other.r, r.Method = &r, m
		if other.operation().op != nil {
			has = append(has, m)
		}
	}
	return has
}

// allowed refuses what whoever asks may not do.
func (q *request) allowed(n need) error {
	switch {
	case q.key == nil && (n.do == 0 || !q.signable()):
		return unsigned()
	case n.admin:
		if s := q.subject; !s.Administers(s.Account) {
			why := fmt.Sprintf("%s is %s in the account %s, which may not make buckets", s, s.Role.A(), s.Account)
			q.s.gate.Refused(s, q.author().Source, s.Account, q.bucket.String(), "create", why)
			return access.Decision{Why: why, Remedy: "use one whose role is administrator, without limits"}.Refused()
		}
		return nil
	case n.do == 0:
		return nil
	}
	a := q.ask(n.do, q.bucket, q.name)
	switch n.on {
	case onPrefix:
		a.Key = q.query.Get("prefix")
	case onBucket:
		a.Some = true
	case onWhole:
		a.Key = ""
	}
	err := q.s.gate.May(q.ctx(), a)
	if err == nil {
		q.again = q.s.gate.Again(q.ctx(), q.key, a)
	}
	return err
}

// signable reports whether the request may come unsigned at all: it may not say
// how it wants to be answered, since a page could then be made of an object.
func (q *request) signable() bool {
	for name := range overrides {
		if q.query.Has(name) {
			return false
		}
	}
	return true
}

func (q *request) ask(do access.Rights, bucket object.BucketName, key string) gate.Ask {
	return gate.Ask{Subject: q.subject, Source: q.author().Source, Do: do, Bucket: bucket, Key: key}
}

// hide turns what is not there into a refusal for those who may not list it:
// else they could find out which keys there are.
func (q *request) hide(a catalog.Address, err error) error {
	if err == nil || fault.KindOf(err) != fault.NotFound || fault.HasCode(err, "bucket-missing") {
		return err
	}
	ask := q.ask(access.List, a.Bucket, a.Key.String())
	d, _, derr := q.s.gate.Decide(q.ctx(), ask)
	switch {
	case derr != nil:
		return derr
	case d.Allowed:
		return err
	}
	return access.Decision{Why: "there may be no such object, and " + q.subject.String() + " may not list what there is", Remedy: "check the key, or have listing granted as well"}.Refused()
}

func (q *request) bucketOperation(sub string) named {
	if sub == "" {
		switch q.r.Method {
		case http.MethodGet:
			if q.query.Has("list-type") {
				return named{"ListObjectsV2", (*request).listV2, lists}
			}
			return named{"ListObjects", (*request).listV1, lists}
		case http.MethodHead:
			return named{"HeadBucket", (*request).headBucket, looks}
		case http.MethodPut:
			return named{"CreateBucket", (*request).createBucket, need{admin: true}}
		case http.MethodDelete:
			return named{"DeleteBucket", (*request).deleteBucket, settings}
		}
		return named{}
	}
	switch {
	case sub == "delete" && q.r.Method == http.MethodPost:
		return named{"DeleteObjects", (*request).removeMany, need{do: access.Remove, on: onBucket}}
	case sub == "versioning" && q.r.Method == http.MethodGet:
		return named{"GetBucketVersioning", (*request).getVersioning, looks}
	case sub == "versioning" && q.r.Method == http.MethodPut:
		return named{"PutBucketVersioning", (*request).putVersioning, settings}
	case sub == "uploads" && q.r.Method == http.MethodGet:
		return named{"ListMultipartUploads", (*request).listUploads, lists}
	case sub == "versions" && q.r.Method == http.MethodGet:
		return named{"ListObjectVersions", (*request).listVersions, lists}
	case sub == "tagging" && q.r.Method == http.MethodGet:
		return named{"GetBucketTagging", (*request).getBucketTags, need{do: access.List, on: onWhole}}
	case sub == "tagging" && q.r.Method == http.MethodPut:
		return named{"PutBucketTagging", (*request).putBucketTags, settings}
	case sub == "tagging" && q.r.Method == http.MethodDelete:
		return named{"DeleteBucketTagging", (*request).deleteBucketTags, settings}
	case sub == "encryption" && q.r.Method == http.MethodGet:
		return named{"GetBucketEncryption", (*request).getEncryption, looks}
	case sub == "encryption" && q.r.Method == http.MethodPut:
		return named{"PutBucketEncryption", (*request).putEncryption, settings}
	case sub == "encryption" && q.r.Method == http.MethodDelete:
		return named{"DeleteBucketEncryption", (*request).deleteEncryption, settings}
	case q.r.Method == http.MethodGet:
		if p, ok := bucketProbes[sub]; ok {
			return named{"GetBucket:" + sub, func(q *request) error { return q.probeBucket(p) }, looks}
		}
	}
	return named{}
}

func (q *request) objectOperation(sub string) named {
	if sub == "" {
		switch q.r.Method {
		case http.MethodGet:
			return named{"GetObject", (*request).getObject, reads}
		case http.MethodHead:
			return named{"HeadObject", (*request).getObject, reads}
		case http.MethodPut:
			if q.r.Header.Get("x-amz-copy-source") != "" {
				return named{"CopyObject", (*request).copyObject, writes}
			}
			return named{"PutObject", (*request).putObject, writes}
		case http.MethodDelete:
			return named{"DeleteObject", (*request).deleteObject, removes}
		}
		return named{}
	}
	switch {
	case sub == "uploads" && q.r.Method == http.MethodPost:
		return named{"CreateMultipartUpload", (*request).startUpload, writes}
	case sub == "uploadId" && q.r.Method == http.MethodPut && q.r.Header.Get("x-amz-copy-source") != "":
		return named{"UploadPartCopy", (*request).copyPart, writes}
	case sub == "uploadId" && q.r.Method == http.MethodPut:
		return named{"UploadPart", (*request).putPart, writes}
	case sub == "uploadId" && q.r.Method == http.MethodGet:
		return named{"ListParts", (*request).listParts, writes}
	case sub == "uploadId" && q.r.Method == http.MethodPost:
		return named{"CompleteMultipartUpload", (*request).completeUpload, writes}
	case sub == "uploadId" && q.r.Method == http.MethodDelete:
		return named{"AbortMultipartUpload", (*request).abandonUpload, writes}
	case sub == "partNumber" && q.r.Method == http.MethodGet:
		return named{"GetObject", (*request).getObject, reads}
	case sub == "partNumber" && q.r.Method == http.MethodHead:
		return named{"HeadObject", (*request).getObject, reads}
	case sub == "attributes" && q.r.Method == http.MethodGet:
		return named{"GetObjectAttributes", (*request).attributes, reads}
	}
	if sub == "tagging" {
		switch q.r.Method {
		case http.MethodGet:
			return named{"GetObjectTagging", (*request).getTags, reads}
		case http.MethodPut:
			return named{"PutObjectTagging", (*request).putTags, writes}
		case http.MethodDelete:
			return named{"DeleteObjectTagging", (*request).deleteTags, writes}
		}
	}
	if q.r.Method == http.MethodGet {
		if p, ok := objectProbes[sub]; ok {
			return named{"GetObject:" + sub, func(q *request) error { return q.probeObject(p) }, reads}
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
	"acl":            {root: "AccessControlPolicy", write: grants},
	"logging":        empty("BucketLoggingStatus"),
	"notification":   empty("NotificationConfiguration"),
	"accelerate":     empty("AccelerateConfiguration"),
	"requestPayment": {root: "RequestPaymentConfiguration", write: func(_ *request, d *doc) { d.text("Payer", "BucketOwner") }},
	"policyStatus": {root: "PolicyStatus", write: func(q *request, d *doc) {
		_, some := q.public()
		d.bool("IsPublic", some != 0)
	}},
	"ownershipControls": {root: "OwnershipControls", write: func(_ *request, d *doc) {
		d.begin("Rule")
		d.text("ObjectOwnership", "BucketOwnerEnforced")
		d.end()
	}},
	"publicAccessBlock": {root: "PublicAccessBlockConfiguration", write: func(q *request, d *doc) {
		_, some := q.public()
		for _, n := range []string{"BlockPublicAcls", "IgnorePublicAcls"} {
			d.bool(n, true)
		}
		for _, n := range []string{"BlockPublicPolicy", "RestrictPublicBuckets"} {
			d.bool(n, some == 0)
		}
	}},
	"lifecycle":   none("NoSuchLifecycleConfiguration", "The lifecycle configuration does not exist"),
	"policy":      none("NoSuchBucketPolicy", "The bucket policy does not exist"),
	"cors":        none("NoSuchCORSConfiguration", "The CORS configuration does not exist"),
	"website":     none("NoSuchWebsiteConfiguration", "The specified bucket does not have a website configuration"),
	"replication": none("ReplicationConfigurationNotFoundError", "The replication configuration was not found"),
	"object-lock": none("ObjectLockConfigurationNotFoundError", "Object Lock configuration does not exist for this bucket"),
}

var objectProbes = map[string]probe{
	"acl":        {root: "AccessControlPolicy", write: grants},
	"legal-hold": none("NoSuchObjectLockConfiguration", "The specified object does not have a ObjectLock configuration"),
	"retention":  none("NoSuchObjectLockConfiguration", "The specified object does not have a ObjectLock configuration"),
}

func grants(q *request, d *doc) {
	q.owner(d, "Owner")
	d.begin("AccessControlList")
	d.begin("Grant")
	d.b.WriteString(`<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="CanonicalUser">`)
	q.ownerIs(d)
	d.b.WriteString("</Grantee>")
	d.text("Permission", "FULL_CONTROL")
	d.end()
	need := access.List
	if q.name != "" {
		need = access.Read
	}
	if whole, _ := q.public(); whole&need != 0 {
		d.begin("Grant")
		d.b.WriteString(`<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="Group">`)
		d.text("URI", "http://acs.amazonaws.com/groups/global/AllUsers")
		d.b.WriteString("</Grantee>")
		d.text("Permission", "READ")
		d.end()
	}
	d.end()
}

func (q *request) owner(d *doc, name string) {
	d.begin(name)
	q.ownerIs(d)
	d.end()
}

// ownerIs names the account that owns the bucket to those who act in it; to others
// it has a number that tells them nothing else.
func (q *request) ownerIs(d *doc) {
	if q.subject.Account == q.owned || q.subject.Operator {
		d.text("ID", q.owned)
		d.text("DisplayName", q.owned)
		return
	}
	sum := sha256.Sum256([]byte("account " + q.owned))
	d.text("ID", hex.EncodeToString(sum[:]))
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
