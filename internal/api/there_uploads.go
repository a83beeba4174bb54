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
