package lifecycle

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
)

// Bounds of rules.
const (
	MaxRules   = 60 // of a bucket
	MaxActions = 20 // of a rule
	MaxDays    = 36_500
	MaxKeep    = 1000
)

// Subject is what an action is of.
type Subject uint8

// The subjects.
const (
	Current Subject = iota
	Previous
	Markers
	Uploads
)

var subjectNames = [...]string{"current", "previous", "markers", "uploads"}

// String gives the subject's name in forms.
func (s Subject) String() string { return subjectNames[s] }

// Counted says what the age of an action of the subject is counted from.
func (s Subject) Counted() string {
	return [...]string{"since it was written", "since it was replaced", "since it was made", "since it was started"}[s]
}

// Action is what a rule does and when; it cannot be wrong.
type Action struct {
	Of     Subject
	Move   bool  // otherwise it removes
	To     int16 // the tier of a move
	Days   int   // the age, unless there is a date
	Date   time.Time
	Keep   int
	Dearer bool
}

// From gives when the action is due for what counts its age from a moment.
func (a *Action) From(since time.Time) time.Time {
	if !a.Date.IsZero() {
		return a.Date
	}
	return since.Add(time.Duration(a.Days) * Day)
}

// Day is what ages are counted in.
const Day = 24 * time.Hour

// Rule is a rule that cannot be wrong, but for tiers that were taken away since: then
// its moves there do nothing.
type Rule struct {
	form    Form
	Scope   Scope
	Actions []Action
}

// Name gives the rule's name.
func (r *Rule) Name() string { return r.form.Name }

// On reports whether the rule acts.
func (r *Rule) On() bool { return !r.form.Off }

// Form gives the rule as it is written down.
func (r *Rule) Form() Form {
	f := r.form
	f.Actions = slices.Clone(f.Actions)
	return f
}

// ruleName is up to 100 characters that can be seen, and spaces within.
var ruleName = regexp.MustCompile(`^[^\s\pC/]([^\pC/]{0,98}[^\s\pC/])?$`)

// complaints gathers what is wrong with a form.
type complaints []error

func (c *complaints) add(field, code, remedy, says string, args ...any) {
	*c = append(*c, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
}

// Parse makes a rule of a form. The error joins all that is wrong, each a fault with its
// field: a part of the form by its name, actions as actions[0].days.
func Parse(f Form, tiers tier.Set) (*Rule, error) {
	r := &Rule{form: f}
	var c complaints
	if !ruleName.MatchString(f.Name) {
		c.add("name", "rule-name", "take up to 100 characters that can be seen, without /", "%q is no name for a rule",
			f.Name)
	}
	r.Scope = parseScope(f.Scope, &c)
	r.form.Scope.Where = r.Scope.Where.String() // its moments are fixed now
	switch {
	case len(f.Actions) == 0:
		c.add("actions", "actions-none", "say what it moves or removes", "the rule does nothing")
	case len(f.Actions) > MaxActions:
		c.add("actions", "actions-many", "make several rules of it", "a rule has at most %d actions", MaxActions)
	}
	sound := true // all actions, each by itself
	for i, a := range f.Actions {
		if x, ok := parseAction(fmt.Sprintf("actions[%d]", i), a, tiers, &c); ok {
			r.Actions = append(r.Actions, x)
		} else {
			sound = false
		}
	}
	if sound {
		r.checkTogether(tiers, &c)
	}
	if len(c) > 0 {
		return nil, errors.Join(c...)
	}
	return r, nil
}

func parseScope(f ScopeForm, c *complaints) (s Scope) {
	s.Prefix = f.Prefix
	if err := object.CheckText("scope.prefix", f.Prefix); err != nil {
		*c = append(*c, fault.From(err).In("scope.prefix"))
	}
	if len(f.Prefix) > object.MaxKey {
		c.add("scope.prefix", "prefix-long", "shorten it", "a prefix has at most %d bytes", object.MaxKey)
	}
	if strings.ContainsAny(f.Prefix, "*?") && !f.Literal {
		c.add("scope.prefix", "prefix-wildcard", "put it among the patterns (like), or say that it is literal",
			"a prefix is taken byte by byte: its * or ? would stand for itself alone")
	}
	patterns := func(field string, list []string) (out []pattern.Pattern) {
		if len(list) > 20 {
			c.add(field, "pattern", "make several rules of it", "there are at most 20 patterns")
		}
		for i, text := range list {
			p, err := pattern.Parse(text)
			if err != nil {
				*c = append(*c, fault.From(err).In(fmt.Sprintf("%s[%d]", field, i)))
			}
			out = append(out, p)
		}
		return out
	}
	s.Like, s.LeaveOut = patterns("scope.like", f.Like), patterns("scope.leaveOut", f.LeaveOut)
	tags, err := object.NewTags(f.Tags, object.MaxTags)
	if err != nil {
		*c = append(*c, fault.From(err).In("scope.tags"))
	}
	s.Tags = tags
	for _, x := range []struct {
		field string
		v     *int64
	}{{"scope.sizeFrom", f.SizeFrom}, {"scope.sizeTo", f.SizeTo}} {
		if x.v != nil && (*x.v < 0 || *x.v > object.MaxPartedSize) {
			c.add(x.field, "size", "give a size such as 128KiB", "no object has %d bytes", *x.v)
		}
	}
	if f.SizeFrom != nil && f.SizeTo != nil && *f.SizeFrom > *f.SizeTo {
		c.add("scope.sizeTo", "size", "exchange them", "no size is at least %d and at most %d", *f.SizeFrom, *f.SizeTo)
	}
	s.From, s.To = f.SizeFrom, f.SizeTo
	if s.Where, err = query.ParseScope(f.Where, time.Now(), query.Lasting); err != nil {
		*c = append(*c, fault.From(err).In("scope.where"))
	}
	return s
}

func parseAction(field string, f ActionForm, tiers tier.Set, c *complaints) (a Action, ok bool) {
	before := len(*c)
	at := slices.Index(subjectNames[:], f.Of)
	if at < 0 {
		c.add(field+".of", "action-of", "choose from: "+strings.Join(subjectNames[:], ", "),
			"%q is nothing a rule is about", f.Of)
		return a, false
	}
	a.Of, a.Dearer, a.Keep = Subject(at), f.Dearer, f.Keep
	switch f.Do {
	case "move":
		a.Move = true
		if t, err := tiers.Find(f.To); err != nil {
			c.add(field+".to", "tier-missing", "choose one of those there are (spindle tier list)", "there is no tier %q", f.To)
		} else {
			a.To = t.ID
		}
		if a.Of == Markers || a.Of == Uploads {
			c.add(field+".do", "action-do", "remove them", "%s have no tier to move to", a.Of)
		}
	case "remove":
		if f.To != "" {
			c.add(field+".to", "action-to", "leave it out", "what is removed goes to no tier")
		}
	default:
		c.add(field+".do", "action-do", "choose move or remove", "%q is nothing a rule does", f.Do)
	}
	parseWhen(field, f, &a, c)
	switch {
	case f.Keep != 0 && a.Of != Previous:
		c.add(field+".keep", "action-keep", "leave it out", "only of previous versions some newest can be kept")
	case f.Keep < 0 || f.Keep > MaxKeep:
		c.add(field+".keep", "action-keep", "give a number in between", "0 to %d newest can be kept", MaxKeep)
	}
	return a, len(*c) == before
}

// parseWhen reads an age or a date: one of them, never both.
func parseWhen(field string, f ActionForm, a *Action, c *complaints) {
	least := 0
	if a.Of == Uploads {
		least = 1
	}
	switch {
	case f.Days != nil && f.Date != "":
		c.add(field+".days", "action-when", "leave one of them out", "an action has an age or a date, not both")
	case f.Days != nil:
		if a.Days = *f.Days; a.Days < least || a.Days > MaxDays {
			c.add(field+".days", "action-days", "give a number in between", "an age is from %d to %d days", least, MaxDays)
		}
	case f.Date != "":
		t, err := time.Parse(time.DateOnly, f.Date)
		if err != nil || t.Year() < 2000 || t.Year() > 2200 {
			c.add(field+".date", "action-date", "write it as 2027-01-31", "%q is no day", f.Date)
		}
		a.Date = t
	default:
		c.add(field+".days", "action-when", "give days, or a date", "it is not said when the action is due")
	}
}

// checkTogether finds actions that do not go together.
func (r *Rule) checkTogether(tiers tier.Set, c *complaints) {
	for i := range r.Actions {
		a, field := &r.Actions[i], fmt.Sprintf("actions[%d]", i)
		if (a.Of == Uploads || a.Of == Markers) && r.Scope.Content() {
			c.add(field+".of", "scope-content", "make a rule of its own for it, by prefix or pattern",
				"%s have no tags and no size to choose them by", a.Of)
		}
		for j := range r.Actions {
			if j != i {
				r.checkPair(a, &r.Actions[j], field, i > j, tiers, c)
			}
		}
		if t := tiers.Of(a.To); a.Move && !a.Dearer && t != nil {
			if m := tiers.Of(tier.Main); m != nil && t.Price > m.Price {
				c.add(field+".to", "move-dearer", "choose a cheaper one, or say that it may be dearer",
					"the tier %s is dearer than %s", t.Name, m.Name)
			}
		}
	}
}

// checkPair complains about a, of two actions: what it does twice (once only), or too
// early, or up again.
func (r *Rule) checkPair(a, b *Action, field string, later bool, tiers tier.Set, c *complaints) {
	if a.Of != b.Of {
		return
	}
	if a.Move == b.Move && a.To == b.To {
		if later {
			c.add(field+".do", "action-twice", "leave one of them out", "the rule does this twice")
		}
		return
	}
	if a.Date.IsZero() != b.Date.IsZero() || !b.Move || a.Keep != b.Keep && !a.Move {
		return // which comes first is different from version to version
	}
	when := field + ".days"
	if !a.Date.IsZero() {
		when = field + ".date"
	}
	order := a.Days - b.Days
	if !a.Date.IsZero() {
		order = a.Date.Compare(b.Date)
	}
	to := tiers.Name(b.To)
	switch {
	case !a.Move && order <= 0:
		c.add(when, "remove-before-move", "remove later, or leave out the move",
			"it is before the move to %s, which then never comes", to)
	case a.Move && order == 0 && later:
		c.add(when, "move-at-once", "give them different ages", "it is due together with the move to %s", to)
	case a.Move && order > 0 && !a.Dearer:
		if t, u := tiers.Of(a.To), tiers.Of(b.To); t != nil && u != nil && t.Price > u.Price {
			c.add(field+".to", "move-dearer", "choose a cheaper one, or say that it may be dearer",
				"the tier %s is dearer than %s, where it comes from", t.Name, u.Name)
		}
	}
}

// IndexOf gives which of the rule's actions one is.
func (r *Rule) IndexOf(a *Action) int {
	return slices.IndexFunc(r.Actions, func(x Action) bool { return x == *a })
}
