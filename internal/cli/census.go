package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/runs"
)

const censusesPath = "/api/v1/censuses/"

func censusFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "of", Usage: "list this `BUCKET`, or what begins with BUCKET/PREFIX",
			DefaultText: "all buckets of the account"},
		&cli.StringFlag{Name: "where", Usage: "list only what matches this `EXPRESSION` of find; none for everything"},
		&cli.StringFlag{Name: "columns",
			Usage:       "these `COLUMNS`, with commas between them: also sealed, field NAME and tag NAME",
			DefaultText: strings.Join(census.Usual, ",")},
		&cli.StringFlag{Name: "format", Usage: "csv, json (an object a line) or parquet", DefaultText: "csv"},
		&cli.StringFlag{Name: "versions", Usage: "all or current: previous versions and delete markers too",
			DefaultText: "current"},
		&cli.StringFlag{Name: "schedule",
			Usage: "schedule: five fields such as `'30 2 * * *'`, or @daily, @weekly, @monthly; none: by hand only"},
		&cli.StringFlag{Name: "zone", Usage: "time `ZONE` of the schedule, such as Europe/Oslo", DefaultText: "UTC"},
		noteFlag("what it is for"),
	}
}

func (a *app) censusCommand() *cli.Command {
	run := &cli.Int64Flag{Name: "run", Usage: "use this `RUN`", DefaultText: "the latest that was written whole"}
	whereRows := &cli.StringFlag{Name: "where", Usage: "only rows that match this `EXPRESSION` of find"}
	change := append([]cli.Flag{&cli.StringFlag{Name: "to",
		Usage: "write it into this `BUCKET/PREFIX/` or @ENDPOINT/BUCKET/PREFIX/"},
		&cli.StringFlag{Name: "state", Usage: "on or off: run by its schedule"},
		&cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}}, censusFlags()...)
	return &cli.Command{Name: "census", Usage: "write complete lists of objects, and read them", Commands: []*cli.Command{
		a.censusCreateCommand(),
		a.censusListCommand(),
		{Name: "show", Usage: "show a census and its runs", ArgsUsage: "NAME",
			Description: examples("spindle census show plates-weekly", "spindle census show plates-weekly --json"),
			Action:      showing(a, censusesPath, a.showCensus)},
		{Name: "change", Usage: "change a census; only the given settings change", ArgsUsage: "NAME",
			Description: examples("spindle census change plates-weekly --schedule @daily",
				"spindle census change plates-weekly --state off"),
			Flags: change, Action: changing[api.CensusInfo, api.CensusUpdate](a, censusesPath, nil, a.showCensus)},
		a.censusRemoveCommand(),
		{Name: "run", Usage: "run a census now", ArgsUsage: "NAME",
			Description: examples("spindle census run plates-weekly", "spindle census run plates-weekly --detach"),
			Flags:       []cli.Flag{&cli.BoolFlag{Name: "detach", Usage: "do not wait for it"}}, Action: a.censusRun},
		{Name: "stop", Usage: "stop the run of a census", ArgsUsage: "NAME",
			Description: examples("spindle census stop plates-weekly", "spindle census stop plates-weekly --json"),
			Action:      a.censusStop},
		{Name: "read", Usage: "read the rows of a census", ArgsUsage: "NAME",
			Description: examples("spindle census read plates-weekly --where 'size over 20 MiB'",
				"spindle census read plates-weekly --csv > rows.csv"),
			Flags: []cli.Flag{run, whereRows, &cli.BoolFlag{Name: "csv", Usage: "as CSV (RFC 4180), all there are"},
				&cli.IntFlag{Name: "limit", Usage: "how many to list; 0 for all",
					DefaultText: "100; with --csv and --json all"}},
			Action: a.censusRead},
		{Name: "totals", Usage: "sum the rows of a census by a column", ArgsUsage: "NAME COLUMN",
			Description: "Keys are summed by the part before their first slash, moments by day.\n\n" +
				examples("spindle census totals plates-weekly type",
					"spindle census totals makers 'field collector' --where 'size over 1 MiB'"),
			Flags:  []cli.Flag{run, whereRows, &cli.IntFlag{Name: "limit", Value: 50, Usage: "how many values to list"}},
			Action: a.censusTotals},
		{Name: "compare", Usage: "compare with an earlier run: what came, went and changed", ArgsUsage: "NAME",
			Description: examples("spindle census compare plates-weekly",
				"spindle census compare plates-weekly --with 3 --only went --check"),
			Flags: []cli.Flag{run, &cli.Int64Flag{Name: "with", Usage: "the earlier `RUN`", DefaultText: "the one before"},
				&cli.StringFlag{Name: "with-census", Usage: "another `CENSUS` that the earlier run is of"},
				&cli.StringFlag{Name: "only", Usage: "list only what came, went or changed"},
				&cli.BoolFlag{Name: "check", Usage: "exit with code 5 if anything differs"},
				&cli.IntFlag{Name: "limit", Value: 100, Usage: "how many objects to list, up to 1,000"}},
			Action: a.censusCompare},
	}}
}

func (a *app) censusCreateCommand() *cli.Command {
	return &cli.Command{Name: "create", Usage: "create a census, and run it for the first time", ArgsUsage: "NAME INTO",
		Description: "All rows are of one moment. Each run writes its files into its own folder beneath " +
			"INTO, and a manifest, census.json, last.\n\n" +
			examples("spindle census create plates-weekly reports/ --of plates --schedule @weekly",
				"spindle census create large @lowland-annex/lists/ --where 'size over 20 MiB' --format parquet",
				"spindle census create makers reports/ --of plates --columns 'key,size,field taxon,field collector'"),
		Flags:  append(censusFlags(), &cli.BoolFlag{Name: "detach", Usage: "do not wait for the first run"}),
		Action: a.censusCreate}
}

func (a *app) censusListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list censuses with their last and next runs",
		Description: examples("spindle census list", "spindle census list --json"),
		Action: listing[api.CensusInfo]{path: "/api/v1/censuses", field: "censuses", row: censusRow,
			none: "There is no census yet: spindle census create NAME INTO.",
			columns: []column{{"CENSUS", false}, {"OF", false}, {"TO", false}, {"FORMAT", false}, {"LAST", false},
				{"ROWS", true},
				{"NEXT", false}}}.action(a)}
}

func (a *app) censusRemoveCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "remove a census; the files it wrote stay", ArgsUsage: "NAME",
		Description: examples("spindle census remove plates-weekly", "spindle census remove plates-weekly --yes"),
		Flags:       []cli.Flag{yesFlag()},
		Action: removing(a, "census", censusesPath, func(x api.CensusInfo) string {
			return fmt.Sprintf("The census %s goes with the record of its runs. What it wrote to %s stays.", x.Name, x.To)
		})}
}

// splitNames reads names with commas between them.
func splitNames(s string) (out []string) {
	for _, name := range strings.Split(s, ",") {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, name)
		}
	}
	return out
}

func (a *app) censusCreate(ctx context.Context, c *cli.Command) error {
	names, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	in := api.NewCensus{Name: names[0]}
	if err := readFlags(c, &in); err != nil {
		return err
	}
	in.To = &names[1]
	var x api.CensusInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/censuses", nil, in, &x); err != nil {
		return err
	}
	if c.Bool("detach") {
		return a.showCensus(ctx, p, x)
	}
	return a.watchCensus(ctx, p, x.Name, x.Last.ID)
}

func censusOf(x api.CensusInfo) string { return cmpOr(x.From, "all buckets") }

func censusRow(x api.CensusInfo) []string {
	last, rows, next := "never", "", "by hand"
	if r := x.Last; r != nil {
		last, rows = r.State+", "+when(censusWhen(r)), count(r.Rows)
	}
	switch {
	case !x.On:
		next = "off"
	case x.Next != nil:
		next = when(*x.Next)
	}
	return []string{x.Name, shown(censusOf(x)), shown(x.To), x.Format, last, rows, next}
}

// censusWhen gives since when a run is how it is.
func censusWhen(r *api.CensusRunInfo) time.Time {
	switch {
	case r.Ended != nil:
		return *r.Ended
	case r.Started != nil:
		return *r.Started
	}
	return r.Asked
}

func (a *app) showCensus(ctx context.Context, p *desk, x api.CensusInfo) error {
	return a.print(x, func() error {
		schedule := "by hand"
		if x.Schedule != "" {
			if schedule = x.Schedule + ", " + cmpOr(x.Zone, "UTC"); !x.On {
				schedule += "; off"
			}
		}
		lists := "current objects"
		if x.Versions {
			lists = "all versions and delete markers"
		}
		facts := [][2]string{{"Census", x.Name}, {"Note", orDash(shown(x.Note))},
			{"Lists", lists + " of " + shown(censusOf(x))},
			{"Where", orDash(shown(x.Where))}, {"Columns", shown(strings.Join(x.Columns, ", "))},
			{"Writes", x.Format + " to " + shown(x.To)},
			{"Schedule", schedule}}
		if x.Next != nil {
			facts = append(facts, [2]string{"Next", when(*x.Next)})
		}
		if err := a.facts(append(facts, [2]string{"Runs as", shown(x.ChangedBy)},
			[2]string{"Revision", strconv.Itoa(x.Revision)})); err != nil {
			return err
		}
		var rows [][]string
		if _, err := pages(ctx, p, censusesPath+url.PathEscape(x.Name)+"/runs", "runs", true, url.Values{"limit": {"10"}},
			func(r api.CensusRunInfo) (bool, error) {
				asOf := ""
				if r.AsOf != nil {
					asOf = when(*r.AsOf)
				}
				rows = append(rows, []string{strconv.FormatInt(r.ID, 10), r.State, asOf, count(r.Rows), size(r.Bytes), shown(r.Who),
					shown(r.Says)})
				return len(rows) < 10, nil
			}); err != nil || len(rows) == 0 {
			return err
		}
		fmt.Fprintln(a.Out)
		return a.table([]column{{"RUN", true}, {"STATE", false}, {"AS OF", false}, {"ROWS", true}, {"SIZE", true},
			{"ASKED BY", false},
			{"SAYS", false}}, rows)
	})
}

func (a *app) censusRun(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var r api.CensusRunInfo
	if err := p.call(ctx, http.MethodPost, censusesPath+url.PathEscape(name)+"/runs", nil, nil, &r); err != nil {
		return err
	}
	if c.Bool("detach") {
		return a.print(r, func() error {
			_, err := fmt.Fprintf(a.Out, "Run %d of %s is under way: spindle census show %s says how it stands.\n", r.ID, name,
				name)
			return err
		})
	}
	return a.watchCensus(ctx, p, name, r.ID)
}

// watchCensus waits for the end of a run, and says what it wrote.
func (a *app) watchCensus(ctx context.Context, p *desk, name string, run int64) error {
	path := censusesPath + url.PathEscape(name) + "/runs/" + strconv.FormatInt(run, 10)
	var r api.CensusRunInfo
	said := time.Now()
	for {
		if err := p.call(ctx, http.MethodGet, path, nil, nil, &r); err != nil {
			return err
		}
		if r.Ended != nil {
			break
		}
		if time.Since(said) > 2*time.Second && !a.json {
			said = time.Now()
			of := ""
			if r.Total > 0 {
				of = " of about " + count(r.Total)
			}
			a.note("%s%s; %s sent. %s", things(r.Rows, "row", "rows"), of, size(r.Sent), r.Says)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
	err := a.print(r, func() error { return a.censusRunFacts(&r) })
	if err == nil && r.State != string(runs.Done) {
		says := r.Says
		if says == "" {
			says = "somebody stopped it"
		}
		return fault.New(fault.Conflict, cmpOr(r.Code, "census-stopped"), "the census was not written: %s", says)
	}
	return err
}

func (a *app) censusRunFacts(r *api.CensusRunInfo) error {
	facts := [][2]string{{"Run", strconv.FormatInt(r.ID, 10)}, {"State", r.State}}
	if r.AsOf != nil {
		facts = append(facts, [2]string{"As of", r.AsOf.Local().Format("2006-01-02 15:04:05")})
	}
	facts = append(facts, [2]string{"Rows", count(r.Rows) + ", of " + size(r.Objects)},
		[2]string{"Files", things(int64(len(r.Files)), "file", "files") + ", " + size(r.Bytes) + ", in " + shown(r.To)})
	if r.Started != nil && r.Ended != nil {
		facts = append(facts, [2]string{"Took", r.Ended.Sub(*r.Started).Round(10 * time.Millisecond).String()})
	}
	return a.facts(facts)
}

func (a *app) censusStop(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var x api.CensusInfo
	if err := p.call(ctx, http.MethodGet, censusesPath+url.PathEscape(name), nil, nil, &x); err != nil {
		return err
	}
	if x.Last == nil || x.Last.Ended != nil {
		return fault.New(fault.Conflict, "census-idle", "no run of %s is under way", name).In("census")
	}
	if err := p.call(ctx, http.MethodPost, censusesPath+url.PathEscape(name)+"/runs/"+strconv.FormatInt(x.Last.ID,
		10)+"/stop", nil, nil,
		nil); err != nil {
		return err
	}
	return a.print(map[string]int64{"stopped": x.Last.ID}, func() error {
		_, err := fmt.Fprintf(a.Out, "Run %d of %s stops.\n", x.Last.ID, name)
		return err
	})
}

// runOf gives the path of the run that a command is about.
func runOf(c *cli.Command, name string) string {
	return censusesPath + url.PathEscape(name) + "/runs/" + strconv.FormatInt(c.Int64("run"), 10)
}

func (a *app) censusRead(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	limit := c.Int("limit")
	if !c.IsSet("limit") && !c.Bool("csv") && !a.json {
		limit = 100
	}
	var rows [][]string
	var heads []column
	out := csv.NewWriter(a.Out)
	out.UseCRLF = true // RFC 4180
	more, err := p.censusRows(ctx, runOf(c, name), c.String("where"), limit, func(columns, row []string) error {
		first := heads == nil
		for i := range columns {
			if first {
				heads = append(heads, column{strings.ToUpper(columns[i]), columns[i] == "size"})
			}
		}
		switch {
		case a.json:
			object := map[string]string{}
			for i, v := range row {
				object[columns[i]] = v
			}
			return a.print(object, nil)
		case c.Bool("csv"):
			if first {
				if err := out.Write(columns); err != nil {
					return err
				}
			}
			return out.Write(row)
		}
		for i := range row {
			row[i] = short(shown(row[i]))
		}
		rows = append(rows, row)
		return nil
	})
	out.Flush()
	if err = errors.Join(err, out.Error()); err != nil || a.json || c.Bool("csv") {
		return err
	}
	if len(rows) == 0 {
		a.note("No row matches.")
		return nil
	}
	if err := a.table(heads, rows); err != nil {
		return err
	}
	if more {
		a.note("There are more: --limit 0 for all.")
	}
	return nil
}

// short cuts a long value in a table.
func short(s string) string {
	const most = 48
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// censusRows calls f with each row of a run, as many as are wanted; 0 for all.
func (p *desk) censusRows(ctx context.Context, run, where string, limit int,
	f func(columns, row []string) error) (more bool, err error) {
	n := 0
	for after := ""; ; {
		page := 1000
		if limit > 0 {
			page = min(page, limit-n)
		}
		var answer api.CensusRows
		if err := p.call(ctx, http.MethodPost, run+"/rows", nil, api.CensusRowsAsk{Where: where, After: after,
			Limit: page}, &answer); err != nil {
			return false, err
		}
		for _, row := range answer.Rows {
			n++
			if err := f(answer.Columns, row); err != nil {
				return false, err
			}
		}
		if after = answer.Next; after == "" || limit > 0 && n >= limit {
			return after != "", nil
		}
	}
}

func (a *app) censusTotals(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var t api.CensusTotals
	if err := p.call(ctx, http.MethodPost, runOf(c, in[0])+"/totals", nil,
		api.CensusTotalsAsk{By: in[1], Where: c.String("where"), Limit: c.Int("limit")}, &t); err != nil {
		return err
	}
	return a.print(t, func() error {
		rows := make([][]string, len(t.Totals))
		for i, x := range t.Totals {
			rows[i] = []string{orDash(short(shown(x.Value))), count(x.Rows), size(x.Bytes)}
		}
		if err := a.table([]column{{strings.ToUpper(t.By), false}, {"ROWS", true}, {"SIZE", true}}, rows); err != nil {
			return err
		}
		a.note("%s, %s, %s", things(int64(t.Values), "value", "values"), things(t.Rows, "row", "rows"), size(t.Bytes))
		return nil
	})
}

func (a *app) censusCompare(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.CensusCompareAsk{With: c.Int64("with"), Census: c.String("with-census"), Only: c.String("only"),
		Limit: c.Int("limit")}
	var d api.CensusDifference
	if err := p.call(ctx, http.MethodPost, runOf(c, name)+"/compare", nil, in, &d); err != nil {
		return err
	}
	if err := a.print(d, func() error { return a.showDifference(&d) }); err != nil {
		return err
	}
	if d.Came+d.Went+d.Changed > 0 && c.Bool("check") {
		return exitOnly(ExitDifferent)
	}
	return nil
}

func (a *app) showDifference(d *api.CensusDifference) error {
	rows := make([][]string, len(d.List))
	for i, x := range d.List {
		at := x.Is
		if at == nil {
			at = x.Was
		}
		name, was, is := "", "", ""
		for c, column := range d.Columns {
			switch {
			case column == "bucket":
				name = at[c] + "/" + name
			case column == "key":
				name += at[c]
			}
			if len(x.Columns) > 0 && x.Columns[0] == column {
				was, is = x.Was[c], x.Is[c]
			}
		}
		what := ""
		if len(x.Columns) > 0 {
			what = fmt.Sprintf("%s: %s, was %s", x.Columns[0], orDash(short(is)), orDash(short(was)))
			if n := len(x.Columns) - 1; n > 0 {
				what += fmt.Sprintf("; and %s", things(int64(n), "other column", "other columns"))
			}
		}
		rows[i] = []string{x.Change, shown(name), shown(what)}
	}
	if len(rows) > 0 {
		if err := a.table([]column{{"CHANGE", false}, {"OBJECT", false}, {"WHAT", false}}, rows); err != nil {
			return err
		}
	}
	more := ""
	if d.More {
		more = " There are more than are listed."
	}
	a.note("From run %d (%s) to run %d (%s): %s came, %s went, %s changed.%s", d.Was.ID, when(*d.Was.AsOf), d.Is.ID,
		when(*d.Is.AsOf),
		count(d.Came), count(d.Went), count(d.Changed), more)
	return nil
}
