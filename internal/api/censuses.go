package api

import (
	"time"

	"spindle/internal/core/census"
)

// CensusInfo is a full list of objects that is written again and again.
type CensusInfo struct {
	Name      string         `json:"name"`
	On        bool           `json:"on" doc:"It is written by its schedule"`
	From      string         `json:"from,omitempty" doc:"The bucket, with a prefix or without one, that it lists; empty: all buckets of the account"`
	To        string         `json:"to" doc:"BUCKET/PREFIX/ or @ENDPOINT/BUCKET/PREFIX/"`
	Where     string         `json:"where,omitempty" doc:"It lists what this expression of find holds for"`
	Columns   []string       `json:"columns"`
	Format    string         `json:"format" enum:"csv,json,parquet"`
	Versions  bool           `json:"versions,omitempty" doc:"Previous versions and delete markers are listed too"`
	Schedule  string         `json:"schedule,omitempty"`
	Zone      string         `json:"zone,omitempty"`
	Note      string         `json:"note,omitempty"`
	Next      *time.Time     `json:"next,omitempty" doc:"When the schedule is due"`
	Revision  int            `json:"revision"`
	Created   time.Time      `json:"created"`
	ChangedBy string         `json:"changedBy" doc:"With whose rights it is written"`
	Last      *CensusRunInfo `json:"last,omitempty" doc:"Its latest run"`
}

// CensusRunInfo is one writing of a census.
type CensusRunInfo struct {
	ID      int64         `json:"id"`
	State   string        `json:"state" enum:"waiting,running,done,failed,stopped"`
	Who     string        `json:"who" doc:"Who asked for it, or schedule"`
	Asked   time.Time     `json:"asked"`
	Started *time.Time    `json:"started,omitempty"`
	Ended   *time.Time    `json:"ended,omitempty"`
	AsOf    *time.Time    `json:"asOf,omitempty" doc:"All of it is true of this moment"`
	Code    string        `json:"code,omitempty"`
	Says    string        `json:"says,omitempty" doc:"Why it waits or failed"`
	Rows    int64         `json:"rows"`
	Total   int64         `json:"total,omitempty" doc:"Rows that were expected, roughly; 0: not known"`
	Objects int64         `json:"objectBytes" doc:"Bytes of what is listed"`
	Bytes   int64         `json:"bytes" doc:"Of its files"`
	Sent    int64         `json:"sent" doc:"Bytes that are at the target"`
	To      string        `json:"to,omitempty" doc:"The folder of its files"`
	Columns []string      `json:"columns,omitempty"`
	Format  string        `json:"format,omitempty"`
	Files   []census.File `json:"files,omitempty"`
}

// CensusChange is what can be said of a census; what is not named stays as it is.
type CensusChange struct {
	On       *bool     `json:"on,omitempty" flag:"state"`
	From     *string   `json:"from,omitempty" maxLength:"1200" doc:"BUCKET or BUCKET/PREFIX; empty: all buckets of the account" flag:"of"`
	To       *string   `json:"to,omitempty" maxLength:"1200" flag:"to"`
	Where    *string   `json:"where,omitempty" maxLength:"4000" doc:"An expression of find; empty: everything" flag:"where,none"`
	Columns  *[]string `json:"columns,omitempty" maxItems:"200" flag:"columns,names"`
	Format   *string   `json:"format,omitempty" maxLength:"20" flag:"format"`
	Versions *bool     `json:"versions,omitempty" flag:"versions,all|current"`
	Schedule *string   `json:"schedule,omitempty" maxLength:"100" doc:"Five fields, such as 30 2 * * 1, or @daily, @weekly, @monthly; empty: when it is asked for" flag:"schedule,none"`
	Zone     *string   `json:"zone,omitempty" maxLength:"64" doc:"Such as Europe/Oslo; empty: UTC" flag:"zone"`
	Note     *string   `json:"note,omitempty" maxLength:"500" flag:"note"`
}

// NewCensus is what a new census begins with.
type NewCensus struct {
	Name string `json:"name" maxLength:"63"`
	CensusChange
}

// CensusUpdate is a change of what is there.
type CensusUpdate struct {
	CensusChange
	Revision
}
