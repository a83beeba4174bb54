package house

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/region"
	"spindle/internal/core/replication"
	"spindle/internal/desk/middle"
	"spindle/internal/remote"
	"spindle/internal/wire/sign"
)

// RegionPath names a region.
type RegionPath struct {
	Region string `path:"region" maxLength:"63"`
}

type regionOut struct{ Body api.RegionInfo }

func (d *Desk) regionCalls(to *middle.Calls) {
	const topic = "regions"
	middle.Call(to, middle.Rule{Oper: true}, "this-region", "GET /region", topic, "What this region is, for its sisters", d.thisRegion)
	middle.Call(to, middle.Rule{Oper: true}, "this-region-buckets", "GET /region/buckets", topic,
		"List all buckets of this region, for its sisters", d.thisRegionBuckets)
	middle.Call(to, middle.Rule{}, "list-regions", "GET /regions", topic, "List the regions of the house", d.listRegions)
	middle.Call(to, middle.Rule{}, "show-region", "GET /regions/{region}", topic, "Show a region", d.showRegion)
	middle.Call(to, middle.Rule{Oper: true}, "add-region", "POST /regions", topic,
		"Add another service of the house, once it answers as one", d.addRegion, middle.Answers(201))
	middle.Call(to, middle.Rule{Oper: true}, "ask-region", "POST /regions/{region}/ask", topic, "Ask a region what it has, now",
		d.askRegion)
	middle.Call(to, middle.Rule{Oper: true}, "remove-region", "DELETE /regions/{region}", topic, "Forget a region", d.removeRegion,
		middle.Answers(204))
	middle.Call(to, middle.Rule{Oper: true}, "admit-account", "PUT /regions/{region}/accounts/{account}", topic,
		"Say whether an account may make buckets in a region", d.admitAccount)
}

func (d *Desk) thisRegion(ctx context.Context, in *middle.HostIn) (*struct{ Body remote.Itself }, error) {
	id, err := d.Store.Catalog.ServiceID(ctx)
	if err != nil {
		return nil, err
	}
	return &struct{ Body remote.Itself }{remote.Itself{Name: d.Store.Region, Service: id,
		Wire: d.WireInfo(in.Host).URL}}, nil
}

func (d *Desk) thisRegionBuckets(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"64"`
}) (*struct{ Body api.HeldPage }, error) {
	const page = 1000
	list, err := d.Store.Catalog.Buckets(ctx, "", nil, in.After, page)
	if err != nil {
		return nil, err
	}
	out := api.HeldPage{Buckets: []api.HeldBucket{}}
	for _, b := range list {
		out.Buckets = append(out.Buckets, api.HeldBucket{Name: b.Name.String(), Account: b.Account, Created: b.Created,
			Objects: b.Usage.Objects, Bytes: b.Usage.Bytes + b.Usage.PreviousBytes})
	}
	if len(list) == page {
		out.Next = out.Buckets[page-1].Name
	}
	return &struct{ Body api.HeldPage }{out}, nil
}

// regions gives all regions of the house, one's own first.
func (d *Desk) regions(ctx context.Context) ([]api.RegionInfo, error) {
	s := middle.Who(ctx).Subject
	a, err := d.Store.Catalog.Admission(ctx, s.Account, d.Store.Region)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.Regions(ctx)
	if err != nil {
		return nil, err
	}
	own := api.RegionInfo{Name: d.Store.Region, Own: true, State: string(region.Here), Admitted: a.Here,
		Default: a.Default == "" || a.Default == d.Store.Region}
	held := map[string]catalog.RegionHolds{}
	if s.Operator {
		if held, err = d.Store.Catalog.RegionsHold(ctx); err != nil {
			return nil, err
		}
		h := held[""]
		own.Buckets, own.Accounts = &h.Buckets, h.Accounts
	}
	out := []api.RegionInfo{own}
	for _, r := range list {
		x := api.RegionInfo{Name: r.Name, Desk: r.Desk, State: string(r.State), Admitted: slices.Contains(a.There, r.Name),
			Default: a.Default == r.Name, Note: r.Note}
		if s.Operator {
			h := held[r.Name]
			x.Wire, x.Since, x.Seen, x.Latency, x.Says, x.Key = r.Wire, &r.Since, r.Seen,
				float64(r.Latency)/float64(time.Millisecond), r.Says, r.KeyID
			x.Buckets, x.Accounts, x.Created, x.CreatedBy = &h.Buckets, h.Accounts, &r.Created, r.By
		}
		out = append(out, x)
	}
	return out, nil
}

func (d *Desk) listRegions(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Regions []api.RegionInfo `json:"regions" doc:"One's own first, then by name"`
	}
}, error) {
	out := &struct {
		Body struct {
			Regions []api.RegionInfo `json:"regions" doc:"One's own first, then by name"`
		}
	}{}
	var err error
	out.Body.Regions, err = d.regions(ctx)
	return out, err
}

func (d *Desk) showRegion(ctx context.Context, in *RegionPath) (*regionOut, error) {
	list, err := d.regions(ctx)
	if err != nil {
		return nil, err
	}
	var known []string
	for _, r := range list {
		if r.Name == in.Region {
			return &regionOut{r}, nil
		}
		known = append(known, r.Name)
	}
	_, err = (&region.Admission{Own: d.Store.Region}).Choose(in.Region, known[1:])
	return nil, err
}

// addRegion asks the service at an address what it is, and enters it when it answers.
func (d *Desk) addRegion(ctx context.Context, in *struct{ Body api.NewRegion }) (*regionOut, error) {
	b := in.Body
	r := &region.Region{Name: b.Name, Desk: b.Desk, KeyID: b.Key, Note: b.Note}
	if r.Name == "" {
		r.Name = "found-out"
	}
	if err := r.Check(); err != nil {
		return nil, err
	}
	s := d.Endpoints.SisterAt(b.Desk, r.Desk, sign.Credential{ID: b.Key, Secret: b.Secret})
	defer s.Close()
	is, err := s.Itself(ctx)
	if err != nil {
		return nil, fault.From(err).In("desk")
	}
	own, err := d.Store.Catalog.ServiceID(ctx)
	if err != nil {
		return nil, err
	}
	switch {
	case is.Service == own:
		err = fault.New(fault.Conflict, "region-own", "the service at %s is this one", r.Desk).In("desk").
			Do("give the address of another one's desk")
	case is.Name == d.Store.Region:
		err = fault.New(fault.Conflict, "region-name", "the service at %s calls its region %s, as this one does", r.Desk,
			is.Name).In("name").Do("start one of them with another region (--region)")
	case b.Name != "" && b.Name != is.Name:
		err = fault.New(fault.Conflict, "region-name", "the service at %s calls its region %s, not %s", r.Desk, is.Name,
			b.Name).In("name").Do("leave the name out, or correct the address")
	}
	if err != nil {
		return nil, err
	}
	r.Name, r.Service, r.Wire = is.Name, is.Service, is.Wire
	if err := d.Store.Catalog.AddRegion(ctx, r, d.Store.Now(middle.Author(ctx)), func(name string) ([]byte, error) {
		return d.Endpoints.Secrets().SealSecret(name, b.Secret)
	}); err != nil {
		return nil, err
	}
	return d.askRegion(ctx, &RegionPath{r.Name})
}

func (d *Desk) askRegion(ctx context.Context, in *RegionPath) (*regionOut, error) {
	r, err := d.Store.Catalog.Region(ctx, in.Region)
	if err != nil {
		return nil, err
	}
	if err := d.Endpoints.HearRegion(ctx, r); err != nil && !fault.HasCode(err, "region-away") {
		return nil, err
	}
	return d.showRegion(ctx, in)
}

func (d *Desk) removeRegion(ctx context.Context, in *RegionPath) (*struct{}, error) {
	return nil, d.Store.Catalog.RemoveRegion(ctx, in.Region, d.Store.Now(middle.Author(ctx)))
}

// sister reaches a region that is not this one.
func (d *Desk) sister(ctx context.Context, name string) (*remote.Sister, *region.Region, error) {
	r, err := d.Store.Catalog.Region(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	s, err := d.Endpoints.Sister(r)
	return s, r, err
}

// admitAccount says whether an account may make buckets in a region: here, or at a sister,
// where the account is made when it is not there.
func (d *Desk) admitAccount(ctx context.Context, in *struct {
	RegionPath
	middle.AccountPath
	Body api.AdmitAsk
}) (*middle.AccountOut, error) {
	a, err := d.Store.Catalog.Account(ctx, in.Account)
	if err != nil {
		return nil, err
	}
	if in.Region == d.Store.Region {
		if err := d.Store.Catalog.Admit(ctx, in.Account, in.Body.Admitted, d.Store.Now(middle.Author(ctx))); err != nil {
			return nil, err
		}
		return d.Account(ctx, in.Account)
	}
	s, r, err := d.sister(ctx, in.Region)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if a.Fixed && in.Body.Admitted {
		if err := r.HasPlacement(a.Name, a.Placement); err != nil {
			return nil, err
		}
	}
	there := "/regions/" + url.PathEscape(in.Region) + "/accounts/" + url.PathEscape(in.Account)
	err = s.Ask(ctx, http.MethodPut, there, nil, in.Body, nil)
	if fault.HasCode(err, "account-missing") && in.Body.Admitted {
		if err = s.Ask(ctx, http.MethodPost, "/accounts", nil, map[string]any{"name": a.Name, "note": a.Note},
			nil); err == nil {
			err = s.Ask(ctx, http.MethodPut, there, nil, in.Body, nil)
		}
	}
	if err == nil && a.Fixed && in.Body.Admitted {
		err = fixPlacementThere(ctx, s, a)
	}
	if err == nil {
		err = d.Endpoints.HearRegion(ctx, r)
	}
	if err != nil {
		return nil, err
	}
	return d.Account(ctx, in.Account)
}

// fixPlacementThere has a sister fix the placement of an account's buckets as it is fixed here.
func fixPlacementThere(ctx context.Context, s *remote.Sister, a *catalog.Account) error {
	body := map[string]any{"placementFixed": a.Fixed, "alone": true}
	if a.Fixed {
		body["placement"] = a.Placement
	}
	return s.Ask(ctx, http.MethodPatch, "/accounts/"+url.PathEscape(a.Name), nil, body, nil)
}

// FixPlacementEverywhere has all sisters that admit an account fix its placement as it is about
// to be here; nothing is changed when one of them does not have it.
func (d *Desk) FixPlacementEverywhere(ctx context.Context, a *catalog.Account) error {
	admission, err := d.Store.Catalog.Admission(ctx, a.Name, d.Store.Region)
	if err != nil {
		return err
	}
	regions := make([]*region.Region, len(admission.There))
	for i, name := range admission.There {
		if regions[i], err = d.Store.Catalog.Region(ctx, name); err != nil {
			return err
		}
		if a.Fixed {
			if err := regions[i].HasPlacement(a.Name, a.Placement); err != nil {
				return err
			}
		}
	}
	for _, r := range regions {
		s, err := d.Endpoints.Sister(r)
		if err != nil {
			return err
		}
		err = fixPlacementThere(ctx, s, a)
		s.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// BucketRegion gives the region in which a bucket of an account is to be made.
func (d *Desk) BucketRegion(ctx context.Context, account, asked string) (string, error) {
	a, err := d.Store.Catalog.Admission(ctx, account, d.Store.Region)
	if err != nil {
		return "", err
	}
	list, err := d.Store.Catalog.Regions(ctx)
	if err != nil {
		return "", err
	}
	var known []string
	for _, r := range list {
		known = append(known, r.Name)
	}
	return a.Choose(asked, known)
}

// CreateAtSister makes a bucket at a sister.
func (d *Desk) CreateAtSister(ctx context.Context, in *api.NewBucket, account string) (*middle.BucketOut, error) {
	s, r, err := d.sister(ctx, in.Region)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	body := *in
	body.Account = account
	policy, err := d.Store.Catalog.PlacementPolicy(ctx, account)
	if err != nil {
		return nil, err
	}
	if policy.Fixed {
		if _, err := policy.Choose(in.Placement, in.Tier, middle.Who(ctx).Subject.Operator); err != nil {
			return nil, err
		}
		if err := r.HasPlacement(account, policy.Default); err != nil {
			return nil, err
		}
		if in.Placement == "" && in.Tier == "" {
			body.Placement = policy.Default
		}
	}
	var b api.BucketInfo
	if err := s.Ask(ctx, http.MethodPost, "/buckets", nil, body, &b); err != nil {
		return nil, err
	}
	b.Console = r.Desk
	if err := d.Endpoints.HearRegion(ctx, r); err != nil {
		d.Log.Warn("a region was not heard after a bucket was made there", "region", r.Name, "error", err)
	}
	return &middle.BucketOut{Body: b}, nil
}

// RegionBucket shows a bucket of a sister in a list.
func RegionBucket(b region.Bucket, desk string) api.BucketInfo {
	return api.BucketInfo{Name: b.Name, Account: b.Account, Region: b.Region, Created: b.Created,
		Usage: api.UsageInfo{Objects: b.Objects, Bytes: b.Bytes}, Rights: []string{}, Console: desk, Told: &b.Told}
}

// CopiesToRegion says whether the account that one acts in may copy to the region of a name. The
// error for what is no region is missing.
func (d *Desk) CopiesToRegion(ctx context.Context, name string, missing error) error {
	_, err := d.Store.Catalog.Region(ctx, name)
	if fault.HasCode(err, "region-missing") {
		return missing
	}
	account := middle.Who(ctx).Subject.Account
	if err == nil {
		err = d.Administers(ctx, account, "copy to another region")
	}
	if err == nil {
		_, err = d.BucketRegion(ctx, account, name)
	}
	return err
}

// TargetInRegionLacks says what a target lacks that is in a region, by asking the service there;
// with mend it has that put right.
func (d *Desk) TargetInRegionLacks(ctx context.Context, t *replication.Target, mend bool) ([]api.Lacking, error) {
	s, r, err := d.sister(ctx, t.Endpoint)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	account, path := middle.Who(ctx).Subject.Account, "/buckets/"+url.PathEscape(t.Bucket)
	var b api.BucketInfo
	err = s.Ask(ctx, http.MethodGet, path, nil, nil, &b)
	switch {
	case fault.HasCode(err, "bucket-missing") && mend:
		_, err = d.CreateAtSister(ctx, &api.NewBucket{Name: t.Bucket, Region: r.Name, Versioning: "on"}, account)
		return nil, err
	case fault.HasCode(err, "bucket-missing"):
		return LacksBucketThere(t), nil
	case err != nil:
		return []api.Lacking{{Code: "endpoint", Target: t.Address(), Says: "the region " + r.Name +
			" does not let us look: " +
			fault.From(err).Message, Remedy: "spindle region show " + r.Name}}, nil
	case b.Account != account:
		return []api.Lacking{{Code: "grant", Target: t.Address(), Says: "the bucket " + t.Bucket + " in the region " +
			r.Name +
			" is not this account's", Remedy: "take a bucket of this account there, or one that is not there yet"}}, nil
	case b.Versioning == object.On.String():
		return nil, nil
	case mend:
		return nil, s.Ask(ctx, http.MethodPatch, path, nil, map[string]any{"versioning": object.On.String()}, nil)
	}
	return LacksVersionsThere(t, b.Versioning), nil
}

// Joined makes the endpoints that a rule needs of regions, when it is to be saved.
func (d *Desk) Joined(ctx context.Context, r *replication.Rule) error {
	for i := range r.Targets {
		if t := &r.Targets[i]; t.Endpoint != "" && t.EndpointID == 0 {
			e, err := d.regionEndpoint(ctx, t.Endpoint)
			if err != nil {
				return fault.From(err).In("targets")
			}
			t.EndpointID = e.ID
		}
	}
	return nil
}

// regionEndpoint makes an endpoint of a region, under its name, for the account that one acts
// in: with a key of that account there.
func (d *Desk) regionEndpoint(ctx context.Context, name string) (*endpoint.Endpoint, error) {
	account := middle.Who(ctx).Subject.Account
	if e, err := d.MyEndpoint(ctx, name); !fault.HasCode(err, "endpoint-missing") {
		return e, err // of another target of the same rule
	}
	s, r, err := d.sister(ctx, name)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	var key api.KeySecret
	if err := s.Ask(ctx, http.MethodPost, "/keys", nil, map[string]any{"account": account, "role": "administrator",
		"name": "copies from " + d.Store.Region, "note": "made by a replication rule of the region " + d.Store.Region},
		&key); err != nil {
		return nil, err
	}
	e, err := d.endpointNew(ctx, &api.NewEndpoint{Name: name, EndpointChange: api.EndpointChange{URL: &r.Wire,
		Region: &r.Name,
		Key:    &key.Key.ID, Secret: &key.Secret}}, nil)
	if err != nil {
		return nil, errors.Join(err, s.Ask(ctx, http.MethodDelete, "/keys/"+url.PathEscape(key.Key.ID), nil, nil, nil))
	}
	return e, nil
}

// LacksBucketThere says that the bucket of a target is not there.
func LacksBucketThere(t *replication.Target) []api.Lacking {
	return []api.Lacking{{Code: "bucket-missing", Target: t.Address(), Says: "there is no bucket " + t.Bucket + " at " +
		t.Endpoint, Remedy: "make it: spindle bucket create @" + t.Endpoint + "/" + t.Bucket, Mends: true}}
}

// LacksVersionsThere says that the bucket of a target keeps no versions.
func LacksVersionsThere(t *replication.Target, versioning string) []api.Lacking {
	at := "@" + t.Endpoint + "/" + t.Bucket
	return []api.Lacking{{Code: "target-versioning", Target: t.Address(), Says: "versioning is " + versioning + " at " +
		at,
		Remedy: "switch it on: spindle bucket change " + at + " --versioning on", Mends: true}}
}
