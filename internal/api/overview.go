package api

import "time"

// Concern is something that is wrong or waits for a person.
type Concern struct {
	State   string `json:"state" enum:"wrong,attention,waiting"`
	Subject string `json:"subject" doc:"What it is about: a bucket, or bucket/key"`
	Says    string `json:"says" doc:"What about it, in a few words"`
	Detail  string `json:"detail"`
	Figure  string `json:"figure,omitempty" doc:"A figure, unless it is bytes"`
	Bytes   int64  `json:"bytes,omitempty"`
	Since   string `json:"since,omitempty" doc:"When it began, RFC 3339"`
	Page    string `json:"page,omitempty" doc:"Where the console deals with it"`
}

// Overview answers in one look.
type Overview struct {
	At           time.Time       `json:"at"`
	CompleteUpTo time.Time       `json:"completeUpTo" doc:"Usage counts every change that was committed before this moment"`
	Buckets      int             `json:"buckets"`
	Objects      int64           `json:"objects"`
	Bytes        int64           `json:"bytes"`
	Previous     int64           `json:"previous" doc:"Of the bytes, those in previous versions"`
	Unfinished   UnfinishedInfo  `json:"unfinished" doc:"What unfinished uploads hold"`
	Free         int64           `json:"free,omitempty" doc:"Bytes free on the volume; for operators"`
	Open         []OpenBucket    `json:"open,omitempty" doc:"Of other accounts, when you have none: the first 20 buckets that are open to who asks"`
	Concerns     []Concern       `json:"concerns" doc:"Worst first"`
	Changed      []ChangedBucket `json:"changed"`
	Recent       []JournalLine   `json:"recent"`
	Growth       []UsagePoint    `json:"growth" doc:"A year, by day; only days on which something changed"`
	Grew         []ChangedBucket `json:"grew" doc:"Buckets by bytes added in 30 days"`
	Scrubbed     *Scrubbed       `json:"scrubbed,omitempty" doc:"For operators"`
	Collected    *Collected      `json:"collected,omitempty" doc:"For operators"`
}

// Collected says what the collector did.
type Collected struct {
	LastRun   time.Time `json:"lastRun"`
	LastSweep time.Time `json:"lastSweep" doc:"When every file was last looked at"`
	Files     int64     `json:"files" doc:"Deleted in all"`
	Bytes     int64     `json:"bytes"`
}

// OpenBucket is a bucket of another account that is open to who asks.
type OpenBucket struct {
	Bucket  string   `json:"bucket"`
	Account string   `json:"account" doc:"That owns it"`
	Rights  []string `json:"rights" doc:"In the whole of it: list, read, write, remove, settings"`
	Places  []string `json:"places,omitempty" doc:"The prefixes that may be listed, when not all of it"`
}

// Scrubbed is where the scrubber stands.
type Scrubbed struct {
	Started  time.Time `json:"started" doc:"Of the walk under way or of the last one"`
	Finished time.Time `json:"finished" doc:"Of the last complete walk"`
	Bodies   int64     `json:"bodies" doc:"Read in this walk"`
	Bytes    int64     `json:"bytes"`
	Damaged  int64     `json:"damaged"`
}
