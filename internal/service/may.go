package service

import (
	"context"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/gate"
	"spindle/internal/places"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

// mayOrder refuses an order whose giver may do it no more.
func (s *Service) mayOrder(ctx context.Context, o *catalog.Order) error {
	who, err := s.Gate.SubjectOf(ctx, o.Who, o.Account, o.Changed)
	if err != nil {
		return err
	}
	needs, err := orders.Needs(o)
	if err != nil {
		return err
	}
	for _, n := range needs {
		if err := s.mayAll(ctx, who, o.Source, n.Do, n.Bucket.String(), n.Prefix); err != nil {
			return err
		}
	}
	return nil
}

// mayReplicate refuses a rule whose saver may not read the source, or not replicate into
// the target, any more.
func (s *Service) mayReplicate(ctx context.Context, r *replication.Rule, t *replication.Target) error {
	who, err := s.Gate.SubjectOf(ctx, r.By, r.Account, r.Changed)
	if err != nil {
		return err
	}
	if err := s.mayAll(ctx, who, r.Source, access.List|access.Read, r.Bucket, r.Prefix); err != nil {
		return err
	}
	if t.EndpointID == 0 {
		into, err := access.ParseRights("replicate into")
		if err != nil {
			return err
		}
		return s.mayAll(ctx, who, r.Source, into, t.Bucket, t.Prefix)
	}
	if !who.Administers(r.Account) {
		return fault.New(fault.Refused, "not-allowed", "%s, who saved the rule, administers %s no more", who, r.Account).
			In("rule").Do("have an administrator of %s save it again", r.Account)
	}
	return nil
}

// mayUse refuses places that whoever saved a job, or a census, may not use so any more.
func (s *Service) mayUse(ctx context.Context, by places.SavedBy, needs []crew.PlaceNeed) error {
	who, err := s.Gate.SubjectOf(ctx, by.Who, by.Account, by.Changed)
	if err != nil {
		return err
	}
	for _, n := range needs {
		if n.Place.Folder != "" && !who.Operator {
			return fault.New(fault.Refused, "not-allowed", "%s, who saved this, operates the service no more", who).In("saved").
				Do("have an operator save it again")
		}
		if n.Place.Endpoint != "" && !who.Administers(by.Account) {
			return fault.New(fault.Refused, "not-allowed", "%s, who saved this, administers %s no more", who, by.Account).
				In("saved").Do("have an administrator of %s save it again", by.Account)
		}
		if n.Place.Bucket != "" && n.Place.Endpoint == "" {
			if err := s.mayAll(ctx, who, by.Source, n.Do, n.Place.Bucket, n.Place.Prefix); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Service) mayAll(ctx context.Context, who access.Subject, source string, rights access.Rights, bucket,
	prefix string) error {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return err
	}
	for _, one := range rights.Each() {
		if err := s.Gate.May(ctx, gate.Ask{Subject: who, Source: source, Do: one, Bucket: name, Key: prefix}); err != nil {
			return err
		}
	}
	return nil
}
