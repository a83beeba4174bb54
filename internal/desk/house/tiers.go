package house

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

// Millionths are how prices are kept.
const Millionths = 1e6

func (d *Desk) tierCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-tiers", "GET /tiers", "tiers", "List tiers", d.listTiers)
	middle.Call(to, middle.Rule{}, "show-tier", "GET /tiers/{tier}", "tiers", "Show a tier", d.showTier)
	middle.Call(to, middle.Rule{Oper: true}, "add-tier", "POST /tiers", "tiers", "Add a tier on empty directories", d.addTier,
		middle.Answers(201))
	middle.Call(to, middle.Rule{Oper: true}, "change-tier", "PATCH /tiers/{tier}", "tiers", "Change a tier", d.changeTier)
	middle.Call(to, middle.Rule{Oper: true}, "remove-tier", "DELETE /tiers/{tier}", "tiers", "Remove a tier with nothing in it",
		d.removeTier,
		middle.Answers(204))
	middle.Call(to, middle.Rule{Oper: true}, "repair-tier", "POST /tiers/{tier}/repair", "tiers",
		"Read all bodies of a tier, and make missing and damaged copies and pieces anew", d.repairTier, middle.Answers(202))
	middle.Call(to, middle.Rule{Do: access.Read, On: middle.OnBucket}, "fetch-version", "POST /buckets/{bucket}/fetch", "tiers",
		"Ask for a restored copy of a version that is not read before", d.fetchVersion)
}

// tierFigures are what operators learn of tiers beside what they are.
type tierFigures struct {
	in      map[int16]int64 // bytes of versions
	all     int64
	repairs map[int16]*catalog.Repair
	owed    map[int16]int64
}

func (d *Desk) tierFigures(ctx context.Context) (f tierFigures, err error) {
	if f.in, f.all, err = d.Store.Catalog.TierBytes(ctx); err != nil {
		return f, err
	}
	if f.repairs, err = d.Store.Catalog.Repairs(ctx); err != nil {
		return f, err
	}
	f.owed, err = d.Store.Catalog.Owed(ctx)
	return f, err
}

// bytes gives the bytes of versions in a tier.
func (f tierFigures) bytes(of int16) int64 {
	if of != tier.Main {
		return f.in[of]
	}
	rest := f.all
	for _, n := range f.in {
		rest -= n
	}
	return rest
}

func (d *Desk) tierInfo(ctx context.Context, t *tier.Tier, f tierFigures) api.TierInfo {
	x := api.TierInfo{Name: t.Name, Note: t.Note, Copies: t.Copies, Packed: t.Packed, Sealed: t.Sealed,
		Price: float64(t.Price) / Millionths, Requests: float64(t.Requests) / Millionths, Stay: t.Stay, Revision: t.Revision,
		Created: t.Created, Elsewhere: t.Elsewhere() != nil, Keeps: t.Keeps(), Losses: t.Losses(), Limits: t.Limits()}
	if t.Pieces != nil {
		x.Pieces = t.Pieces.String()
	}
	if t.Restore != nil {
		x.Restore = &api.RestoreInfo{Seconds: int64(t.Restore.Delay / time.Second), Days: t.Restore.Days}
	}
	if !middle.Who(ctx).Subject.Operator {
		return x
	}
	x.CreatedBy = t.By
	bytes := f.bytes(t.ID)
	if r := f.repairs[t.ID]; r != nil {
		x.Repair = &api.RepairInfo{Why: r.Why, Asked: r.Asked, By: r.Who, Bodies: r.Bodies, Bytes: r.Bytes, Of: bytes,
			Made:    r.Made,
			Damaged: r.Damaged, Waiting: r.Waiting, After: r.After, Finished: r.Finished}
	}
	x.Owed, x.Warnings = f.owed[t.ID], oneDisk(t)
	x.Bytes, x.Volumes = &bytes, []api.VolumeInfo{}
	states, err := d.Store.VolumeStates(t.ID)
	if err != nil {
		return x // it was taken away just now
	}
	for _, v := range states {
		info := api.VolumeInfo{Dir: v.Dir, Elsewhere: v.Elsewhere, Free: v.Free, Total: v.Total}
		if v.Away != nil {
			info.Away = fault.From(v.Away).Message
		}
		x.Volumes = append(x.Volumes, info)
	}
	return x
}

func (d *Desk) tierInfos(ctx context.Context) (out []api.TierInfo, err error) {
	set, err := d.Store.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	var f tierFigures
	if middle.Who(ctx).Subject.Operator {
		if f, err = d.tierFigures(ctx); err != nil {
			return nil, err
		}
	}
	for _, t := range set {
		out = append(out, d.tierInfo(ctx, t, f))
	}
	return out, nil
}

type tierPage struct {
	Body struct {
		Tiers []api.TierInfo `json:"tiers" doc:"Main first, then by falling price"`
	}
}

func (d *Desk) listTiers(ctx context.Context, _ *struct{}) (*tierPage, error) {
	out := &tierPage{}
	var err error
	out.Body.Tiers, err = d.tierInfos(ctx)
	return out, err
}

// TierPath names a tier.
type TierPath struct {
	Tier string `path:"tier" maxLength:"32"`
}

type tierOut struct{ Body api.TierInfo }

func (d *Desk) oneTier(ctx context.Context, name string) (*tierOut, error) {
	all, err := d.tierInfos(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		if t.Name == name {
			return &tierOut{t}, nil
		}
	}
	_, err = tier.Set(nil).Find(name)
	return nil, err
}

func (d *Desk) showTier(ctx context.Context, in *TierPath) (*tierOut, error) {
	return d.oneTier(ctx, in.Tier)
}

func applyTier(c *api.TierChange, t *tier.Tier) error {
	middle.Set(&t.Note, c.Note)
	if err := applyForm(c, t); err != nil {
		return err
	}
	middle.Set(&t.Packed, c.Packed)
	middle.Set(&t.Sealed, c.Sealed)
	middle.Set(&t.Stay, c.Stay)
	for _, p := range []struct {
		into *int64
		v    *float64
	}{{&t.Price, c.Price}, {&t.Requests, c.Requests}} {
		if p.v == nil {
			continue
		}
		if *p.v < 0 || *p.v > tier.MaxPrice/Millionths {
			return fault.New(fault.Invalid, "tier-price", "a price is from 0 to 1,000,000").In("price").
				Do("give it in the money you count in, such as 0.021")
		}
		*p.into = int64(*p.v*Millionths + 0.5)
	}
	if c.AtOnce {
		t.Restore = nil
	}
	if c.Restore != nil {
		t.Restore = &tier.Restore{Delay: time.Duration(c.Restore.Seconds) * time.Second, Days: c.Restore.Days}
	}
	return nil
}

// applyForm sets copies or pieces, of which a tier has one.
func applyForm(c *api.TierChange, t *tier.Tier) error {
	if c.Copies != nil {
		if t.Copies = *c.Copies; c.Pieces == nil {
			t.Pieces = nil
		}
	}
	switch {
	case c.Pieces == nil:
	case *c.Pieces == "none" || *c.Pieces == "":
		t.Pieces = nil
	default:
		p, err := tier.ParsePieces(*c.Pieces)
		if err != nil {
			return err
		}
		if t.Pieces = &p; c.Copies == nil {
			t.Copies = 1
		}
	}
	return nil
}

// takeOut takes directories out of a tier. The errors have the codes volume-missing and
// volume-needed.
func takeOut(c *api.TierChange, t *tier.Tier) error {
	for _, dir := range c.Without {
		i := slices.IndexFunc(t.Volumes, func(v tier.Volume) bool { return v.Place == nil && v.Dir == dir })
		if i < 0 {
			return fault.New(fault.NotFound, "volume-missing", "the tier has no volume %s", dir).In("without").
				Do("name one as spindle tier show lists it")
		}
		t.Volumes = slices.Delete(t.Volumes, i, i+1)
	}
	if len(c.Without) > t.Losses() && !c.GiveUp {
		return fault.New(fault.Conflict, "volume-needed", "the tier can lose %d volumes at a time, not %d", t.Losses(),
			len(c.Without)).In("without").
			Do("take them out one after another, each once the repair of the last is done; of a tier that keeps one copy, " +
				"move what is in it to another tier first")
	}
	return nil
}

// oneDisk warns of volumes that are lost together.
func oneDisk(t *tier.Tier) (out []string) {
	on := map[uint64][]string{}
	for _, v := range t.Volumes {
		var st syscall.Stat_t
		if v.Place == nil && syscall.Stat(v.Dir, &st) == nil {
			on[st.Dev] = append(on[st.Dev], v.Dir)
		}
	}
	for _, dirs := range on {
		if len(dirs) > 1 && t.Losses() > 0 {
			out = append(out, fmt.Sprintf("%d volumes are on one disk", len(dirs)))
		}
	}
	slices.Sort(out)
	return out
}

// volumes gives the directories and places that are to be added; endpoints are those of
// the caller's account.
func (d *Desk) volumes(ctx context.Context, named []string) (out []tier.Volume, err error) {
	for _, s := range named {
		if !strings.HasPrefix(s, "@") {
			out = append(out, tier.Volume{Dir: s})
			continue
		}
		a, err := endpoint.ParseAddress(s)
		if err != nil {
			return nil, fault.From(err).In("volumes")
		}
		conn, err := d.Conn(ctx, a.Endpoint)
		if err != nil {
			return nil, fault.From(err).In("volumes")
		}
		p := &tier.Place{Endpoint: conn.ID, Name: a.Endpoint, Bucket: a.Bucket, Prefix: a.Key}
		if p.Prefix != "" && !strings.HasSuffix(p.Prefix, "/") {
			p.Prefix += "/"
		}
		out = append(out, tier.Volume{Place: p})
	}
	return out, nil
}

func (d *Desk) addTier(ctx context.Context, in *struct {
	Body api.NewTier
}) (*tierOut, error) {
	t := &tier.Tier{Name: in.Body.Name, Copies: 1}
	var err error
	if t.Volumes, err = d.volumes(ctx, in.Body.Volumes); err == nil {
		t.Sealed = t.Elsewhere() != nil // whoever keeps it cannot read it, unless that is wanted
		err = applyTier(&in.Body.TierChange, t)
	}
	if err == nil {
		err = d.Store.AddTier(ctx, t, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return d.oneTier(ctx, t.Name)
}

func (d *Desk) changeTier(ctx context.Context, in *struct {
	TierPath
	Body api.TierUpdate
}) (*tierOut, error) {
	more, err := d.volumes(ctx, in.Body.Volumes)
	if err == nil && len(in.Body.Without) > 0 {
		if in.Body.IfRevision, err = d.mayTakeOutOf(ctx, in.Tier, in.Body.IfRevision, &in.Body.TierChange); err != nil {
			return nil, err
		}
	}
	if err == nil {
		err = d.Store.ChangeTier(ctx, in.Tier, in.Body.IfRevision, middle.Author(ctx), func(t *tier.Tier) error {
			if err := takeOut(&in.Body.TierChange, t); err != nil {
				return err
			}
			t.Volumes = append(t.Volumes, more...)
			return applyTier(&in.Body.TierChange, t)
		})
	}
	if err != nil {
		return nil, err
	}
	return d.oneTier(ctx, in.Tier)
}

// mayTakeOutOf is mayTakeOut for a tier by its name, and gives the revision of which that is said.
func (d *Desk) mayTakeOutOf(ctx context.Context, name string, ifRevision int, c *api.TierChange) (revision int,
	err error) {
	set, err := d.Store.Tiers(ctx)
	if err != nil {
		return 0, err
	}
	t, err := set.Find(name)
	if err != nil {
		return 0, err
	}
	if ifRevision == 0 {
		ifRevision = t.Revision
	}
	return ifRevision, d.mayTakeOut(ctx, t, c)
}

// mayTakeOut refuses to take volumes out of a tier on which bodies depend: with those that were taken out before and
// are not made good, or with what could not be written, too little would be left of them. Volumes that are
// given up go all the same. The errors have the codes repair-running and volume-needed.
func (d *Desk) mayTakeOut(ctx context.Context, t *tier.Tier, c *api.TierChange) error {
	if len(c.Without) == 0 {
		return nil
	}
	states, err := d.Store.VolumeStates(t.ID)
	if err != nil {
		return err
	}
	for _, v := range states {
		switch out := slices.Contains(c.Without, v.Dir); {
		case v.Away != nil && !out && !c.GiveUp:
			return fault.New(fault.Conflict, "repair-running", "another volume of the tier is away: %s", v.Dir).In("without").
				Do("bring it back first, or take it out, if it is lost")
		case v.Away == nil && out && c.GiveUp:
			return fault.New(fault.Conflict, "volume-needed", "the volume %s is there: what is on it need not be given up",
				v.Dir).
				In("giveUp").Do("take it out without giving it up")
		}
	}
	if c.GiveUp {
		return nil
	}
	once, err := d.Store.Catalog.KeptOnce(ctx, t)
	if err != nil {
		return err
	}
	if once {
		return fault.New(fault.Conflict, "volume-needed",
			"bodies are in the tier as they were kept before it had %s, and may be on that volume only", t.Keeps()).
			In("without").Do("move them first: put the buckets in line (spindle bucket place)")
	}
	return d.enoughWithout(ctx, t, c.Without)
}

// enoughWithout refuses when bodies could not be read any more without some volumes.
func (d *Desk) enoughWithout(ctx context.Context, t *tier.Tier, dirs []string) error {
	repairs, err := d.Store.Catalog.Repairs(ctx)
	if err != nil {
		return err
	}
	lost := 0
	if r := repairs[t.ID]; r != nil && r.Finished == nil {
		lost = r.Lost
	}
	if lost > 0 && lost+len(dirs) > t.Losses() {
		return fault.New(fault.Conflict, "repair-running", "of the volumes that were taken out before, what was on them is "+
			"not made anew yet").In("without").Do("wait for the repair (spindle tier show %s), then take the next volume out",
			t.Name)
	}
	needs := 1
	if t.Pieces != nil {
		needs = t.Pieces.Data
	}
	n, err := d.Store.Catalog.OwedBelow(ctx, t.ID, dirs, needs+lost)
	if err != nil || n == 0 {
		return err
	}
	return fault.New(fault.Conflict, "volume-needed",
		"%d bodies that were written while volumes were missing could not be "+
			"read without %s", n, strings.Join(dirs, ", ")).In("without").
		Do("bring back what is away and wait for the repair; when it is lost for good, give it up (--give-up): those bodies " +
			"are lost")
}

func (d *Desk) repairTier(ctx context.Context, in *TierPath) (*tierOut, error) {
	if err := d.Store.RepairTier(ctx, in.Tier, middle.Author(ctx)); err != nil {
		return nil, err
	}
	return d.oneTier(ctx, in.Tier)
}

func (d *Desk) removeTier(ctx context.Context, in *TierPath) (*struct{}, error) {
	return nil, d.Store.RemoveTier(ctx, in.Tier, middle.Author(ctx))
}

// RestoredInfo says how the restored copy of a version stands, nil for none.
func RestoredInfo(r *store.RestoreState) *api.RestoredInfo {
	if r == nil {
		return nil
	}
	out := &api.RestoredInfo{Tier: r.Tier.Name}
	if r.Asked {
		out.Asked, out.Due, out.Until, out.Fault = &r.RestoredCopy.Asked, &r.Due, r.Until, r.Fault
	}
	return out
}

func (d *Desk) fetchVersion(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.RestoreAsk
}) (*struct{ Body api.RestoredInfo }, error) {
	a, err := middle.Address(in.Bucket, in.Body.Key)
	if err == nil {
		err = d.May(ctx, access.Read, a)
	}
	if err != nil {
		return nil, err
	}
	id := object.Current
	if in.Body.Version != "" {
		if id, err = object.ParseVersionID(in.Body.Version); err != nil {
			return nil, err
		}
	}
	r, err := d.Store.Fetch(ctx, a, id, in.Body.Days, middle.Author(ctx))
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.RestoredInfo }{*RestoredInfo(r)}, nil
}

// TierName names the tier of a version; the number of one that was taken away is not told.
func (d *Desk) TierName(ctx context.Context, v *object.Version) string {
	if v.Body.Tier == tier.Main {
		return tier.MainName
	}
	set, err := d.Store.Tiers(ctx)
	if err != nil {
		return "" // the listing goes without when the database is away
	}
	return set.Name(v.Body.Tier)
}
