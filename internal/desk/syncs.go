package desk

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/side"
	"spindle/internal/works"
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

func syncRunInfo(r *syncing.Run) *SyncRunInfo {
	t := r.Tally
	p := t.Plan
	return &SyncRunInfo{ID: r.ID, State: string(r.State), Who: r.Who, Anyway: r.Anyway, Asked: r.Asked, Started: r.Started,
		Ended: r.Ended, Code: r.Code, Says: r.Says, Total: p.New.Plus(p.Replace).Plus(p.Remove).Plus(p.Doubt),
		Written: t.Written,
		Same:    t.Same, Removed: t.Removed, Drained: t.Drained, AtHand: t.AtHand, Failed: t.Failed, NotTaken: t.NotTaken,
		Moved: t.Moved}
}

func syncInfo(j *syncing.Job, last *syncing.Run) SyncInfo {
	x := SyncInfo{ID: j.ID, Name: j.Name, On: j.On, From: j.From.String(), To: j.To.String(), Mode: string(j.Mode),
		Note: j.Note,
		By:   string(j.By), Like: j.Like, LeaveOut: j.LeaveOut, SizeFrom: j.SizeFrom, SizeTo: j.SizeTo,
		Older: j.OlderBy.Seconds(), Newer: j.NewerBy.Seconds(), Links: j.Links, Class: j.Class, Sealed: j.Sealed,
		Parallel: j.Parallel, Share: 100 * j.Guard.Share, Most: j.Guard.Most, Schedule: j.Schedule, Zone: j.Zone,
		Next:     j.Next,
		Revision: j.Revision, Created: j.Created, ChangedBy: j.Who, Says: j.Sentence(), Tags: j.Tags, Where: j.Where,
		Prefix:  j.Prefix,
		Sealing: "none", Restores: j.Restores, AsOf: j.AsOf}
	for _, l := range j.Limits {
		x.Bandwidth = append(x.Bandwidth, l.String())
	}
	if j.Seals != nil {
		x.Salt = j.Seals.Salt.String()
		if x.Sealing = "content"; j.Seals.Names {
			x.Sealing = "names"
		}
	}
	if last != nil {
		x.Last = syncRunInfo(last)
	}
	return x
}

func (d *Desk) syncCalls(to *calls) {
	mine := rule{admin: true}
	const one = "/syncs/{sync}"
	call(to, mine, "list-syncs", "GET /syncs", "sync", "List sync jobs", d.listSyncs)
	call(to, mine, "show-sync", "GET "+one, "sync", "Show a sync job", d.showSync)
	call(to, mine, "add-sync", "POST /syncs", "sync", "Add a sync job", d.addSync, answers(201))
	call(to, mine, "change-sync", "PATCH "+one, "sync", "Change a sync job", d.changeSync)
	call(to, mine, "remove-sync", "DELETE "+one, "sync", "Remove a sync job with its runs", d.removeSync, answers(204))
	call(to, mine, "rehearse-sync", "POST "+one+"/rehearse", "sync", "Say what a run would do, and why", d.rehearseSync)
	call(to, mine, "rehearse-new-sync", "POST /syncs/rehearse", "sync", "Say what a job would do before it is saved",
		d.rehearseNewSync)
	call(to, mine, "list-sync-runs", "GET "+one+"/runs", "sync", "List the runs of a job, latest first", d.syncRuns)
	call(to, mine, "show-sync-run", "GET "+one+"/runs/{run}", "sync", "Show a run", d.showSyncRun)
	call(to, mine, "run-sync", "POST "+one+"/runs", "sync", "Run a job now, or let a run that asks go on", d.runSync,
		answers(201))
	call(to, mine, "stop-sync-run", "POST "+one+"/runs/{run}/stop", "sync", "Stop a run", d.stopSyncRun, answers(204))
	call(to, mine, "restore-sync", "POST "+one+"/restore", "sync",
		"Make a job that brings back what this one wrote; rehearse it, and run it", d.restoreSync, answers(201))
	call(to, mine, "sync-sheet", "GET "+one+"/sheet", "sync",
		"What to do when everything here is gone; no secret is in it",
		d.syncSheet)
	call(to, mine, "list-sync-outcomes", "GET "+one+"/runs/{run}/outcomes", "sync",
		"List what became of objects that are not as they were", d.syncOutcomes)
}

// SyncPath names a sync job of the account one acts in.
type SyncPath struct {
	Sync string `path:"sync" maxLength:"63"`
}

type syncOut struct{ Body SyncInfo }

func (d *Desk) mySync(ctx context.Context, name string) (*syncing.Job, error) {
	return d.store.Catalog.Sync(ctx, who(ctx).subject.Account, name)
}

func (d *Desk) oneSync(ctx context.Context, name string) (*syncOut, error) {
	j, err := d.mySync(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.syncInfos(ctx, []*syncing.Job{j})
	if err != nil {
		return nil, err
	}
	return &syncOut{list[0]}, nil
}

func (d *Desk) syncInfos(ctx context.Context, list []*syncing.Job) ([]SyncInfo, error) {
	return withRuns(list, func(j *syncing.Job) int64 { return j.ID }, func(ids []int64) (map[int64]syncing.Run, error) {
		return d.store.Catalog.LastSyncRuns(ctx, ids)
	}, syncInfo)
}

func (d *Desk) showSync(ctx context.Context, in *SyncPath) (*syncOut, error) {
	return d.oneSync(ctx, in.Sync)
}

func (d *Desk) listSyncs(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"63"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (out *struct {
	Body struct {
		Syncs []SyncInfo `json:"syncs"`
		Next  string     `json:"next,omitempty"`
	}
}, err error) {
	all, err := d.store.Catalog.Syncs(ctx, who(ctx).subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &fresh(&out).Body
	all, body.Next = cut(all, in.Limit, func(j *syncing.Job) string { return j.Name })
	body.Syncs, err = d.syncInfos(ctx, all)
	return out, err
}

// SyncChange is what can be said of a sync job; what is not named stays as it is.
type SyncChange struct {
	On       *bool     `json:"on,omitempty"`
	From     *string   `json:"from,omitempty" maxLength:"1200"`
	To       *string   `json:"to,omitempty" maxLength:"1200"`
	Mode     *string   `json:"mode,omitempty" maxLength:"20"`
	Note     *string   `json:"note,omitempty" maxLength:"500"`
	By       *string   `json:"by,omitempty" maxLength:"20"`
	Like     *[]string `json:"like,omitempty" maxItems:"100"`
	LeaveOut *[]string `json:"leaveOut,omitempty" maxItems:"100"`
	SizeFrom *int64    `json:"sizeFrom,omitempty" doc:"Bytes; below 0: none"`
	SizeTo   *int64    `json:"sizeTo,omitempty" doc:"Bytes; below 0: none"`
	Older    *float64  `json:"older,omitempty" minimum:"0" doc:"Seconds"`
	Newer    *float64  `json:"newer,omitempty" minimum:"0" doc:"Seconds"`
	Links    *string   `json:"links,omitempty" maxLength:"20"`
	Class    *string   `json:"class,omitempty" maxLength:"64"`
	Sealed   *bool     `json:"sealed,omitempty"`
	Parallel *int      `json:"parallel,omitempty"`
	Share    *float64  `json:"guardShare,omitempty" doc:"Percent"`
	Most     *int64    `json:"guardMost,omitempty"`
	Schedule *string   `json:"schedule,omitempty" maxLength:"100" doc:"Five fields, such as 30 2 * * 1, or @hourly, @daily, @weekly, @monthly; empty: by hand"`
	Zone     *string   `json:"zone,omitempty" maxLength:"64" doc:"Of schedule and limits, such as Europe/Oslo; empty: UTC"`

	Tags      *map[string]string `json:"tags,omitempty"`
	Where     *string            `json:"where,omitempty" maxLength:"4000" doc:"Only objects for which this expression of find holds: of key, type, size, changed, md5, crc64, field, tag; empty: all"`
	Bandwidth *[]string          `json:"bandwidth,omitempty" maxItems:"24" doc:"Limits, such as 2MiB, or 08:00-18:00 2MiB; the first that is for the time of day holds"`

	Sealing    *string `json:"sealing,omitempty" enum:"none,content,names" doc:"What is sealed before it leaves: contents, or names too"`
	Passphrase *string `json:"passphrase,omitempty" maxLength:"1000" doc:"Of what is sealed; it is not shown again"`
	Kept       bool    `json:"passphraseKept,omitempty" doc:"You keep the passphrase elsewhere: losing it loses what is sealed"`
}

func (c *SyncChange) apply(j *syncing.Job, now time.Time) (err error) {
	set(&j.On, c.On)
	set(&j.Note, c.Note)
	set(&j.Like, c.Like)
	set(&j.LeaveOut, c.LeaveOut)
	set(&j.Class, c.Class)
	set(&j.Sealed, c.Sealed)
	set(&j.Parallel, c.Parallel)
	set(&j.Guard.Most, c.Most)
	set(&j.Schedule, c.Schedule)
	set(&j.Zone, c.Zone)
	set((*string)(&j.Mode), c.Mode)
	set((*string)(&j.By), c.By)
	if c.Share != nil {
		j.Guard.Share = *c.Share / 100
	}
	for _, x := range []struct {
		into **int64
		v    *int64
	}{{&j.SizeFrom, c.SizeFrom}, {&j.SizeTo, c.SizeTo}} {
		if x.v != nil {
			if *x.into = x.v; *x.v < 0 {
				*x.into = nil
			}
		}
	}
	for into, v := range map[*time.Duration]*float64{&j.OlderBy: c.Older, &j.NewerBy: c.Newer} {
		if v != nil {
			*into = time.Duration(*v * float64(time.Second))
		}
	}
	for _, x := range []struct {
		field string
		into  *syncing.Place
		v     *string
	}{{"from", &j.From, c.From}, {"to", &j.To, c.To}} {
		if x.v != nil {
			if *x.into, err = syncing.ParsePlace(*x.v); err != nil {
				return fault.From(err).In(x.field)
			}
		}
	}
	if c.Bandwidth != nil {
		j.Limits = nil
		for _, text := range *c.Bandwidth {
			l, err := syncing.ParseLimit(text)
			if err != nil {
				return err
			}
			j.Limits = append(j.Limits, l)
		}
	}
	if c.Tags != nil {
		if j.Tags, err = object.NewTags(*c.Tags, object.MaxTags); err != nil {
			return err
		}
	}
	if c.Where != nil {
		where, err := syncing.ParseWhere(*c.Where, now)
		if err != nil {
			return fault.From(err).In("where")
		}
		j.Where = where.String()
	}
	if c.Links != nil {
		l, err := side.ParseLinks(*c.Links)
		if err != nil {
			return err
		}
		j.Links = string(l)
	}
	if err := j.Check(); err != nil {
		return err
	}
	j.Next, err = works.NextSync(j, now)
	return err
}

// maySync refuses sides that who asks may not use so.
func (d *Desk) maySync(ctx context.Context, j *syncing.Job) error {
	for i, n := range works.SyncNeeds(j) {
		field := []string{"from", "to"}[i]
		switch {
		case n.Place.Folder != "":
			if !who(ctx).subject.Operator {
				return fault.New(fault.Refused, "not-allowed", "folders of the service's machine are for those who operate it").
					In(field).Do("have an operator make the job, or use spindle sync from a terminal")
			}
			if err := d.sides().Allowed(n.Place.Folder); err != nil {
				return fault.From(err).In(field)
			}
		case n.Place.Endpoint != "":
			if _, err := d.conn(ctx, n.Place.Endpoint); err != nil {
				return fault.From(err).In(field)
			}
		default:
			name, err := object.ParseBucketName(n.Place.Bucket)
			if err == nil {
				err = d.mayAt(ctx, n.Do, name, n.Place.Prefix)
			}
			if err != nil {
				return fault.From(err).In(field)
			}
		}
	}
	return nil
}

func (d *Desk) sides() *works.SyncSides {
	return &works.SyncSides{Store: d.store, Remote: d.endpoints, Folders: d.settings.Folders}
}

func (d *Desk) addSync(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" maxLength:"63"`
		SyncChange
	}
}) (*syncOut, error) {
	by := author(ctx)
	by.At = d.store.Catalog.Now()
	j, err := d.newSync(ctx, in.Body.Name, &in.Body.SyncChange)
	if err == nil {
		err = d.sealSync(ctx, j, &in.Body.SyncChange)
	}
	if err == nil {
		err = d.syncFits(ctx, j)
	}
	if err == nil {
		err = d.store.Catalog.AddSync(ctx, j, by)
	}
	if err != nil {
		return nil, err
	}
	return d.oneSync(ctx, j.Name)
}

// syncFits refuses a job whose target does not take what it writes: one that is sealed otherwise,
// or that has no such tier or storage class. Sides that do not answer now are no reason: a run
// looks again.
func (d *Desk) syncFits(ctx context.Context, j *syncing.Job) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if j.Class != "" && j.To.Endpoint != "" {
		conn, err := d.conn(ctx, j.To.Endpoint)
		if err != nil {
			return fault.From(err).In("to")
		}
		class, err := classThere(ctx, conn, j.To.Bucket, j.To.Prefix, j.Class)
		if err != nil && fault.KindOf(err) == fault.Invalid {
			return fault.From(err).In("tier")
		}
		j.Class = class
	}
	if j.Class != "" && j.To.Bucket != "" && j.To.Endpoint == "" {
		set, err := d.store.Tiers(ctx)
		if err == nil {
			_, err = set.Find(j.Class)
		}
		if err != nil {
			return fault.From(err).In("tier")
		}
	}
	do, err := d.sides().Carry(ctx, j, nil)
	if err != nil {
		return nil // the run says so
	}
	defer do.Close()
	if err := do.Check(ctx); fault.HasCode(err, "target-sealed") {
		return err
	}
	return nil
}

// newSync gives a job as it is asked for, whose sides who asks may use.
func (d *Desk) newSync(ctx context.Context, name string, c *SyncChange) (*syncing.Job, error) {
	j := &syncing.Job{Name: name, Account: who(ctx).subject.Account, Who: author(ctx).Who, On: true, Spec: syncing.Spec{
		Mode: syncing.Accumulate, By: syncing.ByTime, Links: string(side.SkipLinks), Parallel: 8, Guard: syncing.Usual}}
	for _, x := range []struct {
		field string
		v     *string
	}{{"from", c.From}, {"to", c.To}} {
		if x.v == nil {
			return nil, fault.New(fault.Invalid, "address", "the job has no %s", x.field).In(x.field).Do("name a side")
		}
	}
	if err := c.apply(j, d.store.Catalog.Now()); err != nil {
		return nil, err
	}
	return j, d.maySync(ctx, j)
}

func (d *Desk) changeSync(ctx context.Context, in *struct {
	SyncPath
	Body struct {
		SyncChange
		IfRevision int `json:"ifRevision,omitempty" minimum:"1"`
	}
}) (*syncOut, error) {
	by := author(ctx)
	by.At = d.store.Catalog.Now()
	sealed, err := d.sealedAs(ctx, in.Sync, &in.Body.SyncChange)
	if err != nil {
		return nil, err
	}
	j, err := d.mySync(ctx, in.Sync)
	if err == nil {
		err = in.Body.apply(j, by.At)
	}
	if err != nil {
		return nil, err
	}
	if in.Body.seals() {
		j.Seals, j.Secret = sealed.Seals, sealed.Secret
	}
	if err := errors.Join(d.maySync(ctx, j), d.syncFits(ctx, j)); err != nil {
		return nil, err
	}
	at := cmp.Or(in.Body.IfRevision, j.Revision) // what was looked at is what is changed
	if err := d.store.Catalog.ChangeSync(ctx, who(ctx).subject.Account, in.Sync, at, by,
		func(is *syncing.Job) error {
			*is = *j
			return nil
		}); err != nil {
		return nil, err
	}
	return d.oneSync(ctx, in.Sync)
}

func (d *Desk) removeSync(ctx context.Context, in *SyncPath) (*struct{}, error) {
	by := author(ctx)
	by.At = d.store.Catalog.Now()
	return nil, d.store.Catalog.RemoveSync(ctx, who(ctx).subject.Account, in.Sync, by)
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

const (
	rehearseFor      = 2 * time.Minute
	tryFor           = 10 * time.Second // of a job that is not saved
	rehearseExamples = 20
)

func (d *Desk) rehearseSync(ctx context.Context, in *SyncPath) (*struct{ Body SyncRehearsal }, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err == nil {
		err = d.maySync(ctx, j)
	}
	if err != nil {
		return nil, err
	}
	out, err := d.rehearsed(ctx, j, rehearseFor)
	return &struct{ Body SyncRehearsal }{out}, err
}

// rehearseNewSync says of a job that is not saved, or not saved so, what it would do.
func (d *Desk) rehearseNewSync(ctx context.Context, in *struct{ Body SyncChange }) (*struct{ Body SyncRehearsal },
	error) {
	j, err := d.newSync(ctx, "unsaved", &in.Body)
	if err != nil {
		return nil, err
	}
	return d.triedSync(ctx, j, in.Body.Sealing != nil && *in.Body.Sealing != "none")
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

// rehearseAll lists every object that a run would write, remove or refuse.
func (d *Desk) rehearseAll(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	if err := d.administers(ctx, who(ctx).subject.Account, "Rehearse a sync job"); err != nil {
		return err
	}
	j, err := d.mySync(ctx, chi.URLParam(r, "sync"))
	if err == nil {
		err = d.maySync(ctx, j)
	}
	if err != nil {
		return err
	}
	do, err := d.sides().Carry(ctx, j, nil)
	if err != nil {
		return err
	}
	defer do.Close()
	tell := lines[RehearsedStep](w)
	do.Each = func(s *syncing.Step) bool {
		if s.Do == syncing.Skip || s.Do == syncing.Leave {
			return ctx.Err() == nil
		}
		x := RehearsedStep{Key: s.Key, Do: string(s.Do), Why: string(s.Why), Bytes: s.Target.SizeOr(0)}
		if s.Source != nil {
			x.Bytes = s.Source.Size
		}
		tell(x)
		return ctx.Err() == nil
	}
	if _, err := do.Rehearse(ctx); err != nil {
		tell(RehearsedStep{Problem: d.problem(ctx, err)})
		return nil
	}
	tell(RehearsedStep{Done: true})
	return nil
}

func (d *Desk) rehearsed(ctx context.Context, j *syncing.Job, long time.Duration) (SyncRehearsal, error) {
	out := SyncRehearsal{Kinds: []RehearsedKind{}, Says: j.Sentence()}
	do, err := d.sides().Carry(ctx, j, nil)
	if err != nil {
		return out, err
	}
	defer do.Close()
	out.Undo = d.undo(ctx, j)
	at := map[[2]string]int{}
	begun := time.Now()
	do.Each = func(s *syncing.Step) bool {
		k := [2]string{string(s.Do), string(s.Why)}
		i, ok := at[k]
		if !ok {
			i = len(out.Kinds)
			at[k] = i
			out.Kinds = append(out.Kinds, RehearsedKind{Do: k[0], Why: k[1], Examples: []string{}})
		}
		x := &out.Kinds[i]
		x.Sum.Objects++
		if x.Sum.Bytes += s.Target.SizeOr(0); s.Source != nil {
			x.Sum.Bytes += s.Source.Size - s.Target.SizeOr(0)
		}
		if len(x.Examples) < rehearseExamples && s.Do != syncing.Skip {
			x.Examples = append(x.Examples, s.Key)
		}
		out.More = time.Since(begun) > long
		return !out.More
	}
	t, err := do.Rehearse(ctx)
	if err != nil {
		return out, err
	}
	out.AtHand = t.AtHand
	if err := j.Guard.Check(&t, j.Mode); err != nil && !out.More {
		out.Asks = fault.From(err).Message
	}
	return out, nil
}
