package syncing

import (
	"errors"
	"path"
	"regexp"
	"strings"
	"time"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/runs"
	"spindle/internal/core/sealing"
)

// Place is a side of a job: a folder of the service's machine, a bucket here, or one at an
// endpoint, with a prefix.
type Place struct {
	Folder   string `json:"folder,omitempty"` // absolute; "" for a bucket
	Endpoint string `json:"-"`                // "": here
	Bucket   string `json:"bucket,omitempty"`
	Prefix   string `json:"prefix,omitempty"` // "" or ending in a slash
}

// ParsePlace reads /FOLDER, BUCKET[/PREFIX/] or @ENDPOINT/BUCKET[/PREFIX/]. The errors have
// the codes folder, address, endpoint-name and bucket-name.
func ParsePlace(s string) (Place, error) {
	if strings.HasPrefix(s, "/") {
		if path.Clean(s) == "/" || strings.ContainsRune(s, 0) {
			return Place{}, fault.New(fault.Invalid, "folder", "%q is no folder to sync",
				s).Do("name one beneath a root of the service")
		}
		return Place{Folder: path.Clean(s)}, nil
	}
	a, err := endpoint.ParseAddress(s)
	if err != nil {
		return Place{}, err
	}
	p := Place{Endpoint: a.Endpoint, Bucket: a.Bucket, Prefix: a.Key}
	if p.Bucket == "" {
		return p, fault.New(fault.Invalid, "address", "%q names no bucket", s).Do("give BUCKET, @ENDPOINT/BUCKET or a folder")
	}
	if p.Prefix != "" && !strings.HasSuffix(p.Prefix, "/") {
		p.Prefix += "/"
	}
	return p, nil
}

// String writes a place as it is read.
func (p Place) String() string {
	if p.Folder != "" {
		return p.Folder
	}
	s := p.Bucket + "/" + p.Prefix
	if p.Endpoint != "" {
		s = "@" + p.Endpoint + "/" + s
	}
	return s
}

// Whole names all that a place is in, whatever its prefix: no two jobs write into one at a
// time.
func (p Place) Whole() string {
	p.Prefix = ""
	return p.String()
}

// touches reports whether one of two places is in the other.
func (p Place) touches(o Place) bool {
	if p.Folder != "" || o.Folder != "" {
		a, b := p.Folder+"/", o.Folder+"/"
		return p.Folder != "" && o.Folder != "" && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a))
	}
	return p.Endpoint == o.Endpoint && p.Bucket == o.Bucket &&
		(strings.HasPrefix(p.Prefix, o.Prefix) || strings.HasPrefix(o.Prefix, p.Prefix))
}

// Bounds of a job.
const (
	MaxParallel = 64
	MaxNote     = 500 // bytes
)

// Job is a standing order to bring one side to another.
type Job struct {
	ID       int64
	Account  string
	Name     string
	On       bool // it runs by its schedule
	From, To Place
	Spec
	Revision int
	Created  time.Time
	Changed  time.Time // by Who, with whose rights it runs
	Who      string
	Source   string // the address that Who came from
	Next     *time.Time
	FromMark string // what the sides were at the last run that was good
	ToMark   string
	Secret   []byte // what the keys of Seals are made of, sealed for the catalog
}

// Spec says how a job is done, as it is kept.
type Spec struct {
	Note     string        `json:"note,omitempty"`
	Mode     Mode          `json:"mode"`
	By       By            `json:"by"`
	Like     []string      `json:"like,omitempty"`
	LeaveOut []string      `json:"leaveOut,omitempty"`
	SizeFrom *int64        `json:"sizeFrom,omitempty"`
	SizeTo   *int64        `json:"sizeTo,omitempty"`
	OlderBy  time.Duration `json:"olderBy,omitempty"`
	NewerBy  time.Duration `json:"newerBy,omitempty"`
	Links    string        `json:"links,omitempty"`
	Class    string        `json:"class,omitempty"`
	Sealed   bool          `json:"sealed,omitempty"` // at rest
	Parallel int           `json:"parallel"`
	Guard    Guard         `json:"guard"`
	Schedule string        `json:"schedule,omitempty"` // "": by hand
	Zone     string        `json:"zone,omitempty"`     // of the schedule and the limits

	Tags   object.Tags   `json:"tags,omitempty"`   // that an object must have to take part
	Where  string        `json:"where,omitempty"`  // what must hold of it, as ParseWhere gives it
	Limits []Limit       `json:"limits,omitempty"` // bandwidth by time of day
	Seals  *sealing.Mark `json:"seals,omitempty"`  // how what leaves is sealed; nil: it is not

	Prefix   string     `json:"prefix,omitempty"`   // of keys that take part
	Restores string     `json:"restores,omitempty"` // the job whose settings are turned round: the source is sealed
	AsOf     *time.Time `json:"asOf,omitempty"`     // the source as it was then; nil: as it is
}

// Opens reports whether it is the source that is sealed.
func (s *Spec) Opens() bool { return s.Seals != nil && s.Restores != "" }

var jobName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// Check refuses a job that cannot be, all that is wrong at once.
func (j *Job) Check() error {
	var all []error
	bad := func(field, code, says, remedy string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	if !jobName.MatchString(j.Name) {
		bad("name", "job-name", "%q is no name for a job", "take 2 to 63 lower-case letters, digits and hyphens", j.Name)
	}
	if j.From.touches(j.To) {
		bad("to", "sync-itself", "%s and %s are in each other", "choose sides that are apart", j.From, j.To)
	}
	if _, err := ParseMode(string(j.Mode)); err != nil {
		all = append(all, err)
	}
	if _, err := ParseBy(string(j.By)); err != nil {
		all = append(all, err)
	}
	if _, err := j.Options(); err != nil {
		all = append(all, err)
	}
	if j.Parallel < 1 || j.Parallel > MaxParallel {
		bad("parallel", "parallel", "1 to %d objects are under way at a time", "give a number in between", MaxParallel)
	}
	if j.Guard.Share < 0 || j.Guard.Share > 1 || j.Guard.Most < 0 {
		bad("guard", "guard", "the guard is a share from 0 to 100 %% and a number of objects",
			"leave it out for 10 %% or 1,000 objects")
	}
	if err := checkLimits(j.Limits); err != nil {
		all = append(all, err)
	}
	if j.Sealed && j.Seals != nil && (j.To.Folder != "" || j.To.Endpoint != "") {
		bad("sealed", "sealed-twice", "what is sealed before it leaves need not be encrypted at rest too",
			"leave one of them out")
	}
	if j.AsOf != nil && j.From.Folder != "" {
		bad("asOf", "as-of-folder", "a folder keeps no earlier states", "leave the moment out")
	}
	if len(j.Note) > MaxNote {
		bad("note", "note", "the note has %d bytes, and %d are allowed", "shorten it", len(j.Note), MaxNote)
	}
	return errors.Join(all...)
}

// Sentence says what the job does.
func (j *Job) Sentence() string {
	says := "What is new or changed in " + j.From.String()
	if j.AsOf != nil {
		says += ", as it was on " + j.AsOf.UTC().Format("2 January 2006 at 15:04 UTC") + ","
	}
	says += " is written to " + j.To.String()
	switch {
	case j.Opens():
		says += ", opened with the passphrase"
	case j.Seals != nil && j.Seals.Names:
		says += ", contents and names sealed before they leave"
	case j.Seals != nil:
		says += ", contents sealed before they leave"
	}
	switch j.Mode {
	case Mirror:
		return says + ", and what is gone from the source is removed at the target."
	case Drain:
		return says + ", and what has arrived, was read back and agrees is removed at the source."
	}
	return says + "; nothing is removed."
}

// Options gives how the job's sides are compared.
func (j *Job) Options() (Options, error) {
	o := Options{Mode: j.Mode, By: j.By, Back: j.Restores != "", Filter: Filter{SizeFrom: j.SizeFrom, SizeTo: j.SizeTo,
		OlderBy: j.OlderBy,
		NewerBy: j.NewerBy, Tags: j.Tags, Prefix: j.Prefix}}
	var err error
	if o.Filter.Where, err = ParseWhere(j.Where, j.Changed); err != nil {
		return o, fault.From(err).In("where")
	}
	for _, x := range []struct {
		field string
		list  []string
		into  *[]pattern.Pattern
	}{{"like", j.Like, &o.Filter.Like}, {"leaveOut", j.LeaveOut, &o.Filter.LeaveOut}} {
		for _, s := range x.list {
			p, err := pattern.Parse(s)
			if err != nil {
				return o, fault.From(err).In(x.field)
			}
			*x.into = append(*x.into, p)
		}
	}
	return o, nil
}

// Back gives a job that brings back what this one wrote: its settings turned round. Nothing
// is removed by it, and it runs once, by hand.
func (j *Job) Back(prefix string, asOf *time.Time) *Job {
	b := &Job{Account: j.Account, Name: j.Name + "-restore", On: true, From: j.To, To: j.From, Secret: j.Secret,
		Spec: j.Spec}
	b.Mode, b.Note, b.Schedule, b.Class, b.Sealed, b.Guard = Accumulate, "", "", "", false, Usual
	b.OlderBy, b.NewerBy, b.Tags, b.Where = 0, 0, nil, ""
	b.Restores, b.Prefix, b.AsOf = j.Name, prefix, asOf
	return b
}

// Run is one execution of a job.
type Run struct {
	runs.Run
	Anyway bool // the guard does not stop it
	Tally  Tally
}

// Tally is what a run has come to so far.
type Tally struct {
	Plan     Totals `json:"plan"`
	Written  Sum    `json:"written"`
	Same     Sum    `json:"same"`
	Removed  Sum    `json:"removed"`
	Drained  Sum    `json:"drained"`
	AtHand   Sum    `json:"atHand"` // of what was written: copied at the target, not sent
	Failed   int64  `json:"failed"`
	NotTaken int64  `json:"notRemoved"`
	Moved    int64  `json:"moved"` // bytes that were sent
}

// Outcome is what became of an object in a run.
type Outcome struct {
	Seq   int64
	Key   string
	Do    Deed
	Why   Why
	Bytes int64
	Code  string // of what failed; "": it was done
	Says  string
}
