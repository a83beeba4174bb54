package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	costs "spindle/internal/core/usage"
)

func (a *app) lifecycleRunCommand() *cli.Command {
	return &cli.Command{Name: "run", Usage: "runs of rules: start, watch, answer, list",
		Commands: []*cli.Command{
			{Name: "start", Usage: "run the rules of a bucket now, and watch", ArgsUsage: "BUCKET",
				Description: "Rules run on their own when something is due; this does not wait for that, nor for " +
					"the delay of new rules. The run goes on in the service if you stop the command.\n\n" +
					examples("spindle lifecycle run start plates", "spindle lifecycle run start plates --json"),
				Action: a.runStart},
			{Name: "list", Usage: "list runs, latest first", ArgsUsage: "BUCKET",
				Description: examples("spindle lifecycle run list plates", "spindle lifecycle run list plates --json"),
				Flags:       []cli.Flag{&cli.IntFlag{Name: "limit", Usage: "maximum number of runs", Value: 50}},
				Action:      a.runList},
			{Name: "show", Usage: "show a run and what it did to each object", ArgsUsage: "BUCKET RUN",
				Description: examples("spindle lifecycle run show plates 7", "spindle lifecycle run show plates 7 --failed --json"),
				Flags: []cli.Flag{&cli.BoolFlag{Name: "failed", Usage: "only what failed"},
					&cli.IntFlag{Name: "limit", Usage: "maximum number of objects", Value: 100}}, Action: a.runShow},
			{Name: "allow", Usage: "allow a run that asks whether it may remove so much", ArgsUsage: "BUCKET RUN",
				Description: examples("spindle lifecycle run allow plates 7",
					"spindle lifecycle run allow plates 7 --yes"), Flags: []cli.Flag{yesFlag()}, Action: a.runAllow},
			{Name: "stop", Usage: "stop a run; what it has done stays", ArgsUsage: "BUCKET RUN",
				Description: examples("spindle lifecycle run stop plates 7",
					"spindle lifecycle run stop plates 7 --json"), Action: a.runStop},
		}}
}

func runPath(bucket string, run int64, more string) string {
	return lifecycleCall(bucket, "/runs/"+strconv.FormatInt(run, 10)+more)
}

func (a *app) runStart(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	var r api.RunInfo
	err = p.call(ctx, http.MethodPost, lifecycleCall(bucket, "/runs"), nil, nil, &r)
	if fault.HasCode(err, "run-open") { // it is the one to watch
		var page api.RunPage
		if err = p.call(ctx, http.MethodGet, lifecycleCall(bucket, "/runs"), url.Values{"limit": {"1"}}, nil,
			&page); err == nil &&
			len(page.Runs) > 0 {
			r = page.Runs[0]
		}
	}
	if err != nil {
		return err
	}
	for r.State == "waiting" || r.State == "under way" {
		select {
		case <-ctx.Done():
			a.note("It goes on in the service: spindle lifecycle run show %s %d", bucket, r.ID)
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		if err := p.call(ctx, http.MethodGet, runPath(bucket, r.ID, ""), nil, nil, &r); err != nil {
			return err
		}
	}
	return a.printRun(bucket, r)
}

func (a *app) printRun(bucket string, r api.RunInfo) error {
	return a.print(r, func() error {
		ended := "not yet"
		if r.Ended != nil {
			ended = when(*r.Ended)
		}
		facts := [][2]string{{"Run", strconv.FormatInt(r.ID, 10)}, {"State", r.State}, {"Rules", fmt.Sprintf("revision %d",
			r.Revision)},
			{"Started", when(r.Started) + " by " + shown(r.By)}, {"Ended", ended}}
		if r.Allowed != "" {
			facts = append(facts, [2]string{"Let go on by", shown(r.Allowed)})
		}
		if r.Says != "" {
			facts = append(facts, [2]string{"Says", shown(r.Says)})
		}
		if err := a.facts(facts); err != nil {
			return err
		}
		if len(r.Counts) > 0 {
			fmt.Fprintln(a.Out)
			var rows [][]string
			for _, n := range r.Counts {
				rows = append(rows, []string{n.Rule, didWords(n.Of, n.Do, n.To), count(n.Objects), size(n.Bytes), count(n.Failed)})
			}
			if err := a.table([]column{{"RULE", false}, {"DID", false}, {"OBJECTS", true}, {"SIZE", true}, {"FAILED", true}},
				rows); err != nil {
				return err
			}
		}
		if r.State == "asks" {
			a.note("To let it go on: spindle lifecycle run allow %s %d. To stop it: spindle lifecycle run stop %s %d", bucket,
				r.ID, bucket, r.ID)
		}
		return nil
	})
}

func didWords(of, do, to string) string {
	if of == "uploads" {
		return "abandon uploads"
	}
	s := do + " " + of
	if to != "" {
		s += " to " + to
	}
	return s
}

func (a *app) runList(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	var rows [][]string
	n := 0
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	_, err = pages(ctx, p, lifecycleCall(bucket, "/runs"), "runs", true, url.Values{"limit": {strconv.Itoa(min(limit,
		1000))}},
		func(r api.RunInfo) (bool, error) {
			if n++; a.json {
				return n < limit, a.print(r, nil)
			}
			var objects, bytes int64
			for _, x := range r.Counts {
				objects, bytes = objects+x.Objects, bytes+x.Bytes
			}
			rows = append(rows, []string{strconv.FormatInt(r.ID, 10), when(r.Started), r.State, count(objects), size(bytes),
				shown(r.By), shown(r.Says)})
			return n < limit, nil
		})
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("The rules of %s have not had anything to do yet.", bucket)
		return nil
	}
	return a.table([]column{{"RUN", true}, {"STARTED", false}, {"STATE", false}, {"OBJECTS", true}, {"SIZE", true},
		{"BY", false},
		{"SAYS", false}}, rows)
}

func (a *app) bucketAndRun(c *cli.Command) (*desk, string, int64, error) {
	p, bucket, run, err := a.twoArgs(c)
	if err != nil {
		return nil, "", 0, err
	}
	id, err := strconv.ParseInt(run, 10, 64)
	if err != nil || id < 1 {
		return nil, "", 0, fault.New(fault.Invalid, "run-number", "%q is no number of a run", run).In("run").
			Do("list them: spindle lifecycle run list %s", bucket)
	}
	return p, bucket, id, nil
}

func (a *app) runShow(ctx context.Context, c *cli.Command) error {
	p, bucket, id, err := a.bucketAndRun(c)
	if err != nil {
		return err
	}
	var r api.RunInfo
	if err := p.call(ctx, http.MethodGet, runPath(bucket, id, ""), nil, nil, &r); err != nil {
		return err
	}
	if err := a.printRun(bucket, r); err != nil {
		return err
	}
	n := 0
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	var rows [][]string
	next, err := pages(ctx, p, runPath(bucket, id, "/outcomes"), "outcomes", false,
		url.Values{"limit": {strconv.Itoa(min(limit, 1000))}, "failed": {strconv.FormatBool(c.Bool("failed"))}},
		func(o api.OutcomeInfo) (bool, error) {
			if n++; a.json {
				return n < limit, a.print(o, nil)
			}
			rows = append(rows, []string{o.Did, o.Rule, size(o.Size), shown(o.Key), shown(o.Fault)})
			return n < limit, nil
		})
	if err != nil || a.json || len(rows) == 0 {
		return err
	}
	fmt.Fprintln(a.Out)
	if err := a.table([]column{{"DID", false}, {"RULE", false}, {"SIZE", true}, {"KEY", false}, {"FAULT", false}},
		rows); err != nil {
		return err
	}
	if next != "" || n == limit {
		a.note("There may be more: --limit")
	}
	return nil
}

func (a *app) runAllow(ctx context.Context, c *cli.Command) error {
	p, bucket, id, err := a.bucketAndRun(c)
	if err != nil {
		return err
	}
	var r api.RunInfo
	if err := p.call(ctx, http.MethodGet, runPath(bucket, id, ""), nil, nil, &r); err != nil {
		return err
	}
	if err := a.confirm(c, "The run "+r.State+": "+r.Says+".", strconv.FormatInt(id, 10)); err != nil {
		return err
	}
	return a.answer(ctx, p, bucket, id, true)
}

func (a *app) runStop(ctx context.Context, c *cli.Command) error {
	p, bucket, id, err := a.bucketAndRun(c)
	if err != nil {
		return err
	}
	return a.answer(ctx, p, bucket, id, false)
}

func (a *app) answer(ctx context.Context, p *desk, bucket string, id int64, goOn bool) error {
	var r api.RunInfo
	if err := p.call(ctx, http.MethodPost, runPath(bucket, id, "/answer"), nil, api.RunAnswer{GoOn: goOn},
		&r); err != nil {
		return err
	}
	return a.printRun(bucket, r)
}

func (a *app) lifecycleRehearse(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.ForecastAsk{Days: c.Int("days"), Only: c.Bool("only")}
	if name := c.String("rule"); name != "" {
		if in.Rules, err = a.readRuleFile(name); err != nil {
			return err
		}
	}
	return a.rehearseRules(ctx, c, p, bucket, in)
}

// rehearseRules says what rules would do, and with --check fails when that is to be looked at.
func (a *app) rehearseRules(ctx context.Context, c *cli.Command, p *desk, bucket string, in api.ForecastAsk) error {
	var f api.ForecastInfo
	if err := p.call(ctx, http.MethodPost, lifecycleCall(bucket, "/rehearse"), nil, in, &f); err != nil {
		return err
	}
	m, err := p.money(ctx)
	if err != nil {
		return err
	}
	if err := a.print(f, func() error { return a.printForecast(bucket, f, m) }); err != nil || !c.Bool("check") {
		return err
	}
	for _, x := range f.Actions {
		if x.Do == "remove" && x.Objects > 0 {
			return fault.New(fault.Conflict, "rehearsal-removes", "the rule %s would remove %s at once", x.Rule,
				things(x.Objects, "object", "objects")).In("rule").Do("look at the rehearsal; leave --check out to be told only")
		}
	}
	if len(f.Conflicts) > 0 {
		return fault.New(fault.Conflict, "rehearsal-conflicts", "the rules %s and %s get in each other's way",
			f.Conflicts[0].Winner,
			f.Conflicts[0].Loser).In("rule").Do("give them scopes apart; leave --check out to be told only")
	}
	return nil
}

func (a *app) printForecast(bucket string, f api.ForecastInfo, m costs.Money) error {
	if len(f.Actions) == 0 {
		a.note("The bucket %s has no rules; give some to rehearse: --rule FILE", bucket)
		return nil
	}
	var rows [][]string
	var cost float64
	for _, x := range f.Actions {
		next := ""
		if x.Next != nil {
			next = x.Next.Local().Format("2006-01-02")
		}
		cost += x.Cost
		early := ""
		if x.Early > 0 {
			early = m.Say(x.Early)
		}
		rows = append(rows, []string{x.Rule, x.When, count(x.Objects), size(x.Bytes), count(x.Ahead), size(x.AheadB), next,
			m.SayChange(x.Cost), early})
	}
	if err := a.table([]column{{"RULE", false}, {"WOULD", false}, {"NOW", true}, {"SIZE", true},
		{fmt.Sprintf("IN %d DAYS", f.Days), true}, {"SIZE", true}, {"NEXT", false}, {"A MONTH", true}, {"LEFT EARLY", true}},
		rows); err != nil {
		return err
	}
	if err := a.printSamples(f); err != nil {
		return err
	}
	for _, x := range f.Conflicts {
		a.note("%s comes first before %s, for %s (%s, such as %s): %s.", x.Winner, x.Loser, things(x.Objects, "object",
			"objects"),
			size(x.Bytes), shown(x.Sample), x.Why)
	}
	for _, name := range f.Empty {
		a.note("The scope of %s holds nothing today.", name)
	}
	if f.Share > 0 {
		a.note("%.0f %% of the bucket's versions would be removed at once.", 100*f.Share)
	}
	a.note("On the catalog of %s; nothing was changed. All of it changes the cost of a month by %s.", when(f.At),
		m.SayChange(cost))
	return nil
}

func (a *app) printSamples(f api.ForecastInfo) error {
	var rows [][]string
	for _, x := range f.Actions {
		for i, s := range x.Samples {
			if i == 3 {
				break
			}
			day := "at once"
			if s.Day > 0 {
				day = "in " + things(int64(s.Day), "day", "days")
			}
			rows = append(rows, []string{x.Rule, didWords(x.Of, x.Do, x.To), day, things(int64(s.Age), "day", "days"),
				size(s.Size), shown(s.Key)})
		}
	}
	if len(rows) == 0 {
		return nil
	}
	fmt.Fprintln(a.Out)
	return a.table([]column{{"FOR EXAMPLE", false}, {"", false}, {"WHEN", false}, {"AGE THEN", true}, {"SIZE", true},
		{"KEY", false}}, rows)
}
