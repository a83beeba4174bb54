package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/service"
)

func (a *app) accountCommand() *cli.Command {
	limits := []cli.Flag{&cli.StringFlag{Name: "quota",
		Usage: "maximum bytes in all its buckets, such as `2TiB`, or none"},
		&cli.StringFlag{Name: "max-buckets", Usage: "maximum number of buckets, or none"},
		noteFlag("what the account is for")}
	placed := []cli.Flag{
		&cli.StringFlag{Name: "placement", Usage: "default `PLACEMENT` of new buckets, or none"},
		&cli.StringFlag{Name: "region", Usage: "default `REGION` of new buckets"},
		&cli.StringFlag{Name: "placement-fixed", Usage: "on or off: all buckets use that placement, and the " +
			"account cannot choose another"},
	}
	return &cli.Command{Name: "account", Usage: "accounts own buckets, keys and quotas", Commands: []*cli.Command{
		{Name: "create", Usage: "create an account", ArgsUsage: "NAME",
			Description: examples("spindle access account create seed-lab --quota 2TiB",
				"spindle access account create guest-curators --max-buckets 3 --note 'visitors of 2026'"), Flags: limits,
			Action: a.accountCreate},
		{Name: "list", Usage: "list accounts with what they hold",
			Description: examples("spindle access account list", "spindle access account list --json"),
			Action: listing[api.AccountInfo]{path: "/api/v1/accounts", field: "accounts", row: accountRow,
				none: "There is no account that you see.",
				columns: []column{{"ACCOUNT", false}, {"BUCKETS", true}, {"SIZE", true}, {"QUOTA", false}, {"KEYS", true},
					{"PEOPLE", true}, {"NOTE", false}}}.action(a)},
		{Name: "show", Usage: "show an account", ArgsUsage: "NAME",
			Description: examples("spindle access account show seed-lab", "spindle access account show seed-lab --json"),
			Action:      showing(a, accountPath, printed(a, a.printAccount))},
		{Name: "change", Usage: "change an account's quotas and note", ArgsUsage: "NAME",
			Description: examples("spindle access account change seed-lab --quota 3TiB",
				"spindle access account change seed-lab --max-buckets none",
				"spindle access account change seed-lab --placement safe --placement-fixed on"), Flags: append(limits, placed...),
			Action: changing[api.AccountInfo, api.AccountChange](a, accountPath, nil, printed(a, a.printAccount))},
		{Name: "remove", Usage: "remove an account without buckets, with its keys and grants", ArgsUsage: "NAME",
			Description: examples("spindle access account remove guest-curators",
				"spindle access account remove guest-curators --yes"), Flags: []cli.Flag{yesFlag()},
			Action: removing(a, "account", accountPath, func(x api.AccountInfo) string {
				return fmt.Sprintf("The account %s goes with %s and the roles of %s; nothing they signed works any more.", x.Name,
					things(int64(x.Keys), "key", "keys"), things(int64(x.People), "person", "people"))
			})},
	}}
}

func (a *app) accountCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var limits api.AccountChange
	if err := readFlags(c, &limits); err != nil {
		return err
	}
	in := api.NewAccount{Name: name, Note: c.String("note"), Quota: limits.Quota.Value}
	if n := limits.MaxBuckets.Value; n != nil {
		buckets := int(*n)
		in.MaxBuckets = &buckets
	}
	var out api.AccountInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/accounts", nil, in, &out); err != nil {
		return err
	}
	return a.printAccount(out)
}

const accountPath = "/api/v1/accounts/"

func accountRow(x api.AccountInfo) []string {
	operates := ""
	if x.Operator {
		operates = "operates the service"
	}
	return []string{x.Name, limitText(x.MaxBuckets, x.Buckets), size(x.Bytes), bytesOf(x.Quota, x.Bytes),
		count(int64(x.Keys)), count(int64(x.People)), strings.TrimSpace(operates + " " + shown(x.Note))}
}

func limitText(n *int, has int) string {
	if n == nil {
		return count(int64(has))
	}
	return fmt.Sprintf("%s of %s", count(int64(has)), count(int64(*n)))
}

func bytesOf(q *int64, used int64) string {
	if q == nil {
		return "none"
	}
	return fmt.Sprintf("%s, %.1f %% used", size(*q), 100*float64(used)/float64(*q))
}

func (a *app) printAccount(x api.AccountInfo) error {
	return a.print(x, func() error {
		what := "tenant"
		if x.Operator {
			what = "operates the service"
		}
		facts := [][2]string{{"Account", x.Name}, {"What", what}, {"Buckets", limitText(x.MaxBuckets, x.Buckets)},
			{"Size", size(x.Bytes)}, {"Quota", bytesOf(x.Quota, x.Bytes)}, {"Keys", count(int64(x.Keys))},
			{"People", count(int64(x.People))}, {"Created", when(x.Created)}}
		if !x.Admitted {
			facts = append(facts, [2]string{"Admitted", "not to this region"})
		}
		if x.Region != "" {
			facts = append(facts, [2]string{"Region", x.Region + ", unless a bucket names another"})
		}
		switch {
		case x.Fixed:
			facts = append(facts, [2]string{"Placement", x.Placement + ", fixed by " + x.FixedBy})
		case x.Placement != "":
			facts = append(facts, [2]string{"Placement", x.Placement + ", unless a bucket names another"})
		}
		if x.Note != "" {
			facts = append(facts, [2]string{"Note", shown(x.Note)})
		}
		return a.facts(facts)
	})
}

// People.

func (a *app) personCommand() *cli.Command {
	role := func(usage string) cli.Flag { return &cli.StringSliceFlag{Name: "role", Usage: usage} }
	return &cli.Command{Name: "person", Usage: "people who sign in, with their roles in accounts",
		Commands: []*cli.Command{
			{Name: "create", Usage: "create a person; the password is generated, shown once, and changed at the " +
				"first sign-in",
				ArgsUsage: "NAME",
				Description: examples("spindle access person create 'Tam Ellery' --role herbarium:administrator",
					"spindle access person create 'Ines Varga' --role seed-lab:administrator --role herbarium:reader"),
				Flags: []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; roles: reader, writer, administrator"),
					&cli.BoolFlag{Name: "operator", Usage: "make them an operator of the service"}, noteFlag("who this is")},
				Action: a.personCreate},
			{Name: "list", Usage: "list people", Description: examples("spindle access person list",
				"spindle access person list --account seed-lab --json"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only those with a role in this account"}},
				Action: listing[api.PersonInfo]{path: "/api/v1/people", field: "people", filters: []string{"account"},
					none:    "Nobody signs in with a name yet. Let somebody: spindle access person create NAME --role ACCOUNT:ROLE",
					columns: []column{{"PERSON", false}, {"ROLES", false}, {"STATE", false}, {"SIGNED IN", false}, {"NOTE", false}},
					row: func(x api.PersonInfo) []string {
						return []string{shown(x.Name), roleText(x), personState(x), maybe(x.SignedIn, "never"), shown(x.Note)}
					}}.action(a)},
			{Name: "show", Usage: "show a person", ArgsUsage: "NAME",
				Description: examples("spindle access person show 'Tam Ellery'", "spindle access person show 'Tam Ellery' --json"),
				Action:      showing(a, peoplePath, printed(a, a.showPerson))},
			{Name: "change", Usage: "change a person's roles, or whether they may sign in", ArgsUsage: "NAME",
				Description: examples("spindle access person change 'Ines Varga' --role herbarium:none",
					"spindle access person change 'Tam Ellery' --active off", "spindle access person change 'Tam Ellery' --unlock"),
				Flags: []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; none removes the role"),
					&cli.StringFlag{Name: "operator", Usage: "on or off: operator of the service"},
					&cli.StringFlag{Name: "active", Usage: "on or off: may sign in"},
					&cli.BoolFlag{Name: "unlock", Usage: "forget failed attempts"}, noteFlag("who this is")},
				Action: changing(a, peoplePath, personChange, printed(a, a.showPerson))},
			{Name: "reset", Usage: "give a person a new password, shown once; with --data from the machine itself, without a key",
				ArgsUsage: "NAME",
				Description: "With --data it needs no key: it works on the data directory, whether or not the " +
					"service runs.\n\n" +
					examples("spindle access person reset 'Tam Ellery'",
						"spindle access person reset 'Oda Brandvold' --data /srv/spindle"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "the service's data `DIR`, on this machine"},
					&cli.StringFlag{Name: "database", Usage: "`URL` of its PostgreSQL, if it is not the private one"},
					&cli.BoolFlag{Name: "operator",
						Usage: "with --data: make them an operator, and create them when they are missing"}}, Action: a.personReset},
			{Name: "remove", Usage: "remove a person, with sessions and grants", ArgsUsage: "NAME",
				Description: examples("spindle access person remove 'Ines Varga'",
					"spindle access person remove 'Ines Varga' --yes"), Flags: []cli.Flag{yesFlag()},
				Action: removing(a, "person", peoplePath, func(x api.PersonInfo) string {
					return fmt.Sprintf("%s (%s) can no longer sign in; their grants are removed too.", shown(x.Name), roleText(x))
				})},
		}}
}

func roles(c *cli.Command) ([]api.RoleIn, error) {
	var out []api.RoleIn
	for _, s := range c.StringSlice("role") {
		account, role, ok := strings.Cut(s, ":")
		if !ok {
			return nil, wrongUsage("--role is ACCOUNT:ROLE, not %q", s)
		}
		if role != "none" {
			r, err := access.ParseRole(role)
			if err != nil {
				return nil, err
			}
			role = r.String()
		}
		out = append(out, api.RoleIn{Account: account, Role: role})
	}
	return out, nil
}

const peoplePath = "/api/v1/people/"

func (a *app) personCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.NewPerson{Name: name}
	if err = readFlags(c, &in); err == nil {
		in.Roles, err = roles(c)
	}
	if err != nil {
		return err
	}
	var out api.PersonSecret
	if err := p.call(ctx, http.MethodPost, "/api/v1/people", nil, in, &out); err != nil {
		return err
	}
	return a.printPerson(out.Person, out.Password)
}

func roleText(p api.PersonInfo) string {
	var out []string
	if p.Operator {
		out = append(out, "operator of the service")
	}
	for _, r := range p.Roles {
		out = append(out, r.Role+" in "+r.Account)
	}
	return strings.Join(out, ", ")
}

func personState(p api.PersonInfo) string {
	switch {
	case !p.Active:
		return "off"
	case p.Locked != nil:
		return "locked until " + p.Locked.Local().Format("15:04:05")
	case p.MustChange:
		return "new password due"
	}
	return "active"
}

func (a *app) printPerson(x api.PersonInfo, password string) error {
	if a.json {
		return a.print(api.PersonSecret{Person: x, Password: password}, nil)
	}
	facts := [][2]string{{"Person", shown(x.Name)}, {"Roles", roleText(x)}, {"State", personState(x)},
		{"Signed in", maybe(x.SignedIn, "never")}, {"Created", when(x.Created) + " by " + shown(x.CreatedBy)}}
	if x.Note != "" {
		facts = append(facts, [2]string{"Note", shown(x.Note)})
	}
	if password != "" {
		facts = append(facts, [2]string{"Password", password})
	}
	if err := a.facts(facts); err != nil {
		return err
	}
	if password != "" {
		a.note("The password is shown this once, and is changed at the first sign-in.")
	}
	return nil
}

func (a *app) showPerson(x api.PersonInfo) error { return a.printPerson(x, "") }

func personChange(c *cli.Command, in *api.PersonChange) (err error) {
	in.Roles, err = roles(c)
	return err
}

func (a *app) personReset(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	if c.String("data") == "" && c.String("database") == "" {
		if c.Bool("operator") {
			return wrongUsage("--operator goes with --data, on the machine itself")
		}
		p, err := a.open(c)
		if err != nil {
			return err
		}
		var out api.PersonSecret
		if err := p.call(ctx, http.MethodPost, peoplePath+url.PathEscape(in[0])+"/reset", nil, api.ResetAsk{},
			&out); err != nil {
			return err
		}
		return a.printPerson(out.Person, out.Password)
	}
	log, err := a.logger("warn")
	if err != nil {
		return err
	}
	password, err := service.ResetPerson(ctx, c.String("data"), c.String("database"), in[0], c.Bool("operator"), log)
	if err != nil {
		return err
	}
	return a.print(map[string]string{"person": in[0], "password": password}, func() error {
		a.note("The password is shown this once, and is changed at the first sign-in. All sessions of %s have ended.",
			shown(in[0]))
		return a.facts([][2]string{{"Person", shown(in[0])}, {"Password", password}})
	})
}
