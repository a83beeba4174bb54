package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

func (a *app) scrubCommand() *cli.Command {
	return &cli.Command{Name: "scrub", Usage: "read stored bytes, compare their digests, and list damage",
		Commands: []*cli.Command{
			{Name: "run", Usage: "read everything beneath a prefix now", ArgsUsage: "BUCKET[/PREFIX]",
				Description: "All versions are read. Damage is repaired from another copy if there is one, else " +
					"marked; a mark is removed when the bytes are sound again. The service does the work; " +
					"you can stop the command. Exits with code 1 if something is damaged.\n\n" +
					examples("spindle scrub run plates/2019/", "spindle scrub run loans"),
				Action: a.scrubRun},
			{Name: "show", Usage: "show where the scrubber is, what is damaged, and what could repair it",
				Description: examples("spindle scrub show", "spindle scrub show --json"), Action: a.scrubShow},
		}}
}

func (a *app) scrubRun(ctx context.Context, c *cli.Command) error {
	p, address, err := a.one(c)
	if err != nil {
		return err
	}
	bucket, prefix, _ := strings.Cut(address, "/")
	o, err := a.follow(ctx, p, api.OrderIn{Kind: "check", Bucket: bucket, Prefix: prefix}, "checking")
	if err != nil {
		return err
	}
	bad := o.Counts["damaged"]
	if err := a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "Read %s: %s sound, %s damaged.\n", size(o.Bytes), count(o.Counts["sound"]), count(bad))
		return err
	}); err != nil || bad == 0 {
		return err
	}
	return fault.New(fault.Damaged, "damaged", "%s damaged", things(bad, "object is", "objects are")).In("object").
		Do("see with what they could be mended: spindle scrub show")
}

func (a *app) scrubShow(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var o api.Overview
	if err := p.call(ctx, http.MethodGet, "/api/v1/overview", nil, nil, &o); err != nil {
		return err
	}
	var list struct {
		Scrubbed *api.Scrubbed    `json:"scrubbed,omitempty"`
		Damage   []api.DamageInfo `json:"damage"`
		More     bool             `json:"more,omitempty"`
	}
	if err := p.call(ctx, http.MethodGet, "/api/v1/damage", nil, nil, &list); err != nil {
		return err
	}
	list.Scrubbed = o.Scrubbed
	return a.print(list, func() error {
		if s := o.Scrubbed; s != nil {
			walk := "the last walk, begun "
			if s.Finished.Before(s.Started) {
				walk = "the walk under way, begun "
			}
			fmt.Fprintf(a.Out, "Scrubber: %s%s, has read %s, %s; %s damaged.\n", walk, when(s.Started),
				things(s.Bodies, "body", "bodies"), size(s.Bytes), count(s.Damaged))
		}
		if len(list.Damage) == 0 {
			fmt.Fprintln(a.Out, "Nothing is marked as damaged.")
			return nil
		}
		var rows [][]string
		for _, d := range list.Damage {
			rows = append(rows, []string{shown(d.Bucket + "/" + d.Key), when(d.Found), shown(d.Problem),
				orDash(strings.Join(d.Mends, "; "))})
		}
		if err := a.table([]column{{"OBJECT", false}, {"FOUND", false}, {"WHAT", false}, {"COULD BE MENDED BY", false}},
			rows); err != nil || !list.More {
			return err
		}
		_, err := fmt.Fprintf(a.Out, "There is more: these are the %s that were found last.\n", count(int64(len(rows))))
		return err
	})
}
