package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

const postsPath = "/api/v1/journal/posts/"

func (a *app) journalPostCommand() *cli.Command {
	return &cli.Command{Name: "post", Usage: "post changes to an address, so that other programs can act on them",
		Description: "Entries of the journal are posted as events of CloudEvents 1.0 in JSON, up to 100 at a time, in their order, each at least once. " +
			"A batch that is not answered with success is posted again, with pauses that grow, and nothing after it before. Requests are signed by " +
			"HMAC with SHA-256 (RFC 9421).",
		Commands: []*cli.Command{
			{Name: "add", Usage: "start posting changes; the signing secret is shown once",
				ArgsUsage: "NAME URL",
				Description: examples("spindle journal post add indexer https://hooks.example/changes --bucket plates --kind written --kind deleted",
					"spindle journal post add all https://hooks.example/all"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "bucket", Usage: "only changes of this `BUCKET`"},
					&cli.StringFlag{Name: "prefix", Usage: "only keys beneath this `PREFIX`"},
					&cli.StringSliceFlag{Name: "kind",
						Usage: "only entries of this `KIND`, may be repeated: written, deleted, annotated, ..."}},
				Action: a.postAdd},
			{Name: "list", Usage: "list posts, and how far behind they are",
				Description: examples("spindle journal post list", "spindle journal post list --json"),
				Action: listing[api.PostInfo]{path: "/api/v1/journal/posts", field: "posts", row: postRow,
					none: "Changes are posted nowhere: spindle journal post add NAME URL.",
					columns: []column{{"POST", false}, {"URL", false}, {"STATE", false}, {"SENT", true}, {"BEHIND", true},
						{"LAST", false}, {"PROBLEM", false}}}.action(a)},
			{Name: "try", Usage: "send a test event", ArgsUsage: "NAME",
				Description: examples("spindle journal post try indexer", "spindle journal post try indexer --json"),
				Action:      a.postTry},
			{Name: "pause", Usage: "pause a post; its place in the journal is kept, and the journal with it",
				ArgsUsage:   "NAME",
				Description: examples("spindle journal post pause indexer", "spindle journal post pause indexer --json"),
				Action:      a.postTurn(false)},
			{Name: "resume", Usage: "resume a post where it was paused", ArgsUsage: "NAME",
				Description: examples("spindle journal post resume indexer", "spindle journal post resume indexer --json"),
				Action:      a.postTurn(true)},
			{Name: "remove", Usage: "remove a post", ArgsUsage: "NAME",
				Description: examples("spindle journal post remove indexer", "spindle journal post remove indexer --yes"),
				Flags:       []cli.Flag{yesFlag()},
				Action: removing(a, "post", postsPath, func(p api.PostInfo) string {
					return fmt.Sprintf("Nothing more is posted to %s; what it has not had by now it never gets.", p.URL)
				})},
		}}
}

func postRow(p api.PostInfo) []string {
	state, last := "on", "never"
	switch {
	case !p.On:
		state = "paused"
	case p.Failed > 0:
		state = fmt.Sprintf("failed %d times", p.Failed)
	}
	if p.Posted != nil {
		last = when(*p.Posted)
	}
	return []string{p.Name, shown(p.URL), state, count(p.Sent), count(p.Behind), last, shown(p.Problem)}
}

func (a *app) postAdd(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var x api.PostInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/journal/posts", nil, api.NewPost{Name: in[0], URL: in[1],
		Bucket: c.String("bucket"), Prefix: c.String("prefix"), Kinds: c.StringSlice("kind")}, &x); err != nil {
		return err
	}
	return a.print(x, func() error {
		if err := a.facts([][2]string{{"Post", x.Name}, {"To", shown(x.URL)}, {"Secret", x.Secret}}); err != nil {
			return err
		}
		a.note("The secret is shown this once: the program there needs it to know who posts. spindle journal post try %s posts an event that tells of nothing.", x.Name)
		return nil
	})
}

func (a *app) postTry(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPost, postsPath+url.PathEscape(name)+"/try", nil, nil, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"tried": name}, func() error {
		_, err := fmt.Fprintln(a.Out, "It arrived.")
		return err
	})
}

func (a *app) postTurn(on bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		var x api.PostInfo
		if err := p.call(ctx, http.MethodPatch, postsPath+url.PathEscape(name), nil, api.PostChange{On: on},
			&x); err != nil {
			return err
		}
		return a.print(x, func() error {
			says := "paused"
			if on {
				says = "on"
			}
			_, err := fmt.Fprintf(a.Out, "The post %s is %s, %s behind.\n", name, says, things(x.Behind, "entry", "entries"))
			return err
		})
	}
}
