package jobs

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

type waitingPage struct {
	Body struct {
		Waiting []api.WaitingInfo `json:"waiting" doc:"By target, then by key"`
		Next    string            `json:"next,omitempty"`
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
	out.Body.Waiting = []api.WaitingInfo{}
	for i := range r.Targets {
		t := &r.Targets[i]
		if at != "" && t.Address() != at {
			continue
		}
		rows, err := d.Store.Catalog.WaitingReplicas(ctx, t.ID, in.Failed, after, in.Limit+1-len(out.Body.Waiting))
		if err != nil {
			return nil, err
		}
		for _, w := range rows {
			if len(out.Body.Waiting) == in.Limit {
				last := out.Body.Waiting[in.Limit-1]
				out.Body.Next = last.Target + "\n" + last.Key
				return out, nil
			}
			x := api.WaitingInfo{Key: w.Key, Target: t.Address(), Since: w.Since, Attempts: w.Attempts, Code: w.Code,
				Says:  w.Says,
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

type faultsOut struct {
	Body struct {
		Faults []api.FaultInfo `json:"faults" doc:"The most frequent first, of each target"`
	}
}

func (d *Desk) listFaults(ctx context.Context, in *ReplicationPath) (*faultsOut, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &faultsOut{}
	out.Body.Faults = []api.FaultInfo{}
	for i := range r.Targets {
		list, err := d.Store.Catalog.Faults(ctx, r.Targets[i].ID)
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			out.Body.Faults = append(out.Body.Faults, api.FaultInfo{Target: r.Targets[i].Address(), Code: f.Code, Says: f.Says,
				Count: f.Count})
		}
	}
	return out, nil
}

type lagsOut struct {
	Body struct {
		Lags []api.LagPointInfo `json:"lags" doc:"By target, then by minute; minutes without copies are left out"`
	}
}

func (d *Desk) showLags(ctx context.Context, in *struct {
	ReplicationPath
	Hours int `query:"hours" minimum:"1" maximum:"336" default:"3"`
}) (*lagsOut, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &lagsOut{}
	out.Body.Lags = []api.LagPointInfo{}
	since := d.Store.Catalog.Now().Add(-time.Duration(in.Hours) * time.Hour)
	for i := range r.Targets {
		points, err := d.Store.Catalog.LagHistory(ctx, r.Targets[i].ID, since)
		if err != nil {
			return nil, err
		}
		for _, p := range points {
			out.Body.Lags = append(out.Body.Lags, api.LagPointInfo{At: p.At, Target: r.Targets[i].Address(),
				LagInfo: lagInfo(r.Lag, &p.Lags), Bytes: p.Bytes})
		}
	}
	return out, nil
}

func (d *Desk) retryReplicas(ctx context.Context, in *struct {
	ReplicationPath
	Body api.RetryAsk
}) (*struct{ Body api.RetryInfo }, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &struct{ Body api.RetryInfo }{}
	for _, t := range r.Targets {
		if in.Body.Settle != "" {
			if err := d.settleReplicas(ctx, r, &t, in.Body.Key, in.Body.Settle == "overwrite", in.Body.Rehearse,
				&out.Body); err != nil {
				return nil, err
			}
			continue
		}
		if in.Body.Accept {
			if err := d.Store.Catalog.AcceptTarget(ctx, t.ID); err != nil {
				return nil, err
			}
		}
		n, err := d.Store.Catalog.RetryReplicas(ctx, t.ID, in.Body.Key)
		if err != nil {
			return nil, err
		}
		out.Body.Retried += n
	}
	return out, nil
}

// settleReplicas decides about what is newer at a target, or says about what it would.
func (d *Desk) settleReplicas(ctx context.Context, r *replication.Rule, t *replication.Target, key string, overwrite,
	rehearse bool, out *api.RetryInfo) error {
	objects, bytes, first, err := d.Store.Catalog.Unsettled(ctx, t.ID, key, 10)
	if err != nil {
		return err
	}
	out.Bytes += bytes
	out.Keys = append(out.Keys, first...)
	if rehearse {
		out.Retried += objects
		return nil
	}
	n, err := d.Store.Catalog.SettleReplicas(ctx, r, t.ID, key, overwrite)
	out.Retried += n
	return err
}

// objectsLooked is how many objects a page looks at, at the most: then it ends, and says where
// it goes on.
const objectsLooked = 20_000

func (d *Desk) listReplicaObjects(ctx context.Context, in *struct {
	ReplicationPath
	State string `query:"state" enum:"pending,completed,failed,not in scope" doc:"Those alone"`
	After string `query:"after" maxLength:"1024" doc:"The next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*struct {
	Body struct {
		Objects []api.ReplicaObject `json:"objects" doc:"By key"`
		Next    string              `json:"next,omitempty" doc:"A page may be short and go on all the same"`
	}
}, error) {
	out := &struct {
		Body struct {
			Objects []api.ReplicaObject `json:"objects" doc:"By key"`
			Next    string              `json:"next,omitempty" doc:"A page may be short and go on all the same"`
		}
	}{}
	out.Body.Objects = []api.ReplicaObject{}
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(r.Bucket)
	if err != nil {
		return nil, err
	}
	for after, looked := in.After, 0; ; {
		list, err := d.replicaKeys(ctx, r, name, after)
		if err != nil {
			return nil, err
		}
		states, err := d.Store.ReplicaStatesOf(ctx, r.BucketID, list.keys, list.now)
		if err != nil {
			return nil, err
		}
		for i, key := range list.keys {
			if len(out.Body.Objects) >= in.Limit {
				out.Body.Next = after
				return out, nil
			}
			after = key
			for _, s := range states[i] {
				if s.Rule.ID == r.ID && (in.State == "" || in.State == string(s.State)) {
					out.Body.Objects = append(out.Body.Objects, replicaObject(key, list.now[i].Version, &s))
				}
			}
		}
		if looked += len(list.keys); !list.more {
			return out, nil
		}
		if looked >= objectsLooked {
			out.Body.Next = after
			return out, nil
		}
	}
}

// replicaKeys are keys of a rule's bucket in order: objects, and keys whose removal waits.
type replicaKeys struct {
	keys []string
	now  []replication.Now
	more bool
}

// replicaKeys gives a page of what a rule copies, after a key.
func (d *Desk) replicaKeys(ctx context.Context, r *replication.Rule, name object.BucketName,
	after string) (out replicaKeys, err error) {
	const most = 1000
	page, more, err := d.Store.List(ctx, name, catalog.Listing{Prefix: r.Prefix, After: after, Max: most, Full: true})
	if err != nil {
		return out, err
	}
	out.more = more
	now := map[string]replication.Now{}
	for _, e := range page {
		now[e.Version.Key.String()] = replication.Now{Version: e.Version, Origin: replication.ParseOrigin(e.Version.Origin)}
	}
	last := "" // of the page; after it come those of the next
	if more {
		last = page[len(page)-1].Version.Key.String()
	}
	for i := range r.Targets {
		waiting, err := d.Store.Catalog.WaitingReplicas(ctx, r.Targets[i].ID, false, max(after, r.Prefix), most)
		if err != nil {
			return out, err
		}
		if len(waiting) == most && (last == "" || waiting[most-1].Key < last) { // more wait than fit on the page
			last, out.more = waiting[most-1].Key, true
		}
		for _, w := range waiting {
			if _, known := now[w.Key]; known || last != "" && w.Key > last || !strings.HasPrefix(w.Key, r.Prefix) {
				continue
			}
			a, err := middle.Address(name.String(), w.Key)
			if err != nil {
				return out, err
			}
			if now[w.Key], err = d.Store.ReplicaNow(ctx, a); err != nil {
				return out, err
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(now)) {
		if last == "" || key <= last {
			out.keys, out.now = append(out.keys, key), append(out.now, now[key])
		}
	}
	return out, nil
}

func replicaObject(key string, v *object.Version, s *store.ReplicaState) api.ReplicaObject {
	x := api.ReplicaObject{Key: key, Target: s.Target.Address(), State: string(s.State), Why: s.Why, Sent: s.Sent,
		Removed: v == nil || v.Marker}
	if !x.Removed {
		x.Bytes = v.Size
	}
	if s.State == replication.Failed {
		x.Why = s.Says
	}
	return x
}

func (d *Desk) showReplicas(ctx context.Context, in *struct {
	middle.BucketPath
	Key string `query:"key" required:"true" maxLength:"1024"`
}) (*struct{ Body api.ReplicasInfo }, error) {
	a, err := middle.Address(in.Bucket, in.Key)
	if err != nil {
		return nil, err
	}
	// Names of rules and endpoints are those of the bucket's account.
	owner, err := d.Store.Owner(ctx, a.Bucket)
	if err == nil && owner != middle.Who(ctx).Subject.Account {
		err = middle.NotYours(ctx, owner)
	}
	if err != nil {
		return nil, err
	}
	info, err := d.ReplicasOf(ctx, a)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.ReplicasInfo }{*info}, nil
}

// ReplicasOf tells how a key of the account's own bucket stands at each target.
func (d *Desk) ReplicasOf(ctx context.Context, a catalog.Address) (*api.ReplicasInfo, error) {
	now, err := d.Store.ReplicaNow(ctx, a)
	if err != nil {
		return nil, err
	}
	f, err := d.Store.Bucket(ctx, a.Bucket)
	if err != nil {
		return nil, err
	}
	states, err := d.Store.ReplicaStatesOf(ctx, f.ID, []string{a.Key.String()}, []replication.Now{now})
	if err != nil {
		return nil, err
	}
	v := now.Version
	out := &api.ReplicasInfo{Replicas: []api.ReplicaInfo{}, Removed: v == nil || v.Marker}
	if !now.Origin.IsZero() {
		if out.Of, err = d.replicaOf(ctx, now.Origin, v); err != nil {
			return nil, err
		}
	}
	for _, s := range states[0] {
		if v == nil && s.Since == nil && s.There.Number == 0 {
			continue // nothing is known of such a key
		}
		x := api.ReplicaInfo{Rule: s.Rule.Name, Target: target(s.Target, a.Key.String()), State: string(s.State), Why: s.Why,
			Since: s.Since, Sent: s.Sent, Attempts: s.Attempts, Confirmed: s.Confirmed, Version: s.There.Version,
			ETag: s.There.ETag}
		if s.State == replication.Failed {
			x.Why, x.Code, x.Next = s.Says, s.Code, s.Next
		}
		out.Replicas = append(out.Replicas, x)
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
func (d *Desk) replicaOf(ctx context.Context, o replication.Origin, v *object.Version) (*api.ReplicaOfInfo, error) {
	service, bucket, _ := strings.Cut(o.Through[0], "/")
	x := &api.ReplicaOfInfo{Here: service == d.Store.Service, Bucket: bucket, Key: o.Key, Version: o.Version,
		Through: len(o.Through), Since: v.Created}
	if !x.Here {
		return x, nil
	}
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	owner, err := d.Store.Owner(ctx, name)
	if err != nil || owner != middle.Who(ctx).Subject.Account {
		x.Bucket, x.Key, x.Version = "", "", ""
	}
	return x, nil
}
