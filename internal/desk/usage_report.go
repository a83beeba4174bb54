package desk

import (
	"context"
	"maps"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/core/usage"
	"spindle/internal/desk/middle"
)

func (d *Desk) usageCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	middle.Call(to, mine, "usage-report", "GET /usage", "usage", "Say what is kept, how it grows, and what it costs",
		d.usageReport)
	middle.Call(to, middle.Rule{Oper: true}, "usage-accounts", "GET /usage/accounts", "usage",
		"Say what each account keeps, how it grows, and what it costs",
		d.usageAccounts)
	middle.Call(to, mine, "usage-traffic", "GET /usage/traffic", "usage", "Say how many requests there were, and their bytes",
		d.usageTraffic)
}

func daysOf(s api.Span, now time.Time) (from, to time.Time, err error) {
	from, to = now.UTC().AddDate(0, 0, -30), now.UTC()
	for _, x := range []struct {
		field, text string
		into        *time.Time
	}{{"from", s.From, &from}, {"to", s.To, &to}} {
		if x.text == "" {
			continue
		}
		if *x.into, err = time.Parse(time.DateOnly, x.text); err != nil {
			return from, to, fault.New(fault.Invalid, "day", "%q is no day", x.text).In(x.field).Do("give it as 2026-11-20")
		}
	}
	if from.After(to) {
		err = fault.New(fault.Invalid, "day", "the first day is after the last").In("from").Do("turn them round")
	}
	return from, to, err
}

func (d *Desk) usageReport(ctx context.Context, in *struct {
	api.Span
	Bucket   string `query:"bucket" maxLength:"63" doc:"Only of this one"`
	Replicas bool   `query:"replicas" doc:"Say, too, what came as copies: all objects are looked at, some two million a second"`
}) (*struct{ Body api.UsageReport }, error) {
	now := d.Store.Catalog.Now().UTC()
	from, to, err := daysOf(in.Span, now)
	if err != nil {
		return nil, err
	}
	account := middle.Who(ctx).Subject.Account
	g, err := d.gatherUsage(ctx, account, from, to)
	if err != nil {
		return nil, err
	}
	out := api.UsageReport{From: from.Format(time.DateOnly), To: to.Format(time.DateOnly), Buckets: []api.BucketUsage{}}
	var days []catalog.Day
	if err := d.eachBucket(ctx, account, func(b *catalog.Bucket) error {
		name := b.Name.String()
		if in.Bucket != "" && in.Bucket != name {
			return nil
		}
		u := g.bucket(b, now)
		if in.Replicas {
			objects, bytes, err := d.Store.Catalog.ReplicasIn(ctx, b.ID)
			if err != nil {
				return err
			}
			u.Replicas = &api.Quantity{Objects: objects, Bytes: bytes}
		}
		out.Buckets, days = append(out.Buckets, u), append(days, g.days[name]...)
		return nil
	}); err != nil {
		return nil, err
	}
	if in.Bucket != "" && len(out.Buckets) == 0 {
		return nil, fault.New(fault.NotFound, "bucket-missing", "there is no bucket %q of this account",
			in.Bucket).In("bucket")
	}
	g.total(&out, days, from, to, now)
	if middle.Who(ctx).Subject.Operator && in.Bucket == "" {
		out.Disk, err = d.diskUsage(ctx, now)
	}
	return &struct{ Body api.UsageReport }{out}, err
}

func (d *Desk) eachBucket(ctx context.Context, account string, f func(*catalog.Bucket) error) error {
	for after := ""; ; {
		list, err := d.Store.Catalog.Buckets(ctx, account, nil, after, 1000)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, b := range list {
			after = b.Name.String()
			if err := f(b); err != nil {
				return err
			}
		}
	}
}

// usageAccounts sums the usage of each account that has buckets.
func (d *Desk) usageAccounts(ctx context.Context, in *struct{ api.Span }) (*struct {
	Body struct {
		Accounts []api.AccountUsage `json:"accounts" doc:"By name"`
	}
}, error) {
	now := d.Store.Catalog.Now().UTC()
	from, to, err := daysOf(in.Span, now)
	if err != nil {
		return nil, err
	}
	g, err := d.gatherUsage(ctx, "", from, to)
	if err != nil {
		return nil, err
	}
	of := map[string]*api.UsageReport{}
	if err := d.eachBucket(ctx, "", func(b *catalog.Bucket) error {
		if of[b.Account] == nil {
			of[b.Account] = &api.UsageReport{}
		}
		of[b.Account].Buckets = append(of[b.Account].Buckets, g.bucket(b, now))
		return nil
	}); err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Accounts []api.AccountUsage `json:"accounts" doc:"By name"`
		}
	}{}
	out.Body.Accounts = []api.AccountUsage{}
	for _, name := range slices.Sorted(maps.Keys(of)) {
		r := of[name]
		g.total(r, nil, from, to, now)
		out.Body.Accounts = append(out.Body.Accounts, api.AccountUsage{Account: name, Buckets: len(r.Buckets),
			BucketUsage: r.Total})
	}
	return out, nil
}

// gathered is what usage is reported from.
type gathered struct {
	tiers      tier.Set
	shares     map[string]map[int16]int64
	unfinished map[string]map[int16]int64
	days       map[string][]catalog.Day
	from, to   time.Time
}

func (d *Desk) gatherUsage(ctx context.Context, account string, from, to time.Time) (g *gathered, err error) {
	g = &gathered{days: map[string][]catalog.Day{}, from: from, to: to}
	if g.tiers, err = d.Store.Tiers(ctx); err != nil {
		return nil, err
	}
	if g.shares, err = d.Store.Catalog.TierUsages(ctx, account); err != nil {
		return nil, err
	}
	if g.unfinished, err = d.Store.Catalog.Unfinished(ctx, account); err != nil {
		return nil, err
	}
	since := d.Store.Catalog.Now().AddDate(0, 0, -usage.Window-1) // what a forecast is made of
	if from.Before(since) {
		since = from
	}
	all, err := d.Store.Catalog.Days(ctx, since, account, "")
	for _, day := range all {
		g.days[day.Bucket] = append(g.days[day.Bucket], day)
	}
	return g, err
}

func (g *gathered) bucket(b *catalog.Bucket, now time.Time) api.BucketUsage {
	name := b.Name.String()
	u := api.BucketUsage{Bucket: name, Now: api.UsageInfo(b.Usage), Quota: b.Quota}
	used := b.Usage.Bytes + b.Usage.PreviousBytes
	rest := used
	share := func(t *tier.Tier, bytes int64) {
		unfinished := g.unfinished[name][t.ID]
		u.Unfinished += unfinished
		if bytes = max(0, bytes) + unfinished; bytes == 0 {
			return
		}
		cost := float64(t.MonthCost(bytes)) / 1e6
		u.Tiers, u.Cost = append(u.Tiers, api.TierShare{Tier: t.Name, Bytes: bytes, Cost: cost}), u.Cost+cost
	}
	for _, t := range g.tiers {
		if t.ID != tier.Main {
			share(t, g.shares[name][t.ID])
			rest -= g.shares[name][t.ID]
		}
	}
	if t := g.tiers.Of(tier.Main); t != nil {
		share(t, rest)
	}
	var points []usage.Point
	var sum int64
	for _, day := range g.days[name] {
		sum += day.Bytes + day.PreviousBytes
		points = append(points, usage.Point{At: day.Day, Bytes: sum})
		if !day.Day.Before(g.from.Truncate(24*time.Hour)) && !day.Day.After(g.to) {
			u.Added, u.Written, u.Removed = u.Added+day.Bytes+day.PreviousBytes, u.Written+day.Written, u.Removed+day.Removed
		}
	}
	u.PerDay = usage.PerDay(points, now)
	if u.Quota != nil {
		u.FullOn = usage.FullOn(used, *u.Quota, u.PerDay, now)
	}
	return u
}

// total sums all buckets, and gives their days as one.
func (g *gathered) total(out *api.UsageReport, days []catalog.Day, from, to, now time.Time) {
	t := &out.Total
	tiers := map[string]*api.TierShare{}
	for _, b := range out.Buckets {
		t.Now.Objects, t.Now.Bytes, t.Now.Previous = t.Now.Objects+b.Now.Objects, t.Now.Bytes+b.Now.Bytes,
			t.Now.Previous+b.Now.Previous
		t.Now.PreviousBytes, t.Now.Markers = t.Now.PreviousBytes+b.Now.PreviousBytes, t.Now.Markers+b.Now.Markers
		t.Unfinished, t.Cost, t.Added = t.Unfinished+b.Unfinished, t.Cost+b.Cost, t.Added+b.Added
		if b.Replicas != nil {
			if t.Replicas == nil {
				t.Replicas = &api.Quantity{}
			}
			t.Replicas.Objects, t.Replicas.Bytes = t.Replicas.Objects+b.Replicas.Objects, t.Replicas.Bytes+b.Replicas.Bytes
		}
		t.Written, t.Removed, t.PerDay = t.Written+b.Written, t.Removed+b.Removed, t.PerDay+b.PerDay
		for _, s := range b.Tiers {
			if tiers[s.Tier] == nil {
				tiers[s.Tier] = &api.TierShare{Tier: s.Tier}
			}
			tiers[s.Tier].Bytes, tiers[s.Tier].Cost = tiers[s.Tier].Bytes+s.Bytes, tiers[s.Tier].Cost+s.Cost
		}
	}
	for _, x := range g.tiers {
		if s := tiers[x.Name]; s != nil {
			t.Tiers = append(t.Tiers, *s)
		}
	}
	sortDays(days)
	out.Days = []api.UsagePoint{}
	for _, p := range growth(days, t.Now, from) {
		if p.Day <= to.Format(time.DateOnly) {
			out.Days = append(out.Days, p)
		}
	}
}

// diskUsage gives how full the disk of the first tier is, and when it will be.
func (d *Desk) diskUsage(ctx context.Context, now time.Time) (*api.DiskUsage, error) {
	list, err := d.Store.Filling(ctx, now)
	for _, f := range list {
		if f.Tier == tier.MainName {
			return &api.DiskUsage{Total: f.Total, Free: f.Free, FullOn: f.FullOn}, err
		}
	}
	return nil, err // the disk is away, which the overview tells
}

func (d *Desk) usageTraffic(ctx context.Context, in *struct {
	api.Span
	By     string `query:"by" enum:"bucket,who,day" default:"bucket"`
	Bucket string `query:"bucket" maxLength:"63" doc:"Only of this one"`
}) (*struct {
	Body struct {
		Traffic []api.TrafficInfo `json:"traffic" doc:"Of the wire; those with the most bytes first, days in their order; 1,000 at the most"`
	}
}, error) {
	from, to, err := daysOf(in.Span, d.Store.Catalog.Now())
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.TrafficBy(ctx, in.By, middle.Who(ctx).Subject.Account, in.Bucket, from, to, 1000)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Traffic []api.TrafficInfo `json:"traffic" doc:"Of the wire; those with the most bytes first, days in their order; 1,000 at the most"`
		}
	}{}
	out.Body.Traffic = []api.TrafficInfo{}
	for _, t := range list {
		out.Body.Traffic = append(out.Body.Traffic, api.TrafficInfo{Of: t.Of, Reads: t.Reads, Writes: t.Writes,
			Lists: t.Lists, Others: t.Others, Failed: t.Failed, In: t.In,
			Out: t.Out})
	}
	return out, nil
}
