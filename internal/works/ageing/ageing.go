package ageing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/works/crew"
)

// Ager is who the journal says acts by rules.
const Ager = "lifecycle"

// failedPause is how long a bucket is left alone after a run that failed.
const failedPause = 5 * time.Minute

// age has the rules of each bucket act whose turn it is. One bucket's trouble is not the
// others'.
func (c *Work) age(ctx context.Context, _ *crew.Lease) error {
	if c.Store.Catalog.Doubtful() {
		return nil // ages may be wrong until somebody says that the clock is right
	}
	var bad error
	for after := int64(0); ; {
		list, err := c.Store.Catalog.RuledBuckets(ctx, after, 100)
		if err != nil || len(list) == 0 {
			return errors.Join(bad, err)
		}
		for _, b := range list {
			after = b.Bucket
			if err := c.AgeBucket(ctx, b, c.Store.Catalog.Now().UTC()); err != nil {
				if ctx.Err() != nil || fault.HasCode(err, "lease-lost") {
					return err
				}
				bad = errors.Join(bad, fmt.Errorf("the rules of %s: %w", b.Name, err))
			}
		}
	}
}

// ageing is one run of the rules of a bucket.
type ageing struct {
	crew    *Work
	bucket  catalog.RuledBucket
	set     *lifecycle.Set
	run     *catalog.Run
	end     catalog.JournalEnd
	limiter *rate.Limiter
}

// AgeBucket goes on with the run of a bucket's rules that is open, or begins one if it is
// time. Ages are judged by the moment at which the run began.
func (c *Work) AgeBucket(ctx context.Context, b catalog.RuledBucket, now time.Time) error {
	run, err := c.Store.Catalog.RunOpen(ctx, b.Bucket)
	if err != nil || run != nil && run.State == catalog.RunAsks {
		return err
	}
	if run == nil {
		if turn, err := c.turnOf(ctx, b, now); err != nil || !turn {
			return err
		}
		run = &catalog.Run{Bucket: b.Bucket, Revision: b.Revision, Started: now, Who: Ager}
	}
	if run.Revision != b.Revision {
		run.State, run.Says = catalog.RunStopped, "the rules were changed meanwhile"
		return c.Store.Catalog.SaveRun(ctx, run)
	}
	tiers, err := c.Store.Tiers(ctx)
	if err != nil {
		return err
	}
	set, err := lifecycle.NewSet(b.Rules, tiers)
	if err != nil {
		return err
	}
	graces, err := c.Store.Catalog.Graces(ctx)
	if err != nil {
		return err
	}
	set = set.Graced(graces)
	end, err := c.Store.Catalog.JournalEnd(ctx)
	if err != nil {
		return err
	}
	a := &ageing{crew: c, bucket: b, set: set, run: run, end: end,
		limiter: rate.NewLimiter(rate.Limit(c.Settings.AgeRate), max(500, c.Settings.AgeRate))}
	err = a.do(ctx)
	if fault.HasCode(err, "run-stopped") {
		return nil
	}
	return err
}

// turnOf reports whether it is time for a run of a bucket's rules.
func (c *Work) turnOf(ctx context.Context, b catalog.RuledBucket, now time.Time) (bool, error) {
	if now.Before(b.Acts) || b.Upto != nil && now.Sub(*b.Upto) < c.Settings.AgeEvery {
		return false, nil
	}
	last, err := c.Store.Catalog.Runs(ctx, b.Bucket, 0, 1)
	if err != nil || len(last) == 0 {
		return err == nil, err
	}
	return last[0].State != catalog.RunFailed || last[0].Ended == nil || now.Sub(*last[0].Ended) >= failedPause, nil
}

// do counts what is due, asks when that is too much, and acts.
func (a *ageing) do(ctx context.Context) error {
	if err := a.chooseWay(ctx); err != nil {
		return err
	}
	if a.run.State == catalog.RunWaiting && a.run.Allowed == "" {
		t, err := a.tally(ctx)
		if err != nil {
			return err
		}
		if t.versions == 0 {
			a.run.State = catalog.RunDone
			return a.crew.Store.Catalog.EndRun(ctx, a.run, a.run.Started, a.end)
		}
		if a.run.ID == 0 {
			if err := a.crew.Store.Catalog.OpenRun(ctx, a.run); err != nil {
				return err
			}
		}
		if why, err := a.guard(ctx, t); err != nil || why != "" {
			if err == nil {
				a.run.State, a.run.Says = catalog.RunAsks, why
				err = a.crew.Store.Catalog.SaveRun(ctx, a.run)
			}
			return err
		}
	}
	a.run.State = catalog.RunUnderWay
	if err := a.crew.Store.Catalog.SaveRun(ctx, a.run); err != nil {
		return err
	}
	err := a.source(ctx, a.run.Place, func(p catalog.RunPlace) error { a.run.Place = p; return nil }, a.act)
	if err == nil {
		err = a.abandon(ctx, true, nil)
	}
	switch {
	case err == nil:
		a.run.State, a.run.Says = catalog.RunDone, ""
		return a.crew.Store.Catalog.EndRun(ctx, a.run, a.run.Started, a.end)
	case ctx.Err() != nil || fault.HasCode(err, "lease-lost") || fault.HasCode(err, "run-stopped"):
		return err
	}
	a.run.State, a.run.Says = catalog.RunFailed, fault.From(err).Message
	return errors.Join(err, a.crew.Store.Catalog.SaveRun(ctx, a.run))
}

// chooseWay decides whether the whole bucket is looked at: when the rules changed, when
// a date has come, when somebody asked for the run, and when the journal does not reach
// back far enough.
func (a *ageing) chooseWay(ctx context.Context) error {
	if a.run.ID != 0 && (a.run.Whole || a.run.Who != Ager) || a.bucket.Upto == nil {
		a.run.Whole = true
		return nil
	}
	days, dates := a.set.Ages()
	for _, d := range dates {
		if d.After(*a.bucket.Upto) && !d.After(a.run.Started) {
			a.run.Whole = true
		}
	}
	if len(days) == 0 {
		return nil
	}
	from, err := a.crew.Store.Catalog.JournalFrom(ctx, a.bucket.Bucket, a.crew.Settings.KeepJournal != 0)
	if a.bucket.Upto.Add(-time.Duration(days[len(days)-1]) * lifecycle.Day).Before(from) {
		a.run.Whole = true // what is older than the journal is found by looking at all, which once a day is enough
	}
	return err
}

// source gives the keys of which something may be due.
func (a *ageing) source(ctx context.Context, from catalog.RunPlace, passed func(catalog.RunPlace) error,
	f func(context.Context, [][]byte) error) error {
	do := func(keys [][]byte) error { return f(ctx, keys) }
	if a.run.Whole {
		return a.crew.Store.Catalog.WalkKeys(ctx, a.bucket.Bucket, a.set, a.run.Started, from, do, passed)
	}
	days, _ := a.set.Ages()
	return a.crew.Store.Catalog.DueKeys(ctx, catalog.Due{Bucket: a.bucket.Bucket, From: *a.bucket.Upto, To: a.run.Started,
		Ages: days, End: a.end}, do)
}

// judge says what is due of keys, as they are.
func (a *ageing) judge(keys []*catalog.AgedKey, f func(*catalog.AgedKey, lifecycle.Verdict)) {
	for _, k := range keys {
		for _, v := range a.set.Judge(&k.Key, a.run.Started) {
			f(k, v)
		}
	}
}

// tally is how much a run would do.
type tally struct {
	versions, removals, bytes int64
}

// tally counts what is due, without doing it.
func (a *ageing) tally(ctx context.Context) (t tally, err error) {
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(2)
	count := func(keys [][]byte) error {
		aged, err := a.crew.Store.Catalog.AgedOf(gctx, a.bucket.Bucket, a.bucket.Versioning, a.set, keys)
		mu.Lock()
		defer mu.Unlock()
		a.judge(aged, func(k *catalog.AgedKey, v lifecycle.Verdict) {
			t.versions++
			if x := k.Versions[v.Index]; !v.Due.Action.Move && !x.Marker {
				t.removals, t.bytes = t.removals+1, t.bytes+x.Size
			}
		})
		return err
	}
	err = a.source(gctx, catalog.RunPlace{}, func(catalog.RunPlace) error { return nil },
		func(_ context.Context, keys [][]byte) error {
			g.Go(func() error { return count(keys) })
			return nil
		})
	err = errors.Join(err, g.Wait())
	if err == nil {
		err = a.abandon(ctx, false, &t)
	}
	return t, err
}

// guard says why a run has to ask before it removes so much; "" when it need not.
func (a *ageing) guard(ctx context.Context, t tally) (string, error) {
	if t.removals < a.crew.Settings.GuardLeast {
		return "", nil
	}
	b, err := a.crew.Store.Catalog.Bucket(ctx, a.bucket.Name)
	if err != nil {
		return "", err
	}
	// Usage is a moment behind: what is to go was there.
	share := func(part, whole int64) float64 { return float64(part) / float64(max(1, part, whole)) }
	of := max(share(t.removals, b.Usage.Objects+b.Usage.Previous), share(t.bytes, b.Usage.Bytes+b.Usage.PreviousBytes))
	if of <= a.crew.Settings.GuardShare {
		return "", nil
	}
	return fmt.Sprintf("it would remove %d versions with %d bytes, %.0f %% of the bucket; more than %.0f %% is asked for",
		t.removals, t.bytes, 100*of, 100*a.crew.Settings.GuardShare), nil
}

// act does what is due of keys: removals in one transaction in which they are judged
// again, then moves, each in its own.
func (a *ageing) act(ctx context.Context, keys [][]byte) error {
	if err := a.limiter.WaitN(ctx, len(keys)); err != nil {
		return err
	}
	var moves []move
	before := slices.Clone(a.run.Counts)
	by := catalog.Author{At: a.now(), Who: Ager}
	err := a.crew.Store.Catalog.ActOn(ctx, a.run, a.set, keys, by,
		func(aged []*catalog.AgedKey) (removals []catalog.DueRemoval,
			outcomes []catalog.Outcome) {
			moves, a.run.Counts = nil, slices.Clone(before) // it may be called again
			a.judge(aged, func(k *catalog.AgedKey, v lifecycle.Verdict) {
				x, more := k.Versions[v.Index], k.More[v.Index]
				if v.Due.Action.Move {
					moves = append(moves, move{key: k.Name, number: x.Number, size: x.Size, AgedMore: more, due: v.Due})
					return
				}
				current := v.Due.Action.Of == lifecycle.Current
				if more.Retained && !(current && a.bucket.Versioning != object.Off) {
					outcomes = append(outcomes, outcomeOf([]byte(k.Name), x.Number, x.Size, v.Due, "it must be kept"))
					a.count(v.Due, x.Size, catalog.Retained(x.Number))
					return
				}
				removals = append(removals, catalog.DueRemoval{Key: k.Name, Number: x.Number, Current: current,
					Rule: v.Due.Rule.Name()})
				outcomes = append(outcomes, outcomeOf([]byte(k.Name), x.Number, x.Size, v.Due, ""))
				a.count(v.Due, x.Size, nil)
			})
			return removals, outcomes
		})
	if err != nil {
		return err
	}
	for len(moves) > 0 {
		n := movesTogether(moves)
		if err := a.moveMany(ctx, moves[:n]); err != nil {
			return err
		}
		moves = moves[n:]
	}
	return nil
}

// now is the moment of what is done: not before the one by which it was judged.
func (a *ageing) now() time.Time {
	now := a.crew.Store.Catalog.Now().UTC()
	if now.Before(a.run.Started) {
		now = a.run.Started
	}
	return now.Truncate(time.Microsecond)
}

func outcomeOf(key []byte, number, size int64, d lifecycle.Due, says string) catalog.Outcome {
	return catalog.Outcome{Key: key, Number: number, Size: size, Rule: d.Rule.Name(), Did: did(d), Says: says}
}

// did says what an action does.
func did(d lifecycle.Due) string {
	form := d.Rule.Form().Actions[d.Rule.IndexOf(d.Action)]
	switch {
	case form.Do == "move":
		return "move to " + form.To
	case d.Action.Of == lifecycle.Uploads:
		return "abandon"
	}
	return "remove " + form.Of
}

// count adds to what the run did, or (failed) could not do.
func (a *ageing) count(d lifecycle.Due, size int64, failed error) {
	form := d.Rule.Form().Actions[d.Rule.IndexOf(d.Action)]
	i := slices.IndexFunc(a.run.Counts, func(c lifecycle.RunCount) bool {
		return c.Rule == d.Rule.Name() && c.Of == form.Of && c.Do == form.Do && c.To == form.To
	})
	if i < 0 {
		i = len(a.run.Counts)
		a.run.Counts = append(a.run.Counts, lifecycle.RunCount{Rule: d.Rule.Name(), Of: form.Of, Do: form.Do, To: form.To})
	}
	if failed != nil {
		a.run.Counts[i].Failed++
		return
	}
	a.run.Counts[i].Objects++
	a.run.Counts[i].Bytes += size
}

// abandon ends the unfinished uploads that are due, or only counts them.
func (a *ageing) abandon(ctx context.Context, really bool, t *tally) error {
	now := a.run.Started
	for after := int64(0); ; {
		list, err := a.crew.Store.Catalog.OpenUploads(ctx, a.bucket.Bucket, now, after, 200)
		if err != nil || len(list) == 0 {
			return err
		}
		var outcomes []catalog.Outcome
		for _, u := range list {
			after = u.Seq
			key := u.Key.String()
			d := a.set.Due(lifecycle.Item{Of: lifecycle.Uploads, Mask: a.set.KeyMask(key), Since: u.Created}, now)
			if d == nil {
				continue
			}
			if !really {
				t.versions++
				continue
			}
			err := a.crew.Store.Catalog.Abandon(ctx, a.bucket.Bucket, u.Key, u.ID)
			if fault.HasCode(err, "upload-missing") {
				continue
			}
			if err != nil {
				return err
			}
			outcomes = append(outcomes, outcomeOf([]byte(key), 0, u.Bytes, *d, ""))
			a.count(*d, u.Bytes, nil)
		}
		if len(outcomes) > 0 {
			if err := a.crew.Store.Catalog.NoteOutcomes(ctx, a.run, outcomes); err != nil {
				return err
			}
		}
	}
}
