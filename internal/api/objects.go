package api

import (
	"time"

	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
)

// ObjectInfo is what is known of an object.
type ObjectInfo struct {
	Key           string            `json:"key"`
	Size          int64             `json:"size"`
	Created       time.Time         `json:"created"`
	CreatedBy     string            `json:"createdBy" doc:"The access key that wrote it"`
	ETag          string            `json:"etag"`
	Digests       []DigestInfo      `json:"digests" doc:"Of the whole content"`
	ContentType   string            `json:"contentType"`
	Headers       object.Headers    `json:"headers,omitzero"`
	Metadata      map[string]string `json:"metadata,omitempty"`
	MetadataBytes int               `json:"metadataBytes" doc:"Of 2,048"`
	Revision      int               `json:"revision" doc:"Of the metadata"`
	Version       string            `json:"version" doc:"The version's id"`
	Tags          object.Tags       `json:"tags,omitempty"`
	Source        string            `json:"source,omitempty" doc:"The address it was written from"`
	Marker        bool              `json:"marker,omitempty" doc:"A delete marker: there is no content"`
	Tier          string            `json:"tier"`
	Arrived       string            `json:"arrived" doc:"Whole, or in how many parts"`
	Kept          string            `json:"kept" doc:"How the bytes lie on the volume"`
	Sealed        bool              `json:"sealed" doc:"The bytes are encrypted at rest"`
	Restored      *RestoredInfo     `json:"restored,omitempty" doc:"Of a version that is restored before it is read, when it is shown"`
	Problem       string            `json:"problem,omitempty" doc:"What is wrong with its bytes here, when it was asked to look"`
	Lacks         []bucket.Breach   `json:"lacks,omitempty" doc:"What its bucket asks of metadata and it has not"`
	Of            *ReplicaOfInfo    `json:"replicaOf,omitempty" doc:"What a current version is a replica of, when the bucket's account is shown it"`
	Replicas      []ReplicaInfo     `json:"replicas,omitempty" doc:"How a current version stands at the targets of the bucket's rules, when its account is shown it"`
	Rights        []string          `json:"rights,omitempty" doc:"What who asks may do with the object, when it is shown: list, read, write, remove, settings"`
}

// CRC64NVME is the kind of a digest that is a CRC-64/NVME.
const CRC64NVME = "CRC-64/NVME"

// CRC64 gives the CRC-64/NVME of the content in hex, "" when it is not told.
func (o *ObjectInfo) CRC64() string {
	for _, d := range o.Digests {
		if d.Kind == CRC64NVME {
			return d.Value
		}
	}
	return ""
}

// DigestInfo is a digest of the whole content.
type DigestInfo struct {
	Kind  string `json:"kind"`
	Value string `json:"value" doc:"In hex"`
}

// CopyAsk asks to copy or move an object.
type CopyAsk struct {
	FromBucket  string `json:"fromBucket"`
	FromKey     string `json:"fromKey"`
	FromVersion string `json:"fromVersion,omitempty" doc:"A version's id; the current one otherwise"`
	Key         string `json:"key"`
	Tier        string `json:"tier,omitempty" maxLength:"32" doc:"Where the copy goes; the source's otherwise"`
	Move        bool   `json:"move,omitempty" doc:"Remove the source in the same transaction"`
	IfAbsent    bool   `json:"ifAbsent,omitempty" doc:"Refuse when the target is there"`
}

// LinkAsk asks for a link to an object.
type LinkAsk struct {
	Key     string `json:"key"`
	Seconds int    `json:"seconds" minimum:"1" maximum:"604800" default:"3600"`
	With    string `json:"with,omitempty" maxLength:"128" doc:"The key that signs the link, when a person asks: one of the account's that may read the object"`
}
