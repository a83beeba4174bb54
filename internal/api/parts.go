package api

import "time"

// UploadPart is a part of an unfinished upload.
type UploadPart struct {
	Number int       `json:"number"`
	Size   int64     `json:"size"`
	ETag   string    `json:"etag"`
	CRC64  string    `json:"crc64" doc:"CRC-64/NVME, in hex"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Source string    `json:"source,omitempty" doc:"The address it came from"`
}

// PartName names a part of the object to be.
type PartName struct {
	Number int    `json:"number"`
	ETag   string `json:"etag,omitempty" doc:"What it must have"`
}

// PartPage is a page of a list.
type PartPage struct {
	UploadInfo
	List []UploadPart `json:"list" doc:"The parts that are there, by number"`
}

// CompleteAsk asks to complete an upload.
type CompleteAsk struct {
	Parts    []PartName `json:"parts,omitempty" maxItems:"10000"`
	Size     int64      `json:"size,omitempty" doc:"Of the whole: compared when it is given"`
	IfAbsent bool       `json:"ifAbsent,omitempty"`
}
