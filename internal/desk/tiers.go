package desk

import (
	"context"
	"strings"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/store"
)

// millionths are how prices are kept.
const millionths = 1e6

// TierInfo is a tier.
type TierInfo struct {
	Name      string       `json:"name"`
	Note      string       `json:"note,omitempty"`
	Copies    int          `json:"copies" doc:"Of each body, every one on another volume"`
	Packed    bool         `json:"packed" doc:"Bodies are compressed"`
	Sealed    bool         `json:"sealed" doc:"Bodies are encrypted at rest, whatever their bucket says"`
	Price     float64      `json:"price" doc:"Of a GiB kept for a month"`
	Requests  float64      `json:"requests" doc:"Price of 1,000 requests"`
	Stay      int          `json:"shortestStay" doc:"Days that are paid for at the least"`
	Restore   *RestoreInfo `json:"restore,omitempty" doc:"Versions are restored before they are read"`
	Elsewhere bool         `json:"elsewhere,omitempty" doc:"Bodies are kept by another store"`
	Revision  int          `json:"revision"`
	Bytes     *int64       `json:"bytes,omitempty" doc:"Of the versions in it; for operators"`
	Volumes   []VolumeInfo `json:"volumes,omitempty" doc:"For operators"`
	Created   time.Time    `json:"created"`
	CreatedBy string       `json:"createdBy,omitempty" doc:"For operators"`
}

// RestoreInfo is how a tier's versions are restored.
type RestoreInfo struct {
	Seconds int64 `json:"seconds" minimum:"0" maximum:"2592000" doc:"Until a restored copy is there"`
	Days    int   `json:"days" minimum:"1" maximum:"3650" doc:"That it stays"`
}

// VolumeInfo is a directory of a tier, or its place elsewhere.
type VolumeInfo struct {
	Dir       string `json:"dir" doc:"Or @ENDPOINT/BUCKET/PREFIX"`
	Elsewhere bool   `json:"elsewhere,omitempty" doc:"It is a bucket at an endpoint, which tells of no room"`
	Free      int64  `json:"free"`
	Total     int64  `json:"total"`
	Away      string `json:"away,omitempty" doc:"Why it cannot be used"`
}

func (d *Desk) tierCalls(to *calls) {
	call(to, rule{}, "list-tiers", "GET /tiers", "tiers", "List tiers", d.listTiers)
	call(to, rule{}, "show-tier", "GET /tiers/{tier}", "tiers", "Show a tier", d.showTier)
	call(to, rule{oper: true}, "add-tier", "POST /tiers", "tiers", "Add a tier on empty directories", d.addTier,
		answers(201))
	call(to, rule{oper: true}, "change-tier", "PATCH /tiers/{tier}", "tiers", "Change a tier", d.changeTier)
	call(to, rule{oper: true}, "remove-tier", "DELETE /tiers/{tier}", "tiers", "Remove a tier with nothing in it",
		d.removeTier,
		answers(204))
	call(to, rule{do: access.Read, on: onBucket}, "fetch-version", "POST /buckets/{bucket}/fetch", "tiers",
		"Ask for a restored copy of a version that is not read before", d.fetchVersion)
}

func (d *Desk) tierInfo(ctx context.Context, t *tier.Tier, in map[int16]int64, all int64) TierInfo {
	x := TierInfo{Name: t.Name, Note: t.Note, Copies: t.Copies, Packed: t.Packed, Sealed: t.Sealed,
		Price: float64(t.Price) / millionths, Requests: float64(t.Requests) / millionths, Stay: t.Stay, Revision: t.Revision,
		Created: t.Created, Elsewhere: t.Elsewhere() != nil}
	if t.Restore != nil {
		x.Restore = &RestoreInfo{int64(t.Restore.Delay / time.Second), t.Restore.Days}
	}
	if !who(ctx).subject.Operator {
		return x
	}
	x.CreatedBy = t.By
	bytes := in[t.ID]
	if t.ID == tier.Main {
		bytes = all
		for _, n := range in {
			bytes -= n
		}
	}
	x.Bytes, x.Volumes = &bytes, []VolumeInfo{}
	states, err := d.store.VolumeStates(t.ID)
	if err != nil {
		return x // it was taken away just now
	}
	for _, v := range states {
		info := VolumeInfo{Dir: v.Dir, Elsewhere: v.Elsewhere, Free: v.Free, Total: v.Total}
		if v.Away != nil {
			info.Away = fault.From(v.Away).Message
		}
		x.Volumes = append(x.Volumes, info)
	}
	return x
}

func (d *Desk) tierInfos(ctx context.Context) (out []TierInfo, err error) {
	set, err := d.store.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	var in map[int16]int64
	var all int64
	if who(ctx).subject.Operator {
		if in, all, err = d.store.Catalog.TierBytes(ctx); err != nil {
			return nil, err
		}
	}
	for _, t := range set {
		out = append(out, d.tierInfo(ctx, t, in, all))
	}
	return out, nil
}

type tierPage struct {
	Body struct {
		Tiers []TierInfo `json:"tiers" doc:"Main first, then by falling price"`
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

type tierOut struct{ Body TierInfo }

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

// TierChange is what can be said of a tier; what is not named stays as it is.
type TierChange struct {
	Note     *string      `json:"note,omitempty" maxLength:"500"`
	Volumes  []string     `json:"volumes,omitempty" maxItems:"64" doc:"Directories to add, on the service's machine, empty or not there yet; or one bucket at an endpoint, @ENDPOINT/BUCKET or @ENDPOINT/BUCKET/PREFIX"`
	Copies   *int         `json:"copies,omitempty"`
	Packed   *bool        `json:"packed,omitempty" doc:"Compress bodies"`
	Sealed   *bool        `json:"sealed,omitempty"`
	Price    *float64     `json:"price,omitempty" doc:"Of a GiB kept for a month"`
	Requests *float64     `json:"requests,omitempty" doc:"Price of 1,000 requests"`
	Stay     *int         `json:"shortestStay,omitempty" doc:"Days that are paid for at the least"`
	Restore  *RestoreInfo `json:"restore,omitempty" doc:"Versions are restored before they are read"`
	AtOnce   bool         `json:"atOnce,omitempty" doc:"Versions are read at once, and need not be restored any more"`
}

func (c *TierChange) apply(t *tier.Tier) error {
	set(&t.Note, c.Note)
	set(&t.Copies, c.Copies)
	set(&t.Packed, c.Packed)
	set(&t.Sealed, c.Sealed)
	set(&t.Stay, c.Stay)
	for _, p := range []struct {
		into *int64
		v    *float64
	}{{&t.Price, c.Price}, {&t.Requests, c.Requests}} {
		if p.v == nil {
			continue
		}
		if *p.v < 0 || *p.v > tier.MaxPrice/millionths {
			return fault.New(fault.Invalid, "tier-price", "a price is from 0 to 1,000,000").In("price").
				Do("give it in the money you count in, such as 0.021")
		}
		*p.into = int64(*p.v*millionths + 0.5)
	}
	if c.AtOnce {
		t.Restore = nil
	}
	if c.Restore != nil {
		t.Restore = &tier.Restore{Delay: time.Duration(c.Restore.Seconds) * time.Second, Days: c.Restore.Days}
	}
	return nil
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
		conn, err := d.conn(ctx, a.Endpoint)
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

func set[T any](into *T, v *T) {
	if v != nil {
		*into = *v
	}
}

func (d *Desk) addTier(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" maxLength:"64"`
		TierChange
	}
}) (*tierOut, error) {
	t := &tier.Tier{Name: in.Body.Name, Copies: 1}
	var err error
	if t.Volumes, err = d.volumes(ctx, in.Body.Volumes); err == nil {
		t.Sealed = t.Elsewhere() != nil // whoever keeps it cannot read it, unless that is wanted
		err = in.Body.apply(t)
	}
	if err == nil {
		err = d.store.AddTier(ctx, t, author(ctx))
	}
	if err != nil {
		return nil, err
	}
	return d.oneTier(ctx, t.Name)
}

func (d *Desk) changeTier(ctx context.Context, in *struct {
	TierPath
	Body struct {
		TierChange
		IfRevision int `json:"ifRevision,omitempty" minimum:"1"`
	}
}) (*tierOut, error) {
	more, err := d.volumes(ctx, in.Body.Volumes)
	if err == nil {
		err = d.store.ChangeTier(ctx, in.Tier, in.Body.IfRevision, author(ctx), func(t *tier.Tier) error {
			t.Volumes = append(t.Volumes, more...)
			return in.Body.apply(t)
		})
	}
	if err != nil {
		return nil, err
	}
	return d.oneTier(ctx, in.Tier)
}

func (d *Desk) removeTier(ctx context.Context, in *TierPath) (*struct{}, error) {
	return nil, d.store.RemoveTier(ctx, in.Tier, author(ctx))
}

// RestoredInfo is how far the restored copy of a version is.
type RestoredInfo struct {
	Tier  string     `json:"tier"`
	Asked *time.Time `json:"asked,omitempty" doc:"Absent when nobody asked for one"`
	Due   *time.Time `json:"due,omitempty" doc:"When it will be there, or was"`
	Until *time.Time `json:"until,omitempty" doc:"Until when it is there; absent before"`
	Fault string     `json:"fault,omitempty" doc:"Why it cannot be made"`
}

func restoredInfo(r *store.RestoreState) *RestoredInfo {
	if r == nil {
		return nil
	}
	out := &RestoredInfo{Tier: r.Tier.Name}
	if r.Asked {
		out.Asked, out.Due, out.Until, out.Fault = &r.RestoredCopy.Asked, &r.Due, r.Until, r.Fault
	}
	return out
}

func (d *Desk) fetchVersion(ctx context.Context, in *struct {
	BucketPath
	Body struct {
		Key     string `json:"key"`
		Version string `json:"version,omitempty" maxLength:"64" doc:"A version's id; the current one otherwise"`
		Days    int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"That the copy stays; as the tier says otherwise"`
	}
}) (*struct{ Body RestoredInfo }, error) {
	a, err := address(in.Bucket, in.Body.Key)
	if err == nil {
		err = d.may(ctx, access.Read, a)
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
	r, err := d.store.Fetch(ctx, a, id, in.Body.Days, author(ctx))
	if err != nil {
		return nil, err
	}
	return &struct{ Body RestoredInfo }{*restoredInfo(r)}, nil
}

// tierName names the tier of a version; the number of one that was taken away is not told.
func (d *Desk) tierName(ctx context.Context, v *object.Version) string {
	if v.Body.Tier == tier.Main {
		return tier.MainName
	}
	set, err := d.store.Tiers(ctx)
	if err != nil {
		return "" // the listing goes without when the database is away
	}
	return set.Name(v.Body.Tier)
}
