package api

import "time"

// AccountInfo is an account with what it holds.
type AccountInfo struct {
	Name       string    `json:"name"`
	Operator   bool      `json:"operator" doc:"Its administrators operate the service"`
	Note       string    `json:"note,omitempty"`
	Quota      *int64    `json:"quota" doc:"Bytes of all its buckets; null for none"`
	MaxBuckets *int      `json:"maxBuckets" doc:"How many buckets it may have; null for any number"`
	Revision   int       `json:"revision"`
	Created    time.Time `json:"created"`
	Buckets    int       `json:"buckets"`
	Keys       int       `json:"keys"`
	People     int       `json:"people"`
	Bytes      int64     `json:"bytes" doc:"Of current and previous versions"`
	Placement  string    `json:"placement,omitempty" doc:"What buckets have that name none"`
	Fixed      bool      `json:"placementFixed,omitempty" doc:"They all have it"`
	FixedBy    string    `json:"placementBy,omitempty" doc:"Who said so"`
	Admitted   bool      `json:"admitted" doc:"It may make buckets in this region"`
	Region     string    `json:"region,omitempty" doc:"Where its buckets are made that name no region; absent for this one"`
}

// AccountPage is a page of a list.
type AccountPage struct {
	Accounts []AccountInfo `json:"accounts"`
	Next     string        `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}
