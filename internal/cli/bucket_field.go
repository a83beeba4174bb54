package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
)

func (a *app) bucketFieldCommand() *cli.Command {
	beneath := &cli.StringFlag{Name: "prefix", Usage: "for objects whose keys begin with this `PREFIX`",
		DefaultText: "all"}
	return &cli.Command{Name: "field", Usage: "require metadata fields, and find objects that lack them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the metadata fields that a bucket requires", ArgsUsage: "BUCKET",
				Description: examples("spindle bucket field list plates", "spindle bucket field list plates --json"),
				Action:      a.fieldList},
			{Name: "set", Usage: "require a field, or change the requirement", ArgsUsage: "BUCKET FIELD",
				Description: "A write that breaks a requirement is reported, or refused with --breach refuse. " +
					"Existing objects stay; spindle bucket field check finds those that break it. Replicas " +
					"and restored versions come as they are.\n\n" +
					examples("spindle bucket field set plates taxon --breach refuse",
						"spindle bucket field set plates elevation-m --kind number --may-lack",
						"spindle bucket field set plates licence --one-of 'CC0 1.0,CC BY 4.0' --prefix 2026/"),
				Flags: []cli.Flag{beneath, &cli.BoolFlag{Name: "may-lack",
					Usage: "the field may be missing; if present, it must be as required"},
					&cli.StringFlag{Name: "kind", Value: string(bucket.AnyText),
						Usage: "text, number, day (such as 2026-11-20) or yes-no"},
					&cli.StringFlag{Name: "one-of", Usage: "only these `VALUES`, with commas between them"},
					&cli.StringFlag{Name: "like", Usage: "only values like this `PATTERN`: * is any number of characters, ? is one"},
					&cli.StringFlag{Name: "breach", Value: "tell", Usage: "tell or refuse: what happens to a write that breaks it"}},
				Action: a.fieldSet},
			{Name: "remove", Usage: "no longer require a field", ArgsUsage: "BUCKET FIELD",
				Description: examples("spindle bucket field remove plates taxon",
					"spindle bucket field remove plates licence --prefix 2026/"),
				Flags: []cli.Flag{beneath}, Action: a.fieldRemove},
			{Name: "check", Usage: "find and count objects whose metadata is not what the bucket requires",
				ArgsUsage: "BUCKET",
				Description: "Looks at all objects, about 150,000 per second; exits with code 5 if any lacks " +
					"something.\n\n" +
					examples("spindle bucket field check plates", "spindle bucket field check plates --json"),
				Flags:  []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many objects to list; all are counted"}},
				Action: a.fieldCheck},
		}}
}

func (a *app) fieldList(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	b, err := p.bucket(ctx, name)
	if err != nil {
		return err
	}
	return a.showRequired(name, b.Required)
}

func (a *app) showRequired(name string, list bucket.Requirements) error {
	if list == nil {
		list = bucket.Requirements{}
	}
	return a.print(list, func() error {
		if len(list) == 0 {
			a.note("%s asks for no field: spindle bucket field set %s FIELD.", name, name)
			return nil
		}
		rows := make([][]string, len(list))
		for i, r := range list {
			values := ""
			if len(r.OneOf) > 0 {
				values = "one of " + strings.Join(r.OneOf, ", ")
			}
			if r.Like != "" {
				values = strings.TrimPrefix(values+"; like "+r.Like, "; ")
			}
			rows[i] = []string{shown(r.Field), cmpOr(shown(r.Prefix), "all"), map[bool]string{true: "may be missing",
				false: "must be there"}[r.Optional],
				string(r.Kind), shown(values), map[bool]string{true: "refused", false: "told"}[r.Refuse]}
		}
		return a.table([]column{{"FIELD", false}, {"BENEATH", false}, {"IT", false}, {"KIND", false}, {"VALUES", false},
			{"A WRITE AGAINST IT IS", false}},
			rows)
	})
}

// changeRequired changes what a bucket asks for, at the revision that was read.
func (a *app) changeRequired(ctx context.Context, c *cli.Command, edit func(bucket.Requirements,
	string) (bucket.Requirements, error)) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	b, err := p.bucket(ctx, in[0])
	if err != nil {
		return err
	}
	list, err := edit(b.Required, strings.ToLower(in[1]))
	if err != nil {
		return err
	}
	if list == nil {
		list = bucket.Requirements{}
	}
	change := api.BucketChange{Required: &list}
	change.At(b.Revision)
	if err := p.call(ctx, http.MethodPatch, bucketCall(in[0], ""), nil, change, &b); err != nil {
		return err
	}
	return a.showRequired(in[0], b.Required)
}

func (a *app) fieldSet(ctx context.Context, c *cli.Command) error {
	r := bucket.Requirement{Prefix: c.String("prefix"), Optional: c.Bool("may-lack"), Kind: bucket.Kind(c.String("kind")),
		OneOf: splitNames(c.String("one-of")), Like: c.String("like")}
	switch c.String("breach") {
	case "tell":
	case "refuse":
		r.Refuse = true
	default:
		return wrongUsage("--breach is tell or refuse").see(c)
	}
	return a.changeRequired(ctx, c, func(list bucket.Requirements, field string) (bucket.Requirements, error) {
		r.Field = field
		return append(without(list, field, r.Prefix), r), nil
	})
}

func without(list bucket.Requirements, field, prefix string) bucket.Requirements {
	return slices.DeleteFunc(slices.Clone(list), func(r bucket.Requirement) bool {
		return r.Field == field &&
			r.Prefix == prefix
	})
}

func (a *app) fieldRemove(ctx context.Context, c *cli.Command) error {
	return a.changeRequired(ctx, c, func(list bucket.Requirements, field string) (bucket.Requirements, error) {
		left := without(list, field, c.String("prefix"))
		if len(left) == len(list) {
			return nil, fault.New(fault.NotFound, "requirement-missing", "the bucket does not ask for %s beneath %q", field,
				c.String("prefix")).
				In("field").Do("spindle bucket field list names what it asks for")
		}
		return left, nil
	})
}

func (a *app) fieldCheck(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	sums := map[string]int64{}
	var list []api.LackingObject
	var lacking, looked int64
	for q := (url.Values{"limit": {"1000"}}); ; {
		var page struct {
			Objects []api.LackingObject `json:"objects"`
			Looked  int64               `json:"looked"`
			Next    string              `json:"next"`
		}
		if err := p.call(ctx, http.MethodGet, bucketCall(name, "/lacking"), q, nil, &page); err != nil {
			return err
		}
		looked, lacking = looked+page.Looked, lacking+int64(len(page.Objects))
		for _, o := range page.Objects {
			for _, b := range o.Lacks {
				sums[b.Field+" "+b.Says]++
			}
			if len(list) < c.Int("limit") {
				list = append(list, o)
			}
		}
		if page.Next == "" {
			break
		}
		q.Set("after", page.Next)
	}
	if err := a.print(map[string]any{"objects": list, "lacking": lacking, "looked": looked, "sums": sums}, func() error {
		rows := make([][]string, len(list))
		for i, o := range list {
			rows[i] = []string{shown(o.Key), shown(bucket.Told(o.Lacks))}
		}
		if len(rows) > 0 {
			if err := a.table([]column{{"OBJECT", false}, {"LACKS", false}}, rows); err != nil {
				return err
			}
		}
		for _, what := range sortedCounts(sums) {
			a.note("%s: %s", shown(what), things(sums[what], "object", "objects"))
		}
		a.note("%s of %s lack something that is asked for.", count(lacking), things(looked, "object", "objects"))
		return nil
	}); err != nil {
		return err
	}
	if lacking > 0 {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// sortedCounts names what is counted, the most first.
func sortedCounts(m map[string]int64) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int {
		if m[a] != m[b] {
			return int(m[b] - m[a])
		}
		return strings.Compare(a, b)
	})
	return names
}

// lacksFact tells what an object lacks.
func lacksFact(o *api.ObjectInfo) string {
	if len(o.Lacks) == 0 {
		return ""
	}
	return fmt.Sprintf("what the bucket asks for: %s", bucket.Told(o.Lacks))
}
