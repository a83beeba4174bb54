package api

import "time"

// JournalLine is one change of one object or bucket.
type JournalLine struct {
	Position string         `json:"position"`
	At       time.Time      `json:"at"`
	Kind     string         `json:"kind"`
	Bucket   string         `json:"bucket"`
	Key      string         `json:"key,omitempty"`
	Number   int64          `json:"number,omitempty" doc:"Of the version: greater is later"`
	Size     int64          `json:"size"`
	Who      string         `json:"who" doc:"A key by its id, a person as person NAME, or another; empty when it is not told"`
	Source   string         `json:"source,omitempty"`
	Says     string         `json:"says,omitempty" doc:"What else there is to say of it"`
	Detail   map[string]any `json:"detail,omitempty"`
}

// JournalPage is a stretch of the journal.
type JournalPage struct {
	Entries      []JournalLine `json:"entries"`
	Next         string        `json:"next,omitempty" doc:"The position to go on from. A page can be short, even empty, and have a next: filters are looked for in a stretch of the journal at a time"`
	CompleteUpTo time.Time     `json:"completeUpTo" doc:"When there is no more, every change that was committed before this moment has been looked at"`
}
