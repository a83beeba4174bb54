package jobs

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/core/syncing"
	"spindle/internal/desk/middle"
)

func (d *Desk) syncRuns(ctx context.Context, in *struct {
	SyncPath
	Before int64 `query:"before" minimum:"0" doc:"Only runs before this one"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (out *struct {
	Body struct {
		Runs []api.SyncRunInfo `json:"runs"`
		Next int64             `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
	}
}, err error) {
	j, err := d.mySync(ctx, in.Sync)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.SyncRuns(ctx, j.ID, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	list, body.Next = middle.Cut(list, in.Limit, func(r syncing.Run) int64 { return r.ID })
	body.Runs = make([]api.SyncRunInfo, len(list))
	for i := range list {
		body.Runs[i] = *syncRunInfo(&list[i])
	}
	return out, nil
}

// SyncRunPath names a run of a job.
type SyncRunPath struct {
	SyncPath
	Run int64 `path:"run" minimum:"1"`
}

type syncRunOut struct{ Body api.SyncRunInfo }

func (d *Desk) myRun(ctx context.Context, in *SyncRunPath) (syncing.Run, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err != nil {
		return syncing.Run{}, err
	}
	return d.Store.Catalog.SyncRun(ctx, j.ID, in.Run)
}

func (d *Desk) showSyncRun(ctx context.Context, in *SyncRunPath) (*syncRunOut, error) {
	r, err := d.myRun(ctx, in)
	if err != nil {
		return nil, err
	}
	return &syncRunOut{*syncRunInfo(&r)}, nil
}

func (d *Desk) runSync(ctx context.Context, in *struct {
	SyncPath
	Body api.SyncRunAsk
}) (*syncRunOut, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err == nil {
		err = d.maySync(ctx, j)
	}
	if err != nil {
		return nil, err
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	id, err := d.Store.Catalog.AskSync(ctx, j, in.Body.Anyway, by)
	if err != nil {
		return nil, err
	}
	r, err := d.Store.Catalog.SyncRun(ctx, j.ID, id)
	if err != nil {
		return nil, err
	}
	return &syncRunOut{*syncRunInfo(&r)}, nil
}

func (d *Desk) stopSyncRun(ctx context.Context, in *SyncRunPath) (*struct{}, error) {
	r, err := d.myRun(ctx, in)
	if err != nil {
		return nil, err
	}
	return nil, d.Store.Catalog.StopSync(ctx, r.ID, d.Store.Catalog.Now())
}

func (d *Desk) syncOutcomes(ctx context.Context, in *struct {
	SyncRunPath
	After  int64 `query:"after" minimum:"0"`
	Failed bool  `query:"failed" doc:"Only what failed"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (out *struct {
	Body struct {
		Outcomes []api.SyncOutcomeInfo `json:"outcomes"`
		Next     int64                 `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
	}
}, err error) {
	r, err := d.myRun(ctx, &in.SyncRunPath)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.SyncOutcomes(ctx, r.ID, in.After, in.Failed, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	list, body.Next = middle.Cut(list, in.Limit, func(o syncing.Outcome) int64 { return o.Seq })
	body.Outcomes = make([]api.SyncOutcomeInfo, len(list))
	for i, o := range list {
		body.Outcomes[i] = api.SyncOutcomeInfo{Key: o.Key, Do: string(o.Do), Why: string(o.Why), Bytes: o.Bytes, Code: o.Code,
			Says: o.Says}
	}
	return out, nil
}
