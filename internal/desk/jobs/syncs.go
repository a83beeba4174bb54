package jobs

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/desk/middle"
	"spindle/internal/places"
	"spindle/internal/side"
	work "spindle/internal/works/jobs"
)

func syncRunInfo(r *syncing.Run) *api.SyncRunInfo {
	t := r.Tally
	p := t.Plan
	return &api.SyncRunInfo{ID: r.ID, State: string(r.State), Who: r.Who, Anyway: r.Anyway, Asked: r.Asked,
		Started: r.Started,
		Ended:   r.Ended, Code: r.Code, Says: r.Says, Total: p.New.Plus(p.Replace).Plus(p.Remove).Plus(p.Doubt),
		Written: t.Written,
		Same:    t.Same, Removed: t.Removed, Drained: t.Drained, AtHand: t.AtHand, Failed: t.Failed, NotTaken: t.NotTaken,
		Moved: t.Moved}
}

func syncInfo(j *syncing.Job, last *syncing.Run) api.SyncInfo {
	x := api.SyncInfo{ID: j.ID, Name: j.Name, On: j.On, From: j.From.String(), To: j.To.String(), Mode: string(j.Mode),
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

func (d *Desk) syncCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const one = "/syncs/{sync}"
	middle.Call(to, mine, "list-syncs", "GET /syncs", "sync", "List sync jobs", d.listSyncs)
	middle.Call(to, mine, "show-sync", "GET "+one, "sync", "Show a sync job", d.showSync)
	middle.Call(to, mine, "add-sync", "POST /syncs", "sync", "Add a sync job", d.addSync, middle.Answers(201))
	middle.Call(to, mine, "change-sync", "PATCH "+one, "sync", "Change a sync job", d.changeSync)
	middle.Call(to, mine, "remove-sync", "DELETE "+one, "sync", "Remove a sync job with its runs", d.removeSync, middle.Answers(204))
	middle.Call(to, mine, "rehearse-sync", "POST "+one+"/rehearse", "sync", "Say what a run would do, and why", d.rehearseSync)
	middle.Call(to, mine, "rehearse-new-sync", "POST /syncs/rehearse", "sync", "Say what a job would do before it is saved",
		d.rehearseNewSync)
	middle.Call(to, mine, "list-sync-runs", "GET "+one+"/runs", "sync", "List the runs of a job, latest first", d.syncRuns)
	middle.Call(to, mine, "show-sync-run", "GET "+one+"/runs/{run}", "sync", "Show a run", d.showSyncRun)
	middle.Call(to, mine, "run-sync", "POST "+one+"/runs", "sync", "Run a job now, or let a run that asks go on", d.runSync,
		middle.Answers(201))
	middle.Call(to, mine, "stop-sync-run", "POST "+one+"/runs/{run}/stop", "sync", "Stop a run", d.stopSyncRun, middle.Answers(204))
	middle.Call(to, mine, "restore-sync", "POST "+one+"/restore", "sync",
		"Make a job that brings back what this one wrote; rehearse it, and run it", d.restoreSync, middle.Answers(201))
	middle.Call(to, mine, "sync-sheet", "GET "+one+"/sheet", "sync",
		"What to do when everything here is gone; no secret is in it",
		d.syncSheet)
	middle.Call(to, mine, "list-sync-outcomes", "GET "+one+"/runs/{run}/outcomes", "sync",
		"List what became of objects that are not as they were", d.syncOutcomes)
}

// SyncPath names a sync job of the account one acts in.
type SyncPath struct {
	Sync string `path:"sync" maxLength:"63"`
}

type syncOut struct{ Body api.SyncInfo }

func (d *Desk) mySync(ctx context.Context, name string) (*syncing.Job, error) {
	return d.Store.Catalog.Sync(ctx, middle.Who(ctx).Subject.Account, name)
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

func (d *Desk) syncInfos(ctx context.Context, list []*syncing.Job) ([]api.SyncInfo, error) {
	return middle.WithRuns(list, func(j *syncing.Job) int64 { return j.ID }, func(ids []int64) (map[int64]syncing.Run, error) {
		return d.Store.Catalog.LastSyncRuns(ctx, ids)
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
		Syncs []api.SyncInfo `json:"syncs"`
		Next  string         `json:"next,omitempty"`
	}
}, err error) {
	all, err := d.Store.Catalog.Syncs(ctx, middle.Who(ctx).Subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	all, body.Next = middle.Cut(all, in.Limit, func(j *syncing.Job) string { return j.Name })
	body.Syncs, err = d.syncInfos(ctx, all)
	return out, err
}

func applySync(c *api.SyncChange, j *syncing.Job, now time.Time) (err error) {
	middle.Set(&j.On, c.On)
	middle.Set(&j.Note, c.Note)
	middle.Set(&j.Like, c.Like)
	middle.Set(&j.LeaveOut, c.LeaveOut)
	middle.Set(&j.Class, c.Class)
	middle.Set(&j.Sealed, c.Sealed)
	middle.Set(&j.Parallel, c.Parallel)
	middle.Set(&j.Guard.Most, c.Most)
	middle.Set(&j.Schedule, c.Schedule)
	middle.Set(&j.Zone, c.Zone)
	middle.Set((*string)(&j.Mode), c.Mode)
	middle.Set((*string)(&j.By), c.By)
	if c.Share != nil {
		j.Guard.Share = *c.Share / 100
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
	if err := applyFilters(c, j, now); err != nil {
		return err
	}
	if err := j.Check(); err != nil {
		return err
	}
	j.Next, err = work.NextSync(j, now)
	return err
}

// applyFilters changes what a job is about: sizes, ages, tags, an expression, links; and its limits.
func applyFilters(c *api.SyncChange, j *syncing.Job, now time.Time) (err error) {
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
	return nil
}

// maySync refuses sides that who asks may not use so.
func (d *Desk) maySync(ctx context.Context, j *syncing.Job) error {
	for i, n := range work.SyncNeeds(j) {
		field := []string{"from", "to"}[i]
		switch {
		case n.Place.Folder != "":
			if !middle.Who(ctx).Subject.Operator {
				return fault.New(fault.Refused, "not-allowed", "folders of the service's machine are for those who operate it").
					In(field).Do("have an operator make the job, or use spindle sync from a terminal")
			}
			if err := d.sides().Allowed(n.Place.Folder); err != nil {
				return fault.From(err).In(field)
			}
		case n.Place.Endpoint != "":
			if _, err := d.Conn(ctx, n.Place.Endpoint); err != nil {
				return fault.From(err).In(field)
			}
		default:
			name, err := object.ParseBucketName(n.Place.Bucket)
			if err == nil {
				err = d.MayAt(ctx, n.Do, name, n.Place.Prefix)
			}
			if err != nil {
				return fault.From(err).In(field)
			}
		}
	}
	return nil
}

func (d *Desk) sides() *places.Sides {
	return &places.Sides{Store: d.Store, Remote: d.Endpoints, Folders: d.Settings.Folders}
}

func (d *Desk) addSync(ctx context.Context, in *struct {
	Body api.NewSync
}) (*syncOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	j, err := d.newSync(ctx, in.Body.Name, &in.Body.SyncChange)
	if err == nil {
		err = d.sealSync(ctx, j, &in.Body.SyncChange)
	}
	if err == nil {
		err = d.syncFits(ctx, j)
	}
	if err == nil {
		err = d.Store.Catalog.AddSync(ctx, j, by)
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
		conn, err := d.Conn(ctx, j.To.Endpoint)
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
		set, err := d.Store.Tiers(ctx)
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
func (d *Desk) newSync(ctx context.Context, name string, c *api.SyncChange) (*syncing.Job, error) {
	j := &syncing.Job{Name: name, Account: middle.Who(ctx).Subject.Account, Who: middle.Author(ctx).Who, On: true, Spec: syncing.Spec{
		Mode: syncing.Accumulate, By: syncing.ByTime, Links: string(side.SkipLinks), Parallel: 8, Guard: syncing.Usual}}
	for _, x := range []struct {
		field string
		v     *string
	}{{"from", c.From}, {"to", c.To}} {
		if x.v == nil {
			return nil, fault.New(fault.Invalid, "address", "the job has no %s", x.field).In(x.field).Do("name a side")
		}
	}
	if err := applySync(c, j, d.Store.Catalog.Now()); err != nil {
		return nil, err
	}
	return j, d.maySync(ctx, j)
}

func (d *Desk) changeSync(ctx context.Context, in *struct {
	SyncPath
	Body api.SyncUpdate
}) (*syncOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	sealed, err := d.sealedAs(ctx, in.Sync, &in.Body.SyncChange)
	if err != nil {
		return nil, err
	}
	j, err := d.mySync(ctx, in.Sync)
	if err == nil {
		err = applySync(&in.Body.SyncChange, j, by.At)
	}
	if err != nil {
		return nil, err
	}
	if changesSealing(&in.Body.SyncChange) {
		j.Seals, j.Secret = sealed.Seals, sealed.Secret
	}
	if err := errors.Join(d.maySync(ctx, j), d.syncFits(ctx, j)); err != nil {
		return nil, err
	}
	at := cmp.Or(in.Body.IfRevision, j.Revision) // what was looked at is what is changed
	if err := d.Store.Catalog.ChangeSync(ctx, middle.Who(ctx).Subject.Account, in.Sync, at, by,
		func(is *syncing.Job) error {
			*is = *j
			return nil
		}); err != nil {
		return nil, err
	}
	return d.oneSync(ctx, in.Sync)
}

func (d *Desk) removeSync(ctx context.Context, in *SyncPath) (*struct{}, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	return nil, d.Store.Catalog.RemoveSync(ctx, middle.Who(ctx).Subject.Account, in.Sync, by)
}

const (
	rehearseFor      = 2 * time.Minute
	tryFor           = 10 * time.Second // of a job that is not saved
	rehearseExamples = 20
)

func (d *Desk) rehearseSync(ctx context.Context, in *SyncPath) (*struct{ Body api.SyncRehearsal }, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err == nil {
		err = d.maySync(ctx, j)
	}
	if err != nil {
		return nil, err
	}
	out, err := d.rehearsed(ctx, j, rehearseFor)
	return &struct{ Body api.SyncRehearsal }{out}, err
}

// rehearseNewSync says of a job that is not saved, or not saved so, what it would do.
func (d *Desk) rehearseNewSync(ctx context.Context,
	in *struct{ Body api.SyncChange }) (*struct{ Body api.SyncRehearsal },
	error) {
	j, err := d.newSync(ctx, "unsaved", &in.Body)
	if err != nil {
		return nil, err
	}
	return d.triedSync(ctx, j, in.Body.Sealing != nil && *in.Body.Sealing != "none")
}

// RehearseAll lists every object that a run would write, remove or refuse.
func (d *Desk) RehearseAll(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	if err := d.Administers(ctx, middle.Who(ctx).Subject.Account, "Rehearse a sync job"); err != nil {
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
	tell := middle.Lines[api.RehearsedStep](w)
	do.Each = func(s *syncing.Step) bool {
		if s.Do == syncing.Skip || s.Do == syncing.Leave {
			return ctx.Err() == nil
		}
		x := api.RehearsedStep{Key: s.Key, Do: string(s.Do), Why: string(s.Why), Bytes: s.Target.SizeOr(0)}
		if s.Source != nil {
			x.Bytes = s.Source.Size
		}
		tell(x)
		return ctx.Err() == nil
	}
	if _, err := do.Rehearse(ctx); err != nil {
		tell(api.RehearsedStep{Problem: d.Problem(ctx, err)})
		return nil
	}
	tell(api.RehearsedStep{Done: true})
	return nil
}

func (d *Desk) rehearsed(ctx context.Context, j *syncing.Job, long time.Duration) (api.SyncRehearsal, error) {
	out := api.SyncRehearsal{Kinds: []api.RehearsedKind{}, Says: j.Sentence()}
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
			out.Kinds = append(out.Kinds, api.RehearsedKind{Do: k[0], Why: k[1], Examples: []string{}})
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
