package desk

import (
	"context"
	"fmt"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/works/jobs"
)

func (d *Desk) auditCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	middle.Call(to, mine, "list-audit", "GET /audit", "audit", "What the last audit of the account found", d.listAudit)
	middle.Call(to, mine, "run-audit", "POST /audit/run", "audit", "Look through the account now", d.runAudit)
	middle.Call(to, mine, "accept-finding", "POST /audit/accept", "audit", "Let a finding be, for a reason and until a moment",
		d.acceptFinding, middle.Answers(204))
	middle.Call(to, mine, "mend-finding", "POST /audit/mend", "audit", "Mend what was found, by the call that the finding names",
		d.mendFinding)
}

type auditOut struct{ Body api.AuditInfo }

func (d *Desk) listAudit(ctx context.Context, _ *struct{}) (*auditOut, error) {
	list, at, err := d.Store.Catalog.Audit(ctx, middle.Who(ctx).Subject.Account, d.Store.Catalog.Now())
	if err != nil {
		return nil, err
	}
	out := &auditOut{api.AuditInfo{Findings: make([]api.FindingInfo, len(list))}}
	if !at.IsZero() {
		out.Body.At = &at
	}
	for i, f := range list {
		out.Body.Findings[i] = findingInfo(&f)
	}
	return out, nil
}

func findingInfo(f *catalog.AuditFinding) api.FindingInfo {
	x := api.FindingInfo{Check: f.Check, Subject: f.Subject, Grade: string(f.Grade), Says: f.Says, Why: f.Why,
		Cost: f.Cost,
		Fix:  f.Fix, Page: f.Page, First: f.First}
	if f.Mending != nil {
		x.Mends = f.Mending.Does
	}
	if a := f.Accepted; a != nil {
		x.Accepted = &api.AcceptedInfo{By: a.By, Why: a.Why, Until: a.Until}
	}
	return x
}

func (d *Desk) runAudit(ctx context.Context, _ *struct{}) (*auditOut, error) {
	if err := jobs.Audit(ctx, d.Store, middle.Who(ctx).Subject.Account, d.Store.Catalog.Now().UTC(), d.jobs.Drifts); err != nil {
		return nil, err
	}
	return d.listAudit(ctx, nil)
}

// acceptedMost is for how long a finding may be let be.
const acceptedMost = 366 * 24 * time.Hour

func (d *Desk) acceptFinding(ctx context.Context, in *struct{ Body api.AcceptAsk }) (*struct{}, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	var until *time.Time
	if in.Body.Until != "" {
		at, err := object.ParseMomentToCome(in.Body.Until, by.At)
		if err != nil {
			return nil, fault.From(err).In("until")
		}
		if at.Sub(by.At) > acceptedMost {
			return nil, fault.New(fault.Invalid, "until", "a finding can be accepted for a year at most").In("until").
				Do("give an earlier end")
		}
		if in.Body.Why == "" {
			return nil, fault.New(fault.Invalid, "why", "a finding is accepted for a reason").In("why").Do("say why")
		}
		until = &at
	}
	return nil, d.Store.Catalog.AcceptFinding(ctx, middle.Who(ctx).Subject.Account, in.Body.Check, in.Body.Subject, in.Body.Why,
		until, by)
}

// auditConcern says on the overview that the audit found something serious that nobody lets
// be.
func (d *Desk) auditConcern(ctx context.Context, o *api.Overview) error {
	s := middle.Who(ctx).Subject
	if s.Role != access.Administrator || len(s.Limits) > 0 {
		return nil
	}
	list, _, err := d.Store.Catalog.Audit(ctx, s.Account, d.Store.Catalog.Now())
	if err != nil {
		return err
	}
	var serious []catalog.AuditFinding
	for _, f := range list {
		if f.Grade == audit.Serious && f.Accepted == nil {
			serious = append(serious, f)
		}
	}
	if len(serious) == 0 {
		return nil
	}
	o.Concerns = append(o.Concerns, api.Concern{State: "attention", Subject: "the audit", Says: "found what is serious",
		Detail: sentence(serious[0].Subject + " " + serious[0].Says), Figure: fmt.Sprint(len(serious)), Page: "audit",
		Since: serious[0].First.Format(time.RFC3339)})
	return nil
}

// mendFinding makes the call that mends a finding, for who asks, and looks again.
func (d *Desk) mendFinding(ctx context.Context, in *struct{ Body api.FixAsk }) (*auditOut, error) {
	list, _, err := d.Store.Catalog.Audit(ctx, middle.Who(ctx).Subject.Account, d.Store.Catalog.Now())
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(f catalog.AuditFinding) bool {
		return f.Check == in.Body.Check && f.Subject == in.Body.Subject
	})
	if i < 0 {
		return nil, fault.New(fault.NotFound, "finding-missing", "the last audit found no %s of %s", in.Body.Check,
			in.Body.Subject).In("check").Do("look at what it found: spindle audit list")
	}
	m := list[i].Mending
	if m == nil {
		return nil, fault.New(fault.Conflict, "finding-mending", "that takes more than one call").In("check").
			Do("%s", list[i].Fix)
	}
	c := middle.DeskCall{Method: m.Method, Path: m.Path}
	if m.Body != nil {
		c.Body = m.Body
	}
	if err := d.Within(ctx, c, nil); err != nil {
		return nil, err
	}
	return d.runAudit(ctx, nil)
}
