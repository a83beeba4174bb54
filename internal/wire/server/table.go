package server

import (
	"net/http"

	"spindle/internal/core/access"
)

// operation is one of the dialect, with what chooses it.
type operation struct {
	of     resource
	method string
	sub    string              // the part of the resource it is about; "" for the whole
	when   func(*request) bool // chooses among those of the same three; nil: the rest
	name   string              // the dialect's
	need   need
	do     func(*request) error
}

type resource uint8

const (
	ofService resource = iota
	ofBucket
	ofObject
)

// operations are those there are. Of those that differ in when alone, the first that
// fits is done.
var operations = []operation{
	{of: ofService, method: get, name: "ListBuckets", need: signed, do: (*request).listBuckets},

	{of: ofBucket, method: get, when: asks("list-type"), name: "ListObjectsV2", need: lists, do: (*request).listV2},
	{of: ofBucket, method: get, name: "ListObjects", need: lists, do: (*request).listV1},
	{of: ofBucket, method: head, name: "HeadBucket", need: looks, do: (*request).headBucket},
	{of: ofBucket, method: put, name: "CreateBucket", need: need{admin: true}, do: (*request).createBucket},
	{of: ofBucket, method: del, name: "DeleteBucket", need: settings, do: (*request).deleteBucket},
	{of: ofBucket, method: post, sub: "delete", name: "DeleteObjects", need: need{do: access.Remove, on: onBucket},
		do: (*request).removeMany},
	{of: ofBucket, method: get, sub: "versioning", name: "GetBucketVersioning", need: looks, do: (*request).getVersioning},
	{of: ofBucket, method: put, sub: "versioning", name: "PutBucketVersioning", need: settings, do: (*request).
		putVersioning},
	{of: ofBucket, method: get, sub: "uploads", name: "ListMultipartUploads", need: lists, do: (*request).listUploads},
	{of: ofBucket, method: get, sub: "versions", name: "ListObjectVersions", need: lists, do: (*request).listVersions},
	{of: ofBucket, method: get, sub: "tagging", name: "GetBucketTagging", need: need{do: access.List, on: onWhole},
		do: (*request).getBucketTags},
	{of: ofBucket, method: put, sub: "tagging", name: "PutBucketTagging", need: settings, do: (*request).putBucketTags},
	{of: ofBucket, method: del, sub: "tagging", name: "DeleteBucketTagging", need: settings, do: (*request).
		deleteBucketTags},
	{of: ofBucket, method: get, sub: "encryption", name: "GetBucketEncryption", need: looks, do: (*request).getEncryption},
	{of: ofBucket, method: put, sub: "encryption", name: "PutBucketEncryption", need: settings, do: (*request).
		putEncryption},
	{of: ofBucket, method: del, sub: "encryption", name: "DeleteBucketEncryption", need: settings, do: (*request).
		deleteEncryption},

	{of: ofBucket, method: get, sub: "lifecycle", name: "GetBucketLifecycleConfiguration",
		need: need{do: access.List, on: onWhole}, do: (*request).getLifecycle},
	{of: ofBucket, method: put, sub: "lifecycle", name: "PutBucketLifecycleConfiguration", need: settings,
		do: (*request).putLifecycle},
	{of: ofBucket, method: del, sub: "lifecycle", name: "DeleteBucketLifecycle", need: settings, do: (*request).
		deleteLifecycle},

	{of: ofBucket, method: get, sub: "replication", name: "GetBucketReplication", need: settings,
		do: (*request).getReplication},
	{of: ofBucket, method: put, sub: "replication", name: "PutBucketReplication", need: settings,
		do: (*request).putReplication},
	{of: ofBucket, method: del, sub: "replication", name: "DeleteBucketReplication", need: settings,
		do: (*request).deleteReplication},

	{of: ofObject, method: get, name: "GetObject", need: reads, do: (*request).getObject},
	{of: ofObject, method: head, name: "HeadObject", need: reads, do: (*request).getObject},
	{of: ofObject, method: put, when: copies, name: "CopyObject", need: writes, do: (*request).copyObject},
	{of: ofObject, method: put, name: "PutObject", need: writes, do: (*request).putObject},
	{of: ofObject, method: del, name: "DeleteObject", need: removes, do: (*request).deleteObject},
	{of: ofObject, method: post, sub: "uploads", name: "CreateMultipartUpload", need: writes, do: (*request).startUpload},
	{of: ofObject, method: put, sub: "uploadId", when: copies, name: "UploadPartCopy", need: writes, do: (*request).
		copyPart},
	{of: ofObject, method: put, sub: "uploadId", name: "UploadPart", need: writes, do: (*request).putPart},
	{of: ofObject, method: get, sub: "uploadId", name: "ListParts", need: writes, do: (*request).listParts},
	{of: ofObject, method: post, sub: "uploadId", name: "CompleteMultipartUpload", need: writes, do: (*request).
		completeUpload},
	{of: ofObject, method: del, sub: "uploadId", name: "AbortMultipartUpload", need: writes, do: (*request).abandonUpload},
	{of: ofObject, method: get, sub: "partNumber", name: "GetObject", need: reads, do: (*request).getObject},
	{of: ofObject, method: head, sub: "partNumber", name: "HeadObject", need: reads, do: (*request).getObject},
	{of: ofObject, method: post, sub: "restore", name: "RestoreObject", need: reads, do: (*request).restoreObject},
	{of: ofObject, method: get, sub: "attributes", name: "GetObjectAttributes", need: reads, do: (*request).attributes},
	{of: ofObject, method: get, sub: "tagging", name: "GetObjectTagging", need: reads, do: (*request).getTags},
	{of: ofObject, method: put, sub: "tagging", name: "PutObjectTagging", need: writes, do: (*request).putTags},
	{of: ofObject, method: del, sub: "tagging", name: "DeleteObjectTagging", need: writes, do: (*request).deleteTags},
}

const (
	get, head, put, post, del = http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete
)

// asks chooses requests with a parameter.
func asks(parameter string) func(*request) bool {
	return func(q *request) bool { return q.query.Has(parameter) }
}

// copies chooses requests whose content is an object that is here.
func copies(q *request) bool { return q.r.Header.Get("x-amz-copy-source") != "" }

// spot is where operations stand that differ in when alone.
type spot struct {
	of          resource
	method, sub string
}

// table has the operations by their spots. It is filled at the start: the functions
// in it look at the table themselves.
var table = map[spot][]operation{}

func init() {
	for _, o := range operations {
		at := spot{o.of, o.method, o.sub}
		table[at] = append(table[at], o)
	}
	for sub, p := range bucketProbes {
		table[spot{ofBucket, get, sub}] = []operation{{name: "GetBucket:" + sub, need: looks,
			do: func(q *request) error { return q.probeBucket(p) }}}
	}
	for sub, p := range objectProbes {
		table[spot{ofObject, get, sub}] = []operation{{name: "GetObject:" + sub, need: reads,
			do: func(q *request) error { return q.probeObject(p) }}}
	}
}

// operation chooses by method, resource and subresource; its do is nil when
// unsupported.
func (q *request) operation() operation {
	at := spot{ofObject, q.r.Method, q.subresource()}
	switch {
	case q.bucket.IsZero():
		at.of = ofService
	case q.name == "":
		at.of = ofBucket
	}
	for _, o := range table[at] {
		if o.when == nil || o.when(q) {
			q.op = o.name
			return o
		}
	}
	return operation{}
}
