package server

import (
	"encoding/xml"
	"net/http"
	"strings"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// standardClass is the dialect's word for the tier main; other tiers go by their names
// in capitals.
const standardClass = "STANDARD"

// classHeader names the class of what is written, and of what is read.
const classHeader = "x-amz-storage-class"

// class names the tier of a version as the dialect does.
func (q *request) class(in int16) (string, error) {
	if in == tier.Main {
		return standardClass, nil
	}
	set, err := q.s.store.Tiers(q.ctx())
	if err != nil {
		return "", err
	}
	return strings.ToUpper(set.Name(in)), nil
}

// classes gives what names tiers in a list, where none may be asked about in between.
func (q *request) classes() (func(int16) string, error) {
	set, err := q.s.store.Tiers(q.ctx())
	return func(in int16) string {
		if in == tier.Main {
			return standardClass
		}
		return strings.ToUpper(set.Name(in))
	}, err
}

// tierOfClass gives the name of the tier that the dialect calls so, in the header or element of that name.
func (q *request) tierOfClass(field, class string) (string, error) {
	if class == standardClass {
		return tier.MainName, nil
	}
	set, err := q.s.store.Tiers(q.ctx())
	if err != nil {
		return "", err
	}
	for _, t := range set {
		if t.ID != tier.Main && strings.ToUpper(t.Name) == class {
			return t.Name, nil
		}
	}
	there := []string{standardClass}
	for _, t := range set {
		if t.ID != tier.Main {
			there = append(there, strings.ToUpper(t.Name))
		}
	}
	return "", fault.New(fault.Invalid, "storage-class",
		"The storage class you specified is not valid: there is no %q; there are %s", class, strings.Join(there, ", ")).
		In(field).Do("take one of those")
}

// wantedTier gives the tier that the request asks for; "" when it asks for none.
func (q *request) wantedTier() (string, error) {
	if class := q.r.Header.Get(classHeader); class != "" {
		return q.tierOfClass(classHeader, class)
	}
	return "", nil
}

// sayClass tells of a version that is not in main where it is, and how far a restored
// copy of it is.
func (q *request) sayClass(v *object.Version) error {
	if v.Body.Tier == tier.Main {
		return nil
	}
	class, err := q.class(v.Body.Tier)
	if err != nil {
		return err
	}
	h := q.w.Header()
	h.Set(classHeader, class)
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	r, err := q.s.store.RestoreState(q.ctx(), f.ID, v)
	switch {
	case err != nil || r == nil || !r.Asked:
		return err
	case r.Ready():
		h.Set("x-amz-restore", `ongoing-request="false", expiry-date="`+r.Until.UTC().Format(http.TimeFormat)+`"`)
	default:
		h.Set("x-amz-restore", `ongoing-request="true"`)
	}
	return nil
}

// restoreObject asks for a restored copy of a version.
func (q *request) restoreObject() error {
	a, v, err := q.version()
	if err != nil {
		return err
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	var in struct {
		XMLName xml.Name
		Days    int
		Tier    string
		Other   []anyElement `xml:",any"`
	}
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return err
	}
	switch {
	case in.XMLName.Local != "RestoreRequest" || in.Days < 1:
		return fault.New(fault.Invalid, "document-malformed",
			"the document is no RestoreRequest with Days of 1 or more").In("body")
	}
	for _, x := range in.Other { // how fast it should go is the tier's to say
		if !strings.HasSuffix(x.XMLName.Local, "JobParameters") {
			return notImplemented(x.XMLName.Local)
		}
	}
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	before, err := q.s.store.RestoreState(q.ctx(), f.ID, v)
	if err != nil {
		return err
	}
	if before != nil && before.Asked && !before.Ready() && before.Fault == "" {
		return fault.New(fault.Conflict, "restore-under-way", "Object restore is already in progress").In("key").
			Do("ask for the object's head to see when it is there")
	}
	if _, err := q.s.store.Fetch(q.ctx(), a, v.ID(), in.Days, q.author()); err != nil {
		return err
	}
	if before != nil && before.Ready() {
		return q.noBody(http.StatusOK)
	}
	return q.noBody(http.StatusAccepted)
}

// anyElement is an element that is not read: it is refused by its name.
type anyElement struct{ XMLName xml.Name }
