package replication

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
)

// Rule keeps objects of a bucket copied to its targets.
type Rule struct {
	ID       int64
	Account  string // that owns the bucket
	BucketID int64
	Bucket   string
	Name     string
	On       bool
	Priority int // where two rules copy to one place, the greater one does
	Prefix   string
	Tags     object.Tags // that an object must have, all of them
	Where    query.Scope
	Markers  bool // delete markers travel
	Removals bool // removals that leave nothing travel
	Onward   bool // what came here as a replica travels on
	Lag      Lag
	Targets  []Target
	First    int64 // number of versions: what is older was there before the rule
	Revision int
	Created  time.Time
	Changed  time.Time
	By       string // who saved it last, with whose rights it acts
	Source   string
	Paused   *time.Time // since when; nil: it is on
}

// Lag is what is promised of how long a change waits for its replica.
type Lag struct {
	Share  float64 // of changes, 0 to 1; 0: nothing is promised
	Within time.Duration
}

// Target is a bucket that gets copies.
type Target struct {
	ID         int64
	EndpointID int64  // 0: here
	Endpoint   string // its name; "": here
	Bucket     string
	Prefix     string // put before each key there
	Class      string // tier here, storage class there; "": what the bucket says
	Sealed     bool   // encrypted at rest there, whatever the bucket says
}

// Key gives the key that a copy has there.
func (t *Target) Key(key string) string { return t.Prefix + key }

// Address writes where a target is.
func (t *Target) Address() string {
	s := t.Bucket
	if t.Endpoint != "" {
		s = "@" + t.Endpoint + "/" + s
	}
	if t.Prefix != "" {
		s += "/" + t.Prefix
	}
	return s
}

// Bounds of rules.
const (
	MaxTargets  = 8
	MaxPriority = 1_000_000
	MaxLag      = 30 * 24 * time.Hour
)

var rulePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// ParseName checks a rule's name: 2 to 63 lower-case letters, digits and hyphens. The
// error has the code rule-name.
func ParseName(s string) (string, error) {
	if !rulePattern.MatchString(s) {
		return "", fault.New(fault.Invalid, "rule-name", "%q is no name for a rule", s).In("name").
			Do("take 2 to 63 lower-case letters, digits and hyphens")
	}
	return s, nil
}

// Check refuses a rule that cannot be, all that is wrong at once.
func (r *Rule) Check() error {
	var all []error
	bad := func(field, code, says, remedy string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	add := func(field string, err error) {
		if err != nil {
			all = append(all, fault.From(err).In(field))
		}
	}
	_, err := ParseName(r.Name)
	add("name", err)
	if r.Priority < 1 || r.Priority > MaxPriority {
		bad("priority", "rule-priority", "a priority is 1 to %d, not %d", "the greater one goes first", MaxPriority,
			r.Priority)
	}
	if len(r.Prefix) > object.MaxKey {
		bad("prefix", "prefix-long", "no key is longer than %d bytes", "shorten it", object.MaxKey)
	}
	if strings.ContainsAny(r.Prefix, "*?") {
		bad("prefix", "prefix-wildcard", "a prefix is literal: %q in it stands for itself",
			"end it before the wildcard; objects beneath it are all meant", r.Prefix)
	}
	_, err = object.NewTags(r.Tags, object.MaxTags)
	add("tags", err)
	if r.Lag.Share < 0 || r.Lag.Share >= 1 || r.Lag.Share > 0 && (r.Lag.Within <= 0 || r.Lag.Within > MaxLag) {
		bad("lag", "lag-target", "a lag target is a share below 100 percent and a time up to 30 days",
			"say it as 99 in 5m")
	}
	if len(r.Targets) == 0 || len(r.Targets) > MaxTargets {
		bad("targets", "rule-targets", "a rule has 1 to %d targets, not %d", "name where copies go", MaxTargets,
			len(r.Targets))
	}
	for i := range r.Targets {
		t := &r.Targets[i]
		_, err := object.ParseBucketName(t.Bucket)
		add("targets", err)
		if t.Endpoint == "" && t.Bucket == r.Bucket {
			bad("targets", "target-source", "the bucket %s cannot be its own target", "name another bucket", r.Bucket)
		}
		if len(t.Prefix)+1 > object.MaxKey {
			bad("targets", "prefix-long", "no key is longer than %d bytes", "shorten the prefix", object.MaxKey)
		}
		if t.Endpoint != "" && t.Sealed {
			bad("targets", "target-sealing", "whether bytes are encrypted at an endpoint is that endpoint's to say",
				"leave it out, or set the bucket's default there")
		}
		for j := range i {
			if r.Targets[j].Address() == t.Address() {
				bad("targets", "target-twice", "the target %s is named twice", "name each once", t.Address())
			}
		}
	}
	return errors.Join(all...)
}

// Covers says whether a version is in the scope of a rule, and if not why.
func (r *Rule) Covers(v *object.Version) (covered bool, why string) {
	key := v.Key.String()
	if !strings.HasPrefix(key, r.Prefix) {
		return false, fmt.Sprintf("its key does not begin with %s", r.Prefix)
	}
	for name, value := range r.Tags {
		switch has, ok := v.Tags[name]; {
		case !ok:
			return false, fmt.Sprintf("it has no tag %s", name)
		case has != value:
			return false, fmt.Sprintf("its tag %s is %q, not %q", name, has, value)
		}
	}
	if !r.Where.Holds(query.Of(v)) {
		return false, fmt.Sprintf("it is not so that %s", r.Where)
	}
	return true, ""
}

// Shadows reports whether a rule always goes before another at one of its targets, which it
// gives: the other never copies there.
func (r *Rule) Shadows(o *Rule) (target *Target, is bool) {
	if r.BucketID != o.BucketID || !r.On || !o.On || r.Priority <= o.Priority || !strings.HasPrefix(o.Prefix, r.Prefix) ||
		!r.Where.All() && r.Where.String() != o.Where.String() {
		return nil, false
	}
	for name, v := range r.Tags {
		if has, ok := o.Tags[name]; !ok || has != v {
			return nil, false
		}
	}
	for i := range o.Targets {
		for j := range r.Targets {
			if o.Targets[i].Address() == r.Targets[j].Address() {
				return &o.Targets[i], true
			}
		}
	}
	return nil, false
}

// Words says in a sentence or two what a rule does.
func (r *Rule) Words() string {
	var b strings.Builder
	b.WriteString("New and changed objects of " + r.Bucket)
	if r.Prefix != "" {
		b.WriteString(" beneath " + r.Prefix)
	}
	if len(r.Tags) > 0 {
		b.WriteString(" with the tags " + tagWords(r.Tags))
	}
	if !r.Where.All() {
		fmt.Fprintf(&b, ", where %s,", r.Where)
	}
	b.WriteString(" are copied to ")
	for i := range r.Targets {
		t := &r.Targets[i]
		switch {
		case i > 0 && i == len(r.Targets)-1:
			b.WriteString(" and ")
		case i > 0:
			b.WriteString(", ")
		}
		b.WriteString(t.words())
	}
	b.WriteString(". " + travel(r.Markers, r.Removals))
	if r.Onward {
		b.WriteString(" What came here as a replica travels on.")
	} else {
		b.WriteString(" What came here as a replica stays here.")
	}
	return b.String()
}

func (t *Target) words() string {
	s := t.Bucket
	if t.Prefix != "" {
		s += " beneath " + t.Prefix
	}
	if t.Endpoint != "" {
		s += " at " + t.Endpoint
	}
	if t.Class != "" && t.Endpoint == "" {
		s += " in the tier " + t.Class
	} else if t.Class != "" {
		s += " in the storage class " + t.Class
	}
	if t.Sealed {
		s += ", encrypted at rest"
	}
	return s
}

func travel(markers, removals bool) string {
	switch {
	case markers && removals:
		return "Delete markers go along, and so do removals that leave nothing."
	case markers:
		return "Delete markers go along; removals that leave nothing do not."
	case removals:
		return "Removals that leave nothing go along; delete markers do not."
	}
	return "Neither delete markers nor removals go along: what was copied stays there."
}

func tagWords(tags object.Tags) string {
	var list []string
	for _, n := range slices.Sorted(maps.Keys(tags)) {
		list = append(list, n+"="+tags[n])
	}
	return strings.Join(list, ", ")
}
