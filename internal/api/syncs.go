package api

import (
	"time"

	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
)

// SyncInfo is a job that brings one side to another.
type SyncInfo struct {
	ID        int64        `json:"id" doc:"By which figures that are watched know it"`
	Name      string       `json:"name"`
	On        bool         `json:"on" doc:"It runs by its schedule"`
	From      string       `json:"from" doc:"A folder of the service's machine, BUCKET/PREFIX/ or @ENDPOINT/BUCKET/PREFIX/"`
	To        string       `json:"to"`
	Mode      string       `json:"mode" enum:"accumulate,mirror,drain"`
	Says      string       `json:"says" doc:"What it does, in a sentence"`
	Note      string       `json:"note,omitempty"`
	By        string       `json:"by" enum:"time,digest,size" doc:"What is compared, where no digests are told"`
	Like      []string     `json:"like,omitempty"`
	LeaveOut  []string     `json:"leaveOut,omitempty"`
	SizeFrom  *int64       `json:"sizeFrom,omitempty"`
	SizeTo    *int64       `json:"sizeTo,omitempty"`
	Older     float64      `json:"older,omitempty" doc:"Seconds"`
	Newer     float64      `json:"newer,omitempty" doc:"Seconds"`
	Links     string       `json:"links,omitempty" enum:"skip,follow,keep"`
	Class     string       `json:"class,omitempty" doc:"Tier here, storage class there"`
	Sealed    bool         `json:"sealed,omitempty" doc:"Encrypted at rest"`
	Parallel  int          `json:"parallel"`
	Share     float64      `json:"guardShare" doc:"Percent of the target that may be removed or replaced without asking"`
	Most      int64        `json:"guardMost" doc:"Objects that may be"`
	Schedule  string       `json:"schedule,omitempty"`
	Zone      string       `json:"zone,omitempty"`
	Next      *time.Time   `json:"next,omitempty" doc:"When the schedule is due"`
	Tags      object.Tags  `json:"tags,omitempty" doc:"That an object must have to take part"`
	Where     string       `json:"where,omitempty" doc:"What must hold of an object that takes part, as an expression of find"`
	Prefix    string       `json:"prefix,omitempty" doc:"Of keys that take part"`
	Bandwidth []string     `json:"bandwidth,omitempty" doc:"Limits, such as 2MiB, or 08:00-18:00 2MiB"`
	Sealing   string       `json:"sealing" enum:"none,content,names" doc:"What is sealed before it leaves: contents, or names too"`
	Salt      string       `json:"salt,omitempty" doc:"Of the passphrase; no secret"`
	Restores  string       `json:"restores,omitempty" doc:"The job that this one brings back"`
	AsOf      *time.Time   `json:"asOf,omitempty" doc:"The source is read as it was then"`
	Revision  int          `json:"revision"`
	Created   time.Time    `json:"created"`
	ChangedBy string       `json:"changedBy" doc:"With whose rights it runs"`
	Last      *SyncRunInfo `json:"last,omitempty" doc:"Its latest run"`
}

// SyncRunInfo is one execution of a job.
type SyncRunInfo struct {
	ID       int64       `json:"id"`
	State    string      `json:"state" enum:"waiting,running,asking,done,partly,failed,stopped"`
	Who      string      `json:"who" doc:"Who asked for it, or schedule"`
	Anyway   bool        `json:"anyway,omitempty" doc:"The guard does not stop it"`
	Asked    time.Time   `json:"asked"`
	Started  *time.Time  `json:"started,omitempty"`
	Ended    *time.Time  `json:"ended,omitempty"`
	Code     string      `json:"code,omitempty"`
	Says     string      `json:"says,omitempty" doc:"Why it asks, waits or failed"`
	Total    syncing.Sum `json:"total" doc:"That were to be written, removed or looked at closer"`
	Written  syncing.Sum `json:"written"`
	Same     syncing.Sum `json:"same"`
	Removed  syncing.Sum `json:"removed" doc:"At the target"`
	Drained  syncing.Sum `json:"drained" doc:"At the source"`
	AtHand   syncing.Sum `json:"atHand" doc:"Of what was written: copied at the target, not sent"`
	Failed   int64       `json:"failed"`
	NotTaken int64       `json:"notRemoved" doc:"Removals that were left, because something failed"`
	Moved    int64       `json:"moved" doc:"Bytes that were sent"`
}

// SyncChange is what can be said of a sync job; what is not named stays as it is.
type SyncChange struct {
	On       *bool     `json:"on,omitempty" flag:"state"`
	From     *string   `json:"from,omitempty" maxLength:"1200" flag:"from"`
	To       *string   `json:"to,omitempty" maxLength:"1200" flag:"to"`
	Mode     *string   `json:"mode,omitempty" maxLength:"20" flag:"mode"`
	Note     *string   `json:"note,omitempty" maxLength:"500" flag:"note"`
	By       *string   `json:"by,omitempty" maxLength:"20" flag:"by"`
	Like     *[]string `json:"like,omitempty" maxItems:"100" flag:"like"`
	LeaveOut *[]string `json:"leaveOut,omitempty" maxItems:"100" flag:"leave-out"`
	SizeFrom *int64    `json:"sizeFrom,omitempty" doc:"Bytes; below 0: none" flag:"size-from"`
	SizeTo   *int64    `json:"sizeTo,omitempty" doc:"Bytes; below 0: none" flag:"size-to"`
	Older    *float64  `json:"older,omitempty" minimum:"0" doc:"Seconds" flag:"older,long"`
	Newer    *float64  `json:"newer,omitempty" minimum:"0" doc:"Seconds" flag:"newer,long"`
	Links    *string   `json:"links,omitempty" maxLength:"20" flag:"links"`
	Class    *string   `json:"class,omitempty" maxLength:"64" flag:"tier"`
	Sealed   *bool     `json:"sealed,omitempty"`
	Parallel *int      `json:"parallel,omitempty" flag:"parallel"`
	Share    *float64  `json:"guardShare,omitempty" doc:"Percent"`
	Most     *int64    `json:"guardMost,omitempty"`
	Schedule *string   `json:"schedule,omitempty" maxLength:"100" doc:"Five fields, such as 30 2 * * 1, or @hourly, @daily, @weekly, @monthly; empty: by hand" flag:"schedule,none"`
	Zone     *string   `json:"zone,omitempty" maxLength:"64" doc:"Of schedule and limits, such as Europe/Oslo; empty: UTC" flag:"zone"`

	Tags      *map[string]string `json:"tags,omitempty" flag:"tag"`
	Where     *string            `json:"where,omitempty" maxLength:"4000" doc:"Only objects for which this expression of find holds: of key, type, size, changed, md5, crc64, field, tag; empty: all" flag:"where,none"`
	Bandwidth *[]string          `json:"bandwidth,omitempty" maxItems:"24" doc:"Limits, such as 2MiB, or 08:00-18:00 2MiB; the first that is for the time of day holds" flag:"bandwidth"`

	Sealing    *string `json:"sealing,omitempty" enum:"none,content,names" doc:"What is sealed before it leaves: contents, or names too"`
	Passphrase *string `json:"passphrase,omitempty" maxLength:"1000" doc:"Of what is sealed; it is not shown again"`
	Kept       bool    `json:"passphraseKept,omitempty" doc:"You keep the passphrase elsewhere: losing it loses what is sealed"`
}

// SyncRehearsal is what a run would do.
type SyncRehearsal struct {
	Kinds []RehearsedKind `json:"kinds"`
	Asks  string          `json:"asks,omitempty" doc:"Why a run would stop and ask"`
	More  bool            `json:"more,omitempty" doc:"It took too long, and ended here"`

	AtHand syncing.Sum `json:"atHand" doc:"Of what is new: at the target under another key, and copied there"`
	Says   string      `json:"says" doc:"What the job does, in a sentence"`
	Undo   string      `json:"undo" enum:"can,cannot,unknown" doc:"Whether what is replaced or removed at the target can be brought back there"`
}

// Differ reports whether a run would change anything.
func (r *SyncRehearsal) Differ() bool {
	for _, k := range r.Kinds {
		if k.Do == string(syncing.Write) || k.Do == string(syncing.Remove) || k.Do == string(syncing.Refuse) {
			return true
		}
	}
	return false
}

// RehearsedKind is what would be done for one reason.
type RehearsedKind struct {
	Do       string      `json:"do" enum:"write,skip,remove,leave,refuse"`
	Why      string      `json:"why"`
	Sum      syncing.Sum `json:"sum"`
	Examples []string    `json:"examples" doc:"Keys, at most 20"`
}

// RehearsedStep is a line of a rehearsal that lists all (JSON lines): an object, or at the end what
// went wrong, or nothing.
type RehearsedStep struct {
	Key     string   `json:"key,omitempty"`
	Do      string   `json:"do,omitempty"`
	Why     string   `json:"why,omitempty"`
	Bytes   int64    `json:"bytes,omitempty"`
	Done    bool     `json:"done,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
}

// NewSync is what a new sync job begins with.
type NewSync struct {
	Name string `json:"name" maxLength:"63"`
	SyncChange
}

// SyncUpdate is a change of what is there.
type SyncUpdate struct {
	SyncChange
	Revision
}
