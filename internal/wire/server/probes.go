package server

import (
	"crypto/sha256"
	"encoding/hex"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

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
	"location":     {root: "LocationConstraint", write: nil},
	"acl":          {root: "AccessControlPolicy", write: grants},
	"logging":      empty("BucketLoggingStatus"),
	"notification": empty("NotificationConfiguration"),
	"accelerate":   empty("AccelerateConfiguration"),
	"requestPayment": {root: "RequestPaymentConfiguration",
		write: func(_ *request, d *doc) { d.text("Payer", "BucketOwner") }},
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
	"policy":  none("NoSuchBucketPolicy", "The bucket policy does not exist"),
	"cors":    none("NoSuchCORSConfiguration", "The CORS configuration does not exist"),
	"website": none("NoSuchWebsiteConfiguration", "The specified bucket does not have a website configuration"),
	"object-lock": none("ObjectLockConfigurationNotFoundError",
		"Object Lock configuration does not exist for this bucket"),
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
	d.b = append(d.b, `<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="CanonicalUser">`...)
	q.ownerIs(d)
	d.b = append(d.b, "</Grantee>"...)
	d.text("Permission", "FULL_CONTROL")
	d.end()
	need := access.List
	if q.name != "" {
		need = access.Read
	}
	if whole, _ := q.public(); whole&need != 0 {
		d.begin("Grant")
		d.b = append(d.b, `<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="Group">`...)
		d.text("URI", "http://acs.amazonaws.com/groups/global/AllUsers")
		d.b = append(d.b, "</Grantee>"...)
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
