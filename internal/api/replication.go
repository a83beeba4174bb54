package api

import "time"

// ReplicationInfo is a rule that keeps objects copied, and how it stands.
type ReplicationInfo struct {
	Name     string            `json:"name"`
	Bucket   string            `json:"bucket"`
	On       bool              `json:"on"`
	Priority int               `json:"priority" doc:"Where two rules copy to one place, the greater one does"`
	Prefix   string            `json:"prefix,omitempty"`
	Tags     map[string]string `json:"tags,omitempty" doc:"That an object must have, all of them"`
	Where    string            `json:"where,omitempty" doc:"What must hold of an object, as an expression of find"`
	Markers  bool              `json:"deleteMarkers" doc:"Delete markers go along"`
	Removals bool              `json:"removals" doc:"Removals that leave nothing go along"`
	Onward   bool              `json:"onward" doc:"What came here as a replica travels on"`
	Lag      *LagTarget        `json:"lagTarget,omitempty"`
	Says     string            `json:"says" doc:"What it does, in words"`
	State    string            `json:"state" enum:"paused,keeps up,not yet looked at,behind,missed,late,some fail,failing,stopped" doc:"The worst of its targets"`
	Paused   *time.Time        `json:"paused,omitempty" doc:"Since when: what changes meanwhile waits"`
	Targets  []TargetInfo      `json:"targets"`
	Revision int               `json:"revision"`
	Created  time.Time         `json:"created"`
	Changed  time.Time         `json:"changed"`
	By       string            `json:"by" doc:"Who saved it last: it acts with their rights"`
}

// LagTarget is what is promised of how long a change waits.
type LagTarget struct {
	Percent float64 `json:"percent" minimum:"1" maximum:"99.999" doc:"Of changes"`
	Seconds float64 `json:"seconds" minimum:"0.001" maximum:"2592000" doc:"Within which they are copied"`
}

// TargetInfo is a place that gets copies, and how it stands.
type TargetInfo struct {
	ID       int64          `json:"id"`
	Address  string         `json:"address" doc:"BUCKET/PREFIX here, or @ENDPOINT/BUCKET/PREFIX"`
	Endpoint string         `json:"endpoint,omitempty"`
	Bucket   string         `json:"bucket"`
	Prefix   string         `json:"prefix,omitempty"`
	Class    string         `json:"class,omitempty" doc:"Tier here, storage class there"`
	Sealed   bool           `json:"sealed,omitempty"`
	State    string         `json:"state" enum:"paused,keeps up,not yet looked at,behind,missed,late,some fail,failing,stopped"`
	Why      string         `json:"why,omitempty" doc:"It stands so, in words"`
	Waiting  int64          `json:"waiting" doc:"Objects"`
	Failed   int64          `json:"failed" doc:"Of those that wait, those that failed at least once"`
	Bytes    int64          `json:"bytes" doc:"To go"`
	Oldest   *time.Time     `json:"oldest,omitempty" doc:"Since when the oldest change waits"`
	Next     *time.Time     `json:"next,omitempty" doc:"Try of something that failed"`
	Lag      LagInfo        `json:"lag" doc:"Of the last hour"`
	Rate     int64          `json:"rate" doc:"Bytes a second, in the last minutes"`
	DoneIn   float64        `json:"doneIn,omitempty" doc:"Seconds, estimated by bytes; absent as long as nothing can be said"`
	Failing  *TargetFault   `json:"failing,omitempty" doc:"The target as a whole fails"`
	Backfill *BackfillInfo  `json:"backfill,omitempty"`
	Verified *time.Time     `json:"verified,omitempty" doc:"When both sides were last found equal"`
	Verify   *VerifyInfo    `json:"verify,omitempty" doc:"The last comparison"`
	Health   *EndpointBrief `json:"health,omitempty" doc:"How the endpoint stands"`
}

// EndpointBrief is how an endpoint stands, in short.
type EndpointBrief struct {
	State   string  `json:"state"`
	Latency float64 `json:"latency" doc:"Milliseconds"`
	Region  string  `json:"region,omitempty"`
}

// LagInfo is how long changes waited for their replicas; times within a factor of two.
type LagInfo struct {
	Count  int64   `json:"count"`
	P50    float64 `json:"p50" doc:"Seconds"`
	P99    float64 `json:"p99" doc:"Seconds"`
	P9999  float64 `json:"p9999" doc:"Seconds"`
	Within float64 `json:"within" doc:"Percent of changes that were within the lag target; 100 without one"`
	Met    bool    `json:"met" doc:"The lag target; true without one"`
}

// TargetFault is why a target fails.
type TargetFault struct {
	Since time.Time `json:"since"`
	Code  string    `json:"code"`
	Says  string    `json:"says"`
}

// BackfillInfo is how far the copying of what was there before has come.
type BackfillInfo struct {
	State string `json:"state" enum:"looking,copying,done"`
	Asked int64  `json:"asked" doc:"Objects that were found to be copied"`
}

// VerifyInfo is what a comparison of both sides came to.
type VerifyInfo struct {
	At       time.Time `json:"at"`
	Objects  int64     `json:"objects" doc:"That were compared"`
	Missing  int64     `json:"missing" doc:"There"`
	Other    int64     `json:"other" doc:"In size, digest or metadata"`
	Extra    int64     `json:"extra" doc:"There alone"`
	Waiting  int64     `json:"waiting" doc:"That differ, and wait to be copied"`
	Repaired int64     `json:"repaired" doc:"That were asked to be copied again"`
	Good     bool      `json:"good"`
	Deep     bool      `json:"deep,omitempty" doc:"The bytes of each were read at the target"`
	Read     int64     `json:"read,omitempty" doc:"Bytes that were read there"`
}
