package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/desk"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

func noteFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "note", Usage: what}
}

func (a *app) accessCommand() *cli.Command {
	return &cli.Command{Name: "access", Usage: "accounts, people, keys and grants: who may do what, and why", Commands: []*cli.Command{
		a.accountCommand(), a.personCommand(), a.keyCommand(), a.grantCommand(), a.sessionCommand(),
		{Name: "trail", Usage: "list the audit trail, latest first: sign-ins, changes of access and settings, refusals",
			Description: examples("spindle access trail --since 24h", "spindle access trail --kind refused --who FIELDKIT --json"),
			Flags: []cli.Flag{&cli.StringSliceFlag{Name: "kind", Usage: "only this `KIND`, may be repeated: " + strings.Join(desk.TrailKinds, ", ")}, &cli.StringFlag{Name: "who", Usage: "only what this person or key did"},
				&cli.StringFlag{Name: "subject", Usage: "only what was done to what begins with `TEXT`, such as a bucket"}, &cli.StringFlag{Name: "account", Usage: "only the affairs of this account"},
				&cli.StringFlag{Name: "since", Usage: "not before `TIME`, such as 2026-11-20, or 36h ago"}, &cli.StringFlag{Name: "until", Usage: "before `TIME`"},
				&cli.IntFlag{Name: "before", Usage: "go on from this entry's `NUMBER`"}, &cli.IntFlag{Name: "limit", Usage: "most entries", Value: 50}},
			Action: a.trail},
		{Name: "explain", Usage: "say whether somebody may do something, by what, and what would change it", ArgsUsage: "BUCKET[/KEY]",
			Description: examples("spindle access explain --key FIELDKIT --do read plates/2025/moorland/", "spindle access explain --person 'Ines Varga' --do settings germination", "spindle access explain --anyone --do read loans/open/list.txt"),
			Flags: []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "about the access key with this `ID`"}, &cli.StringFlag{Name: "person", Usage: "about the person of this `NAME`"}, &cli.BoolFlag{Name: "anyone", Usage: "about unsigned requests"},
				&cli.StringFlag{Name: "account", Usage: "that the person acts in, when in several"}},
			Action: a.explainAccess},
		{Name: "test", Usage: "make a real request as a key, which changes nothing", ArgsUsage: "BUCKET[/KEY]",
			Description: examples("spindle access test --key SCANNER2 --do write plates/2025/x.tif", "spindle access test --key FIELDKIT --do list plates/"),
			Flags:       []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "the access key's `ID`", Required: true}},
			Action:      a.testAccess},
		{Name: "matrix", Usage: "who reaches which bucket of an account", Description: examples("spindle access matrix", "spindle access matrix --account seed-lab --json"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "the account; one's own otherwise"}}, Action: a.matrix},
		{Name: "master-key", Usage: "the key that seals all secrets", Commands: []*cli.Command{
			{Name: "show", Usage: "show which master key is in force, without the key", Description: examples("spindle access master-key show", "spindle access master-key show --json"), Action: a.masterKey(http.MethodGet, "")},
			{Name: "rotate", Usage: "make a new master key and seal all secrets under it", Description: "Stored bodies are not rewritten. Back the new key up: the file master.key in the data directory.\n\n" + examples("spindle access master-key rotate", "spindle access master-key rotate --json"), Action: a.masterKey(http.MethodPost, "/rotate")},
		}},
	}}
}

func doFlag() cli.Flag {
	return &cli.StringFlag{Name: "do", Usage: "list, read, write, remove or settings", Value: "read"}
}

// each page of a list of the desk is given to f, which gives what names the next.
func (p *api) pages(ctx context.Context, path string, q url.Values, f func(call func(out any) error) (next string, err error), after string) error {
	for {
		next, err := f(func(out any) error { return p.call(ctx, http.MethodGet, path, q, nil, out) })
		if err != nil || next == "" || next == "0" {
			return err
		}
		q.Set(after, next)
	}
}

// one opens the service and gives the one argument of a command.
func (a *app) one(c *cli.Command) (*api, string, error) { return a.oneBucket(c) }

func orDash(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func maybe(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return when(*t)
}

// Accounts.

func (a *app) accountCommand() *cli.Command {
	limits := []cli.Flag{&cli.StringFlag{Name: "quota", Usage: "most bytes of all its buckets, such as `2TiB`, or none"}, &cli.StringFlag{Name: "max-buckets", Usage: "how many buckets it may have, or none"}, noteFlag("what the account is for")}
	return &cli.Command{Name: "account", Usage: "accounts own buckets, keys and quotas", Commands: []*cli.Command{
		{Name: "create", Usage: "create an account", ArgsUsage: "NAME", Description: examples("spindle access account create seed-lab --quota 2TiB", "spindle access account create guest-curators --max-buckets 3 --note 'visitors of 2026'"), Flags: limits, Action: a.accountSet(http.MethodPost)},
		{Name: "list", Usage: "list accounts with what they hold", Description: examples("spindle access account list", "spindle access account list --json"), Action: a.accountList},
		{Name: "show", Usage: "show an account", ArgsUsage: "NAME", Description: examples("spindle access account show seed-lab", "spindle access account show seed-lab --json"), Action: a.accountShow},
		{Name: "change", Usage: "change an account's quotas and note", ArgsUsage: "NAME", Description: examples("spindle access account change seed-lab --quota 3TiB", "spindle access account change seed-lab --max-buckets none"), Flags: limits, Action: a.accountSet(http.MethodPatch)},
		{Name: "remove", Usage: "remove an account without buckets, with its keys and grants", ArgsUsage: "NAME", Description: examples("spindle access account remove guest-curators", "spindle access account remove guest-curators --yes"), Flags: []cli.Flag{yesFlag()}, Action: a.accountRemove},
	}}
}

func (a *app) accountSet(method string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		in := map[string]any{}
		path := "/api/v1/accounts"
		if method == http.MethodPost {
			in["name"] = name
		} else {
			path += "/" + url.PathEscape(name)
		}
		if c.IsSet("quota") {
			q, err := parseSize("quota", c.String("quota"))
			if err != nil {
				return err
			}
			in["quota"] = q
		}
		if c.IsSet("max-buckets") {
			var n *int
			if s := c.String("max-buckets"); s != "none" {
				n = new(int)
				if _, err := fmt.Sscanf(s, "%d", n); err != nil {
					return wrongUsage("--max-buckets is a number or none, not %q", s)
				}
			}
			in["maxBuckets"] = n
		}
		if c.IsSet("note") {
			in["note"] = c.String("note")
		}
		if method == http.MethodPatch && len(in) == 0 {
			return wrongUsage("nothing to change was given; see spindle access account change --help")
		}
		if method == http.MethodPost { // absent and null are the same there
			for k, v := range in {
				if q, ok := v.(*int64); ok && q == nil {
					delete(in, k)
				}
				if n, ok := v.(*int); ok && n == nil {
					delete(in, k)
				}
			}
		}
		var out desk.AccountInfo
		if err := p.call(ctx, method, path, nil, in, &out); err != nil {
			return err
		}
		return a.printAccount(out)
	}
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

func (a *app) printAccount(x desk.AccountInfo) error {
	return a.print(x, func() error {
		what := "tenant"
		if x.Operator {
			what = "operates the service"
		}
		facts := [][2]string{{"Account", x.Name}, {"What", what}, {"Buckets", limitText(x.MaxBuckets, x.Buckets)}, {"Size", size(x.Bytes)}, {"Quota", bytesOf(x.Quota, x.Bytes)}, {"Keys", count(int64(x.Keys))}, {"People", count(int64(x.People))}, {"Created", when(x.Created)}}
		if x.Note != "" {
			facts = append(facts, [2]string{"Note", shown(x.Note)})
		}
		return a.facts(facts)
	})
}

func (a *app) accountList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	err = p.pages(ctx, "/api/v1/accounts", url.Values{"limit": {"1000"}}, func(call func(any) error) (string, error) {
		var page struct {
			Accounts []desk.AccountInfo
			Next     string
		}
		err := call(&page)
		for _, x := range page.Accounts {
			if a.json {
				err = errors.Join(err, a.print(x, nil))
			}
			operates := ""
			if x.Operator {
				operates = "operates the service"
			}
			rows = append(rows, []string{x.Name, limitText(x.MaxBuckets, x.Buckets), size(x.Bytes), bytesOf(x.Quota, x.Bytes), count(int64(x.Keys)), count(int64(x.People)), strings.TrimSpace(operates + " " + shown(x.Note))})
		}
		return page.Next, err
	}, "after")
	if err != nil || a.json {
		return err
	}
	return a.table([]column{{"ACCOUNT", false}, {"BUCKETS", true}, {"SIZE", true}, {"QUOTA", false}, {"KEYS", true}, {"PEOPLE", true}, {"NOTE", false}}, rows)
}

func (a *app) accountShow(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var out desk.AccountInfo
	if err := p.call(ctx, http.MethodGet, "/api/v1/accounts/"+url.PathEscape(name), nil, nil, &out); err != nil {
		return err
	}
	return a.printAccount(out)
}

func (a *app) accountRemove(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	path := "/api/v1/accounts/" + url.PathEscape(name)
	var x desk.AccountInfo
	if err := p.call(ctx, http.MethodGet, path, nil, nil, &x); err != nil {
		return err
	}
	if err := a.confirm(c, fmt.Sprintf("The account %s goes with %s and the roles of %s; nothing they signed works any more.", name, things(int64(x.Keys), "key", "keys"), things(int64(x.People), "person", "people")), name); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, path, nil, nil, nil); err != nil {
		return err
	}
	return a.gone("account", name)
}

// gone says that something was removed.
func (a *app) gone(what, name string) error {
	return a.print(map[string]string{"removed": name}, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s %s.\n", what, name)
		return err
	})
}

// People.

func (a *app) personCommand() *cli.Command {
	role := func(usage string) cli.Flag { return &cli.StringSliceFlag{Name: "role", Usage: usage} }
	return &cli.Command{Name: "person", Usage: "people who sign in, with their roles in accounts", Commands: []*cli.Command{
		{Name: "create", Usage: "let somebody sign in; the password is made, shown once, and changed at the first sign-in", ArgsUsage: "NAME",
			Description: examples("spindle access person create 'Tam Ellery' --role herbarium:administrator", "spindle access person create 'Ines Varga' --role seed-lab:administrator --role herbarium:reader"),
			Flags:       []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; roles: reader, writer, administrator"), &cli.BoolFlag{Name: "operator", Usage: "operates the service"}, noteFlag("who this is")}, Action: a.personCreate},
		{Name: "list", Usage: "list people", Description: examples("spindle access person list", "spindle access person list --account seed-lab --json"), Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only those with a role in this account"}}, Action: a.personList},
		{Name: "show", Usage: "show a person", ArgsUsage: "NAME", Description: examples("spindle access person show 'Tam Ellery'", "spindle access person show 'Tam Ellery' --json"), Action: a.personShow},
		{Name: "change", Usage: "change a person's roles, or whether they may sign in", ArgsUsage: "NAME", Description: examples("spindle access person change 'Ines Varga' --role herbarium:none", "spindle access person change 'Tam Ellery' --active off", "spindle access person change 'Tam Ellery' --unlock"),
			Flags: []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; none takes the role away"), &cli.StringFlag{Name: "operator", Usage: "on or off: operates the service"}, &cli.StringFlag{Name: "active", Usage: "on or off: may sign in"}, &cli.BoolFlag{Name: "unlock", Usage: "forget failed attempts"}, noteFlag("who this is")}, Action: a.personChange},
		{Name: "reset", Usage: "give a person a new password, shown once; with --data from the machine itself, without a key", ArgsUsage: "NAME",
			Description: "With --data it needs no key: it works on the data directory, whether the service runs or not.\n\n" + examples("spindle access person reset 'Tam Ellery'", "spindle access person reset 'Oda Brandvold' --data /srv/spindle"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "the service's data `DIR`, on this machine"}, &cli.StringFlag{Name: "database", Usage: "`URL` of its PostgreSQL, when it is not the private one"},
				&cli.BoolFlag{Name: "operator", Usage: "with --data: make them an operator, and create them when they are missing"}}, Action: a.personReset},
		{Name: "remove", Usage: "remove a person, with sessions and grants", ArgsUsage: "NAME", Description: examples("spindle access person remove 'Ines Varga'", "spindle access person remove 'Ines Varga' --yes"), Flags: []cli.Flag{yesFlag()}, Action: a.personRemove},
	}}
}

func roles(c *cli.Command) ([]desk.RoleIn, error) {
	var out []desk.RoleIn
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
		out = append(out, desk.RoleIn{Account: account, Role: role})
	}
	return out, nil
}

func personPath(name, rest string) string { return "/api/v1/people/" + url.PathEscape(name) + rest }

func (a *app) personCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := map[string]any{"name": name, "operator": c.Bool("operator"), "note": c.String("note")}
	if in["roles"], err = roles(c); err != nil {
		return err
	}
	var out desk.PersonSecret
	if err := p.call(ctx, http.MethodPost, "/api/v1/people", nil, in, &out); err != nil {
		return err
	}
	return a.printPerson(out.Person, out.Password)
}

func roleText(p desk.PersonInfo) string {
	var out []string
	if p.Operator {
		out = append(out, "operator of the service")
	}
	for _, r := range p.Roles {
		out = append(out, r.Role+" in "+r.Account)
	}
	return strings.Join(out, ", ")
}

func personState(p desk.PersonInfo) string {
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

func (a *app) printPerson(x desk.PersonInfo, password string) error {
	if a.json {
		return a.print(desk.PersonSecret{Person: x, Password: password}, nil)
	}
	facts := [][2]string{{"Person", shown(x.Name)}, {"Roles", roleText(x)}, {"State", personState(x)}, {"Signed in", maybe(x.SignedIn, "never")}, {"Created", when(x.Created) + " by " + shown(x.CreatedBy)}}
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

func (a *app) personList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	err = p.pages(ctx, "/api/v1/people", url.Values{"limit": {"1000"}, "account": {c.String("account")}}, func(call func(any) error) (string, error) {
		var page struct {
			People []desk.PersonInfo
			Next   string
		}
		err := call(&page)
		for _, x := range page.People {
			if a.json {
				err = errors.Join(err, a.print(x, nil))
			}
			rows = append(rows, []string{shown(x.Name), roleText(x), personState(x), maybe(x.SignedIn, "never"), shown(x.Note)})
		}
		return page.Next, err
	}, "after")
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("Nobody signs in with a name yet. Let somebody: spindle access person create NAME --role ACCOUNT:ROLE")
		return nil
	}
	return a.table([]column{{"PERSON", false}, {"ROLES", false}, {"STATE", false}, {"SIGNED IN", false}, {"NOTE", false}}, rows)
}

func (p *api) person(ctx context.Context, name string) (x desk.PersonInfo, err error) {
	return x, p.call(ctx, http.MethodGet, personPath(name, ""), nil, nil, &x)
}

func (a *app) personShow(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	x, err := p.person(ctx, name)
	if err != nil {
		return err
	}
	return a.print(x, func() error { return a.printPerson(x, "") })
}

// onOff reads a flag that is on or off.
func onOff(c *cli.Command, name string, in map[string]any) error {
	if !c.IsSet(name) {
		return nil
	}
	switch s := c.String(name); s {
	case "on", "off":
		in[name] = s == "on"
		return nil
	default:
		return wrongUsage("--%s is on or off, not %q", name, s)
	}
}

func (a *app) personChange(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := map[string]any{}
	for _, n := range []string{"operator", "active"} {
		if err := onOff(c, n, in); err != nil {
			return err
		}
	}
	if c.Bool("unlock") {
		in["unlock"] = true
	}
	if c.IsSet("note") {
		in["note"] = c.String("note")
	}
	if r, err := roles(c); err != nil {
		return err
	} else if len(r) > 0 {
		in["roles"] = r
	}
	if len(in) == 0 {
		return wrongUsage("nothing to change was given; see spindle access person change --help")
	}
	var x desk.PersonInfo
	if err := p.call(ctx, http.MethodPatch, personPath(name, ""), nil, in, &x); err != nil {
		return err
	}
	return a.print(x, func() error { return a.printPerson(x, "") })
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
		var out desk.PersonSecret
		if err := p.call(ctx, http.MethodPost, personPath(in[0], "/reset"), nil, map[string]any{}, &out); err != nil {
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
		a.note("The password is shown this once, and is changed at the first sign-in. All sessions of %s have ended.", shown(in[0]))
		return a.facts([][2]string{{"Person", shown(in[0])}, {"Password", password}})
	})
}

func (a *app) personRemove(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	x, err := p.person(ctx, name)
	if err != nil {
		return err
	}
	if err := a.confirm(c, fmt.Sprintf("%s (%s) signs in no more; what was granted to them goes too.", shown(x.Name), roleText(x)), name); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, personPath(name, ""), nil, nil, nil); err != nil {
		return err
	}
	return a.gone("person", name)
}

// Keys.

func (a *app) keyCommand() *cli.Command {
	what := []cli.Flag{&cli.StringFlag{Name: "role", Usage: "reader, writer or administrator", DefaultText: "reader"}, &cli.StringSliceFlag{Name: "limit", Usage: "only `BUCKET[/PREFIX]`, may be repeated"},
		&cli.StringFlag{Name: "expires", Usage: "a `TIME`, or a time from now such as 90d; never otherwise"}, &cli.IntFlag{Name: "rate", Usage: "most requests a second; 0 for any number"}, noteFlag("what it is for")}
	return &cli.Command{Name: "key", Usage: "access keys, one for each application", Commands: []*cli.Command{
		{Name: "create", Usage: "create an access key; it reads only, unless more is asked for", ArgsUsage: "NAME", Description: "NAME is the application's. The secret is shown this once.\n\n" + examples("spindle access key create press-room --limit plates/2025/", "spindle access key create scanner-2 --role writer --limit plates --expires 365d --note 'flatbed in room 2'"),
			Flags: append(slices.Clone(what), &cli.StringFlag{Name: "account", Usage: "the account; one's own otherwise"}, &cli.StringFlag{Name: "id", Usage: "bring an `ID` along; its secret is asked for, or read from SPINDLE_NEW_SECRET"}), Action: a.keyCreate},
		{Name: "list", Usage: "list access keys", Description: examples("spindle access key list", "spindle access key list --account seed-lab --json"), Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only this account's"}}, Action: a.keyList},
		{Name: "show", Usage: "show an access key, without its secret", ArgsUsage: "ID", Description: examples("spindle access key show SCANNER2", "spindle access key show SCANNER2 --json"), Action: a.keyShow},
		{Name: "change", Usage: "change what a key may do, or switch it off and on", ArgsUsage: "ID", Description: examples("spindle access key change SCANNER2 --active off", "spindle access key change PRESSROOM --limit plates/2025/ --limit plates/2026/ --expires 30d"),
			Flags: append(slices.Clone(what), &cli.BoolFlag{Name: "no-limits", Usage: "take all limits away"}, &cli.StringFlag{Name: "active", Usage: "on or off"}, &cli.StringFlag{Name: "name", Usage: "the application's name"}), Action: a.keyChange},
		{Name: "replace", Usage: "make a new key in place of one, which works on for a while", ArgsUsage: "ID", Description: examples("spindle access key replace SCANNER2", "spindle access key replace SCANNER2 --grace 7d"), Flags: []cli.Flag{&cli.StringFlag{Name: "grace", Usage: "how `LONG` the old one works, such as 24h or 7d, or 0", Value: "24h"}}, Action: a.keyReplace},
		{Name: "remove", Usage: "remove an access key, with its grants", ArgsUsage: "ID", Description: examples("spindle access key remove SCANNER2", "spindle access key remove SCANNER2 --yes"), Flags: []cli.Flag{yesFlag()}, Action: a.keyRemove},
	}}
}

func keyPath(id, rest string) string { return "/api/v1/keys/" + url.PathEscape(id) + rest }

func (a *app) keyCreate(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := map[string]any{"name": name, "account": c.String("account"), "limits": c.StringSlice("limit"), "expires": c.String("expires"), "rate": c.Int("rate"), "note": c.String("note"), "role": "reader"}
	if c.IsSet("role") {
		in["role"] = c.String("role")
	}
	if id := c.String("id"); id != "" {
		in["id"] = id
		secret := a.Getenv("SPINDLE_NEW_SECRET")
		if secret == "" {
			if secret, err = a.askSecret(); err != nil {
				return err
			}
		}
		in["secret"] = secret
	}
	var out desk.KeySecret
	if err := p.call(ctx, http.MethodPost, "/api/v1/keys", nil, in, &out); err != nil {
		return err
	}
	return a.printKey(out)
}

func (a *app) printKey(x desk.KeySecret) error {
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
	facts := [][2]string{{"Key", k.ID}, {"Application", shown(k.Name)}, {"Account", k.Account}, {"Role", k.Role}, {"Reaches", limits}, {"State", state}, {"Expires", maybe(k.Expires, "never")}, {"Used", used}, {"Created", when(k.Created) + " by " + shown(k.CreatedBy)}}
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

func (a *app) keyList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	err = p.pages(ctx, "/api/v1/keys", url.Values{"limit": {"1000"}, "account": {c.String("account")}}, func(call func(any) error) (string, error) {
		var page struct {
			Keys []desk.KeyInfo
			Next string
		}
		err := call(&page)
		for _, k := range page.Keys {
			if a.json {
				err = errors.Join(err, a.print(k, nil))
			}
			limits := "all"
			if len(k.Limits) > 0 {
				limits = shown(strings.Join(k.Limits, ", "))
			}
			rows = append(rows, []string{k.ID, shown(k.Name), k.Account, k.Role, limits, k.State, maybe(k.Expires, "never"), maybe(k.Used, "never")})
		}
		return page.Next, err
	}, "after")
	if err != nil || a.json {
		return err
	}
	return a.table([]column{{"KEY", false}, {"APPLICATION", false}, {"ACCOUNT", false}, {"ROLE", false}, {"REACHES", false}, {"STATE", false}, {"EXPIRES", false}, {"USED", false}}, rows)
}

func (p *api) accessKey(ctx context.Context, id string) (k desk.KeyInfo, err error) {
	return k, p.call(ctx, http.MethodGet, keyPath(id, ""), nil, nil, &k)
}

func (a *app) keyShow(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	k, err := p.accessKey(ctx, id)
	if err != nil {
		return err
	}
	return a.print(k, func() error { return a.printKey(desk.KeySecret{Key: k}) })
}

func (a *app) keyChange(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	in := map[string]any{}
	for _, n := range []string{"name", "role", "expires", "note"} {
		if c.IsSet(n) {
			in[n] = c.String(n)
		}
	}
	if in["expires"] == "never" {
		in["expires"] = ""
	}
	if c.IsSet("rate") {
		in["rate"] = c.Int("rate")
	}
	switch {
	case c.IsSet("limit"):
		in["limits"] = c.StringSlice("limit")
	case c.Bool("no-limits"):
		in["limits"] = []string{}
	}
	if err := onOff(c, "active", in); err != nil {
		return err
	}
	if len(in) == 0 {
		return wrongUsage("nothing to change was given; see spindle access key change --help")
	}
	var k desk.KeyInfo
	if err := p.call(ctx, http.MethodPatch, keyPath(id, ""), nil, in, &k); err != nil {
		return err
	}
	return a.print(k, func() error { return a.printKey(desk.KeySecret{Key: k}) })
}

func (a *app) keyReplace(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	var out desk.KeySecret
	if err := p.call(ctx, http.MethodPost, keyPath(id, "/replace"), nil, map[string]any{"grace": c.String("grace")}, &out); err != nil {
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

func (a *app) keyRemove(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	k, err := p.accessKey(ctx, id)
	if err != nil {
		return err
	}
	used := "was never used"
	if k.Used != nil {
		used = "was last used " + when(*k.Used) + " from " + k.UsedFrom
	}
	if err := a.confirm(c, fmt.Sprintf("The key %s of %s %s. It cannot be brought back; links it signed work no more. To try first: spindle access key change %s --active off", id, shown(k.Name), used, id), id); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, keyPath(id, ""), nil, nil, nil); err != nil {
		return err
	}
	return a.gone("key", id)
}

// Grants.

func (a *app) grantCommand() *cli.Command {
	what := []cli.Flag{&cli.StringFlag{Name: "for", Usage: "the `PURPOSE`: " + strings.Join(access.PurposeNames(), ", ") + "; or rights with commas: list, read, write, remove, settings"}, &cli.StringFlag{Name: "expires", Usage: "a `TIME`, or a time from now such as 90d"}, noteFlag("why it was given")}
	return &cli.Command{Name: "grant", Usage: "open buckets and prefixes to accounts, people, keys, or anyone", Commands: []*cli.Command{
		{Name: "create", Usage: "open a bucket or prefix to somebody", ArgsUsage: "BUCKET[/PREFIX]", Description: examples("spindle access grant create plates --to account:guest-curators --for 'read from' --expires 90d", "spindle access grant create loans/open/ --to anyone --for read-from", "spindle access grant create germination --to key:FIELDKIT --for list,write"),
			Flags: append([]cli.Flag{&cli.StringFlag{Name: "to", Usage: "account:NAME, person:NAME, key:ID or anyone", Required: true}}, what...), Action: a.grantCreate},
		{Name: "list", Usage: "list grants: of one bucket, or those one's account gave and got", Description: examples("spindle access grant list", "spindle access grant list --bucket plates", "spindle access grant list --to account:guest-curators --json"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "bucket", Usage: "only on this bucket"}, &cli.StringFlag{Name: "to", Usage: "only to account:NAME, person:NAME, key:ID or anyone"}}, Action: a.grantList},
		{Name: "show", Usage: "show a grant", ArgsUsage: "NUMBER", Description: examples("spindle access grant show 3", "spindle access grant show 3 --json"), Action: a.grantShow},
		{Name: "change", Usage: "change what a grant gives, or until when", ArgsUsage: "NUMBER", Description: examples("spindle access grant change 3 --expires 30d", "spindle access grant change 3 --for 'write into'"), Flags: append(slices.Clone(what), &cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}), Action: a.grantChange},
		{Name: "remove", Usage: "take a grant away; it stops working within a second", ArgsUsage: "NUMBER", Description: examples("spindle access grant remove 3", "spindle access grant remove 3 --yes"), Flags: []cli.Flag{yesFlag()}, Action: a.grantRemove},
	}}
}

func grantPath(id string) string { return "/api/v1/grants/" + url.PathEscape(id) }

func place(g desk.GrantInfo) string {
	if g.Prefix == "" {
		return g.Bucket
	}
	return g.Bucket + "/" + shown(g.Prefix)
}

func (a *app) printGrant(g desk.GrantInfo) error {
	return a.print(g, func() error {
		ends := maybe(g.Expires, "never")
		if g.Expired {
			ends += ", so it gives nothing now"
		}
		facts := [][2]string{{"Grant", fmt.Sprint(g.ID)}, {"On", place(g) + ", of " + g.Account}, {"To", shown(g.To)}, {"For", g.For}, {"Rights", strings.Join(g.Rights, ", ")}, {"Expires", ends}, {"Created", when(g.Created) + " by " + shown(g.CreatedBy)}, {"Revision", fmt.Sprint(g.Revision)}}
		if g.Note != "" {
			facts = append(facts, [2]string{"Note", shown(g.Note)})
		}
		return a.facts(facts)
	})
}

func (a *app) grantCreate(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	if c.String("for") == "" {
		return wrongUsage("--for says what it is for: %s", strings.Join(access.PurposeNames(), ", "))
	}
	bucket, prefix, _ := strings.Cut(address, "/")
	in := map[string]any{"bucket": bucket, "prefix": prefix, "to": c.String("to"), "for": c.String("for"), "expires": c.String("expires"), "note": c.String("note")}
	var g desk.GrantInfo
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

func (a *app) grantList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	err = p.pages(ctx, "/api/v1/grants", url.Values{"limit": {"1000"}, "bucket": {c.String("bucket")}, "to": {c.String("to")}}, func(call func(any) error) (string, error) {
		var page struct {
			Grants []desk.GrantInfo
			Next   int64
		}
		err := call(&page)
		for _, g := range page.Grants {
			if a.json {
				err = errors.Join(err, a.print(g, nil))
			}
			ends := maybe(g.Expires, "never")
			if g.Expired {
				ends = "expired"
			}
			rows = append(rows, []string{fmt.Sprint(g.ID), place(g), g.Account, shown(g.To), g.For, ends, shown(g.Note)})
		}
		return fmt.Sprint(page.Next), err
	}, "after")
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("No grant is like that. Give one: spindle access grant create BUCKET --to account:NAME --for 'read from'")
		return nil
	}
	return a.table([]column{{"GRANT", true}, {"ON", false}, {"OF", false}, {"TO", false}, {"FOR", false}, {"EXPIRES", false}, {"NOTE", false}}, rows)
}

func (a *app) grantShow(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	var g desk.GrantInfo
	if err := p.call(ctx, http.MethodGet, grantPath(id), nil, nil, &g); err != nil {
		return err
	}
	return a.printGrant(g)
}

func (a *app) grantChange(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	in := map[string]any{}
	for _, n := range []string{"for", "expires", "note"} {
		if c.IsSet(n) {
			in[n] = c.String(n)
		}
	}
	if in["expires"] == "never" {
		in["expires"] = ""
	}
	if len(in) == 0 {
		return wrongUsage("nothing to change was given; see spindle access grant change --help")
	}
	if n := c.Int("if-revision"); n > 0 {
		in["ifRevision"] = n
	}
	var g desk.GrantInfo
	if err := p.call(ctx, http.MethodPatch, grantPath(id), nil, in, &g); err != nil {
		return err
	}
	return a.printGrant(g)
}

func (a *app) grantRemove(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	var g desk.GrantInfo
	if err := p.call(ctx, http.MethodGet, grantPath(id), nil, nil, &g); err != nil {
		return err
	}
	if err := a.confirm(c, fmt.Sprintf("Grant %s: %s may no longer %s %s.", id, shown(g.To), g.For, place(g)), id); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, grantPath(id), nil, nil, nil); err != nil {
		return err
	}
	return a.gone("grant", id)
}

// Sessions, the trail, and answers to why.

func (a *app) sessionCommand() *cli.Command {
	return &cli.Command{Name: "session", Usage: "who is signed in at the console", Commands: []*cli.Command{
		{Name: "list", Usage: "list sessions, latest first", Description: examples("spindle access session list", "spindle access session list --json"), Action: a.sessionList},
		{Name: "end", Usage: "end a session", ArgsUsage: "NUMBER", Description: examples("spindle access session end 12", "spindle access session end 12 --json"), Action: a.sessionEnd},
	}}
}

func (a *app) sessionList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	err = p.pages(ctx, "/api/v1/sessions", url.Values{"limit": {"1000"}}, func(call func(any) error) (string, error) {
		var page struct {
			Sessions []desk.SessionEntry
			Next     int64
		}
		err := call(&page)
		for _, s := range page.Sessions {
			if a.json {
				err = errors.Join(err, a.print(s, nil))
			}
			rows = append(rows, []string{fmt.Sprint(s.ID), shown(s.Who), s.Account, when(s.Created), when(s.Seen), s.Source, shown(s.Program)})
		}
		return fmt.Sprint(page.Next), err
	}, "before")
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("Nobody is signed in.")
		return nil
	}
	return a.table([]column{{"SESSION", true}, {"WHO", false}, {"ACCOUNT", false}, {"SINCE", false}, {"SEEN", false}, {"FROM", false}, {"PROGRAM", false}}, rows)
}

func (a *app) sessionEnd(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, "/api/v1/sessions/"+url.PathEscape(id), nil, nil, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"ended": id}, func() error {
		_, err := fmt.Fprintf(a.Out, "Ended session %s.\n", id)
		return err
	})
}

func (a *app) trail(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	limit := c.Int("limit")
	if limit < 1 {
		return wrongUsage("--limit is at least 1")
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	q := url.Values{"kind": c.StringSlice("kind"), "who": {c.String("who")}, "subject": {c.String("subject")}, "account": {c.String("account")}}
	for _, name := range []string{"since", "until"} {
		if s := c.String(name); s != "" {
			t, err := object.ParseMoment(s, time.Now())
			if err != nil {
				return err
			}
			q.Set(name, t.Format(time.RFC3339Nano))
		}
	}
	if n := c.Int("before"); n > 0 {
		q.Set("before", fmt.Sprint(n))
	}
	var rows [][]string
	var next int64
	n := 0
	err = p.pages(ctx, "/api/v1/trail", q, func(call func(any) error) (string, error) {
		q.Set("limit", fmt.Sprint(min(1000, limit-n)))
		var page struct {
			Entries []desk.TrailLine
			Next    int64
		}
		err := call(&page)
		for _, e := range page.Entries {
			n++
			if a.json {
				err = errors.Join(err, a.print(e, nil))
			}
			rows = append(rows, []string{e.At.Local().Format("2006-01-02 15:04:05"), e.Kind, shown(e.Who), shown(e.Subject), shown(e.Says)})
		}
		if next = page.Next; n >= limit {
			return "", err
		}
		return fmt.Sprint(page.Next), err
	}, "before")
	if err != nil || a.json {
		return err
	}
	if err := a.table([]column{{"WHEN", false}, {"WHAT", false}, {"BY", false}, {"TO", false}, {"", false}}, rows); err != nil {
		return err
	}
	if next > 0 {
		a.note("%s shown; older ones follow: --before %d", count(int64(n)), next)
	} else {
		a.note("%s", things(int64(n), "entry", "entries"))
	}
	return nil
}

func (a *app) explainAccess(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	in := desk.ExplainIn{Do: c.String("do"), Account: c.String("account")}
	in.Bucket, in.Key, _ = strings.Cut(address, "/")
	given := 0
	for flag, subject := range map[string]string{"key": "key:" + c.String("key"), "person": "person:" + c.String("person"), "anyone": "anyone"} {
		if c.IsSet(flag) {
			in.Subject = subject
			given++
		}
	}
	if given > 1 {
		return wrongUsage("name one: --key, --person or --anyone")
	}
	var e desk.Explanation
	if err := p.call(ctx, http.MethodPost, "/api/v1/access/explain", nil, in, &e); err != nil {
		return err
	}
	return a.print(e, func() error {
		word := "allowed"
		if !e.Allowed {
			word = "refused"
		}
		facts := [][2]string{{"Answer", word}, {"Who", shown(e.Subject)}, {"Would", e.Do + " " + shown(e.Target) + ", of " + e.Owner}, {"Because", shown(e.Why)}}
		if e.Grant > 0 {
			facts = append(facts, [2]string{"Grant", fmt.Sprint(e.Grant)})
		}
		if e.Remedy != "" {
			facts = append(facts, [2]string{"To change it", shown(e.Remedy)})
		}
		return a.facts(facts)
	})
}

func (a *app) testAccess(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	bucket, key, _ := strings.Cut(address, "/")
	var t client.Trial
	if err := p.call(ctx, http.MethodPost, "/api/v1/access/test", nil, map[string]any{"key": c.String("key"), "do": c.String("do"), "bucket": bucket, "objectKey": key}, &t); err != nil {
		return err
	}
	if err := a.print(t, func() error {
		word := "allowed"
		if !t.Allowed {
			word = "refused"
		}
		facts := [][2]string{{"Answer", word}, {"Request", shown(t.Request)}, {"Status", fmt.Sprint(t.Status)}}
		if t.Says != "" {
			facts = append(facts, [2]string{"Says", shown(t.Says)})
		}
		return a.facts(facts)
	}); err != nil {
		return err
	}
	if !t.Allowed {
		return exitOnly(ExitRefused)
	}
	return nil
}

func (a *app) matrix(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	more := false
	err = p.pages(ctx, "/api/v1/access/matrix", url.Values{"account": {c.String("account")}}, func(call func(any) error) (string, error) {
		var page struct {
			Buckets []desk.ReachOf
			Next    string
			More    bool
		}
		err := call(&page)
		more = more || page.More
		for _, b := range page.Buckets {
			if a.json {
				err = errors.Join(err, a.print(b, nil))
				continue
			}
			for _, r := range b.Reach {
				if len(r.Rights)+len(r.Some) == 0 {
					continue
				}
				name := r.Who
				if r.Name != "" {
					name += " (" + r.Name + ")"
				}
				rows = append(rows, []string{b.Bucket, shown(name), strings.Join(r.Rights, ", "), strings.Join(r.Some, ", ")})
			}
		}
		return page.Next, err
	}, "after")
	if err != nil || a.json {
		return err
	}
	if err := a.table([]column{{"BUCKET", false}, {"WHO", false}, {"MAY, IN ALL OF IT", false}, {"FURTHER, IN PARTS OF IT", false}}, rows); err != nil {
		return err
	}
	if more {
		a.note("There are more than 200 keys or people; the rest is not shown. Ask about one: spindle access explain")
	}
	return nil
}

func (a *app) masterKey(method, rest string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if _, err := args(c, 0, 0); err != nil {
			return err
		}
		p, err := a.open(c)
		if err != nil {
			return err
		}
		var m desk.MasterInfo
		if err := p.call(ctx, method, "/api/v1/master-key"+rest, nil, nil, &m); err != nil {
			return err
		}
		if err := a.print(m, func() error {
			return a.facts([][2]string{{"Fingerprint", m.Fingerprint}, {"Kept in", map[string]string{"file": "master.key in the data directory", "environment": "SPINDLE_MASTER_KEY"}[m.From]}, {"Seals", things(int64(m.Sealed), "secret", "secrets")}, {"Keys in force", fmt.Sprint(m.Keys)}})
		}); err != nil {
			return err
		}
		if method == http.MethodPost {
			a.note("Back the new master key up now, apart from the database: without it no secret and no sealed body can be opened.")
		}
		return nil
	}
}

// sharedText says to whom a bucket is open.
func sharedText(list []desk.SharedWith) string {
	var out []string
	for _, s := range list {
		t := shown(s.To) + " may " + s.For
		if s.Prefix != "" {
			t += " " + shown(s.Prefix)
		}
		out = append(out, t)
	}
	return orDash(strings.Join(out, "; "))
}
