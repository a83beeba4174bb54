package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
)

func (a *app) uploadListThere(ctx context.Context, c *cli.Command) error {
	if err := only(c, "older-than"); err != nil {
		return err
	}
	before, err := olderThan(c)
	if err != nil {
		return err
	}
	p, at, err := a.there(c, true)
	if err != nil {
		return err
	}
	var rows [][]string
	var bytes int64
	if _, err := pages(ctx, p, bucketsThere(at, "/uploads"), "uploads", false, url.Values{"prefix": {at.Key}},
		func(u api.UploadThere) (bool, error) {
			if before != "" && u.Started.Format(time.RFC3339Nano) >= before {
				return true, nil
			}
			if a.json {
				return true, a.print(u, nil)
			}
			bytes += u.Bytes
			rows = append(rows, []string{size(u.Bytes), count(int64(u.Parts)), age(time.Since(u.Started)), shown(u.ID),
				shown(u.Key)})
			return true, nil
		}); err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("There are no unfinished uploads that match at %s.", shown(at.String()))
		return nil
	}
	if err := a.table([]column{{"HELD", true}, {"PARTS", true}, {"AGE", true}, {"ID", false}, {"KEY", false}},
		rows); err != nil {
		return err
	}
	a.note("%s, %s held", things(int64(len(rows)), "unfinished upload", "unfinished uploads"), size(bytes))
	return nil
}

func (a *app) uploadAbandonThere(ctx context.Context, c *cli.Command) error {
	before, err := olderThan(c)
	if err == nil {
		err = only(c, "older-than", "rehearse")
	}
	if err != nil {
		return err
	}
	want := 2 // an object and the id of an upload
	if before != "" {
		want = 1
	}
	in, err := args(c, want, want)
	if err != nil {
		return err
	}
	at, err := endpoint.ParseAddress(in[0])
	if err != nil {
		return err
	}
	if at.Bucket == "" || at.Key == "" && before == "" {
		return wrongUsage("give @ENDPOINT/BUCKET/KEY and the upload's id, or @ENDPOINT/BUCKET with --older-than").see(c)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	body, what := api.AbandonThereAsk{OlderThan: before, Prefix: at.Key},
		fmt.Sprintf("started before %s at %s", c.String("older-than"), at)
	if before == "" {
		body, what = api.AbandonThereAsk{Key: at.Key, ID: in[1]}, "of "+at.String()
	}
	return a.abandon(ctx, c, what, func(rehearse bool) (q api.Quantity, err error) {
		body.Rehearse = rehearse
		return q, p.call(ctx, http.MethodPost, bucketsThere(at, "/uploads/abandon"), nil, body, &q)
	})
}
