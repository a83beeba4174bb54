package api

import (
	"encoding/json"

	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// Revision is what a change can be bound to: it is made only while the thing is at the revision. 0 binds it to none.
type Revision struct {
	IfRevision int `json:"ifRevision,omitempty" minimum:"1" doc:"Change only this revision"`
}

// At binds a change to a revision.
func (r *Revision) At(revision int) { r.IfRevision = revision }

// Limit is a number that can be taken away: given and nil says none.
type Limit struct {
	Given bool
	Value *int64
}

// LimitTo gives a limit that is given, none for nil.
func LimitTo(n *int64) Limit { return Limit{true, n} }

// IsZero reports whether nothing is said of the limit.
func (l Limit) IsZero() bool { return !l.Given }

// MarshalJSON writes the number, or null for none.
func (l Limit) MarshalJSON() ([]byte, error) { return json.Marshal(l.Value) }

// UnmarshalJSON notes that the field was there.
func (l *Limit) UnmarshalJSON(b []byte) error {
	l.Given = true
	return json.Unmarshal(b, &l.Value)
}

// AccountChange says what to change of an account.
type AccountChange struct {
	Note       *string `json:"note,omitempty" flag:"note"`
	Quota      Limit   `json:"quota,omitzero" required:"false" flag:"quota,size"`
	MaxBuckets Limit   `json:"maxBuckets,omitzero" required:"false" flag:"max-buckets"`
	Placement  *string `json:"placement,omitempty" maxLength:"32" doc:"What buckets have that name none; none for none" flag:"placement"`
	Fixed      *bool   `json:"placementFixed,omitempty" doc:"They all have it, and the account cannot choose" flag:"placement-fixed"`
	Region     *string `json:"region,omitempty" maxLength:"63" doc:"Where buckets are made that name no region" flag:"region"`
	Alone      bool    `json:"alone,omitempty" doc:"A fixed placement is not told to the regions that admit the account"`
	Revision
}

// NewAccount is what a new account begins with.
type NewAccount struct {
	Name       string `json:"name" maxLength:"256"`
	Note       string `json:"note,omitempty" flag:"note"`
	Quota      *int64 `json:"quota,omitempty" minimum:"1" doc:"Bytes of all its buckets"`
	MaxBuckets *int   `json:"maxBuckets,omitempty" minimum:"0"`
}

// PersonChange says what to change of a person.
type PersonChange struct {
	Operator *bool    `json:"operator,omitempty" flag:"operator"`
	Active   *bool    `json:"active,omitempty" doc:"Off ends their sessions" flag:"active"`
	Unlock   bool     `json:"unlock,omitempty" doc:"Forget failed attempts" flag:"unlock"`
	Note     *string  `json:"note,omitempty" flag:"note"`
	Roles    []RoleIn `json:"roles,omitempty" maxItems:"100" doc:"Roles to set; the role none removes one"`
	Revision
}

// NewPerson is what a new person begins with.
type NewPerson struct {
	Name     string   `json:"name" maxLength:"256"`
	Password string   `json:"password,omitempty" maxLength:"1024" doc:"Made when it is not given; changed at the first sign-in either way"`
	Operator bool     `json:"operator,omitempty" flag:"operator"`
	Note     string   `json:"note,omitempty" flag:"note"`
	Roles    []RoleIn `json:"roles,omitempty" maxItems:"100"`
}

// KeyChange says what to change of an access key.
type KeyChange struct {
	Name     *string   `json:"name,omitempty" minLength:"1" maxLength:"64" flag:"name"`
	Note     *string   `json:"note,omitempty" flag:"note"`
	Role     *string   `json:"role,omitempty"`
	Operator *bool     `json:"operator,omitempty" doc:"Only an operator gives it, takes it, or changes a key that has it"`
	Limits   *[]string `json:"limits,omitempty" maxItems:"100" doc:"Replaces the current ones; none removes them" flag:"limit,empty=no-limits"`
	Rate     *int      `json:"rate,omitempty" minimum:"0" maximum:"1000000" flag:"rate"`
	Expires  *string   `json:"expires,omitempty" maxLength:"64" doc:"Empty for never" flag:"expires,never"`
	Active   *bool     `json:"active,omitempty" flag:"active"`
	Revision
}

// NewKey is what a new access key begins with.
type NewKey struct {
	Account  string   `json:"account,omitempty" maxLength:"64" doc:"The one that asks otherwise" flag:"account"`
	Name     string   `json:"name" minLength:"1" maxLength:"64" doc:"The application that uses it"`
	Note     string   `json:"note,omitempty" flag:"note"`
	Role     string   `json:"role,omitempty" default:"reader" doc:"reader, writer or administrator"`
	Operator bool     `json:"operator,omitempty" doc:"It operates the service: only an operator gives that"`
	Limits   []string `json:"limits,omitempty" maxItems:"100" doc:"Buckets, or bucket/prefix" flag:"limit"`
	Rate     int      `json:"rate,omitempty" minimum:"0" maximum:"1000000" flag:"rate"`
	Expires  string   `json:"expires,omitempty" maxLength:"64" doc:"A moment, or a time from now such as 90d" flag:"expires"`
	ID       string   `json:"id,omitempty" maxLength:"64" doc:"Brought along; made otherwise"`
	Secret   string   `json:"secret,omitempty" maxLength:"128" doc:"Brought along, with the id"`
}

// GrantChange says what to change of a grant.
type GrantChange struct {
	For     *string `json:"for,omitempty" maxLength:"64" flag:"for"`
	Expires *string `json:"expires,omitempty" maxLength:"64" doc:"Empty for never" flag:"expires,never"`
	Note    *string `json:"note,omitempty" flag:"note"`
	Revision
}

// NewGrant is what a new grant begins with.
type NewGrant struct {
	Bucket  string `json:"bucket" maxLength:"64"`
	Prefix  string `json:"prefix,omitempty" doc:"Empty for the whole bucket"`
	To      string `json:"to" maxLength:"128" doc:"account:NAME, person:NAME, key:ID (or its name; of another account ACCOUNT/NAME) or anyone" flag:"to"`
	For     string `json:"for" maxLength:"64" doc:"read from, write into, replicate into, administer; or rights with commas: list, read, write, remove, settings" flag:"for"`
	Expires string `json:"expires,omitempty" maxLength:"64" doc:"A moment, or a time from now such as 90d" flag:"expires"`
	Note    string `json:"note,omitempty" flag:"note"`
}

// BucketChange says what to change of a bucket's settings; what it does not name stays as it is.
type BucketChange struct {
	Quota      Limit                `json:"quota,omitzero" required:"false" flag:"quota,size"`
	Versioning string               `json:"versioning,omitempty" enum:"off,on,paused" doc:"Off only while no version stands that off would not have" flag:"versioning"`
	Tags       *object.Edit         `json:"tags,omitempty" doc:"What to set and take away"`
	Sealing    *bool                `json:"sealing,omitempty" doc:"Encrypt new bodies at rest" flag:"sealing"`
	Tier       string               `json:"tier,omitempty" maxLength:"32" doc:"Where new bodies go that name no other" flag:"tier"`
	Placement  string               `json:"placement,omitempty" maxLength:"32" doc:"For new objects only: existing ones are moved by an order of the kind place; none to remove it" flag:"placement"`
	Required   *bucket.Requirements `json:"required,omitempty" maxItems:"100" doc:"All that is asked of metadata"`
	Journal    *JournalChange       `json:"journal,omitempty" doc:"How changes of objects are kept on record"`
	Revision
}

// JournalChange says what to change of how a journal is kept.
type JournalChange struct {
	Days   *int  `json:"days,omitempty" minimum:"0" maximum:"36500" doc:"How long entries are kept, at least; 0: as long as the service keeps its journal"`
	Paused *bool `json:"paused,omitempty" doc:"Changes are not recorded; what is there stays" flag:"recording,paused|on"`
}
