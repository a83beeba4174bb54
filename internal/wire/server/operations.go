package server

import (
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

// subresources are query parameters with a value that name a part of an object.
var subresources = []string{"uploadId", "partNumber"}

// parameters are those that may come without a value and name no part of a
// bucket or object.
var parameters = []string{"prefix", "delimiter", "marker", "max-keys", "encoding-type", "list-type",
	"continuation-token", "start-after", "fetch-owner", "max-buckets", "versionId", "x-id", "key-marker",
	"version-id-marker", "upload-id-marker", "part-number-marker", "max-uploads", "max-parts"}

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
		if values[0] == "" && !slices.Contains(parameters, name) && !strings.HasPrefix(name, "response-") &&
			!strings.HasPrefix(strings.ToLower(name), "x-amz-") {
			return name
		}
	}
	return ""
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

// unsupported is the error for a request that is no operation: it has a method that
// the dialect does not have there, or asks for something that is not done here.
func (q *request) unsupported() error {
	sub := q.subresource()
	_, ofBuckets := bucketProbes[sub]
	_, ofObjects := objectProbes[sub]
	has := q.methods()
	known := slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete},
		q.r.Method)
	form := q.r.Method == http.MethodPost && strings.HasPrefix(q.r.Header.Get("Content-Type"), "multipart/form-data")
	switch {
	case form:
		return notImplemented("an upload by a form")
	case known && (len(has) == 0 || ofBuckets || ofObjects || slices.Contains(subresources, sub)):
		return notImplemented("this operation")
	}
	q.w.Header().Set("Allow", strings.Join(has, ", "))
	return fault.New(fault.Invalid, "method", "The specified method is not allowed against this resource: %s", q.r.Method).
		In("method").
		Do("use one of: %s", strings.Join(has, ", "))
}

// methods gives those that the request could have had.
func (q *request) methods() (has []string) {
	for _, m := range []string{http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete} {
		other, r := *q, *q.r
		other.r, r.Method = &r, m
		if other.operation().do != nil {
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
	return access.Decision{Why: "there may be no such object, and " + q.subject.String() + " may not list what there is",
		Remedy: "check the key, or have listing granted as well"}.Refused()
}
