package jobs

import (
	"context"
	"math"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/replication"
	"spindle/internal/desk/middle"
)

func (d *Desk) replicationCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const topic, base = "replication", "/replications"
	middle.Call(to, mine, "list-replications", "GET "+base, topic, "List replication rules and how they stand",
		d.listReplications)
	middle.Call(to, mine, "show-replication", "GET "+base+"/{rule}", topic, "Show a replication rule", d.showReplication)
	middle.Call(to, mine, "add-replication", "POST "+base, topic, "Add a replication rule", d.addReplication, middle.Answers(201))
	middle.Call(to, mine, "review-replication", "POST "+base+"/review", topic,
		"Show what a rule would do, what it lacks, and which objects exist already; nothing is changed", d.reviewReplication)
	middle.Call(to, mine, "change-replication", "PATCH "+base+"/{rule}", topic, "Change a replication rule", d.changeReplication)
	middle.Call(to, mine, "remove-replication", "DELETE "+base+"/{rule}", topic, "Remove a replication rule; copies stay",
		d.removeReplication, middle.Answers(204))
	middle.Call(to, mine, "list-waiting-replicas", "GET "+base+"/{rule}/waiting", topic, "List what waits to be copied",
		d.listWaiting)
	middle.Call(to, mine, "list-replica-faults", "GET "+base+"/{rule}/faults", topic, "Count why copies fail", d.listFaults)
	middle.Call(to, mine, "show-replica-lags", "GET "+base+"/{rule}/lags", topic, "Show how long changes waited, by minute",
		d.showLags)
	middle.Call(to, mine, "retry-replicas", "POST "+base+"/{rule}/retry", topic,
		"Have what failed be tried now, or decide about what is newer at a target", d.retryReplicas)
	middle.Call(to, mine, "list-replica-objects", "GET "+base+"/{rule}/objects", topic,
		"List objects of a rule by how they stand at a target", d.listReplicaObjects)
	middle.Call(to, mine, "backfill-replication", "POST "+base+"/{rule}/backfill", topic,
		"Copy what was there before the rule, or count it", d.backfillReplication)
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnKey}, "show-replicas", "GET /buckets/{bucket}/replicas", topic,
		"Show how an object stands at each target, and what it is a replica of", d.showReplicas)
}

// ReplicationPath names a rule of the account one acts in.
type ReplicationPath struct {
	Rule string `path:"rule" maxLength:"63"`
}

// lagSpan is the time that lags and rates are told of.
const lagSpan = time.Hour

// ReplicationInfos tells of rules with how they stand.
func (d *Desk) ReplicationInfos(ctx context.Context, rules []*replication.Rule) ([]api.ReplicationInfo, error) {
	var targets []int64
	for _, r := range rules {
		for _, t := range r.Targets {
			targets = append(targets, t.ID)
		}
	}
	now := d.Store.Catalog.Now()
	standing, err := d.Store.Catalog.Standing(ctx, targets, now.Add(-lagSpan))
	if err != nil {
		return nil, err
	}
	health := map[string]*api.EndpointBrief{}
	if len(rules) > 0 {
		all, err := d.Store.Catalog.Endpoints(ctx, middle.Who(ctx).Subject.Account, "", 1000)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			health[e.Name] = &api.EndpointBrief{State: string(e.Health.State),
				Latency: float64(e.Health.Latency.Microseconds()) / 1000, Region: e.Region}
		}
	}
	out := []api.ReplicationInfo{}
	for _, r := range rules {
		x := api.ReplicationInfo{Name: r.Name, Bucket: r.Bucket, On: r.On, Priority: r.Priority, Prefix: r.Prefix,
			Tags:    r.Tags,
			Where:   r.Where.String(),
			Markers: r.Markers, Removals: r.Removals, Onward: r.Onward, Says: r.Words(), Revision: r.Revision,
			Created: r.Created, Changed: r.Changed, By: r.By, Paused: r.Paused, Targets: []api.TargetInfo{}}
		if r.Lag.Share > 0 {
			x.Lag = &api.LagTarget{Percent: math.Round(r.Lag.Share*1e7) / 1e5, Seconds: r.Lag.Within.Seconds()}
		}
		worst := replication.Paused
		for i := range r.Targets {
			t := targetInfo(r, &r.Targets[i], standing[r.Targets[i].ID], now)
			t.Health = health[t.Endpoint]
			x.Targets = append(x.Targets, t)
			worst = replication.Worst(worst, replication.Standing(t.State))
		}
		x.State = string(worst)
		out = append(out, x)
	}
	return out, nil
}

func targetInfo(r *replication.Rule, t *replication.Target, s *catalog.TargetStanding, now time.Time) api.TargetInfo {
	x := api.TargetInfo{ID: t.ID, Address: t.Address(), Endpoint: t.Endpoint, Bucket: t.Bucket, Prefix: t.Prefix,
		Class:  t.Class,
		Sealed: t.Sealed, State: string(replication.KeepsUp)}
	if s == nil {
		return x // it was removed just now
	}
	x.Waiting, x.Failed, x.Bytes, x.Oldest, x.Next, x.Verified = s.Waiting, s.Failed, s.Bytes, s.Oldest, s.Next, s.Verified
	x.Verify = verifyInfo(s.Verify)
	x.Lag = lagInfo(r.Lag, &s.Lags)
	if s.Over > 0 {
		x.Rate = int64(float64(s.Moved) / max(1, s.Over.Seconds()))
	}
	if r.On {
		x.DoneIn = replication.DoneIn(s.Bytes, s.Moved, s.Over).Seconds()
	}
	switch {
	case s.Backfill != 0 && s.Backfill != catalog.BackfillDone:
		x.Backfill = &api.BackfillInfo{State: "looking", Asked: s.Asked}
	case s.Backfill == 2 && s.Older > 0:
		x.Backfill = &api.BackfillInfo{State: "copying", Asked: s.Asked}
	case s.Backfill == 2:
		x.Backfill = &api.BackfillInfo{State: "done", Asked: s.Asked}
	}
	if s.Since != nil && s.Waiting > 0 {
		x.Failing = &api.TargetFault{Since: *s.Since, Code: s.Code, Says: s.Says}
	}
	is, why := replication.StandingOf(s.Facts(r, now))
	x.State, x.Why = string(is), why
	return x
}

func lagInfo(promised replication.Lag, l *replication.Lags) api.LagInfo {
	x := api.LagInfo{Count: l.All(), P50: l.Percentile(.5).Seconds(), P99: l.Percentile(.99).Seconds(),
		P9999: l.Percentile(.9999).Seconds(), Within: 100, Met: true}
	if promised.Share > 0 {
		share := l.Within(promised.Within)
		x.Within, x.Met = share*100, share >= promised.Share
	}
	return x
}

type replicationPage struct {
	Body struct {
		Replications []api.ReplicationInfo `json:"replications" doc:"By name"`
		Next         string                `json:"next,omitempty"`
	}
}

// MyRules gives the rules of the account that one acts in, by name.
func (d *Desk) MyRules(ctx context.Context) ([]*replication.Rule, error) {
	d.Store.Catalog.LookAgain()
	book, err := d.Store.Replications(ctx)
	if err != nil {
		return nil, err
	}
	var mine []*replication.Rule
	for _, r := range book.Rules {
		if r.Account == middle.Who(ctx).Subject.Account {
			mine = append(mine, r)
		}
	}
	sortRules(mine)
	return mine, nil
}

func (d *Desk) listReplications(ctx context.Context, in *struct {
	Bucket string `query:"bucket" maxLength:"64" doc:"Rules of this bucket alone"`
	After  string `query:"after" maxLength:"63"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*replicationPage, error) {
	mine, err := d.MyRules(ctx)
	if err != nil {
		return nil, err
	}
	out := &replicationPage{}
	var page []*replication.Rule
	for _, r := range mine {
		if r.Name <= in.After || in.Bucket != "" && r.Bucket != in.Bucket {
			continue
		}
		if len(page) == in.Limit {
			out.Body.Next = page[len(page)-1].Name
			break
		}
		page = append(page, r)
	}
	out.Body.Replications, err = d.ReplicationInfos(ctx, page)
	return out, err
}

// myRule gives a rule of the account that one acts in.
func (d *Desk) myRule(ctx context.Context, name string) (*replication.Rule, error) {
	mine, err := d.MyRules(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range mine {
		if r.Name == name {
			return r, nil
		}
	}
	return nil, catalog.ReplicationMissing(name)
}

type replicationOut struct{ Body api.ReplicationInfo }

func (d *Desk) replicationNamed(ctx context.Context, name string) (*replicationOut, error) {
	r, err := d.myRule(ctx, name)
	if err != nil {
		return nil, err
	}
	infos, err := d.ReplicationInfos(ctx, []*replication.Rule{r})
	if err != nil {
		return nil, err
	}
	return &replicationOut{infos[0]}, nil
}

func (d *Desk) showReplication(ctx context.Context, in *ReplicationPath) (*replicationOut, error) {
	return d.replicationNamed(ctx, in.Rule)
}

func (d *Desk) removeReplication(ctx context.Context, in *ReplicationPath) (*struct{}, error) {
	err := d.Store.Catalog.RemoveReplication(ctx, middle.Who(ctx).Subject.Account, in.Rule, middle.Author(ctx))
	d.Store.Catalog.LookAgain()
	return nil, err
}
