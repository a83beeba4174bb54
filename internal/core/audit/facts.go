package audit

import "time"

// Facts are what an account has, as far as checks look at it.
type Facts struct {
	Now       time.Time
	Buckets   []Bucket
	Keys      []Key
	Grants    []Grant
	Endpoints []Endpoint
	Targets   []Target
	Jobs      []Job
	Rules     []IdleRule
	Posts     []Failing
	Censuses  []Failing
	Conflicts []Conflict
	Drifts    []Drift
	Disks     []Disk // of the service, for accounts that operate it
}

// Drift is a charter of which things are not as it declares.
type Drift struct {
	Charter string
	Things  int
	Such    string // one of them
}

// Conflict is a rule or a job that another one works against.
type Conflict struct {
	Subject string
	Says    string
	Fix     string // a command
	Page    string
}

// Disk is where the bodies of a tier are.
type Disk struct {
	Tier        string
	Free, Total int64      // bytes
	FullOn      *time.Time // when it goes on so; nil: not soon
}

// IdleRule is a lifecycle rule that is on and never acted on anything.
type IdleRule struct {
	Bucket, Name string
	Saved        time.Time
}

// Failing is something that failed the last time, and why.
type Failing struct{ Name, Says string }

// Bucket is a bucket.
type Bucket struct {
	Name          string
	Versioning    string // on, off or paused
	Objects       int64
	Bytes         int64
	Previous      int64 // versions
	PreviousBytes int64
	Quota         *int64 // bytes
	CleansUp      bool   // a rule that is on removes or moves previous versions
	Abandons      bool   // a rule that is on abandons unfinished uploads
	Unfinished    int64  // uploads begun more than 7 days ago
	Held          int64  // bytes of them
	Lacking       int64  // objects whose metadata is not what the bucket asks for
	LackingMore   bool   // not all were looked at
	Copied        bool   // a replication rule or a sync job copies it elsewhere
}

// Key is an access key that is on.
type Key struct {
	ID, Name string
	Role     string
	Operator bool
	Limited  bool       // to buckets or prefixes
	Used     *time.Time // nil: never
	Created  time.Time
	Expires  *time.Time
}

// Grant is an opening to anyone.
type Grant struct {
	ID             int64
	Bucket, Prefix string
	Rights         string
	Expires        *time.Time
}

// Endpoint is another store.
type Endpoint struct {
	Name    string
	State   string
	Says    string
	Checked *time.Time
}

// Target is where a replication rule copies to.
type Target struct {
	Rule, Address string
	On            bool
	Waiting       int64
	Failed        int64
	Oldest        *time.Time // of what waits
	Lagging       string     // what is promised of its lag and not kept; "": all is
	Verified      *time.Time // the last verify that was good
	Created       time.Time  // the rule
}

// Job is a sync job.
type Job struct {
	Name, To  string
	On        bool
	Scheduled bool
	Restores  bool   // it is a restore
	State     string // of the last run; "" for none
	Says      string
	Ended     *time.Time // the last run that was good
	Restored  *time.Time // when a restore of it was last good
	Created   time.Time
}
