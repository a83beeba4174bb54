package api

import (
	"time"

	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// BucketInfo is a bucket with its settings and usage.
type BucketInfo struct {
	Name       string              `json:"name"`
	Account    string              `json:"account" doc:"The account that owns it"`
	Region     string              `json:"region"`
	Created    time.Time           `json:"created"`
	CreatedBy  string              `json:"createdBy" doc:"The access key that made it"`
	Quota      *int64              `json:"quota" doc:"Bytes; null for none"`
	Versioning string              `json:"versioning" enum:"off,on,paused" doc:"Whether previous versions are kept"`
	Tags       object.Tags         `json:"tags,omitempty"`
	Usage      UsageInfo           `json:"usage"`
	Revision   int                 `json:"revision" doc:"Of the settings; 0 when they are not told"`
	Required   bucket.Requirements `json:"required,omitempty" doc:"What is asked of the metadata of objects"`
	Sealing    bool                `json:"sealing" doc:"New bodies are encrypted at rest"`
	Tier       string              `json:"tier" doc:"Where new bodies go that name no other"`
	Placement  string              `json:"placement,omitempty" doc:"That says where new bodies go and whether they are encrypted; for those who may change settings"`
	Elsewhere  string              `json:"elsewhere,omitempty" doc:"The store that keeps new bodies, when it is another one: its address for operators"`
	TierSeals  bool                `json:"tierSeals,omitempty" doc:"That tier encrypts what is in it, whatever the bucket says"`
	Open       bool                `json:"open" doc:"Anyone may read or list some of it, without a key"`
	Partly     bool                `json:"partly,omitempty" doc:"Who asks may list some of it only: usage and quota are not told"`
	Places     []string            `json:"places,omitempty" doc:"The prefixes that who asks may list, when not all of it"`
	Rights     []string            `json:"rights" doc:"What who asks may do in the whole of it: list, read, write, remove, settings"`
	Shared     []SharedWith        `json:"shared,omitempty" doc:"Whom the bucket or a part of it was opened to, anyone first"`

	Journal *JournalKeeping `json:"journal,omitempty" doc:"How its journal is kept, when otherwise than the service keeps its own; for those who may change settings"`

	PlacementFixed bool   `json:"placementFixed,omitempty" doc:"An operator fixed the placement of the account's buckets"`
	PlacementBy    string `json:"placementBy,omitempty" doc:"Who fixed it"`
	PlacementDue   string `json:"placementDue,omitempty" doc:"The fixed placement, of a bucket from before that has another"`
	Placing        string `json:"placing,omitempty" doc:"How far what is there is brought in line with a placement, while it is not done"`

	Console string     `json:"console,omitempty" doc:"Where the console of its region is, when that is another one: nothing else is told of it here"`
	Told    *time.Time `json:"told,omitempty" doc:"Of one in another region: when it was told last"`
}

// JournalKeeping is how a journal is kept.
type JournalKeeping struct {
	Days   int  `json:"days" doc:"At least; 0: as long as the service keeps its own"`
	Paused bool `json:"paused" doc:"Changes are not recorded"`
}

// BucketPage is a page of buckets by name.
type BucketPage struct {
	Buckets []BucketInfo `json:"buckets"`
	Next    string       `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}

// NewBucket says what bucket is to be made.
type NewBucket struct {
	Name         string            `json:"name" maxLength:"256"`
	Quota        *int64            `json:"quota,omitempty" doc:"Bytes"`
	Versioning   string            `json:"versioning,omitempty" enum:"off,on,paused" default:"off" flag:"versioning"`
	Tags         map[string]string `json:"tags,omitempty" flag:"tag"`
	Account      string            `json:"account,omitempty" maxLength:"64" doc:"That owns it; the one that asks otherwise. Operators may name another" flag:"account"`
	Sealing      bool              `json:"sealing,omitempty" doc:"Encrypt new bodies at rest" flag:"sealing"`
	AbandonAfter int               `json:"abandonAfter,omitempty" minimum:"0" maximum:"3650" doc:"Make a rule that abandons unfinished uploads after so many days; 0 for none" flag:"abandon-after"`
	Tier         string            `json:"tier,omitempty" maxLength:"32" doc:"Where new bodies go that name no other" flag:"tier"`
	Placement    string            `json:"placement,omitempty" maxLength:"32" doc:"How bytes are kept, instead of a tier; the account's default otherwise" flag:"placement"`
	Region       string            `json:"region,omitempty" maxLength:"63" doc:"In which it is made; the account's default otherwise" flag:"region"`
}
