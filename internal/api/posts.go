package api

import "time"

// PostInfo is an address outside to which changes are posted.
type PostInfo struct {
	Name    string     `json:"name"`
	URL     string     `json:"url"`
	On      bool       `json:"on" doc:"Off it keeps its place in the journal, and goes on there"`
	Bucket  string     `json:"bucket,omitempty" doc:"Only changes of this one; empty: of all buckets of the account"`
	Prefix  string     `json:"prefix,omitempty"`
	Kinds   []string   `json:"kinds,omitempty" doc:"Only entries of these kinds; empty: all"`
	Created time.Time  `json:"created"`
	By      string     `json:"by"`
	Behind  int64      `json:"behind" doc:"Entries of the journal, of the account, that it has not looked at; 100,000 at the most"`
	Failed  int        `json:"failed,omitempty" doc:"Times in a row"`
	Problem string     `json:"problem,omitempty" doc:"Of the last time"`
	Posted  *time.Time `json:"posted,omitempty" doc:"When something arrived last"`
	Sent    int64      `json:"sent" doc:"Events that arrived"`
	Secret  string     `json:"secret,omitempty" doc:"By which they are signed; shown once, when the post is made"`
}

// NewPost is what a new post begins with.
type NewPost struct {
	Name   string   `json:"name" maxLength:"63"`
	URL    string   `json:"url" maxLength:"2000"`
	Bucket string   `json:"bucket,omitempty" maxLength:"63"`
	Prefix string   `json:"prefix,omitempty" maxLength:"1024"`
	Kinds  []string `json:"kinds,omitempty" maxItems:"30"`
}

// PostChange switches a post on or off.
type PostChange struct {
	On bool `json:"on"`
}
