package desk

import (
	"context"
	"math"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// ReplicationInfo is a rule that keeps objects copied, and how it stands.
type ReplicationInfo struct {
	Name     string            `json:"name"`
	Bucket   string            `json:"bucket"`
	On       bool              `json:"on"`
	Priority int               `json:"priority" doc:"Where two rules copy to one place, the greater one does"`
	Prefix   string            `json:"prefix,omitempty"`
	Tags     map[string]string `json:"tags,omitempty" doc:"That an object must have, all of them"`
	Markers  bool              `json:"deleteMarkers" doc:"Delete markers go along"`
	Removals bool              `json:"removals" doc:"Removals that leave nothing go along"`
	Onward   bool              `json:"onward" doc:"What came here as a replica travels on"`
	Lag      *LagTarget        `json:"lagTarget,omitempty"`
	Says     string            `json:"says" doc:"What it does, in words"`
	State    string            `json:"state" enum:"keeps up,copying,late,some fail,failing,off" doc:"The worst of its targets"`
	Targets  []TargetInfo      `json:"targets"`
	Revision int               `json:"revision"`
	Created  time.Time         `json:"created"`
	Changed  time.Time         `json:"changed"`
	By       string            `json:"by" doc:"Who saved it last: it acts with their rights"`
}

// LagTarget is what is promised of how long a change waits.
type LagTarget struct {
	Percent float64 `json:"percent" minimum:"1" maximum:"99.999" doc:"Of changes"`
	Seconds float64 `json:"seconds" minimum:"0.001" maximum:"2592000" doc:"Within which they are copied"`
}

// TargetInfo is a place that gets copies, and how it stands.
type TargetInfo struct {
	ID       int64          `json:"id"`
	Address  string         `json:"address" doc:"BUCKET/PREFIX here, or @ENDPOINT/BUCKET/PREFIX"`
	Endpoint string         `json:"endpoint,omitempty"`
	Bucket   string         `json:"bucket"`
	Prefix   string         `json:"prefix,omitempty"`
	Class    string         `json:"class,omitempty" doc:"Tier here, storage class there"`
	Sealed   bool           `json:"sealed,omitempty"`
	State    string         `json:"state" enum:"keeps up,copying,late,some fail,failing,off"`
	Waiting  int64          `json:"waiting" doc:"Objects"`
	Failed   int64          `json:"failed" doc:"Of those that wait, those that failed at least once"`
	Bytes    int64          `json:"bytes" doc:"To go"`
	Oldest   *time.Time     `json:"oldest,omitempty" doc:"Since when the oldest change waits"`
	Next     *time.Time     `json:"next,omitempty" doc:"Try of something that failed"`
	Lag      LagInfo        `json:"lag" doc:"Of the last hour"`
	Rate     int64          `json:"rate" doc:"Bytes a second, in the last minutes"`
	Failing  *TargetFault   `json:"failing,omitempty" doc:"The target as a whole fails"`
	Backfill *BackfillInfo  `json:"backfill,omitempty"`
	Verified *time.Time     `json:"verified,omitempty" doc:"When both sides were last found equal"`
	Verify   *VerifyInfo    `json:"verify,omitempty" doc:"The last comparison"`
	Health   *EndpointBrief `json:"health,omitempty" doc:"How the endpoint stands"`
}

// EndpointBrief is how an endpoint stands, in short.
type EndpointBrief struct {
	State   string  `json:"state"`
	Latency float64 `json:"latency" doc:"Milliseconds"`
	Region  string  `json:"region,omitempty"`
}

// LagInfo is how long changes waited for their replicas; times within a factor of two.
type LagInfo struct {
	Count  int64   `json:"count"`
	P50    float64 `json:"p50" doc:"Seconds"`
	P99    float64 `json:"p99" doc:"Seconds"`
	P9999  float64 `json:"p9999" doc:"Seconds"`
	Within float64 `json:"within" doc:"Percent of changes that were within the lag target; 100 without one"`
	Met    bool    `json:"met" doc:"The lag target; true without one"`
}

// TargetFault is why a target fails.
type TargetFault struct {
	Since time.Time `json:"since"`
	Code  string    `json:"code"`
	Says  string    `json:"says"`
}

// BackfillInfo is how far the copying of what was there before has come.
type BackfillInfo struct {
	State string `json:"state" enum:"looking,copying,done"`
	Asked int64  `json:"asked" doc:"Objects that were found to be copied"`
}

// VerifyInfo is what a comparison of both sides came to.
type VerifyInfo struct {
	At       time.Time `json:"at"`
	Objects  int64     `json:"objects" doc:"That were compared"`
	Missing  int64     `json:"missing" doc:"There"`
	Other    int64     `json:"other" doc:"In size, digest or metadata"`
	Extra    int64     `json:"extra" doc:"There alone"`
	Waiting  int64     `json:"waiting" doc:"That differ, and wait to be copied"`
	Repaired int64     `json:"repaired" doc:"That were asked to be copied again"`
	Good     bool      `json:"good"`
}

func (d *Desk) replicationCalls(to *calls) {
	mine := rule{admin: true}
	const topic, base = "replication", "/replications"
	call(to, mine, "list-replications", "GET "+base, topic, "List replication rules and how they stand",
		d.listReplications)
	call(to, mine, "show-replication", "GET "+base+"/{rule}", topic, "Show a replication rule", d.showReplication)
	call(to, mine, "add-replication", "POST "+base, topic, "Add a replication rule", d.addReplication, answers(201))
	call(to, mine, "review-replication", "POST "+base+"/review", topic,
		"Say what a rule would do, what it lacks, and what is there already; nothing is changed", d.reviewReplication)
	call(to, mine, "change-replication", "PATCH "+base+"/{rule}", topic, "Change a replication rule", d.changeReplication)
	call(to, mine, "remove-replication", "DELETE "+base+"/{rule}", topic, "Remove a replication rule; copies stay",
		d.removeReplication, answers(204))
	call(to, mine, "list-waiting-replicas", "GET "+base+"/{rule}/waiting", topic, "List what waits to be copied",
		d.listWaiting)
	call(to, mine, "list-replica-faults", "GET "+base+"/{rule}/faults", topic, "Count why copies fail", d.listFaults)
	call(to, mine, "show-replica-lags", "GET "+base+"/{rule}/lags", topic, "Show how long changes waited, by minute",
		d.showLags)
	call(to, mine, "retry-replicas", "POST "+base+"/{rule}/retry", topic, "Have what failed be tried now", d.retryReplicas)
	call(to, mine, "backfill-replication", "POST "+base+"/{rule}/backfill", topic,
		"Copy what was there before the rule, or count it", d.backfillReplication)
	call(to, rule{do: access.Read, on: onKey}, "show-replicas", "GET /buckets/{bucket}/replicas", topic,
		"Show how an object stands at each target, and what it is a replica of", d.showReplicas)
}

// ReplicationPath names a rule of the account one acts in.
type ReplicationPath struct {
	Rule string `path:"rule" maxLength:"63"`
}

// lagSpan is the time that lags and rates are told of.
const lagSpan = time.Hour

// replicationInfos tells of rules with how they stand.
func (d *Desk) replicationInfos(ctx context.Context, rules []*replication.Rule) ([]ReplicationInfo, error) {
	var targets []int64
	for _, r := range rules {
		for _, t := range r.Targets {
			targets = append(targets, t.ID)
		}
	}
	now := d.store.Catalog.Now()
	standing, err := d.store.Catalog.Standing(ctx, targets, now.Add(-lagSpan))
	if err != nil {
		return nil, err
	}
	health := map[string]*EndpointBrief{}
	if len(rules) > 0 {
		all, err := d.store.Catalog.Endpoints(ctx, who(ctx).subject.Account, "", 1000)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			health[e.Name] = &EndpointBrief{string(e.Health.State), float64(e.Health.Latency.Microseconds()) / 1000, e.Region}
		}
	}
	out := []ReplicationInfo{}
	for _, r := range rules {
		x := ReplicationInfo{Name: r.Name, Bucket: r.Bucket, On: r.On, Priority: r.Priority, Prefix: r.Prefix, Tags: r.Tags,
			Markers: r.Markers, Removals: r.Removals, Onward: r.Onward, Says: r.Words(), Revision: r.Revision,
			Created: r.Created, Changed: r.Changed, By: r.By, State: "off", Targets: []TargetInfo{}}
		if r.Lag.Share > 0 {
			x.Lag = &LagTarget{math.Round(r.Lag.Share*1e7) / 1e5, r.Lag.Within.Seconds()}
		}
		worst := 0
		for i := range r.Targets {
			t := targetInfo(r, &r.Targets[i], standing[r.Targets[i].ID], now)
			t.Health = health[t.Endpoint]
			x.Targets = append(x.Targets, t)
			worst = max(worst, stateRank(t.State))
		}
		x.State = targetStates[worst]
		out = append(out, x)
	}
	return out, nil
}

// targetStates are the states of targets and rules, the worst last.
var targetStates = []string{"off", "keeps up", "copying", "late", "some fail", "failing"}

func stateRank(state string) int {
	for i, s := range targetStates {
		if s == state {
			return i
		}
	}
	return 0
}

func targetInfo(r *replication.Rule, t *replication.Target, s *catalog.TargetStanding, now time.Time) TargetInfo {
	x := TargetInfo{ID: t.ID, Address: t.Address(), Endpoint: t.Endpoint, Bucket: t.Bucket, Prefix: t.Prefix,
		Class:  t.Class,
		Sealed: t.Sealed, State: "keeps up"}
	if s == nil {
		return x // it was removed just now
	}
	x.Waiting, x.Failed, x.Bytes, x.Oldest, x.Next, x.Verified = s.Waiting, s.Failed, s.Bytes, s.Oldest, s.Next, s.Verified
	x.Verify = verifyInfo(s.Verify)
	x.Lag = lagInfo(r.Lag, &s.Lags)
	if r.Lag.Share > 0 && s.Oldest != nil && now.Sub(*s.Oldest) > r.Lag.Within && s.Waiting > 0 {
		x.Lag.Met = false
	}
	x.Rate = s.Rate
	if s.Since != nil {
		x.Failing = &TargetFault{*s.Since, s.Code, s.Says}
	}
	switch {
	case s.Backfill == 1:
		x.Backfill = &BackfillInfo{"looking", s.Asked}
	case s.Backfill == 2 && s.Older > 0:
		x.Backfill = &BackfillInfo{"copying", s.Asked}
	case s.Backfill == 2:
		x.Backfill = &BackfillInfo{"done", s.Asked}
	}
	switch {
	case !r.On:
		x.State = "off"
	case x.Failing != nil:
		x.State = "failing"
	case s.Failed > 0:
		x.State = "some fail"
	case !x.Lag.Met:
		x.State = "late"
	case s.Waiting > 0 || s.Backfill == 1:
		x.State = "copying"
	}
	return x
}

func lagInfo(promised replication.Lag, l *replication.Lags) LagInfo {
	x := LagInfo{Count: l.All(), P50: l.Percentile(.5).Seconds(), P99: l.Percentile(.99).Seconds(),
		P9999: l.Percentile(.9999).Seconds(), Within: 100, Met: true}
	if promised.Share > 0 {
		share := l.Within(promised.Within)
		x.Within, x.Met = share*100, share >= promised.Share
	}
	return x
}

type replicationPage struct {
	Body struct {
		Replications []ReplicationInfo `json:"replications" doc:"By name"`
		Next         string            `json:"next,omitempty"`
	}
}

// myRules gives the rules of the account that one acts in, by name.
func (d *Desk) myRules(ctx context.Context) ([]*replication.Rule, error) {
	d.store.Catalog.LookAgain()
	book, err := d.store.Replications(ctx)
	if err != nil {
		return nil, err
	}
	var mine []*replication.Rule
	for _, r := range book.Rules {
		if r.Account == who(ctx).subject.Account {
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
	mine, err := d.myRules(ctx)
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
	out.Body.Replications, err = d.replicationInfos(ctx, page)
	return out, err
}

// myRule gives a rule of the account that one acts in.
func (d *Desk) myRule(ctx context.Context, name string) (*replication.Rule, error) {
	mine, err := d.myRules(ctx)
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

type replicationOut struct{ Body ReplicationInfo }

func (d *Desk) replicationNamed(ctx context.Context, name string) (*replicationOut, error) {
	r, err := d.myRule(ctx, name)
	if err != nil {
		return nil, err
	}
	infos, err := d.replicationInfos(ctx, []*replication.Rule{r})
	if err != nil {
		return nil, err
	}
	return &replicationOut{infos[0]}, nil
}

func (d *Desk) showReplication(ctx context.Context, in *ReplicationPath) (*replicationOut, error) {
	return d.replicationNamed(ctx, in.Rule)
}

func (d *Desk) removeReplication(ctx context.Context, in *ReplicationPath) (*struct{}, error) {
	err := d.store.Catalog.RemoveReplication(ctx, who(ctx).subject.Account, in.Rule, author(ctx))
	d.store.Catalog.LookAgain()
	return nil, err
}

// WaitingInfo is an object that waits to be copied.
type WaitingInfo struct {
	Key      string     `json:"key"`
	Target   string     `json:"target" doc:"Its address"`
	Since    *time.Time `json:"since,omitempty"`
	Attempts int        `json:"attempts"`
	Code     string     `json:"code,omitempty" doc:"Why the last attempt failed"`
	Says     string     `json:"says,omitempty"`
	Next     *time.Time `json:"next,omitempty" doc:"Try"`
	Bytes    int64      `json:"bytes"`
}

type waitingPage struct {
	Body struct {
		Waiting []WaitingInfo `json:"waiting" doc:"By target, then by key"`
		Next    string        `json:"next,omitempty"`
	}
}

func (d *Desk) listWaiting(ctx context.Context, in *struct {
	ReplicationPath
	Failed bool   `query:"failed" doc:"Those that failed at least once alone"`
	After  string `query:"after" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*waitingPage, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	at, after, _ := strings.Cut(in.After, "\n") // address of the target, and key
	out := &waitingPage{}
	out.Body.Waiting = []WaitingInfo{}
	for i := range r.Targets {
		t := &r.Targets[i]
		if at != "" && t.Address() != at {
			continue
		}
		rows, err := d.store.Catalog.WaitingReplicas(ctx, t.ID, in.Failed, after, in.Limit+1-len(out.Body.Waiting))
		if err != nil {
			return nil, err
		}
		for _, w := range rows {
			if len(out.Body.Waiting) == in.Limit {
				last := out.Body.Waiting[in.Limit-1]
				out.Body.Next = last.Target + "\n" + last.Key
				return out, nil
			}
			x := WaitingInfo{Key: w.Key, Target: t.Address(), Since: w.Since, Attempts: w.Attempts, Code: w.Code, Says: w.Says,
				Bytes: w.Bytes}
			if w.Attempts > 0 {
				x.Next = w.Due
			}
			out.Body.Waiting = append(out.Body.Waiting, x)
		}
		at, after = "", ""
	}
	return out, nil
}

// FaultInfo counts a reason why copies fail.
type FaultInfo struct {
	Target string `json:"target"`
	Code   string `json:"code"`
	Says   string `json:"says" doc:"Of one of them"`
	Count  int64  `json:"count"`
}

func (d *Desk) listFaults(ctx context.Context, in *ReplicationPath) (*struct {
	Body struct {
		Faults []FaultInfo `json:"faults" doc:"The most frequent first, of each target"`
	}
}, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Faults []FaultInfo `json:"faults" doc:"The most frequent first, of each target"`
		}
	}{}
	out.Body.Faults = []FaultInfo{}
	for i := range r.Targets {
		list, err := d.store.Catalog.Faults(ctx, r.Targets[i].ID)
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			out.Body.Faults = append(out.Body.Faults, FaultInfo{r.Targets[i].Address(), f.Code, f.Says, f.Count})
		}
	}
	return out, nil
}

// LagPointInfo is how long changes waited in a minute.
type LagPointInfo struct {
	At     time.Time `json:"at"`
	Target string    `json:"target"`
	LagInfo
	Bytes int64 `json:"bytes"`
}

func (d *Desk) showLags(ctx context.Context, in *struct {
	ReplicationPath
	Hours int `query:"hours" minimum:"1" maximum:"336" default:"3"`
}) (*struct {
	Body struct {
		Lags []LagPointInfo `json:"lags" doc:"By target, then by minute; minutes without copies are left out"`
	}
}, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Lags []LagPointInfo `json:"lags" doc:"By target, then by minute; minutes without copies are left out"`
		}
	}{}
	out.Body.Lags = []LagPointInfo{}
	since := d.store.Catalog.Now().Add(-time.Duration(in.Hours) * time.Hour)
	for i := range r.Targets {
		points, err := d.store.Catalog.LagHistory(ctx, r.Targets[i].ID, since)
		if err != nil {
			return nil, err
		}
		for _, p := range points {
			out.Body.Lags = append(out.Body.Lags, LagPointInfo{p.At, r.Targets[i].Address(), lagInfo(r.Lag, &p.Lags), p.Bytes})
		}
	}
	return out, nil
}

func (d *Desk) retryReplicas(ctx context.Context, in *struct {
	ReplicationPath
	Body struct {
		Key    string `json:"key,omitempty" maxLength:"1024" doc:"This object alone"`
		Accept bool   `json:"acceptTarget,omitempty" doc:"Take a target's bucket as it is, although it was made anew"`
	}
}) (*struct {
	Body struct {
		Retried int64 `json:"retried" doc:"Objects that are tried now"`
	}
}, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Retried int64 `json:"retried" doc:"Objects that are tried now"`
		}
	}{}
	for _, t := range r.Targets {
		if in.Body.Accept {
			if err := d.store.Catalog.AcceptTarget(ctx, t.ID); err != nil {
				return nil, err
			}
		}
		n, err := d.store.Catalog.RetryReplicas(ctx, t.ID, in.Body.Key)
		if err != nil {
			return nil, err
		}
		out.Body.Retried += n
	}
	return out, nil
}

// ReplicasInfo is how an object stands at the targets of its bucket's rules.
type ReplicasInfo struct {
	Of       *ReplicaOfInfo `json:"replicaOf,omitempty" doc:"What it is a replica of"`
	Replicas []ReplicaInfo  `json:"replicas"`
}

// ReplicaOfInfo is what a replica is a copy of.
type ReplicaOfInfo struct {
	Here    bool      `json:"here" doc:"The source is a bucket of this service"`
	Bucket  string    `json:"bucket" doc:"The source"`
	Key     string    `json:"key"`
	Version string    `json:"version"`
	Through int       `json:"through" doc:"Places that it came through"`
	Since   time.Time `json:"since"`
}

// ReplicaInfo is how an object stands at a target.
type ReplicaInfo struct {
	Rule      string     `json:"rule"`
	Target    string     `json:"target" doc:"Address and key there"`
	State     string     `json:"state" enum:"pending,completed,failed,not in scope"`
	Why       string     `json:"why,omitempty" doc:"It is not in scope, or failed"`
	Code      string     `json:"code,omitempty"`
	Since     *time.Time `json:"since,omitempty" doc:"It waits"`
	Next      *time.Time `json:"next,omitempty" doc:"Try, when it failed"`
	Attempts  int        `json:"attempts,omitempty"`
	Confirmed *time.Time `json:"confirmed,omitempty" doc:"When the target had what it has"`
	Version   string     `json:"version,omitempty" doc:"There"`
	ETag      string     `json:"etag,omitempty" doc:"There"`
}

func (d *Desk) showReplicas(ctx context.Context, in *struct {
	BucketPath
	Key string `query:"key" required:"true" maxLength:"1024"`
}) (*struct{ Body ReplicasInfo }, error) {
	a, err := address(in.Bucket, in.Key)
	if err != nil {
		return nil, err
	}
	// Names of rules and endpoints are those of the bucket's account.
	owner, err := d.store.Owner(ctx, a.Bucket)
	if err == nil && owner != who(ctx).subject.Account {
		err = notYours(ctx, owner)
	}
	if err != nil {
		return nil, err
	}
	v, err := d.store.Find(ctx, a)
	if err != nil {
		return nil, err
	}
	f, err := d.store.Bucket(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	states, err := d.store.ReplicaStates(ctx, f.ID, []*object.Version{v})
	if err != nil {
		return nil, err
	}
	out := &struct{ Body ReplicasInfo }{ReplicasInfo{Replicas: []ReplicaInfo{}}}
	if o := replication.ParseOrigin(v.Origin); !o.IsZero() {
		if out.Body.Of, err = d.replicaOf(ctx, o, v); err != nil {
			return nil, err
		}
	}
	for _, s := range states[0] {
		x := ReplicaInfo{Rule: s.Rule.Name, Target: target(s.Target, in.Key), State: string(s.State), Why: s.Why,
			Since:    s.Since,
			Attempts: s.Attempts, Confirmed: s.Confirmed, Version: s.There.Version, ETag: s.There.ETag}
		if s.State == replication.Failed {
			x.Why, x.Code, x.Next = s.Says, s.Code, s.Next
		}
		out.Body.Replicas = append(out.Body.Replicas, x)
	}
	return out, nil
}

func target(t *replication.Target, key string) string {
	s := t.Bucket + "/" + t.Key(key)
	if t.Endpoint != "" {
		s = "@" + t.Endpoint + "/" + s
	}
	return s
}

// replicaOf tells what a replica is a copy of. A source here of another account is not
// named.
func (d *Desk) replicaOf(ctx context.Context, o replication.Origin, v *object.Version) (*ReplicaOfInfo, error) {
	service, bucket, _ := strings.Cut(o.Through[0], "/")
	x := &ReplicaOfInfo{Here: service == d.store.Service, Bucket: bucket, Key: o.Key, Version: o.Version,
		Through: len(o.Through), Since: v.Created}
	if !x.Here {
		return x, nil
	}
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	owner, err := d.store.Owner(ctx, name)
	if err != nil || owner != who(ctx).subject.Account {
		x.Bucket, x.Key, x.Version = "", "", ""
	}
	return x, nil
}
