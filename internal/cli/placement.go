package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

const placementsPath = "/api/v1/placements/"

func (a *app) placementCommand() *cli.Command {
	offer := []cli.Flag{
		&cli.BoolFlag{Name: "everyone", Usage: "offer it to all accounts; --everyone=false withdraws that"},
		&cli.StringSliceFlag{Name: "offer-to", Usage: "offer it to this `ACCOUNT`; may be repeated"},
		noteFlag("what it is for"),
	}
	return &cli.Command{Name: "placement",
		Usage: "ways to keep a bucket's bytes, offered to accounts",
		Commands: []*cli.Command{
			{Name: "add", Usage: "add a placement", ArgsUsage: "NAME",
				Description: "A placement itself cannot change, since buckets use it; who is offered it can.\n\n" +
					examples("spindle placement add safe --tier press --everyone --note 'any two disks may be lost'",
						"spindle placement add private --tier press --sealing --offer-to seed-lab"),
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "tier", Usage: "tier of new objects", Required: true},
					&cli.BoolFlag{Name: "sealing", Usage: "encrypt new objects at rest, whatever the bucket says"}}, offer...),
				Action: a.placementAdd},
			{Name: "list", Usage: "list the placements offered to an account",
				Description: "Operators who name no account see all of them.\n\n" + examples("spindle placement list",
					"spindle placement list --account seed-lab"),
				Flags:  []cli.Flag{&cli.StringFlag{Name: "account", Usage: "what is offered to this account"}},
				Action: a.placementList},
			{Name: "show", Usage: "show a placement and its limits", ArgsUsage: "NAME",
				Description: examples("spindle placement show safe", "spindle placement show safe --json"),
				Action:      showing(a, placementsPath, printed(a, a.showPlacement))},
			{Name: "change", Usage: "change who is offered a placement, and its note", ArgsUsage: "NAME",
				Description: "Buckets that have it keep it.\n\n" + examples("spindle placement change safe --everyone=false",
					"spindle placement change private --offer-to seed-lab --offer-to guest-curators"),
				Flags: append(slices.Clone(offer), &cli.BoolFlag{Name: "offer-to-none",
					Usage: "withdraw it from all accounts named before"},
					&cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}),
				Action: changing[api.PlacementInfo, api.PlacementUpdate](a, placementsPath, nil, printed(a, a.showPlacement))},
			{Name: "remove", Usage: "remove a placement that no bucket uses", ArgsUsage: "NAME",
				Description: examples("spindle placement remove private", "spindle placement remove private --yes"),
				Flags:       []cli.Flag{yesFlag()},
				Action: removing(a, "placement", placementsPath, func(x api.PlacementInfo) string {
					return fmt.Sprintf("The placement %s is no longer offered.", x.Name)
				})},
		}}
}

func (a *app) placementAdd(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.NewPlacement{Name: name}
	if err := readFlags(c, &in); err != nil {
		return err
	}
	var x api.PlacementInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/placements", nil, in, &x); err != nil {
		return err
	}
	return a.print(x, func() error { return a.showPlacement(x) })
}

func (a *app) placementList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	q := url.Values{}
	if s := c.String("account"); s != "" {
		q.Set("account", s)
	}
	var page api.PlacementPage
	if err := p.call(ctx, http.MethodGet, "/api/v1/placements", q, nil, &page); err != nil {
		return err
	}
	return a.print(page, func() error {
		var rows [][]string
		for _, x := range page.Placements {
			rows = append(rows, placementRow(x))
		}
		if len(rows) == 0 {
			fmt.Fprintln(a.Out, "No placement is offered; buckets name a tier, or none.")
		} else if err := a.table([]column{{"PLACEMENT", false}, {"KEPT", false}, {"MAY LOSE", true}, {"GIB, MONTH", true},
			{"BUCKETS", true}, {"OFFERED TO", false}, {"NOTE", false}}, rows); err != nil {
			return err
		}
		switch {
		case page.Fixed:
			fmt.Fprintf(a.Out, "\nAll buckets of the account have %s: %s fixed it.\n", page.Default, page.FixedBy)
		case page.Default != "":
			fmt.Fprintf(a.Out, "\nBuckets that name none have %s.\n", page.Default)
		}
		return nil
	})
}

// offeredTo says to whom a placement is offered, as far as that is told.
func offeredTo(x api.PlacementInfo) string {
	switch {
	case x.Everyone == nil:
		return "you"
	case *x.Everyone:
		return "everyone"
	case len(x.Accounts) == 0:
		return "nobody"
	}
	return strings.Join(x.Accounts, ", ")
}

func placementRow(x api.PlacementInfo) []string {
	buckets := ""
	if x.Buckets != nil {
		buckets = strconv.Itoa(*x.Buckets)
	}
	name := x.Name
	if x.Default {
		name += " (default)"
	}
	return []string{name, x.Keeps, strconv.Itoa(x.Losses), price(x.Price), buckets, offeredTo(x), shown(x.Note)}
}

func (a *app) showPlacement(x api.PlacementInfo) error {
	facts := [][2]string{{"Placement", x.Name}, {"Note", shown(x.Note)}, {"Tier", x.Tier}, {"Keeps", x.Keeps},
		{"May lose", things(int64(x.Losses), "volume", "volumes")},
		{"Takes", fmt.Sprintf("%.2f bytes on volumes for each byte", x.Overhead)},
		{"Price", price(x.Price) + " a GiB and month"}}
	for _, l := range x.Limits {
		facts = append(facts, [2]string{"Mind", l})
	}
	facts = append(facts, [2]string{"Offered to", offeredTo(x)})
	if x.Buckets != nil {
		facts = append(facts, [2]string{"Had by", things(int64(*x.Buckets), "bucket", "buckets")})
	}
	return a.facts(append(facts, [2]string{"Revision", strconv.Itoa(x.Revision)}))
}

func (a *app) bucketPlaceCommand() *cli.Command {
	return &cli.Command{Name: "place", Usage: "change a bucket's placement, and rewrite its objects",
		ArgsUsage: "NAME PLACEMENT",
		Description: "Objects, versions and digests stay as they are, and are read and written meanwhile. The " +
			"service does the work. You can stop the command; repeating it resumes. What clients or rules " +
			"put into other tiers stays there.\n\n" +
			examples("spindle bucket place loans safe --rehearse", "spindle bucket place loans safe --yes"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "only show what would be rewritten"},
			&cli.BoolFlag{Name: "all", Usage: "also move objects that were put into other tiers"}, yesFlag()},
		Action: a.bucketPlace}
}

func (a *app) bucketPlace(ctx context.Context, c *cli.Command) error {
	p, bucket, name, err := a.twoArgs(c)
	if err != nil {
		return err
	}
	in := api.OrderIn{Kind: "place", Bucket: bucket, Placement: name, All: c.Bool("all")}
	var r api.Rehearsal
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders/rehearse", nil, in, &r); err != nil {
		return err
	}
	m, err := p.money(ctx)
	if err != nil {
		return err
	}
	says := fmt.Sprintf("%s to write anew, %s, with all versions; %s so already. About %s. What is moved costs %s a month, and %s then.",
		things(r.Counts["placed"], "object", "objects"), size(r.Bytes), things(r.Counts["unchanged"], "is", "are"),
		(time.Duration(max(1, r.Seconds)) * time.Second).String(), m.Say(r.MonthBefore),
		m.Say(r.MonthAfter))
	for _, l := range r.Limits {
		says += "\nMind: " + l
	}
	if c.Bool("rehearse") {
		return a.print(r, func() error {
			_, err := fmt.Fprintln(a.Out, says)
			return err
		})
	}
	if err := a.confirm(c, says+"\nThe old bytes are removed after the grace period.", bucket); err != nil {
		return err
	}
	o, err := a.follow(ctx, p, in, "placing")
	if err != nil {
		return err
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "The bucket %s has the placement %s. Wrote %s anew, %s.\n", bucket, name,
			things(o.Counts["placed"], "object", "objects"), size(o.Bytes))
		return err
	})
}
