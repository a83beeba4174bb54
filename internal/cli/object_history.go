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
)

func (a *app) objectHistory(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	limit := c.Int("limit")
	if limit < 1 {
		return wrongUsage("--limit is at least 1")
	}
	all, more, err := p.history(ctx, bucket, key, c.Bool("follow-renames"), limit)
	if err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	var rows [][]string
	for _, e := range all {
		if a.json {
			if err := a.print(e, nil); err != nil {
				return err
			}
			continue
		}
		row := historyRow(e, bucket, key)
		if c.Bool("follow-renames") {
			row = append(row, shown(near(e.Bucket+"/"+e.Key, bucket, key)))
		}
		rows = append(rows, row)
	}
	if a.json {
		return nil
	}
	columns := []column{{"WHEN", false}, {"WHAT", false}, {"VERSION", false}, {"SIZE", true}, {"BY", false}, {"", false}}
	if c.Bool("follow-renames") {
		columns = append(columns, column{"NAME", false})
	}
	if err := a.table(columns, rows); err != nil {
		return err
	}
	if more {
		a.note("Older versions follow: give a greater --limit.")
	}
	return nil
}

// history gives the events of a key, and of the names that it had, latest first; more says that older ones follow.
func (p *desk) history(ctx context.Context, bucket, key string, renames bool, limit int) (all []event, more bool,
	err error) {
	before, left := int64(0), limit
	for {
		var out struct{ Chapters []api.Chapter }
		q := url.Values{"key": {key}, "before": {fmt.Sprint(before)}, "limit": {fmt.Sprint(min(1000, left))},
			"followRenames": {fmt.Sprint(renames && before == 0)}}
		if err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/history"), q, nil, &out); err != nil {
			return nil, false, err
		}
		for i, ch := range out.Chapters {
			all = append(all, events(ch)...)
			more = more || i > 0 && ch.Next > 0
		}
		if len(out.Chapters) == 0 {
			return nil, false, foreign(http.StatusOK)
		}
		left -= len(out.Chapters[0].Versions)
		if before = out.Chapters[0].Next; before == 0 || left <= 0 {
			more = more || before > 0
			break
		}
	}
	slices.SortStableFunc(all, func(x, y event) int {
		if d := y.Time.Compare(x.Time); d != 0 {
			return d
		}
		return int(min(1, max(-1, y.order-x.order)))
	})
	return all, more, nil
}

// historyRow shows an event in the history of a key.
func historyRow(e event, bucket, key string) []string {
	what, bytes := e.Event, size(e.Size)
	if e.Current && e.Event != "deleted" && e.Event != "renamed away" {
		what += ", current"
	}
	if e.Event == "deleted" || e.Event == "renamed away" || e.Event == "annotated" {
		bytes = ""
	}
	by := e.By
	if rule, ok := strings.CutPrefix(e.Source, "rule "); ok {
		by += ", rule " + rule
	} else if e.Source != "" {
		by += " from " + e.Source
	}
	says := e.Says
	if direction, name, ok := strings.Cut(says, " "); ok && (direction == "from" || direction == "to") {
		says = direction + " " + near(name, bucket, key)
	}
	return []string{e.Time.Local().Format("2006-01-02 15:04:05"), what, e.Version, bytes, by, shown(says)}
}
