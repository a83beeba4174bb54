package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/core/usage"
	"spindle/internal/desk/middle"
)

// open gives the first buckets of other accounts that who asks may list some of.
func (d *Desk) open(ctx context.Context) (list []api.OpenBucket, err error) {
	account, also, err := d.Gate.Sees(ctx, middle.Who(ctx).Subject)
	if err != nil || account == "" {
		return nil, err
	}
	found, _, err := middle.Paged("", 20,
		func(after string, limit int) ([]*catalog.Bucket, error) {
			return d.Store.Catalog.Buckets(ctx, account, also, after, limit)
		},
		func(b *catalog.Bucket) string { return b.Name.String() },
		func(b *catalog.Bucket) (api.BucketInfo, bool, error) { return d.objects.Listed(ctx, b) })
	for _, b := range found {
		list = append(list, api.OpenBucket{Bucket: b.Name, Account: b.Account, Rights: b.Rights, Places: b.Places})
	}
	return list, err
}

func (d *Desk) overviewCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "overview", "GET /overview", "service",
		"Is anything wrong, what waits, what changed, what grows", d.overviewCall)
	middle.Call(to, middle.Rule{Do: access.List, On: middle.OnWhole}, "bucket-usage", "GET /buckets/{bucket}/usage", "buckets",
		"A bucket's usage by day", d.bucketUsage)
}

func (d *Desk) overview(ctx context.Context, span int) (*api.Overview, error) {
	now := time.Now().UTC()
	c := d.Store.Catalog
	o := &api.Overview{At: now, Concerns: []api.Concern{}, Changed: []api.ChangedBucket{}, Grew: []api.ChangedBucket{}}
	account, err := d.Wide(ctx)
	if err != nil {
		return nil, err
	}
	buckets, err := d.bucketsOf(ctx, account)
	if err != nil {
		return nil, err
	}
	var total api.UsageInfo
	for _, b := range buckets {
		total.Objects += b.Usage.Objects
		total.Bytes += b.Usage.Bytes
		total.PreviousBytes += b.Usage.PreviousBytes
	}
	o.Objects, o.Bytes, o.Previous = total.Objects, total.Bytes+total.PreviousBytes, total.PreviousBytes
	if o.Buckets = len(buckets); o.Buckets == 0 {
		if o.Open, err = d.open(ctx); err != nil {
			return nil, err
		}
	}
	since := now.AddDate(-1, 0, 0)
	days, err := c.DaySums(ctx, since, account)
	if err != nil {
		return nil, err
	}
	o.Growth = growth(days, total, since)
	if o.Changed, err = d.changedSince(ctx, account, now.AddDate(0, 0, -span+1)); err != nil {
		return nil, err
	}
	if o.Grew, err = d.changedSince(ctx, account, now.AddDate(0, 0, -30)); err != nil {
		return nil, err
	}
	sort.SliceStable(o.Grew, func(i, j int) bool { return o.Grew[i].Bytes > o.Grew[j].Bytes })
	recent, err := c.Journal(ctx, catalog.JournalQuery{Limit: 8, Account: account, Present: account != ""})
	if err != nil {
		return nil, err
	}
	o.Recent = d.objects.JournalLines(ctx, recent.Entries)
	unfinished, err := c.UnfinishedIn(ctx, 0, account)
	if err != nil {
		return nil, err
	}
	o.Unfinished = api.UnfinishedInfo(unfinished)
	if o.CompleteUpTo, err = c.CompleteUpTo(ctx); err != nil {
		return nil, err
	}
	if middle.Who(ctx).Subject.Operator {
		if err := d.works(ctx, o); err != nil {
			return nil, err
		}
	}
	return o, d.concerns(ctx, o, account, buckets)
}

// changedSince gives the buckets of an account in which something changed since a moment.
func (d *Desk) changedSince(ctx context.Context, account string, since time.Time) ([]api.ChangedBucket, error) {
	days, err := d.Store.Catalog.Changed(ctx, since.Truncate(24*time.Hour), account)
	if err != nil {
		return nil, err
	}
	return changed(days, since), nil
}

// bucketsOf gives all buckets of an account, or of all for "".
func (d *Desk) bucketsOf(ctx context.Context, account string) (all []*catalog.Bucket, err error) {
	for after := ""; ; {
		page, err := d.Store.Catalog.Buckets(ctx, account, nil, after, 1000)
		if err != nil {
			return nil, err
		}
		if all = append(all, page...); len(page) < 1000 {
			return all, nil
		}
		after = page[len(page)-1].Name.String()
	}
}

// works says how the work stands that the service does by itself, which is the
// operators' affair.
func (d *Desk) works(ctx context.Context, o *api.Overview) error {
	o.Scrubbed, o.Collected = &api.Scrubbed{}, &api.Collected{}
	for name, into := range map[string]any{"scrubber": o.Scrubbed, "collector": o.Collected} {
		state, err := d.Store.Catalog.WorkState(ctx, name)
		if err == nil && state != nil {
			err = json.Unmarshal(state, into)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// concerns finds what is wrong or waits: damage, disks and quotas that fill up.
func (d *Desk) concerns(ctx context.Context, o *api.Overview, account string, buckets []*catalog.Bucket) error {
	damage, err := d.Store.Catalog.Damaged(ctx, account, 50)
	if err != nil {
		return err
	}
	operator := middle.Who(ctx).Subject.Operator
	for _, x := range damage {
		o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: x.Bucket + "/" + x.Key, Says: "is damaged",
			Detail: x.Problem + ". It is not served; restore it from a copy.",
			Since:  x.Found.Format(time.RFC3339), Page: "object"})
	}
	if operator {
		d.clock(o)
		d.room(o)
		d.writing(ctx, o)
		if err := d.keptLog(ctx, o); err != nil {
			return err
		}
	}
	if err := d.tierConcerns(ctx, o, account, operator); err != nil {
		return err
	}
	if err := d.auditConcern(ctx, o); err != nil {
		return err
	}
	if err := d.elsewhereConcerns(ctx, o); err != nil {
		return err
	}
	if u := o.Unfinished; u.Uploads > 0 && o.At.Sub(u.Oldest) > 7*24*time.Hour {
		o.Concerns = append(o.Concerns, api.Concern{State: "attention", Subject: "unfinished uploads",
			Says:   "take room that no listing shows",
			Detail: fmt.Sprintf("The oldest was started %.0f days ago. Complete them, or abandon them; a bucket can do so by itself.", o.At.Sub(u.Oldest).Hours()/24),
			Bytes:  u.Bytes, Page: "uploads"})
	}
	grew := map[string]int64{}
	for _, g := range o.Grew {
		grew[g.Bucket] = g.Bytes
	}
	for _, b := range buckets {
		if b.Quota == nil {
			continue
		}
		used := b.Usage.Bytes + b.Usage.PreviousBytes
		share := float64(used) / float64(*b.Quota)
		if share < 0.9 {
			continue
		}
		detail := "Nothing was added in the last 30 days."
		if perDay := float64(grew[b.Name.String()]) / 30; perDay > 0 {
			detail = "At the rate of the last 30 days it is not full within ten years."
			if full := usage.FullOn(used, *b.Quota, perDay, o.At); full != nil {
				detail = fmt.Sprintf("At the rate of the last 30 days it is full on %s.", full.Format("2 January 2006"))
			}
		}
		c := api.Concern{State: "attention", Subject: b.Name.String(), Says: "nears its quota", Detail: detail,
			Figure: fmt.Sprintf("%.0f %%", 100*share), Page: "settings"}
		if used >= *b.Quota {
			c.State, c.Says, c.Detail = "wrong", "is full",
				"Writes are refused until objects are removed or the quota is raised."
		}
		o.Concerns = append(o.Concerns, c)
	}
	sort.SliceStable(o.Concerns, func(i, j int) bool { return rank[o.Concerns[i].State] < rank[o.Concerns[j].State] })
	return nil
}

// tierConcerns finds volumes that are away, and runs of rules that ask or failed.
func (d *Desk) tierConcerns(ctx context.Context, o *api.Overview, account string, operator bool) error {
	runs, err := d.Store.Catalog.RunsToTell(ctx, account, 20)
	if err != nil {
		return err
	}
	for _, r := range runs {
		c := api.Concern{State: "attention", Subject: r.Bucket, Says: "has rules that ask", Detail: sentence(r.Says) +
			" Let the run go on, or stop it.",
			Since: r.Started.UTC().Format(time.RFC3339), Page: "lifecycle"}
		if r.State == catalog.RunFailed {
			c.State, c.Says, c.Detail = "wrong", "has rules that cannot act", sentence(r.Says)+" They try again by themselves."
		}
		o.Concerns = append(o.Concerns, c)
	}
	if !operator {
		return nil
	}
	if err := d.Store.Catalog.HasRoom(); err != nil {
		f := fault.From(err)
		o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "the service", Says: "has no room left",
			Detail: sentence(f.Message) + " " + sentence(f.Remedy), Page: "tiers"})
	}
	set, err := d.Store.Tiers(ctx)
	if err != nil {
		return err
	}
	repairs, err := d.Store.Catalog.Repairs(ctx)
	if err != nil {
		return err
	}
	for _, t := range set {
		states, err := d.Store.VolumeStates(t.ID)
		if err != nil {
			continue // it was taken away just now
		}
		for _, v := range states {
			if v.Away != nil {
				o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "tier " + t.Name,
					Says: "has a volume that is away",
					Detail: fmt.Sprintf("%s: %s. Nothing on it is lost by that; mount it where it was, and it is there again.",
						v.Dir, fault.From(v.Away).Message), Page: "tiers"})
			}
		}
		if r := repairs[t.ID]; r != nil && r.Damaged > 0 {
			o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "tier " + t.Name, Says: "has lost bodies",
				Detail: fmt.Sprintf("Its last repair found %d bodies that nothing gives back.", r.Damaged), Page: "tiers"})
		}
	}
	return nil
}

// sentence ends a message as one.
func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:] + "."
}

// clock says that the clock of the process asked is wrong.
func (d *Desk) clock(o *api.Overview) {
	c := d.Store.Catalog
	if c.Doubtful() {
		o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "the clock", Says: "of the database jumped",
			Detail: "Rules that act by age wait. Check the clock, then say that it is right.", Page: "clock"})
	}
	if c.Ahead().Abs() <= catalog.Apart {
		return
	}
	direction := "ahead of"
	if c.Ahead() < 0 {
		direction = "behind"
	}
	o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "the clock", Says: "is " + direction +
		" the database's",
		Detail: "The process that answers leaves work that judges ages to others. Set the clock of its machine.",
		Figure: c.Ahead().Abs().Round(time.Second).String(), Page: "clock"})
}

// writing says that nothing can be written, and why.
func (d *Desk) writing(ctx context.Context, o *api.Overview) {
	err := d.writable(ctx)
	if err == nil || fault.HasCode(err, "volume-away") { // which is told of with its tier
		return
	}
	f := fault.From(err)
	o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "the service", Says: "cannot write",
		Detail: sentence(f.Message) + " " + sentence(f.Remedy)})
}

// keptLog says that the database's log is not handed on, which in the end fills its disk.
func (d *Desk) keptLog(ctx context.Context, o *api.Overview) error {
	s, err := d.Store.Catalog.Log(ctx)
	if err != nil || !s.Fails() {
		return err
	}
	o.Concerns = append(o.Concerns, api.Concern{State: "wrong", Subject: "the database's log", Says: "is not kept",
		Detail: "Later moments cannot be restored, and it fills the database's disk. See that the folder it is kept in " +
			"can be written to by the database's user, and has room.", Since: s.Failed.UTC().Format(time.RFC3339)})
	return nil
}

// room says what is free on the volume, and that it fills up. Of one that is away its tier
// tells.
func (d *Desk) room(o *api.Overview) {
	states, err := d.Store.VolumeStates(tier.Main)
	if err != nil || states[0].Away != nil {
		return
	}
	free, total := states[0].Free, states[0].Total
	o.Free = free
	if share := float64(free) / float64(total); share < 0.1 {
		state := "attention"
		if share < 0.02 {
			state = "wrong"
		}
		o.Concerns = append(o.Concerns, api.Concern{State: state, Subject: "the volume", Says: "is nearly full",
			Detail: "When it is full, writes are refused; nothing stored is lost.",
			Figure: fmt.Sprintf("%.1f %% free", 100*share)})
	}
}

var rank = map[string]int{"wrong": 0, "attention": 1, "waiting": 2}

func (d *Desk) overviewCall(ctx context.Context, in *struct {
	Days int `query:"days" minimum:"1" maximum:"90" default:"7" doc:"For what changed: today and the days before"`
}) (*struct{ Body api.Overview }, error) {
	o, err := d.overview(ctx, in.Days)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.Overview }{*o}, nil
}
