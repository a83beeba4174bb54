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
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

func (a *app) sessionCommand() *cli.Command {
	return &cli.Command{Name: "session", Usage: "who is signed in at the console", Commands: []*cli.Command{
		{Name: "list", Usage: "list sessions, latest first",
			Description: examples("spindle access session list", "spindle access session list --json"),
			Action: listing[api.SessionEntry]{path: "/api/v1/sessions", field: "sessions", before: true,
				none: "Nobody is signed in.",
				columns: []column{{"SESSION", true}, {"WHO", false}, {"ACCOUNT", false}, {"SINCE", false}, {"SEEN", false},
					{"FROM", false}, {"PROGRAM", false}},
				row: func(s api.SessionEntry) []string {
					return []string{fmt.Sprint(s.ID), shown(s.Who), s.Account, when(s.Created), when(s.Seen), s.Source,
						shown(s.Program)}
				}}.action(a)},
		{Name: "end", Usage: "end a session", ArgsUsage: "NUMBER",
			Description: examples("spindle access session end 12", "spindle access session end 12 --json"),
			Action:      a.sessionEnd},
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
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	q := url.Values{"kind": c.StringSlice("kind"), "who": {c.String("who")}, "subject": {c.String("subject")},
		"account": {c.String("account")}}
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
	q.Set("limit", fmt.Sprint(min(999, limit)+1))
	var last int64
	more := false
	n := 0
	_, err = pages(ctx, p, "/api/v1/trail", "entries", true, q, func(e api.TrailLine) (bool, error) {
		if more = n == limit; more {
			return false, nil
		}
		n++
		last = e.ID
		if a.json {
			return true, a.print(e, nil)
		}
		rows = append(rows, []string{e.At.Local().Format("2006-01-02 15:04:05"), e.Kind, shown(e.Who), shown(e.Subject),
			shown(e.Says)})
		return true, nil
	})
	if err != nil || a.json {
		return err
	}
	if err := a.table([]column{{"WHEN", false}, {"WHAT", false}, {"BY", false}, {"TO", false}, {"", false}},
		rows); err != nil {
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
	in := api.ExplainIn{Do: c.String("do"), Account: c.String("account")}
	in.Bucket, in.Key, _ = strings.Cut(address, "/")
	given := 0
	for flag, subject := range map[string]string{"key": "key:" + c.String("key"), "person": "person:" + c.String("person"),
		"anyone": "anyone"} {
		if c.IsSet(flag) {
			in.Subject = subject
			given++
		}
	}
	if given > 1 {
		return wrongUsage("name one: --key, --person or --anyone")
	}
	var e api.Explanation
	if err := p.call(ctx, http.MethodPost, "/api/v1/access/explain", nil, in, &e); err != nil {
		return err
	}
	return a.print(e, func() error {
		word := "allowed"
		if !e.Allowed {
			word = "refused"
		}
		facts := [][2]string{{"Answer", word}, {"Who", shown(e.Subject)},
			{"Would", deed(e.Do, shown(e.Target)) + ", of " + e.Owner}, {"Because", shown(e.Why)}}
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
	if err := needs(c, "key"); err != nil {
		return err
	}
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	bucket, key, _ := strings.Cut(address, "/")
	var t client.Trial
	if err := p.call(ctx, http.MethodPost, "/api/v1/access/test", nil,
		api.TestAccessAsk{Key: c.String("key"), Do: c.String("do"), Bucket: bucket, ObjectKey: key}, &t); err != nil {
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
	_, err = pages(ctx, p, "/api/v1/access/matrix", "buckets", false, url.Values{"account": {c.String("account")}},
		func(b api.ReachOf) (bool, error) {
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
	if err := a.table([]column{{"BUCKET", false}, {"WHO", false}, {"MAY, IN ALL OF IT", false},
		{"FURTHER, IN PARTS OF IT", false}}, rows); err != nil {
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
		var m api.MasterInfo
		if err := p.call(ctx, method, "/api/v1/master-key"+rest, nil, nil, &m); err != nil {
			return err
		}
		if err := a.print(m, func() error {
			return a.facts([][2]string{{"Fingerprint", m.Fingerprint},
				{"Kept in", map[string]string{"file": "master.key in the data directory",
					"environment": "SPINDLE_MASTER_KEY"}[m.From]}, {"Seals", things(int64(m.Sealed), "secret", "secrets")},
				{"Keys in force", fmt.Sprint(m.Keys)}})
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
func sharedText(list []api.SharedWith) string {
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

// deed puts a right into words.
func deed(do, of string) string {
	r, err := access.ParseRight(do)
	if err != nil { // of a service that has other ones
		return shown(do) + " " + of
	}
	return r.Deed(of)
}
