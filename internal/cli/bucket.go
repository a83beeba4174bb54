package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

func examples(lines ...string) string {
	s := "Examples:"
	for _, l := range lines {
		s += "\n  " + l
	}
	return s
}

func (a *app) bucketCommand() *cli.Command {
	return &cli.Command{Name: "bucket", Usage: "create, list, show, change, empty and remove buckets",
		Commands: []*cli.Command{
			{Name: "create", Usage: "create a bucket", ArgsUsage: "NAME",
				Description: examples("spindle bucket create plates",
					"spindle bucket create germination --quota 400MiB --versioning on"),
				Flags: []cli.Flag{versioningFlag(), sealingFlag(), bucketTagFlag(), bucketTierFlag(), bucketPlacementFlag(),
					&cli.IntFlag{Name: "abandon-after",
						Usage: "add a rule that abandons unfinished uploads after `DAYS`; 0 for none", Value: 7},
					&cli.StringFlag{Name: "quota", Usage: "maximum bytes in the bucket, such as `400MiB`"},
					&cli.StringFlag{Name: "region", Usage: "`REGION` to create it in; default: the account's"},
					&cli.StringFlag{Name: "account", Usage: "account that owns it; default: your own"}},
				Action: orThere(a.bucketCreate, a.bucketCreateThere)},
			{Name: "list", Usage: "list buckets", Description: examples("spindle bucket list",
				"spindle bucket list @lowland-annex"),
				ArgsUsage: "[@ENDPOINT]", Action: orThere(a.bucketList(), a.bucketListThere)},
			{Name: "show", Usage: "show a bucket's settings and usage", ArgsUsage: "NAME",
				Description: examples("spindle bucket show plates", "spindle bucket show attic --json"), Action: orThere(showing(a,
					"/api/v1/buckets/", a.printBucket), a.bucketShowThere)},
			{Name: "change", Usage: "change a bucket's settings", ArgsUsage: "NAME",
				Flags: []cli.Flag{versioningFlag(), sealingFlag(), bucketTagFlag(), bucketTierFlag(), bucketPlacementFlag(),
					&cli.StringSliceFlag{Name: "untag", Usage: "remove the tag `NAME`"},
					&cli.StringFlag{Name: "quota", Usage: "maximum bytes in the bucket, such as `400MiB`, or none"},
					&cli.StringFlag{Name: "lifecycle-from",
						Usage: "at an endpoint: its lifecycle document from this `FILE`, or none"},
					&cli.IntFlag{Name: "if-revision", Usage: "only if the settings are at revision `N`"}},
				Description: "All that is named changes together, or nothing.\n\n" +
					examples("spindle bucket change germination --quota 2GiB",
						"spindle bucket change germination --quota none",
						"spindle bucket change plates --versioning paused --if-revision 2"),
				Action: orThere(changing(a, "/api/v1/buckets/", bucketChange, a.printBucket), a.bucketChangeThere)},
			{Name: "convert", Usage: "rewrite stored objects, sealed or plain as the bucket is set",
				ArgsUsage: "NAME[/PREFIX]",
				Description: "The service does the work. You can stop the command; repeating it resumes. " +
					"Versions and their digests stay as they are.\n\n" + examples("spindle bucket convert loans --rehearse",
					"spindle bucket convert loans/2025/ --yes"),
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "only show what would be rewritten"}, yesFlag()},
				Action: a.bucketConvert},
			a.bucketPlaceCommand(),
			{Name: "empty", Usage: "remove all objects of a bucket with their versions, for good", ArgsUsage: "NAME",
				Description: examples("spindle bucket empty attic --rehearse", "spindle bucket empty attic --yes"),
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "only show what would be removed"}, yesFlag()},
				Action:      a.bucketEmpty},
			a.bucketFieldCommand(),
			{Name: "remove", Usage: "remove a bucket", ArgsUsage: "NAME",
				Description: examples("spindle bucket remove attic", "spindle bucket remove attic --with-objects --yes"),
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "with-objects", Usage: "empty it first"}, yesFlag()},
				Action:      orThere(a.bucketRemove, a.bucketRemoveThere)},
		}}
}

func bucketTierFlag() cli.Flag {
	return &cli.StringFlag{Name: "tier", Usage: "default `TIER` for new objects"}
}

func bucketPlacementFlag() cli.Flag {
	return &cli.StringFlag{Name: "placement",
		Usage: "`PLACEMENT` for new objects, instead of a tier; none to remove it"}
}

func sealingFlag() cli.Flag {
	return &cli.StringFlag{Name: "sealing", Usage: "on or off: encrypt new objects at rest"}
}

func (a *app) bucketCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.NewBucket{Name: name, AbandonAfter: c.Int("abandon-after")}
	if err := readFlags(c, &in); err != nil {
		return err
	}
	if s := c.String("quota"); s != "" {
		if in.Quota, err = parseSize("quota", s); err != nil {
			return err
		}
	}
	var b api.BucketInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/buckets", nil, in, &b); err != nil {
		return err
	}
	return a.print(b, func() error {
		_, err := fmt.Fprintf(a.Out, "Created bucket %s in region %s, versioning %s.\n", b.Name, b.Region, b.Versioning)
		return err
	})
}

func quotaText(b api.BucketInfo) string {
	if b.Quota == nil {
		return "none"
	}
	used := b.Usage.Bytes + b.Usage.PreviousBytes
	return fmt.Sprintf("%s, %.1f %% used", size(*b.Quota), 100*float64(used)/float64(*b.Quota))
}

// bucketList lists buckets, with what they hold in all.
func (a *app) bucketList() cli.ActionFunc {
	var n, objects, bytes, prev int64
	return listing[api.BucketInfo]{path: "/api/v1/buckets", field: "buckets", asking: url.Values{"regions": {"all"}},
		none: "There are no buckets yet. Make one: spindle bucket create NAME",
		columns: []column{{"BUCKET", false}, {"OWNER", false}, {"REGION", false}, {"OBJECTS", true}, {"SIZE", true},
			{"PREVIOUS", true},
			{"VERSIONING", false}, {"QUOTA", false}, {"OPEN TO", false}, {"CREATED", false}},
		row: func(b api.BucketInfo) []string {
			n, objects, bytes, prev = n+1, objects+b.Usage.Objects, bytes+b.Usage.Bytes, prev+b.Usage.PreviousBytes
			return bucketRow(b)
		},
		sum: func() string {
			return fmt.Sprintf("%s, %s, %s, and %s in previous versions", things(n, "bucket", "buckets"),
				things(objects, "object", "objects"), size(bytes), size(prev))
		}}.action(a)
}

func bucketRow(b api.BucketInfo) []string {
	previous, open := "", ""
	if b.Usage.Previous > 0 {
		previous = size(b.Usage.PreviousBytes)
	}
	if b.Open {
		open = "anyone"
	} else if n := len(b.Shared); n > 0 {
		open = things(int64(n), "grant", "grants")
	}
	row := []string{b.Name, b.Account, b.Region, count(b.Usage.Objects), size(b.Usage.Bytes), previous, b.Versioning,
		quotaText(b),
		open, when(b.Created)}
	switch {
	case b.Console != "":
		row[6], row[7] = "", ""
		if time.Since(*b.Told) > time.Minute { // its region is away
			row[8] = "told " + when(*b.Told)
		}
	case b.Partly:
		row[3], row[4], row[5], row[7] = "in part", "", "", ""
	}
	return row
}

func (p *desk) bucket(ctx context.Context, name string) (b api.BucketInfo, err error) {
	return b, p.call(ctx, http.MethodGet, bucketCall(name, ""), nil, nil, &b)
}

func (a *app) printBucket(ctx context.Context, p *desk, b api.BucketInfo) error {
	var costs []api.PrefixInfo
	if !b.Partly {
		var err error
		most := 12
		if a.json {
			most = 1000
		}
		if costs, err = p.prefixes(ctx, b.Name, most); err != nil {
			return err
		}
	}
	type shownBucket struct {
		api.BucketInfo
		Prefixes []api.PrefixInfo `json:"prefixes"`
		More     bool             `json:"morePrefixes,omitempty"` // than the 1,000 greatest
	}
	return a.print(shownBucket{b, costs, len(costs) == 1000}, func() error {
		if err := a.facts(bucketFacts(b)); err != nil || len(costs) == 0 {
			return err
		}
		rows := make([][]string, len(costs))
		for i, c := range costs {
			rows[i] = []string{count(c.Objects), size(c.Bytes), count(c.Previous), size(c.PreviousBytes), count(c.Markers),
				shown(c.Prefix)}
		}
		fmt.Fprintln(a.Out)
		return a.table([]column{{"OBJECTS", true}, {"SIZE", true}, {"PREVIOUS", true}, {"THEIR SIZE", true},
			{"MARKERS", true}, {"PREFIX", false}}, rows)
	})
}

// bucketFacts gives what there is to say of a bucket.
func bucketFacts(b api.BucketInfo) (facts [][2]string) {
	made := when(b.Created)
	if b.CreatedBy != "" { // not told of buckets that others own
		made += " by " + b.CreatedBy
	}
	facts = [][2]string{{"Bucket", b.Name}, {"Owner", b.Account}, {"Region", b.Region},
		{"Created", made}, {"Versioning", b.Versioning},
		{"Quota", quotaText(b)}, {"Objects", count(b.Usage.Objects)},
		{"Size", size(b.Usage.Bytes) + " (" + count(b.Usage.Bytes) + " bytes)"}}
	if u := b.Usage; u.Previous > 0 || u.Markers > 0 || b.Versioning != "off" {
		facts = append(facts, [2]string{"Previous versions",
			fmt.Sprintf("%s, %s (%s bytes)", count(u.Previous), size(u.PreviousBytes), count(u.PreviousBytes))},
			[2]string{"Delete markers", count(u.Markers)})
	}
	sealing := "off: new content is kept plain"
	if b.TierSeals {
		sealing = "off, and new content is encrypted by its tier"
	}
	if b.Sealing {
		sealing = "on: new content is encrypted at rest"
	}
	if b.Partly {
		facts = append(facts[:5], [2]string{"You may list", shown(orDash(strings.Join(b.Places, ", "))) + " only"})
	}
	if !b.Partly {
		facts = append(facts, [2]string{"Settings", fmt.Sprintf("revision %d", b.Revision)})
	}
	goes := b.Tier
	if b.Elsewhere != "" {
		goes += ", whose bytes are at " + b.Elsewhere
	}
	if b.Placement != "" || b.PlacementDue != "" {
		placed := orDash(b.Placement)
		switch {
		case b.PlacementDue != "":
			placed += fmt.Sprintf("; %s fixed %s for the account: spindle bucket change %s --placement %s", b.PlacementBy,
				b.PlacementDue, b.Name, b.PlacementDue)
		case b.PlacementFixed:
			placed += ", fixed by " + b.PlacementBy
		}
		facts = append(facts, [2]string{"Placement", placed})
	}
	if b.Placing != "" {
		facts = append(facts, [2]string{"Placing", b.Placing})
	}
	facts = append(facts, [2]string{"Sealing", sealing}, [2]string{"New content goes to", goes},
		[2]string{"You may", orDash(strings.Join(b.Rights, ", "))}, [2]string{"Open to", sharedText(b.Shared)})
	for _, name := range sortedKeys(b.Tags) {
		facts = append(facts, [2]string{"Tag " + shown(name), shown(b.Tags[name])})
	}
	return facts
}

// bucketChange reads what of a bucket's settings is to change, beside the flags.
func bucketChange(c *cli.Command, in *api.BucketChange) error {
	if !c.IsSet("tag") && !c.IsSet("untag") {
		return nil
	}
	set, err := pairs("tag", c.StringSlice("tag"))
	if err != nil {
		return err
	}
	in.Tags = &object.Edit{Set: set, Unset: c.StringSlice("untag")}
	return nil
}

// wouldGo says what a removal would remove.
func wouldGo(q api.Quantity) string {
	s := fmt.Sprintf("%s, %s", things(q.Objects, "object", "objects"), size(q.Bytes))
	if q.Previous > 0 {
		s += fmt.Sprintf(", with %s, %s", things(q.Previous, "previous version", "previous versions"), size(q.PreviousBytes))
	}
	if q.Markers > 0 {
		s += fmt.Sprintf(" and %s", things(q.Markers, "delete marker", "delete markers"))
	}
	return s
}

// consequence says whether what is removed can be brought back.
func consequence(q api.Quantity, withVersions bool) string {
	switch {
	case withVersions:
		return "Versions go too: nothing of it can be brought back."
	case q.Versioning == "on":
		return "Versioning is on: a delete marker hides them, and they can be brought back."
	case q.Versioning == "paused":
		return "Versioning is paused: what was written since then is gone; earlier versions stay."
	}
	return "Versioning is " + q.Versioning + ": they are gone."
}

func (a *app) bucketEmpty(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	all := ""
	return a.removeAll(ctx, c, p, name, &all, "from the bucket "+name, true, c.Bool("rehearse"))
}

// removeAll rehearses, asks, and removes all beneath a prefix.
func (a *app) removeAll(ctx context.Context, c *cli.Command, p *desk, bucket string, prefix *string, what string,
	withVersions, rehearse bool) error {
	q, err := p.remove(ctx, bucket, api.RemoveIn{Prefix: prefix, WithVersions: withVersions, Rehearse: true})
	if err != nil {
		return err
	}
	if rehearse {
		return a.print(q, func() error {
			_, err := fmt.Fprintf(a.Out, "Would remove %s %s. %s\n", wouldGo(q), shown(what), consequence(q, withVersions))
			return err
		})
	}
	if q.Objects+q.Previous+q.Markers == 0 {
		a.note("Nothing to remove.")
		return a.print(q, func() error { return nil })
	}
	if err := a.confirm(c, fmt.Sprintf("This removes %s %s. %s", wouldGo(q), shown(what), consequence(q, withVersions)),
		strconv.FormatInt(q.Objects+q.Previous+q.Markers, 10)); err != nil {
		return err
	}
	var done api.Quantity
	bar := a.bar("removing", q.Objects+q.Previous+q.Markers)
	for more := true; more; {
		step, err := p.remove(ctx, bucket, api.RemoveIn{Prefix: prefix, WithVersions: withVersions})
		if err != nil {
			bar.stop()
			a.note("Stopped after %s; repeat the command to resume.", wouldGo(done))
			return err
		}
		done.Objects, done.Bytes, more = done.Objects+step.Objects, done.Bytes+step.Bytes, step.More
		done.Previous, done.PreviousBytes, done.Markers = done.Previous+step.Previous, done.PreviousBytes+step.PreviousBytes,
			done.Markers+step.Markers
		done.Retained = step.Retained
		bar.at(done.Objects + done.Previous + done.Markers)
	}
	bar.stop()
	return a.print(done, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s %s.\n", wouldGo(done), shown(what))
		for _, key := range done.Retained {
			a.note("%s must be kept and stays.", shown(key))
		}
		return err
	})
}

func (a *app) bucketRemove(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	b, err := p.bucket(ctx, name)
	if err != nil {
		return err
	}
	if u := b.Usage; u.Objects+u.Previous+u.Markers > 0 {
		if !c.Bool("with-objects") {
			held := api.Quantity{Objects: u.Objects, Bytes: u.Bytes, Previous: u.Previous, PreviousBytes: u.PreviousBytes,
				Markers: u.Markers}
			return fault.New(fault.Conflict, "bucket-not-empty", "the bucket %q still holds %s", name, wouldGo(held)).
				In("bucket").
				Do("empty it first (spindle bucket empty %s), or say --with-objects", name)
		}
		all := ""
		if err := a.removeAll(ctx, c, p, name, &all, "and the bucket "+name, true, false); err != nil {
			return err
		}
	}
	if err := p.call(ctx, http.MethodDelete, bucketCall(name, ""), nil, nil, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"removed": name}, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed bucket %s.\n", name)
		return err
	})
}

func (a *app) bucketConvert(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	bucket, prefix, _ := strings.Cut(address, "/")
	b, err := p.bucket(ctx, bucket)
	if err != nil {
		return err
	}
	in := api.OrderIn{Kind: "convert", Bucket: bucket, Prefix: prefix}
	var r api.Rehearsal
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders/rehearse", nil, in, &r); err != nil {
		return err
	}
	to := "plain"
	if b.Sealing {
		to = "sealed"
	}
	says := fmt.Sprintf("%s to write anew, %s, with all versions; %s %s already.",
		things(r.Counts["converted"], "object", "objects"), size(r.Bytes), count(r.Counts["unchanged"]), to)
	if c.Bool("rehearse") || r.Counts["converted"] == 0 {
		return a.print(r, func() error {
			_, err := fmt.Fprintln(a.Out, says)
			return err
		})
	}
	if err := a.confirm(c, says+" The old bytes are removed after the grace period.", bucket); err != nil {
		return err
	}
	o, err := a.follow(ctx, p, in, "converting")
	if err != nil {
		return err
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "Wrote %s anew, %s: they are %s now.\n",
			things(o.Counts["converted"], "object", "objects"), size(o.Bytes), to)
		return err
	})
}
