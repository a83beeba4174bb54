package api

import "time"

// WaitingInfo is an object that waits to be copied.
type WaitingInfo struct {
	Key      string     `json:"key"`
	Target   string     `json:"target" doc:"Its address"`
	Since    *time.Time `json:"since,omitempty"`
	Attempts int        `json:"attempts"`
	Code     string     `json:"code,omitempty" doc:"Why the last attempt failed"`
	Says     string     `json:"says,omitempty"`
	Next     *time.Time `json:"next,omitempty" doc:"Try"`
	Bytes    int64      `json:"bytes"`
}

// FaultInfo counts a reason why copies fail.
type FaultInfo struct {
	Target string `json:"target"`
	Code   string `json:"code"`
	Says   string `json:"says" doc:"Of one of them"`
	Count  int64  `json:"count"`
}

// LagPointInfo is how long changes waited in a minute.
type LagPointInfo struct {
	At     time.Time `json:"at"`
	Target string    `json:"target"`
	LagInfo
	Bytes int64 `json:"bytes"`
}

// RetryInfo is what is tried now, or was decided.
type RetryInfo struct {
	Retried int64    `json:"retried" doc:"Objects that are tried now, or about which was decided; with rehearse those that would be"`
	Bytes   int64    `json:"bytes,omitempty" doc:"Of those about which is decided"`
	Keys    []string `json:"keys,omitempty" doc:"The first of them"`
}

// ReplicaObject is an object of a rule and how it stands at a target.
type ReplicaObject struct {
	Key    string `json:"key"`
	Target string `json:"target" doc:"Its address"`
	State  string `json:"state" enum:"pending,completed,failed,not in scope"`
	Why    string `json:"why,omitempty"`
	Bytes  int64  `json:"bytes"`

	Sent    int64 `json:"sent,omitempty" doc:"Bytes that are there of a large object on its way"`
	Removed bool  `json:"removed,omitempty" doc:"The key was removed here, and the removal is on its way"`
}

// ReplicasInfo is how an object stands at the targets of its bucket's rules.
type ReplicasInfo struct {
	Of       *ReplicaOfInfo `json:"replicaOf,omitempty" doc:"What it is a replica of"`
	Removed  bool           `json:"removed,omitempty" doc:"The key was removed, or was never there; states are those of the removal"`
	Replicas []ReplicaInfo  `json:"replicas"`
}

// ReplicaOfInfo is what a replica is a copy of.
type ReplicaOfInfo struct {
	Here    bool      `json:"here" doc:"The source is a bucket of this service"`
	Bucket  string    `json:"bucket" doc:"The source"`
	Key     string    `json:"key"`
	Version string    `json:"version"`
	Through int       `json:"through" doc:"Places that it came through"`
	Since   time.Time `json:"since"`
}

// ReplicaInfo is how an object stands at a target.
type ReplicaInfo struct {
	Rule      string     `json:"rule"`
	Target    string     `json:"target" doc:"Address and key there"`
	State     string     `json:"state" enum:"pending,completed,failed,not in scope"`
	Why       string     `json:"why,omitempty" doc:"It is not in scope, or failed"`
	Code      string     `json:"code,omitempty"`
	Since     *time.Time `json:"since,omitempty" doc:"It waits"`
	Sent      int64      `json:"sent,omitempty" doc:"Bytes that are there of a large object on its way"`
	Next      *time.Time `json:"next,omitempty" doc:"Try, when it failed"`
	Attempts  int        `json:"attempts,omitempty"`
	Confirmed *time.Time `json:"confirmed,omitempty" doc:"When the target had what it has"`
	Version   string     `json:"version,omitempty" doc:"There"`
	ETag      string     `json:"etag,omitempty" doc:"There"`
}

// RetryAsk asks to try failed objects again, or decides about newer ones.
type RetryAsk struct {
	Key      string `json:"key,omitempty" maxLength:"1024" doc:"This object alone"`
	Accept   bool   `json:"acceptTarget,omitempty" doc:"Take a target's bucket as it is, although it was made anew"`
	Settle   string `json:"settle,omitempty" enum:"overwrite,accept" doc:"About objects of which something newer is at a target: replace it, or accept it in their place"`
	Rehearse bool   `json:"rehearse,omitempty" doc:"Say about how many would be decided; nothing is changed"`
}
