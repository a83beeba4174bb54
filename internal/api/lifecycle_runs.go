package api

import (
	"time"

	"spindle/internal/core/lifecycle"
)

// RunInfo is one time that the rules of a bucket were carried out.
type RunInfo struct {
	ID       int64                `json:"id"`
	State    string               `json:"state" enum:"waiting,under way,asks,done,stopped,failed"`
	Revision int                  `json:"revision" doc:"Of the rules"`
	Whole    bool                 `json:"whole" doc:"It looks at the whole bucket"`
	Started  time.Time            `json:"started" doc:"Ages are judged by this moment"`
	Ended    *time.Time           `json:"ended,omitempty"`
	By       string               `json:"by" doc:"Who asked for it; lifecycle when nobody did"`
	Allowed  string               `json:"allowed,omitempty" doc:"Who let it go beyond the guard"`
	Counts   []lifecycle.RunCount `json:"counts" doc:"What each action did"`
	Says     string               `json:"says,omitempty" doc:"Why it asks, stopped or failed"`
}

// RunPage is a page of runs.
type RunPage struct {
	Runs []RunInfo `json:"runs"`
	Next int64     `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
}

// OutcomeInfo is what a run did to a version or an upload.
type OutcomeInfo struct {
	Key     string    `json:"key"`
	Version string    `json:"version,omitempty"`
	Size    int64     `json:"size"`
	Rule    string    `json:"rule"`
	Did     string    `json:"did"`
	At      time.Time `json:"at"`
	Fault   string    `json:"fault,omitempty" doc:"Why it could not be done"`
}

// OutcomePage is a page of outcomes.
type OutcomePage struct {
	Outcomes []OutcomeInfo `json:"outcomes"`
	Next     int64         `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}

// RunAnswer answers a run that asks.
type RunAnswer struct {
	GoOn bool `json:"goOn" doc:"Otherwise it is stopped"`
}
