package store

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
)

// Place names a bucket here in the origins of replicas.
func (s *Store) Place(bucket string) string { return replication.Place(s.Service, bucket) }

// RuleBook are the replication rules there are.
type RuleBook struct {
	Rules []*replication.Rule // those of greater priority first
	mark  int64
}

// Replications gives the replication rules, as known for a second.
func (s *Store) Replications(ctx context.Context) (*RuleBook, error) {
	mark, err := s.Catalog.Mark(ctx, catalog.MarkReplications)
	if err != nil {
		return nil, err
	}
	if b := s.ruleBook.Load(); b != nil && b.mark == mark {
		return b, nil
	}
	rules, err := s.Catalog.Replications(ctx)
	if err != nil {
		return nil, err
	}
	b := &RuleBook{rules, mark}
	s.ruleBook.Store(b)
	return b, nil
}

// Of gives the rules of a bucket that are on.
func (b *RuleBook) Of(bucket int64) []*replication.Rule {
	var out []*replication.Rule
	for _, r := range b.Rules {
		if r.BucketID == bucket && r.On {
			out = append(out, r)
		}
	}
	return out
}

// Named gives a rule of an account, nil for none.
func (b *RuleBook) Named(account, name string) *replication.Rule {
	for _, r := range b.Rules {
		if r.Account == account && r.Name == name {
			return r
		}
	}
	return nil
}

// Above gives the rules that go before one where they copy to a target of it: of the
// same bucket, on, with a greater priority or the older of two alike, to the same place.
func (b *RuleBook) Above(r *replication.Rule, t *replication.Target) []*replication.Rule {
	var out []*replication.Rule
	for _, o := range b.Rules {
		if o == r {
			break
		}
		for i := range o.Targets {
			if o.BucketID == r.BucketID && o.On && o.Targets[i].EndpointID == t.EndpointID && o.Targets[i].Bucket == t.Bucket &&
				o.Targets[i].Prefix == t.Prefix {
				out = append(out, o)
			}
		}
	}
	return out
}

// NewerThere is the error for what would write over something newer.
func NewerThere() error {
	return fault.New(fault.Conflict, "newer-there",
		"what is there was written later, and is no replica of this").In("target").
		Do("decide which of them stays: spindle replication retry RULE KEY --overwrite, or --accept")
}

// Returned is the error for a replica that is offered to where it came from.
func Returned() error {
	return fault.New(fault.Conflict, "replica-returned", "the replica came through there already").In("target")
}

// judge compares the state at an address with one that comes with an origin, and gives the state at the address. The
// error for a replica that came through the bucket already has the code replica-returned.
func (s *Store) judge(ctx context.Context, a catalog.Address, o replication.Origin) (replication.Verdict, catalog.State,
	error) {
	place := s.Place(a.Bucket.String())
	if o.Passed(place) {
		return replication.Untold, catalog.State{}, Returned()
	}
	if now := s.Catalog.Now(); o.Written.After(now) {
		o.Written = now
	}
	f, err := s.Catalog.Lookup(ctx, a)
	if err != nil {
		return replication.Untold, catalog.State{}, err
	}
	there, before := f.Version, (*object.Version)(nil)
	if f.Deleted != nil {
		there = f.Deleted
		if before, err = s.Catalog.Before(ctx, f.Bucket, a.Key); err != nil {
			return replication.Untold, catalog.State{}, err
		}
	}
	if there == nil {
		return replication.Absent, catalog.State{}, nil
	}
	return replication.Judge(o, place, there, before), catalog.State{Number: there.Number, Revision: there.Revision}, nil
}

// JudgeReplica tells how what is at an address stands to a state that a sender brings with an
// origin; see replication.Judge.
func (s *Store) JudgeReplica(ctx context.Context, a catalog.Address, origin string) (replication.Verdict, error) {
	v, _, err := s.judge(ctx, a, replication.ParseOrigin(origin))
	return v, err
}

// replacing commits a change that brings a replica, if it may take the place of what is there
// at that moment, with the condition that it is still that. What is no replica, and what does
// not tell when it was written, is committed as it is. The errors are those of judge, and
// newer-there.
func (s *Store) replacing(ctx context.Context, a catalog.Address, origin string,
	commit func(*catalog.State) error) error {
	o := replication.ParseOrigin(origin)
	if o.IsZero() {
		return commit(nil)
	}
	for {
		v, is, err := s.judge(ctx, a, o)
		switch {
		case err != nil:
			return err
		case o.Written.IsZero():
			return commit(nil)
		case !v.GivesWay():
			return NewerThere()
		}
		if err = commit(&is); !fault.HasCode(err, "version-moved") {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// RemoveReplica removes the object at an address because it was removed at a sender, unless
// what is there was written later: then the error has the code newer-there. The delete marker
// that is left carries the origin of the removal.
func (s *Store) RemoveReplica(ctx context.Context, a catalog.Address, origin string,
	by catalog.Author) (r catalog.Result, err error) {
	err = s.replacing(ctx, a, origin, func(is *catalog.State) (err error) {
		r, err = s.commit(ctx, a.Bucket, catalog.Change{Kind: catalog.ObjectRemoved, Key: a.Key.String(), IfState: is,
			Version: &object.Version{Origin: origin}, Author: s.Now(by)})
		return err
	})
	return r, err
}

// HadContent reports whether a key has or had a version with a content; see
// catalog.HadContent.
func (s *Store) HadContent(ctx context.Context, bucket object.BucketName, key string, size int64, md5 string,
	crc *uint64) (bool, error) {
	f, _, err := s.bucketFacts(ctx, bucket)
	if err != nil {
		return false, err
	}
	return s.Catalog.HadContent(ctx, f.ID, key, size, md5, crc)
}

// ReplicaNow gives a key as rules of replication see it.
func (s *Store) ReplicaNow(ctx context.Context, a catalog.Address) (replication.Now, error) {
	f, err := s.Catalog.Lookup(ctx, a)
	switch {
	case err != nil:
		return replication.Now{}, err
	case f.Deleted != nil:
		before, err := s.Catalog.Before(ctx, f.Bucket, a.Key)
		return replication.Now{Version: f.Deleted, Origin: replication.ParseOrigin(f.Deleted.Origin), Before: before}, err
	case f.Version == nil:
		return replication.Now{}, nil
	}
	return replication.Now{Version: f.Version, Origin: replication.ParseOrigin(f.Version.Origin)}, nil
}

// ReplicaState is how the current version of a key stands at a target.
type ReplicaState struct {
	Rule      *replication.Rule
	Target    *replication.Target
	State     replication.State
	Why       string     // it is not in scope
	Since     *time.Time // it waits
	Next      *time.Time // it is tried
	Attempts  int
	Code      string // why the last attempt failed
	Says      string
	Confirmed *time.Time // the target had it
	There     replication.Have
	Sent      int64 // bytes that are there of one that is being sent
}

// ReplicaStates tells of current versions of a bucket how they stand at each target of
// its rules, in their order.
func (s *Store) ReplicaStates(ctx context.Context, bucket int64, versions []*object.Version) ([][]ReplicaState, error) {
	keys, now := make([]string, len(versions)), make([]replication.Now, len(versions))
	for i, v := range versions {
		keys[i], now[i] = v.Key.String(), replication.Now{Version: v, Origin: replication.ParseOrigin(v.Origin)}
	}
	return s.ReplicaStatesOf(ctx, bucket, keys, now)
}

// ReplicaStatesOf tells how keys of a bucket, as they are now, stand at each target of its rules,
// in their order.
func (s *Store) ReplicaStatesOf(ctx context.Context, bucket int64, keys []string,
	now []replication.Now) ([][]ReplicaState,
	error) {
	book, err := s.Replications(ctx)
	out := make([][]ReplicaState, len(keys))
	if err != nil || len(keys) == 0 {
		return out, err
	}
	var rules []*replication.Rule // paused ones, too: what waits for them is kept
	var targets []int64
	for _, r := range book.Rules {
		if r.BucketID != bucket {
			continue
		}
		rules = append(rules, r)
		for _, t := range r.Targets {
			targets = append(targets, t.ID)
		}
	}
	if len(targets) == 0 {
		return out, nil
	}
	asked := make([][]byte, len(keys))
	for i, k := range keys {
		asked[i] = []byte(k)
	}
	rows, err := s.Catalog.Replicas(ctx, targets, asked)
	if err != nil {
		return nil, err
	}
	for i, k := range keys {
		for _, r := range rules {
			for j := range r.Targets {
				t := &r.Targets[j]
				out[i] = append(out[i], s.replicaState(book, r, t, now[i], rows[catalog.ReplicaOf{Target: t.ID, Key: k}]))
			}
		}
	}
	return out, nil
}

func (s *Store) replicaState(book *RuleBook, r *replication.Rule, t *replication.Target, now replication.Now,
	row *catalog.Replica) ReplicaState {
	x := ReplicaState{Rule: r, Target: t}
	place := ""
	if t.EndpointID == 0 {
		place = s.Place(t.Bucket)
	}
	var waits replication.Waiting
	if row != nil {
		x.There, x.Confirmed = row.Have, row.Confirmed
		if waits.Is = row.Waiting; waits.Is {
			if row.Upload != "" && now.Version != nil {
				x.Sent = now.Version.Size - row.Bytes
			}
			waits.Attempts = row.Attempts
			x.Since, x.Next, x.Attempts, x.Code, x.Says = row.Since, row.Due, row.Attempts, row.Code, row.Says
		}
	}
	x.State, x.Why = replication.StateOf(r, book.Above(r, t), now, x.There, waits, place)
	if !r.On && x.State == replication.Pending {
		x.Why = "the rule is paused"
	}
	return x
}
