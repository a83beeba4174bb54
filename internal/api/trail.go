package api

import "time"

// TrailLine is an entry of the trail with what it says in words.
type TrailLine struct {
	ID      int64          `json:"id"`
	At      time.Time      `json:"at"`
	Kind    string         `json:"kind"`
	Account string         `json:"account,omitempty" doc:"Whose affair it is"`
	Who     string         `json:"who"`
	Source  string         `json:"source,omitempty"`
	Subject string         `json:"subject,omitempty" doc:"What it was done to"`
	Times   int            `json:"times" doc:"How often, when the same was gathered"`
	Detail  map[string]any `json:"detail,omitempty"`
	Says    string         `json:"says,omitempty" doc:"What the entry adds, for people"`
}

// TrailPage is a page of a list.
type TrailPage struct {
	Entries []TrailLine `json:"entries"`
	Next    int64       `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
}

// ReachPage is a page of a list.
type ReachPage struct {
	Buckets []ReachOf `json:"buckets"`
	Next    string    `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
}

// MasterInfo says which master key is in force.
type MasterInfo struct {
	Fingerprint string `json:"fingerprint" doc:"Of the key that seals now; not the key"`
	From        string `json:"from" enum:"file,environment"`
	Keys        int    `json:"keys" doc:"How many open: 2 while a rotation is under way"`
	Sealed      int    `json:"sealed" doc:"Secrets and keys of bodies that it seals"`
}

// TestAccessAsk asks to try a request with a key.
type TestAccessAsk struct {
	Key       string `json:"key" maxLength:"64"`
	Do        string `json:"do" maxLength:"16" doc:"list, read, write, remove or settings"`
	Bucket    string `json:"bucket" maxLength:"64"`
	ObjectKey string `json:"objectKey,omitempty" doc:"An object's key, or the prefix of a listing"`
}
