package objects

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

func (d *Desk) lifecycleCalls(to *middle.Calls) {
	reads, changes := middle.Rule{Do: access.List, On: middle.OnWhole}, middle.Rule{Do: access.Settings, On: middle.OnWhole}
	const topic, base = "lifecycle", "/buckets/{bucket}/lifecycle"
	middle.Call(to, reads, "show-rules", "GET "+base, topic, "Show the rules of a bucket", d.showRules)
	middle.Call(to, changes, "save-rules", "PUT "+base, topic, "Replace the rules of a bucket", d.saveRules)
	middle.Call(to, reads, "check-rules", "POST "+base+"/check", topic, "Say all that is wrong with rules", d.checkRules)
	middle.Call(to, reads, "rehearse-rules", "POST "+base+"/rehearse", topic,
		"Work out what rules would do, on the real catalog and day by day; nothing is changed", d.rehearseRules)
	middle.Call(to, reads, "show-ages", "POST "+base+"/ages", topic, "Show how old what is in a scope is, by tier", d.showAges)
	middle.Call(to, changes, "put-rules", "PATCH "+base, topic, "Add or replace several rules, all of them or none", d.putRules)
	middle.Call(to, changes, "put-rule", "PUT "+base+"/rules/{rule}", topic, "Add or replace one rule", d.putRule)
	middle.Call(to, changes, "remove-rule", "DELETE "+base+"/rules/{rule}", topic, "Remove one rule", d.removeRule)
	middle.Call(to, reads, "list-past-rules", "GET "+base+"/history", topic, "List the states that the rules had, latest first",
		d.listPastRules)
	middle.Call(to, changes, "put-back-rules", "POST "+base+"/history/{revision}", topic,
		"Put an earlier state of the rules back",
		d.putBackRules)
	d.runCalls(to, reads, changes)
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnKey}, "show-coming", "GET /buckets/{bucket}/coming", topic,
		"Show what the rules have in store for a version", d.showComing)
}

type rulesOut struct{ Body api.Rules }

func (d *Desk) rulesOf(ctx context.Context, bucket string) (*rulesOut, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	l, set, err := d.Store.Rules(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &rulesOut{api.Rules{Revision: l.Revision, Rules: []api.RuleInfo{}}}
	if l.Revision == 0 {
		return out, nil
	}
	seen, err := d.VeilFor(ctx, name)
	if err != nil {
		return nil, err
	}
	out.Body.Saved, out.Body.SavedBy, out.Body.Looked = &l.Saved, seen.By(l.SavedBy), l.Upto
	if set.Acts() && l.Acts.After(d.Store.Catalog.Now()) {
		out.Body.Acts = &l.Acts
	}
	did, err := d.lastDid(ctx, l.Bucket)
	if err != nil {
		return nil, err
	}
	for _, f := range set.Forms() {
		out.Body.Rules = append(out.Body.Rules, api.RuleInfo{Form: f, Did: did[f.Name]})
	}
	return out, nil
}

// lastDid gives what each rule did in the last run in which it did something, of the
// last few.
func (d *Desk) lastDid(ctx context.Context, bucket int64) (map[string][]lifecycle.RunCount, error) {
	runs, err := d.Store.Catalog.Runs(ctx, bucket, 0, 20)
	if err != nil {
		return nil, err
	}
	did := map[string][]lifecycle.RunCount{}
	for _, r := range runs {
		here := map[string][]lifecycle.RunCount{}
		for _, n := range r.Counts {
			here[n.Rule] = append(here[n.Rule], n)
		}
		for name, list := range here {
			if did[name] == nil {
				did[name] = list
			}
		}
	}
	return did, nil
}

func (d *Desk) showRules(ctx context.Context, in *middle.BucketPath) (*rulesOut, error) {
	return d.rulesOf(ctx, in.Bucket)
}

func savingRules(s api.RulesSaving, what string, edit func([]lifecycle.Form) ([]lifecycle.Form,
	error)) store.RulesChange {
	c := store.RulesChange{IfRevision: s.IfRevision, What: what, Edit: edit}
	if s.Grace != nil {
		g := time.Duration(*s.Grace) * time.Second
		c.Grace = &g
	}
	return c
}

func (d *Desk) changeRules(ctx context.Context, bucket string, c store.RulesChange) (*rulesOut, error) {
	name, err := object.ParseBucketName(bucket)
	if err == nil {
		_, err = d.Store.ChangeRules(ctx, name, c, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return d.rulesOf(ctx, bucket)
}

func (d *Desk) saveRules(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RulesSave
}) (*rulesOut, error) {
	return d.changeRules(ctx, in.Bucket, savingRules(in.Body.RulesSaving, fmt.Sprintf("all %d rules saved",
		len(in.Body.Rules)),
		func([]lifecycle.Form) ([]lifecycle.Form, error) { return in.Body.Rules, nil }))
}

// RulePath names a rule of a bucket.
type RulePath struct {
	middle.BucketPath
	Rule string `path:"rule" maxLength:"400"`
}

func (d *Desk) putRule(ctx context.Context, in *struct {
	RulePath
	Body api.RuleSave
}) (*rulesOut, error) {
	f := in.Body.Rule
	if f.Name == "" {
		f.Name = in.Rule
	}
	return d.changeRules(ctx, in.Bucket, savingRules(in.Body.RulesSaving, "rule "+f.Name+" saved",
		func(list []lifecycle.Form) ([]lifecycle.Form, error) {
			if in.Body.New && slices.ContainsFunc(list, func(x lifecycle.Form) bool { return x.Name == f.Name }) {
				return nil, fault.New(fault.Conflict, "rule-exists", "the bucket has a rule %q already", f.Name).In("name").
					Do("choose another name, or change that one")
			}
			if f.Name != in.Rule { // it gets another name
				if rest, err := store.DropRule(in.Rule)(list); err == nil {
					list = rest
				}
			}
			return store.PutRule(f)(list)
		}))
}

// putRules adds or replaces several rules in one revision.
func (d *Desk) putRules(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RulesPut
}) (*rulesOut, error) {
	names := make([]string, len(in.Body.Rules))
	for i, f := range in.Body.Rules {
		if names[i] = f.Name; slices.Contains(names[:i], f.Name) {
			return nil, fault.New(fault.Invalid, "rule-twice", "the rule %q is given twice", f.Name).In("rules").
				Do("give each rule once")
		}
	}
	what := "rule " + names[0] + " saved"
	if len(names) > 1 {
		what = "rules " + strings.Join(names, ", ") + " saved"
	}
	return d.changeRules(ctx, in.Bucket, savingRules(in.Body.RulesSaving, middle.Limited(what),
		func(list []lifecycle.Form) ([]lifecycle.Form, error) {
			for _, f := range in.Body.Rules {
				var err error
				if list, err = store.PutRule(f)(list); err != nil {
					return nil, err
				}
			}
			return list, nil
		}))
}

func (d *Desk) removeRule(ctx context.Context, in *struct {
	RulePath
	IfRevision int `query:"ifRevision" minimum:"0"`
}) (*rulesOut, error) {
	return d.changeRules(ctx, in.Bucket, store.RulesChange{IfRevision: in.IfRevision, What: "rule " + in.Rule + " removed",
		Edit: store.DropRule(in.Rule)})
}

func (d *Desk) checkRules(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RulesCheck
}) (*struct {
	Body struct {
		Complaints []api.Complaint `json:"complaints" doc:"None when they can be saved"`
	}
}, error) {
	out := &struct {
		Body struct {
			Complaints []api.Complaint `json:"complaints" doc:"None when they can be saved"`
		}
	}{}
	out.Body.Complaints = []api.Complaint{}
	if _, err := d.Store.RuleSet(ctx, in.Body.Rules); err != nil {
		if fault.KindOf(err) == fault.Unavailable {
			return nil, err
		}
		out.Body.Complaints = middle.Complaints(err)
	}
	return out, nil
}

func (d *Desk) listPastRules(ctx context.Context, in *struct {
	middle.BucketPath
	Before int `query:"before" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (*struct{ Body api.PastRulesPage }, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	f, err := d.Store.Facts(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.PastRules(ctx, f.ID, in.Before, in.Limit+1)
	if err != nil {
		return nil, err
	}
	seen, err := d.VeilFor(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &struct{ Body api.PastRulesPage }{api.PastRulesPage{History: []api.PastRulesInfo{}}}
	for i, p := range list {
		if i == in.Limit {
			out.Body.Next = list[i-1].Revision
			break
		}
		out.Body.History = append(out.Body.History, api.PastRulesInfo{Revision: p.Revision, At: p.At.UTC(),
			By: seen.By(p.Who), What: p.What, Rules: p.Rules})
	}
	return out, nil
}

func (d *Desk) putBackRules(ctx context.Context, in *struct {
	middle.BucketPath
	Revision int `path:"revision" minimum:"0" doc:"0: no rules, as before the first"`
	Body     api.RulesSaving
}) (*rulesOut, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	f, err := d.Store.Facts(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.PastRules(ctx, f.ID, in.Revision+1, 1)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || list[0].Revision != in.Revision {
		return nil, fault.New(fault.NotFound, "revision-missing", "the rules have no revision %d",
			in.Revision).In("revision").
			Do("list them: spindle lifecycle history")
	}
	return d.changeRules(ctx, in.Bucket, savingRules(in.Body, fmt.Sprintf("revision %d put back", in.Revision),
		func([]lifecycle.Form) ([]lifecycle.Form, error) { return list[0].Rules, nil }))
}
