package api

import "time"

// ListedObject is an object in a page.
type ListedObject struct {
	Key         string            `json:"key"`
	Size        int64             `json:"size"`
	Created     time.Time         `json:"created"`
	ETag        string            `json:"etag"`
	CRC64       string            `json:"crc64" doc:"CRC-64/NVME of the content, in hex"`
	ContentType string            `json:"contentType,omitempty"`
	By          string            `json:"by"`
	Version     string            `json:"version"`
	Metadata    map[string]string `json:"metadata,omitempty"`
	Problem     string            `json:"problem,omitempty" doc:"What is wrong with its bytes here, when it was asked to look"`
	Copies      []CopyState       `json:"copies,omitempty" doc:"How it stands where rules copy it to, when that was asked for"`
}

// CopyState is how an object stands at a target, in short.
type CopyState struct {
	Rule  string `json:"rule"`
	State string `json:"state" enum:"pending,completed,failed,not in scope"`
	Why   string `json:"why,omitempty"`
}

// ObjectPage is a page of a bucket in byte order of keys.
type ObjectPage struct {
	Objects  []ListedObject       `json:"objects"`
	Prefixes []string             `json:"prefixes" doc:"What the delimiter folds"`
	Usage    map[string]UsageInfo `json:"usage,omitempty" doc:"Beneath each of the prefixes, as of the roll-up a second ago"`
	Rights   []string             `json:"rights" doc:"What who asks may do beneath the prefix: list, read, write, remove, settings"`
	Next     string               `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end. As of a moment a page can be empty and have a next"`
}
