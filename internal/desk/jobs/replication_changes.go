package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/replication"
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/wire/client"
)

func sortRules(rules []*replication.Rule) {
	slices.SortFunc(rules, func(a, b *replication.Rule) int { return strings.Compare(a.Name, b.Name) })
}

func verifyInfo(raw []byte) *api.VerifyInfo {
	var v api.VerifyInfo
	if raw == nil || json.Unmarshal(raw, &v) != nil {
		return nil
	}
	return &v
}

// apply changes a rule; targets are found.
func (d *Desk) applyReplication(ctx context.Context, c *api.ReplicationChange, r *replication.Rule) error {
	middle.Set(&r.On, c.On)
	middle.Set(&r.Priority, c.Priority)
	middle.Set(&r.Prefix, c.Prefix)
	middle.Set(&r.Markers, c.Markers)
	middle.Set(&r.Removals, c.Removals)
	middle.Set(&r.Onward, c.Onward)
	if c.Tags != nil {
		r.Tags = *c.Tags
	}
	if c.Where != nil {
		var err error
		if r.Where, err = query.ParseScope(*c.Where, d.Store.Catalog.Now(), query.Lasting); err != nil {
			return fault.From(err).In("where")
		}
	}
	if c.NoLag {
		r.Lag = replication.Lag{}
	}
	if c.Lag != nil {
		r.Lag = replication.Lag{Share: c.Lag.Percent / 100, Within: time.Duration(c.Lag.Seconds * float64(time.Second))}
	}
	if c.Targets != nil {
		was := r.Targets
		r.Targets = nil
		for _, s := range c.Targets {
			t, err := d.targetOf(ctx, s)
			if err != nil {
				return err
			}
			for _, o := range was {
				if o.Address() == t.Address() {
					t.ID = o.ID
				}
			}
			r.Targets = append(r.Targets, t)
		}
	}
	return r.Check()
}

// targetOf finds a target. One in a region that no endpoint was made of yet has none: see joined.
func (d *Desk) targetOf(ctx context.Context, s api.TargetSetting) (t replication.Target, err error) {
	a, err := endpoint.ParseAddress(s.Address)
	if err != nil {
		return t, fault.From(err).In("targets")
	}
	if a.Bucket == "" {
		return t, fault.New(fault.Invalid, "address", "%q names no bucket", s.Address).In("targets").
			Do("give BUCKET/PREFIX, or @ENDPOINT/BUCKET/PREFIX")
	}
	t = replication.Target{Endpoint: a.Endpoint, Bucket: a.Bucket, Prefix: a.Key, Class: s.Class, Sealed: s.Sealed}
	if a.Endpoint != "" {
		e, err := d.house.MyEndpoint(ctx, a.Endpoint)
		if fault.HasCode(err, "endpoint-missing") {
			e, err = &endpoint.Endpoint{}, d.house.CopiesToRegion(ctx, a.Endpoint, err)
		}
		if err != nil {
			return t, fault.From(err).In("targets")
		}
		t.EndpointID = e.ID
	} else if t.Class != "" {
		set, err := d.Store.Tiers(ctx)
		if err == nil {
			_, err = set.Find(t.Class)
		}
		if err != nil {
			return t, fault.From(err).In("targets")
		}
	}
	return t, nil
}

// newRule makes the rule that is asked for.
func (d *Desk) newRule(ctx context.Context, in *api.NewReplication) (*replication.Rule, error) {
	r := &replication.Rule{Account: middle.Who(ctx).Subject.Account, Name: in.Name, Bucket: in.Bucket, On: true, Priority: 1,
		Markers: true}
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	f, err := d.Store.Facts(ctx, name)
	if err != nil {
		return nil, err
	}
	if r.BucketID = f.ID; f.Account != r.Account {
		return nil, middle.NotYours(ctx, f.Account)
	}
	if in.Priority == nil {
		book, err := d.Store.Replications(ctx)
		if err != nil {
			return nil, err
		}
		for _, o := range book.Rules {
			if o.BucketID == r.BucketID {
				r.Priority = max(r.Priority, o.Priority+1)
			}
		}
	}
	return r, d.applyReplication(ctx, &in.ReplicationChange, r)
}

// review says what a rule lacks, and with mend puts right what it can.
func (d *Desk) lacks(ctx context.Context, r *replication.Rule, mend bool) ([]api.Lacking, error) {
	out := []api.Lacking{}
	source, err := object.ParseBucketName(r.Bucket)
	if err != nil {
		return nil, err
	}
	if err := d.MayAt(ctx, access.List|access.Read, source, r.Prefix); err != nil {
		return nil, err
	}
	l, err := d.versioned(ctx, source, "source-versioning", "", mend)
	if err != nil {
		return nil, err
	}
	out = append(out, l...)
	for i := range r.Targets {
		t := &r.Targets[i]
		var l []api.Lacking
		switch {
		case t.Endpoint == "":
			l, err = d.targetHereLacks(ctx, t, mend)
		case t.EndpointID == 0:
			l, err = d.house.TargetInRegionLacks(ctx, t, mend)
		default:
			l, err = d.targetThereLacks(ctx, t, mend)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, l...)
	}
	return out, nil
}

// mends refuses a rule that lacks something, or with mend puts right all that it lacks, or
// nothing. A target that the rule had before and that does not answer now is no reason: what
// is to go there waits.
func (d *Desk) mends(ctx context.Context, r, was *replication.Rule, mend bool) error {
	lacks, err := d.lacks(ctx, r, false)
	if err != nil {
		return err
	}
	lacks = slices.DeleteFunc(lacks, func(l api.Lacking) bool {
		return l.Code == "endpoint" && was != nil && slices.ContainsFunc(was.Targets, func(t replication.Target) bool {
			return t.Address() == l.Target
		})
	})
	if len(lacks) > 0 && (!mend || slices.ContainsFunc(lacks, func(l api.Lacking) bool { return !l.Mends })) {
		return refuseLacking(lacks)
	}
	if len(lacks) == 0 {
		return nil
	}
	if lacks, err = d.lacks(ctx, r, true); err == nil && len(lacks) > 0 {
		err = refuseLacking(lacks)
	}
	return err
}

// versioned says that a bucket here does not keep versions, or switches that on.
func (d *Desk) versioned(ctx context.Context, name object.BucketName, code, target string, mend bool) ([]api.Lacking,
	error) {
	f, err := d.Store.Facts(ctx, name)
	if err != nil || f.Versioning == object.On {
		return nil, err
	}
	may := d.MayAt(ctx, access.Settings, name, "")
	if may != nil && fault.KindOf(may) != fault.Refused {
		return nil, may
	}
	if mend && may == nil {
		return nil, d.Store.ChangeBucket(ctx, name, 0, middle.Author(ctx), bucket.Versioning(object.On))
	}
	l := api.Lacking{Code: code, Target: target, Says: "versioning of " + name.String() + " is " + f.Versioning.String(),
		Remedy: "switch it on: spindle bucket change " + name.String() + " --versioning on", Mends: may == nil}
	if may != nil {
		l.Remedy = "have whoever administers it switch it on: spindle bucket change " + name.String() + " --versioning on"
	}
	return []api.Lacking{l}, nil
}

func (d *Desk) targetHereLacks(ctx context.Context, t *replication.Target, mend bool) ([]api.Lacking, error) {
	name, err := object.ParseBucketName(t.Bucket)
	if err != nil {
		return nil, err
	}
	into, err := access.ParseRights("replicate into")
	if err != nil {
		return nil, err
	}
	if err := d.MayAt(ctx, into, name, t.Prefix); err != nil {
		if fault.KindOf(err) != fault.Refused {
			return nil, err
		}
		return []api.Lacking{{Code: "grant", Target: t.Address(), Says: "there is no grant to replicate into " + t.Address(),
			Remedy: "have whoever administers that bucket's account grant it: spindle access grant create " + t.Address() +
				" --to " + middle.Who(ctx).Subject.Account + " --for \"replicate into\""}}, nil
	}
	l, err := d.versioned(ctx, name, "target-versioning", t.Address(), mend)
	if fault.HasCode(err, "bucket-missing") {
		return []api.Lacking{{Code: "bucket-missing", Target: t.Address(), Says: "there is no bucket " + t.Bucket,
			Remedy: "make it: spindle bucket create " + t.Bucket + " --versioning on"}}, nil
	}
	return l, err
}

func (d *Desk) targetThereLacks(ctx context.Context, t *replication.Target, mend bool) ([]api.Lacking, error) {
	conn, err := d.Endpoints.Get(ctx, t.EndpointID)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	is, err := side.LookAt(ctx, conn, t.Bucket)
	if fault.HasCode(err, "bucket-missing") && mend {
		if err = conn.Client.CreateBucket(ctx, t.Bucket); err == nil {
			is, err = side.LookAt(ctx, conn, t.Bucket)
		}
	}
	switch {
	case fault.HasCode(err, "bucket-missing"):
		return house.LacksBucketThere(t), nil
	case err != nil:
		return []api.Lacking{{Code: "endpoint", Target: t.Address(), Says: "the endpoint " + t.Endpoint +
			" does not let us look: " + fault.From(err).Message, Remedy: "spindle endpoint check " + t.Endpoint}}, nil
	}
	class := d.classLacks(ctx, conn, t)
	switch {
	case !is.Keeps || is.Versioning == object.On:
		return class, nil
	case mend:
		return class, conn.Client.SetVersioning(ctx, t.Bucket, true)
	}
	return append(class, house.LacksVersionsThere(t, is.Versioning.String())...), nil
}

// classLacks says of a target at an endpoint that it has not the storage class.
func (d *Desk) classLacks(ctx context.Context, conn *remote.Conn, t *replication.Target) []api.Lacking {
	class, err := classThere(ctx, conn, t.Bucket, t.Prefix, t.Class)
	switch {
	case err == nil:
		t.Class = class
		return nil
	case fault.KindOf(err) != fault.Invalid:
		return []api.Lacking{{Code: "endpoint", Target: t.Address(), Says: "the endpoint " + t.Endpoint +
			" does not say whether it has the storage class " + t.Class + ": " + fault.From(err).Message,
			Remedy: "spindle endpoint check " + t.Endpoint}}
	}
	f := fault.From(err)
	return []api.Lacking{{Code: "tier", Target: t.Address(), Says: f.Message, Remedy: f.Remedy}}
}

// classThere asks an endpoint whether it has a storage class, as it is written or in capitals, by
// an upload that is begun and abandoned, and gives it as it is written there. The error for one
// that it has not has the code storage-class. An endpoint without uploads in parts is not asked.
func classThere(ctx context.Context, conn *remote.Conn, bucket, prefix, class string) (string, error) {
	if class == "" || !conn.Health.Abilities.Can(endpoint.Multipart) {
		return class, nil
	}
	key := prefix + ".spindle-check"
	var refused error
	for _, as := range []string{class, strings.ToUpper(class)} {
		id, err := conn.Client.StartUpload(ctx, bucket, key, client.Put{Class: as})
		if err == nil {
			return as, conn.Client.AbandonUpload(ctx, bucket, key, id)
		}
		if fault.KindOf(err) != fault.Invalid {
			return class, err
		}
		refused = err
	}
	return class, fault.New(fault.Invalid, "storage-class", "the endpoint has no storage class %s. It says: %s", class,
		fault.From(refused).Message).Do("name a class that it has, or none for its usual one")
}

// refuseLacking is the error for what a rule lacks, all of it.
func refuseLacking(lacks []api.Lacking) error {
	var all []error
	for _, l := range lacks {
		remedy := l.Remedy
		if l.Mends {
			remedy += "; or save it with mend"
		}
		all = append(all, fault.New(fault.Conflict, l.Code, "%s", l.Says).In("targets").Do("%s", remedy))
	}
	return errors.Join(all...)
}

type reviewOut struct{ Body api.Review }

func (d *Desk) reviewReplication(ctx context.Context, in *struct{ Body api.NewReplication }) (*reviewOut, error) {
	r, err := d.newRule(ctx, &in.Body)
	if err != nil {
		return nil, err
	}
	out := &reviewOut{api.Review{Says: r.Words(), Existing: []api.ExistingReview{}}}
	if out.Body.Lacks, err = d.lacks(ctx, r, false); err != nil {
		return nil, err
	}
	out.Body.Existing, err = d.existing(ctx, r)
	return out, err
}

func (d *Desk) existing(ctx context.Context, r *replication.Rule) ([]api.ExistingReview, error) {
	out := []api.ExistingReview{}
	for i := range r.Targets {
		n, bytes, err := d.Store.Catalog.BackfillNeeds(ctx, r, r.Targets[i].ID)
		if err != nil {
			return nil, err
		}
		out = append(out, api.ExistingReview{Target: r.Targets[i].Address(), Quantity: api.Quantity{Objects: n,
			Bytes: bytes}})
	}
	return out, nil
}

func (d *Desk) addReplication(ctx context.Context, in *struct{ Body api.NewReplication }) (*replicationOut, error) {
	r, err := d.newRule(ctx, &in.Body)
	if err != nil {
		return nil, err
	}
	d.Store.Catalog.LookAgain()
	book, err := d.Store.Replications(ctx)
	if err == nil && book.Named(r.Account, r.Name) != nil {
		err = catalog.ReplicationExists(r.Name)
	}
	if err == nil {
		err = d.mends(ctx, r, nil, in.Body.Mend)
	}
	if err == nil {
		err = d.house.Joined(ctx, r)
	}
	if err != nil {
		return nil, err
	}
	if err := d.Store.Catalog.AddReplication(ctx, r, middle.Author(ctx)); err != nil {
		return nil, err
	}
	d.Store.Catalog.LookAgain()
	if in.Body.Existing == "backfill" {
		if err := d.startBackfill(ctx, r); err != nil {
			return nil, err
		}
	}
	return d.replicationNamed(ctx, r.Name)
}

func (d *Desk) startBackfill(ctx context.Context, r *replication.Rule) error {
	for _, t := range r.Targets {
		if err := d.Store.Catalog.StartBackfill(ctx, t.ID); err != nil {
			return err
		}
	}
	return nil
}

func (d *Desk) changeReplication(ctx context.Context, in *struct {
	ReplicationPath
	Body api.ReplicationUpdate
}) (*replicationOut, error) {
	c := &in.Body.ReplicationChange
	was, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	r := *was
	if err := d.applyReplication(ctx, c, &r); err != nil {
		return nil, err
	}
	if r.On { // one that is off needs nothing
		if err := d.mends(ctx, &r, was, c.Mend); err != nil {
			return nil, err
		}
	}
	if err := d.house.Joined(ctx, &r); err != nil {
		return nil, err
	}
	at := in.Body.IfRevision
	if at == 0 {
		at = was.Revision // what was looked at is what is changed
	}
	if err := d.Store.Catalog.ChangeReplication(ctx, r.Account, r.Name, at, middle.Author(ctx),
		func(is *replication.Rule) error {
			r.ID, r.Revision = is.ID, is.Revision
			*is = r
			return nil
		}); err != nil {
		return nil, err
	}
	d.Store.Catalog.LookAgain()
	return d.replicationNamed(ctx, in.Rule)
}

type existingOut struct {
	Body struct {
		Existing []api.ExistingReview `json:"existing" doc:"What is copied, by target"`
	}
}

func (d *Desk) backfillReplication(ctx context.Context, in *struct {
	ReplicationPath
	Body api.BackfillAsk
}) (*existingOut, error) {
	r, err := d.myRule(ctx, in.Rule)
	if err != nil {
		return nil, err
	}
	out := &existingOut{}
	if out.Body.Existing, err = d.existing(ctx, r); err != nil || in.Body.Rehearse {
		return out, err
	}
	return out, d.startBackfill(ctx, r)
}
