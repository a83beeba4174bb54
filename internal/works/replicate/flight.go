package replicate

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/backoff"
	"spindle/internal/core/fault"
	"spindle/internal/remote"
	"spindle/internal/works/crew"
)

// flight is the keys of a target that are claimed, under way, or done and not written
// down yet.
type flight struct {
	*replicator
	claims  int // that are made together
	queue   []catalog.ReplicaTask
	under   map[string]catalog.ReplicaTask
	ended   []catalog.ReplicaDone // to be written down
	writing []catalog.ReplicaDone // being written down; nil: nothing is
	wrote   chan error
	dry     bool // nothing was due at the last claim
	stop    bool // the target is not worth going on with
	worked  bool
	claimed time.Time // the last time
	begun   time.Time // the last one, while requests go first
}

// run claims keys, has some done side by side, and writes down what came of them beside
// that; it ends when nothing is due or the target fails.
func (f *flight) run(ctx context.Context) error {
	lease := f.crew.Settings.Lease
	renewed := time.Now()
	for {
		if err := f.claim(ctx); err != nil {
			return err
		}
		f.begin(ctx)
		f.write(ctx)
		if len(f.under) == 0 && f.writing == nil {
			if f.stop || ctx.Err() != nil || len(f.queue) == 0 && f.dry {
				return f.giveBack(ctx)
			}
			if len(f.queue) == 0 {
				continue
			}
		}
		select {
		case r := <-f.results:
			f.take(ctx, r)
		case err := <-f.wrote:
			f.writing = nil
			f.stop = f.stop || err != nil // the claims run out, and others go on
		case <-time.After(f.patience()):
		}
		if time.Since(renewed) > lease/4 {
			renewed = time.Now()
			if err := f.renew(ctx); err != nil {
				f.crew.Log.Debug("claims could not be renewed", "error", err)
			}
		}
	}
}

// patience is how long nothing may happen before it is looked again: for something new
// that is due, or, while requests go first, for the next one.
func (f *flight) patience() time.Duration {
	if len(f.queue) > 0 && len(f.under) < replicasAtOnce {
		return oneEach
	}
	return 100 * time.Millisecond
}

// begin has claimed keys be done, as many as there is room for.
func (f *flight) begin(ctx context.Context) {
	for len(f.queue) > 0 && !f.stop && ctx.Err() == nil && len(f.under) < f.room() && len(f.ended) < replicaClaims {
		t := f.queue[0]
		f.queue = f.queue[1:]
		f.under[t.Key] = t
		f.crew.Done.Go(func() {
			r := replicaResult{task: t, done: catalog.ReplicaDone{ReplicaTask: t, Have: t.Have, Lag: -1}}
			r.err = crew.Guarded(func() (err error) {
				r.done, err = f.one(ctx, t)
				return err
			})
			f.results <- r
		})
	}
}

// How long copies stand back for requests that write a good deal, and how many go on
// meanwhile.
const (
	standBack   = 10 * time.Second
	oneEach     = 20 * time.Millisecond
	followPause = 200 * time.Millisecond // of the follower meanwhile
)

// room is how many keys may be under way. While requests write a good deal only one each
// oneEach begins, for they are waited for and copies are not; but what has waited for
// standBack goes on all the same.
func (f *flight) room() int {
	now := f.crew.Store.Catalog.Now()
	if !f.crew.Store.Catalog.Busy() || now.Sub(f.queue[0].Since) > standBack {
		return replicasAtOnce
	}
	if now.Sub(f.begun) < oneEach {
		return 0
	}
	f.begun = now
	return 1
}

// claim takes more keys when few are left.
func (f *flight) claim(ctx context.Context) error {
	if f.stop || ctx.Err() != nil || len(f.queue) > f.claims/4 || f.dry && (len(f.under) > replicasAtOnce/2 ||
		time.Since(f.claimed) < oneEach) {
		return nil
	}
	f.claimed = time.Now()
	tasks, err := f.crew.Store.Catalog.ClaimReplicas(ctx, f.target.ID, f.claims, f.crew.Settings.Lease)
	if err != nil {
		if len(f.under) == 0 {
			return err
		}
		f.stop = true
		return nil
	}
	f.dry = len(tasks) < f.claims
	if !f.dry {
		f.claims = min(replicaClaims, 2*f.claims)
	}
	f.queue = append(f.queue, tasks...)
	return nil
}

// take notes what came of a key.
func (f *flight) take(ctx context.Context, r replicaResult) {
	delete(f.under, r.task.Key)
	if f.conn != nil && ctx.Err() == nil {
		f.conn.Circuit.Note(r.err, time.Now())
	}
	if r.err == nil {
		f.ended = append(f.ended, r.done)
		if !f.worked {
			f.worked = true
			f.fails(ctx, nil)
		}
		return
	}
	if ctx.Err() != nil {
		return // its claim runs out
	}
	wait, whole := replicaPause(r.err, r.task.Attempts)
	fl := fault.From(r.err)
	if whole {
		f.fails(ctx, r.err)
		if f.conn == nil || f.conn.Circuit.Open(time.Now()) {
			f.stop = true
		}
	}
	if fl.Kind == fault.Internal {
		f.crew.Log.Warn("a replica could not be made", "rule", f.rule.Name, "key", r.task.Key, "error", r.err)
	}
	upload := r.task.Upload
	failed := !errors.As(r.err, new(waits))
	if err := f.crew.Store.Catalog.DelayReplica(ctx, f.target.ID, r.task, failed, wait, fl.Code, fl.Message,
		upload); err != nil {
		f.crew.Log.Debug("a replica's failure could not be noted; its claim runs out", "error", err)
	}
}

// faultyPauses are those of an object that fails by itself: it will hardly be another soon.
var faultyPauses = backoff.Growing{First: 30 * time.Second, Most: time.Hour}

// replicaPause says when a key that failed is tried again, and whether the failure is the
// target's as a whole: busy, away, refused, or of this object alone.
func replicaPause(err error, attempts int) (wait time.Duration, whole bool) {
	var left waits
	if errors.As(err, &left) {
		return time.Duration(left) + rand.N(2*time.Second), false
	}
	if after := fault.From(err).After; after > 0 {
		return after + rand.N(after/4+time.Second), true
	}
	f := fault.From(err)
	switch {
	case remote.Away(err):
		return crew.Pause(attempts), true
	case f.Kind == fault.Refused || f.Kind == fault.Unsigned || f.Code == "bucket-missing" || f.Kind == fault.Full:
		return crew.Pause(attempts + 3), true
	case f.Kind == fault.Damaged || f.Kind == fault.Internal || f.Code == "source-changed":
		return crew.Pause(attempts), false
	}
	return faultyPauses.Apart(attempts), false
}

// write begins to write down what is done, unless that is under way.
func (f *flight) write(ctx context.Context) {
	if len(f.ended) == 0 || f.writing != nil {
		return
	}
	f.writing, f.ended = f.ended, nil
	batch := f.writing
	f.crew.Done.Go(func() {
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		f.wrote <- f.crew.Store.Catalog.ReplicasDone(within, f.target.ID, batch)
	})
}

// renew has the claims last on of what is under way and waits.
func (f *flight) renew(ctx context.Context) error {
	all := f.queue[:len(f.queue):len(f.queue)]
	for _, t := range f.under {
		all = append(all, t)
	}
	for _, d := range append(f.ended[:len(f.ended):len(f.ended)], f.writing...) {
		all = append(all, d.ReplicaTask)
	}
	return f.crew.Store.Catalog.RenewReplicas(ctx, f.target.ID, all, f.crew.Settings.Lease)
}

// giveBack lets go of what was claimed and not begun.
func (f *flight) giveBack(ctx context.Context) error {
	if len(f.queue) == 0 {
		return nil
	}
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return f.crew.Store.Catalog.ReleaseReplicas(within, f.target.ID, f.queue)
}
