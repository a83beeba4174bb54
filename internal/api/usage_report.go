package api

import "time"

// UsageReport is what is kept now, how it grew, what it costs and when it is full.
type UsageReport struct {
	From    string        `json:"from" doc:"YYYY-MM-DD"`
	To      string        `json:"to"`
	Total   BucketUsage   `json:"total"`
	Buckets []BucketUsage `json:"buckets" doc:"By name"`
	Days    []UsagePoint  `json:"days" doc:"Of all that is reported, at the ends of days on which something changed"`
	Disk    *DiskUsage    `json:"disk,omitempty" doc:"Of the first tier, for operators"`
}

// BucketUsage is the usage of a bucket.
type BucketUsage struct {
	Bucket     string      `json:"bucket,omitempty"`
	Now        UsageInfo   `json:"now"`
	Unfinished int64       `json:"unfinished" doc:"Bytes of uploads that did not end"`
	Replicas   *Quantity   `json:"replicas,omitempty" doc:"Of what is current: that which came as a copy of another bucket; when asked for"`
	Tiers      []TierShare `json:"tiers"`
	Cost       float64     `json:"cost" doc:"Of keeping current and previous versions and unfinished uploads for a month, by the prices of tiers, in the service's currency"`
	Added      int64       `json:"added" doc:"Bytes since the first day, less what went"`
	Written    int64       `json:"written" doc:"Changes that wrote objects since then"`
	Removed    int64       `json:"removed" doc:"Changes that removed objects since then"`
	PerDay     float64     `json:"perDay" doc:"Bytes a day, by the last 30 days"`
	Quota      *int64      `json:"quota,omitempty"`
	FullOn     *time.Time  `json:"fullOn,omitempty" doc:"When the quota is used up, if it goes on so"`
}

// TierShare is what of it lies in a tier.
type TierShare struct {
	Tier  string  `json:"tier"`
	Bytes int64   `json:"bytes"`
	Cost  float64 `json:"cost"`
}

// DiskUsage is how full a disk is.
type DiskUsage struct {
	Total  int64      `json:"total"`
	Free   int64      `json:"free"`
	FullOn *time.Time `json:"fullOn,omitempty" doc:"If all that the service keeps goes on growing so"`
}

// Span is a range of days.
type Span struct {
	From string `query:"from" maxLength:"10" doc:"YYYY-MM-DD, in UTC; empty: 30 days ago"`
	To   string `query:"to" maxLength:"10" doc:"The last day; empty: today"`
}

// AccountUsage is the usage of all buckets of an account.
type AccountUsage struct {
	Account string `json:"account"`
	Buckets int    `json:"buckets"`
	BucketUsage
}

// TrafficInfo is requests of one bucket, key or day.
type TrafficInfo struct {
	Of     string `json:"of"`
	Reads  int64  `json:"reads"`
	Writes int64  `json:"writes"`
	Lists  int64  `json:"lists"`
	Others int64  `json:"others"`
	Failed int64  `json:"failed" doc:"Of all of them"`
	In     int64  `json:"in" doc:"Bytes"`
	Out    int64  `json:"out" doc:"Bytes"`
}
