package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/object"
)

func (a *app) journalCommand() *cli.Command {
	filters := []cli.Flag{
		&cli.StringFlag{Name: "prefix", Usage: "only keys beneath `PREFIX`"},
		&cli.StringSliceFlag{Name: "kind",
			Usage: "only this `KIND`, may be repeated: written, deleted, restored, annotated, renamed, ..."},
		&cli.StringFlag{Name: "who", Usage: "only changes by this access `KEY`"},
	}
	saved := &cli.StringFlag{Name: "saved", Usage: "use the saved filter `NAME`, with the other flags"}
	commands := []*cli.Command{
		{Name: "list", Usage: "list changes, latest first", ArgsUsage: "[BUCKET]",
			Description: examples("spindle journal list plates --limit 20",
				"spindle journal list loans --kind deleted --kind 'renamed away' --since 7d",
				"spindle journal list --who scanner-2 --json",
				"spindle journal list plates --since 2026-11-01 --until 2026-12-01 --limit 0 --csv"),
			Flags: append(slices.Clone(filters), saved, &cli.StringFlag{Name: "since",
				Usage: "not before `TIME`, such as 2026-11-20, or 36h ago"}, &cli.StringFlag{Name: "until", Usage: "before `TIME`"},
				&cli.StringFlag{Name: "before", Usage: "continue from this `POSITION`"},
				&cli.BoolFlag{Name: "csv", Usage: "as CSV (RFC 4180)"},
				&cli.IntFlag{Name: "limit", Usage: "maximum number of entries; 0 for all", Value: 50}),
			Action: a.journalList},
		a.journalPostCommand(),
		{Name: "follow", Usage: "print changes as they happen, in order, without gaps", ArgsUsage: "[BUCKET]",
			Description: "Entries come in the order of the journal, each once. To continue where you left off, " +
				"give the position of the last one with --after.\n\n" + examples("spindle journal follow plates",
				"spindle journal follow --kind deleted --json", "spindle journal follow --after 0.0 --once --json"),
			Flags: append(slices.Clone(filters), saved, &cli.StringFlag{Name: "since",
				Usage: "begin at this `TIME`, such as 2026-11-20, or 36h ago"},
				&cli.StringFlag{Name: "after",
					Usage: "begin after this `POSITION`; 0.0 is the beginning of the journal, and now is the default"},
				&cli.BoolFlag{Name: "once", Usage: "exit when there is nothing more"}),
			Action: a.journalFollow},
	}
	commands = append(commands, a.journalKeepCommands()...)
	return &cli.Command{Name: "journal", Usage: "read and follow what changed, in order",
		Commands: append(commands, a.journalSavedCommands(filters)...)}
}

func (p *desk) journal(ctx context.Context, q url.Values) (page api.JournalPage, err error) {
	return page, p.call(ctx, http.MethodGet, "/api/v1/journal", q, nil, &page)
}

// journalPlace reads the bucket and the prefix that a command names, of which either may be
// missing.
func journalPlace(c *cli.Command, in []string) (bucket, prefix string, err error) {
	if prefix = c.String("prefix"); len(in) == 0 {
		return "", prefix, nil
	}
	bucket, beneath, err := split(in[0])
	if beneath != "" && prefix != "" {
		return "", "", wrongUsage("the prefix is given twice")
	}
	return bucket, prefix + beneath, err
}

// journalQuery reads the filters of a command, and those that are kept under the name it
// says.
func (a *app) journalQuery(ctx context.Context, c *cli.Command) (*desk, url.Values, error) {
	in, err := args(c, 0, 1)
	if err != nil {
		return nil, nil, err
	}
	bucket, prefix, err := journalPlace(c, in)
	if err != nil {
		return nil, nil, err
	}
	q := url.Values{"bucket": {bucket}, "prefix": {prefix}, "who": {c.String("who")}, "kind": c.StringSlice("kind")}
	for _, name := range []string{"since", "until"} {
		if s := c.String(name); s != "" {
			t, err := object.ParseMoment(s, time.Now())
			if err != nil {
				return nil, nil, err
			}
			q.Set(name, t.Format(time.RFC3339Nano))
		}
	}
	p, err := a.open(c)
	if err == nil && c.IsSet("saved") {
		err = p.savedFilter(ctx, c.String("saved"), q)
	}
	return p, q, err
}

func (a *app) journalList(ctx context.Context, c *cli.Command) error {
	p, q, err := a.journalQuery(ctx, c)
	if err != nil {
		return err
	}
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	var rows, plain [][]string
	q.Set("before", c.String("before"))
	n := 0
	var page api.JournalPage
	for {
		q.Set("limit", fmt.Sprint(min(1000, limit-n)))
		if page, err = p.journal(ctx, q); err != nil {
			return err
		}
		for _, e := range page.Entries {
			n++
			if a.json {
				if err := a.print(e, nil); err != nil {
					return err
				}
				continue
			}
			rows, plain = append(rows, journalRow(e)), append(plain, []string{e.Position, e.At.UTC().Format(time.RFC3339Nano),
				e.Kind, e.Bucket, e.Key,
				fmt.Sprint(e.Size), e.Who, e.Source, e.Says})
		}
		if page.Next == "" || n >= limit {
			break
		}
		q.Set("before", page.Next)
	}
	if a.json {
		return nil
	}
	if c.Bool("csv") {
		return a.journalCSV(plain)
	}
	if err := a.table([]column{{"WHEN", false}, {"WHAT", false}, {"SIZE", true}, {"BY", false}, {"KEY", false},
		{"", false}}, rows); err != nil {
		return err
	}
	complete := page.CompleteUpTo.Local().Format("15:04:05")
	if page.Next != "" {
		a.note("%s shown, complete up to %s; older ones follow: --before %s", count(int64(n)), complete, page.Next)
	} else {
		a.note("%s, complete up to %s", things(int64(n), "entry", "entries"), complete)
	}
	return nil
}

func journalRow(e api.JournalLine) []string {
	bytes := size(e.Size)
	if e.Key == "" {
		bytes = ""
	}
	key := e.Bucket
	if e.Key != "" {
		key += "/" + e.Key
	}
	return []string{e.At.Local().Format("2006-01-02 15:04:05"), e.Kind, bytes, e.Who, shown(key), shown(e.Says)}
}

func (a *app) journalFollow(ctx context.Context, c *cli.Command) error {
	p, q, err := a.journalQuery(ctx, c)
	if err != nil {
		return err
	}
	at := c.String("after")
	if at == "" && c.String("since") != "" {
		at = "0.0"
	}
	if at == "" {
		at = "0.0"
		page, err := p.journal(ctx, url.Values{"limit": {"1"}})
		if err != nil {
			return err
		}
		if len(page.Entries) > 0 {
			at = page.Entries[0].Position
		}
	}
	q.Set("limit", "1000")
	if !a.json {
		a.note("Following from %s; stop with Ctrl-C.", at)
	}
	for ctx.Err() == nil {
		q.Set("after", at)
		page, err := p.journal(ctx, q)
		if ctx.Err() != nil {
			break
		}
		if err != nil {
			a.note("To go on from here: --after %s", at)
			return err
		}
		if err := a.followed(page.Entries); err != nil {
			return err
		}
		if page.Next != "" && page.Next != at {
			at = page.Next
			continue
		}
		if c.Bool("once") {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
	if !a.json {
		a.note("To go on from here: --after %s", at)
	}
	return nil
}

// followed shows entries as they come.
func (a *app) followed(list []api.JournalLine) error {
	for _, e := range list {
		if a.json {
			if err := a.print(e, nil); err != nil {
				return err
			}
			continue
		}
		r := journalRow(e)
		if _, err := fmt.Fprintf(a.Out, "%s  %-14s %10s  %-14s %s  %s\n", r[0], r[1], r[2], r[3], r[4], r[5]); err != nil {
			return err
		}
	}
	return nil
}

// journalCSV writes entries for programs.
func (a *app) journalCSV(rows [][]string) error {
	w := csv.NewWriter(a.Out)
	w.UseCRLF = true // RFC 4180
	if err := w.WriteAll(append([][]string{{"position", "at", "kind", "bucket", "key", "size", "who", "source", "says"}},
		rows...)); err != nil {
		return err
	}
	return w.Error()
}
