package house

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
	"spindle/internal/desk/middle"
)

// PlacementPath names a placement.
type PlacementPath struct {
	Placement string `path:"placement" maxLength:"32"`
}

type placementOut struct{ Body api.PlacementInfo }

func (d *Desk) placementCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-placements", "GET /placements", "placements", "List the placements that an account is offered",
		d.listPlacements)
	middle.Call(to, middle.Rule{}, "show-placement", "GET /placements/{placement}", "placements", "Show a placement", d.showPlacement)
	middle.Call(to, middle.Rule{Oper: true}, "add-placement", "POST /placements", "placements", "Add a placement", d.addPlacement,
		middle.Answers(201))
	middle.Call(to, middle.Rule{Oper: true}, "change-placement", "PATCH /placements/{placement}", "placements",
		"Change to whom a placement is offered", d.changePlacement)
	middle.Call(to, middle.Rule{Oper: true}, "remove-placement", "DELETE /placements/{placement}", "placements",
		"Remove a placement that no bucket has", d.removePlacement, middle.Answers(204))
}

func (d *Desk) placementInfo(ctx context.Context, p *placement.Placement, tiers tier.Set) (api.PlacementInfo, error) {
	t, err := tiers.Find(p.Tier)
	if err != nil {
		return api.PlacementInfo{}, err
	}
	x := api.PlacementInfo{Name: p.Name, Note: p.Note, Tier: p.Tier, Sealing: p.Sealing, Keeps: t.Keeps(),
		Losses: t.Losses(),
		Price:  float64(t.Price) / Millionths, Overhead: t.Overhead(), Limits: t.Limits(), Revision: p.Revision}
	if p.Sealing && !t.Sealed {
		x.Keeps += ", sealed"
	}
	if middle.Who(ctx).Subject.Operator {
		x.Everyone, x.Accounts, x.Buckets, x.Created, x.CreatedBy = &p.Everyone, p.Accounts, &p.Buckets, &p.Created, p.By
	}
	return x, nil
}

// placementList gives the placements that who asks may know of.
func (d *Desk) placementList(ctx context.Context, account string) (out api.PlacementPage, err error) {
	oper := middle.Who(ctx).Subject.Operator
	all := account == "" && oper
	if account == "" {
		account = middle.Who(ctx).Subject.Account
	}
	if !d.Knows(ctx, account) {
		return out, middle.NotYours(ctx, account)
	}
	policy, err := d.Store.Catalog.PlacementPolicy(ctx, account)
	if err != nil {
		return out, err
	}
	list, err := d.Store.Catalog.Placements(ctx)
	if err != nil {
		return out, err
	}
	tiers, err := d.Store.Tiers(ctx)
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
	none := placement.Policy{Account: middle.Who(ctx).Subject.Account}
	for _, p := range page.Placements {
		none.Offered = append(none.Offered, p.Name)
	}
	_, err = none.Choose(in.Placement, "", false)
	return nil, err
}

func applyPlacement(c *api.PlacementChange, p *placement.Placement) error {
	middle.Set(&p.Note, c.Note)
	middle.Set(&p.Everyone, c.Everyone)
	middle.Set(&p.Accounts, c.Accounts)
	return p.Check()
}

func (d *Desk) addPlacement(ctx context.Context, in *struct {
	Body api.NewPlacement
}) (*placementOut, error) {
	p := &placement.Placement{Name: in.Body.Name, Tier: in.Body.Tier, Sealing: in.Body.Sealing}
	err := applyPlacement(&in.Body.PlacementChange, p)
	if err == nil {
		err = d.Store.Catalog.AddPlacement(ctx, p, d.Store.Now(middle.Author(ctx)))
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
	if err := d.Store.Catalog.ChangePlacement(ctx, in.Placement, in.Body.IfRevision, d.Store.Now(middle.Author(ctx)),
		func(p *placement.Placement) error { return applyPlacement(&in.Body.PlacementChange, p) }); err != nil {
		return nil, err
	}
	return d.showPlacement(ctx, &in.PlacementPath)
}

func (d *Desk) removePlacement(ctx context.Context, in *PlacementPath) (*struct{}, error) {
	return nil, d.Store.Catalog.RemovePlacement(ctx, in.Placement, d.Store.Now(middle.Author(ctx)))
}

// MayPlace refuses a placement or a tier for a bucket that its account is not offered, or may
// not choose. The errors have the codes placement-fixed and placement-missing.
func (d *Desk) MayPlace(ctx context.Context, bucket object.BucketName, name, tier string) error {
	f, err := d.Store.Facts(ctx, bucket)
	if err != nil {
		return err
	}
	policy, err := d.Store.Catalog.PlacementPolicy(ctx, f.Account)
	if err != nil {
		return err
	}
	_, err = policy.Choose(name, tier, middle.Who(ctx).Subject.Operator)
	return err
}

// HideSettings takes out what is the business of those alone who may change settings: how bytes
// and the journal are kept.
func HideSettings(info *api.BucketInfo) (hidden bool) {
	if hidden = info.Partly || !slices.Contains(info.Rights, access.Settings.String()); hidden {
		info.Placement, info.Journal = "", nil
	}
	return hidden
}

// TellPlacement fills in what the placement of a bucket means for it.
func (d *Desk) TellPlacement(ctx context.Context, info *api.BucketInfo, b *catalog.Bucket) error {
	if HideSettings(info) {
		return nil
	}
	policy, err := d.Store.Catalog.PlacementPolicy(ctx, b.Account)
	if err != nil {
		return err
	}
	if info.PlacementFixed = policy.Fixed; policy.Fixed {
		info.PlacementBy = policy.By
		if b.Placement != policy.Default {
			info.PlacementDue = policy.Default
		}
	}
	o, err := d.Store.Catalog.PlacingOf(ctx, b.ID)
	if o != nil {
		info.Placing = fmt.Sprintf("%d of %d objects looked at for %s, %s", o.Progress.Done(), o.Progress.Total,
			o.What.Place.Placement, o.State)
	}
	return err
}
