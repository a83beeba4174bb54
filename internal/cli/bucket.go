package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/desk"
)

func examples(lines ...string) string {
	s := "Examples:"
	for _, l := range lines {
		s += "\n  " + l
	}
	return s
}

func (a *app) bucketCommand() *cli.Command {
	return &cli.Command{Name: "bucket", Usage: "create, list, show, change, empty and remove buckets", Commands: []*cli.Command{
		{Name: "create", Usage: "create a bucket", ArgsUsage: "NAME", Description: examples("spindle bucket create plates", "spindle bucket create germination --quota 400MiB"),
			Flags:  []cli.Flag{&cli.StringFlag{Name: "quota", Usage: "most bytes the bucket may hold, such as `400MiB`"}},
			Action: a.bucketCreate},
		{Name: "list", Usage: "list buckets", Description: examples("spindle bucket list", "spindle bucket list --json"), Action: a.bucketList},
		{Name: "show", Usage: "show a bucket's settings and usage", ArgsUsage: "NAME", Description: examples("spindle bucket show plates", "spindle bucket show attic --json"), Action: a.bucketShow},
		{Name: "change", Usage: "change a bucket's settings", ArgsUsage: "NAME", Description: examples("spindle bucket change germination --quota 2GiB", "spindle bucket change germination --quota none"),
			Flags:  []cli.Flag{&cli.StringFlag{Name: "quota", Usage: "most bytes the bucket may hold, such as `400MiB`, or none"}},
			Action: a.bucketChange},
		{Name: "empty", Usage: "remove all objects of a bucket", ArgsUsage: "NAME", Description: examples("spindle bucket empty attic --rehearse", "spindle bucket empty attic --yes"),
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "only say what would go"}, yesFlag},
			Action: a.bucketEmpty},
		{Name: "remove", Usage: "remove a bucket", ArgsUsage: "NAME", Description: examples("spindle bucket remove attic", "spindle bucket remove attic --with-objects --yes"),
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "with-objects", Usage: "empty it first"}, yesFlag},
			Action: a.bucketRemove},
	}}
}

// oneBucket opens the service and gives the bucket that the command names.
func (a *app) oneBucket(c *cli.Command) (*api, string, error) {
	in, err := args(c, 1, 1)
	if err != nil {
		return nil, "", err
	}
	p, err := a.open(c)
	return p, in[0], err
}

func (a *app) bucketCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.oneBucket(c)
	if err != nil {
		return err
	}
	in := map[string]any{"name": name}
	if s := c.String("quota"); s != "" {
		q, err := parseSize("quota", s)
		if err != nil {
			return err
		}
		if q != nil {
			in["quota"] = *q
		}
	}
	var b desk.BucketInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/buckets", nil, in, &b); err != nil {
		return err
	}
	return a.print(b, func() error {
		_, err := fmt.Fprintf(a.Out, "Created bucket %s in region %s.\n", b.Name, b.Region)
		return err
	})
}

func (p *api) buckets(ctx context.Context, f func(desk.BucketInfo) error) error {
	for after := ""; ; {
		var page desk.BucketPage
		if err := p.call(ctx, http.MethodGet, "/api/v1/buckets", url.Values{"after": {after}, "limit": {"1000"}}, nil, &page); err != nil {
			return err
		}
		for _, b := range page.Buckets {
			if err := f(b); err != nil {
				return err
			}
		}
		if page.Next == "" {
			return nil
		}
		after = page.Next
	}
}

func quotaText(b desk.BucketInfo) string {
	if b.Quota == nil {
		return "none"
	}
	used := b.Usage.Bytes + b.Usage.PreviousBytes
	return fmt.Sprintf("%s, %.1f %% used", size(*b.Quota), 100*float64(used)/float64(*b.Quota))
}

func (a *app) bucketList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	var objects, bytes int64
	err = p.buckets(ctx, func(b desk.BucketInfo) error {
		if a.json {
			return a.print(b, nil)
		}
		objects, bytes = objects+b.Usage.Objects, bytes+b.Usage.Bytes
		rows = append(rows, []string{b.Name, count(b.Usage.Objects), size(b.Usage.Bytes), quotaText(b), b.Region, when(b.Created)})
		return nil
	})
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("There are no buckets yet. Make one: spindle bucket create NAME")
		return nil
	}
	if err := a.table([]column{{"BUCKET", false}, {"OBJECTS", true}, {"SIZE", true}, {"QUOTA", false}, {"REGION", false}, {"CREATED", false}}, rows); err != nil {
		return err
	}
	a.note("%s, %s, %s", things(int64(len(rows)), "bucket", "buckets"), things(objects, "object", "objects"), size(bytes))
	return nil
}

func (p *api) bucket(ctx context.Context, name string) (b desk.BucketInfo, err error) {
	return b, p.call(ctx, http.MethodGet, bucketCall(name, ""), nil, nil, &b)
}

func (a *app) bucketShow(ctx context.Context, c *cli.Command) error {
	p, name, err := a.oneBucket(c)
	if err != nil {
		return err
	}
	b, err := p.bucket(ctx, name)
	if err != nil {
		return err
	}
	return a.printBucket(b)
}

func (a *app) printBucket(b desk.BucketInfo) error {
	return a.print(b, func() error {
		return a.facts([][2]string{{"Bucket", b.Name}, {"Owner", b.Account}, {"Region", b.Region}, {"Created", when(b.Created) + " by " + b.CreatedBy}, {"Versioning", b.Versioning},
			{"Quota", quotaText(b)}, {"Objects", count(b.Usage.Objects)}, {"Size", size(b.Usage.Bytes) + " (" + count(b.Usage.Bytes) + " bytes)"}})
	})
}

func (a *app) bucketChange(ctx context.Context, c *cli.Command) error {
	p, name, err := a.oneBucket(c)
	if err != nil {
		return err
	}
	if !c.IsSet("quota") {
		return wrongUsage("nothing to change was given; see spindle bucket change --help")
	}
	q, err := parseSize("quota", c.String("quota"))
	if err != nil {
		return err
	}
	var b desk.BucketInfo
	if err := p.call(ctx, http.MethodPatch, bucketCall(name, ""), nil, map[string]any{"quota": q}, &b); err != nil {
		return err
	}
	return a.printBucket(b)
}

// wouldGo says what a removal would remove.
func wouldGo(q desk.Quantity) string {
	return fmt.Sprintf("%s, %s", things(q.Objects, "object", "objects"), size(q.Bytes))
}

func (a *app) bucketEmpty(ctx context.Context, c *cli.Command) error {
	p, name, err := a.oneBucket(c)
	if err != nil {
		return err
	}
	all := ""
	return a.removeAll(ctx, c, p, name, &all, "from the bucket "+name, c.Bool("rehearse"))
}

// removeAll rehearses, asks, and removes all beneath a prefix.
func (a *app) removeAll(ctx context.Context, c *cli.Command, p *api, bucket string, prefix *string, what string, rehearse bool) error {
	q, err := p.remove(ctx, bucket, nil, prefix, true)
	if err != nil {
		return err
	}
	if rehearse {
		return a.print(q, func() error {
			_, err := fmt.Fprintf(a.Out, "Would remove %s %s. Versioning is off: they would be gone.\n", wouldGo(q), shown(what))
			return err
		})
	}
	if q.Objects == 0 {
		a.note("Nothing to remove.")
		return a.print(q, func() error { return nil })
	}
	if err := a.confirm(c, fmt.Sprintf("This removes %s %s. Versioning is off: they will be gone.", wouldGo(q), shown(what)), strconv.FormatInt(q.Objects, 10)); err != nil {
		return err
	}
	var done desk.Quantity
	bar := a.bar("removing", q.Objects)
	for more := true; more; {
		step, err := p.remove(ctx, bucket, nil, prefix, false)
		if err != nil {
			bar.stop()
			a.note("Stopped after %s; say it again to go on.", wouldGo(done))
			return err
		}
		done.Objects, done.Bytes, more = done.Objects+step.Objects, done.Bytes+step.Bytes, step.More
		bar.at(done.Objects)
	}
	bar.stop()
	return a.print(done, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s %s.\n", wouldGo(done), shown(what))
		return err
	})
}

func (a *app) bucketRemove(ctx context.Context, c *cli.Command) error {
	p, name, err := a.oneBucket(c)
	if err != nil {
		return err
	}
	b, err := p.bucket(ctx, name)
	if err != nil {
		return err
	}
	if b.Usage.Objects > 0 {
		if !c.Bool("with-objects") {
			return fault.New(fault.Conflict, "bucket-not-empty", "the bucket %q still holds %s, %s", name, things(b.Usage.Objects, "object", "objects"), size(b.Usage.Bytes)).In("bucket").
				Do("empty it first (spindle bucket empty %s), or say --with-objects", name)
		}
		all := ""
		if err := a.removeAll(ctx, c, p, name, &all, "and the bucket "+name, false); err != nil {
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
