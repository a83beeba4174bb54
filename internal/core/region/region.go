package region

import (
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
)

// MaxNote is how many bytes a note has at the most.
const MaxNote = 500

// State is how a sister stands.
type State string

// States of a sister.
const (
	Unknown State = "not asked" // yet
	Here    State = "there"
	Away    State = "away" // it does not answer, or not as it should
)

// Region is a sister of this service: another one of the house.
type Region struct {
	ID       int64
	Name     string
	Desk     string // its address, scheme and host
	Wire     string // as its clients reach it
	Service  string // what the service there tells itself apart by
	Note     string
	KeyID    string // an operator's key there
	Sealed   []byte // its secret
	Revision int
	Created  time.Time
	By       string

	State   State
	Since   time.Time
	Seen    *time.Time    // when it answered last
	Latency time.Duration // of the last answer
	Says    string        // why it is away

	Placements []string // that it has, by name, as it told last
}

// HasPlacement refuses a region for an account whose buckets have a fixed placement that the
// region does not have. The error has the code placement-not-there.
func (r *Region) HasPlacement(account, fixed string) error {
	if slices.Contains(r.Placements, fixed) {
		return nil
	}
	return fault.New(fault.Refused, "placement-not-there",
		"the buckets of the account %s have the placement %s, and the region %s has none of that name", account, fixed,
		r.Name).
		In("region").Do("have an operator add the placement there (spindle placement add %s, at %s)", fixed, r.Desk)
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Check refuses a region that cannot be, all that is wrong at once. The errors have the codes
// region-name, endpoint-url, region-key and region-note.
func (r *Region) Check() error {
	var all []error
	if !namePattern.MatchString(r.Name) {
		all = append(all, fault.New(fault.Invalid, "region-name", "%q is no name of a region", r.Name).In("name").
			Do("give the region that the service there was started with: lower-case letters, digits and hyphens"))
	}
	url, err := endpoint.ParseURL(r.Desk)
	if err != nil {
		all = append(all, err)
	}
	r.Desk = url
	if r.KeyID == "" {
		all = append(all, fault.New(fault.Invalid, "region-key", "no key is named").In("key").
			Do("give the id of an operator's key at the service there"))
	}
	if len(r.Note) > MaxNote {
		all = append(all, fault.New(fault.Invalid, "region-note", "a note has at most %d bytes", MaxNote).In("note"))
	}
	return errors.Join(all...)
}

// Bucket is a bucket of a sister, as it was told last.
type Bucket struct {
	Region  string
	Name    string
	Account string
	Created time.Time
	Objects int64
	Bytes   int64
	Told    time.Time
}

// Admission is where an account may make buckets.
type Admission struct {
	Account string
	Own     string   // the region that is asked
	Here    bool     // it is admitted to that one
	There   []string // sisters to which it is admitted, as they told last
	Default string   // where buckets are made that name no region; "" for the one that is asked
}

// Choose gives the region of a bucket of the account for which some region is asked, ""  for
// none: the one that is asked when that is the answer. The errors have the codes
// account-not-admitted and region-missing; known are the names of all sisters.
func (a *Admission) Choose(asked string, known []string) (string, error) {
	if asked == "" {
		asked = a.Default
	}
	if asked == "" {
		asked = a.Own
	}
	switch {
	case asked != a.Own && !slices.Contains(known, asked):
		return "", fault.New(fault.NotFound, "region-missing", "there is no region %q", asked).In("region").
			Do("choose from: %s", strings.Join(append([]string{a.Own}, known...), ", "))
	case asked == a.Own && a.Here, slices.Contains(a.There, asked):
		return asked, nil
	}
	return "", a.refuse(asked)
}

func (a *Admission) refuse(asked string) error {
	f := fault.New(fault.Refused, "account-not-admitted", "the account %s is not admitted to the region %s", a.Account,
		asked).In("region")
	var to []string
	if a.Here {
		to = append(to, a.Own)
	}
	if to = append(to, a.There...); len(to) == 0 {
		return f.Do("it is admitted nowhere: have an operator admit it (spindle region admit)")
	}
	return f.Do("make the bucket in: %s; or have an operator admit the account", strings.Join(to, ", "))
}
