package jobs

import (
	"cmp"
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/desk/middle"
	work "spindle/internal/works/jobs"
)

func censusRunInfo(r *census.Run, files bool) *api.CensusRunInfo {
	x := &api.CensusRunInfo{ID: r.ID, State: string(r.State), Who: r.Who, Asked: r.Asked, Started: r.Started,
		Ended: r.Ended,
		AsOf:  r.AsOf,
		Code:  r.Code, Says: r.Says, Rows: r.Rows, Total: r.Total, Objects: r.Objects, Bytes: r.Result.Bytes, Sent: r.Sent,
		Columns: r.Columns, Format: string(r.Format)}
	if r.To.Bucket != "" {
		x.To = r.To.String()
	}
	if files {
		x.Files = r.Files
	}
	return x
}

func censusInfo(c *census.Census, last *census.Run) api.CensusInfo {
	x := api.CensusInfo{Name: c.Name, On: c.On, To: c.To.String(), Where: c.Where, Columns: c.Columns,
		Format:   string(c.Format),
		Versions: c.Versions, Schedule: c.Schedule, Zone: c.Zone, Note: c.Note, Next: c.Next, Revision: c.Revision,
		Created: c.Created, ChangedBy: c.Who}
	if c.From.Bucket != "" {
		x.From = c.From.String()
	}
	if last != nil {
		x.Last = censusRunInfo(last, false)
	}
	return x
}

func (d *Desk) censusCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const one = "/censuses/{census}"
	middle.Call(to, mine, "list-censuses", "GET /censuses", "census", "List censuses", d.listCensuses)
	middle.Call(to, mine, "show-census", "GET "+one, "census", "Show a census", d.showCensus)
	middle.Call(to, mine, "add-census", "POST /censuses", "census", "Add a census; its first is written at once", d.addCensus,
		middle.Answers(201))
	middle.Call(to, mine, "change-census", "PATCH "+one, "census", "Change a census", d.changeCensus)
	middle.Call(to, mine, "remove-census", "DELETE "+one, "census", "Remove a census; its files stay", d.removeCensus,
		middle.Answers(204))
	middle.Call(to, mine, "list-census-runs", "GET "+one+"/runs", "census", "List the runs of a census, latest first",
		d.censusRuns)
	middle.Call(to, mine, "run-census", "POST "+one+"/runs", "census", "Write a census now", d.runCensus, middle.Answers(201))
	middle.Call(to, mine, "show-census-run", "GET "+one+"/runs/{run}", "census",
		"Show a run; 0 is the latest that was written whole",
		d.showCensusRun)
	middle.Call(to, mine, "stop-census-run", "POST "+one+"/runs/{run}/stop", "census", "Stop a run", d.stopCensusRun,
		middle.Answers(204))
	middle.Call(to, mine, "read-census", "POST "+one+"/runs/{run}/rows", "census", "Read the rows of a census", d.readCensus)
	middle.Call(to, mine, "sum-census", "POST "+one+"/runs/{run}/totals", "census", "Sum the rows of a census by a column",
		d.sumCensus)
	middle.Call(to, mine, "compare-censuses", "POST "+one+"/runs/{run}/compare", "census",
		"Say what came, went and changed since an earlier run", d.compareCensuses)
}

// CensusPath names a census of the account one acts in.
type CensusPath struct {
	Census string `path:"census" maxLength:"63"`
}

// CensusRunPath names a run of a census; 0 is the latest that was written whole.
type CensusRunPath struct {
	CensusPath
	Run int64 `path:"run" minimum:"0"`
}

type censusOut struct{ Body api.CensusInfo }

type censusRunOut struct{ Body api.CensusRunInfo }

func (d *Desk) myCensus(ctx context.Context, name string) (*census.Census, error) {
	return d.Store.Catalog.Census(ctx, middle.Who(ctx).Subject.Account, name)
}

func (d *Desk) oneCensus(ctx context.Context, name string) (*censusOut, error) {
	c, err := d.myCensus(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.censusInfos(ctx, []*census.Census{c})
	if err != nil {
		return nil, err
	}
	return &censusOut{list[0]}, nil
}

func (d *Desk) censusInfos(ctx context.Context, list []*census.Census) ([]api.CensusInfo, error) {
	return middle.WithRuns(list, func(c *census.Census) int64 { return c.ID }, func(ids []int64) (map[int64]census.Run, error) {
		return d.Store.Catalog.LastCensusRuns(ctx, ids)
	}, censusInfo)
}

func (d *Desk) showCensus(ctx context.Context, in *CensusPath) (*censusOut, error) {
	return d.oneCensus(ctx, in.Census)
}

func (d *Desk) listCensuses(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"63"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (out *struct {
	Body struct {
		Censuses []api.CensusInfo `json:"censuses"`
		Next     string           `json:"next,omitempty"`
	}
}, err error) {
	all, err := d.Store.Catalog.Censuses(ctx, middle.Who(ctx).Subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	all, body.Next = middle.Cut(all, in.Limit, func(c *census.Census) string { return c.Name })
	body.Censuses, err = d.censusInfos(ctx, all)
	return out, err
}

func applyCensus(c *api.CensusChange, x *census.Census, now time.Time) (err error) {
	middle.Set(&x.On, c.On)
	middle.Set(&x.Where, c.Where)
	middle.Set(&x.Columns, c.Columns)
	middle.Set((*string)(&x.Format), c.Format)
	middle.Set(&x.Versions, c.Versions)
	middle.Set(&x.Schedule, c.Schedule)
	middle.Set(&x.Zone, c.Zone)
	middle.Set(&x.Note, c.Note)
	if c.From != nil {
		if x.From, err = census.ParseFrom(*c.From); err != nil {
			return err
		}
	}
	if c.To != nil {
		if x.To, err = syncing.ParsePlace(*c.To); err != nil {
			return fault.From(err).In("to")
		}
	}
	if err := x.Check(now); err != nil {
		return err
	}
	x.Next, err = work.NextCensus(x, now)
	return err
}

// mayCensus refuses what who asks may not list, or write to.
func (d *Desk) mayCensus(ctx context.Context, x *census.Census) error {
	buckets, err := work.CensusBuckets(ctx, d.Store.Catalog, x)
	if err != nil {
		return err
	}
	for i, n := range work.CensusNeeds(x, buckets) {
		field := "from"
		if i == 0 {
			field = "to"
		}
		if n.Place.Endpoint != "" {
			if _, err := d.Conn(ctx, n.Place.Endpoint); err != nil {
				return fault.From(err).In(field)
			}
			continue
		}
		name, err := object.ParseBucketName(n.Place.Bucket)
		if err == nil {
			err = d.MayAt(ctx, n.Do, name, n.Place.Prefix)
		}
		if err != nil {
			return fault.From(err).In(field)
		}
	}
	return nil
}

func (d *Desk) addCensus(ctx context.Context, in *struct {
	Body api.NewCensus
}) (*censusOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	x := &census.Census{Name: in.Body.Name, Account: middle.Who(ctx).Subject.Account, Who: by.Who, On: true,
		Spec: census.Spec{Columns: census.Usual, Format: census.CSV}}
	if in.Body.To == nil {
		return nil, fault.New(fault.Invalid, "census-to", "it is not said where the census goes").In("to").Do("name a bucket")
	}
	err := applyCensus(&in.Body.CensusChange, x, by.At)
	if err == nil {
		err = d.mayCensus(ctx, x)
	}
	if err == nil {
		err = d.Store.Catalog.AddCensus(ctx, x, by)
	}
	if err != nil {
		return nil, err
	}
	return d.oneCensus(ctx, x.Name)
}

func (d *Desk) changeCensus(ctx context.Context, in *struct {
	CensusPath
	Body api.CensusUpdate
}) (*censusOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	x, err := d.myCensus(ctx, in.Census)
	if err == nil {
		err = applyCensus(&in.Body.CensusChange, x, by.At)
	}
	if err == nil {
		err = d.mayCensus(ctx, x)
	}
	if err != nil {
		return nil, err
	}
	at := cmp.Or(in.Body.IfRevision, x.Revision) // what was looked at is what is changed
	if err := d.Store.Catalog.ChangeCensus(ctx, middle.Who(ctx).Subject.Account, in.Census, at, by,
		func(is *census.Census) error {
			*is = *x
			return nil
		}); err != nil {
		return nil, err
	}
	return d.oneCensus(ctx, in.Census)
}

func (d *Desk) removeCensus(ctx context.Context, in *CensusPath) (*struct{}, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	return nil, d.Store.Catalog.RemoveCensus(ctx, middle.Who(ctx).Subject.Account, in.Census, by)
}

func (d *Desk) censusRuns(ctx context.Context, in *struct {
	CensusPath
	Before int64 `query:"before" minimum:"0" doc:"Only runs before this one"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (out *struct {
	Body struct {
		Runs []api.CensusRunInfo `json:"runs"`
		Next int64               `json:"next,omitempty" doc:"Give it as before for the next page; absent at the end"`
	}
}, err error) {
	c, err := d.myCensus(ctx, in.Census)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.CensusRuns(ctx, c.ID, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	list, body.Next = middle.Cut(list, in.Limit, func(r census.Run) int64 { return r.ID })
	body.Runs = make([]api.CensusRunInfo, len(list))
	for i := range list {
		body.Runs[i] = *censusRunInfo(&list[i], false)
	}
	return out, nil
}

// myCensusRun gives a run of a census of the account one acts in.
func (d *Desk) myCensusRun(ctx context.Context, in *CensusRunPath) (*census.Census, census.Run, error) {
	c, err := d.myCensus(ctx, in.Census)
	if err != nil {
		return nil, census.Run{}, err
	}
	r, err := d.Store.Catalog.CensusRun(ctx, c.ID, in.Run)
	return c, r, err
}

func (d *Desk) showCensusRun(ctx context.Context, in *CensusRunPath) (*censusRunOut, error) {
	_, r, err := d.myCensusRun(ctx, in)
	if err != nil {
		return nil, err
	}
	return &censusRunOut{*censusRunInfo(&r, true)}, nil
}

func (d *Desk) runCensus(ctx context.Context, in *CensusPath) (*censusRunOut, error) {
	c, err := d.myCensus(ctx, in.Census)
	if err == nil {
		err = d.mayCensus(ctx, c)
	}
	if err != nil {
		return nil, err
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	id, err := d.Store.Catalog.AskCensus(ctx, c, by)
	if err != nil {
		return nil, err
	}
	r, err := d.Store.Catalog.CensusRun(ctx, c.ID, id)
	if err != nil {
		return nil, err
	}
	return &censusRunOut{*censusRunInfo(&r, false)}, nil
}

func (d *Desk) stopCensusRun(ctx context.Context, in *CensusRunPath) (*struct{}, error) {
	_, r, err := d.myCensusRun(ctx, in)
	if err != nil {
		return nil, err
	}
	return nil, d.Store.Catalog.StopCensus(ctx, r.ID, d.Store.Catalog.Now())
}
