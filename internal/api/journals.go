package api

import "time"

// BucketJournal is how the changes of a bucket's objects are kept on record.
type BucketJournal struct {
	Days     int          `json:"days" doc:"How long entries are kept, at least; 0: as long as the service keeps its journal"`
	Paused   bool         `json:"paused" doc:"Changes are not recorded; what is there stays"`
	Revision int          `json:"revision" doc:"Of the bucket's settings"`
	Entries  int64        `json:"entries"`
	Bytes    int64        `json:"bytes" doc:"Of the database's disk"`
	About    bool         `json:"about,omitempty" doc:"Entries and bytes were worked out from a part"`
	First    *time.Time   `json:"first,omitempty" doc:"Of the oldest entry"`
	Gaps     []JournalGap `json:"gaps" doc:"What is left out, latest first"`
	Going    *int64       `json:"going,omitempty" doc:"How many entries would go if they were kept for so many days"`
}

// JournalGap is a time of which changes of objects are not on record.
type JournalGap struct {
	Since *time.Time `json:"since,omitempty" doc:"Absent: from the beginning"`
	Until *time.Time `json:"until,omitempty" doc:"Absent: it goes on"`
}
