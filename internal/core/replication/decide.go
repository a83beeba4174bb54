package replication

import (
	"fmt"

	"spindle/internal/core/object"
)

// Have is what is known to be at a target of a key.
type Have struct {
	Number   int64  // the source's version that is there; 0: none
	Revision int    // of its metadata
	Gone     bool   // its removal was brought there
	ETag     string // there
	Version  string // its id there
	Accepted int64  // the source's version in whose place what is there was accepted; 0: none
}

// Deed is what must be done at a target.
type Deed uint8

// The deeds.
const (
	Nothing  Deed = iota
	Copy          // bytes and all
	Annotate      // metadata and tags of what is there
	Remove        // what is there, which leaves a delete marker where versions are kept
)

// Action is a deed, or why there is none.
type Action struct {
	Deed  Deed
	Why   string // there is nothing to do, when it is not that all is done
	There bool   // nothing is to be done because the target has it: it came from there
}

// Now is a key of the source as it is.
type Now struct {
	Version *object.Version // current, or a delete marker; nil: the key has nothing
	Origin  Origin          // of the version
	Before  *object.Version // what a delete marker hides; nil: nothing
}

// Decide says what must be done at a target of a rule for a key as it is now, of which
// something is there. above are rules of greater priority that copy to the same place;
// place names the target when it is known where it is.
func Decide(r *Rule, above []*Rule, now Now, have Have, place string) Action {
	v := now.Version
	switch {
	case v == nil || v.Marker:
		return r.removal(now, have, place)
	case place != "" && now.Origin.Passed(place):
		return Action{Why: "it came from there", There: true}
	case have.Accepted == v.Number:
		return Action{Why: "what is there was accepted in its place"}
	case have.Number == v.Number && have.Revision == v.Revision && !have.Gone:
		return Action{}
	case !now.Origin.IsZero() && !r.Onward:
		return Action{Why: "it is a replica, and the rule sends none on"}
	case now.Origin.Full():
		return Action{Why: fmt.Sprintf("it came through %d places already", maxThrough)}
	}
	if ok, why := r.Covers(v); !ok {
		return Action{Why: why}
	}
	for _, a := range above {
		if ok, _ := a.Covers(v); ok {
			return Action{Why: fmt.Sprintf("the rule %s copies it there, which goes before", a.Name)}
		}
	}
	if have.Number == v.Number && !have.Gone {
		return Action{Deed: Annotate}
	}
	return Action{Deed: Copy}
}

// removal decides for a key that has nothing, or a delete marker. A removal travels wherever
// a copy went to or came from; where neither is known, the target is asked what it has.
func (r *Rule) removal(now Now, have Have, place string) Action {
	v := now.Version
	switch {
	case v != nil && place != "" && now.Origin.Passed(place):
		return Action{Why: "the removal came from there"}
	case v != nil && have.Accepted == v.Number:
		return Action{Why: "what is there was accepted in its place"}
	case have.Gone:
		return Action{}
	case v != nil && !r.Markers:
		return Action{Why: "the rule takes no delete markers along"}
	case v == nil && !r.Removals:
		return Action{Why: "the rule takes no removals along"}
	case v != nil && !now.Knows(have, place):
		if now.Before == nil {
			return Action{Why: "there was nothing to remove"}
		}
		if ok, why := r.Covers(now.Before); !ok {
			return Action{Why: why}
		}
		if now.Before.Number < r.First {
			return Action{Why: "what was removed was there before the rule"}
		}
	}
	return Action{Deed: Remove}
}

// Knows reports whether a copy of the key is known to have been brought to a target, or to
// have come from it.
func (n Now) Knows(have Have, place string) bool {
	return have.Number != 0 || n.Before != nil && place != "" && ParseOrigin(n.Before.Origin).Passed(place)
}

// State of a version at a target.
type State string

// The states.
const (
	Pending   State = "pending"
	Completed State = "completed"
	Failed    State = "failed"
	Outside   State = "not in scope"
)

// Waiting is what waits for a key at a target.
type Waiting struct {
	Is       bool
	Attempts int
}

// StateOf tells how the current version of a key stands at a target, and why when it is
// not in scope.
func StateOf(r *Rule, above []*Rule, now Now, have Have, w Waiting, place string) (State, string) {
	a := Decide(r, above, now, have, place)
	v := now.Version
	switch {
	case w.Is && w.Attempts > 0:
		return Failed, ""
	case w.Is:
		return Pending, ""
	case a.Deed == Nothing && a.Why != "":
		return Outside, a.Why
	case v == nil, v.Marker && v.Number >= r.First:
		return Completed, ""
	case v.Marker:
		return Outside, "it was removed before the rule"
	case a.Deed == Nothing:
		return Completed, ""
	case v.Number < r.First && have.Number == 0:
		return Outside, "it was there before the rule: a backfill copies it"
	}
	return Pending, "" // the journal is being read
}
