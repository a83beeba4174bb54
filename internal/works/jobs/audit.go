package jobs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"spindle/internal/core/audit"
	"spindle/internal/store"
	"spindle/internal/works/crew"
)

// audit looks through what an account has, and writes down what it finds.
func Audit(ctx context.Context, s *store.Store, account string, now time.Time, drifts crew.Drifts) error {
	f, err := s.Catalog.AuditFacts(ctx, account, now)
	if err != nil {
		return err
	}
	if drifts != nil {
		if f.Drifts, err = drifts(ctx, account); err != nil {
			return err
		}
	}
	if err := errors.Join(auditConflicts(ctx, s, account, f), auditDisks(ctx, s, account, f)); err != nil {
		return err
	}
	return s.Catalog.KeepAudit(ctx, account, now, audit.Look(f))
}

// audit looks through every account.
func (c *Work) audit(ctx context.Context, _ *crew.Lease) error {
	var bad error
	for after := ""; ; {
		list, err := c.Store.Catalog.Accounts(ctx, after, 100)
		if err != nil || len(list) == 0 {
			return errors.Join(bad, err)
		}
		for _, a := range list {
			after = a.Name
			if err := Audit(ctx, c.Store, a.Name, c.Store.Catalog.Now().UTC(), c.Settings.Drifts); err != nil {
				if ctx.Err() != nil {
					return err
				}
				bad = errors.Join(bad, fmt.Errorf("the audit of %s: %w", a.Name, err))
			}
		}
	}
}
