package lifecycle

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
)

// Set are the rules of a bucket, by name, beside the tiers they were parsed with.
type Set struct {
	Rules []*Rule
	tiers tier.Set
	jumps []Jump
}

// Jump is a jump ahead of the clock by which ages are judged: times from From to To were told before it, and were
// wrong.
type Jump struct {
	From, To time.Time
	At       time.Time // where the clock came to
}

// Graced gives the rules with jumps of the clock, oldest first: what was written in one's stretch is as old as the jump.
func (s *Set) Graced(jumps []Jump) *Set {
	out := *s
	out.jumps = jumps
	return &out
}

// since gives what an age is counted from.
func (s *Set) since(t time.Time) time.Time {
	for _, j := range s.jumps {
		if !t.Before(j.From) && !t.After(j.To) {
			t = j.At
		}
	}
	return t
}

// NewSet parses the rules of a bucket. The error joins all that is wrong; fields begin
// with the rule's name.
func NewSet(forms []Form, tiers tier.Set) (*Set, error) {
	s := &Set{tiers: tiers}
	var all []error
	if len(forms) > MaxRules {
		all = append(all, fault.New(fault.Invalid, "rules-many", "a bucket has at most %d rules", MaxRules).In("rules").
			Do("put what is alike into one"))
	}
	seen := map[string]bool{}
	for _, f := range forms {
		if seen[f.Name] {
			all = append(all, fault.New(fault.Conflict, "rule-twice", "there are two rules named %q", f.Name).In("name").
				Do("name each its own"))
		}
		seen[f.Name] = true
		r, err := Parse(f, tiers)
		if err != nil {
			all = append(all, within(f.Name, err))
			continue
		}
		s.Rules = append(s.Rules, r)
	}
	if len(all) > 0 {
		return nil, errors.Join(all...)
	}
	slices.SortFunc(s.Rules, func(a, b *Rule) int { return cmp.Compare(a.Name(), b.Name()) })
	return s, nil
}

// within has the faults of a rule say which it is.
func within(name string, err error) error {
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return err
	}
	for _, e := range joined.Unwrap() {
		f := fault.From(e)
		f.Message = fmt.Sprintf("rule %s: %s", name, f.Message)
	}
	return err
}

// Forms gives the rules as they are written down.
func (s *Set) Forms() []Form {
	out := make([]Form, len(s.Rules))
	for i, r := range s.Rules {
		out[i] = r.Form()
	}
	return out
}

// Acts reports whether any rule is on.
func (s *Set) Acts() bool { return slices.ContainsFunc(s.Rules, (*Rule).On) }

// Mask says which rules of a set hold something: bit i is rule i.
type Mask uint64

// Mask gives the rules that are on and hold a version.
func (s *Set) Mask(v query.Object) (m Mask) {
	for i, r := range s.Rules {
		if r.On() && r.Scope.Holds(v) {
			m |= 1 << i
		}
	}
	return m
}

// KeyMask gives the rules that are on and hold what has no content: a delete marker or
// an unfinished upload.
func (s *Set) KeyMask(key string) (m Mask) {
	for i, r := range s.Rules {
		if r.On() && !r.Scope.Content() && r.Scope.holdsKey(key) {
			m |= 1 << i
		}
	}
	return m
}

// Item is a version or an upload as rules see it.
type Item struct {
	Of    Subject
	Mask  Mask      // the rules that hold it
	Since time.Time // what its age is counted from
	Tier  int16
	Newer int  // of a previous version: how many previous ones with content are newer
	Empty bool // a delete marker among the previous versions, which cannot be moved
}

// Due is an action that is due.
type Due struct {
	Rule   *Rule
	Action *Action
	At     time.Time // since when
}

// days gives for how many whole days an action has been due. What wins is told by days:
// moments within a day are not known of versions that are forecast together.
func (d *Due) days(now time.Time) int { return int(now.Sub(d.At) / Day) }

// Due gives the action that is due for an item at a moment, and wins; nil for none.
func (s *Set) Due(it Item, now time.Time) *Due { best, _ := s.due(it, now); return best }

// due gives the action that wins, and those of other rules that would have acted.
func (s *Set) due(it Item, now time.Time) (best *Due, others []*Due) {
	var moves []*Due
	it.Since = s.since(it.Since)
	for i, r := range s.Rules {
		if it.Mask&(1<<i) == 0 {
			continue
		}
		remove, move := r.dueOf(it, now)
		if remove != nil {
			if best == nil || remove.days(now) > best.days(now) {
				best, remove = remove, best
			}
			if remove != nil {
				others = append(others, remove)
			}
		}
		if move != nil && s.tiers.Of(move.Action.To) != nil {
			moves = append(moves, move)
		}
	}
	slices.SortStableFunc(moves, func(a, b *Due) int {
		return cmp.Or(cmp.Compare(s.tiers.Of(a.Action.To).Price, s.tiers.Of(b.Action.To).Price), a.At.Compare(b.At))
	})
	if best != nil || len(moves) == 0 {
		return best, append(others, moves...)
	}
	if best = moves[0]; !s.moves(it, best.Action) {
		return nil, nil
	}
	return best, moves[1:]
}

// moves reports whether a move that is due changes anything, and may.
func (s *Set) moves(it Item, a *Action) bool {
	here, there := s.tiers.Of(it.Tier), s.tiers.Of(a.To)
	return it.Tier != a.To && (here == nil || there.Price <= here.Price || a.Dearer)
}

// dueOf gives the rule's removal and the last of its moves that are due.
func (r *Rule) dueOf(it Item, now time.Time) (remove, move *Due) {
	for i := range r.Actions {
		a := &r.Actions[i]
		if a.Of != it.Of || it.Newer < a.Keep || a.Move && it.Empty {
			continue
		}
		d := &Due{r, a, a.From(it.Since)}
		switch {
		case d.At.After(now):
		case !a.Move:
			remove = d
		case move == nil || d.days(now) < move.days(now):
			move = d
		}
	}
	return remove, move
}

// Coming gives what is to come for an item that stays as it is, by time: each next
// action with those it leaves behind.
func (s *Set) Coming(it Item, now time.Time) (list []Due) {
	for _, at := range s.moments(it) {
		if at.Before(now) {
			at = now
		}
		d := s.Due(it, at)
		if d == nil {
			continue
		}
		if n := len(list); n == 0 || list[n-1].Action != d.Action {
			list = append(list, Due{d.Rule, d.Action, at})
		}
		if !d.Action.Move {
			break
		}
		it.Tier = d.Action.To
	}
	return list
}

// moments gives when something comes to be due for an item, by time.
func (s *Set) moments(it Item) (out []time.Time) {
	it.Since = s.since(it.Since)
	for i, r := range s.Rules {
		if it.Mask&(1<<i) == 0 {
			continue
		}
		for j := range r.Actions {
			if a := &r.Actions[j]; a.Of == it.Of {
				out = append(out, a.From(it.Since))
			}
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	return slices.Compact(out)
}

// Ages gives the ages, in days, at which an action of rules that are on may be due, and
// the dates, with those at which what was written before a jump of the clock comes to such an age.
func (s *Set) Ages() (days []int, dates []time.Time) {
	for _, r := range s.Rules {
		if !r.On() {
			continue
		}
		for _, a := range r.Actions {
			if a.Date.IsZero() {
				days = append(days, a.Days)
			} else {
				dates = append(dates, a.Date)
			}
		}
	}
	for _, j := range s.jumps {
		for _, d := range days {
			dates = append(dates, j.At.Add(time.Duration(d)*Day))
		}
	}
	slices.Sort(days)
	slices.SortFunc(dates, time.Time.Compare)
	return slices.Compact(days), slices.Compact(dates)
}
