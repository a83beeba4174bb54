package objects

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
)

func runInfo(r *catalog.Run, seen middle.Veil) api.RunInfo {
	return api.RunInfo{ID: r.ID, State: r.State.String(), Revision: r.Revision, Whole: r.Whole, Started: r.Started,
		Ended: r.Ended,
		By:    seen.By(r.Who), Allowed: seen.By(r.Allowed), Counts: append([]lifecycle.RunCount{}, r.Counts...), Says: r.Says}
}

func (d *Desk) runCalls(to *middle.Calls, reads, changes middle.Rule) {
	const topic, base = "lifecycle", "/buckets/{bucket}/lifecycle/runs"
	middle.Call(to, reads, "list-runs", "GET "+base, topic, "List the runs of a bucket's rules, latest first", d.listRuns)
	middle.Call(to, changes, "start-run", "POST "+base, topic, "Have the rules act now, on the whole bucket", d.startRun,
		middle.Answers(201))
	middle.Call(to, reads, "show-run", "GET "+base+"/{run}", topic, "Show a run", d.showRun)
	middle.Call(to, reads, "list-outcomes", "GET "+base+"/{run}/outcomes", topic, "List what a run did to each object",
		d.listOutcomes)
	middle.Call(to, changes, "answer-run", "POST "+base+"/{run}/answer", topic, "Let a run that asks go on, or stop a run",
		d.answerRun)
}

// ruled gives a bucket's facts, and how much is told of who did something in it.
func (d *Desk) ruledBucket(ctx context.Context, bucket string) (f catalog.BucketFacts, seen middle.Veil, err error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return f, seen, err
	}
	if f, err = d.Store.Facts(ctx, name); err != nil {
		return f, seen, err
	}
	seen, err = d.VeilFor(ctx, name)
	return f, seen, err
}

func (d *Desk) listRuns(ctx context.Context, in *struct {
	middle.BucketPath
	Before int64 `query:"before" minimum:"0"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (*struct{ Body api.RunPage }, error) {
	f, seen, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.Runs(ctx, f.ID, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &struct{ Body api.RunPage }{api.RunPage{Runs: []api.RunInfo{}}}
	for i, r := range list {
		if i == in.Limit {
			out.Body.Next = list[i-1].ID
			break
		}
		out.Body.Runs = append(out.Body.Runs, runInfo(r, seen))
	}
	return out, nil
}

type runOut struct{ Body api.RunInfo }

// RunPath names a run of a bucket's rules.
type RunPath struct {
	middle.BucketPath
	Run int64 `path:"run" minimum:"1"`
}

func (d *Desk) showRun(ctx context.Context, in *RunPath) (*runOut, error) {
	f, seen, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	r, err := d.Store.Catalog.RunOf(ctx, f.ID, in.Run)
	if err != nil {
		return nil, err
	}
	return &runOut{runInfo(r, seen)}, nil
}

// startRun has the rules act without waiting for their time, and looks at the whole
// bucket. The grace of rules that are new is over by that.
func (d *Desk) startRun(ctx context.Context, in *middle.BucketPath) (*runOut, error) {
	f, seen, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	l, err := d.Store.Catalog.Lifecycle(ctx, f.ID)
	if err != nil {
		return nil, err
	}
	set, err := d.Store.RuleSet(ctx, l.Rules)
	if err != nil {
		return nil, err
	}
	if !set.Acts() {
		return nil, fault.New(fault.Conflict, "rules-none", "the bucket has no rule that acts").In("bucket").
			Do("add one (spindle lifecycle add), or switch one on")
	}
	by := middle.Author(ctx)
	r := &catalog.Run{Bucket: f.ID, Revision: l.Revision, Started: d.Store.Catalog.Now().UTC().Truncate(time.Microsecond),
		Who: by.Who, Whole: true}
	if err := d.Store.Catalog.OpenRun(ctx, r); err != nil {
		return nil, err
	}
	return &runOut{runInfo(r, seen)}, nil
}

func (d *Desk) answerRun(ctx context.Context, in *struct {
	RunPath
	Body api.RunAnswer
}) (*runOut, error) {
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	if _, err := d.Store.Catalog.RunOf(ctx, f.ID, in.Run); err != nil {
		return nil, err
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now().UTC().Truncate(time.Microsecond)
	if err := d.Store.Catalog.AnswerRun(ctx, f.ID, in.Run, in.Body.GoOn, by); err != nil {
		return nil, err
	}
	return d.showRun(ctx, &in.RunPath)
}

func (d *Desk) listOutcomes(ctx context.Context, in *struct {
	RunPath
	After  int64 `query:"after" minimum:"0"`
	Failed bool  `query:"failed" doc:"Only those that could not be done"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*struct{ Body api.OutcomePage }, error) {
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	if _, err := d.Store.Catalog.RunOf(ctx, f.ID, in.Run); err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.Outcomes(ctx, in.Run, in.After, in.Failed, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &struct{ Body api.OutcomePage }{api.OutcomePage{Outcomes: []api.OutcomeInfo{}}}
	for i, o := range list {
		if i == in.Limit {
			out.Body.Next = list[i-1].Seq
			break
		}
		x := api.OutcomeInfo{Key: string(o.Key), Size: o.Size, Rule: o.Rule, Did: o.Did, At: o.At.UTC(), Fault: o.Says}
		if o.Number != 0 {
			x.Version = object.VersionID(o.Number).String()
		}
		out.Body.Outcomes = append(out.Body.Outcomes, x)
	}
	return out, nil
}
