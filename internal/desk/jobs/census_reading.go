package jobs

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/censusfile"
	"spindle/internal/core/access"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/runs"
	"spindle/internal/desk/middle"
	"spindle/internal/places"
)

const (
	censusReadFor = 25 * time.Second // one call reads files so long
	censusPageFor = 2 * time.Second  // then a page is short, and goes on
)

// censusSet opens what a run wrote, for one who may read it there.
func (d *Desk) censusSet(ctx context.Context, c *census.Census, r *census.Run) (*censusfile.Set, error) {
	if r.State != runs.Done {
		return nil, fault.New(fault.Conflict, "census-unwritten", "the run %d was not written whole: it is %s", r.ID,
			r.State).In("run").
			Do("read another run, or wait for its end")
	}
	columns, err := census.ParseColumns(r.Columns)
	if err != nil {
		return nil, err
	}
	if r.To.Endpoint == "" {
		name, err := object.ParseBucketName(r.To.Bucket)
		if err == nil {
			err = d.MayAt(ctx, access.Read, name, r.To.Prefix)
		}
		if err != nil {
			return nil, err
		}
	}
	by := places.SavedBy{Account: c.Account, Who: middle.Author(ctx).Who, Source: middle.Author(ctx).Source}
	of, _, err := d.sides().Bucket(ctx, by, r.To, nil)
	if err != nil {
		return nil, err
	}
	set := &censusfile.Set{Of: of, Columns: columns, Format: r.Format, Files: r.Files, Scratch: d.Settings.Scratch}
	if r.AsOf != nil {
		set.AsOf = *r.AsOf
	}
	return set, nil
}

// censusTest reads an expression about rows; nil for none.
func censusTest(s *censusfile.Set, where string) (func(census.Record) bool, error) {
	if where == "" {
		return nil, nil
	}
	x, err := query.Parse(where, s.AsOf)
	if err != nil {
		return nil, fault.From(err).In("where")
	}
	return s.Test(x)
}

// openCensus opens what a run wrote, with what an expression says of its rows.
func (d *Desk) openCensus(ctx context.Context, in *CensusRunPath, where string) (census.Run, *censusfile.Set,
	func(census.Record) bool, error) {
	c, r, err := d.myCensusRun(ctx, in)
	if err != nil {
		return r, nil, nil, err
	}
	s, err := d.censusSet(ctx, c, &r)
	if err != nil {
		return r, nil, nil, err
	}
	test, err := censusTest(s, where)
	return r, s, test, err
}

func (d *Desk) readCensus(ctx context.Context, in *struct {
	CensusRunPath
	Body api.CensusRowsAsk
}) (*struct{ Body api.CensusRows }, error) {
	r, s, test, err := d.openCensus(ctx, &in.CensusRunPath, in.Body.Where)
	if err != nil {
		return nil, err
	}
	from, err := readCensusPlace(in.Body.After)
	if err != nil {
		return nil, err
	}
	limit := in.Body.Limit
	if limit == 0 {
		limit = 100
	}
	out := api.CensusRows{Columns: r.Columns, Rows: []census.Record{}}
	begun := time.Now()
	err = s.Rows(ctx, from, func(row census.Record, at censusfile.Place) (bool, error) {
		if test == nil || test(row) {
			out.Rows = append(out.Rows, slices.Clone(row))
		}
		if len(out.Rows) < limit && (at.Rows%1000 != 0 || time.Since(begun) < censusPageFor) {
			return true, nil
		}
		out.Next = censusPlace(at)
		return false, nil
	})
	if n := len(s.Files); n > 0 && out.Next == censusPlace(censusfile.Place{File: n - 1, Rows: s.Files[n-1].Rows}) {
		out.Next = ""
	}
	return &struct{ Body api.CensusRows }{out}, err
}

func censusPlace(p censusfile.Place) string {
	b, _ := json.Marshal(p) // two numbers always can be
	return base64.RawURLEncoding.EncodeToString(b)
}

func readCensusPlace(s string) (p censusfile.Place, err error) {
	if s == "" {
		return p, nil
	}
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err == nil {
		err = json.Unmarshal(b, &p)
	}
	if err != nil || p.File < 0 || p.Rows < 0 {
		return p, fault.New(fault.Invalid, "place", "%q is no place to go on from",
			s).In("after").Do("give next of the page before")
	}
	return p, nil
}

func (d *Desk) sumCensus(ctx context.Context, in *struct {
	CensusRunPath
	Body api.CensusTotalsAsk
}) (*struct{ Body api.CensusTotals }, error) {
	_, s, test, err := d.openCensus(ctx, &in.CensusRunPath, in.Body.Where)
	if err != nil {
		return nil, err
	}
	ctx, cancel := censusTime(ctx)
	defer cancel()
	totals, err := s.Totals(ctx, in.Body.By, test)
	if err != nil {
		return nil, causeOf(ctx, err)
	}
	out := api.CensusTotals{By: in.Body.By, Values: len(totals)}
	for _, t := range totals {
		out.Rows += t.Rows
		out.Bytes += t.Bytes
	}
	limit := in.Body.Limit
	if limit == 0 {
		limit = 50
	}
	out.Totals = totals[:min(limit, len(totals))]
	return &struct{ Body api.CensusTotals }{out}, nil
}

// censusTime bounds how long a call reads files.
func censusTime(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, censusReadFor, fault.New(fault.Slow, "census-large",
		"it takes longer than %d s to read all files of the census", int(censusReadFor.Seconds())).
		Do("ask for part of it by --where, or read the files with a program of yours"))
}

// causeOf says why a context ended that an error came from.
func causeOf(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}

func (d *Desk) compareCensuses(ctx context.Context, in *struct {
	CensusRunPath
	Body api.CensusCompareAsk
}) (*struct{ Body api.CensusDifference }, error) {
	c, r, err := d.myCensusRun(ctx, &in.CensusRunPath)
	if err != nil {
		return nil, err
	}
	before, err := d.earlier(ctx, c, &r, in.Body.Census, in.Body.With)
	if err != nil {
		return nil, err
	}
	is, err := d.censusSet(ctx, c, &r)
	if err != nil {
		return nil, err
	}
	was, err := d.censusSet(ctx, c, before)
	if err != nil {
		return nil, err
	}
	limit := in.Body.Limit
	if limit == 0 {
		limit = 100
	}
	out := api.CensusDifference{Was: *censusRunInfo(before, false), Is: *censusRunInfo(&r, false), Columns: r.Columns,
		List: []api.CensusChanged{}}
	ctx, cancel := censusTime(ctx)
	defer cancel()
	err = censusfile.Differ(ctx, was, is, func(x censusfile.Difference) (bool, error) {
		*map[censusfile.Change]*int64{censusfile.Came: &out.Came, censusfile.Went: &out.Went,
			censusfile.Changed: &out.Changed}[x.Change]++
		switch {
		case in.Body.Only != "" && in.Body.Only != string(x.Change):
		case len(out.List) == limit:
			out.More = true
		default:
			out.List = append(out.List, api.CensusChanged{Change: string(x.Change), Was: x.Was, Is: x.Is, Columns: x.Columns})
		}
		return true, nil
	})
	if err != nil {
		return nil, causeOf(ctx, err)
	}
	return &struct{ Body api.CensusDifference }{out}, nil
}

// earlier gives the run that another one is compared with.
func (d *Desk) earlier(ctx context.Context, c *census.Census, r *census.Run, other string, id int64) (*census.Run,
	error) {
	if other != "" && other != c.Name {
		o, err := d.myCensus(ctx, other)
		if err != nil {
			return nil, err
		}
		run, err := d.Store.Catalog.CensusRun(ctx, o.ID, id)
		return &run, err
	}
	if id != 0 {
		run, err := d.Store.Catalog.CensusRun(ctx, c.ID, id)
		return &run, err
	}
	list, err := d.Store.Catalog.CensusRuns(ctx, c.ID, r.ID, 100)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].State == runs.Done && strings.Join(list[i].Columns, ",") == strings.Join(r.Columns, ",") {
			return &list[i], nil
		}
	}
	return nil, fault.New(fault.NotFound, "run-missing", "there is no earlier run with the same columns").In("with").
		Do("run the census again some day, and compare then")
}
