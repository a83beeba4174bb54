package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
)

// question reads what is asked for, from the arguments or as it is kept.
func (a *app) question(ctx context.Context, c *cli.Command) (p *desk, ask api.FindAsk, err error) {
	least := 1
	if c.IsSet("saved") {
		least = 0
	}
	in, err := args(c, least, least*1000)
	if err != nil {
		return nil, ask, err
	}
	if p, err = a.open(c); err != nil {
		return nil, ask, err
	}
	ask = api.FindAsk{Expression: strings.Join(in, " "), Buckets: c.StringSlice("bucket"), Versions: c.Bool("versions")}
	if least > 0 {
		return p, ask, nil
	}
	var kept struct {
		Finds []api.SavedFind `json:"finds"`
	}
	if err := p.call(ctx, http.MethodGet, savedFindsPath, nil, nil, &kept); err != nil {
		return nil, ask, err
	}
	for _, f := range kept.Finds {
		if f.Name == c.String("saved") {
			if ask.Expression, ask.Versions = f.Expression, ask.Versions || f.Versions; len(ask.Buckets) == 0 {
				ask.Buckets = f.Buckets
			}
			return p, ask, nil
		}
	}
	return nil, ask, fault.New(fault.NotFound, "saved-missing", "no question is saved as %q",
		c.String("saved")).In("saved").
		Do("spindle find saved names those there are")
}

func (a *app) findSave(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 1000)
	if err != nil {
		return err
	}
	return a.saveUnder(ctx, c, savedFindsPath, in[0], api.Question{Expression: strings.Join(in[1:], " "),
		Buckets: c.StringSlice("bucket"), Versions: c.Bool("versions")}, "spindle find --saved %s asks it.")
}

// givenAct names what is to be done with what is found; "" for nothing.
func givenAct(c *cli.Command) query.Act {
	for act, flags := range map[query.Act][]string{query.ActAnnotate: {"annotate", "unset", "tag", "untag"},
		query.ActMove: {"move-to"},
		query.ActCopy: {"copy-to"}, query.ActRemove: {"remove"}, query.ActPutBack: {"put-back"}} {
		for _, f := range flags {
			if c.IsSet(f) {
				return act
			}
		}
	}
	return ""
}

// foundOrder reads what is ordered of one bucket.
func foundOrder(c *cli.Command, expression, bucket string, act query.Act) (in api.OrderIn, err error) {
	in = api.OrderIn{Kind: "found", Bucket: bucket, Where: expression, Act: string(act), Tier: c.String("move-to"),
		AsOf: c.String("put-back")}
	if in.Metadata.Set, err = pairs("annotate", c.StringSlice("annotate")); err != nil {
		return in, err
	}
	if in.Tags.Set, err = pairs("tag", c.StringSlice("tag")); err != nil {
		return in, err
	}
	in.Metadata.Unset, in.Tags.Unset = c.StringSlice("unset"), c.StringSlice("untag")
	if act == query.ActCopy {
		bucket, prefix, _ := strings.Cut(c.String("copy-to"), "/")
		if _, err := object.ParseBucketName(bucket); err != nil {
			return in, fault.From(err).In("copy-to")
		}
		in.ToBucket, in.ToPrefix = bucket, prefix
	}
	return in, nil
}

// findAct does something with what is found, bucket by bucket.
func (a *app) findAct(ctx context.Context, c *cli.Command, p *desk, ask api.FindAsk, act query.Act) error {
	switch {
	case len(ask.Buckets) == 0:
		return wrongUsage("something is done with what is found in the buckets that --bucket names").see(c)
	case ask.Versions || ask.AsOf != "":
		return wrongUsage("something is done with current objects: leave --versions and --as-of out").see(c)
	}
	for _, bucket := range ask.Buckets {
		in, err := foundOrder(c, ask.Expression, bucket, act)
		if err != nil {
			return err
		}
		if err := a.actIn(ctx, c, p, in, act); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) actIn(ctx context.Context, c *cli.Command, p *desk, in api.OrderIn, act query.Act) error {
	var r api.Rehearsal
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders/rehearse", nil, in, &r); err != nil {
		return err
	}
	n := r.Total()
	says := fmt.Sprintf("%s of %s, %s, would be %s.", things(n, "object", "objects"), in.Bucket, size(r.Bytes),
		query.Acts[act])
	if c.Bool("rehearse") {
		return a.print(r, func() error {
			_, err := fmt.Fprintln(a.Out, says)
			return err
		})
	}
	if n == 0 {
		a.note("No object in %s matches.", in.Bucket)
		return nil
	}
	if err := a.confirm(c, says, fmt.Sprint(n)); err != nil {
		return err
	}
	in.Expect = &n
	o, err := a.follow(ctx, p, in, string(act))
	if err != nil {
		return err
	}
	return a.print(o, func() error {
		left := ""
		if l := o.Counts["left"]; l > 0 {
			left = fmt.Sprintf("; %s were left, because they changed meanwhile or are so already", count(l))
		}
		_, err := fmt.Fprintf(a.Out, "%s of %s, %s, %s%s.\n", things(o.Counts[query.Acts[act]], "object", "objects"),
			in.Bucket, size(o.Bytes),
			query.Acts[act], left)
		return err
	})
}
