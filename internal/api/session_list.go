package api

import "time"

// SessionEntry is a session that has not ended.
type SessionEntry struct {
	ID      int64     `json:"id"`
	Who     string    `json:"who"`
	Kind    string    `json:"kind" enum:"person,key"`
	Account string    `json:"account"`
	Source  string    `json:"source"`
	Program string    `json:"program"`
	Created time.Time `json:"created"`
	Seen    time.Time `json:"seen" doc:"Last, to the minute"`
	Expires time.Time `json:"expires"`
	Own     bool      `json:"own" doc:"It is the one that asks"`
}

// SessionPage is a page of a list.
type SessionPage struct {
	Sessions []SessionEntry `json:"sessions"`
	Next     int64          `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
}
