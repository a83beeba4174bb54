package objects

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

func bucketInfo(b *catalog.Bucket) api.BucketInfo {
	var journal *api.JournalKeeping
	if b.Journal != (bucket.Journal{}) {
		journal = middle.Of(api.JournalKeeping(b.Journal))
	}
	return api.BucketInfo{Journal: journal, Name: b.Name.String(), Account: b.Account, Region: b.Region,
		Created:   b.Created,
		CreatedBy: b.CreatedBy,
		Quota:     b.Quota, Versioning: b.Versioning.String(), Tags: b.Tags, Usage: api.UsageInfo(b.Usage),
		Required: b.Required, Sealing: b.Sealing, Tier: cmp.Or(b.Tier, tier.MainName),
		Placement: b.Placement,
		Revision:  b.Revision}
}

// goesTo fills in what the tier of new bodies makes of them.
func (d *Desk) goesTo(ctx context.Context, info *api.BucketInfo) error {
	set, err := d.Store.Tiers(ctx)
	if err != nil {
		return err
	}
	t, err := set.Find(info.Tier)
	if err != nil {
		return nil // it was taken away just now
	}
	info.TierSeals = t.Sealed
	switch at := t.Elsewhere(); {
	case at == nil:
	case middle.Who(ctx).Subject.Operator:
		info.Elsewhere = at.String()
	default:
		info.Elsewhere = "another store"
	}
	return nil
}

// share fills in what who asks may do in a bucket and whom it was opened to, and
// takes out what only those learn who may list all of it.
func (d *Desk) share(ctx context.Context, info *api.BucketInfo, b *catalog.Bucket) (err error) {
	if info.Rights, info.Shared, err = d.access.Sharing(ctx, b); err != nil {
		return err
	}
	info.CreatedBy = d.VeilOf(ctx, b.Account).By(info.CreatedBy)
	info.Open = len(info.Shared) > 0 && info.Shared[0].To == "anyone"
	if info.Partly = !slices.Contains(info.Rights, access.List.String()); info.Partly {
		info.Usage, info.Quota, info.Tags, info.Revision = api.UsageInfo{}, nil, nil, 0
		book, err := d.Gate.Book(ctx)
		if err != nil {
			return err
		}
		info.Places = access.Places(middle.Who(ctx).Subject, info.Name, b.Account, book, time.Now())
	}
	return nil
}

func (d *Desk) bucketCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "list-buckets", "GET /buckets", "buckets", "List buckets by name", d.listBuckets)
	middle.Call(to, middle.Rule{}, "create-bucket", "POST /buckets", "buckets", "Create a bucket", d.createBucket, middle.Answers(201))
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnBucket}, "show-bucket", "GET /buckets/{bucket}", "buckets",
		"Show a bucket", d.showBucket)
	middle.Call(to, middle.Rule{Do: access.Settings, On: middle.OnWhole}, "change-bucket", "PATCH /buckets/{bucket}", "buckets",
		"Change a bucket's settings", d.changeBucket)
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnWhole}, "list-lacking", "GET /buckets/{bucket}/lacking", "buckets",
		"List objects whose metadata is not what the bucket asks for", d.lacking)
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnPrefix}, "prefix-usage", "GET /buckets/{bucket}/prefixes", "buckets",
		"What lies beneath the prefixes of a level, those with the most bytes in previous versions first",
		d.prefixUsage)
	middle.Call(to, middle.Rule{Do: access.Settings, On: middle.OnWhole}, "remove-bucket", "DELETE /buckets/{bucket}", "buckets",
		"Remove an empty bucket", d.removeBucket, middle.Answers(204))
	middle.Call(to, middle.Rule{Do: access.Remove, On: middle.OnBucket}, "remove-objects", "POST /buckets/{bucket}/remove", "objects",
		"Remove keys, or all beneath a prefix, or rehearse it",
		d.removeObjectsCall, middle.Described(
			"With rehearse, says what would go. Otherwise removes the keys, and the next objects beneath the prefix, at most 1,000 a call: call again while more is true. Safe to stop and repeat."))
}

// Listed shows a bucket in a list, if who asks may list some of it.
func (d *Desk) Listed(ctx context.Context, b *catalog.Bucket) (info api.BucketInfo, seen bool, err error) {
	if seen, err = d.Gate.Lists(ctx, middle.Who(ctx).Subject, b); err != nil || !seen {
		return info, false, err
	}
	info = bucketInfo(b)
	if err := d.share(ctx, &info, b); err != nil {
		return info, false, err
	}
	house.HideSettings(&info)
	return info, true, nil
}

// Bucket gives a bucket as whoever asks may see it.
func (d *Desk) Bucket(ctx context.Context, s string) (*middle.BucketOut, error) {
	name, err := object.ParseBucketName(s)
	if err != nil {
		return nil, err
	}
	b, err := d.Store.Catalog.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	info := bucketInfo(b)
	err = d.share(ctx, &info, b)
	if err == nil {
		err = d.house.TellPlacement(ctx, &info, b)
	}
	if err == nil {
		err = d.goesTo(ctx, &info)
	}
	if err != nil {
		return nil, err
	}
	return &middle.BucketOut{Body: info}, nil
}

func (d *Desk) listBuckets(ctx context.Context, in *struct {
	Account string `query:"account" maxLength:"64" doc:"Only of this account"`
	Regions string `query:"regions" enum:"own,all" default:"own" doc:"All: those of other regions too, as they told last"`
	After   string `query:"after" maxLength:"64"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*struct{ Body api.BucketPage }, error) {
	account, also, err := d.Gate.Sees(ctx, middle.Who(ctx).Subject)
	if err != nil {
		return nil, err
	}
	if in.Account != "" && in.Account != account {
		if account != "" {
			return nil, middle.NotYours(ctx, in.Account)
		}
		account = in.Account
	}
	out := &struct{ Body api.BucketPage }{}
	out.Body.Buckets, out.Body.Next, err = middle.Paged(in.After, in.Limit,
		func(after string, limit int) ([]*catalog.Bucket, error) {
			return d.Store.Catalog.Buckets(ctx, account, also, after, limit)
		},
		func(b *catalog.Bucket) string { return b.Name.String() },
		func(b *catalog.Bucket) (api.BucketInfo, bool, error) { return d.Listed(ctx, b) })
	if err == nil && in.Regions == "all" {
		err = d.withRegions(ctx, &out.Body, account, in.After, in.Limit)
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// withRegions puts the buckets of other regions into a page, in their places by name.
func (d *Desk) withRegions(ctx context.Context, page *api.BucketPage, account, after string, limit int) error {
	there, err := d.Store.Catalog.RegionBuckets(ctx, account, after, limit)
	if err != nil || len(there) == 0 {
		return err
	}
	list, err := d.Store.Catalog.Regions(ctx)
	if err != nil {
		return err
	}
	desks := map[string]string{}
	for _, r := range list {
		desks[r.Name] = r.Desk
	}
	until := page.Next // up to which both lists are known; "": to their ends
	if len(there) == limit && (until == "" || there[limit-1].Name < until) {
		until = there[limit-1].Name
	}
	for _, b := range there {
		page.Buckets = append(page.Buckets, house.RegionBucket(b, desks[b.Region]))
	}
	slices.SortStableFunc(page.Buckets, func(a, b api.BucketInfo) int { return strings.Compare(a.Name, b.Name) })
	n := len(page.Buckets)
	page.Buckets = slices.DeleteFunc(page.Buckets, func(b api.BucketInfo) bool { return until != "" && b.Name > until })
	if page.Buckets = page.Buckets[:min(len(page.Buckets), limit)]; until != "" || len(page.Buckets) < n {
		page.Next = page.Buckets[len(page.Buckets)-1].Name
	}
	return nil
}

func (d *Desk) createBucket(ctx context.Context, in *struct{ Body api.NewBucket }) (*middle.BucketOut, error) {
	b := catalog.Bucket{Account: in.Body.Account, Operates: middle.Who(ctx).Subject.Operator,
		Settings: bucket.Settings{Quota: in.Body.Quota, Sealing: in.Body.Sealing, Tier: in.Body.Tier,
			Placement: in.Body.Placement}}
	if b.Account == "" {
		b.Account = middle.Who(ctx).Subject.Account
	}
	err := d.Administers(ctx, b.Account, "create a bucket")
	if err == nil {
		in.Body.Region, err = d.house.BucketRegion(ctx, b.Account, in.Body.Region)
	}
	if err == nil && in.Body.Region != d.Store.Region {
		return d.house.CreateAtSister(ctx, &in.Body, b.Account)
	}
	if err == nil {
		b.Name, err = object.ParseBucketName(in.Body.Name)
	}
	if err != nil {
		return nil, err
	}
	if b.Versioning, err = object.ParseVersioning(in.Body.Versioning); err != nil {
		return nil, err
	}
	if b.Tags, err = object.NewTags(in.Body.Tags, object.MaxBucketTags); err != nil {
		return nil, err
	}
	if err := d.Store.CreateBucket(ctx, b, middle.Author(ctx)); err != nil {
		return nil, err
	}
	if days := in.Body.AbandonAfter; days > 0 {
		f := lifecycle.Form{Name: "unfinished-uploads",
			Actions: []lifecycle.ActionForm{{Of: lifecycle.Uploads.String(), Do: "remove", Days: &days}}}
		if _, err := d.Store.ChangeRules(ctx, b.Name, store.RulesChange{IfRevision: -1, What: "made with the bucket",
			Edit: store.PutRule(f)}, middle.Author(ctx)); err != nil {
			return nil, err
		}
	}
	return d.Bucket(ctx, b.Name.String())
}

func (d *Desk) showBucket(ctx context.Context, in *middle.BucketPath) (*middle.BucketOut, error) {
	return d.Bucket(ctx, in.Bucket)
}

func (d *Desk) removeBucket(ctx context.Context, in *middle.BucketPath) (*struct{}, error) {
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	if err := d.Store.RemoveBucket(ctx, name, middle.Author(ctx)); err != nil {
		return nil, err
	}
	d.Gate.Changed() // its grants went too
	return nil, nil
}
