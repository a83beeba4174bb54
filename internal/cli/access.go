package cli

import (
	"context"
	"encoding/json"
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

// listing is a command that lists what a call of the desk gives in pages.
type listing[T any] struct {
	path, field string // the call, and what its pages hold
	before      bool   // pages go backwards
	filters     []string
	columns     []column
	row         func(T) []string
	none        string // said when there is nothing
}

// pages reads all pages of a call, or as many as f wants.
func pages[T any](ctx context.Context, p *api, path, field string, before bool, q url.Values, f func(T) (bool, error)) (next string, err error) {
	place := "after"
	if before {
		place = "before"
	}
	for {
		var page map[string]json.RawMessage
		if err := p.call(ctx, http.MethodGet, path, q, nil, &page); err != nil {
			return "", err
		}
		var list []T
		if err := json.Unmarshal(page[field], &list); err != nil {
			return "", foreign(http.StatusOK).Because(err)
		}
		next = strings.Trim(string(page["next"]), `"`)
		for _, x := range list {
			if more, err := f(x); err != nil || !more {
				return next, err
			}
		}
		if next == "" {
			return "", nil
		}
		q.Set(place, next)
	}
}

func (l listing[T]) action(a *app) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if _, err := args(c, 0, 0); err != nil {
			return err
		}
		p, err := a.open(c)
		if err != nil {
			return err
		}
		q := url.Values{"limit": {"1000"}}
		for _, f := range l.filters {
			q.Set(f, c.String(f))
		}
		var rows [][]string
		_, err = pages(ctx, p, l.path, l.field, l.before, q, func(x T) (bool, error) {
			if a.json {
				return true, a.print(x, nil)
			}
			rows = append(rows, l.row(x))
			return true, nil
		})
		if err != nil || a.json {
			return err
		}
		if len(rows) == 0 {
			a.note("%s", l.none)
			return nil
		}
		return a.table(l.columns, rows)
	}
}

// showing is a command that shows the one thing that its argument names.
func showing[T any](a *app, path string, show func(T) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		var x T
		if err := p.call(ctx, http.MethodGet, path+url.PathEscape(name), nil, nil, &x); err != nil {
			return err
		}
		return a.print(x, func() error { return show(x) })
	}
}

// removing is a command that removes the one thing that its argument names, once
// the question of what goes was answered.
func removing[T any](a *app, what, path string, asks func(T) string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		var x T
		if err := p.call(ctx, http.MethodGet, path+url.PathEscape(name), nil, nil, &x); err != nil {
			return err
		}
		if err := a.confirm(c, asks(x), name); err != nil {
			return err
		}
		if err := p.call(ctx, http.MethodDelete, path+url.PathEscape(name), nil, nil, nil); err != nil {
			return err
		}
		return a.print(map[string]string{"removed": name}, func() error {
			_, err := fmt.Fprintf(a.Out, "Removed %s %s.\n", what, name)
			return err
		})
	}
}

// changing is a command that changes the one thing that its argument names; read
// gives what of it.
func changing[T any](a *app, path string, read func(*cli.Command, map[string]any) error, show func(T) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		in := map[string]any{}
		if err := read(c, in); err != nil {
			return err
		}
		if len(in) == 0 {
			return wrongUsage("nothing to change was given; see spindle %s --help", strings.TrimPrefix(c.FullName(), "spindle "))
		}
		var x T
		if err := p.call(ctx, http.MethodPatch, path+url.PathEscape(name), nil, in, &x); err != nil {
			return err
		}
		return a.print(x, func() error { return show(x) })
	}
}

// texts takes those of the flags that are given as they are.
func texts(c *cli.Command, in map[string]any, names ...string) {
	for _, n := range names {
		if c.IsSet(n) {
			in[n] = c.String(n)
		}
	}
	if in["expires"] == "never" {
		in["expires"] = ""
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
		{Name: "list", Usage: "list accounts with what they hold", Description: examples("spindle access account list", "spindle access account list --json"), Action: listing[desk.AccountInfo]{path: "/api/v1/accounts", field: "accounts", row: accountRow, none: "There is no account that you see.",
			columns: []column{{"ACCOUNT", false}, {"BUCKETS", true}, {"SIZE", true}, {"QUOTA", false}, {"KEYS", true}, {"PEOPLE", true}, {"NOTE", false}}}.action(a)},
		{Name: "show", Usage: "show an account", ArgsUsage: "NAME", Description: examples("spindle access account show seed-lab", "spindle access account show seed-lab --json"), Action: showing(a, accountPath, a.printAccount)},
		{Name: "change", Usage: "change an account's quotas and note", ArgsUsage: "NAME", Description: examples("spindle access account change seed-lab --quota 3TiB", "spindle access account change seed-lab --max-buckets none"), Flags: limits, Action: a.accountSet(http.MethodPatch)},
		{Name: "remove", Usage: "remove an account without buckets, with its keys and grants", ArgsUsage: "NAME", Description: examples("spindle access account remove guest-curators", "spindle access account remove guest-curators --yes"), Flags: []cli.Flag{yesFlag()}, Action: removing(a, "account", accountPath, func(x desk.AccountInfo) string {
			return fmt.Sprintf("The account %s goes with %s and the roles of %s; nothing they signed works any more.", x.Name, things(int64(x.Keys), "key", "keys"), things(int64(x.People), "person", "people"))
		})},
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

const accountPath = "/api/v1/accounts/"

func accountRow(x desk.AccountInfo) []string {
	operates := ""
	if x.Operator {
		operates = "operates the service"
	}
	return []string{x.Name, limitText(x.MaxBuckets, x.Buckets), size(x.Bytes), bytesOf(x.Quota, x.Bytes), count(int64(x.Keys)), count(int64(x.People)), strings.TrimSpace(operates + " " + shown(x.Note))}
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

// People.

func (a *app) personCommand() *cli.Command {
	role := func(usage string) cli.Flag { return &cli.StringSliceFlag{Name: "role", Usage: usage} }
	return &cli.Command{Name: "person", Usage: "people who sign in, with their roles in accounts", Commands: []*cli.Command{
		{Name: "create", Usage: "let somebody sign in; the password is made, shown once, and changed at the first sign-in", ArgsUsage: "NAME",
			Description: examples("spindle access person create 'Tam Ellery' --role herbarium:administrator", "spindle access person create 'Ines Varga' --role seed-lab:administrator --role herbarium:reader"),
			Flags:       []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; roles: reader, writer, administrator"), &cli.BoolFlag{Name: "operator", Usage: "operates the service"}, noteFlag("who this is")}, Action: a.personCreate},
		{Name: "list", Usage: "list people", Description: examples("spindle access person list", "spindle access person list --account seed-lab --json"), Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only those with a role in this account"}}, Action: listing[desk.PersonInfo]{path: "/api/v1/people", field: "people", filters: []string{"account"}, none: "Nobody signs in with a name yet. Let somebody: spindle access person create NAME --role ACCOUNT:ROLE",
			columns: []column{{"PERSON", false}, {"ROLES", false}, {"STATE", false}, {"SIGNED IN", false}, {"NOTE", false}},
			row: func(x desk.PersonInfo) []string {
				return []string{shown(x.Name), roleText(x), personState(x), maybe(x.SignedIn, "never"), shown(x.Note)}
			}}.action(a)},
		{Name: "show", Usage: "show a person", ArgsUsage: "NAME", Description: examples("spindle access person show 'Tam Ellery'", "spindle access person show 'Tam Ellery' --json"), Action: showing(a, peoplePath, a.showPerson)},
		{Name: "change", Usage: "change a person's roles, or whether they may sign in", ArgsUsage: "NAME", Description: examples("spindle access person change 'Ines Varga' --role herbarium:none", "spindle access person change 'Tam Ellery' --active off", "spindle access person change 'Tam Ellery' --unlock"),
			Flags: []cli.Flag{role("`ACCOUNT:ROLE`, may be repeated; none takes the role away"), &cli.StringFlag{Name: "operator", Usage: "on or off: operates the service"}, &cli.StringFlag{Name: "active", Usage: "on or off: may sign in"}, &cli.BoolFlag{Name: "unlock", Usage: "forget failed attempts"}, noteFlag("who this is")}, Action: changing(a, peoplePath, personChange, a.showPerson)},
		{Name: "reset", Usage: "give a person a new password, shown once; with --data from the machine itself, without a key", ArgsUsage: "NAME",
			Description: "With --data it needs no key: it works on the data directory, whether the service runs or not.\n\n" + examples("spindle access person reset 'Tam Ellery'", "spindle access person reset 'Oda Brandvold' --data /srv/spindle"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "the service's data `DIR`, on this machine"}, &cli.StringFlag{Name: "database", Usage: "`URL` of its PostgreSQL, when it is not the private one"},
				&cli.BoolFlag{Name: "operator", Usage: "with --data: make them an operator, and create them when they are missing"}}, Action: a.personReset},
		{Name: "remove", Usage: "remove a person, with sessions and grants", ArgsUsage: "NAME", Description: examples("spindle access person remove 'Ines Varga'", "spindle access person remove 'Ines Varga' --yes"), Flags: []cli.Flag{yesFlag()}, Action: removing(a, "person", peoplePath, func(x desk.PersonInfo) string {
			return fmt.Sprintf("%s (%s) signs in no more; what was granted to them goes too.", shown(x.Name), roleText(x))
		})},
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

const peoplePath = "/api/v1/people/"

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

func (a *app) showPerson(x desk.PersonInfo) error { return a.printPerson(x, "") }

func personChange(c *cli.Command, in map[string]any) error {
	texts(c, in, "note")
	if c.Bool("unlock") {
		in["unlock"] = true
	}
	r, err := roles(c)
	if len(r) > 0 {
		in["roles"] = r
	}
	return errors.Join(err, onOff(c, "operator", in), onOff(c, "active", in))
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
		if err := p.call(ctx, http.MethodPost, peoplePath+url.PathEscape(in[0])+"/reset", nil, map[string]any{}, &out); err != nil {
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

// Keys.

func (a *app) keyCommand() *cli.Command {
	what := []cli.Flag{&cli.StringFlag{Name: "role", Usage: "reader, writer or administrator", DefaultText: "reader"}, &cli.StringSliceFlag{Name: "limit", Usage: "only `BUCKET[/PREFIX]`, may be repeated"},
		&cli.StringFlag{Name: "expires", Usage: "a `TIME`, or a time from now such as 90d; never otherwise"}, &cli.IntFlag{Name: "rate", Usage: "most requests a second; 0 for any number"}, noteFlag("what it is for")}
	return &cli.Command{Name: "key", Usage: "access keys, one for each application", Commands: []*cli.Command{
		{Name: "create", Usage: "create an access key; it reads only, unless more is asked for", ArgsUsage: "NAME", Description: "NAME is the application's. The secret is shown this once.\n\n" + examples("spindle access key create press-room --limit plates/2025/", "spindle access key create scanner-2 --role writer --limit plates --expires 365d --note 'flatbed in room 2'"),
			Flags: append(slices.Clone(what), &cli.StringFlag{Name: "account", Usage: "the account; one's own otherwise"}, &cli.StringFlag{Name: "id", Usage: "bring an `ID` along; its secret is asked for, or read from SPINDLE_NEW_SECRET"}), Action: a.keyCreate},
		{Name: "list", Usage: "list access keys", Description: examples("spindle access key list", "spindle access key list --account seed-lab --json"), Flags: []cli.Flag{&cli.StringFlag{Name: "account", Usage: "only this account's"}}, Action: listing[desk.KeyInfo]{path: "/api/v1/keys", field: "keys", filters: []string{"account"}, row: keyRow, none: "There is no key.",
			columns: []column{{"KEY", false}, {"APPLICATION", false}, {"ACCOUNT", false}, {"ROLE", false}, {"REACHES", false}, {"STATE", false}, {"EXPIRES", false}, {"USED", false}}}.action(a)},
		{Name: "show", Usage: "show an access key, without its secret", ArgsUsage: "ID", Description: examples("spindle access key show SCANNER2", "spindle access key show SCANNER2 --json"), Action: showing(a, keysPath, a.showKey)},
		{Name: "change", Usage: "change what a key may do, or switch it off and on", ArgsUsage: "ID", Description: examples("spindle access key change SCANNER2 --active off", "spindle access key change PRESSROOM --limit plates/2025/ --limit plates/2026/ --expires 30d"),
			Flags: append(slices.Clone(what), &cli.BoolFlag{Name: "no-limits", Usage: "take all limits away"}, &cli.StringFlag{Name: "active", Usage: "on or off"}, &cli.StringFlag{Name: "name", Usage: "the application's name"}), Action: changing(a, keysPath, keyChange, a.showKey)},
		{Name: "replace", Usage: "make a new key in place of one, which works on for a while", ArgsUsage: "ID", Description: examples("spindle access key replace SCANNER2", "spindle access key replace SCANNER2 --grace 7d"), Flags: []cli.Flag{&cli.StringFlag{Name: "grace", Usage: "how `LONG` the old one works, such as 24h or 7d, or 0", Value: "24h"}}, Action: a.keyReplace},
		{Name: "remove", Usage: "remove an access key, with its grants", ArgsUsage: "ID", Description: examples("spindle access key remove SCANNER2", "spindle access key remove SCANNER2 --yes"), Flags: []cli.Flag{yesFlag()}, Action: removing(a, "key", keysPath, func(k desk.KeyInfo) string {
			used := "was never used"
			if k.Used != nil {
				used = "was last used " + when(*k.Used) + " from " + k.UsedFrom
			}
			return fmt.Sprintf("The key %s of %s %s. It cannot be brought back; links it signed work no more. To try first: spindle access key change %s --active off", k.ID, shown(k.Name), used, k.ID)
		})},
	}}
}

const keysPath = "/api/v1/keys/"

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

func (p *api) accessKey(ctx context.Context, id string) (k desk.KeyInfo, err error) {
	return k, p.call(ctx, http.MethodGet, keysPath+url.PathEscape(id), nil, nil, &k)
}

func (a *app) showKey(k desk.KeyInfo) error { return a.printKey(desk.KeySecret{Key: k}) }

func keyRow(k desk.KeyInfo) []string {
	limits := "all"
	if len(k.Limits) > 0 {
		limits = shown(strings.Join(k.Limits, ", "))
	}
	return []string{k.ID, shown(k.Name), k.Account, k.Role, limits, k.State, maybe(k.Expires, "never"), maybe(k.Used, "never")}
}

func keyChange(c *cli.Command, in map[string]any) error {
	texts(c, in, "name", "role", "expires", "note")
	if c.IsSet("rate") {
		in["rate"] = c.Int("rate")
	}
	switch {
	case c.IsSet("limit"):
		in["limits"] = c.StringSlice("limit")
	case c.Bool("no-limits"):
		in["limits"] = []string{}
	}
	return onOff(c, "active", in)
}

func (a *app) keyReplace(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	var out desk.KeySecret
	if err := p.call(ctx, http.MethodPost, keysPath+url.PathEscape(id)+"/replace", nil, map[string]any{"grace": c.String("grace")}, &out); err != nil {
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
	what := []cli.Flag{&cli.StringFlag{Name: "for", Usage: "the `PURPOSE`: " + strings.Join(access.PurposeNames(), ", ") + "; or rights with commas: list, read, write, remove, settings"}, &cli.StringFlag{Name: "expires", Usage: "a `TIME`, or a time from now such as 90d"}, noteFlag("why it was given")}
	return &cli.Command{Name: "grant", Usage: "open buckets and prefixes to accounts, people, keys, or anyone", Commands: []*cli.Command{
		{Name: "create", Usage: "open a bucket or prefix to somebody", ArgsUsage: "BUCKET[/PREFIX]", Description: examples("spindle access grant create plates --to account:guest-curators --for 'read from' --expires 90d", "spindle access grant create loans/open/ --to anyone --for read-from", "spindle access grant create germination --to key:FIELDKIT --for list,write"),
			Flags: append([]cli.Flag{&cli.StringFlag{Name: "to", Usage: "account:NAME, person:NAME, key:ID or anyone", Required: true}}, what...), Action: a.grantCreate},
		{Name: "list", Usage: "list grants: of one bucket, or those one's account gave and got", Description: examples("spindle access grant list", "spindle access grant list --bucket plates", "spindle access grant list --to account:guest-curators --json"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "bucket", Usage: "only on this bucket"}, &cli.StringFlag{Name: "to", Usage: "only to account:NAME, person:NAME, key:ID or anyone"}}, Action: listing[desk.GrantInfo]{path: "/api/v1/grants", field: "grants", filters: []string{"bucket", "to"}, row: grantRow, none: "No grant is like that. Give one: spindle access grant create BUCKET --to account:NAME --for 'read from'",
				columns: []column{{"GRANT", true}, {"ON", false}, {"OF", false}, {"TO", false}, {"FOR", false}, {"EXPIRES", false}, {"NOTE", false}}}.action(a)},
		{Name: "show", Usage: "show a grant", ArgsUsage: "NUMBER", Description: examples("spindle access grant show 3", "spindle access grant show 3 --json"), Action: showing(a, grantsPath, a.printGrant)},
		{Name: "change", Usage: "change what a grant gives, or until when", ArgsUsage: "NUMBER", Description: examples("spindle access grant change 3 --expires 30d", "spindle access grant change 3 --for 'write into'"), Flags: append(slices.Clone(what), &cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}), Action: changing(a, grantsPath, grantChange, a.printGrant)},
		{Name: "remove", Usage: "take a grant away; it stops working within a second", ArgsUsage: "NUMBER", Description: examples("spindle access grant remove 3", "spindle access grant remove 3 --yes"), Flags: []cli.Flag{yesFlag()}, Action: removing(a, "grant", grantsPath, func(g desk.GrantInfo) string {
			return fmt.Sprintf("Grant %d: %s may no longer %s %s.", g.ID, shown(g.To), g.For, place(g))
		})},
	}}
}

const grantsPath = "/api/v1/grants/"

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

func grantRow(g desk.GrantInfo) []string {
	ends := maybe(g.Expires, "never")
	if g.Expired {
		ends = "expired"
	}
	return []string{fmt.Sprint(g.ID), place(g), g.Account, shown(g.To), g.For, ends, shown(g.Note)}
}

func grantChange(c *cli.Command, in map[string]any) error {
	if texts(c, in, "for", "expires", "note"); len(in) > 0 && c.Int("if-revision") > 0 {
		in["ifRevision"] = c.Int("if-revision")
	}
	return nil
}

// Sessions, the trail, and answers to why.

func (a *app) sessionCommand() *cli.Command {
	return &cli.Command{Name: "session", Usage: "who is signed in at the console", Commands: []*cli.Command{
		{Name: "list", Usage: "list sessions, latest first", Description: examples("spindle access session list", "spindle access session list --json"), Action: listing[desk.SessionEntry]{path: "/api/v1/sessions", field: "sessions", before: true, none: "Nobody is signed in.",
			columns: []column{{"SESSION", true}, {"WHO", false}, {"ACCOUNT", false}, {"SINCE", false}, {"SEEN", false}, {"FROM", false}, {"PROGRAM", false}},
			row: func(s desk.SessionEntry) []string {
				return []string{fmt.Sprint(s.ID), shown(s.Who), s.Account, when(s.Created), when(s.Seen), s.Source, shown(s.Program)}
			}}.action(a)},
		{Name: "end", Usage: "end a session", ArgsUsage: "NUMBER", Description: examples("spindle access session end 12", "spindle access session end 12 --json"), Action: a.sessionEnd},
	}}
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
	q.Set("limit", fmt.Sprint(min(1000, limit+1)))
	var last int64
	more := false
	n := 0
	_, err = pages(ctx, p, "/api/v1/trail", "entries", true, q, func(e desk.TrailLine) (bool, error) {
		if more = n == limit; more {
			return false, nil
		}
		n++
		last = e.ID
		if a.json {
			return true, a.print(e, nil)
		}
		rows = append(rows, []string{e.At.Local().Format("2006-01-02 15:04:05"), e.Kind, shown(e.Who), shown(e.Subject), shown(e.Says)})
		return true, nil
	})
	if err != nil || a.json {
		return err
	}
	if err := a.table([]column{{"WHEN", false}, {"WHAT", false}, {"BY", false}, {"TO", false}, {"", false}}, rows); err != nil {
		return err
	}
	if more {
		a.note("%s shown; older ones follow: --before %d", count(int64(n)), last)
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
	_, err = pages(ctx, p, "/api/v1/access/matrix", "buckets", false, url.Values{"account": {c.String("account")}}, func(b desk.ReachOf) (bool, error) {
		if a.json {
			return true, a.print(b, nil)
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
		more = more || b.More
		return true, nil
	})
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
