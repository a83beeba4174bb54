package api

// Quantity is a number of objects and bytes that something would touch or did.
type Quantity struct {
	Objects       int64    `json:"objects"`
	Bytes         int64    `json:"bytes"`
	Previous      int64    `json:"previous,omitempty" doc:"Previous versions"`
	PreviousBytes int64    `json:"previousBytes,omitempty"`
	Markers       int64    `json:"markers,omitempty" doc:"Delete markers"`
	Versioning    string   `json:"versioning,omitempty" doc:"Of the bucket, in a rehearsal: where it is on, objects are deleted with a delete marker and can be brought back"`
	More          bool     `json:"more,omitempty" doc:"There is more to do: call again"`
	Retained      []string `json:"retained,omitempty" doc:"Keys of which something must be kept: they stay; 100 are named"`
}

// RemoveIn says what to remove.
type RemoveIn struct {
	Keys     []string `json:"keys,omitempty" maxItems:"1000" doc:"Their current objects; where versioning is on or paused a delete marker is left"`
	Versions []struct {
		Key     string `json:"key"`
		Version string `json:"version"`
	} `json:"versions,omitempty" maxItems:"1000" doc:"Versions or delete markers, for good"`
	Prefix       *string `json:"prefix,omitempty" doc:"All beneath it; empty for the whole bucket; absent for none"`
	WithVersions bool    `json:"withVersions,omitempty" doc:"Beneath the prefix, previous versions and delete markers too, for good"`
	Rehearse     bool    `json:"rehearse,omitempty"`
}

// RemoveAsk asks to remove objects.
type RemoveAsk struct {
	RemoveIn
}
