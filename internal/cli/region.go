package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

const regionsPath = "/api/v1/regions/"

func (a *app) regionCommand() *cli.Command {
	return &cli.Command{Name: "region", Usage: "other services of the house, and the accounts they admit",
		Commands: []*cli.Command{
			{Name: "add", Usage: "add another service of the house", ArgsUsage: "DESK",
				Description: "Its name, and the address for its clients, are read from it. Each service is added " +
					"at the other, so that both see it.\n\n" +
					examples("spindle region add https://desk.moor.example --key OPERATOR --secret-from moor.txt",
						"spindle region add http://127.0.0.1:5811 --key OPERATOR"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "key", Usage: "`ID` of an operator's key there", Required: true},
					&cli.StringFlag{Name: "secret-from",
						Usage: "read the key's secret from this `FILE`, - for standard input; default: you are asked"},
					&cli.StringFlag{Name: "name", Usage: "refuse it unless its region is called `NAME`"}, noteFlag("where it is")},
				Action: a.regionAdd},
			{Name: "list", Usage: "list the regions of the house", Description: examples("spindle region list",
				"spindle region list --json"),
				Action: listing[api.RegionInfo]{path: "/api/v1/regions", field: "regions", none: "There is no region.",
					row: regionRow, columns: []column{{"REGION", false}, {"STATE", false}, {"YOU MAY", false}, {"BUCKETS", true},
						{"ANSWERED", false}, {"CONSOLE", false}, {"NOTE", false}}}.action(a)},
			{Name: "show", Usage: "show a region, and what it holds", ArgsUsage: "NAME",
				Description: examples("spindle region show moor", "spindle region show fenn --json"), Action: a.regionShow},
			{Name: "admit", Usage: "admit an account to a region: it may create buckets there", ArgsUsage: "ACCOUNT REGION",
				Description: "An account that is not there yet is made there.\n\n" + examples(
					"spindle region admit seed-lab moor", "spindle region admit seed-lab fenn"),
				Action: a.regionAdmit(true)},
			{Name: "dismiss", Usage: "stop admitting an account to a region", ArgsUsage: "ACCOUNT REGION",
				Description: "Those it has stay, and work as before.\n\n" + examples("spindle region dismiss seed-lab moor",
					"spindle region dismiss guest-curators fenn"),
				Action: a.regionAdmit(false)},
			{Name: "remove", Usage: "forget a region", ArgsUsage: "NAME",
				Description: "Nothing there changes.\n\n" + examples("spindle region remove moor",
					"spindle region remove moor --yes"),
				Flags: []cli.Flag{yesFlag()},
				Action: removing(a, "region", regionsPath, func(r api.RegionInfo) string {
					return fmt.Sprintf("The region %s is forgotten here: its buckets are no longer listed.", r.Name)
				})},
		}}
}

func (a *app) regionAdd(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	secret, err := a.secretFrom(c.String("secret-from"))
	if err != nil {
		return err
	}
	in := api.NewRegion{Name: c.String("name"), Desk: address, Key: c.String("key"), Secret: secret,
		Note: c.String("note")}
	var r api.RegionInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/regions", nil, in, &r); err != nil {
		return err
	}
	return a.print(r, func() error { return a.printRegion(r) })
}

func (a *app) regionShow(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var r api.RegionInfo
	path := regionsPath + url.PathEscape(name)
	if err := p.call(ctx, http.MethodGet, path, nil, nil, &r); err != nil {
		return err
	}
	if r.Key != "" { // who asks operates, and it is a sister
		if err := p.call(ctx, http.MethodPost, path+"/ask", nil, nil, &r); err != nil {
			return err
		}
	}
	return a.print(r, func() error { return a.printRegion(r) })
}

func (a *app) regionAdmit(admitted bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, account, region, err := a.twoArgs(c)
		if err != nil {
			return err
		}
		var x api.AccountInfo
		if err := p.call(ctx, http.MethodPut, regionsPath+url.PathEscape(region)+"/accounts/"+url.PathEscape(account), nil,
			api.AdmitAsk{Admitted: admitted}, &x); err != nil {
			return err
		}
		return a.print(x, func() error {
			says := "is admitted to"
			if !admitted {
				says = "can no longer create buckets in"
			}
			_, err := fmt.Fprintf(a.Out, "The account %s %s the region %s.\n", account, says, region)
			return err
		})
	}
}

// mayThere says what one may do in a region.
func mayThere(r api.RegionInfo) string {
	s := "make no buckets"
	if r.Admitted {
		s = "make buckets"
	}
	if r.Default {
		s += ", by default"
	}
	return s
}

func regionRow(r api.RegionInfo) []string {
	buckets, seen, at := "", "", r.Desk
	if r.Buckets != nil {
		buckets = fmt.Sprint(*r.Buckets)
	}
	if r.Seen != nil {
		seen = when(*r.Seen)
	}
	if r.Own {
		seen, at = "now", "this one"
	}
	return []string{r.Name, r.State, mayThere(r), buckets, seen, at, shown(r.Note)}
}

func (a *app) printRegion(r api.RegionInfo) error {
	state := r.State
	if r.Says != "" {
		state += ": " + r.Says
	}
	facts := [][2]string{{"Region", r.Name}, {"Note", shown(r.Note)}, {"State", state}, {"You may", mayThere(r)}}
	if r.Own {
		facts[1][1] = "this one"
	} else {
		facts = append(facts, [2]string{"Console", r.Desk})
	}
	if r.Wire != "" {
		facts = append(facts, [2]string{"Wire", r.Wire})
	}
	if r.Seen != nil {
		facts = append(facts, [2]string{"Answered", when(*r.Seen) + ", in " +
			(time.Duration(r.Latency * float64(time.Millisecond))).Round(time.Millisecond).String()})
	}
	if r.Buckets != nil {
		facts = append(facts, [2]string{"Buckets", fmt.Sprint(*r.Buckets)},
			[2]string{"Admitted", shown(orDash(strings.Join(r.Accounts, ", ")))})
	}
	if r.Key != "" {
		facts = append(facts, [2]string{"Our key there", r.Key})
	}
	return a.facts(facts)
}
