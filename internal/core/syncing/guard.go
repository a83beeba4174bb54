package syncing

import "spindle/internal/core/fault"

// Guard says how much a run may take away before it asks. A mirror after an accident at
// the source must not destroy what it keeps.
type Guard struct {
	Share float64 // of what is at the target
	Most  int64   // objects
}

// Usual is the guard of who says nothing else: a tenth, or 1,000 objects.
var Usual = Guard{Share: 0.1, Most: 1000}

// fewAlways is how many objects a run may take away whatever the share.
const fewAlways = 5

// Totals are what a plan comes to.
type Totals struct {
	Source  int64 // objects there, of those that take part
	Target  int64
	New     Sum
	Replace Sum // that are there and become others
	Remove  Sum
	Doubt   Sum // to be looked at closer
	Same    Sum
	Left    Sum // at the target alone, and staying
	Refused Sum
	AtHand  Sum // of the new ones: whose content is at the target under another key

	TargetBytes int64 // of the objects at the target
	Lost        int64 // bytes there that go: of what is removed, and by which what is replaced becomes smaller
}

// Sum counts objects and their bytes.
type Sum struct {
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
}

// Plus gives the sum of both.
func (s Sum) Plus(o Sum) Sum { return Sum{s.Objects + o.Objects, s.Bytes + o.Bytes} }

func (s *Sum) add(e *Entry) {
	s.Objects++
	s.Bytes += e.Size
}

// Add counts a step.
func (t *Totals) Add(s *Step) {
	if s.Source != nil {
		t.Source++
	}
	if s.Target != nil {
		t.Target++
		t.TargetBytes += s.Target.Size
	}
	switch {
	case s.Do == Write && s.Target == nil:
		t.New.add(s.Source)
	case s.Do == Write:
		t.Replace.add(s.Source)
		t.Lost += max(0, s.Target.Size-s.Source.Size)
	case s.Do == Doubt:
		t.Doubt.add(s.Source)
	case s.Do == Skip:
		t.Same.add(s.Source)
	case s.Do == Remove:
		t.Remove.add(s.Target)
		t.Lost += s.Target.Size
	case s.Do == Leave:
		t.Left.add(s.Target)
	case s.Do == Refuse:
		t.Refused.add(s.Source)
	}
}

// Differ reports whether the sides are not as the mode would have them.
func (t *Totals) Differ() bool {
	return t.New.Objects+t.Replace.Objects+t.Remove.Objects+t.Refused.Objects > 0
}

// Check refuses a plan that takes away more than the guard allows, in objects or in bytes, or
// all that is there. What is in doubt counts as replaced. The errors have the codes source-empty
// and guard.
func (g Guard) Check(t *Totals, m Mode) error {
	if m == Mirror && t.Source == 0 && t.Target > 0 {
		return fault.New(fault.Conflict, "source-empty", "the source is empty, and the target holds %d objects that would go",
			t.Target).In("source").
			Do("look whether the source is the right one and is there; say --yes when it is meant")
	}
	gone := t.Remove.Objects + t.Replace.Objects
	few := gone <= fewAlways
	tooMany := !few && (gone > g.Most || float64(gone) > g.Share*float64(t.Target))
	// Of few objects a share says little: then half of the bytes is too much.
	share := g.Share
	if few {
		share = max(share, 0.5)
	}
	lost := t.Lost - t.AtHand.Bytes // what goes under one key and comes under another stays
	tooLarge := lost > 0 && float64(lost) > share*float64(t.TargetBytes)
	// One object that is written anew is the usual case of a target that holds one.
	whole := gone > 0 && gone == t.Target && (t.Remove.Objects > 0 || t.Target > 1) && g.Share < 1
	switch {
	case tooMany || whole:
		return fault.New(fault.Conflict, "guard", "%d of %d objects at the target would be removed or replaced", gone,
			t.Target).
			In("guard").Do("rehearse it to see which; say --yes when it is meant, or set another guard")
	case tooLarge:
		return fault.New(fault.Conflict, "guard", "%d of %d bytes at the target would be lost, by %d objects that are "+
			"removed or become smaller", lost, t.TargetBytes, gone).
			In("guard").Do("rehearse it to see which; say --yes when it is meant, or set another guard")
	}
	return nil
}
