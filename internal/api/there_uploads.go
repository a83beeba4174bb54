package api

import "time"

// UploadThere is an unfinished upload at an endpoint.
type UploadThere struct {
	Key     string    `json:"key"`
	ID      string    `json:"id"`
	Started time.Time `json:"started"`
	Parts   int       `json:"parts"`
	Bytes   int64     `json:"bytes" doc:"That its parts hold"`
}

// UploadTherePage is a page of them.
type UploadTherePage struct {
	Uploads []UploadThere `json:"uploads" doc:"By key"`
	Next    string        `json:"next,omitempty" doc:"Give it as after for the next page"`
}

// AbandonThereAsk asks to abandon uploads at an endpoint.
type AbandonThereAsk struct {
	Key       string `json:"key,omitempty" maxLength:"1024" doc:"Of one upload"`
	ID        string `json:"id,omitempty" maxLength:"1024" doc:"Of one upload"`
	OlderThan string `json:"olderThan,omitempty" maxLength:"64" doc:"All started before this moment or time ago; at most 200 a call"`
	Prefix    string `json:"prefix,omitempty" maxLength:"1024" doc:"With olderThan: only beneath this"`
	Rehearse  bool   `json:"rehearse,omitempty"`
}
