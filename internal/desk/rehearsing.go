package desk

import (
	"context"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/works"
)

// ForecastInfo is what rules would do to a bucket as it stands.
type ForecastInfo struct {
	At        time.Time          `json:"at" doc:"The moment of the catalog that it is worked out on"`
	Days      int                `json:"days"`
	Actions   []ForecastAction   `json:"actions" doc:"An action each, rules by name"`
	Conflicts []ForecastConflict `json:"conflicts" doc:"Where one rule's action comes first before another's"`
	Empty     []string           `json:"empty" doc:"Rules whose scope holds nothing today"`
	Share     float64            `json:"share" doc:"Of the bucket's versions that would be removed at once; a run asks beyond the guard's share"`
}

// ForecastAction is what one action of a rule would do.
type ForecastAction struct {
	Rule    string           `json:"rule"`
	Action  int              `json:"action" doc:"Its place in the rule, from 0"`
	Of      string           `json:"of"`
	Do      string           `json:"do"`
	To      string           `json:"to,omitempty"`
	When    string           `json:"when" doc:"In words, with what the age is counted from"`
	Objects int64            `json:"objects" doc:"At once"`
	Bytes   int64            `json:"bytes"`
	Ahead   int64            `json:"ahead" doc:"In the days after"`
	AheadB  int64            `json:"aheadBytes"`
	Next    *time.Time       `json:"next,omitempty" doc:"When the next is due after now"`
	ByDay   []ForecastDay    `json:"byDay" doc:"Days on which there is something; 0 is at once"`
	Cost    float64          `json:"cost" doc:"Change of the cost of a month, when all of it is done"`
	Early   float64          `json:"early,omitempty" doc:"Price of leaving a tier before its shortest stay"`
	Samples []ForecastSample `json:"samples"`
}

// ForecastDay is what comes to be due on a day.
type ForecastDay struct {
	Day     int   `json:"day"`
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
}

// ForecastSample is a version on which an action would act.
type ForecastSample struct {
	Key  string `json:"key"`
	Age  int    `json:"age" doc:"Days, on its day"`
	Size int64  `json:"size"`
	Day  int    `json:"day"`
}

// ForecastConflict is that an action of one rule comes first before one of another.
type ForecastConflict struct {
	Winner     string `json:"winner"`
	WinnerWhen string `json:"winnerWhen"`
	Loser      string `json:"loser"`
	LoserWhen  string `json:"loserWhen"`
	Why        string `json:"why"`
	Objects    int64  `json:"objects"`
	Bytes      int64  `json:"bytes"`
	Sample     string `json:"sample,omitempty"`
}

// ruleSetOf gives the rules of a bucket with some replaced or added; only: those alone.
func (d *Desk) ruleSetOf(ctx context.Context, f catalog.BucketFacts, forms []lifecycle.Form,
	only bool) (*lifecycle.Set, error) {
	var all []lifecycle.Form
	if !only {
		l, err := d.store.Catalog.Lifecycle(ctx, f.ID)
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
	return d.store.RuleSet(ctx, all)
}

func (d *Desk) rehearseRules(ctx context.Context, in *struct {
	BucketPath
	Body struct {
		Rules []lifecycle.Form `json:"rules,omitempty" maxItems:"200" doc:"In place of the bucket's of the same names, or beside them"`
		Only  bool             `json:"only,omitempty" doc:"Those rules alone"`
		Days  int              `json:"days,omitempty" minimum:"0" maximum:"3650" default:"90"`
	}
}) (*struct{ Body ForecastInfo }, error) {
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	set, err := d.ruleSetOf(ctx, f, in.Body.Rules, in.Body.Only)
	if err != nil {
		return nil, err
	}
	c, err := works.NewForecast(ctx, d.store, f, set, d.store.Catalog.Now().UTC(), in.Body.Days)
	if err != nil {
		return nil, err
	}
	name, err := object.ParseBucketName(in.Bucket)
	if err != nil {
		return nil, err
	}
	b, err := d.store.Catalog.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	return &struct{ Body ForecastInfo }{forecastInfo(c, b.Usage)}, nil
}

func forecastInfo(c *works.Forecast, u catalog.Usage) ForecastInfo {
	out := ForecastInfo{At: c.At, Days: c.Days, Actions: []ForecastAction{}, Conflicts: []ForecastConflict{},
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
		out.Conflicts = append(out.Conflicts, ForecastConflict{Winner: x.Winner.Name(), WinnerWhen: when(x.Winner,
			x.WinnerAction),
			Loser: x.Loser.Name(), LoserWhen: when(x.Loser, x.LoserAction), Why: why(x), Objects: x.Objects, Bytes: x.Bytes,
			Sample: x.Sample})
	}
	return out
}

func forecastAction(c *works.Forecast, l *works.ForecastLine) ForecastAction {
	a := l.Rule.Form().Actions[l.Action]
	x := ForecastAction{Rule: l.Rule.Name(), Action: l.Action, Of: a.Of, Do: a.Do, To: a.To, When: when(l.Rule, l.Action),
		Objects: l.Now.Objects, Bytes: l.Now.Bytes, Ahead: l.Ahead.Objects, AheadB: l.Ahead.Bytes, ByDay: []ForecastDay{},
		Cost: float64(l.Cost) / millionths, Early: float64(l.Early) / millionths, Samples: []ForecastSample{}}
	for _, d := range l.ByDay {
		x.ByDay = append(x.ByDay, ForecastDay{d.Day, d.Objects, d.Bytes})
		if d.Day > 0 && x.Next == nil {
			at := c.At.Add(time.Duration(d.Day) * lifecycle.Day)
			x.Next = &at
		}
	}
	for _, s := range l.Samples {
		x.Samples = append(x.Samples, ForecastSample{s.Key, s.Age, s.Size, s.Day})
	}
	return x
}

// when says an action in words, with what its age is counted from.
func when(r *lifecycle.Rule, action int) string { return r.Form().Actions[action].Words() }

// why says why one action comes first before another.
func why(x *works.Conflict) string {
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

// AgeBar is what is of an age.
type AgeBar struct {
	Age      int    `json:"age" doc:"Whole days"`
	Tier     string `json:"tier"`
	Previous bool   `json:"previous" doc:"Of previous versions, since they were replaced; of current ones since they were written otherwise"`
	Objects  int64  `json:"objects"`
	Bytes    int64  `json:"bytes"`
}

func (d *Desk) showAges(ctx context.Context, in *struct {
	BucketPath
	Body struct {
		Scope lifecycle.ScopeForm `json:"scope,omitempty"`
	}
}) (*struct {
	Body struct {
		At   time.Time `json:"at"`
		Bars []AgeBar  `json:"bars" doc:"By age"`
	}
}, error) {
	out := &struct {
		Body struct {
			At   time.Time `json:"at"`
			Bars []AgeBar  `json:"bars" doc:"By age"`
		}
	}{}
	f, _, err := d.ruledBucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	zero := 0
	set, err := d.store.RuleSet(ctx, []lifecycle.Form{{Name: "ages", Scope: in.Body.Scope,
		Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: &zero}}}})
	if err != nil {
		return nil, err
	}
	tiers, err := d.store.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	type bar struct {
		age      int
		tier     int16
		previous bool
	}
	sums := map[bar]works.Amount{}
	add := func(b bar, objects, bytes int64) {
		a := sums[b]
		a.Objects, a.Bytes = a.Objects+objects, a.Bytes+bytes
		sums[b] = a
	}
	out.Body.At = d.store.Catalog.Now().UTC()
	err = d.store.Catalog.Aged(ctx, catalog.Ageing{Bucket: f.ID, Set: set, Now: out.Body.At,
		Group: func(g catalog.AgeGroup, _ string) error {
			add(bar{g.Age, g.Tier, false}, g.Objects, g.Bytes)
			return nil
		},
		Key: func(k *catalog.AgedKey) error {
			for i, v := range k.Versions {
				since := v.Created
				if i > 0 {
					since = v.Replaced
				}
				if v.Mask != 0 && !v.Marker {
					add(bar{int(out.Body.At.Sub(since) / lifecycle.Day), v.Tier, i > 0}, 1, v.Size)
				}
			}
			return nil
		}})
	if err != nil {
		return nil, err
	}
	out.Body.Bars = []AgeBar{}
	for b, a := range sums {
		out.Body.Bars = append(out.Body.Bars, AgeBar{b.age, tiers.Name(b.tier), b.previous, a.Objects, a.Bytes})
	}
	slices.SortFunc(out.Body.Bars, func(a, b AgeBar) int { return a.Age - b.Age })
	return out, nil
}

// allowed reports whether who asks may do something in the whole of a bucket.
func (d *Desk) allowed(ctx context.Context, do access.Rights, bucket object.BucketName) (bool, error) {
	x, _, err := d.gate.Decide(ctx, gate.Ask{Subject: who(ctx).subject, Do: do, Bucket: bucket})
	return err == nil && x.Allowed, err
}

// ComingInfo is what the rules have in store for a version.
type ComingInfo struct {
	Of      string        `json:"of" doc:"As what the rules see it: current, previous or markers"`
	Since   time.Time     `json:"since" doc:"What its age is counted from"`
	Counted string        `json:"counted" doc:"That in words"`
	Coming  []ComingThing `json:"coming" doc:"By time; what comes after a removal is not told"`
	None    string        `json:"none,omitempty" doc:"Why nothing is to come"`
}

// ComingThing is something that is to come for a version.
type ComingThing struct {
	At   time.Time `json:"at"`
	Rule string    `json:"rule"`
	Do   string    `json:"do" enum:"move,remove"`
	To   string    `json:"to,omitempty"`
	When string    `json:"when" doc:"The action in words"`
}

func (d *Desk) showComing(ctx context.Context, in *struct {
	BucketPath
	Key     string `query:"key" required:"true"`
	Version string `query:"version" maxLength:"64" doc:"A version's id; the current one otherwise"`
}) (*struct{ Body ComingInfo }, error) {
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
	keys, err := d.store.Catalog.AgedOf(ctx, f.ID, f.Versioning, set, [][]byte{[]byte(in.Key)})
	if err != nil {
		return nil, err
	}
	out := &struct{ Body ComingInfo }{ComingInfo{Coming: []ComingThing{}}}
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

func (d *Desk) coming(out *ComingInfo, set *lifecycle.Set, k *catalog.AgedKey, i int) {
	it, seen := k.Item(i)
	out.Of, out.Since, out.Counted = it.Of.String(), it.Since, it.Of.Counted()
	for _, x := range set.Coming(it, d.store.Catalog.Now()) {
		a := x.Rule.Form().Actions[x.Rule.IndexOf(x.Action)]
		out.Coming = append(out.Coming, ComingThing{x.At.UTC(), x.Rule.Name(), a.Do, a.To, a.Words()})
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
