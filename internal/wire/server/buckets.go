package server

import (
	"encoding/xml"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

func (q *request) listBuckets() error {
	limit := 10_000
	if v := q.query.Get("max-buckets"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 10_000 {
			return fault.New(fault.Invalid, "max-buckets", "max-buckets is a number from 1 to 10000").In("max-buckets")
		}
		limit = n
	}
	prefix, after := q.query.Get("prefix"), q.query.Get("continuation-token")
	d := newDoc("ListAllMyBucketsResult", true)
	q.owner(d, "Owner")
	d.begin("Buckets")
	last, n, more := "", 0, false
	account, also, err := q.s.gate.Sees(q.ctx(), q.subject)
	if err != nil {
		return err
	}
	for !more {
		page, err := q.s.store.Catalog.Buckets(q.ctx(), account, also, after, 1000)
		if err != nil {
			return err
		}
		for _, b := range page {
			after = b.Name.String()
			lists, err := q.s.gate.Lists(q.ctx(), q.subject, b)
			if err != nil {
				return err
			}
			if !lists || !strings.HasPrefix(after, prefix) {
				continue
			}
			if n == limit {
				more = true
				break
			}
			n, last = n+1, after
			d.begin("Bucket")
			d.text("Name", after)
			d.time("CreationDate", b.Created)
			d.text("BucketRegion", b.Region)
			d.end()
		}
		if len(page) < 1000 {
			break
		}
	}
	d.end()
	if more {
		d.text("ContinuationToken", last)
	}
	if prefix != "" {
		d.text("Prefix", prefix)
	}
	return q.xml(d)
}

func (q *request) headBucket() error {
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	q.w.Header().Set("x-amz-bucket-region", f.Region)
	return q.noBody(http.StatusOK)
}

func (q *request) createBucket() error {
	for _, name := range []string{"x-amz-grant-full-control", "x-amz-grant-read", "x-amz-grant-write",
		"x-amz-bucket-object-lock-enabled"} {
		if v := q.r.Header.Get(name); v != "" && v != "false" {
			return notImplemented(name)
		}
	}
	if err := q.privateACL(); err != nil {
		return err
	}
	var in struct {
		XMLName            xml.Name
		LocationConstraint string
	}
	if q.r.ContentLength != 0 {
		body, err := q.body()
		if err != nil {
			return err
		}
		err = q.readDocument(body, smallDocument, &in)
		none := q.r.ContentLength < 0 && q.in.Received() == 0 && fault.HasCode(err, "document-malformed")
		if err != nil && !none {
			return err
		}
		if err == nil && in.XMLName.Local != "CreateBucketConfiguration" {
			return malformed("the document is no CreateBucketConfiguration")
		}
	}
	// A service has one region. Unless it is strict, a client may call it as it likes.
	if in.LocationConstraint != "" && in.LocationConstraint != q.s.store.Region && q.s.settings.StrictRegion {
		return fault.New(fault.Invalid, "location", "buckets here are in the region %q", q.s.store.Region).
			In("LocationConstraint").Do("leave the location out, or name %s", q.s.store.Region)
	}
	if err := q.s.store.CreateBucket(q.ctx(), catalog.Bucket{Name: q.bucket, Account: q.key.Account},
		q.author()); err != nil {
		return err
	}
	q.w.Header().Set("Location", "/"+q.bucket.String())
	return q.noBody(http.StatusOK)
}

// privateACL accepts the canned access lists that say what is true here anyway.
func (q *request) privateACL() error {
	switch v := q.r.Header.Get("x-amz-acl"); v {
	case "", "private", "bucket-owner-full-control", "bucket-owner-read":
		return nil
	default:
		return notImplemented("x-amz-acl: " + v)
	}
}

func (q *request) deleteBucket() error {
	if err := q.s.store.RemoveBucket(q.ctx(), q.bucket, q.author()); err != nil {
		return err
	}
	q.s.gate.Changed() // its grants went too
	return q.noBody(http.StatusNoContent)
}
