package replication

import (
	"cmp"
	"time"

	"spindle/internal/core/object"
)

// Verdict says how what is at a place stands to a state that a sender brings there.
type Verdict string

// The verdicts. Of two states of a key the one written later stays, everywhere; where both
// were written in the same microsecond, the one whose first source sorts later.
const (
	Absent Verdict = "absent" // nothing is there, and nothing was removed there
	Own    Verdict = "own"    // it came through the sender, who knew it and has moved on
	Older  Verdict = "older"  // it was written before
	Newer  Verdict = "newer"  // it was written after, and the sender does not know it
	Untold Verdict = ""       // the place does not say
)

// GivesWay reports whether the state that is there may be replaced.
func (v Verdict) GivesWay() bool { return v == Absent || v == Own || v == Older }

// Written tells when the state of a version came to be: a replica's at its first source,
// though never later than it arrived here, whatever it says of itself.
func Written(v *object.Version) time.Time {
	if w := ParseOrigin(v.Origin).Written; !w.IsZero() && w.Before(v.Created) {
		return w
	}
	if v.Changed.After(v.Created) {
		return v.Changed
	}
	return v.Created
}

// Judge compares the state that lies at a place with one that comes with an origin. there is
// the current version or delete marker, nil for none; before is what a delete marker hides,
// nil for nothing: a marker over nothing removed nothing, and gives way.
func Judge(o Origin, place string, there, before *object.Version) Verdict {
	if there == nil || there.Marker && before == nil {
		return Absent
	}
	is := ParseOrigin(there.Origin)
	if o.IsZero() || is.Passed(o.Through[len(o.Through)-1]) {
		return Own
	}
	first := place
	if !is.IsZero() {
		first = is.Through[0]
	}
	if c := cmp.Or(Written(there).Compare(o.Written), cmp.Compare(first, o.Through[0])); c > 0 {
		return Newer
	}
	return Older
}
