package api

import "time"

// Question is what find is asked.
type Question struct {
	Expression string   `json:"expression" maxLength:"4000"`
	Buckets    []string `json:"buckets,omitempty" maxItems:"1000"`
	Versions   bool     `json:"versions,omitempty"`
}

// JournalFilter narrows the journal to some entries.
type JournalFilter struct {
	Bucket string   `json:"bucket,omitempty" maxLength:"64"`
	Prefix string   `json:"prefix,omitempty" maxLength:"1024"`
	Kinds  []string `json:"kinds,omitempty" maxItems:"40"`
	Who    string   `json:"who,omitempty" maxLength:"128"`
}

// SavedFind is a question of find under a name.
type SavedFind struct {
	Name  string    `json:"name"`
	Saved time.Time `json:"saved"`
	By    string    `json:"by"`
	Question
}

// SavedFilter is a filter of the journal under a name.
type SavedFilter struct {
	Name  string    `json:"name"`
	Saved time.Time `json:"saved"`
	By    string    `json:"by"`
	JournalFilter
}
