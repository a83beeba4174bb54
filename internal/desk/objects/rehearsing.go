package objects

import (
	"context"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/desk/house"
	"spindle/internal/desk/middle"
	"spindle/internal/gate"
	"spindle/internal/works/ageing"
)

// ruleSetOf gives the rules of a bucket with some replaced or added; only: those alone.
func (d *Desk) ruleSetOf(ctx context.Context, f catalog.BucketFacts, forms []lifecycle.Form,
	only bool) (*lifecycle.Set, error) {
	var all []lifecycle.Form
	if !only {
		l, err := d.Store.Catalog.Lifecycle(ctx, f.ID)
		if err != nil {
			return nil, err
		}
		all = l.Rules
	}
	for _, x := range forms {
		if i := slices.IndexFunc(all, func(a lifecycle.Form) bool { return a.Name == x.Name }); i >= 0 {
			all[i] = x
		} else {
			all = append(all, x)
		}
	}
	return d.Store.RuleSet(ctx, all)
}

func (d *Desk) rehearseRules(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.ForecastAsk
}) (*struct{ Body api.ForecastInfo }, error) {
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	set, err := d.ruleSetOf(ctx, f, in.Body.Rules, in.Body.Only)
	if err != nil {
		return nil, err
	}
	c, err := ageing.NewForecast(ctx, d.Store, f, set, d.Store.Catalog.Now().UTC(), in.Body.Days)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	b, err := d.Store.Catalog.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.ForecastInfo }{forecastInfo(c, b.Usage)}, nil
}

func forecastInfo(c *ageing.Forecast, u catalog.Usage) api.ForecastInfo {
	out := api.ForecastInfo{At: c.At, Days: c.Days, Actions: []api.ForecastAction{}, Conflicts: []api.ForecastConflict{},
		Empty: []string{}}
	var removed int64
	for _, l := range c.Lines {
		x := forecastAction(c, l)
		if x.Do == "remove" && l.Rule.Actions[l.Action].Of <= lifecycle.Previous {
			removed += x.Objects
		}
		if c.Matched[x.Rule].Objects == 0 && x.Objects+x.Ahead == 0 && !slices.Contains(out.Empty, x.Rule) {
			out.Empty = append(out.Empty, x.Rule)
		}
		out.Actions = append(out.Actions, x)
	}
	if n := u.Objects + u.Previous; n > 0 {
		out.Share = float64(removed) / float64(n)
	}
	for _, x := range c.Conflicts {
		out.Conflicts = append(out.Conflicts, api.ForecastConflict{Winner: x.Winner.Name(), WinnerWhen: when(x.Winner,
			x.WinnerAction),
			Loser: x.Loser.Name(), LoserWhen: when(x.Loser, x.LoserAction), Why: why(x), Objects: x.Objects, Bytes: x.Bytes,
			Sample: x.Sample})
	}
	return out
}

func forecastAction(c *ageing.Forecast, l *ageing.ForecastLine) api.ForecastAction {
	a := l.Rule.Form().Actions[l.Action]
	x := api.ForecastAction{Rule: l.Rule.Name(), Action: l.Action, Of: a.Of, Do: a.Do, To: a.To, When: when(l.Rule,
		l.Action),
		Objects: l.Now.Objects, Bytes: l.Now.Bytes, Ahead: l.Ahead.Objects, AheadB: l.Ahead.Bytes, ByDay: []api.ForecastDay{},
		Cost: float64(l.Cost) / house.Millionths, Early: float64(l.Early) / house.Millionths, Samples: []api.ForecastSample{}}
	for _, d := range l.ByDay {
		x.ByDay = append(x.ByDay, api.ForecastDay{Day: d.Day, Objects: d.Objects, Bytes: d.Bytes})
		if d.Day > 0 && x.Next == nil {
			at := c.At.Add(time.Duration(d.Day) * lifecycle.Day)
			x.Next = &at
		}
	}
	for _, s := range l.Samples {
		x.Samples = append(x.Samples, api.ForecastSample{Key: s.Key, Age: s.Age, Size: s.Size, Day: s.Day})
	}
	return x
}

// when says an action in words, with what its age is counted from.
func when(r *lifecycle.Rule, action int) string { return r.Form().Actions[action].Words() }

// why says why one action comes first before another.
func why(x *ageing.Conflict) string {
	w, l := x.Winner.Actions[x.WinnerAction], x.Loser.Actions[x.LoserAction]
	switch {
	case !w.Move && l.Move:
		return "a removal comes before a move"
	case !w.Move:
		return "of removals the earlier acts"
	case w.To == l.To:
		return "of two moves to one tier the earlier acts"
	}
	return "of two moves the one to the cheaper tier acts"
}

func (d *Desk) showAges(ctx context.Context, in *struct {
	middle.BucketPath
	Body api.AgesAsk
}) (*struct {
	Body struct {
		At   time.Time    `json:"at"`
		Bars []api.AgeBar `json:"bars" doc:"By age"`
	}
}, error) {
	out := &struct {
		Body struct {
			At   time.Time    `json:"at"`
			Bars []api.AgeBar `json:"bars" doc:"By age"`
		}
	}{}
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	zero := 0
	set, err := d.Store.RuleSet(ctx, []lifecycle.Form{{Name: "ages", Scope: in.Body.Scope,
		Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: &zero}}}})
	if err != nil {
		return nil, err
	}
	tiers, err := d.Store.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	out.Body.At = d.Store.Catalog.Now().UTC()
	sums, err := d.ages(ctx, f.ID, set, out.Body.At)
	if err != nil {
		return nil, err
	}
	out.Body.Bars = []api.AgeBar{}
	for b, a := range sums {
		out.Body.Bars = append(out.Body.Bars, api.AgeBar{Age: b.age, Tier: tiers.Name(b.tier), Previous: b.previous,
			Objects: a.Objects, Bytes: a.Bytes})
	}
	slices.SortFunc(out.Body.Bars, func(a, b api.AgeBar) int { return a.Age - b.Age })
	return out, nil
}

// ageBar is what objects are summed by: their age in days, their tier, and whether they are previous versions.
type ageBar struct {
	age      int
	tier     int16
	previous bool
}

// ages sums the versions of a bucket that a set of rules is about.
func (d *Desk) ages(ctx context.Context, bucket int64, set *lifecycle.Set, now time.Time) (map[ageBar]ageing.Amount,
	error) {
	sums := map[ageBar]ageing.Amount{}
	add := func(b ageBar, objects, bytes int64) {
		a := sums[b]
		a.Objects, a.Bytes = a.Objects+objects, a.Bytes+bytes
		sums[b] = a
	}
	return sums, d.Store.Catalog.Aged(ctx, catalog.Ageing{Bucket: bucket, Set: set, Now: now,
		Group: func(g catalog.AgeGroup, _ string) error {
			add(ageBar{g.Age, g.Tier, false}, g.Objects, g.Bytes)
			return nil
		},
		Key: func(k *catalog.AgedKey) error {
			for i, v := range k.Versions {
				since := v.Created
				if i > 0 {
					since = v.Replaced
				}
				if v.Mask != 0 && !v.Marker {
					add(ageBar{int(now.Sub(since) / lifecycle.Day), v.Tier, i > 0}, 1, v.Size)
				}
			}
			return nil
		}})
}

// allowed reports whether who asks may do something in the whole of a bucket.
func (d *Desk) allowed(ctx context.Context, do access.Rights, bucket object.BucketName) (bool, error) {
	x, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: middle.Who(ctx).Subject, Do: do, Bucket: bucket})
	return err == nil && x.Allowed, err
}

func (d *Desk) showComing(ctx context.Context, in *struct {
	middle.BucketPath
	Key     string `query:"key" required:"true"`
	Version string `query:"version" maxLength:"64" doc:"A version's id; the current one otherwise"`
}) (*struct{ Body api.ComingInfo }, error) {
	v, _, err := d.findVersion(ctx, in.Bucket, in.Key, in.Version, "")
	if err != nil {
		return nil, err
	}
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	set, err := d.ruleSetOf(ctx, f, nil, false)
	if err != nil {
		return nil, err
	}
	keys, err := d.Store.Catalog.AgedOf(ctx, f.ID, f.Versioning, set, [][]byte{[]byte(in.Key)})
	if err != nil {
		return nil, err
	}
	out := &struct{ Body api.ComingInfo }{api.ComingInfo{Coming: []api.ComingThing{}}}
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	names, err := d.allowed(ctx, access.List, name)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if i := slices.IndexFunc(k.Versions, func(x lifecycle.Version) bool { return x.Number == v.Number }); i >= 0 {
			d.coming(&out.Body, set, k, i)
			for j := range out.Body.Coming { // who may not list the bucket is not told what its rules are called
				if !names {
					out.Body.Coming[j].Rule = ""
				}
			}
			return out, nil
		}
	}
	return nil, fault.New(fault.NotFound, "version-missing", "the key has no such version any more").In("version").
		Do("look at it again")
}

func (d *Desk) coming(out *api.ComingInfo, set *lifecycle.Set, k *catalog.AgedKey, i int) {
	it, seen := k.Item(i)
	out.Of, out.Since, out.Counted = it.Of.String(), it.Since, it.Of.Counted()
	for _, x := range set.Coming(it, d.Store.Catalog.Now()) {
		a := x.Rule.Form().Actions[x.Rule.IndexOf(x.Action)]
		out.Coming = append(out.Coming, api.ComingThing{At: x.At.UTC(), Rule: x.Rule.Name(), Do: a.Do, To: a.To,
			When: a.Words()})
	}
	switch {
	case len(out.Coming) > 0:
	case !seen:
		out.None = "the delete marker hides versions; rules remove only those that hide nothing"
	case !set.Acts():
		out.None = "the bucket has no rule that acts"
	case it.Mask == 0:
		out.None = "no rule's scope holds it"
	default:
		out.None = "no rule that holds it has anything more to do with it"
	}
}
