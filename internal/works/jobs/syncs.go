package jobs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"spindle/internal/carry"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
	"spindle/internal/places"
	"spindle/internal/works/crew"
)

const (
	syncsAtOnce   = 4                      // runs that a process works on
	syncSaveEvery = 500 * time.Millisecond // a run's progress
	outcomesMost  = 5000                   // kept until they are written down
)

var errStopped = errors.New("somebody stopped the run")

// syncs asks for runs whose schedule is due, and takes up those that wait, and those that
// a process left.
func (c *Work) syncs(ctx context.Context) error {
	due := schedule[syncing.Job]{"sync job", func(j *syncing.Job) string { return j.Name },
		c.Store.Catalog.SyncsDue, NextSync, c.Store.Catalog.SyncNext}
	if err := due.ask(ctx, c.Crew); err != nil {
		return err
	}
	jobs, err := c.Store.Catalog.SyncsToRun(ctx, 50)
	if err != nil {
		return err
	}
	for _, j := range jobs {
		if c.Working("sync", 0) >= syncsAtOnce {
			return nil
		}
		// Whoever writes into a target has it alone.
		within, into, ok, err := c.Claim(ctx, "sync into "+j.Account+" "+j.To.Whole())
		if err != nil || !ok {
			if err != nil {
				return err
			}
			continue
		}
		under, l, ok, err := c.Claim(within, fmt.Sprintf("sync %d", j.ID))
		if err != nil || !ok {
			if err = errors.Join(err, into.Finish(0)); err != nil {
				return err
			}
			continue
		}
		c.Working("sync", 1)
		c.Done.Go(func() {
			defer c.Working("sync", -1)
			var wait time.Duration
			err := crew.Guarded(func() (err error) {
				wait, err = c.sync(under, l, j.ID)
				return err
			})
			if err != nil && ctx.Err() == nil && !l.Lost(under, err) {
				c.Log.Warn("a sync run broke off and will be taken up again", "job", j.Name, "error", err)
			}
			if err := errors.Join(l.Finish(wait), into.Finish(0)); err != nil {
				c.Log.Debug("leases are left to run out", "error", err)
			}
		})
	}
	return nil
}

// NextSync gives when a job's schedule is due next, nil when it has none or is off.
func NextSync(j *syncing.Job, now time.Time) (*time.Time, error) {
	return nextRun(j.On, j.Schedule, j.Zone, now)
}

// SyncNeeds gives what a job needs: of a folder that its saver operates the service, of a
// bucket at an endpoint that they administer the account.
func SyncNeeds(j *syncing.Job) []crew.PlaceNeed {
	from, to := access.List|access.Read, access.List|access.Read|access.Write
	switch j.Mode {
	case syncing.Drain:
		from |= access.Remove
	case syncing.Mirror:
		to |= access.Remove
	}
	return []crew.PlaceNeed{{Place: j.From, Do: from}, {Place: j.To, Do: to}}
}

// mayUse refuses places that whoever saved a job may not use so any more.
func (c *Work) mayUse(ctx context.Context, by places.SavedBy, needs []crew.PlaceNeed) error {
	if c.Settings.MayUse == nil {
		return nil
	}
	return c.Settings.MayUse(ctx, by, needs)
}

// syncing is a run under way.
type syncRun struct {
	crew *Work
	job  *syncing.Job
	run  *syncing.Run
	base syncing.Tally // of earlier tries of the run
	do   *carry.Job

	moved atomic.Int64
	mu    sync.Mutex
	fresh []syncing.Outcome // not written down yet
	odd   map[string]bool
	going context.Context // ends with the run
}

// sync does the open run of a job, and says how long to wait before it is tried again.
func (c *Work) sync(ctx context.Context, l *crew.Lease, job int64) (wait time.Duration, err error) {
	j, err := c.Store.Catalog.SyncByID(ctx, job)
	if err != nil {
		return 0, err
	}
	r, err := c.Store.Catalog.OpenSyncRun(ctx, job)
	if err != nil || r == nil {
		return 0, err
	}
	var tried struct{ Failed int } // in a row, because a side is away
	if err := l.Load(&tried); err != nil {
		return 0, err
	}
	s := &syncRun{crew: c, job: j, run: r, base: r.Tally, odd: map[string]bool{}}
	now := c.Store.Catalog.Now().UTC()
	r.Begin(now)
	if err := s.save(ctx); err != nil && !errors.Is(err, errStopped) {
		return 0, err
	}
	err = s.carryOut(ctx)
	if l.Lost(ctx, err) || ctx.Err() != nil {
		return 0, errors.Join(s.save(context.WithoutCancel(ctx)), nil)
	}
	if away := fault.From(err); err != nil && (away.Kind == fault.Unavailable || away.Kind == fault.Slow) {
		tried.Failed++
		r.State, r.Code, r.Says = runs.Waiting, away.Code, away.Message
		wait = max(crew.Pause(tried.Failed), away.After)
	} else {
		tried.Failed = 0
		s.end(err)
	}
	return wait, errors.Join(s.save(ctx), l.Save(ctx, tried))
}

// end settles how the run ended.
func (s *syncRun) end(err error) {
	now := s.crew.Store.Catalog.Now().UTC()
	switch r, f := s.run, fault.From(err); {
	case errors.Is(err, errStopped):
		r.End(now, runs.Stopped, nil)
	case err != nil && asks(f.Code):
		r.State, r.Code, r.Says = runs.Asking, f.Code, f.Message
	case err != nil:
		r.End(now, runs.Failed, err)
	case s.run.Tally.Failed > 0, s.job.Opens() && len(s.odd) > 0: // what does not come back is a failure
		r.End(now, runs.Partly, nil)
	default:
		r.End(now, runs.Done, nil)
	}
}

// asks reports whether a run that ends for a reason may be told to go on all the same.
func asks(code string) bool {
	return code == "guard" || code == "source-empty" || code == "source-swapped" || code == "target-swapped"
}

func (s *syncRun) carryOut(ctx context.Context) error {
	c := s.crew
	if err := c.mayUse(ctx, places.SavedSync(s.job), SyncNeeds(s.job)); err != nil {
		return err
	}
	sides := &places.Sides{Store: c.Store, Remote: c.Settings.Remote, Folders: c.Settings.Folders}
	do, err := sides.Carry(ctx, s.job, s.leftOut)
	if err != nil {
		return err
	}
	defer do.Close()
	if err := s.swapped(do.FromMark, do.ToMark); err != nil {
		return err
	}
	if err := do.Mark(ctx, s.job); err != nil {
		return err
	}
	do.Anyway, do.Tell, do.Moved = s.run.Anyway, s.note, func(n int64) { s.moved.Add(n) }
	do.Uploads = &syncUploads{ctx, c.Store.Catalog, s.job.ID}
	s.do = do.Job
	may, given := crew.Still(ctx, func(ctx context.Context) error { return c.mayUse(ctx, places.SavedSync(s.job), SyncNeeds(s.job)) })
	defer given()
	going, stop := context.WithCancelCause(may)
	s.going = going
	saved := make(chan struct{})
	go func() {
		defer close(saved)
		s.keep(going, stop)
	}()
	_, err = do.Run(going)
	cause := context.Cause(going)
	stop(nil)
	<-saved
	if errors.Is(cause, errStopped) {
		err = errStopped
	}
	if refused := crew.RefusedOf(may); refused != nil {
		err = refused
	}
	s.tally()
	if err == nil && s.run.Tally.Failed == 0 {
		err = c.Store.Catalog.KeepSyncMarks(ctx, s.job, do.FromMark, do.ToMark)
	}
	return err
}

// swapped refuses sides that are others than those of the last good run.
func (s *syncRun) swapped(from, to string) error {
	for _, x := range []struct{ code, which, was, is string }{{"source-swapped", "source", s.job.FromMark, from},
		{"target-swapped", "target", s.job.ToMark, to}} {
		if x.was != "" && x.was != x.is && !s.run.Anyway {
			return fault.New(fault.Conflict, x.code, "the %s is another one than at the last run, though it has its name",
				x.which).
				In(x.which).Do("look at it, and let the run go on when it is the right one")
		}
	}
	return nil
}

// keep writes the run's progress down now and then, and stops it when somebody asks.
func (s *syncRun) keep(ctx context.Context, stop context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(syncSaveEvery):
		}
		s.tally()
		if err := s.save(ctx); errors.Is(err, errStopped) {
			stop(errStopped)
			return
		}
	}
}

// tally brings what the run has come to up to date.
func (s *syncRun) tally() {
	if s.do == nil {
		return
	}
	r, b := s.do.Result(), s.base
	s.mu.Lock()
	defer s.mu.Unlock()
	s.run.Tally = syncing.Tally{Plan: r.Plan, Written: r.Written.Plus(b.Written), Same: r.Same,
		Removed: r.Removed.Plus(b.Removed), Drained: r.Drained.Plus(b.Drained), AtHand: r.AtHand.Plus(b.AtHand),
		Failed: r.Failed, NotTaken: r.NotTaken,
		Moved: s.moved.Load() + b.Moved}
}

// save writes the run down. The error is errStopped when it is to stop.
func (s *syncRun) save(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	s.mu.Lock()
	fresh, run := s.fresh, *s.run
	s.fresh = nil
	s.mu.Unlock()
	stop, err := s.crew.Store.Catalog.SaveSyncRun(ctx, &run, fresh)
	if err != nil { // they are written down the next time
		s.mu.Lock()
		s.fresh = append(fresh, s.fresh...)
		s.mu.Unlock()
		return err
	}
	if stop && run.State == runs.Running {
		return errStopped
	}
	return nil
}

// note keeps what became of an object until it is written down; when that takes long the
// run waits for it.
func (s *syncRun) note(ctx context.Context, o carry.Outcome) {
	x := syncing.Outcome{Key: o.Key, Do: o.Do, Why: o.Why, Bytes: o.Bytes}
	if o.Err != nil {
		f := fault.From(o.Err)
		x.Code, x.Says = f.Code, f.Message
	}
	s.add(ctx, x)
}

// add keeps an outcome, once there is room; at the end of the run there is for each that is
// under way.
func (s *syncRun) add(ctx context.Context, x syncing.Outcome) {
	for {
		s.mu.Lock()
		if len(s.fresh) < outcomesMost || ctx.Err() != nil {
			s.fresh = append(s.fresh, x)
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(syncSaveEvery / 10):
		}
	}
}

// leftOut keeps what is left out of a folder.
func (s *syncRun) leftOut(key, what string) {
	s.mu.Lock()
	told := s.odd[key] || len(s.odd) > outcomesMost/2
	s.odd[key] = true
	s.mu.Unlock()
	if !told {
		s.add(s.going, syncing.Outcome{Key: key, Do: syncing.Leave, Why: syncing.Why(what)})
	}
}

// syncUploads remembers uploads of large objects in the catalog.
type syncUploads struct {
	ctx     context.Context
	catalog *catalog.Catalog
	job     int64
}

// Known gives an upload that was begun.
func (u *syncUploads) Known(key, content string) string {
	upload, err := u.catalog.SyncUpload(u.ctx, u.job, key, content)
	if err != nil {
		return "" // it begins anew
	}
	return upload
}

// Keep remembers an upload.
func (u *syncUploads) Keep(key, content, upload string) error {
	return u.catalog.KeepSyncUpload(u.ctx, u.job, key, content, upload)
}
