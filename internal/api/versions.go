package api

import (
	"time"

	"spindle/internal/core/object"
)

// HistoryVersion is a version in the history of a key.
type HistoryVersion struct {
	Version   string            `json:"version" doc:"The version's id"`
	Number    int64             `json:"number" doc:"Greater is later"`
	Marker    bool              `json:"marker,omitempty" doc:"A delete marker"`
	Latest    bool              `json:"latest,omitempty"`
	Size      int64             `json:"size"`
	Created   time.Time         `json:"created"`
	By        string            `json:"by"`
	Source    string            `json:"source,omitempty" doc:"The address it was written from"`
	ETag      string            `json:"etag,omitempty"`
	Replaced  time.Time         `json:"replaced,omitzero" doc:"When the next one came; absent for the latest"`
	Origin    *OriginInfo       `json:"origin,omitempty" doc:"Where it came from, if it was not simply written"`
	Revision  int               `json:"revision" doc:"Of its metadata"`
	Metadata  map[string]string `json:"metadata,omitempty"`
	Tags      object.Tags       `json:"tags,omitempty"`
	Revisions []RevisionInfo    `json:"revisions,omitempty" doc:"Changes of its metadata, first one first"`
}

// RevisionInfo is a change of a version's metadata.
type RevisionInfo struct {
	Revision int               `json:"revision" doc:"The one that the change made"`
	At       time.Time         `json:"at"`
	By       string            `json:"by"`
	Source   string            `json:"source,omitempty"`
	Before   map[string]string `json:"before,omitempty" doc:"The metadata before it"`
	Tags     object.Tags       `json:"tagsBefore,omitempty"`
}

// OriginInfo says where a version came from, or where an object went.
type OriginInfo struct {
	How     string    `json:"how" enum:"restored,renamed,copied"`
	Bucket  string    `json:"bucket"`
	Key     string    `json:"key"`
	Version string    `json:"version"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
}

// Chapter is the history of one name of an object.
type Chapter struct {
	Bucket   string           `json:"bucket"`
	Key      string           `json:"key"`
	Versions []HistoryVersion `json:"versions" doc:"Newest first"`
	Went     []OriginInfo     `json:"went,omitempty" doc:"Renames away from this name, latest first"`
	Next     int64            `json:"next,omitempty" doc:"Give it as before for older versions; absent at the end"`
}

// ListedVersion is a version in a page of a bucket's versions.
type ListedVersion struct {
	Key     string    `json:"key"`
	Version string    `json:"version"`
	Number  int64     `json:"number"`
	Latest  bool      `json:"latest,omitempty"`
	Marker  bool      `json:"marker,omitempty"`
	Size    int64     `json:"size"`
	Created time.Time `json:"created"`
	By      string    `json:"by"`
}

// VersionPage is a page of all versions: keys in byte order, the versions of
// each newest first.
type VersionPage struct {
	Versions    []ListedVersion `json:"versions"`
	Prefixes    []string        `json:"prefixes"`
	Next        string          `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
	NextVersion int64           `json:"nextVersion,omitempty" doc:"Give it as afterVersion"`
}

// RestoreVersionAsk asks to make an older version of an object current.
type RestoreVersionAsk struct {
	Key     string `json:"key"`
	Version string `json:"version,omitempty" maxLength:"64"`
	AsOf    string `json:"asOf,omitempty" maxLength:"64" doc:"The version that was current at this moment, with the metadata of then"`
}

// ObjectChange says what to change of an object's metadata.
type ObjectChange struct {
	Metadata    object.Edit `json:"metadata,omitempty"`
	Tags        object.Edit `json:"tags,omitempty"`
	ContentType *string     `json:"contentType,omitempty" maxLength:"256" flag:"content-type"`
	Revision
}
