package demo

import (
	"context"
	"path/filepath"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/core/placement"
	"spindle/internal/core/tier"
	"spindle/internal/store"
)

// tiers adds the herbarium's cheaper places beneath a directory.
func tiers(ctx context.Context, s *store.Store, dir string, at time.Time) error {
	by := catalog.Author{At: at, Who: OwnerKey, Source: "10.4.0.11"}
	at1 := func(name string) tier.Volume { return tier.Volume{Dir: filepath.Join(dir, name)} }
	for _, t := range []*tier.Tier{
		{Name: "drying-room", Note: "cheap disks", Copies: 1, Packed: true, Price: 8_000, Requests: 100_000, Stay: 30,
			Volumes: []tier.Volume{at1("drying-room")}},
		{Name: "cellar", Note: "slow, two copies in two rooms", Copies: 2, Packed: true, Price: 2_000, Requests: 1_500_000,
			Stay: 90, Volumes: []tier.Volume{at1("cellar-north"), at1("cellar-south")},
			Restore: &tier.Restore{Delay: 30 * time.Second, Days: 7}},
		{Name: "press", Note: "any two of six disks may be lost", Copies: 1, Pieces: &tier.Pieces{Data: 4, Parity: 2},
			Price: 12_000, Requests: 4_000, Volumes: []tier.Volume{at1("press-1"), at1("press-2"), at1("press-3"),
				at1("press-4"), at1("press-5"), at1("press-6")}},
	} {
		if err := s.AddTier(ctx, t, by); err != nil && !fault.HasCode(err, "tier-exists") &&
			!fault.HasCode(err, "volume-taken") {
			return err
		}
	}
	for _, p := range []*placement.Placement{
		{Name: "everyday", Note: "fast, one copy", Tier: tier.MainName, Everyone: true},
		{Name: "safe", Note: "what cannot be made again", Tier: "press", Everyone: true},
		{Name: "private", Note: "loans and letters", Tier: "press", Sealing: true, Accounts: []string{Account}},
	} {
		if err := s.Catalog.AddPlacement(ctx, p, by); err != nil && !fault.HasCode(err, "placement-exists") {
			return err
		}
	}
	return s.ChangeTier(ctx, tier.MainName, 0, by, func(t *tier.Tier) error {
		t.Note, t.Price, t.Requests = "fast disks of the service", 21_000, 4_000
		return nil
	})
}

// rules gives the buckets rules that make sense over their three years.
func rules(ctx context.Context, s *store.Store, at time.Time) error {
	days := func(n int) *int { return &n }
	large := int64(16 << 10)
	none := time.Duration(0)
	by := catalog.Author{At: at, Who: OwnerKey, Source: "10.4.0.11"}
	uploads := lifecycle.Form{Name: "unfinished-uploads", Actions: []lifecycle.ActionForm{{Of: "uploads", Do: "remove",
		Days: days(30)}}}
	for bucket, forms := range map[string][]lifecycle.Form{
		"plates": {
			{Name: "old-plates", Scope: lifecycle.ScopeForm{LeaveOut: []string{"*-label.txt"}, SizeFrom: &large},
				Actions: []lifecycle.ActionForm{{Of: "current", Do: "move", To: "drying-room", Days: days(180)},
					{Of: "current", Do: "move", To: "cellar", Days: days(730)}}},
			{Name: "carr-plates", Scope: lifecycle.ScopeForm{Like: []string{"*/carr/*"}},
				Actions: []lifecycle.ActionForm{{Of: "current", Do: "move", To: "cellar", Days: days(365)}}},
			{Name: "earlier-scans", Actions: []lifecycle.ActionForm{{Of: "previous", Do: "remove", Days: days(365), Keep: 2},
				{Of: "markers", Do: "remove", Days: days(30)}}},
			uploads,
		},
		"field-notes": {
			{Name: "sounds", Scope: lifecycle.ScopeForm{Like: []string{"*.wav"}},
				Actions: []lifecycle.ActionForm{{Of: "current", Do: "move", To: "drying-room", Days: days(90)},
					{Of: "current", Do: "move", To: "cellar", Days: days(540)}}},
			uploads,
		},
		"germination": {
			{Name: "spent-trays", Scope: lifecycle.ScopeForm{Prefix: "tray-"},
				Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: days(1095)}}},
		},
	} {
		name := object.MustBucketName(bucket)
		if _, err := s.ChangeRules(ctx, name, store.RulesChange{IfRevision: -1, Grace: &none, What: "the house's rules",
			Edit: func([]lifecycle.Form) ([]lifecycle.Form, error) { return forms, nil }}, by); err != nil &&
			!fault.HasCode(err, "revision") {
			return err
		}
	}
	return nil
}
