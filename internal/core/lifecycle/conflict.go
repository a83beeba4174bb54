package lifecycle

import (
	"fmt"
	"slices"
	"strings"

	"spindle/internal/core/pattern"
)

// Conflict is an action of a rule that is never reached, because another rule removes what
// it is about first.
type Conflict struct {
	Rule, By string
	Says     string
}

// Conflicts gives rules that are on of which an action is never reached, one for each, by
// ages and scopes alone.
func (s *Set) Conflicts() (out []Conflict) {
	for _, r := range s.Rules {
		if c, ok := s.conflict(r); ok && r.On() {
			out = append(out, c)
		}
	}
	return out
}

func (s *Set) conflict(r *Rule) (c Conflict, ok bool) {
	for i := range r.Actions {
		for _, by := range s.Rules {
			if r == by || !by.On() || !by.Scope.covers(&r.Scope) {
				continue
			}
			if first := by.before(&r.Actions[i]); first != nil {
				return Conflict{r.Name(), by.Name(), fmt.Sprintf("%q never takes effect: the rule %s says %q",
					r.form.Actions[i].Words(), by.Name(), first.Words())}, true
			}
		}
	}
	return c, false
}

// before gives the removal of a rule that what an action is about never outlives; nil for
// none.
func (r *Rule) before(a *Action) *ActionForm {
	for i, x := range r.Actions {
		if !x.Move && x.Of == a.Of && x.Date.IsZero() && a.Date.IsZero() && x.Days < a.Days && x.Keep <= a.Keep {
			return &r.form.Actions[i]
		}
	}
	return nil
}

// covers reports whether a scope certainly holds all that another one does.
func (s *Scope) covers(o *Scope) bool {
	same := func(a, b []pattern.Pattern) bool {
		return slices.EqualFunc(a, b, func(x, y pattern.Pattern) bool { return x.String() == y.String() })
	}
	if !strings.HasPrefix(o.Prefix, s.Prefix) || len(s.LeaveOut) > 0 && !same(s.LeaveOut, o.LeaveOut) ||
		len(s.Like) > 0 && !same(s.Like, o.Like) {
		return false
	}
	for name, v := range s.Tags {
		if has, ok := o.Tags[name]; !ok || has != v {
			return false
		}
	}
	if s.From != nil && (o.From == nil || *o.From < *s.From) || s.To != nil && (o.To == nil || *o.To > *s.To) {
		return false
	}
	return s.Where.All() || s.Where.String() == o.Where.String()
}
