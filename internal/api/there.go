package api

import "time"

// BucketThere is a bucket at an endpoint.
type BucketThere struct {
	Name       string `json:"name"`
	Made       string `json:"made,omitempty" doc:"In the endpoint's words"`
	Versioning string `json:"versioning,omitempty" enum:"off,on,paused" doc:"Absent when it cannot keep versions, or was not asked"`
	Lifecycle  string `json:"lifecycle,omitempty" doc:"Its lifecycle document, as the endpoint has it"`
}

// ObjectThere is an object at an endpoint.
type ObjectThere struct {
	Key         string            `json:"key"`
	Size        int64             `json:"size"`
	ETag        string            `json:"etag"`
	Modified    time.Time         `json:"modified"`
	Class       string            `json:"class,omitempty" doc:"Storage class, in the endpoint's words"`
	CRC64       string            `json:"crc64,omitempty" doc:"In hex, when the endpoint tells it"`
	ContentType string            `json:"contentType,omitempty"`
	Version     string            `json:"version,omitempty"`
	Metadata    map[string]string `json:"metadata,omitempty"`
	Tags        map[string]string `json:"tags,omitempty"`
}

// CopyBetween is a copy of one object from a place to another, each here or at an
// endpoint.
type CopyBetween struct {
	From  string `json:"from" doc:"BUCKET/KEY or @ENDPOINT/BUCKET/KEY"`
	To    string `json:"to" doc:"BUCKET/KEY or @ENDPOINT/BUCKET/KEY"`
	Class string `json:"class,omitempty" doc:"Tier here, storage class there"`
}

// CopyStep is a line of what it answers with (JSON lines).
type CopyStep struct {
	Moved   int64    `json:"moved,omitempty" doc:"Bytes so far"`
	Size    int64    `json:"size,omitempty"`
	ETag    string   `json:"etag,omitempty" doc:"At the end"`
	Done    bool     `json:"done,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
}

// NewBucketThere is what a new bucket at an endpoint begins with.
type NewBucketThere struct {
	Name       string `json:"name" maxLength:"63"`
	Versioning string `json:"versioning,omitempty" enum:"off,on"`
}

// BucketThereChange says what to change of a bucket at an endpoint.
type BucketThereChange struct {
	Versioning string  `json:"versioning,omitempty" enum:"on,paused"`
	Lifecycle  *string `json:"lifecycle,omitempty" maxLength:"200000" doc:"The document in the endpoint's words; \"\" for none"`
}
