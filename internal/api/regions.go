package api

import "time"

// RegionInfo is a region of the house.
type RegionInfo struct {
	Name     string `json:"name"`
	Own      bool   `json:"own,omitempty" doc:"It is this service's"`
	Desk     string `json:"desk,omitempty" doc:"Where its console is; absent for your own"`
	State    string `json:"state" enum:"there,away,not asked"`
	Admitted bool   `json:"admitted" doc:"The account that one acts in may make buckets in it"`
	Default  bool   `json:"default,omitempty" doc:"Buckets of the account are made there that name no region"`

	Wire      string     `json:"wire,omitempty" doc:"For operators"`
	Note      string     `json:"note,omitempty"`
	Since     *time.Time `json:"since,omitempty" doc:"Since when it is so; for operators"`
	Seen      *time.Time `json:"seen,omitempty" doc:"When it answered last; for operators"`
	Latency   float64    `json:"latency,omitempty" doc:"Milliseconds of the last answer; for operators"`
	Says      string     `json:"says,omitempty" doc:"Why it is away; for operators"`
	Key       string     `json:"key,omitempty" doc:"Of an operator there; for operators"`
	Buckets   *int       `json:"buckets,omitempty" doc:"Of all accounts, as it told last; for operators"`
	Accounts  []string   `json:"accounts,omitempty" doc:"That are admitted; for operators"`
	Created   *time.Time `json:"created,omitempty" doc:"For operators"`
	CreatedBy string     `json:"createdBy,omitempty" doc:"For operators"`
}

// HeldBucket is a bucket as sisters hear of it.
type HeldBucket struct {
	Name    string    `json:"name"`
	Account string    `json:"account"`
	Created time.Time `json:"created"`
	Objects int64     `json:"objects"`
	Bytes   int64     `json:"bytes" doc:"Of current and previous versions"`
}

// HeldPage is a page of them.
type HeldPage struct {
	Buckets []HeldBucket `json:"buckets"`
	Next    string       `json:"next,omitempty"`
}

// NewRegion is what a new region begins with.
type NewRegion struct {
	Name   string `json:"name,omitempty" maxLength:"63" doc:"That it is expected to have; found out otherwise"`
	Desk   string `json:"desk" maxLength:"300" doc:"Address of its desk"`
	Key    string `json:"key" maxLength:"128" doc:"Of an operator there"`
	Secret string `json:"secret" maxLength:"256" doc:"Of the key"`
	Note   string `json:"note,omitempty"`
}

// AdmitAsk says whether an account may create buckets in a region.
type AdmitAsk struct {
	Admitted bool `json:"admitted"`
}
