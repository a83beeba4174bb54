package api

import "time"

// FindIndexInfo says how the index of a bucket is.
type FindIndexInfo struct {
	Bucket   string     `json:"bucket"`
	State    string     `json:"state" enum:"building,ready,merging"`
	Objects  int64      `json:"objects" doc:"That stand in it; what changed lately stands in it twice, until it is put together"`
	Segments int        `json:"segments"`
	Bytes    int64      `json:"bytes" doc:"Of the database"`
	Built    *time.Time `json:"built,omitempty"`
}
