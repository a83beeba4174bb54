package replicate

import (
	"context"
	"maps"
	"strings"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/store"
	"spindle/internal/works/crew"
)

// How replication goes about it.
const (
	followAtOnce   = 5000 // entries of the journal
	replicaClaims  = 256  // keys that are claimed together at the most
	replicasAtOnce = 32   // keys under way at a target
	largeAtOnce    = 4    // of them, objects of more than largeReplica bytes
	largeReplica   = 8 << 20
	backfillAtOnce = 2000  // keys that a step of a backfill looks at
	backfillAhead  = 20000 // keys that may wait before a backfill asks for more
	targetEvery    = time.Minute
)

// replicas is what a process knows of the targets that it works on.
type replicas struct {
	nudged chan struct{} // something may be due

	mu      sync.Mutex
	busy    map[int64]bool
	looked  map[int64]targetLook
	failing map[int64]bool // the catalog says why
}

// targetLook is what a look at a target's bucket came to.
type targetLook struct {
	at  time.Time
	err error
}

func newReplicas() *replicas {
	return &replicas{nudged: make(chan struct{}, 1), busy: map[int64]bool{}, looked: map[int64]targetLook{},
		failing: map[int64]bool{}}
}

func (r *replicas) nudge() {
	select {
	case r.nudged <- struct{}{}:
	default:
	}
}

// followReplication reads the journal for the rules, for as long as there are any, woken
// by the commits of its process.
func (c *Work) followReplication(ctx context.Context, l *crew.Lease) error {
	const shortest, longest = 3 * time.Millisecond, 250 * time.Millisecond
	wait := shortest
	for {
		book, err := c.Store.Replications(ctx)
		if err != nil || len(book.Rules) == 0 {
			return err
		}
		more, err := c.Store.Catalog.FollowReplication(ctx, followAtOnce)
		if err != nil {
			return err
		}
		if more {
			c.replicas.nudge()
			wait = shortest
			if c.Store.Catalog.Busy() { // many at once cost less than few often
				select {
				case <-ctx.Done():
				case <-time.After(followPause):
				}
			}
			continue
		}
		if err := c.backfill(ctx, book); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-c.Store.Catalog.Woken():
			wait = shortest
		case <-time.After(wait):
			wait = min(2*wait, longest)
		}
	}
}

// backfill has objects that were there before wait at targets that want them, some at a
// time.
func (c *Work) backfill(ctx context.Context, book *store.RuleBook) error {
	c.replicas.mu.Lock()
	due := time.Since(c.replicas.looked[0].at) > 200*time.Millisecond
	if due {
		c.replicas.looked[0] = targetLook{at: time.Now()}
	}
	c.replicas.mu.Unlock()
	if !due {
		return nil
	}
	targets, err := c.Store.Catalog.Backfilling(ctx, backfillAhead)
	if err != nil {
		return err
	}
	for _, id := range targets {
		r, _ := targetOf(book, id)
		if r == nil || !r.On {
			continue
		}
		if _, err := c.Store.Catalog.BackfillStep(ctx, r, id, backfillAtOnce); err != nil {
			return err
		}
		c.replicas.nudge()
	}
	return nil
}

func targetOf(book *store.RuleBook, id int64) (*replication.Rule, *replication.Target) {
	for _, r := range book.Rules {
		for i := range r.Targets {
			if r.Targets[i].ID == id {
				return r, &r.Targets[i]
			}
		}
	}
	return nil, nil
}

// dispatchReplicas has somebody work at each target where something is due, until the
// context ends or the database is away.
func (c *Work) dispatchReplicas(ctx context.Context) error {
	for {
		book, err := c.Store.Replications(ctx)
		if err != nil {
			return err
		}
		var all []int64
		for _, r := range book.Rules {
			for _, t := range r.Targets {
				if r.On && !c.replicas.isBusy(t.ID) {
					all = append(all, t.ID)
				}
			}
		}
		var due []int64
		if len(all) > 0 {
			if due, err = c.Store.Catalog.DueTargets(ctx, all); err != nil {
				return err
			}
		}
		for _, id := range due {
			if r, t := targetOf(book, id); r != nil {
				c.work(ctx, book, r, t)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-c.replicas.nudged:
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// LookAtTargetsAgain has the buckets of targets be looked at before the next copy, not
// only when a minute is over.
func (c *Work) LookAtTargetsAgain() {
	c.replicas.mu.Lock()
	defer c.replicas.mu.Unlock()
	clear(c.replicas.looked)
}

func (r *replicas) isBusy(target int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.busy[target]
}

// work has a target worked on by a goroutine of its own.
func (c *Work) work(ctx context.Context, book *store.RuleBook, r *replication.Rule, t *replication.Target) {
	c.replicas.mu.Lock()
	c.replicas.busy[t.ID] = true
	c.replicas.mu.Unlock()
	c.Done.Go(func() {
		w := &replicator{crew: c, rule: r, target: t, above: book.Above(r, t)}
		if err := crew.Guarded(func() error { return w.run(ctx) }); err != nil && ctx.Err() == nil {
			c.Log.Debug("work at a target stopped for now", "rule", r.Name, "target", t.Address(), "error", err)
		}
		c.replicas.mu.Lock()
		delete(c.replicas.busy, t.ID)
		c.replicas.mu.Unlock()
	})
}

// replicator works at one target for a while.
type replicator struct {
	crew   *Work
	rule   *replication.Rule
	target *replication.Target
	above  []*replication.Rule

	source  *side.Here
	there   side.Target
	place   string       // of the target, when it is known
	conn    *remote.Conn // nil: it is here
	large   chan struct{}
	results chan replicaResult
}

type replicaResult struct {
	task catalog.ReplicaTask
	done catalog.ReplicaDone
	err  error
}

// open gets ready, and refuses what stands against the target as a whole.
func (w *replicator) open(ctx context.Context) error {
	c := w.crew
	bucket, err := object.ParseBucketName(w.rule.Bucket)
	if err != nil {
		return err
	}
	by := catalog.Author{Who: w.rule.By, Source: w.rule.Source}
	w.source = &side.Here{Store: c.Store, Bucket: bucket}
	if w.target.EndpointID == 0 {
		to, err := object.ParseBucketName(w.target.Bucket)
		if err != nil {
			return err
		}
		w.place = c.Store.Place(w.target.Bucket)
		w.there = &side.Here{Store: c.Store, Bucket: to, By: by}
	} else {
		if c.Settings.Remote == nil {
			return fault.New(fault.Unavailable, "no-endpoints", "this process reaches no endpoints")
		}
		if w.conn, err = c.Settings.Remote.Get(ctx, w.target.EndpointID); err != nil {
			return err
		}
		if wait := w.conn.Circuit.Wait(time.Now()); wait > 0 {
			return fault.New(fault.Unavailable, "circuit", "the endpoint is not asked for another %s", wait)
		}
		w.there = &side.There{Conn: w.conn, Bucket: w.target.Bucket}
	}
	if err := w.may(ctx); err != nil {
		return err
	}
	return w.look(ctx)
}

// may refuses what whoever saved the rule may not have done any more.
func (w *replicator) may(ctx context.Context) error {
	if may := w.crew.Settings.MayReplicate; may != nil {
		return may(ctx, w.rule, w.target)
	}
	return nil
}

// look makes sure now and then that the target's bucket is there, is the one it was, and
// keeps versions.
func (w *replicator) look(ctx context.Context) error {
	rs := w.crew.replicas
	rs.mu.Lock()
	last, ok := rs.looked[w.target.ID]
	rs.mu.Unlock()
	if ok && time.Since(last.at) < targetEvery && last.err == nil {
		return nil
	}
	err := w.lookNow(ctx)
	rs.mu.Lock()
	rs.looked[w.target.ID] = targetLook{time.Now(), err}
	rs.mu.Unlock()
	return err
}

func (w *replicator) lookNow(ctx context.Context) error {
	if w.conn == nil {
		f, err := w.crew.Store.Facts(ctx, w.there.(*side.Here).Bucket)
		if err == nil && f.Versioning != object.On {
			err = TargetVersioning(w.target.Address(), f.Versioning)
		}
		return err
	}
	t, err := side.LookAt(ctx, w.conn, w.target.Bucket)
	if err != nil {
		return err
	}
	if t.Made != "" {
		made, err := w.crew.Store.Catalog.TargetMade(ctx, w.target.ID, t.Made)
		if err == nil && made != t.Made {
			err = fault.New(fault.Conflict, "target-swapped",
				"the bucket %s at %s is another one than it was: it was made %s, and the one before %s", w.target.Bucket,
				w.target.Endpoint, t.Made, made).In("target").
				Do("if that is right, say: spindle replication retry %s --accept-target; then backfill it", w.rule.Name)
		}
		if err != nil {
			return err
		}
	}
	if t.Keeps && t.Versioning != object.On {
		return TargetVersioning(w.target.Address(), t.Versioning)
	}
	return nil
}

// TargetVersioning is the error for a target that could keep versions and does not.
func TargetVersioning(address string, is object.Versioning) error {
	return fault.New(fault.Conflict, "target-versioning",
		"versioning is %s at %s: a copy would replace what is there for good",
		is, address).In("target").Do("switch versioning on there; what waits is kept and goes on by itself")
}

// run works until nothing is due, or the target is not worth going on with.
func (w *replicator) run(ctx context.Context) error {
	if err := w.open(ctx); err != nil {
		if !fault.HasCode(err, "circuit") {
			w.fails(ctx, err)
			w.note(err)
		}
		return w.postpone(ctx, err)
	}
	if w.conn != nil {
		defer w.conn.Circuit.Pass() // others may have done what was due: then nothing was asked of the endpoint
	}
	w.large, w.results = make(chan struct{}, largeAtOnce), make(chan replicaResult, replicasAtOnce)
	under, stop := crew.Still(ctx, w.may)
	defer stop()
	err := (&flight{replicator: w, claims: replicasAtOnce, under: map[string]catalog.ReplicaTask{},
		wrote: make(chan error, 1)}).run(under)
	if refused := crew.RefusedOf(under); refused != nil && ctx.Err() == nil {
		w.fails(ctx, refused)
		return w.postpone(ctx, refused)
	}
	return err
}

// postpone keeps a target from being opened again at once.
func (w *replicator) postpone(ctx context.Context, err error) error {
	select {
	case <-ctx.Done():
	case <-time.After(time.Second):
	}
	return err
}

func (w *replicator) note(err error) {
	if w.conn != nil {
		w.conn.Circuit.Note(err, time.Now())
	}
}

// fails has the catalog say why the target fails, or that it does not.
func (w *replicator) fails(ctx context.Context, err error) {
	rs := w.crew.replicas
	rs.mu.Lock()
	was, known := rs.failing[w.target.ID]
	rs.failing[w.target.ID] = err != nil
	rs.mu.Unlock()
	if err == nil && known && !was {
		return
	}
	if err == nil {
		if err := w.crew.Store.Catalog.HurryReplicas(ctx, w.target.ID); err != nil {
			w.crew.Log.Debug("what waits is tried when its pause is over", "error", err)
		}
	}
	code, says := "", ""
	if err != nil {
		f := fault.From(err)
		code, says = f.Code, f.Message
	}
	if err != nil && !was && w.conn != nil { // how the endpoint stands is found out at once
		if err := w.crew.Store.Catalog.CheckSoon(ctx, w.target.EndpointID); err != nil {
			w.crew.Log.Debug("the endpoint is checked at its usual time", "error", err)
		}
	}
	if err := w.crew.Store.Catalog.TargetFails(ctx, w.target.ID, code, says); err != nil {
		w.crew.Log.Debug("how a target stands could not be noted", "error", err)
	}
}

// one does what must be done for a key.
func (w *replicator) one(ctx context.Context, t catalog.ReplicaTask) (catalog.ReplicaDone, error) {
	done := catalog.ReplicaDone{ReplicaTask: t, Have: t.Have, Lag: -1}
	key, err := object.ParseKey(t.Key)
	if err != nil {
		return done, err
	}
	a := catalog.Address{Bucket: w.source.Bucket, Key: key}
	now, err := w.crew.Store.ReplicaNow(ctx, a)
	if err != nil {
		return done, err
	}
	act := replication.Decide(w.rule, w.above, now, t.Have, w.place)
	there := w.target.Key(t.Key)
	switch act.Deed {
	case replication.Nothing:
		if act.There { // a removal here is one there, too
			done.Have = replication.Have{Number: now.Version.Number, Revision: now.Version.Revision}
		}
		return done, nil
	case replication.Remove:
		err = w.remove(ctx, there, now, t)
		done.Have = replication.Have{}
	case replication.Annotate:
		done.Have, err = w.annotate(ctx, there, now, t)
		if k := fault.KindOf(err); err != nil && (k == fault.Unfinished || k == fault.Precondition || k == fault.NotFound) {
			done.Have, done.Size, err = w.copy(ctx, a, there, now, t)
		}
	case replication.Copy:
		done.Have, done.Size, err = w.copy(ctx, a, there, now, t)
	}
	if fault.HasCode(err, "replica-returned") { // it is where it came from
		done.Have, err = t.Have, nil
		if v := now.Version; v != nil && !v.Marker {
			done.Have = replication.Have{Number: v.Number, Revision: v.Revision}
		}
	}
	if t.Seq > 0 {
		done.Lag = w.crew.Store.Catalog.Now().Sub(t.Since)
	}
	return done, err
}

// origin is what a copy of a version carries, or what the removal of the key does. What is
// to be written over whatever is there counts as written now.
func (w *replicator) origin(now replication.Now, t catalog.ReplicaTask) string {
	v, place := now.Version, w.crew.Store.Place(w.rule.Bucket)
	o := replication.Origin{Key: t.Key, Through: []string{place}, Written: t.Changed}
	if v != nil {
		o = now.Origin.Onward(place, t.Key, v)
	}
	if o.Written.IsZero() { // a removal of which nobody knows when it was: only our own gives way
		o.Written = time.UnixMicro(1)
	}
	if t.Overwrite {
		o.Written = w.crew.Store.Catalog.Now()
	}
	return o.String()
}

// facts are what a copy of a version carries.
func (w *replicator) facts(now replication.Now, t catalog.ReplicaTask) side.Facts {
	f := side.FactsOf(now.Version, w.target.Class)
	f.Origin = w.origin(now, t)
	return f
}

// copy writes a version there, and gives how many of its bytes are still to be counted.
func (w *replicator) copy(ctx context.Context, a catalog.Address, there string, now replication.Now,
	t catalog.ReplicaTask) (replication.Have, int64, error) {
	v := now.Version
	if t.Again && !t.Repair {
		if have, is, err := w.already(ctx, there, now, t); is || err != nil {
			return have, 0, err
		}
	}
	if v.Size > largeReplica {
		select {
		case w.large <- struct{}{}:
			defer func() { <-w.large }()
		case <-ctx.Done():
			return t.Have, 0, ctx.Err()
		}
	}
	uncounted := v.Size
	write := side.Write{Facts: w.facts(now, t), Sealed: w.target.Sealed, Upload: t.Upload,
		Keep: func(upload string, there, sent int64) error {
			uncounted = 0 // parts are counted as they arrive
			return w.crew.Store.Catalog.KeepReplicaUpload(ctx, w.target.ID, t, upload, v.Size-there, sent,
				w.crew.Settings.Lease)
		}}
	if v.ETag.Parts == 0 {
		write.MD5 = v.ETag.String()
	}
	f, err := w.there.Write(ctx, there, w.source.Version(a, v), write)
	if fault.HasCode(err, "restore-first") {
		err = w.fetch(ctx, a, v)
	}
	return replication.Have{Number: v.Number, Revision: v.Revision, ETag: f.ETag, Version: f.Version}, uncounted, err
}

// fetch asks for a restored copy of what cannot be read before, and gives the error that
// has the key wait for it.
func (w *replicator) fetch(ctx context.Context, a catalog.Address, v *object.Version) error {
	r, err := w.crew.Store.Fetch(ctx, a, v.ID(), 1, catalog.Author{Who: w.rule.By, Source: w.rule.Source})
	if err != nil {
		return err
	}
	left := max(time.Second, r.Due.Sub(w.crew.Store.Catalog.Now()))
	return fault.New(fault.Conflict, "restore-first", "it is in the tier %s: a restored copy is made, and is there on %s",
		r.Tier.Name, r.Due.UTC().Format("2006-01-02 15:04 MST")).In("source").Because(waits(left))
}

// waits is how long something must be waited for, as the cause of an error.
type waits time.Duration

func (w waits) Error() string { return "to be waited for " + time.Duration(w).String() }

func (w *replicator) annotate(ctx context.Context, there string, now replication.Now,
	t catalog.ReplicaTask) (replication.Have, error) {
	f := w.facts(now, t)
	f.ETag = t.Have.ETag
	f, err := w.there.Annotate(ctx, there, f)
	return replication.Have{Number: now.Version.Number, Revision: now.Version.Revision, ETag: f.ETag, Version: f.Version},
		err
}

// already reports whether the target has a version as it is, from an attempt of which nobody
// knows how it ended: then it is not sent again.
func (w *replicator) already(ctx context.Context, there string, now replication.Now,
	t catalog.ReplicaTask) (replication.Have, bool, error) {
	v := now.Version
	verdict, is, err := w.there.Judge(ctx, there, w.origin(now, t))
	if fault.KindOf(err) == fault.NotFound && !fault.HasCode(err, "bucket-missing") {
		return replication.Have{}, false, nil
	}
	if err != nil {
		return replication.Have{}, false, err
	}
	tags := is.Tags == nil && len(v.Tags) == 0 || maps.Equal(is.Tags, v.Tags)
	same := verdict != replication.Newer && sameContent(v, is) && tags && maps.Equal(is.Metadata, v.Metadata) &&
		is.Headers == side.FactsOf(v, "").Headers && t.Have.Number != v.Number
	return replication.Have{Number: v.Number, Revision: v.Revision, ETag: is.ETag, Version: is.Version}, same, nil
}

// sameContent reports whether what a target has is surely the content of a version.
func sameContent(v *object.Version, is side.Facts) bool {
	if v.Size != is.Size {
		return false
	}
	if is.CRC64 != nil {
		return *is.CRC64 == v.CRC64
	}
	return v.ETag.Parts == 0 && strings.EqualFold(v.ETag.String(), is.ETag)
}

// remove takes what is at a target away because it was removed here. A copy that came from
// here goes; so does what was written before the removal, of a key that the rule copied, or was
// to copy. Of what is not known here at all only copies that came from here go.
func (w *replicator) remove(ctx context.Context, there string, now replication.Now, t catalog.ReplicaTask) error {
	origin := w.origin(now, t)
	verdict, is, err := w.there.Judge(ctx, there, origin)
	switch {
	case fault.KindOf(err) == fault.NotFound && !fault.HasCode(err, "bucket-missing"):
		return nil
	case err != nil:
		return err
	}
	knows := now.Knows(t.Have, w.place) || now.Before != nil // else it was to be copied: Decide says so
	ours := verdict == replication.Own || t.Overwrite || verdict == replication.Older && knows
	if verdict == replication.Untold {
		ours = t.Overwrite || t.Have.ETag != "" && is.ETag == t.Have.ETag
		if !ours {
			if ours, err = w.crew.Store.HadContent(ctx, w.source.Bucket, t.Key, is.Size, is.ETag, is.CRC64); err != nil {
				return err
			}
		}
	}
	switch {
	case ours:
		return w.there.RemoveReplica(ctx, there, origin)
	case knows || verdict == replication.Untold && t.Again:
		return store.NewerThere()
	}
	return nil
}
