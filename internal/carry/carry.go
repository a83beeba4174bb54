package carry

import (
	"context"
	"errors"
	"iter"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/fault"
	"spindle/internal/core/syncing"
	"spindle/internal/side"
)

// Job says what is brought where, and how.
type Job struct {
	From, To side.Side
	Options  syncing.Options
	Guard    syncing.Guard
	Anyway   bool // the guard does not stop it
	Parallel int  // objects under way; default 8

	Class  string                // tier here or storage class there; "": the usual one
	Sealed bool                  // at rest
	Rate   func(time.Time) int64 // bytes a second that may be sent at a moment, 0 for any; nil: any

	// Uploads remembers uploads of large objects that are under way; nil: they begin anew.
	Uploads Uploads

	Tell  func(context.Context, Outcome) // hears of every object that is not as it was, side by side and outside of any lock; nil: nobody does
	Moved func(bytes int64)              // hears of bytes that were sent; nil: nobody does
	Ready func(total *syncing.Totals)    // hears of what will be done; nil: nobody does
	Each  func(step *syncing.Step) bool  // hears of every step of a rehearsal; false ends it

	mu     sync.Mutex
	result Result
	row    int            // failures in a row that say that a side is away, or full
	full   error          // the last of them, when it was full
	again  []syncing.Step // that failed for what may pass, to be tried at the end
	atEnd  bool           // it is the end
	hand   atHand
	pace   pace
}

// Uploads remembers what was begun of an object, known by its key and by what tells its
// content apart.
type Uploads interface {
	Known(key, content string) (upload string)
	Keep(key, content, upload string) error // "" forgets it
}

// Outcome is what became of an object.
type Outcome struct {
	Key   string
	Do    syncing.Deed
	Why   syncing.Why
	Bytes int64
	Err   error // nil: it was done
}

// Result is what a run came to.
type Result struct {
	Plan     syncing.Totals
	Written  syncing.Sum
	Same     syncing.Sum
	Removed  syncing.Sum // at the target
	Drained  syncing.Sum // at the source
	Failed   int64
	Refused  int64       // of them: that can never be carried over
	NotTaken int64       // removals that were left, because something failed
	AtHand   syncing.Sum // of what was written: copied at the target, not sent
}

const (
	usualParallel = 8
	againMost     = 10_000
	awayAfter     = 30 // objects in a row that fail because a side is away end a run
	tries         = 4
)

func (j *Job) steps(ctx context.Context) iter.Seq2[syncing.Step, error] {
	o := j.Options
	if o.Now.IsZero() {
		o.Now = time.Now()
	}
	if h, ok := j.To.(interface{ CanHold(string) error }); ok {
		o.CanHold = h.CanHold
	}
	return syncing.Plan(j.entries(ctx, j.From), j.entries(ctx, j.To), o)
}

// entries gives what is at a side. Metadata and tags are asked for where they say what takes
// part.
func (j *Job) entries(ctx context.Context, of side.Side) iter.Seq2[syncing.Entry, error] {
	return func(yield func(syncing.Entry, error) bool) {
		closer := j.Options.Filter.Closer()
		for f, err := range side.All(ctx, of, j.Options.Filter.Prefix) {
			e := f.Entry()
			if err == nil && closer {
				err = patiently(ctx, func() error {
					full, err := of.Stat(ctx, f.Key)
					if fault.KindOf(err) == fault.NotFound {
						err = nil // it went; then it has none
					}
					e.Tags, e.Metadata, e.Type = full.Tags, full.Metadata, full.Headers.ContentType
					return err
				})
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// Rehearse works the plan out, and closer what is in doubt; nothing is written.
func (j *Job) Rehearse(ctx context.Context) (syncing.Totals, error) {
	var t syncing.Totals
	var hand atHand
	for s, err := range j.resolved(ctx) {
		if err != nil {
			return t, err
		}
		hand.add(&s)
		if t.Add(&s); j.Each != nil && !j.Each(&s) {
			break
		}
	}
	hand.count(&t)
	return t, nil
}

// resolved gives the steps in their order, those in doubt looked at closer, several at a
// time.
func (j *Job) resolved(ctx context.Context) iter.Seq2[syncing.Step, error] {
	type looked struct {
		step syncing.Step
		err  error
	}
	return func(yield func(syncing.Step, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		coming := make(chan chan looked, max(j.Parallel, usualParallel))
		go func() {
			defer close(coming)
			for s, err := range j.steps(ctx) {
				one := make(chan looked, 1)
				select {
				case coming <- one:
				case <-ctx.Done():
					return
				}
				if err != nil || s.Do != syncing.Doubt {
					one <- looked{s, err}
					continue
				}
				go func() {
					err := patiently(ctx, func() error { return j.resolve(ctx, &s) })
					one <- looked{s, err}
				}()
			}
		}()
		for one := range coming {
			if x := <-one; !yield(x.step, x.err) || x.err != nil {
				return
			}
		}
	}
}

// Weigh counts the plan without looking closer: what is in doubt counts as replaced. When
// that is more than the guard allows it is looked at.
func (j *Job) weigh(ctx context.Context) (syncing.Totals, error) {
	var t syncing.Totals
	j.hand = atHand{}
	for s, err := range j.steps(ctx) {
		if err != nil {
			return t, err
		}
		t.Add(&s)
		j.hand.add(&s)
	}
	j.hand.count(&t)
	bad := t
	bad.Replace.Objects += bad.Doubt.Objects
	if bad.Doubt.Objects == 0 || j.Anyway || j.Guard.Check(&bad, j.Options.Mode) == nil {
		return t, nil
	}
	each := j.Each
	j.Each = nil
	defer func() { j.Each = each }()
	return j.Rehearse(ctx)
}

// Check refuses a target that is a place for sealed contents, or lies in one, when nothing seals
// what is written: it would stand there for all to read, and replace what is sealed. What is
// sealed itself, in the same way, may come there. The error has the code target-sealed.
func (j *Job) Check(ctx context.Context) error {
	if _, seals := j.To.(*side.Sealed); seals {
		return nil
	}
	to, err := side.MarkOver(ctx, j.To)
	if err != nil || to == nil {
		return err
	}
	if _, opens := j.From.(*side.Sealed); !opens {
		if from, err := side.ReadMark(ctx, j.From); err != nil || from != nil && from.Recipient == to.Recipient {
			return err
		}
	}
	return fault.New(fault.Conflict, "target-sealed",
		"the target holds sealed contents, and this would write others in between").
		In("to").Do("choose another prefix, or seal what is written with the passphrase of the target")
}

// Run brings the target to the source. The errors are those of Check, of listings, of the guard,
// side-away when a side does not serve for long, and that of ctx; what fails of single
// objects is in the result.
func (j *Job) Run(ctx context.Context) (Result, error) {
	if err := patiently(ctx, func() error { return j.Check(ctx) }); err != nil {
		return Result{}, err
	}
	plan, err := j.weigh(ctx)
	if err != nil {
		return Result{}, err
	}
	j.set(func(r *Result) { *r, j.again, j.atEnd, j.row = Result{Plan: plan}, nil, false, 0 })
	if !j.Anyway {
		if err := j.Guard.Check(&plan, j.Options.Mode); err != nil {
			return j.Result(), err
		}
	}
	if j.Ready != nil {
		j.Ready(&plan)
	}
	if t := &plan; !t.Differ() && t.Doubt.Objects == 0 && j.Options.Mode != syncing.Drain {
		j.set(func(r *Result) { r.Same = t.Same })
		return j.Result(), nil
	}
	if err := j.pass(ctx, j.copies); err != nil {
		return j.Result(), err
	}
	if err := j.onceMore(ctx); err != nil {
		return j.Result(), err
	}
	switch {
	case plan.Remove.Objects == 0:
	case j.Result().Failed > j.Result().Refused: // what cannot be there is no reason to keep what is gone
		j.set(func(r *Result) { r.NotTaken = plan.Remove.Objects })
	default:
		err = j.pass(ctx, j.removals)
	}
	return j.Result(), err
}

// onceMore tries what failed for a reason that may have passed.
func (j *Job) onceMore(ctx context.Context) error {
	j.atEnd = true
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(max(j.Parallel, 1))
	for _, s := range j.again {
		g.Go(func() error {
			if gctx.Err() != nil || j.copies(gctx, s) {
				return gctx.Err()
			}
			return j.away()
		})
	}
	return errors.Join(g.Wait(), ctx.Err())
}

func (j *Job) set(f func(*Result)) {
	j.mu.Lock()
	defer j.mu.Unlock()
	f(&j.result)
}

// Result gives what the run has come to so far.
func (j *Job) Result() Result {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.result
}

// allowed is how much a run may take away at the most, which may have grown since the plan
// was weighed.
func (j *Job) allowed() int64 {
	p := &j.result.Plan
	return p.Replace.Objects + p.Doubt.Objects + p.Remove.Objects + max(5, int64(j.Guard.Share*float64(p.Target)))
}

// pass goes through the plan and has several steps carried out at a time.
func (j *Job) pass(ctx context.Context, do func(ctx context.Context, s syncing.Step) bool) error {
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(max(j.Parallel, 1))
	if j.Parallel == 0 {
		g.SetLimit(usualParallel)
	}
	taken := int64(0)
	for s, err := range j.steps(gctx) {
		if err != nil {
			return errors.Join(g.Wait(), err)
		}
		if s.Replaces() {
			if taken++; taken > j.allowed() && !j.Anyway {
				return errors.Join(g.Wait(), fault.New(fault.Conflict, "guard",
					"more would be removed or replaced than when the run began").In("guard").
					Do("rehearse it again: a side changes while it is compared"))
			}
		}
		g.Go(func() error {
			if gctx.Err() != nil || do(gctx, s) {
				return gctx.Err()
			}
			return j.away()
		})
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// copies carries out what writes; it reports false when nothing goes through any more.
func (j *Job) copies(ctx context.Context, s syncing.Step) bool {
	err := error(nil)
	if s.Do == syncing.Doubt {
		err = patiently(ctx, func() error { return j.resolve(ctx, &s) })
	}
	switch {
	case err != nil:
	case s.Do == syncing.Write:
		err = patiently(ctx, func() error { return j.write(ctx, &s) })
	case s.Do == syncing.Skip && j.Options.Mode == syncing.Drain:
		err = patiently(ctx, func() error { return j.drain(ctx, s.Key) })
	case s.Do == syncing.Refuse:
		err = fault.New(fault.Invalid, "refused-step", "%s", s.Says).In("key")
	case s.Do != syncing.Skip:
		return true
	}
	return j.note(ctx, &s, err)
}

// removals carries out what removes, once all is written.
func (j *Job) removals(ctx context.Context, s syncing.Step) bool {
	if s.Do != syncing.Remove {
		return true
	}
	return j.note(ctx, &s, patiently(ctx, func() error { return j.To.Remove(ctx, s.Key) }))
}

// note counts what became of a step, and tells of it. It reports false when too many failed in
// a row because a side is away.
func (j *Job) note(ctx context.Context, s *syncing.Step, err error) bool {
	o := Outcome{Key: s.Key, Do: s.Do, Why: s.Why, Err: err}
	if o.Bytes = size(s); errors.Is(err, context.Canceled) {
		return true // it is nobody's fault
	}
	goOn, later := j.tally(s, o.Bytes, err)
	if j.Tell != nil && !later && (err != nil || s.Do != syncing.Skip) {
		j.Tell(ctx, o)
	}
	return goOn
}

// tally counts what became of a step. goOn is false when too many failed in a row because a
// side is away; later says that the step is tried again at the end.
func (j *Job) tally(s *syncing.Step, bytes int64, err error) (goOn, later bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	sum := syncing.Sum{Objects: 1, Bytes: bytes}
	switch {
	case err != nil && passing(err) && !j.atEnd && len(j.again) < againMost:
		j.row++
		j.again = append(j.again, *s)
		return j.row < awayAfter, true
	case err != nil:
		if j.result.Failed++; passing(err) || fault.KindOf(err) == fault.Full {
			j.row++
		}
		if s.Do == syncing.Refuse {
			j.result.Refused++
		}
		if j.full = nil; fault.KindOf(err) == fault.Full {
			j.full = err
		}
	case s.Do == syncing.Skip:
		j.result.Same = j.result.Same.Plus(sum)
	case s.Do == syncing.Write:
		j.result.Written = j.result.Written.Plus(sum)
	case s.Do == syncing.Remove:
		j.result.Removed = j.result.Removed.Plus(sum)
	}
	if err == nil {
		j.row = 0
	}
	return j.row < awayAfter, false
}

func size(s *syncing.Step) int64 {
	if s.Source != nil {
		return s.Source.Size
	}
	return s.Target.Size
}

// away is what ends a run when objects in a row fail for a reason that will not pass with
// the next one.
func (j *Job) away() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.full != nil {
		return j.full
	}
	return fault.New(fault.Unavailable, "side-away", "%d objects in a row could not be carried over",
		awayAfter).In("side").
		Do("look at both sides; the same run goes on where it stopped")
}

func passing(err error) bool {
	k := fault.KindOf(err)
	return k == fault.Unavailable || k == fault.Slow
}

// patiently has f done, and again when what fails may pass.
func patiently(ctx context.Context, f func() error) (err error) {
	for i := range tries {
		if err = f(); err == nil || !passing(err) && fault.KindOf(err) != fault.Precondition {
			return err
		}
		wait := max(fault.From(err).After, 200*time.Millisecond<<(2*i))
		if i == tries-1 || wait > 30*time.Second {
			break
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
	return err
}
