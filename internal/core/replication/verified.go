package replication

import "time"

// Difference is an object that is not the same on both sides.
type Difference struct {
	Key  string `json:"key" doc:"Of the source"`
	What string `json:"what" enum:"missing,other,extra"`
	Says string `json:"says"`
}

// Verified is what a comparison of both sides came to so far.
type Verified struct {
	At       time.Time `json:"at"`
	Objects  int64     `json:"objects" doc:"Of the source, that were compared"`
	Bytes    int64     `json:"bytes" doc:"Of them"`
	Missing  int64     `json:"missing" doc:"At the target"`
	Other    int64     `json:"other" doc:"In size, digest or metadata"`
	Extra    int64     `json:"extra" doc:"At the target alone"`
	Waiting  int64     `json:"waiting" doc:"That differ, and wait to be copied"`
	Repaired int64     `json:"repaired" doc:"That were asked to be copied again"`
	Accepted int64     `json:"accepted,omitempty" doc:"That differ, and what is there was accepted"`
	Good     bool      `json:"good" doc:"Every object of the source is there as it is"`
	Deep     bool      `json:"deep" doc:"The bytes of each were read at the target"`
	Read     int64     `json:"read,omitempty" doc:"Bytes that were read there"`
	Next     string    `json:"next,omitempty" doc:"It ended before this key, as so much was read: go on from there"`
}
