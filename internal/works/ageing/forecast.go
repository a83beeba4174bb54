package ageing

import (
	"cmp"
	"context"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/store"
)

// MaxForecast is how many days a forecast looks ahead at the most.
const MaxForecast = 3650

// samplesEach is how many examples an action of a forecast has.
const samplesEach = 5

// Amount is a number of versions with their bytes.
type Amount struct{ Objects, Bytes int64 }

func (a *Amount) add(objects, bytes int64) { a.Objects, a.Bytes = a.Objects+objects, a.Bytes+bytes }

// DayAmount is what comes to be due on a day; day 0 is now.
type DayAmount struct {
	Day int
	Amount
}

// ForecastLine is what one action of a rule would do.
type ForecastLine struct {
	Rule    *lifecycle.Rule
	Action  int // of the rule
	Now     Amount
	Ahead   Amount      // on the days after, up to the last
	ByDay   []DayAmount // those on which there is something
	Cost    int64       // change of the cost of a month, in millionths, of all of it
	Early   int64       // price of leaving tiers before the shortest stay, in millionths
	Samples []Sample
}

// Sample is a version that an action would act on.
type Sample struct {
	Key    string
	Number int64 // 0 when it stands for others like it
	Age    int   // days
	Size   int64
	Day    int
}

// Conflict is that an action of one rule comes first before one of another.
type Conflict struct {
	Winner, Loser             *lifecycle.Rule
	WinnerAction, LoserAction int
	Amount
	Sample string
}

// Forecast is what rules would do to a bucket as it stands, day by day.
type Forecast struct {
	At        time.Time
	Days      int
	Lines     []*ForecastLine // an action each, rules by name
	Conflicts []*Conflict
	Matched   map[string]Amount // by rule, what is in its scope today
}

// forecaster works a forecast out.
type forecaster struct {
	*Forecast
	set        *lifecycle.Set
	tiers      tier.Set
	versioning object.Versioning
	lines      map[*lifecycle.Action]*ForecastLine
	conflicts  map[[2]*lifecycle.Action]*Conflict
}

// NewForecast works out on the real catalog what rules would do to a bucket from a
// moment on. It changes nothing.
func NewForecast(ctx context.Context, s *store.Store, f catalog.BucketFacts, set *lifecycle.Set, now time.Time,
	days int) (*Forecast, error) {
	tiers, err := s.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	c := &forecaster{Forecast: &Forecast{At: now, Days: days, Matched: map[string]Amount{}}, set: set, tiers: tiers,
		versioning: f.Versioning, lines: map[*lifecycle.Action]*ForecastLine{},
		conflicts: map[[2]*lifecycle.Action]*Conflict{}}
	for _, r := range set.Rules {
		for i := range r.Actions {
			l := &ForecastLine{Rule: r, Action: i}
			c.lines[&r.Actions[i]] = l
			c.Lines = append(c.Lines, l)
		}
	}
	if err := s.Catalog.Aged(ctx, catalog.Ageing{Bucket: f.ID, Set: set, Now: now, Group: c.group,
		Key: c.key}); err != nil {
		return nil, err
	}
	if err := c.uploads(ctx, s, f.ID); err != nil {
		return nil, err
	}
	for _, l := range c.Lines {
		slices.SortFunc(l.ByDay, func(a, b DayAmount) int { return a.Day - b.Day })
		for _, d := range l.ByDay {
			if d.Day > 0 {
				l.Ahead.add(d.Objects, d.Bytes)
			} else {
				l.Now.add(d.Objects, d.Bytes)
			}
		}
	}
	for _, x := range c.conflicts {
		c.Conflicts = append(c.Conflicts, x)
	}
	slices.SortFunc(c.Conflicts, func(a, b *Conflict) int {
		return cmp.Or(cmp.Compare(b.Objects, a.Objects), cmp.Compare(a.Winner.Name(), b.Winner.Name()),
			cmp.Compare(a.Loser.Name(), b.Loser.Name()))
	})
	return c.Forecast, nil
}

// group plays the rules on versions that they cannot tell apart.
func (c *forecaster) group(g catalog.AgeGroup, sample string) error {
	created := c.At.Add(-time.Duration(g.Age) * lifecycle.Day)
	k := lifecycle.Key{Mask: c.set.KeyMask(sample), Versions: []lifecycle.Version{{Created: created, Size: g.Bytes,
		Mask: g.Mask, Tier: g.Tier, Plain: g.Plain}}}
	c.match(g.Mask, g.Objects, g.Bytes)
	c.set.Play(k, c.versioning, c.At, c.Days, func(o lifecycle.Outcome) { c.note(o, sample, g.Objects) })
	return nil
}

// key plays the rules on a key.
func (c *forecaster) key(k *catalog.AgedKey) error {
	for _, v := range k.Versions {
		c.match(v.Mask, 1, v.Size)
	}
	c.set.Play(k.Key, c.versioning, c.At, c.Days, func(o lifecycle.Outcome) { c.note(o, k.Name, 1) })
	return nil
}

func (c *forecaster) match(m lifecycle.Mask, objects, bytes int64) {
	for i, r := range c.set.Rules {
		if m&(1<<i) != 0 {
			a := c.Matched[r.Name()]
			a.add(objects, bytes)
			c.Matched[r.Name()] = a
		}
	}
}

// note counts what is done to so many versions, which have the bytes together.
func (c *forecaster) note(o lifecycle.Outcome, key string, objects int64) {
	bytes := o.Version.Size
	l := c.lines[o.Due.Action]
	i := slices.IndexFunc(l.ByDay, func(d DayAmount) bool { return d.Day == o.Day })
	if i < 0 {
		i = len(l.ByDay)
		l.ByDay = append(l.ByDay, DayAmount{Day: o.Day})
	}
	l.ByDay[i].add(objects, bytes)
	c.price(l, o, bytes)
	if len(l.Samples) < samplesEach && key != "" {
		l.Samples = append(l.Samples, Sample{key, o.Version.Number, c.age(o), bytes / objects, o.Day})
	}
	for _, other := range o.Others {
		c.conflict(o, other, key, objects, bytes)
	}
}

// age gives what the action's age is on its day.
func (c *forecaster) age(o lifecycle.Outcome) int {
	since := o.Version.Created
	if o.Due.Action.Of == lifecycle.Previous {
		since = o.Version.Replaced
	}
	return int(o.At.Sub(since) / lifecycle.Day)
}

func (c *forecaster) price(l *ForecastLine, o lifecycle.Outcome, bytes int64) {
	from := c.tiers.Of(o.Version.Tier)
	if from == nil {
		return
	}
	stays := o.Due.Action.Of == lifecycle.Current && !o.Due.Action.Move && c.versioning != object.Off
	if stays {
		return // as a previous version
	}
	l.Cost -= from.MonthCost(bytes)
	if to := c.tiers.Of(o.Due.Action.To); o.Due.Action.Move && to != nil {
		l.Cost += to.MonthCost(bytes)
	}
	if stayed := int(o.At.Sub(o.Version.Created) / lifecycle.Day); stayed < from.Stay {
		l.Early += from.MonthCost(bytes) * int64(from.Stay-stayed) / 30
	}
}

func (c *forecaster) conflict(o lifecycle.Outcome, other *lifecycle.Due, key string, objects, bytes int64) {
	if other.Rule == o.Due.Rule {
		return
	}
	at := [2]*lifecycle.Action{o.Due.Action, other.Action}
	x := c.conflicts[at]
	if x == nil {
		x = &Conflict{Winner: o.Due.Rule, Loser: other.Rule, WinnerAction: o.Due.Rule.IndexOf(o.Due.Action),
			LoserAction: other.Rule.IndexOf(other.Action), Sample: key}
		c.conflicts[at] = x
	}
	x.add(objects, bytes)
}

// uploads counts the unfinished uploads that would be abandoned.
func (c *forecaster) uploads(ctx context.Context, s *store.Store, bucket int64) error {
	for after := int64(0); ; {
		list, err := s.Catalog.OpenUploads(ctx, bucket, c.At, after, 500)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, u := range list {
			after = u.Seq
			it := lifecycle.Item{Of: lifecycle.Uploads, Mask: c.set.KeyMask(u.Key.String()), Since: u.Created}
			coming := c.set.Coming(it, c.At)
			if len(coming) == 0 {
				continue
			}
			d := coming[0]
			day := int((d.At.Sub(c.At) + lifecycle.Day - 1) / lifecycle.Day)
			if day > c.Days {
				continue
			}
			c.note(lifecycle.Outcome{Day: day, At: d.At, Due: d, Version: lifecycle.Version{Created: u.Created, Size: u.Bytes}},
				u.Key.String(), 1)
		}
	}
}
