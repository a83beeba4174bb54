package server

import (
	"encoding/xml"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// bucketARN is how the dialect's documents name a bucket.
const bucketARN = "arn:aws:s3:::"

// replicationRole stands where the document wants to know as whom a rule acts; here it
// acts as who saved it.
const replicationRole = "arn:aws:iam:::role/replication"

// replicationIn is the dialect's document of replication rules.
type replicationIn struct {
	XMLName xml.Name
	Role    string
	Rule    []replicationRule
	Other   []anyElement `xml:",any"`
}

type replicationRule struct {
	ID       string
	Status   string
	Priority *int
	Prefix   *string
	Filter   *struct {
		Prefix *string
		Tag    *lifecycleTag
		And    *struct {
			Prefix *string
			Tag    []lifecycleTag
			Other  []anyElement `xml:",any"`
		}
		Other []anyElement `xml:",any"`
	}
	Destination struct {
		Bucket string
		Class  string       `xml:"StorageClass"`
		Other  []anyElement `xml:",any"`
	}
	Markers  *statusElement `xml:"DeleteMarkerReplication"`
	Existing *statusElement `xml:"ExistingObjectReplication"`
	Other    []anyElement   `xml:",any"`
}

type statusElement struct{ Status string }

// on reads a status; nil is off.
func (s *statusElement) on() (bool, error) {
	if s == nil {
		return false, nil
	}
	return isEnabled(s.Status)
}

func isEnabled(s string) (bool, error) {
	if s != "Enabled" && s != "Disabled" {
		return false, malformed("a Status is Enabled or Disabled, not %q", s)
	}
	return s == "Enabled", nil
}

// replicationRules gives the rules of the bucket. One that the document has no words for
// is an error: it is neither left out nor written over.
func (q *request) replicationRules() ([]*replication.Rule, error) {
	f, err := q.s.store.Bucket(q.ctx(), q.bucket)
	if err != nil {
		return nil, err
	}
	q.s.store.Catalog.LookAgain()
	book, err := q.s.store.Replications(q.ctx())
	if err != nil {
		return nil, err
	}
	var rules []*replication.Rule
	for _, r := range book.Rules {
		if r.BucketID != f.ID {
			continue
		}
		if what := unsaidReplication(r); what != "" {
			return nil, fault.New(fault.Unfinished, "not-implemented", "The rule %q has %s, which this document cannot say",
				r.Name,
				what).In("Rule").Do("read and change the rules at the desk (spindle replication show)")
		}
		rules = append(rules, r)
	}
	return rules, nil
}

func unsaidReplication(r *replication.Rule) string {
	switch t := r.Targets[0]; {
	case len(r.Targets) > 1:
		return "several targets"
	case t.EndpointID != 0:
		return "a target at an endpoint"
	case t.Prefix != "":
		return "a prefix at its target"
	case t.Sealed:
		return "a target that is encrypted whatever its bucket says"
	case !r.Where.All():
		return "an expression of find"
	case r.Removals:
		return "removals that go along"
	case r.Onward:
		return "replicas that travel on"
	case r.Lag.Share > 0:
		return "a lag target"
	}
	return ""
}

func (q *request) getReplication() error {
	rules, err := q.replicationRules()
	if err != nil {
		return err
	}
	if len(rules) == 0 {
		return fault.New(fault.NotFound, "unsettled", "The replication configuration was not found").
			In("ReplicationConfigurationNotFoundError")
	}
	d := newDoc("ReplicationConfiguration", true)
	d.text("Role", replicationRole)
	for _, r := range rules {
		writeReplication(d, r)
	}
	return q.xml(d)
}

func writeReplication(d *doc, r *replication.Rule) {
	status := map[bool]string{true: "Enabled", false: "Disabled"}
	d.begin("Rule")
	d.text("ID", r.Name)
	d.number("Priority", int64(r.Priority-1)) // which begin at 0 there
	d.text("Status", status[r.On])
	several := len(r.Tags) > 1 || len(r.Tags) == 1 && r.Prefix != ""
	d.begin("Filter")
	if several {
		d.begin("And")
	}
	writePrefixAndTags(d, r.Prefix, r.Tags, len(r.Tags) == 0)
	if several {
		d.end()
	}
	d.end()
	d.begin("DeleteMarkerReplication")
	d.text("Status", status[r.Markers])
	d.end()
	d.begin("Destination")
	d.text("Bucket", bucketARN+r.Targets[0].Bucket)
	if c := r.Targets[0].Class; c == "main" {
		d.text("StorageClass", standardClass)
	} else if c != "" {
		d.text("StorageClass", strings.ToUpper(c))
	}
	d.end()
	d.end()
}

func (q *request) putReplication() error {
	body, err := q.body()
	if err != nil {
		return err
	}
	var in replicationIn
	if err := q.readDocument(body, smallDocument, &in); err != nil {
		return err
	}
	if in.XMLName.Local != "ReplicationConfiguration" || len(in.Rule) == 0 {
		return malformed("the document is no ReplicationConfiguration with a rule")
	}
	if len(in.Other) > 0 {
		return malformed("a ReplicationConfiguration has no %s", in.Other[0].XMLName.Local)
	}
	there, err := q.replicationRules()
	if err != nil {
		return err
	}
	f, err := q.s.store.Facts(q.ctx(), q.bucket)
	if err != nil {
		return err
	}
	if f.Versioning != object.On {
		return fault.New(fault.Invalid, "source-versioning",
			"Versioning must be 'Enabled' on the bucket to apply a replication configuration").In("Rule").
			Do("switch versioning on first")
	}
	var rules []*replication.Rule
	backfill := map[string]bool{}
	for i := range in.Rule {
		r, existing, err := q.replicationRule(&in.Rule[i], i, f.Account)
		if err != nil {
			return err
		}
		rules, backfill[r.Name] = append(rules, r), existing
	}
	if err := q.replaceReplications(f.Account, there, rules, backfill); err != nil {
		return err
	}
	return q.noBody(http.StatusOK)
}

// replicationRule reads a rule of the dialect as ours; existing says that what is there
// already is copied too.
func (q *request) replicationRule(in *replicationRule, i int, account string) (r *replication.Rule, existing bool,
	err error) {
	for _, list := range [][]anyElement{in.Other, in.Destination.Other} {
		if len(list) > 0 {
			return nil, false, notImplemented("the element " + list[0].XMLName.Local + " of a replication rule")
		}
	}
	r = &replication.Rule{Account: account, Bucket: q.bucket.String(), Name: in.ID, Priority: 1 + i,
		Markers: in.Filter == nil}
	if r.Name == "" {
		r.Name = q.bucket.String() + "-rule-" + strconv.Itoa(i+1)
	}
	if in.Priority != nil {
		r.Priority = *in.Priority + 1 // which begin at 0 there
	}
	var merr, xerr error
	if r.On, err = isEnabled(in.Status); in.Markers != nil {
		r.Markers, merr = in.Markers.on()
	}
	existing, xerr = in.Existing.on()
	if err := errors.Join(err, merr, xerr); err != nil {
		return nil, false, err
	}
	if err := replicationScope(in, r); err != nil {
		return nil, false, err
	}
	bucket, ok := strings.CutPrefix(in.Destination.Bucket, bucketARN)
	if !ok {
		return nil, false, fault.New(fault.Invalid, "replication-target", "the Destination %q names no bucket",
			in.Destination.Bucket).In("Destination").Do("give it as %sBUCKET", bucketARN)
	}
	t := replication.Target{Bucket: bucket}
	if in.Destination.Class != "" {
		if t.Class, err = q.tierOfClass("StorageClass", in.Destination.Class); err != nil {
			return nil, false, err
		}
	}
	r.Targets = []replication.Target{t}
	if err := r.Check(); err != nil {
		return nil, false, fault.All(err)[0]
	}
	return r, existing, q.mayReplicate(r)
}

func replicationScope(in *replicationRule, r *replication.Rule) error {
	if in.Prefix != nil {
		r.Prefix = *in.Prefix
	}
	f := in.Filter
	if f == nil {
		return nil
	}
	var tags []lifecycleTag
	prefix := f.Prefix
	if f.Tag != nil {
		tags = append(tags, *f.Tag)
	}
	if f.And != nil {
		prefix, tags = f.And.Prefix, append(tags, f.And.Tag...)
	}
	if prefix != nil {
		r.Prefix = *prefix
	}
	if len(tags) > 0 {
		r.Tags = object.Tags{}
	}
	for _, t := range tags {
		r.Tags[t.Key] = t.Value
	}
	return nil
}

// mayReplicate refuses a rule whose target may not be replicated into, or keeps no
// versions.
func (q *request) mayReplicate(r *replication.Rule) error {
	name, err := object.ParseBucketName(r.Targets[0].Bucket)
	if err != nil {
		return err
	}
	into, err := access.ParseRights("replicate into")
	if err != nil {
		return err
	}
	for _, do := range into.Each() {
		if err := q.s.gate.May(q.ctx(), q.ask(do, name, "")); err != nil {
			return err
		}
	}
	f, err := q.s.store.Facts(q.ctx(), name)
	if err == nil && f.Versioning != object.On {
		err = fault.New(fault.Invalid, "target-versioning",
			"Destination bucket must have versioning enabled").In("Destination").
			Do("switch versioning on there first")
	}
	return err
}

// replaceReplications has the bucket have rules instead of those that are there. Those of
// a name that stays keep what is known of their copies.
func (q *request) replaceReplications(account string, there, rules []*replication.Rule,
	backfill map[string]bool) error {
	c := q.s.store.Catalog
	by := q.author()
	byName := map[string]*replication.Rule{}
	for _, r := range there {
		byName[r.Name] = r
	}
	for _, r := range rules {
		was := byName[r.Name]
		delete(byName, r.Name)
		var err error
		if was == nil {
			err = c.AddReplication(q.ctx(), r, by)
		} else {
			err = c.ChangeReplication(q.ctx(), account, r.Name, was.Revision, by, func(is *replication.Rule) error {
				if is.Targets[0].Bucket == r.Targets[0].Bucket {
					r.Targets[0].ID = is.Targets[0].ID
				}
				r.ID, r.BucketID, r.First, r.Revision = is.ID, is.BucketID, is.First, is.Revision
				*is = *r
				return nil
			})
		}
		if err == nil && backfill[r.Name] {
			err = c.StartBackfill(q.ctx(), r.Targets[0].ID)
		}
		if err != nil {
			return err
		}
	}
	for name := range byName {
		if err := c.RemoveReplication(q.ctx(), account, name, by); err != nil {
			return err
		}
	}
	c.LookAgain()
	return nil
}

func (q *request) deleteReplication() error {
	there, err := q.replicationRules()
	if err != nil {
		return err
	}
	for _, r := range there {
		if err := q.s.store.Catalog.RemoveReplication(q.ctx(), r.Account, r.Name, q.author()); err != nil {
			return err
		}
	}
	q.s.store.Catalog.LookAgain()
	return q.noBody(http.StatusNoContent)
}
