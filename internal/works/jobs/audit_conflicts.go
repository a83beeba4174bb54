package jobs

import (
	"context"
	"fmt"
	"strings"

	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/core/syncing"
	"spindle/internal/store"
)

// auditConflicts gathers rules and jobs of an account that work against each other.
func auditConflicts(ctx context.Context, s *store.Store, account string, f *audit.Facts) error {
	for i := range f.Buckets {
		if err := ruleConflicts(ctx, s, f.Buckets[i].Name, f); err != nil {
			return err
		}
	}
	book, err := s.Replications(ctx)
	if err != nil {
		return err
	}
	var rules []*replication.Rule
	for _, r := range book.Rules {
		if r.Account == account {
			rules = append(rules, r)
		}
	}
	for _, o := range rules {
		for _, r := range rules {
			if t, is := r.Shadows(o); is {
				f.Conflicts = append(f.Conflicts, audit.Conflict{Subject: o.Name + " to " + t.Address(),
					Says: fmt.Sprintf("never copies there: the rule %s goes before, for all that both are about", r.Name),
					Fix:  "spindle replication show " + o.Name, Page: "/replication/" + o.Name})
			}
		}
	}
	return eachSync(ctx, s, account, func(j *syncing.Job) {
		if !j.On || j.Mode != syncing.Mirror {
			return
		}
		for _, r := range rules {
			for i := range r.Targets {
				if a, b := j.To.String(), r.Targets[i].Address(); r.On && inEachOther(a, b) {
					f.Conflicts = append(f.Conflicts, audit.Conflict{Subject: j.Name,
						Says: fmt.Sprintf("mirrors into %s and removes there what the rule %s copies to %s", a, r.Name, b),
						Fix:  "spindle sync change " + j.Name + " --mode accumulate", Page: "/sync/" + j.Name})
				}
			}
		}
	})
}

func ruleConflicts(ctx context.Context, s *store.Store, bucket string, f *audit.Facts) error {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return err
	}
	_, set, err := s.Rules(ctx, name)
	if fault.HasCode(err, "bucket-missing") { // it went meanwhile
		return nil
	}
	if err != nil {
		return err
	}
	for _, c := range set.Conflicts() {
		f.Conflicts = append(f.Conflicts, audit.Conflict{Subject: bucket + " " + c.Rule, Says: c.Says,
			Fix: fmt.Sprintf("spindle lifecycle show %s %s", bucket, c.By), Page: "/buckets/" + bucket + "/lifecycle"})
	}
	return nil
}

// inEachOther reports whether one of two addresses is beneath the other.
func inEachOther(a, b string) bool {
	if !strings.Contains(strings.TrimPrefix(b, "@"), "/") || strings.HasPrefix(b, "@") && strings.Count(b, "/") == 1 {
		b += "/"
	}
	return strings.HasPrefix(a, b) || strings.HasPrefix(b, a)
}

func eachSync(ctx context.Context, s *store.Store, account string, f func(*syncing.Job)) error {
	const page = 200
	for after := ""; ; {
		list, err := s.Catalog.Syncs(ctx, account, after, page)
		if err != nil {
			return err
		}
		for _, j := range list {
			after = j.Name
			f(j)
		}
		if len(list) < page {
			return nil
		}
	}
}

// auditDisks gathers the disks, which are the affair of accounts that operate the service.
func auditDisks(ctx context.Context, s *store.Store, account string, f *audit.Facts) error {
	operates, err := s.Catalog.Operates(ctx, account)
	if err != nil || !operates {
		return err
	}
	disks, err := s.Filling(ctx, f.Now)
	for _, d := range disks {
		f.Disks = append(f.Disks, audit.Disk(d))
	}
	return err
}
