package server

import (
	"encoding/xml"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/store"
)

// lifecycleIn is the dialect's document of rules. What is not read stands in Other, and
// is refused by name.
type lifecycleIn struct {
	XMLName xml.Name
	Rule    []lifecycleRule
	Other   []anyElement `xml:",any"`
}

type lifecycleRule struct {
	ID         string
	Status     string
	Prefix     *string
	Filter     *lifecycleFilter
	Transition []transition
	Expiration *struct {
		Days   *int
		Date   string
		Marker bool         `xml:"ExpiredObjectDeleteMarker"`
		Other  []anyElement `xml:",any"`
	}
	PreviousMove []struct {
		Days  *int         `xml:"NoncurrentDays"`
		Keep  int          `xml:"NewerNoncurrentVersions"`
		Class string       `xml:"StorageClass"`
		Other []anyElement `xml:",any"`
	} `xml:"NoncurrentVersionTransition"`
	PreviousRemove *struct {
		Days  *int         `xml:"NoncurrentDays"`
		Keep  int          `xml:"NewerNoncurrentVersions"`
		Other []anyElement `xml:",any"`
	} `xml:"NoncurrentVersionExpiration"`
	Uploads *struct {
		Days  *int         `xml:"DaysAfterInitiation"`
		Other []anyElement `xml:",any"`
	} `xml:"AbortIncompleteMultipartUpload"`
	Other []anyElement `xml:",any"`
}

type transition struct {
	Days  *int
	Date  string
	Class string       `xml:"StorageClass"`
	Other []anyElement `xml:",any"`
}

type lifecycleTag struct{ Key, Value string }

type lifecycleFilter struct {
	Prefix  *string
	Tag     *lifecycleTag
	Greater *int64 `xml:"ObjectSizeGreaterThan"`
	Less    *int64 `xml:"ObjectSizeLessThan"`
	And     *struct {
		Prefix  *string
		Tag     []lifecycleTag
		Greater *int64       `xml:"ObjectSizeGreaterThan"`
		Less    *int64       `xml:"ObjectSizeLessThan"`
		Other   []anyElement `xml:",any"`
	}
	Other []anyElement `xml:",any"`
}

func (q *request) putLifecycle() error {
	if q.r.Header.Get("x-amz-transition-default-minimum-object-size") != "" {
		return notImplemented("x-amz-transition-default-minimum-object-size")
	}
	body, err := q.body()
	if err != nil {
		return err
	}
	var in lifecycleIn
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return err
	}
	if in.XMLName.Local != "LifecycleConfiguration" || len(in.Rule) == 0 {
		return malformed("the document is no LifecycleConfiguration with a rule")
	}
	if len(in.Other) > 0 {
		return malformed("a LifecycleConfiguration has no %s", in.Other[0].XMLName.Local)
	}
	var forms []lifecycle.Form
	for i := range in.Rule {
		f, err := q.lifecycleForm(&in.Rule[i], i)
		if err != nil {
			return err
		}
		forms = append(forms, f)
	}
	_, err = q.s.store.ChangeRules(q.ctx(), q.bucket, store.RulesChange{What: fmt.Sprintf("all %d rules saved on the wire",
		len(forms)),
		Edit: func([]lifecycle.Form) ([]lifecycle.Form, error) { return forms, nil }}, q.author())
	if err != nil {
		return err
	}
	return q.noBody(http.StatusOK)
}

// lifecycleForm reads a rule of the dialect as ours.
func (q *request) lifecycleForm(r *lifecycleRule, i int) (f lifecycle.Form, err error) {
	if f.Name = r.ID; f.Name == "" {
		f.Name = fmt.Sprintf("rule-%d", i+1)
	}
	switch r.Status {
	case "Enabled":
	case "Disabled":
		f.Off = true
	default:
		return f, malformed("the status of a rule is Enabled or Disabled")
	}
	if f.Scope, err = r.scope(); err != nil {
		return f, err
	}
	if err := q.lifecycleActions(r, &f); err != nil {
		return f, err
	}
	others := r.Other
	for _, x := range r.Transition {
		others = append(others, x.Other...)
	}
	for _, x := range r.PreviousMove {
		others = append(others, x.Other...)
	}
	if r.Expiration != nil {
		others = append(others, r.Expiration.Other...)
	}
	if r.PreviousRemove != nil {
		others = append(others, r.PreviousRemove.Other...)
	}
	if r.Uploads != nil {
		others = append(others, r.Uploads.Other...)
	}
	if len(others) > 0 {
		return f, malformed("a rule has no %s", others[0].XMLName.Local)
	}
	return f, nil
}

func (r *lifecycleRule) scope() (s lifecycle.ScopeForm, err error) {
	if r.Prefix != nil && r.Filter != nil {
		return s, malformed("a rule has a Prefix or a Filter, not both")
	}
	// The dialect's prefixes are literal: whoever wrote one there knows that.
	prefix := func(p *string) {
		if p != nil {
			s.Prefix, s.Literal = *p, strings.ContainsAny(*p, "*?")
		}
	}
	sizes := func(greater, less *int64) {
		if greater != nil {
			from := *greater + 1
			s.SizeFrom = &from
		}
		if less != nil {
			to := *less - 1
			s.SizeTo = &to
		}
	}
	tag := func(t lifecycleTag) error {
		if s.Tags == nil {
			s.Tags = map[string]string{}
		}
		if _, twice := s.Tags[t.Key]; twice {
			return malformed("the tag %q is named twice", t.Key)
		}
		s.Tags[t.Key] = t.Value
		return nil
	}
	prefix(r.Prefix)
	f := r.Filter
	if f == nil {
		return s, nil
	}
	if len(f.Other) > 0 {
		return s, malformed("a Filter has no %s", f.Other[0].XMLName.Local)
	}
	prefix(f.Prefix)
	sizes(f.Greater, f.Less)
	if f.Tag != nil {
		if err := tag(*f.Tag); err != nil {
			return s, err
		}
	}
	if f.And == nil {
		return s, nil
	}
	if f.Prefix != nil || f.Tag != nil || f.Greater != nil || f.Less != nil {
		return s, malformed("a Filter has And or one of what stands in it, not both")
	}
	if len(f.And.Other) > 0 {
		return s, malformed("an And has no %s", f.And.Other[0].XMLName.Local)
	}
	prefix(f.And.Prefix)
	sizes(f.And.Greater, f.And.Less)
	for _, t := range f.And.Tag {
		if err := tag(t); err != nil {
			return s, err
		}
	}
	return s, nil
}

func (q *request) lifecycleActions(r *lifecycleRule, f *lifecycle.Form) error {
	add := func(of, do, class string, days *int, date string, keep int) error {
		a := lifecycle.ActionForm{Of: of, Do: do, Days: days, Keep: keep}
		if do == "move" {
			to, err := q.tierOfClass("StorageClass", class)
			if err != nil {
				return err
			}
			a.To = to
		}
		if date != "" {
			at, err := time.Parse(time.RFC3339, date)
			if err != nil || !at.Equal(at.UTC().Truncate(24*time.Hour)) {
				return fault.New(fault.Invalid, "action-date", "'Date' must be at midnight GMT").In("Date")
			}
			a.Date = at.UTC().Format(time.DateOnly)
		}
		f.Actions = append(f.Actions, a)
		return nil
	}
	for _, t := range r.Transition {
		if err := add("current", "move", t.Class, t.Days, t.Date, 0); err != nil {
			return err
		}
	}
	if x := r.Expiration; x != nil {
		if x.Marker {
			if x.Days != nil || x.Date != "" {
				return malformed("ExpiredObjectDeleteMarker stands alone")
			}
			zero := 0
			x.Days = &zero
			f.Actions = append(f.Actions, lifecycle.ActionForm{Of: "markers", Do: "remove", Days: x.Days})
		} else if err := add("current", "remove", "", x.Days, x.Date, 0); err != nil {
			return err
		}
	}
	for _, t := range r.PreviousMove {
		if err := add("previous", "move", t.Class, t.Days, "", t.Keep); err != nil {
			return err
		}
	}
	if x := r.PreviousRemove; x != nil {
		if err := add("previous", "remove", "", x.Days, "", x.Keep); err != nil {
			return err
		}
	}
	if x := r.Uploads; x != nil {
		return add("uploads", "remove", "", x.Days, "", 0)
	}
	return nil
}

func (q *request) getLifecycle() error {
	l, _, err := q.s.store.Rules(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if len(l.Rules) == 0 {
		return fault.New(fault.NotFound, "unsettled",
			"The lifecycle configuration does not exist").In("NoSuchLifecycleConfiguration")
	}
	d := newDoc("LifecycleConfiguration", true)
	for i := range l.Rules {
		if err := unsaid(&l.Rules[i]); err != nil {
			return err
		}
		writeRule(d, &l.Rules[i])
	}
	return q.xml(d)
}

// unsaid refuses a rule that the dialect has no words for, by what it is.
func unsaid(f *lifecycle.Form) error {
	no := func(what string) error {
		return fault.New(fault.Unfinished, "not-implemented", "The rule %q has %s, which this document cannot say", f.Name,
			what).
			In("Rule").Do("read and change the rules at the desk (spindle lifecycle show)")
	}
	if len(f.Scope.Like)+len(f.Scope.LeaveOut) > 0 {
		return no("patterns of keys")
	}
	if f.Scope.Where != "" {
		return no("an expression of find")
	}
	for _, a := range f.Actions {
		switch {
		case a.Dearer:
			return no("a move that may go to a dearer tier")
		case a.Of == "markers" && (a.Days == nil || *a.Days != 0):
			return no("an age of delete markers")
		case a.Of != "current" && a.Date != "":
			return no("a date for what is not a current version")
		}
	}
	return nil
}

// writeRule writes a rule as the dialect has it.
func writeRule(d *doc, f *lifecycle.Form) {
	d.begin("Rule")
	d.text("ID", f.Name)
	writeFilter(d, &f.Scope)
	status := "Enabled"
	if f.Off {
		status = "Disabled"
	}
	d.text("Status", status)
	for _, a := range f.Actions {
		writeAction(d, a)
	}
	d.end()
}

func writeFilter(d *doc, s *lifecycle.ScopeForm) {
	n := len(s.Tags)
	for _, there := range []bool{s.Prefix != "", s.SizeFrom != nil, s.SizeTo != nil} {
		if there {
			n++
		}
	}
	d.begin("Filter")
	if n > 1 {
		d.begin("And")
	}
	writePrefixAndTags(d, s.Prefix, s.Tags, n == 0)
	if s.SizeFrom != nil {
		d.number("ObjectSizeGreaterThan", *s.SizeFrom-1)
	}
	if s.SizeTo != nil {
		d.number("ObjectSizeLessThan", *s.SizeTo+1)
	}
	if n > 1 {
		d.end()
	}
	d.end()
}

// writePrefixAndTags writes what a filter has of a prefix, also an empty one when that is
// all, and of tags.
func writePrefixAndTags(d *doc, prefix string, tags map[string]string, all bool) {
	if prefix != "" || all {
		d.text("Prefix", prefix)
	}
	for _, name := range slices.Sorted(maps.Keys(tags)) {
		d.begin("Tag")
		d.text("Key", name)
		d.text("Value", tags[name])
		d.end()
	}
}

func writeAction(d *doc, a lifecycle.ActionForm) {
	name, days := "Transition", "Days"
	switch {
	case a.Of == "uploads":
		name, days = "AbortIncompleteMultipartUpload", "DaysAfterInitiation"
	case a.Of == "markers":
		d.begin("Expiration")
		d.bool("ExpiredObjectDeleteMarker", true)
		d.end()
		return
	case a.Of == "previous" && a.Do == "move":
		name, days = "NoncurrentVersionTransition", "NoncurrentDays"
	case a.Of == "previous":
		name, days = "NoncurrentVersionExpiration", "NoncurrentDays"
	case a.Do == "remove":
		name = "Expiration"
	}
	d.begin(name)
	if a.Days != nil {
		d.number(days, int64(*a.Days))
	} else {
		d.text("Date", a.Date+"T00:00:00.000Z")
	}
	if a.Keep > 0 {
		d.number("NewerNoncurrentVersions", int64(a.Keep))
	}
	if a.Do == "move" {
		class := standardClass
		if a.To != "main" {
			class = strings.ToUpper(a.To)
		}
		d.text("StorageClass", class)
	}
	d.end()
}

func (q *request) deleteLifecycle() error {
	l, _, err := q.s.store.Rules(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if len(l.Rules) > 0 {
		_, err = q.s.store.ChangeRules(q.ctx(), q.bucket, store.RulesChange{What: "all rules removed on the wire",
			Edit: func([]lifecycle.Form) ([]lifecycle.Form, error) { return nil, nil }}, q.author())
	}
	if err != nil {
		return err
	}
	return q.noBody(http.StatusNoContent)
}
