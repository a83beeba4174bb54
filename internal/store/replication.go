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
		Do("decide which of them is to stay: write it anew on the side where it is right, or remove the other")
}

// Returned is the error for a replica that is offered to where it came from.
func Returned() error {
	return fault.New(fault.Conflict, "replica-returned", "the replica came through there already").In("target")
}

// MayReplace refuses a replica that came through a bucket already, with the code
// replica-returned, and one of what was written at a moment when something newer is there
// that is no replica itself, with newer-there. A zero moment replaces whatever is there.
func (s *Store) MayReplace(ctx context.Context, a catalog.Address, o replication.Origin, written time.Time) error {
	switch {
	case o.IsZero():
		return nil
	case o.Passed(s.Place(a.Bucket.String())):
		return Returned()
	case written.IsZero():
		return nil
	}
	f, err := s.Catalog.Lookup(ctx, a)
	if err == nil && f.Version != nil && f.Version.Origin == "" && f.Version.Created.After(written) {
		err = NewerThere()
	}
	return err
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
}

// ReplicaStates tells of current versions of a bucket how they stand at each target of
// its rules, in their order.
func (s *Store) ReplicaStates(ctx context.Context, bucket int64, versions []*object.Version) ([][]ReplicaState, error) {
	book, err := s.Replications(ctx)
	out := make([][]ReplicaState, len(versions))
	if err != nil || len(versions) == 0 {
		return out, err
	}
	rules := book.Of(bucket)
	var targets []int64
	for _, r := range rules {
		for _, t := range r.Targets {
			targets = append(targets, t.ID)
		}
	}
	if len(targets) == 0 {
		return out, nil
	}
	keys := make([][]byte, len(versions))
	for i, v := range versions {
		keys[i] = []byte(v.Key.String())
	}
	rows, err := s.Catalog.Replicas(ctx, targets, keys)
	if err != nil {
		return nil, err
	}
	for i, v := range versions {
		for _, r := range rules {
			for j := range r.Targets {
				t := &r.Targets[j]
				out[i] = append(out[i], s.replicaState(book, r, t, v, rows[catalog.ReplicaOf{Target: t.ID, Key: v.Key.String()}]))
			}
		}
	}
	return out, nil
}

func (s *Store) replicaState(book *RuleBook, r *replication.Rule, t *replication.Target, v *object.Version,
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
			waits.Attempts = row.Attempts
			x.Since, x.Next, x.Attempts, x.Code, x.Says = row.Since, row.Due, row.Attempts, row.Code, row.Says
		}
	}
	x.State, x.Why = replication.StateOf(r, book.Above(r, t), replication.Now{Version: v,
		Origin: replication.ParseOrigin(v.Origin)}, x.There, waits, place)
	return x
}
