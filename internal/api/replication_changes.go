package api

// ReplicationChange is what can be said of a replication rule; what is not named stays
// as it is.
type ReplicationChange struct {
	On       *bool              `json:"on,omitempty" flag:"state"`
	Priority *int               `json:"priority,omitempty" minimum:"1" maximum:"1000000" flag:"priority"`
	Prefix   *string            `json:"prefix,omitempty" maxLength:"1024" flag:"prefix"`
	Tags     *map[string]string `json:"tags,omitempty" flag:"tag"`
	Where    *string            `json:"where,omitempty" maxLength:"4000" doc:"Only objects for which this expression of find holds: of key, type, size, changed, md5, crc64, writer, field, tag; empty: all" flag:"where,none"`
	Markers  *bool              `json:"deleteMarkers,omitempty" flag:"delete-markers"`
	Removals *bool              `json:"removals,omitempty" flag:"removals"`
	Onward   *bool              `json:"onward,omitempty" flag:"onward"`
	Lag      *LagTarget         `json:"lagTarget,omitempty"`
	NoLag    bool               `json:"noLagTarget,omitempty" doc:"Promise nothing"`
	Targets  []TargetSetting    `json:"targets,omitempty" maxItems:"8" doc:"Instead of those there are; what is known of those that stay is kept"`
	Mend     bool               `json:"mend,omitempty" doc:"Switch versioning on where it is missing" flag:"mend"`
}

// TargetSetting is where copies go.
type TargetSetting struct {
	Address string `json:"address" maxLength:"1200" doc:"BUCKET/PREFIX here, or @ENDPOINT/BUCKET/PREFIX"`
	Class   string `json:"class,omitempty" maxLength:"64" doc:"Tier here, storage class there"`
	Sealed  bool   `json:"sealed,omitempty" doc:"Encrypted at rest, whatever the bucket's default is"`
}

// NewReplication is what a new rule begins with.
type NewReplication struct {
	Name     string `json:"name" maxLength:"63"`
	Bucket   string `json:"bucket" maxLength:"64"`
	Existing string `json:"existing" enum:"leave,backfill" doc:"What happens with the objects that are there already"`
	ReplicationChange
}

// Lacking is something that a rule needs and that is not so.
type Lacking struct {
	Code   string `json:"code" enum:"source-versioning,target-versioning,grant,bucket-missing,endpoint,tier"`
	Target string `json:"target,omitempty"`
	Says   string `json:"says"`
	Remedy string `json:"remedy"`
	Mends  bool   `json:"mends" doc:"Saving it with mend puts it right"`
}

// Review is what a rule would do, before it is saved.
type Review struct {
	Says     string           `json:"says" doc:"What it does, in words"`
	Lacks    []Lacking        `json:"lacks"`
	Existing []ExistingReview `json:"existing" doc:"What is there already, by target"`
}

// ExistingReview is what a backfill would copy.
type ExistingReview struct {
	Target string `json:"target"`
	Quantity
}

// ReplicationUpdate is a change of what is there.
type ReplicationUpdate struct {
	ReplicationChange
	Revision
}

// BackfillAsk asks to copy what is older than a rule.
type BackfillAsk struct {
	Rehearse bool `json:"rehearse,omitempty" doc:"Count alone"`
}
