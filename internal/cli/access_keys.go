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
	"spindle/internal/core/access"
)

func (a *app) keyCommand() *cli.Command {
	what := []cli.Flag{&cli.StringFlag{Name: "role",
		Usage:       "reader, writer, administrator, or operator of the service, which only an operator gives",
		DefaultText: "reader"}, &cli.StringSliceFlag{Name: "limit", Usage: "only `BUCKET[/PREFIX]`, may be repeated"},
		&cli.StringFlag{Name: "expires", Usage: "expiry `TIME`, or a time from now such as 90d; default: never"},
		&cli.IntFlag{Name: "rate", Usage: "maximum requests per second; 0 for no limit"}, noteFlag("what it is for")}
	return &cli.Command{Name: "key", Usage: "access keys, one for each application", Commands: []*cli.Command{
		{Name: "create", Usage: "create an access key; read-only unless you ask for more", ArgsUsage: "NAME",
			Description: "NAME is the application's. The secret is shown this once.\n\n" +
				examples("spindle access key create press-room --limit plates/2025/",
					"spindle access key create scanner-2 --role writer --limit plates --expires 365d --note 'flatbed in room 2'"),
			Flags: append(slices.Clone(what), &cli.StringFlag{Name: "account", Usage: "the account; default: your own"},
				&cli.StringFlag{Name: "id",
					Usage: "bring an `ID` along; its secret is asked for, or read from SPINDLE_NEW_SECRET"}), Action: a.keyCreate},
		{Name: "list", Usage: "list access keys", Description: examples("spindle access key list",
			"spindle access key list --account seed-lab --json"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only this account's"}},
			Action: listing[api.KeyInfo]{path: "/api/v1/keys", field: "keys", filters: []string{"account"}, row: keyRow,
				none: "There is no key.",
				columns: []column{{"KEY", false}, {"APPLICATION", false}, {"ACCOUNT", false}, {"ROLE", false}, {"REACHES", false},
					{"STATE", false}, {"EXPIRES", false}, {"USED", false}}}.action(a)},
		{Name: "show", Usage: "show an access key, by its id or name, without its secret", ArgsUsage: "KEY",
			Description: examples("spindle access key show SCANNER2", "spindle access key show SCANNER2 --json"),
			Action:      showing(a, keysPath, printed(a, a.showKey))},
		{Name: "change", Usage: "change what a key may do, or switch it off and on", ArgsUsage: "KEY",
			Description: examples("spindle access key change SCANNER2 --active off",
				"spindle access key change PRESSROOM --limit plates/2025/ --limit plates/2026/ --expires 30d"),
			Flags: append(slices.Clone(what), &cli.BoolFlag{Name: "no-limits", Usage: "remove all limits"},
				&cli.StringFlag{Name: "active", Usage: "on or off"},
				&cli.StringFlag{Name: "name", Usage: "name of the application"}),
			Action: changing(a, keysPath, keyChange, printed(a, a.showKey))},
		{Name: "replace", Usage: "replace a key; the old one keeps working for a while", ArgsUsage: "KEY",
			Description: examples("spindle access key replace SCANNER2", "spindle access key replace SCANNER2 --grace 7d"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "grace", Usage: "how `LONG` the old key keeps working, such as " +
				"24h or 7d, or 0",
				Value: "24h"}}, Action: a.keyReplace},
		{Name: "remove", Usage: "remove an access key, with its grants", ArgsUsage: "KEY",
			Description: examples("spindle access key remove SCANNER2", "spindle access key remove SCANNER2 --yes"),
			Flags:       []cli.Flag{yesFlag()}, Action: removing(a, "key", keysPath, func(k api.KeyInfo) string {
				used := "was never used"
				if k.Used != nil {
					used = "was last used " + when(*k.Used) + " from " + k.UsedFrom
				}
				return fmt.Sprintf("The key %s of %s %s. It cannot be restored; links it signed no longer work. To try first: spindle access key change %s --active off", k.ID, shown(k.Name), used, k.ID)
			})},
	}}
}

const keysPath = "/api/v1/keys/"

func (a *app) keyCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.NewKey{Name: name, Role: "reader"}
	if err := readFlags(c, &in); err != nil {
		return err
	}
	if c.IsSet("role") {
		in.Role, in.Operator = roleOf(c.String("role"))
	}
	if id := c.String("id"); id != "" {
		in.ID = id
		secret := a.Getenv("SPINDLE_NEW_SECRET")
		if secret == "" {
			if secret, err = a.askSecret(); err != nil {
				return err
			}
		}
		in.Secret = secret
	}
	var out api.KeySecret
	if err := p.call(ctx, http.MethodPost, "/api/v1/keys", nil, in, &out); err != nil {
		return err
	}
	return a.printKey(out)
}

func (a *app) printKey(x api.KeySecret) error {
	if a.json {
		return a.print(x, nil)
	}
	k := x.Key
	limits := "all buckets of " + k.Account
	if len(k.Limits) > 0 {
		limits = shown(strings.Join(k.Limits, ", "))
	}
	used := "never"
	if k.Used != nil {
		used = when(*k.Used) + " from " + k.UsedFrom
	}
	state := k.State
	if k.ReplacedBy != "" {
		state += " by " + k.ReplacedBy
	}
	facts := [][2]string{{"Key", k.ID}, {"Application", shown(k.Name)}, {"Account", k.Account}, {"Role", roleWord(k)},
		{"Reaches", limits}, {"State", state}, {"Expires", maybe(k.Expires, "never")}, {"Used", used},
		{"Created", when(k.Created) + " by " + shown(k.CreatedBy)}}
	if k.Rate > 0 {
		facts = append(facts, [2]string{"Rate", things(int64(k.Rate), "request a second", "requests a second")})
	}
	if k.Note != "" {
		facts = append(facts, [2]string{"Note", shown(k.Note)})
	}
	if x.Secret != "" {
		facts = append(facts, [2]string{"Secret", x.Secret})
	}
	if err := a.facts(facts); err != nil {
		return err
	}
	if x.Secret != "" {
		a.note("The secret is shown this once. Try the key before you hand it out: spindle access test --key %s --do read BUCKET/KEY", k.ID)
	}
	return nil
}

func (p *desk) accessKey(ctx context.Context, id string) (k api.KeyInfo, err error) {
	return k, p.call(ctx, http.MethodGet, keysPath+url.PathEscape(id), nil, nil, &k)
}

func (a *app) showKey(k api.KeyInfo) error { return a.printKey(api.KeySecret{Key: k}) }

// operatorWord stands for operating the service, which goes with administering.
const operatorWord = "operator"

// roleOf gives the role that a word stands for, and whether it operates the service.
func roleOf(word string) (role string, operates bool) {
	if word == operatorWord {
		return "administrator", true
	}
	return word, false
}

func roleWord(k api.KeyInfo) string {
	if k.Operator {
		return operatorWord
	}
	return k.Role
}

func keyRow(k api.KeyInfo) []string {
	limits := "all"
	if len(k.Limits) > 0 {
		limits = shown(strings.Join(k.Limits, ", "))
	}
	return []string{k.ID, shown(k.Name), k.Account, roleWord(k), limits, k.State, maybe(k.Expires, "never"),
		maybe(k.Used, "never")}
}

func keyChange(c *cli.Command, in *api.KeyChange) error {
	if c.IsSet("role") {
		role, operates := roleOf(c.String("role"))
		in.Role, in.Operator = &role, &operates
	}
	return nil
}

func (a *app) keyReplace(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	var out api.KeySecret
	if err := p.call(ctx, http.MethodPost, keysPath+url.PathEscape(id)+"/replace", nil,
		api.ReplaceKeyAsk{Grace: c.String("grace")}, &out); err != nil {
		return err
	}
	if err := a.printKey(out); err != nil || a.json {
		return err
	}
	old, err := p.accessKey(ctx, id)
	if err == nil {
		a.note("%s works until %s.", id, maybe(old.Expires, "it is removed"))
	}
	return err
}

// Grants.

func (a *app) grantCommand() *cli.Command {
	what := []cli.Flag{&cli.StringFlag{Name: "for", Usage: "the `PURPOSE`: " + strings.Join(access.PurposeNames(), ", ") +
		"; or rights with commas: list, read, write, remove, settings"},
		&cli.StringFlag{Name: "expires", Usage: "a `TIME`, or a time from now such as 90d"}, noteFlag("why it was given")}
	return &cli.Command{Name: "grant", Usage: "give accounts, people, keys or anyone access to buckets and " +
		"prefixes",
		Commands: []*cli.Command{
			{Name: "create", Usage: "give somebody access to a bucket or prefix", ArgsUsage: "BUCKET[/PREFIX]",
				Description: examples(
					"spindle access grant create plates --to account:guest-curators --for 'read from' --expires 90d",
					"spindle access grant create loans/open/ --to anyone --for read-from",
					"spindle access grant create germination --to key:FIELDKIT --for list,write"),
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "to",
					Usage: "account:NAME, person:NAME, key:ID, key:NAME (of another account key:ACCOUNT/NAME) or anyone"}},
					what...), Action: a.grantCreate},
			{Name: "list", Usage: "list grants: of one bucket, or all that your account gave and received",
				Description: examples("spindle access grant list", "spindle access grant list --bucket plates",
					"spindle access grant list --to account:guest-curators --json"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "bucket", Usage: "only on this bucket"},
					&cli.StringFlag{Name: "to", Usage: "only to account:NAME, person:NAME, key:ID, key:NAME or anyone"}},
				Action: listing[api.GrantInfo]{path: "/api/v1/grants", field: "grants", filters: []string{"bucket", "to"},
					row: grantRow, none: "No grant matches. Create one: spindle access grant create BUCKET --to account:NAME --for 'read from'",
					columns: []column{{"GRANT", true}, {"ON", false}, {"OF", false}, {"TO", false}, {"FOR", false}, {"EXPIRES", false},
						{"NOTE", false}}}.action(a)},
			{Name: "show", Usage: "show a grant", ArgsUsage: "NUMBER",
				Description: examples("spindle access grant show 3", "spindle access grant show 3 --json"),
				Action:      showing(a, grantsPath, printed(a, a.printGrant))},
			{Name: "change", Usage: "change what a grant allows, or when it expires", ArgsUsage: "NUMBER",
				Description: examples("spindle access grant change 3 --expires 30d",
					"spindle access grant change 3 --for 'write into'"),
				Flags: append(slices.Clone(what), &cli.IntFlag{Name: "if-revision",
					Usage: "only if it is still at this `REVISION`"}), Action: changing[api.GrantInfo, api.GrantChange](a, grantsPath,
					nil,
					printed(a, a.printGrant))},
			{Name: "remove", Usage: "remove a grant; it stops working within a second", ArgsUsage: "NUMBER",
				Description: examples("spindle access grant remove 3", "spindle access grant remove 3 --yes"),
				Flags:       []cli.Flag{yesFlag()}, Action: removing(a, "grant", grantsPath, func(g api.GrantInfo) string {
					return fmt.Sprintf("Grant %d: %s may no longer %s %s.", g.ID, shown(g.To), g.For, place(g))
				})},
		}}
}

const grantsPath = "/api/v1/grants/"

func place(g api.GrantInfo) string {
	if g.Prefix == "" {
		return g.Bucket
	}
	return g.Bucket + "/" + shown(g.Prefix)
}

func (a *app) printGrant(g api.GrantInfo) error {
	return a.print(g, func() error {
		ends := maybe(g.Expires, "never")
		if g.Expired {
			ends += ", so it gives nothing now"
		}
		facts := [][2]string{{"Grant", fmt.Sprint(g.ID)}, {"On", place(g) + ", of " + g.Account}, {"To", shown(g.To)},
			{"For", g.For}, {"Rights", strings.Join(g.Rights, ", ")}, {"Expires", ends},
			{"Created", when(g.Created) + " by " + shown(g.CreatedBy)}, {"Revision", fmt.Sprint(g.Revision)}}
		if g.Note != "" {
			facts = append(facts, [2]string{"Note", shown(g.Note)})
		}
		return a.facts(facts)
	})
}

func (a *app) grantCreate(ctx context.Context, c *cli.Command) error {
	if err := needs(c, "to"); err != nil {
		return err
	}
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	if c.String("for") == "" {
		return wrongUsage("--for says what it is for: %s", strings.Join(access.PurposeNames(), ", "))
	}
	bucket, prefix, _ := strings.Cut(address, "/")
	in := api.NewGrant{Bucket: bucket, Prefix: prefix}
	if err := readFlags(c, &in); err != nil {
		return err
	}
	var g api.GrantInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/grants", nil, in, &g); err != nil {
		return err
	}
	if err := a.printGrant(g); err != nil {
		return err
	}
	if g.To == "anyone" {
		a.note("Everybody who can reach the service may now %s %s, without a key.", g.For, place(g))
	}
	return nil
}

func grantRow(g api.GrantInfo) []string {
	ends := maybe(g.Expires, "never")
	if g.Expired {
		ends = "expired"
	}
	return []string{fmt.Sprint(g.ID), place(g), g.Account, shown(g.To), g.For, ends, shown(g.Note)}
}
