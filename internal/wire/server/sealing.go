package server

import (
	"encoding/xml"
	"net/http"
	"strings"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// The one way of encryption at rest that there is here.
const (
	sealHeader    = "x-amz-server-side-encryption"
	sealAlgorithm = "AES256"
)

// seals reports whether the request asks for encryption at rest. Ways that are
// not done here are refused.
func (q *request) seals() (bool, error) {
	for name := range q.r.Header {
		l := strings.ToLower(name)
		switch {
		case l == sealHeader:
		case l == sealHeader+"-bucket-key-enabled" && q.r.Header.Get(name) == "false":
		case strings.HasPrefix(l, sealHeader), strings.HasPrefix(l, "x-amz-copy-source-server-side"):
			return false, notImplemented(l)
		}
	}
	switch v := q.r.Header.Get(sealHeader); v {
	case "":
		return false, nil
	case sealAlgorithm:
		return true, nil
	case "aws:kms", "aws:kms:dsse":
		return false, notImplemented(sealHeader + ": " + v)
	default:
		return false, fault.New(fault.Invalid, "encryption", "The encryption method specified is not supported: %q", v).
			In(sealHeader).Do("ask for %s", sealAlgorithm)
	}
}

// saySealed tells in the answer whether a version is encrypted at rest.
func (q *request) saySealed(v *object.Version) error {
	sealed, err := q.s.store.Sealed(q.ctx(), q.bucket, v)
	if err == nil && sealed {
		q.w.Header().Set(sealHeader, sealAlgorithm)
	}
	return err
}

func (q *request) getEncryption() error {
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if !f.Sealing {
		return fault.New(fault.NotFound, "unsettled", "The server side encryption configuration was not found").
			In("ServerSideEncryptionConfigurationNotFoundError")
	}
	d := newDoc("ServerSideEncryptionConfiguration", true)
	d.begin("Rule")
	d.begin("ApplyServerSideEncryptionByDefault")
	d.text("SSEAlgorithm", sealAlgorithm)
	d.end()
	d.bool("BucketKeyEnabled", false)
	d.end()
	return q.xml(d)
}

func (q *request) putEncryption() error {
	body, err := q.body()
	if err != nil {
		return err
	}
	var in struct {
		XMLName xml.Name
		Rule    []struct {
			Default struct {
				SSEAlgorithm   string
				KMSMasterKeyID string
			} `xml:"ApplyServerSideEncryptionByDefault"`
			BucketKeyEnabled bool
		}
	}
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return err
	}
	switch {
	case in.XMLName.Local != "ServerSideEncryptionConfiguration" || len(in.Rule) != 1:
		return fault.New(fault.Invalid, "document-malformed",
			"the document is no ServerSideEncryptionConfiguration with one rule").In("body")
	case strings.HasPrefix(in.Rule[0].Default.SSEAlgorithm, "aws:"), in.Rule[0].Default.KMSMasterKeyID != "",
		in.Rule[0].BucketKeyEnabled:
		return notImplemented("encryption with keys of another service")
	case in.Rule[0].Default.SSEAlgorithm != sealAlgorithm:
		return fault.New(fault.Invalid, "document-malformed", "the algorithm is %s, not %q", sealAlgorithm,
			in.Rule[0].Default.SSEAlgorithm).In("SSEAlgorithm")
	}
	if err := q.s.store.ChangeBucket(q.ctx(), q.bucket, 0, q.author(), bucket.Sealing(true)); err != nil {
		return err
	}
	return q.noBody(http.StatusOK)
}

func (q *request) deleteEncryption() error {
	if err := q.s.store.ChangeBucket(q.ctx(), q.bucket, 0, q.author(), bucket.Sealing(false)); err != nil {
		return err
	}
	return q.noBody(http.StatusNoContent)
}

// public gives what anyone may do in the bucket of the request: in all of it, and
// in some part of it.
func (q *request) public() (whole, some access.Rights) {
	book, err := q.s.gate.Book(q.ctx())
	if err != nil {
		return 0, 0
	}
	now := time.Now()
	for _, g := range book.To(q.bucket.String(), access.Grantee{}) {
		if !g.Holds(now) {
			continue
		}
		some |= g.Rights
		if g.Prefix == "" {
			whole |= g.Rights
		}
	}
	return whole, some
}
