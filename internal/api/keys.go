package api

import "time"

// KeyInfo is an access key, without its secret.
type KeyInfo struct {
	ID         string     `json:"id"`
	Account    string     `json:"account"`
	Name       string     `json:"name" doc:"The application that uses it"`
	Note       string     `json:"note,omitempty" doc:"What it is for"`
	Role       string     `json:"role" enum:"reader,writer,administrator"`
	Operator   bool       `json:"operator,omitempty" doc:"It operates the service"`
	Limits     []string   `json:"limits" doc:"Buckets and bucket/prefix that it is limited to; none: all of the account's"`
	Rate       int        `json:"rate,omitempty" doc:"Requests a second that it may make; absent for any number"`
	State      string     `json:"state" enum:"active,off,expired,replaced" doc:"A replaced one works until it expires"`
	Active     bool       `json:"active"`
	Expires    *time.Time `json:"expires"`
	Used       *time.Time `json:"used" doc:"Last, to some seconds"`
	UsedFrom   string     `json:"usedFrom,omitempty"`
	ReplacedBy string     `json:"replacedBy,omitempty"`
	Created    time.Time  `json:"created"`
	CreatedBy  string     `json:"createdBy"`
	Revision   int        `json:"revision"`
}

// KeySecret is a key with its secret, shown once.
type KeySecret struct {
	Key    KeyInfo `json:"key"`
	Secret string  `json:"secret,omitempty" doc:"Shown once; empty when it was brought along"`
}

// KeyPage is a page of a list.
type KeyPage struct {
	Keys []KeyInfo `json:"keys"`
	Next string    `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}
