package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

// journalKeepCommands say how the journal of a bucket is kept.
func (a *app) journalKeepCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "show", Usage: "show how long the journal of a bucket is kept, and its size", ArgsUsage: "BUCKET",
			Description: examples("spindle journal show plates", "spindle journal show plates --json"), Action: a.journalShow},
		{Name: "change", Usage: "change how long the journal of a bucket is kept, pause or resume it",
			ArgsUsage: "BUCKET",
			Description: "Older entries are removed within an hour, once every reader of the journal has read " +
				"them. While the journal is paused, changes of objects are not recorded and existing entries " +
				"stay; usage, replication, rules and posts go on.\n\n" +
				examples("spindle journal change plates --keep 400d", "spindle journal change loans --recording paused",
					"spindle journal change loans --recording on --keep ever"),
			Flags: []cli.Flag{&cli.StringFlag{Name: "keep",
				Usage: "keep entries for at least this `LONG`, such as 400d; ever: as long as the service keeps its journal"},
				&cli.StringFlag{Name: "recording", Usage: "on or paused"},
				&cli.IntFlag{Name: "if-revision", Usage: "only if the bucket's settings are still at this `REVISION`"}, yesFlag()},
			Action: a.journalChange},
	}
}

func (p *desk) bucketJournal(ctx context.Context, bucket string, q url.Values) (j api.BucketJournal, err error) {
	return j, p.call(ctx, http.MethodGet, bucketCall(bucket, "/journal"), q, nil, &j)
}

func (a *app) journalShow(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	j, err := p.bucketJournal(ctx, bucket, nil)
	if err != nil {
		return err
	}
	return a.print(j, func() error { return a.facts(journalFacts(j)) })
}

func journalFacts(j api.BucketJournal) [][2]string {
	kept, recording, about := "as long as the service keeps its journal", "on", ""
	if j.Days > 0 {
		kept = things(int64(j.Days), "day", "days") + " at least"
	}
	if j.Paused {
		recording = "paused: changes of objects are not recorded"
	}
	if j.About {
		about = "about "
	}
	facts := [][2]string{{"Kept", kept}, {"Recording", recording},
		{"Occupies", about + size(j.Bytes) + ", " + about + things(j.Entries, "entry", "entries")}}
	if j.First != nil {
		facts = append(facts, [2]string{"Oldest", when(*j.First)})
	}
	for _, g := range j.Gaps {
		span := "until now"
		switch {
		case g.Since == nil && g.Until != nil:
			span = "before " + when(*g.Until)
		case g.Until != nil:
			span = "from " + when(*g.Since) + " to " + when(*g.Until)
		case g.Since != nil:
			span = "since " + when(*g.Since)
		}
		facts = append(facts, [2]string{"Left out", span})
	}
	return append(facts, [2]string{"Revision", strconv.Itoa(j.Revision)})
}

func (a *app) journalChange(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	var change api.JournalChange
	if c.IsSet("keep") {
		days, err := keptDays(c.String("keep"))
		if err != nil {
			return err
		}
		if change.Days = &days; days > 0 {
			if err := a.agreeToForget(ctx, c, p, bucket, days); err != nil {
				return err
			}
		}
	}
	if err := readFlags(c, &change); err != nil {
		return err
	}
	if change == (api.JournalChange{}) {
		return wrongUsage("say what to change: --keep or --recording").see(c)
	}
	in := api.BucketChange{Journal: &change}
	if err := atRevision(c, &in); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPatch, bucketCall(bucket, ""), nil, in, nil); err != nil {
		return err
	}
	j, err := p.bucketJournal(ctx, bucket, nil)
	if err != nil {
		return err
	}
	return a.print(j, func() error { return a.facts(journalFacts(j)) })
}

// keptDays reads whole days, or ever for 0.
func keptDays(s string) (int, error) {
	if s == "ever" {
		return 0, nil
	}
	days, err := strconv.Atoi(strings.TrimSuffix(s, "d"))
	if err != nil || days < 1 {
		return 0, fault.New(fault.Invalid, "keep", "%q is no time to keep a journal",
			s).In("keep").Do("give whole days, such as 400d, or ever")
	}
	return days, nil
}

// agreeToForget says how many entries go when a journal is kept for so many days, and asks.
func (a *app) agreeToForget(ctx context.Context, c *cli.Command, p *desk, bucket string, days int) error {
	j, err := p.bucketJournal(ctx, bucket, url.Values{"days": {strconv.Itoa(days)}})
	if err != nil || j.Going == nil || *j.Going == 0 {
		return err
	}
	return a.confirm(c, fmt.Sprintf("%s of %s from before %s go for good.", things(*j.Going, "entry", "entries"), bucket,
		time.Now().AddDate(0, 0, -days).Format(time.DateOnly)), bucket)
}

const savedFiltersPath = "/api/v1/journal/saved"

// journalSavedCommands keep filters under names.
func (a *app) journalSavedCommands(filters []cli.Flag) []*cli.Command {
	return []*cli.Command{
		{Name: "save", Usage: "save a filter under a name, for list and follow", ArgsUsage: "NAME [BUCKET]",
			Description: examples("spindle journal save removals --kind removed --kind 'removed for good'",
				"spindle journal save scans plates --who scanner-2"),
			Flags: filters, Action: a.journalSave},
		{Name: "saved", Usage: "list saved filters", Description: examples("spindle journal saved",
			"spindle journal saved --json"),
			Action: listing[api.SavedFilter]{path: savedFiltersPath, field: "filters",
				none: "No filter is kept: spindle journal save NAME [BUCKET].",
				columns: []column{{"NAME", false}, {"BUCKET", false}, {"KEYS", false}, {"KINDS", false}, {"BY", false},
					{"SAVED BY", false}},
				row: func(f api.SavedFilter) []string {
					return []string{f.Name, cmpOr(f.Bucket, "all"), shown(f.Prefix), strings.Join(f.Kinds, ", "), shown(f.Who),
						shown(f.By)}
				}}.action(a)},
		{Name: "forget", Usage: "forget a filter", ArgsUsage: "NAME",
			Description: examples("spindle journal forget removals", "spindle journal forget removals --json"),
			Action:      a.forgetSaved(savedFiltersPath)},
	}
}

func (a *app) journalSave(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	f := api.JournalFilter{Kinds: c.StringSlice("kind"), Who: c.String("who")}
	if f.Bucket, f.Prefix, err = journalPlace(c, in[1:]); err != nil {
		return err
	}
	return a.saveUnder(ctx, c, savedFiltersPath, in[0], f, "spindle journal list --saved %s lists its entries.")
}

// saveUnder keeps something under a name; use says how it is used.
func (a *app) saveUnder(ctx context.Context, c *cli.Command, path, name string, says any, use string) error {
	p, err := a.open(c)
	if err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPut, path+"/"+url.PathEscape(name), nil, says, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"saved": name}, func() error {
		_, err := fmt.Fprintf(a.Out, "Saved as %s: "+use+"\n", name, name)
		return err
	})
}

// forgetSaved takes away what is kept under a name.
func (a *app) forgetSaved(path string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, name, err := a.one(c)
		if err != nil {
			return err
		}
		if err := p.call(ctx, http.MethodDelete, path+"/"+url.PathEscape(name), nil, nil, nil); err != nil {
			return err
		}
		return a.print(map[string]string{"forgotten": name}, func() error {
			_, err := fmt.Fprintf(a.Out, "%s is forgotten.\n", name)
			return err
		})
	}
}

// savedFilter adds a kept filter to what a command asks of the journal.
func (p *desk) savedFilter(ctx context.Context, name string, q url.Values) error {
	var kept struct {
		Filters []api.SavedFilter `json:"filters"`
	}
	if err := p.call(ctx, http.MethodGet, savedFiltersPath, nil, nil, &kept); err != nil {
		return err
	}
	for _, f := range kept.Filters {
		if f.Name != name {
			continue
		}
		for field, v := range map[string]string{"bucket": f.Bucket, "prefix": f.Prefix, "who": f.Who} {
			if q.Get(field) == "" {
				q.Set(field, v)
			}
		}
		if len(q["kind"]) == 0 {
			q["kind"] = f.Kinds
		}
		return nil
	}
	return fault.New(fault.NotFound, "saved-missing", "no filter is saved as %q", name).In("saved").
		Do("spindle journal saved lists what is")
}
