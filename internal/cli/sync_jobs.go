package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

const syncsPath = "/api/v1/syncs/"

// jobFlags are those that say how a job is done; the command without a job has some too.
func jobFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "mode", Usage: "accumulate, mirror or drain", DefaultText: "accumulate"},
		&cli.StringFlag{Name: "schedule",
			Usage: "schedule: five fields such as `'30 2 * * *'`, or @hourly, @daily, @weekly, @monthly; none: by " +
				"hand only"},
		&cli.StringFlag{Name: "zone", Usage: "time `ZONE` of the schedule, such as Europe/Oslo", DefaultText: "UTC"},
		&cli.StringFlag{Name: "by", Usage: "compare by time (and size), digest, or size alone", DefaultText: "time"},
		&cli.StringSliceFlag{Name: "like",
			Usage: "only keys like this `PATTERN`: * is any number of characters, also /, ? is one; may be repeated"},
		&cli.StringSliceFlag{Name: "leave-out", Usage: "leave out keys like this `PATTERN`; may be repeated"},
		&cli.StringFlag{Name: "size-from", Usage: "only objects of at least this `SIZE`; none for any"},
		&cli.StringFlag{Name: "size-to", Usage: "only objects of at most this `SIZE`; none for any"},
		&cli.StringFlag{Name: "older", Usage: "only objects changed at least this `LONG` ago, such as 2d"},
		&cli.StringFlag{Name: "newer", Usage: "only objects changed at most this `LONG` ago"},
		&cli.StringFlag{Name: "links", Usage: "links in a folder: skip, follow or keep", DefaultText: "skip"},
		&cli.StringFlag{Name: "tier", Usage: "tier of what is written here, or storage class there"},
		&cli.StringFlag{Name: "sealing", DefaultText: "none", Usage: sealingUsage},
		&cli.StringFlag{Name: "passphrase-from",
			Usage:       "read the passphrase from the first line of this `FILE`, or - for standard input",
			DefaultText: "asked for"},
		&cli.BoolFlag{Name: "yes", Usage: "the passphrase is kept elsewhere; do not ask about that"},
		&cli.StringSliceFlag{Name: "tag", Usage: "only objects with this tag, as `NAME=VALUE`; may be repeated"},
		whereFlag("objects"),
		&cli.StringSliceFlag{Name: "bandwidth",
			Usage: "maximum bytes per second, such as 2MiB, or by time of day, such as `'08:00-18:00 2MiB'`; none " +
				"for no limit; may be repeated"},
		&cli.StringFlag{Name: "guard", Usage: "ask before removing or replacing more than this `SHARE` of the " +
			"target, such as 30%, or none",
			DefaultText: "10%, or 1,000 objects"},
		&cli.IntFlag{Name: "parallel", Usage: "how many objects at a time", DefaultText: "8"},
		noteFlag("what it is for"),
	}
}

func (a *app) syncJobCommands() []*cli.Command {
	change := append([]cli.Flag{&cli.StringFlag{Name: "from", Usage: "the `SIDE` that is read"},
		&cli.StringFlag{Name: "to", Usage: "the `SIDE` that is written"},
		&cli.StringFlag{Name: "state", Usage: "on or off: run by its schedule"},
		&cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}}, jobFlags()...)
	return []*cli.Command{
		a.syncCreateCommand(),
		a.syncListCommand(),
		{Name: "show", Usage: "show a job and its last run", ArgsUsage: "NAME",
			Description: examples("spindle sync show nightly-attic", "spindle sync show nightly-attic --json"),
			Action:      showing(a, syncsPath, printed(a, a.showSync))},
		{Name: "change", Usage: "change a job; only the given settings change", ArgsUsage: "NAME",
			Description: examples("spindle sync change nightly-attic --schedule none",
				"spindle sync change nightly-attic --mode accumulate --leave-out '*.tmp'"),
			Flags: change, Action: changing(a, syncsPath,
				func(c *cli.Command, in *api.SyncUpdate) error { return a.syncChange(c, &in.SyncChange, "this job") },
				printed(a, a.showSync))},
		a.syncRemoveCommand(),
		a.syncRehearseCommand(),
		a.syncRunCommand(),
		{Name: "watch", Usage: "watch the latest run of a job until it ends or asks", ArgsUsage: "NAME",
			Description: examples("spindle sync watch nightly-attic", "spindle sync watch nightly-attic --json"),
			Action:      a.syncWatch},
		{Name: "stop", Usage: "stop the run of a job", ArgsUsage: "NAME",
			Description: examples("spindle sync stop nightly-attic", "spindle sync stop nightly-attic --json"),
			Action:      a.syncStop},
		a.syncRestoreCommand(),
		a.recoverCommand(),
		a.syncSheetCommand(),
		{Name: "runs", Usage: "list the runs of a job, latest first", ArgsUsage: "NAME",
			Description: examples("spindle sync runs nightly-attic", "spindle sync runs nightly-attic --limit 5"),
			Flags:       []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many runs to list"}}, Action: a.syncRuns},
		a.syncOutcomesCommand(),
	}
}

func (a *app) syncCreateCommand() *cli.Command {
	return &cli.Command{Name: "create", Usage: "create a job that the service runs", ArgsUsage: "NAME FROM TO",
		Description: "A side is BUCKET/PREFIX/, @ENDPOINT/BUCKET/PREFIX/, or a folder of the service's machine, which begins " +
			"with / and is beneath a root that the service was started with. It runs with the rights of whoever saved it.\n\n" +
			examples("spindle sync create nightly-attic attic @old-mill/attic --mode mirror --schedule '30 2 * * *' --zone Europe/Oslo",
				"spindle sync create plates-back @lowland-annex/plates plates/returned/"),
		Flags: jobFlags(), Action: a.syncCreate}
}

func (a *app) syncListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list jobs with their last and next runs",
		Description: examples("spindle sync list", "spindle sync list --json"),
		Action: listing[api.SyncInfo]{path: "/api/v1/syncs", field: "syncs", row: syncRow,
			none: "There is no job yet: spindle sync create NAME FROM TO.",
			columns: []column{{"JOB", false}, {"MODE", false}, {"FROM", false}, {"TO", false}, {"LAST", false}, {"WROTE", true},
				{"FAILED", true}, {"NEXT", false}}}.action(a)}
}

func (a *app) syncRemoveCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "remove a job with its runs; what it wrote stays", ArgsUsage: "NAME",
		Description: examples("spindle sync remove nightly-attic", "spindle sync remove nightly-attic --yes"),
		Flags:       []cli.Flag{yesFlag()},
		Action: removing(a, "sync job", syncsPath, func(j api.SyncInfo) string {
			return fmt.Sprintf("The job %s goes with the record of its runs. What it wrote to %s stays.", j.Name, j.To)
		})}
}

func (a *app) syncRehearseCommand() *cli.Command {
	return &cli.Command{Name: "rehearse", Usage: "show what a run would do, and why; nothing is written",
		ArgsUsage: "NAME",
		Description: examples("spindle sync rehearse nightly-attic", "spindle sync rehearse nightly-attic --list",
			"spindle sync rehearse nightly-attic --check"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "check", Usage: "exit with code 5 if the sides differ"},
			&cli.BoolFlag{Name: "list", Usage: "list every object that would be written, removed or refused"}},
		Action: a.syncJobRehearse}
}

func (a *app) syncRunCommand() *cli.Command {
	return &cli.Command{Name: "run", Usage: "run a job now, and watch it", ArgsUsage: "NAME",
		Description: examples("spindle sync run nightly-attic", "spindle sync run nightly-attic --detach"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "anyway",
			Usage: "neither the guard nor changed sides stop it"},
			&cli.BoolFlag{Name: "detach", Usage: "do not wait for it"}},
		Action: a.syncJobRun}
}

func (a *app) syncRestoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "restore what a job wrote, to where it came from or elsewhere",
		ArgsUsage: "NAME",
		Description: "A job in the opposite direction is created and rehearsed, and runs after you agree. " +
			"Nothing is removed. Sealed objects are opened; the service has the key.\n\n" +
			examples("spindle sync restore nightly-attic",
				"spindle sync restore nightly-attic --to attic/back/ --prefix notes/",
				"spindle sync restore nightly-attic --as-of '2026-11-20 14:00' --rehearse"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "restore to this `SIDE`", DefaultText: "where it came from"},
			&cli.StringFlag{Name: "prefix", Usage: "only keys that begin with this `PREFIX`"},
			&cli.StringFlag{Name: "as-of", Usage: "the state at this `MOMENT`, if the target keeps versions"},
			&cli.BoolFlag{Name: "rehearse", Usage: "show what would be restored; nothing is written"}, yesFlag()},
		Action: a.syncRestore}
}

func (a *app) syncSheetCommand() *cli.Command {
	return &cli.Command{Name: "sheet", Usage: "print a recovery sheet: what to do when everything here is gone; without secrets",
		ArgsUsage:   "NAME",
		Description: examples("spindle sync sheet nightly-attic", "spindle sync sheet nightly-attic --page sheet.html"),
		Flags:       []cli.Flag{&cli.StringFlag{Name: "page", Usage: "write it as a printable page to this `FILE`"}},
		Action:      a.syncSheet}
}

func (a *app) syncOutcomesCommand() *cli.Command {
	return &cli.Command{Name: "outcomes", Usage: "list what happened to objects in a run; default: the latest",
		ArgsUsage:   "NAME [RUN]",
		Description: examples("spindle sync outcomes nightly-attic --failed", "spindle sync outcomes nightly-attic 12"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "failed", Usage: "only what failed"},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "how many objects to list; 0 for all"}},
		Action: a.syncOutcomes}
}

// syncChange reads what of a job is to change, beside the flags.
func (a *app) syncChange(c *cli.Command, in *api.SyncChange, job string) error {
	if c.IsSet("sealing") {
		sealed := c.String("sealing") == sealedAtRest
		in.Sealed = &sealed
	}
	if c.IsSet("guard") {
		g, err := readGuard(c)
		if err != nil {
			return err
		}
		share := 100 * g.Share
		in.Share, in.Most = &share, &g.Most
	}
	return a.readSealing(c, in, job)
}

func (a *app) syncCreate(ctx context.Context, c *cli.Command) error {
	names, err := args(c, 3, 3)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	in := api.NewSync{Name: names[0]}
	if err = readFlags(c, &in); err == nil {
		err = a.syncChange(c, &in.SyncChange, names[0])
	}
	if err != nil {
		return err
	}
	in.From, in.To = &names[1], &names[2]
	var j api.SyncInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/syncs", nil, in, &j); err != nil {
		return err
	}
	return a.print(j, func() error { return a.showSync(j) })
}

func syncRow(j api.SyncInfo) []string {
	last, wrote, failed, next := "never", "", "", "by hand"
	if r := j.Last; r != nil {
		last, wrote, failed = runWhen(r), count(r.Written.Objects), count(r.Failed)
	}
	switch {
	case !j.On:
		next = "off"
	case j.Next != nil:
		next = when(*j.Next)
	}
	return []string{j.Name, j.Mode, shown(j.From), shown(j.To), last, wrote, failed, next}
}

// runWhen says how a run stands, and since when.
func runWhen(r *api.SyncRunInfo) string {
	at := r.Asked
	if r.Started != nil {
		at = *r.Started
	}
	if r.Ended != nil {
		at = *r.Ended
	}
	return r.State + ", " + when(at)
}

func (a *app) showSync(j api.SyncInfo) error {
	schedule := "by hand"
	if j.Schedule != "" {
		if schedule = j.Schedule + ", " + cmpOr(j.Zone, "UTC"); !j.On {
			schedule += "; off"
		}
	}
	facts := [][2]string{{"Job", j.Name}, {"Note", orDash(shown(j.Note))}, {"From", shown(j.From)}, {"To", shown(j.To)},
		{"Does", j.Says}, {"Schedule", schedule}}
	if j.Next != nil {
		facts = append(facts, [2]string{"Next", when(*j.Next)})
	}
	if j.Sealing != "none" {
		facts = append(facts, [2]string{"Seals", map[string]string{"content": "contents",
			"names": "contents and names"}[j.Sealing] +
			"; spindle sync sheet " + j.Name + " says how to get them back"})
	}
	if j.Restores != "" {
		facts = append(facts, [2]string{"Restores", j.Restores})
	}
	if len(j.Bandwidth) > 0 {
		facts = append(facts, [2]string{"At most", strings.Join(j.Bandwidth, "; ") + ", a second"})
	}
	facts = append(facts, [2]string{"Compared by", j.By}, [2]string{"Takes in", takes(j)},
		[2]string{"Asks above", fmt.Sprintf("%s %% of the target, or %s, removed or replaced",
			strconv.FormatFloat(j.Share, 'g', 4, 64),
			things(j.Most, "object", "objects"))},
		[2]string{"Under way", things(int64(j.Parallel), "object", "objects") + " at a time"},
		[2]string{"Runs as", shown(j.ChangedBy)}, [2]string{"Revision", strconv.Itoa(j.Revision)})
	if err := a.facts(facts); err != nil || j.Last == nil {
		return err
	}
	fmt.Fprintln(a.Out)
	return a.facts(runFacts(j.Last))
}

func cmpOr(s, none string) string {
	if s == "" {
		return none
	}
	return s
}

// takes says what takes part in a job.
func takes(j api.SyncInfo) string {
	var words []string
	if j.Prefix != "" {
		words = append(words, "keys that begin with "+j.Prefix)
	}
	for _, name := range slices.Sorted(maps.Keys(j.Tags)) {
		words = append(words, "tagged "+name+"="+j.Tags[name])
	}
	if j.Where != "" {
		words = append(words, "where "+j.Where)
	}
	if len(j.Like) > 0 {
		words = append(words, "keys like "+strings.Join(j.Like, ", "))
	}
	if len(j.LeaveOut) > 0 {
		words = append(words, "not like "+strings.Join(j.LeaveOut, ", "))
	}
	if j.SizeFrom != nil {
		words = append(words, "from "+size(*j.SizeFrom))
	}
	if j.SizeTo != nil {
		words = append(words, "up to "+size(*j.SizeTo))
	}
	long := func(s float64) string { return (time.Duration(s) * time.Second).String() }
	if j.Older > 0 {
		words = append(words, "changed at least "+long(j.Older)+" ago")
	}
	if j.Newer > 0 {
		words = append(words, "changed at most "+long(j.Newer)+" ago")
	}
	if len(words) == 0 {
		return "everything"
	}
	return shown(strings.Join(words, "; "))
}

func runFacts(r *api.SyncRunInfo) [][2]string {
	facts := [][2]string{{"Run", strconv.FormatInt(r.ID, 10)}, {"State", r.State},
		{"Asked", when(r.Asked) + " by " + shown(r.Who)}}
	if r.Says != "" {
		facts = append(facts, [2]string{"Says", shown(r.Says)})
	}
	if r.Ended != nil && r.Started != nil {
		facts = append(facts, [2]string{"Took", r.Ended.Sub(*r.Started).Round(10 * time.Millisecond).String()})
	}
	facts = append(facts, [2]string{"Wrote", fmt.Sprintf("%s, %s", things(r.Written.Objects, "object", "objects"),
		size(r.Written.Bytes))},
		[2]string{"The same", count(r.Same.Objects)}, [2]string{"Removed", count(r.Removed.Objects)})
	if r.AtHand.Objects > 0 {
		facts = append(facts, [2]string{"Not sent", fmt.Sprintf("%s of them, %s: there under another key, and copied",
			count(r.AtHand.Objects), size(r.AtHand.Bytes))})
	}
	if r.Drained.Objects > 0 {
		facts = append(facts, [2]string{"Drained", count(r.Drained.Objects)})
	}
	failed := count(r.Failed)
	if r.NotTaken > 0 {
		failed += fmt.Sprintf("; %s were not removed because of that", count(r.NotTaken))
	}
	return append(facts, [2]string{"Failed", failed})
}

func (a *app) syncJobRehearse(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	if c.Bool("list") {
		if err := a.rehearsedAll(ctx, p, name); err != nil {
			return err
		}
	}
	var r api.SyncRehearsal
	if err := p.call(ctx, http.MethodPost, syncsPath+url.PathEscape(name)+"/rehearse", nil, struct{}{},
		&r); err != nil {
		return err
	}
	if c.Bool("list") && a.json {
		if c.Bool("check") && r.Differ() {
			return exitOnly(ExitDifferent)
		}
		return nil
	}
	if err := a.print(r, func() error { return a.sayRehearsal(r) }); err != nil {
		return err
	}
	if c.Bool("check") && r.Differ() {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// rehearsedAll names every object that a run would write, remove or refuse.
func (a *app) rehearsedAll(ctx context.Context, p *desk, name string) error {
	ended := false
	err := stream(ctx, p, syncsPath+url.PathEscape(name)+"/rehearse/list", struct{}{},
		func(s api.RehearsedStep) error {
			switch {
			case s.Problem != nil:
				return s.Problem.Fault()
			case s.Done:
				ended = true
				return nil
			case a.json:
				return a.print(syncLine{Key: s.Key, Do: s.Do, Why: s.Why, Bytes: s.Bytes}, nil)
			}
			_, err := fmt.Fprintf(a.Out, "%-7s %-24s %10s  %s\n", s.Do, s.Why, size(s.Bytes), shown(s.Key))
			return err
		})
	if err == nil && !ended {
		err = fault.New(fault.Unavailable, "unreachable", "the service ended before the list did").Do("repeat the command")
	}
	return err
}

func (a *app) sayRehearsal(r api.SyncRehearsal) error {
	var rows [][]string
	for _, k := range r.Kinds {
		example := ""
		if len(k.Examples) > 0 {
			if example = shown(k.Examples[0]); len(k.Examples) > 1 {
				example += ", …"
			}
		}
		rows = append(rows, []string{k.Do, k.Why, count(k.Sum.Objects), size(k.Sum.Bytes), example})
	}
	if len(rows) == 0 {
		rows = [][]string{{"nothing", "both sides are empty", "0", "", ""}}
	}
	if err := a.table([]column{{"WOULD", false}, {"BECAUSE IT IS", false}, {"OBJECTS", true}, {"SIZE", true},
		{"SUCH AS", false}},
		rows); err != nil {
		return err
	}
	if r.AtHand.Objects > 0 {
		a.note("%s of what is new, %s, are at the target under other keys: they are copied there, and not sent.",
			things(r.AtHand.Objects, "object", "objects"), size(r.AtHand.Bytes))
	}
	if r.More {
		a.note("It took too long and ended here; a run goes through all of it.")
	}
	if r.Asks != "" {
		a.note("A run would ask first: %s.", shown(r.Asks))
	}
	return nil
}

func (a *app) syncJobRun(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var r api.SyncRunInfo
	err = p.call(ctx, http.MethodPost, syncsPath+url.PathEscape(name)+"/runs", nil,
		api.SyncRunAsk{Anyway: c.Bool("anyway")}, &r)
	if err != nil {
		return err
	}
	if c.Bool("detach") {
		return a.print(r, func() error {
			_, err := fmt.Fprintf(a.Out, "Run %d of %s is asked for.\n", r.ID, name)
			return err
		})
	}
	return a.followRun(ctx, p, name, r.ID)
}

// followRun shows a run until it ends or asks.
func (a *app) followRun(ctx context.Context, p *desk, name string, run int64) error {
	m := &meter{}
	defer func() { m.stop() }()
	var moved, total int64
	for {
		var r api.SyncRunInfo
		if err := p.call(ctx, http.MethodGet, fmt.Sprintf("%s%s/runs/%d", syncsPath, url.PathEscape(name), run), nil, nil,
			&r); err != nil {
			return err
		}
		if total == 0 && r.Total.Bytes > 0 {
			total = r.Total.Bytes
			m = a.meter(int(r.Total.Objects), total)
		}
		m.Skip(r.Moved - moved)
		moved = r.Moved
		if r.State != "waiting" && r.State != "running" {
			m.stop()
			m = &meter{}
			return a.runEnded(name, r)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(400 * time.Millisecond):
		}
	}
}

// runEnded says how a run ended, with a code for scripts.
func (a *app) runEnded(name string, r api.SyncRunInfo) error {
	if err := a.print(r, func() error { return a.facts(runFacts(&r)) }); err != nil {
		return err
	}
	switch r.State {
	case "asking":
		a.note("It asks: spindle sync run %s --anyway lets it go on, spindle sync stop %s ends it.", name, name)
		return exitOnly(ExitFailed)
	case "partly":
		a.note("What failed: spindle sync outcomes %s --failed.", name)
		return exitOnly(ExitFailed)
	case "failed", "stopped":
		return exitOnly(ExitFailed)
	}
	return nil
}

// latestRun gives the latest run of a job.
func (p *desk) latestRun(ctx context.Context, name string) (int64, error) {
	var j api.SyncInfo
	if err := p.call(ctx, http.MethodGet, syncsPath+url.PathEscape(name), nil, nil, &j); err != nil {
		return 0, err
	}
	if j.Last == nil {
		return 0, fault.New(fault.NotFound, "run-missing", "the job %s has not run yet", name).In("sync").
			Do("run it: spindle sync run %s", name)
	}
	return j.Last.ID, nil
}

// oneRun gives the service, the job that a command names, and its latest run.
func (a *app) oneRun(ctx context.Context, c *cli.Command) (p *desk, name string, run int64, err error) {
	if p, name, err = a.one(c); err == nil {
		run, err = p.latestRun(ctx, name)
	}
	return p, name, run, err
}

func (a *app) syncWatch(ctx context.Context, c *cli.Command) error {
	p, name, run, err := a.oneRun(ctx, c)
	if err != nil {
		return err
	}
	return a.followRun(ctx, p, name, run)
}

func (a *app) syncStop(ctx context.Context, c *cli.Command) error {
	p, name, run, err := a.oneRun(ctx, c)
	if err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPost, fmt.Sprintf("%s%s/runs/%d/stop", syncsPath, url.PathEscape(name), run), nil,
		struct{}{}, nil); err != nil {
		return err
	}
	return a.followRun(ctx, p, name, run)
}

func (a *app) syncRuns(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var rows [][]string
	_, err = pages(ctx, p, syncsPath+url.PathEscape(name)+"/runs", "runs", true, url.Values{},
		func(r api.SyncRunInfo) (bool, error) {
			took := ""
			if r.Ended != nil && r.Started != nil {
				took = r.Ended.Sub(*r.Started).Round(10 * time.Millisecond).String()
			}
			if a.json {
				if err := a.print(r, nil); err != nil {
					return false, err
				}
			}
			rows = append(rows, []string{strconv.FormatInt(r.ID, 10), when(r.Asked), r.State, shown(r.Who),
				count(r.Written.Objects),
				size(r.Written.Bytes), count(r.Removed.Objects), count(r.Failed), took})
			return len(rows) < c.Int("limit"), nil
		})
	if err != nil || a.json {
		return err
	}
	return a.table([]column{{"RUN", true}, {"ASKED", false}, {"STATE", false}, {"BY", false}, {"WROTE", true},
		{"BYTES", true},
		{"REMOVED", true}, {"FAILED", true}, {"TOOK", true}}, rows)
}

func (a *app) syncOutcomes(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var run int64
	if len(in) == 2 {
		if run, err = strconv.ParseInt(in[1], 10, 64); err != nil {
			return wrongUsage("%q is no run", in[1]).see(c)
		}
	} else if run, err = p.latestRun(ctx, in[0]); err != nil {
		return err
	}
	q := url.Values{}
	if c.Bool("failed") {
		q.Set("failed", "true")
	}
	var rows [][]string
	_, err = pages(ctx, p, fmt.Sprintf("%s%s/runs/%d/outcomes", syncsPath, url.PathEscape(in[0]), run), "outcomes", false,
		q,
		func(o api.SyncOutcomeInfo) (bool, error) {
			if a.json {
				if err := a.print(o, nil); err != nil {
					return false, err
				}
			}
			rows = append(rows, []string{o.Do, o.Why, size(o.Bytes), shown(o.Key), shown(o.Says)})
			return c.Int("limit") == 0 || len(rows) < c.Int("limit"), nil
		})
	if err != nil || a.json {
		return err
	}
	return a.table([]column{{"DID", false}, {"BECAUSE", false}, {"SIZE", true}, {"KEY", false}, {"FAILED", false}}, rows)
}
