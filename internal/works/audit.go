package works

import (
	"context"
	"errors"
	"fmt"
	"time"

	"spindle/internal/core/audit"
	"spindle/internal/store"
)

// Drifts says what is not as the charters of an account declare; nil when nobody can say.
type Drifts func(ctx context.Context, account string) ([]audit.Drift, error)

// Audit looks through what an account has, and writes down what it finds.
func Audit(ctx context.Context, s *store.Store, account string, now time.Time, drifts Drifts) error {
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
func (c *Crew) audit(ctx context.Context, _ *lease) error {
	var bad error
	for after := ""; ; {
		list, err := c.store.Catalog.Accounts(ctx, after, 100)
		if err != nil || len(list) == 0 {
			return errors.Join(bad, err)
		}
		for _, a := range list {
			after = a.Name
			if err := Audit(ctx, c.store, a.Name, c.store.Catalog.Now().UTC(), c.settings.Drifts); err != nil {
				if ctx.Err() != nil {
					return err
				}
				bad = errors.Join(bad, fmt.Errorf("the audit of %s: %w", a.Name, err))
			}
		}
	}
}
