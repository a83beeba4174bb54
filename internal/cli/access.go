package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/desk"
)

func noteFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "note", Usage: what}
}

func (a *app) accessCommand() *cli.Command {
	return &cli.Command{Name: "access", Usage: "accounts, people, keys and grants: who may do what, and why",
		Commands: []*cli.Command{
			a.accountCommand(), a.personCommand(), a.keyCommand(), a.grantCommand(), a.sessionCommand(),
			{Name: "trail", Usage: "list the audit trail, latest first: sign-ins, changes of access and settings, refusals",
				Description: examples("spindle access trail --since 24h",
					"spindle access trail --kind refused --who FIELDKIT --json"),
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "kind", Usage: "only this `KIND`, may be repeated: " +
					strings.Join(desk.TrailKinds, ", ")}, &cli.StringFlag{Name: "who", Usage: "only what this person or key did"},
					&cli.StringFlag{Name: "subject", Usage: "only what was done to what begins with `TEXT`, such as a bucket"},
					&cli.StringFlag{Name: "account", Usage: "only the affairs of this account"},
					&cli.StringFlag{Name: "since", Usage: "not before `TIME`, such as 2026-11-20, or 36h ago"},
					&cli.StringFlag{Name: "until", Usage: "before `TIME`"},
					&cli.IntFlag{Name: "before", Usage: "go on from this entry's `NUMBER`"},
					&cli.IntFlag{Name: "limit", Usage: "most entries", Value: 50}},
				Action: a.trail},
			{Name: "explain", Usage: "say whether somebody may do something, by what, and what would change it",
				ArgsUsage: "BUCKET[/KEY]",
				Description: examples("spindle access explain --key FIELDKIT --do read plates/2025/moorland/",
					"spindle access explain --person 'Ines Varga' --do settings germination",
					"spindle access explain --anyone --do read loans/open/list.txt"),
				Flags: []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "about the access key with this `ID`"},
					&cli.StringFlag{Name: "person", Usage: "about the person of this `NAME`"},
					&cli.BoolFlag{Name: "anyone", Usage: "about unsigned requests"},
					&cli.StringFlag{Name: "account", Usage: "that the person acts in, when in several"}},
				Action: a.explainAccess},
			{Name: "test", Usage: "make a real request as a key, which changes nothing", ArgsUsage: "BUCKET[/KEY]",
				Description: examples("spindle access test --key SCANNER2 --do write plates/2025/x.tif",
					"spindle access test --key FIELDKIT --do list plates/"),
				Flags:  []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "the access key's `ID`"}},
				Action: a.testAccess},
			{Name: "matrix", Usage: "who reaches which bucket of an account",
				Description: examples("spindle access matrix", "spindle access matrix --account seed-lab --json"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "account", Usage: "the account; one's own otherwise"}}, Action: a.matrix},
			{Name: "master-key", Usage: "the key that seals all secrets", Commands: []*cli.Command{
				{Name: "show", Usage: "show which master key is in force, without the key",
					Description: examples("spindle access master-key show", "spindle access master-key show --json"),
					Action:      a.masterKey(http.MethodGet, "")},
				{Name: "rotate", Usage: "make a new master key and seal all secrets under it",
					Description: "Stored bodies are not rewritten. Back the new key up: the file master.key in the data directory.\n\n" + examples("spindle access master-key rotate", "spindle access master-key rotate --json"), Action: a.masterKey(http.MethodPost, "/rotate")},
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
func pages[T any](ctx context.Context, p *api, path, field string, before bool, q url.Values,
	f func(T) (bool, error)) (next string, err error) {
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
func changing[T any](a *app, path string, read func(*cli.Command, map[string]any) error,
	show func(T) error) cli.ActionFunc {
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
			return wrongUsage("nothing to change was given").see(c)
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
