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
	Deed Deed
	Why  string // there is nothing to do, when it is not that all is done
}

// Now is a key of the source as it is.
type Now struct {
	Version *object.Version // current, or a delete marker; nil: the key has nothing
	Origin  Origin          // of the version
}

// Decide says what must be done at a target of a rule for a key as it is now, of which
// something is there. above are rules of greater priority that copy to the same place;
// place names the target when it is known where it is.
func Decide(r *Rule, above []*Rule, now Now, have Have, place string) Action {
	v := now.Version
	switch {
	case v == nil || v.Marker:
		return r.removal(v != nil, have)
	case have.Number == v.Number && have.Revision == v.Revision && !have.Gone:
		return Action{}
	case !now.Origin.IsZero() && place != "" && now.Origin.Passed(place):
		return Action{Why: "it came from there"}
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

func (r *Rule) removal(marker bool, have Have) Action {
	switch {
	case have.Number == 0 || have.Gone:
		return Action{}
	case marker && !r.Markers:
		return Action{Why: "the rule takes no delete markers along"}
	case !marker && !r.Removals:
		return Action{Why: "the rule takes no removals along"}
	}
	return Action{Deed: Remove}
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
	switch {
	case w.Is && w.Attempts > 0:
		return Failed, ""
	case w.Is:
		return Pending, ""
	case a.Deed == Nothing && a.Why != "":
		return Outside, a.Why
	case a.Deed == Nothing && have.Number == 0:
		return Outside, "there is nothing to copy"
	case a.Deed == Nothing:
		return Completed, ""
	case now.Version != nil && now.Version.Number < r.First && have.Number == 0:
		return Outside, "it was there before the rule: a backfill copies it"
	}
	return Pending, "" // the journal is being read
}
