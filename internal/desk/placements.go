package desk

import (
	"context"
	"fmt"
	"slices"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/core/placement"
	"spindle/internal/core/tier"
)

// PlacementPath names a placement.
type PlacementPath struct {
	Placement string `path:"placement" maxLength:"32"`
}

type placementOut struct{ Body api.PlacementInfo }

func (d *Desk) placementCalls(to *calls) {
	call(to, rule{}, "list-placements", "GET /placements", "placements", "List the placements that an account is offered",
		d.listPlacements)
	call(to, rule{}, "show-placement", "GET /placements/{placement}", "placements", "Show a placement", d.showPlacement)
	call(to, rule{oper: true}, "add-placement", "POST /placements", "placements", "Add a placement", d.addPlacement,
		answers(201))
	call(to, rule{oper: true}, "change-placement", "PATCH /placements/{placement}", "placements",
		"Change to whom a placement is offered", d.changePlacement)
	call(to, rule{oper: true}, "remove-placement", "DELETE /placements/{placement}", "placements",
		"Remove a placement that no bucket has", d.removePlacement, answers(204))
}

func (d *Desk) placementInfo(ctx context.Context, p *placement.Placement, tiers tier.Set) (api.PlacementInfo, error) {
	t, err := tiers.Find(p.Tier)
	if err != nil {
		return api.PlacementInfo{}, err
	}
	x := api.PlacementInfo{Name: p.Name, Note: p.Note, Tier: p.Tier, Sealing: p.Sealing, Keeps: t.Keeps(),
		Losses: t.Losses(),
		Price:  float64(t.Price) / millionths, Overhead: t.Overhead(), Limits: t.Limits(), Revision: p.Revision}
	if p.Sealing && !t.Sealed {
		x.Keeps += ", sealed"
	}
	if who(ctx).subject.Operator {
		x.Everyone, x.Accounts, x.Buckets, x.Created, x.CreatedBy = &p.Everyone, p.Accounts, &p.Buckets, &p.Created, p.By
	}
	return x, nil
}

// placementList gives the placements that who asks may know of.
func (d *Desk) placementList(ctx context.Context, account string) (out api.PlacementPage, err error) {
	oper := who(ctx).subject.Operator
	all := account == "" && oper
	if account == "" {
		account = who(ctx).subject.Account
	}
	if !d.knows(ctx, account) {
		return out, notYours(ctx, account)
	}
	policy, err := d.store.Catalog.PlacementPolicy(ctx, account)
	if err != nil {
		return out, err
	}
	list, err := d.store.Catalog.Placements(ctx)
	if err != nil {
		return out, err
	}
	tiers, err := d.store.Tiers(ctx)
	if err != nil {
		return out, err
	}
	out.Placements, out.Default, out.Fixed, out.FixedBy = []api.PlacementInfo{}, policy.Default, policy.Fixed, policy.By
	if !policy.Fixed {
		out.FixedBy = ""
	}
	for _, p := range list {
		if !all && !slices.Contains(policy.Offered, p.Name) {
			continue
		}
		x, err := d.placementInfo(ctx, p, tiers)
		if err != nil {
			return out, err
		}
		x.Default = p.Name == policy.Default
		out.Placements = append(out.Placements, x)
	}
	return out, nil
}

func (d *Desk) listPlacements(ctx context.Context, in *struct {
	Account string `query:"account" maxLength:"64" doc:"What is offered to this account; default: your own, and all for operators"`
}) (*struct{ Body api.PlacementPage }, error) {
	page, err := d.placementList(ctx, in.Account)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.PlacementPage }{page}, nil
}

func (d *Desk) showPlacement(ctx context.Context, in *PlacementPath) (*placementOut, error) {
	page, err := d.placementList(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, p := range page.Placements {
		if p.Name == in.Placement {
			return &placementOut{p}, nil
		}
	}
	none := placement.Policy{Account: who(ctx).subject.Account}
	for _, p := range page.Placements {
		none.Offered = append(none.Offered, p.Name)
	}
	_, err = none.Choose(in.Placement, "", false)
	return nil, err
}

func applyPlacement(c *api.PlacementChange, p *placement.Placement) error {
	set(&p.Note, c.Note)
	set(&p.Everyone, c.Everyone)
	set(&p.Accounts, c.Accounts)
	return p.Check()
}

func (d *Desk) addPlacement(ctx context.Context, in *struct {
	Body api.NewPlacement
}) (*placementOut, error) {
	p := &placement.Placement{Name: in.Body.Name, Tier: in.Body.Tier, Sealing: in.Body.Sealing}
	err := applyPlacement(&in.Body.PlacementChange, p)
	if err == nil {
		err = d.store.Catalog.AddPlacement(ctx, p, d.store.Now(author(ctx)))
	}
	if err != nil {
		return nil, err
	}
	return d.showPlacement(ctx, &PlacementPath{p.Name})
}

func (d *Desk) changePlacement(ctx context.Context, in *struct {
	PlacementPath
	Body api.PlacementUpdate
}) (*placementOut, error) {
	if err := d.store.Catalog.ChangePlacement(ctx, in.Placement, in.Body.IfRevision, d.store.Now(author(ctx)),
		func(p *placement.Placement) error { return applyPlacement(&in.Body.PlacementChange, p) }); err != nil {
		return nil, err
	}
	return d.showPlacement(ctx, &in.PlacementPath)
}

func (d *Desk) removePlacement(ctx context.Context, in *PlacementPath) (*struct{}, error) {
	return nil, d.store.Catalog.RemovePlacement(ctx, in.Placement, d.store.Now(author(ctx)))
}

// mayPlace refuses a placement or a tier for a bucket that its account is not offered, or may
// not choose. The errors have the codes placement-fixed and placement-missing.
func (d *Desk) mayPlace(ctx context.Context, bucket object.BucketName, name, tier string) error {
	f, err := d.store.Facts(ctx, bucket)
	if err != nil {
		return err
	}
	policy, err := d.store.Catalog.PlacementPolicy(ctx, f.Account)
	if err != nil {
		return err
	}
	_, err = policy.Choose(name, tier, who(ctx).subject.Operator)
	return err
}

// hideSettings takes out what is the business of those alone who may change settings: how bytes
// and the journal are kept.
func hideSettings(info *api.BucketInfo) (hidden bool) {
	if hidden = info.Partly || !slices.Contains(info.Rights, access.Settings.String()); hidden {
		info.Placement, info.Journal = "", nil
	}
	return hidden
}

// tellPlacement fills in what the placement of a bucket means for it.
func (d *Desk) tellPlacement(ctx context.Context, info *api.BucketInfo, b *catalog.Bucket) error {
	if hideSettings(info) {
		return nil
	}
	policy, err := d.store.Catalog.PlacementPolicy(ctx, b.Account)
	if err != nil {
		return err
	}
	if info.PlacementFixed = policy.Fixed; policy.Fixed {
		info.PlacementBy = policy.By
		if b.Placement != policy.Default {
			info.PlacementDue = policy.Default
		}
	}
	o, err := d.store.Catalog.PlacingOf(ctx, b.ID)
	if o != nil {
		info.Placing = fmt.Sprintf("%d of %d objects looked at for %s, %s", o.Progress.Done(), o.Progress.Total,
			o.What.Place.Placement, o.State)
	}
	return err
}
