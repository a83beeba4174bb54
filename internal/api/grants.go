package api

import "time"

// GrantInfo is a grant.
type GrantInfo struct {
	ID        int64      `json:"id"`
	Bucket    string     `json:"bucket"`
	Prefix    string     `json:"prefix"`
	Account   string     `json:"account" doc:"That owns the bucket"`
	To        string     `json:"to" doc:"account NAME, person NAME, key ID, or anyone"`
	For       string     `json:"for" doc:"The purpose, or the rights"`
	Rights    []string   `json:"rights"`
	Expires   *time.Time `json:"expires"`
	Expired   bool       `json:"expired"`
	Note      string     `json:"note,omitempty"`
	Created   time.Time  `json:"created"`
	CreatedBy string     `json:"createdBy"`
	Revision  int        `json:"revision"`
}

// GrantPage is a page of a list.
type GrantPage struct {
	Grants []GrantInfo `json:"grants"`
	Next   int64       `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}
