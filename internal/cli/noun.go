package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"
)

// listing is a command that lists what a call of the desk gives in pages.
type listing[T any] struct {
	path, field string // the call, and what its pages hold
	before      bool   // pages go backwards
	filters     []string
	asking      url.Values // what is asked beside
	columns     []column
	row         func(T) []string
	none        string        // said when there is nothing
	sum         func() string // said after the table, when there is something to say of all
}

// pages reads all pages of a call, or as many as f wants.
func pages[T any](ctx context.Context, p *desk, path, field string, before bool, q url.Values,
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
		was := next
		next = ""
		if raw := page["next"]; len(raw) > 0 && string(raw) != "null" {
			if next = string(raw); strings.HasPrefix(next, `"`) { // else a number
				if err := json.Unmarshal(raw, &next); err != nil {
					return "", foreign(http.StatusOK).Because(err)
				}
			}
		}
		if next != "" && next == was {
			return "", foreign(http.StatusOK).Because(errors.New("a page names itself as the next one"))
		}
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
		maps.Copy(q, l.asking)
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
		if err := a.table(l.columns, rows); err != nil || l.sum == nil {
			return err
		}
		a.note("%s", l.sum())
		return nil
	}
}

// showing is a command that shows the one thing that its argument names.
func showing[T any](a *app, path string, show func(context.Context, *desk, T) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		var x T
		if err := p.call(ctx, http.MethodGet, path+url.PathEscape(name), nil, nil, &x); err != nil {
			return err
		}
		return show(ctx, p, x)
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

// changing is a command that changes the one thing that its argument names; read gives what of it, and the flags when
// it is nil.
func changing[T, In any, P interface {
	*In
	revisable
}](a *app, path string, read func(*cli.Command, P) error, show func(context.Context, *desk, T) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		var in P = new(In)
		if err = readFlags(c, in); err == nil && read != nil {
			err = read(c, in)
		}
		if err == nil {
			err = someChange(c, in)
		}
		if err != nil {
			return err
		}
		var x T
		if err := p.call(ctx, http.MethodPatch, path+url.PathEscape(name), nil, in, &x); err != nil {
			return err
		}
		return show(ctx, p, x)
	}
}

func orNone(s string) string {
	if s == "none" {
		return ""
	}
	return s
}

// whereFlag narrows what a rule or a job is about to objects for which an expression holds.
func whereFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "where", Usage: "only " + what + " that match this `EXPRESSION` of find; none for all"}
}

// printed shows a thing with show, or as it is where JSON is wanted.
func printed[T any](a *app, show func(T) error) func(context.Context, *desk, T) error {
	return func(_ context.Context, _ *desk, x T) error { return a.print(x, func() error { return show(x) }) }
}

// one opens the service and gives the one argument of a command.
func (a *app) one(c *cli.Command) (*desk, string, error) {
	in, err := args(c, 1, 1)
	if err != nil {
		return nil, "", err
	}
	p, err := a.open(c)
	return p, in[0], err
}
