package works

import (
	"context"
	"errors"
	"fmt"
	"time"

	"spindle/internal/core/audit"
	"spindle/internal/store"
)

// Audit looks through what an account has, and writes down what it finds.
func Audit(ctx context.Context, s *store.Store, account string, now time.Time) error {
	f, err := s.Catalog.AuditFacts(ctx, account, now)
	if err != nil {
		return err
	}
	if err := errors.Join(auditConflicts(ctx, s, account, f), auditDisks(ctx, s, account, f)); err != nil {
		return err
	}
	return s.Catalog.KeepAudit(ctx, account, now, audit.Look(f))
}

// audit looks through every account.
func (c *Crew) audit(ctx context.Context, _ *lease) error {
	var bad error
	for after := ""; ; {
		list, err := c.store.Catalog.Accounts(ctx, after, 100)
		if err != nil || len(list) == 0 {
			return errors.Join(bad, err)
		}
		for _, a := range list {
			after = a.Name
			if err := Audit(ctx, c.store, a.Name, c.store.Catalog.Now().UTC()); err != nil {
				if ctx.Err() != nil {
					return err
				}
				bad = errors.Join(bad, fmt.Errorf("the audit of %s: %w", a.Name, err))
			}
		}
	}
}
