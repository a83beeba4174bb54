package store

import (
	"context"
	"reflect"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
)

// Grace is how long rules that are new or changed wait before they act, unless it is
// said otherwise.
const Grace = 10 * time.Minute

// Rules gives the rules of a bucket.
func (s *Store) Rules(ctx context.Context, name object.BucketName) (*catalog.Lifecycle, *lifecycle.Set, error) {
	f, _, err := s.bucketFacts(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	l, err := s.Catalog.Lifecycle(ctx, f.ID)
	if err != nil {
		return nil, nil, err
	}
	set, err := s.RuleSet(ctx, l.Rules)
	return l, set, err
}

// RuleSet parses rules with the tiers there are. The errors are those of
// lifecycle.NewSet.
func (s *Store) RuleSet(ctx context.Context, forms []lifecycle.Form) (*lifecycle.Set, error) {
	tiers, err := s.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	set, err := lifecycle.NewSet(forms, tiers)
	if err != nil {
		return nil, err
	}
	graces, err := s.Catalog.Graces(ctx)
	return set.Graced(graces), err
}

// RulesChange says how the rules of a bucket are to change.
type RulesChange struct {
	IfRevision int            // 0: whatever it is; -1: only when there are none
	Grace      *time.Duration // before what is new acts; nil: Grace
	What       string         // for the rules' history
	Edit       func([]lifecycle.Form) ([]lifecycle.Form, error)
}

// ChangeRules changes the rules of a bucket; each state they had is kept. The errors are
// those of Edit, of lifecycle.NewSet and of catalog.SaveRules.
func (s *Store) ChangeRules(ctx context.Context, name object.BucketName, c RulesChange,
	by catalog.Author) (*catalog.Lifecycle,
	error) {
	save := catalog.SavingRules{IfRevision: c.IfRevision, Grace: Grace, What: c.What}
	if c.Grace != nil {
		if save.Grace = *c.Grace; save.Grace < 0 || save.Grace > 30*lifecycle.Day {
			return nil, fault.New(fault.Invalid, "grace",
				"a grace is from 0 to 30 days").In("grace").Do("give a time such as 10m")
		}
	}
	save.Edit = func(before []lifecycle.Form) (after []lifecycle.Form, anew, acts bool, err error) {
		if after, err = c.Edit(slices.Clone(before)); err != nil {
			return nil, false, false, err
		}
		set, err := s.RuleSet(ctx, after)
		if err == nil {
			err = s.mayMove(ctx, name, before, after)
		}
		if err != nil {
			return nil, false, false, err
		}
		for _, f := range after {
			anew = anew || !f.Off && !slices.ContainsFunc(before, func(b lifecycle.Form) bool { return reflect.DeepEqual(b, f) })
		}
		return set.Forms(), anew, set.Acts(), nil
	}
	return s.Catalog.SaveRules(ctx, name, save, s.Now(by))
}

// mayMove refuses rules, new or changed, that move to another tier than an operator fixed for
// the account. The error has the code placement-fixed.
func (s *Store) mayMove(ctx context.Context, name object.BucketName, before, after []lifecycle.Form) error {
	f, _, err := s.bucketFacts(ctx, name)
	if err != nil || f.Fixed == "" {
		return err
	}
	for _, r := range after {
		if slices.ContainsFunc(before, func(b lifecycle.Form) bool { return reflect.DeepEqual(b, r) }) {
			continue
		}
		for _, a := range r.Actions {
			if a.To == "" {
				continue
			}
			if _, err := s.tierNamed(ctx, f, a.To); err != nil {
				return err
			}
		}
	}
	return nil
}

// PutRule gives an edit that adds a rule, or replaces the one of its name.
func PutRule(f lifecycle.Form) func([]lifecycle.Form) ([]lifecycle.Form, error) {
	return func(list []lifecycle.Form) ([]lifecycle.Form, error) {
		if i := slices.IndexFunc(list, func(x lifecycle.Form) bool { return x.Name == f.Name }); i >= 0 {
			list[i] = f
			return list, nil
		}
		return append(list, f), nil
	}
}

// DropRule gives an edit that takes a rule away. Its error for none has the code
// rule-missing.
func DropRule(name string) func([]lifecycle.Form) ([]lifecycle.Form, error) {
	return func(list []lifecycle.Form) ([]lifecycle.Form, error) {
		i := slices.IndexFunc(list, func(x lifecycle.Form) bool { return x.Name == name })
		if i < 0 {
			return nil, RuleMissing(name)
		}
		return slices.Delete(list, i, i+1), nil
	}
}

// RuleMissing is the error for a rule that a bucket does not have.
func RuleMissing(name string) error {
	return fault.New(fault.NotFound, "rule-missing", "the bucket has no rule %q", name).In("rule").
		Do("list them: spindle lifecycle list")
}
