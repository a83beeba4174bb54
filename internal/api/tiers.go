package api

import "time"

// TierInfo is a tier.
type TierInfo struct {
	Name      string       `json:"name"`
	Note      string       `json:"note,omitempty"`
	Copies    int          `json:"copies" doc:"Of each body, every one on another volume"`
	Pieces    string       `json:"pieces,omitempty" doc:"Data pieces and parity pieces of each body, such as 4+2, every one on another volume; absent for whole copies"`
	Packed    bool         `json:"packed" doc:"Bodies are compressed"`
	Sealed    bool         `json:"sealed" doc:"Bodies are encrypted at rest, whatever their bucket says"`
	Price     float64      `json:"price" doc:"Of a GiB kept for a month"`
	Requests  float64      `json:"requests" doc:"Price of 1,000 requests"`
	Stay      int          `json:"shortestStay" doc:"Days that are paid for at the least"`
	Restore   *RestoreInfo `json:"restore,omitempty" doc:"Versions are restored before they are read"`
	Elsewhere bool         `json:"elsewhere,omitempty" doc:"Bodies are kept by another store"`
	Revision  int          `json:"revision"`
	Keeps     string       `json:"keeps" doc:"How bodies are kept, in a line"`
	Losses    int          `json:"losses" doc:"Volumes that may be lost without losing a body"`
	Limits    []string     `json:"limits,omitempty" doc:"What cannot be done with what is in it, or not as elsewhere"`
	Warnings  []string     `json:"warnings,omitempty" doc:"What is not as safe as it looks; for operators"`
	Repair    *RepairInfo  `json:"repair,omitempty" doc:"The last repair, or the one under way; for operators"`
	Owed      int64        `json:"owed,omitempty" doc:"Bodies that lack pieces, as a volume was away when they were written; for operators"`
	Bytes     *int64       `json:"bytes,omitempty" doc:"Of the versions in it; for operators"`
	Volumes   []VolumeInfo `json:"volumes,omitempty" doc:"For operators"`
	Created   time.Time    `json:"created"`
	CreatedBy string       `json:"createdBy,omitempty" doc:"For operators"`
}

// RestoreInfo is how a tier's versions are restored.
type RestoreInfo struct {
	Seconds int64 `json:"seconds" minimum:"0" maximum:"2592000" doc:"Until a restored copy is there"`
	Days    int   `json:"days" minimum:"1" maximum:"3650" doc:"That it stays"`
}

// VolumeInfo is a directory of a tier, or its place elsewhere.
type VolumeInfo struct {
	Dir       string `json:"dir" doc:"Or @ENDPOINT/BUCKET/PREFIX"`
	Elsewhere bool   `json:"elsewhere,omitempty" doc:"It is a bucket at an endpoint, which tells of no room"`
	Free      int64  `json:"free"`
	Total     int64  `json:"total"`
	Away      string `json:"away,omitempty" doc:"Why it cannot be used"`
}

// RepairInfo is a walk over the bodies of a tier that makes copies and pieces anew.
type RepairInfo struct {
	Why      string     `json:"why"`
	Asked    time.Time  `json:"asked"`
	By       string     `json:"by"`
	Bodies   int64      `json:"bodies" doc:"That were looked at"`
	Bytes    int64      `json:"bytes" doc:"Of them"`
	Of       int64      `json:"of" doc:"Bytes of the versions in the tier"`
	Made     int64      `json:"made" doc:"Copies and pieces"`
	Damaged  int64      `json:"damaged" doc:"Bodies that nothing gives back"`
	Waiting  int64      `json:"waiting" doc:"Bodies that wait for a volume that is away"`
	After    time.Time  `json:"after" doc:"When it goes on"`
	Finished *time.Time `json:"finished,omitempty"`
}

// TierChange is what can be said of a tier; what is not named stays as it is.
type TierChange struct {
	Note     *string      `json:"note,omitempty" maxLength:"500" flag:"note"`
	Volumes  []string     `json:"volumes,omitempty" maxItems:"64" doc:"Directories to add, on the service's machine, empty or not there yet; or one bucket at an endpoint, @ENDPOINT/BUCKET or @ENDPOINT/BUCKET/PREFIX" flag:"volume"`
	Without  []string     `json:"without,omitempty" maxItems:"64" doc:"Directories to take out, of a tier that can lose them; what was on them is made anew on the others" flag:"without"`
	GiveUp   bool         `json:"giveUp,omitempty" doc:"Volumes to take out that are away are lost for good: bodies of which too little is left without them are lost, too" flag:"give-up"`
	Copies   *int         `json:"copies,omitempty" doc:"Whole copies; instead of pieces" flag:"copies"`
	Pieces   *string      `json:"pieces,omitempty" maxLength:"8" doc:"Data and parity pieces such as 4+2, instead of copies; none for one copy" flag:"pieces"`
	Packed   *bool        `json:"packed,omitempty" doc:"Compress bodies" flag:"compression"`
	Sealed   *bool        `json:"sealed,omitempty" flag:"sealing"`
	Price    *float64     `json:"price,omitempty" doc:"Of a GiB kept for a month" flag:"price"`
	Requests *float64     `json:"requests,omitempty" doc:"Price of 1,000 requests" flag:"request-price"`
	Stay     *int         `json:"shortestStay,omitempty" doc:"Days that are paid for at the least" flag:"shortest-stay"`
	Restore  *RestoreInfo `json:"restore,omitempty" doc:"Versions are restored before they are read"`
	AtOnce   bool         `json:"atOnce,omitempty" doc:"Versions are read at once, and need not be restored any more"`
}

// RestoredInfo is how far the restored copy of a version is.
type RestoredInfo struct {
	Tier  string     `json:"tier"`
	Asked *time.Time `json:"asked,omitempty" doc:"Absent when nobody asked for one"`
	Due   *time.Time `json:"due,omitempty" doc:"When it will be there, or was"`
	Until *time.Time `json:"until,omitempty" doc:"Until when it is there; absent before"`
	Fault string     `json:"fault,omitempty" doc:"Why it cannot be made"`
}

// NewTier is what a new tier begins with.
type NewTier struct {
	Name string `json:"name" maxLength:"64"`
	TierChange
}

// TierUpdate is a change of what is there.
type TierUpdate struct {
	TierChange
	Revision
}

// RestoreAsk asks to restore a version of a slow tier, so that it can be read.
type RestoreAsk struct {
	Key     string `json:"key"`
	Version string `json:"version,omitempty" maxLength:"64" doc:"A version's id; the current one otherwise"`
	Days    int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"That the copy stays; as the tier says otherwise"`
}
