package api

import "time"

// UnfinishedInfo is what unfinished uploads hold.
type UnfinishedInfo struct {
	Uploads int64     `json:"uploads"`
	Bytes   int64     `json:"bytes"`
	Oldest  time.Time `json:"oldest,omitzero"`
}

// UploadInfo is an unfinished multipart upload.
type UploadInfo struct {
	ID      string    `json:"id"`
	Bucket  string    `json:"bucket"`
	Key     string    `json:"key"`
	Started time.Time `json:"started"`
	By      string    `json:"by" doc:"The access key that started it"`
	Source  string    `json:"source,omitempty"`
	Parts   int64     `json:"parts"`
	Bytes   int64     `json:"bytes" doc:"That its parts hold"`
	Last    time.Time `json:"last,omitzero" doc:"When the last part came"`
	Place   int64     `json:"place" doc:"In the list of all uploads"`
}

// UploadPage is a page of unfinished uploads, oldest first.
type UploadPage struct {
	Uploads []UploadInfo   `json:"uploads"`
	Next    int64          `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
	All     UnfinishedInfo `json:"all" doc:"What all of them hold, without filter"`
}

// UploadName names an upload.
type UploadName struct {
	Bucket string `json:"bucket" maxLength:"64"`
	Key    string `json:"key"`
	ID     string `json:"id" maxLength:"64"`
}

// NewUpload is what a new upload begins with.
type NewUpload struct {
	Key         string            `json:"key"`
	ContentType string            `json:"contentType,omitempty" maxLength:"256"`
	Metadata    map[string]string `json:"metadata,omitempty"`
	Tags        map[string]string `json:"tags,omitempty"`
}

// AbandonAsk asks to abandon uploads.
type AbandonAsk struct {
	Uploads   []UploadName `json:"uploads,omitempty" maxItems:"1000"`
	OlderThan string       `json:"olderThan,omitempty" maxLength:"64" doc:"All started before this moment or time ago; at most 1,000 a call"`
	Bucket    string       `json:"bucket,omitempty" maxLength:"64" doc:"With olderThan: only of this bucket"`
	Rehearse  bool         `json:"rehearse,omitempty"`
}
