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
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

const findHelp = `Tests are joined by and, or, not and brackets:

  size over 100 MiB and changed before 2026-01-01
  key like "*.tif" and (field taxon begins with Drosera or lacks field collector)

  bucket key type tier writer md5 crc64   is, is not, is one of A, B, begins with, ends with,
                                          contains, like PATTERN
  size                                    over, under, at least, at most, is, between A and B
  age                                     the same, such as over 30 days
  changed                                 before, after, on, between: 2026-11-20, "2026-11-20 14:00", 7d ago
  field NAME, tag NAME                    metadata and tags: as words, or over, under ... as numbers;
                                          has field NAME, lacks tag NAME
  sealed, current, replication is failed`

const savedFindsPath = "/api/v1/find/saved"

func (a *app) findCommand() *cli.Command {
	return &cli.Command{Name: "find", Usage: "find objects by name, size, age, metadata and tags", ArgsUsage: "EXPRESSION",
		Commands: []*cli.Command{
			a.findIndexCommand(),
			a.findRebuildCommand(),
			a.findSaveCommand(),
			a.findSavedCommand(),
			{Name: "forget", Usage: "forget a question", ArgsUsage: "NAME", Description: examples("spindle find forget large",
				"spindle find forget large --json"),
				Action: a.forgetSaved(savedFindsPath)},
		},
		Description: "Looks through all buckets that one may list and read, or through those named, by key. What was acknowledged " +
			"before is in the answer. What was changed or removed since a moment stands in the journal: spindle journal list --since 7d.\n\n" + findHelp + "\n\n" +
			examples("spindle find 'size over 20 MiB and not tag checked is yes'",
				"spindle find 'field taxon begins with Drosera' --bucket plates --show taxon,collector",
				"spindle find 'lacks field collector' --bucket plates --count",
				"spindle find 'size over 1 MiB' --sort largest --limit 10",
				"spindle find 'key begins with 2019/' --bucket plates --group-by 'field collector'",
				"spindle find 'tag checked is no' --bucket plates --as-of 7d",
				"spindle find 'age over 2 years' --bucket plates --move-to cellar --rehearse",
				"spindle find 'field licence is mine' --bucket plates --annotate 'licence=CC0 1.0'",
				"spindle find 'age over 1 year' --csv > old.csv"),
		Flags:  findFlags(),
		Action: a.find}
}

func (a *app) findIndexCommand() *cli.Command {
	return &cli.Command{Name: "index", Usage: "show the indexes for finding in large buckets",
		Description: "Without one find looks at objects, some 300,000 a second.\n\n" +
			examples("spindle find index", "spindle find index --json"),
		Action: a.findIndex}
}

func (a *app) findRebuildCommand() *cli.Command {
	return &cli.Command{Name: "rebuild", Usage: "rebuild the index of a bucket", ArgsUsage: "BUCKET",
		Description: "The index is built from the catalog, and nothing is lost. Until it is ready, find " +
			"looks at objects.\n\n" +
			examples("spindle find rebuild plates", "spindle find rebuild plates --json"),
		Action: a.findRebuild}
}

func (a *app) findSaveCommand() *cli.Command {
	return &cli.Command{Name: "save", Usage: "save a question under a name", ArgsUsage: "NAME EXPRESSION",
		Description: examples("spindle find save large 'size over 20 MiB'",
			"spindle find save unchecked 'not tag checked is yes' --bucket plates"),
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "bucket", Usage: "only in this `BUCKET`; may be repeated"},
			&cli.BoolFlag{Name: "versions", Usage: "previous versions too"}}, Action: a.findSave}
}

func (a *app) findSavedCommand() *cli.Command {
	return &cli.Command{Name: "saved", Usage: "list saved questions", Description: examples("spindle find saved",
		"spindle find saved --json"),
		Action: listing[api.SavedFind]{path: savedFindsPath, field: "finds",
			none:    "No question is kept: spindle find save NAME EXPRESSION.",
			columns: []column{{"NAME", false}, {"QUESTION", false}, {"IN", false}, {"SAVED BY", false}},
			row: func(f api.SavedFind) []string {
				return []string{f.Name, shown(f.Expression), cmpOr(strings.Join(f.Buckets, ", "), "all buckets"), shown(f.By)}
			}}.action(a)}
}

func findFlags() []cli.Flag {
	return local(&cli.StringSliceFlag{Name: "bucket", Usage: "only in this `BUCKET`; may be repeated"},
		&cli.BoolFlag{Name: "versions", Usage: "previous versions too"},
		&cli.StringSliceFlag{Name: "show", Usage: "also show these metadata `FIELDS`, separated by commas"},
		&cli.BoolFlag{Name: "count", Usage: "only count objects and bytes"},
		&cli.StringFlag{Name: "group-by",
			Usage: "count objects and bytes by `WHAT`: field NAME, tag NAME, type, tier, or the year, month or day of writing"},
		&cli.BoolFlag{Name: "csv", Usage: "as CSV (RFC 4180), all there are"},
		&cli.IntFlag{Name: "limit", Usage: "how many to list; 0 for all", DefaultText: "100; with --csv and --json all"},
		&cli.StringFlag{Name: "after", Usage: "continue from this `PLACE`, which a cut list tells"},
		&cli.StringFlag{Name: "as-of", Usage: "search the objects as they were at this `MOMENT`"},
		&cli.StringFlag{Name: "sort", Value: "key", Usage: "order: key; or the first of all by size, largest, " +
			"changed, latest"},
		&cli.StringSliceFlag{Name: "annotate", Usage: "set a metadata `FIELD=VALUE` on all matches; may be repeated"},
		&cli.StringSliceFlag{Name: "unset", Usage: "remove a metadata `FIELD`; may be repeated"},
		&cli.StringSliceFlag{Name: "tag", Usage: "set a `TAG=VALUE`; may be repeated"},
		&cli.StringSliceFlag{Name: "untag", Usage: "remove a `TAG`; may be repeated"},
		&cli.StringFlag{Name: "move-to", Usage: "move all matches to this `TIER`"},
		&cli.StringFlag{Name: "copy-to", Usage: "copy all matches to this `BUCKET/PREFIX/`; existing objects stay"},
		&cli.BoolFlag{Name: "remove", Usage: "remove all matches"},
		&cli.StringFlag{Name: "put-back", Usage: "restore all matches to their state at this `MOMENT`"},
		&cli.BoolFlag{Name: "rehearse", Usage: "show what would be done and to how much; nothing is changed"}, yesFlag(),
		&cli.StringFlag{Name: "saved", Usage: "use the saved question `NAME`"})
}

func (a *app) find(ctx context.Context, c *cli.Command) error {
	p, ask, err := a.question(ctx, c)
	if err != nil {
		return err
	}
	ask.AsOf, ask.Sort = c.String("as-of"), c.String("sort")
	if act := givenAct(c); act != "" {
		return a.findAct(ctx, c, p, ask, act)
	}
	if by := c.String("group-by"); by != "" {
		err = a.findGroups(ctx, c, p, ask, by)
	} else if c.Bool("count") {
		err = a.findCount(ctx, p, ask)
	} else {
		err = a.findList(ctx, c, p, ask)
	}
	var f *fault.Error
	if errors.As(err, &f) && f.At != nil && !a.json {
		a.pointAt(ask.Expression, *f.At)
	}
	return err
}

// pointAt shows where in an expression something is wrong.
func (a *app) pointAt(expression string, at int) {
	if strings.ContainsAny(expression, "\n\t") || at > len(expression) {
		return
	}
	before := utf8.RuneCountInString(expression[:at])
	a.note("  %s\n  %s^", shown(expression), strings.Repeat(" ", before))
}

// findGroups counts what is found by the values of a field.
func (a *app) findGroups(ctx context.Context, c *cli.Command, p *desk, ask api.FindAsk, by string) error {
	limit := c.Int("limit")
	switch {
	case !c.IsSet("limit") && !a.json && !c.Bool("csv"):
		limit = 100
	case limit == 0:
		limit = 10_000
	}
	var out struct {
		Groups  []api.FindGroup `json:"groups"`
		Objects int64           `json:"objects"`
		Bytes   int64           `json:"bytes"`
		More    int             `json:"more,omitempty"`
	}
	if err := p.call(ctx, http.MethodPost, "/api/v1/find/groups", nil, struct {
		api.FindAsk
		By    string `json:"by"`
		Limit int    `json:"limit"`
	}{ask, by, limit}, &out); err != nil {
		return err
	}
	if c.Bool("csv") {
		w := csv.NewWriter(a.Out)
		rows := [][]string{{by, "objects", "bytes"}}
		for _, g := range out.Groups {
			value := ""
			if g.Value != nil {
				value = *g.Value
			}
			rows = append(rows, []string{value, plain(g.Objects), plain(g.Bytes)})
		}
		return w.WriteAll(rows)
	}
	return a.print(out, func() error {
		if out.Objects == 0 {
			a.note("No object matches.")
			return nil
		}
		var rows [][]string
		for _, g := range out.Groups {
			value := "(none)"
			if g.Value != nil {
				value = shown(*g.Value)
			}
			rows = append(rows, []string{count(g.Objects), size(g.Bytes), value})
		}
		if err := a.table([]column{{"OBJECTS", true}, {"SIZE", true}, {strings.ToUpper(by), false}}, rows); err != nil {
			return err
		}
		says := things(out.Objects, "object", "objects") + ", " + size(out.Bytes)
		if out.More > 0 {
			says += fmt.Sprintf("; %s more: --limit 0 for all", things(int64(out.More), "value", "values"))
		}
		a.note("%s", says)
		return nil
	})
}

func (a *app) findCount(ctx context.Context, p *desk, ask api.FindAsk) error {
	var sum struct {
		Objects int64 `json:"objects"`
		Bytes   int64 `json:"bytes"`
	}
	if err := p.call(ctx, http.MethodPost, "/api/v1/find/count", nil, ask, &sum); err != nil {
		return err
	}
	return a.print(sum, func() error {
		_, err := fmt.Fprintf(a.Out, "%s, %s\n", things(sum.Objects, "object", "objects"), size(sum.Bytes))
		return err
	})
}

// findPages calls f with what is found until it says that it is enough. It gives the place
// after the last one.
func (p *desk) findPages(ctx context.Context, ask api.FindAsk, after string, limit int,
	f func(api.FoundObject) error) (next string, err error) {
	n := 0
	for {
		page := 1000
		if limit > 0 {
			page = min(page, limit-n)
		}
		var answer api.FindAnswer
		if err := p.call(ctx, http.MethodPost, "/api/v1/find", nil, struct {
			api.FindAsk
			After string `json:"after,omitempty"`
			Limit int    `json:"limit"`
		}{ask, after, page}, &answer); err != nil {
			return "", err
		}
		p.hints = answer.Hints
		for _, o := range answer.Objects {
			n++
			if err := f(o); err != nil {
				return "", err
			}
		}
		if after = answer.Next; after == "" || limit > 0 && n >= limit {
			return after, nil
		}
	}
}

func (a *app) findList(ctx context.Context, c *cli.Command, p *desk, ask api.FindAsk) error {
	var show []string
	for _, s := range c.StringSlice("show") {
		show = append(show, strings.Split(s, ",")...)
	}
	limit := c.Int("limit")
	if !c.IsSet("limit") && !c.Bool("csv") && !a.json {
		limit = 100
	}
	if c.Bool("csv") {
		return a.findCSV(ctx, p, ask, c.String("after"), limit, show)
	}
	var rows [][]string
	var bytes int64
	next, err := p.findPages(ctx, ask, c.String("after"), limit, func(o api.FoundObject) error {
		if a.json {
			return a.print(o, nil)
		}
		bytes += o.Size
		row := []string{size(o.Size), when(o.Created)}
		if ask.Versions {
			row = append(row, map[bool]string{true: "current", false: "previous"}[o.Current])
		}
		for _, name := range show {
			row = append(row, shown(o.Metadata[name]))
		}
		rows = append(rows, append(row, shown(o.Bucket+"/"+o.Key)))
		return nil
	})
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 && next == "" {
		a.note("No object matches.")
		for _, h := range p.hints {
			a.note("  %s", shown(h))
		}
		return nil
	}
	columns := []column{{"SIZE", true}, {"CHANGED", false}}
	if ask.Versions {
		columns = append(columns, column{"VERSION", false})
	}
	for _, name := range show {
		columns = append(columns, column{strings.ToUpper(name), false})
	}
	if err := a.table(append(columns, column{"OBJECT", false}), rows); err != nil {
		return err
	}
	says := things(int64(len(rows)), "object", "objects") + ", " + size(bytes)
	if next != "" {
		says += "; there may be more: --limit 0 for all, --count to count them, or go on with\n  --after " + next
	}
	a.note("%s", says)
	return nil
}

func (a *app) findCSV(ctx context.Context, p *desk, ask api.FindAsk, after string, limit int, show []string) error {
	w := csv.NewWriter(a.Out)
	w.UseCRLF = true // RFC 4180
	if err := w.Write(append([]string{"bucket", "key", "size", "changed", "type", "tier", "version", "current", "etag"},
		show...)); err != nil {
		return err
	}
	_, err := p.findPages(ctx, ask, after, limit, func(o api.FoundObject) error {
		row := []string{o.Bucket, o.Key, strconv.FormatInt(o.Size, 10), o.Created.UTC().Format(time.RFC3339Nano),
			o.ContentType, o.Tier,
			o.Version, strconv.FormatBool(o.Current), o.ETag}
		for _, name := range show {
			row = append(row, o.Metadata[name])
		}
		return w.Write(row)
	})
	w.Flush()
	return errors.Join(err, w.Error())
}

func (a *app) findIndex(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var x struct {
		Indexes []api.FindIndexInfo `json:"indexes"`
		Behind  int                 `json:"behind"`
	}
	if err := p.call(ctx, http.MethodGet, "/api/v1/find/indexes", nil, nil, &x); err != nil {
		return err
	}
	return a.print(x, func() error {
		if len(x.Indexes) == 0 {
			a.note("No bucket has an index: none is large enough to need one.")
			return nil
		}
		rows := make([][]string, len(x.Indexes))
		for i, n := range x.Indexes {
			built, each := "", ""
			if n.Built != nil {
				built = when(*n.Built)
			}
			if n.Objects > 0 {
				each = fmt.Sprintf("%.1f B", float64(n.Bytes)/float64(n.Objects))
			}
			rows[i] = []string{n.Bucket, n.State, count(n.Objects), size(n.Bytes), each, strconv.Itoa(n.Segments), built}
		}
		if err := a.table([]column{{"BUCKET", false}, {"STATE", false}, {"OBJECTS", true}, {"SIZE", true},
			{"AN OBJECT", true}, {"SEGMENTS", true},
			{"BUILT", false}}, rows); err != nil {
			return err
		}
		a.note("They are %s of the journal behind, of which find looks at the objects.",
			things(int64(x.Behind), "entry", "entries"))
		return nil
	})
}

func (a *app) findRebuild(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPost, "/api/v1/find/indexes/"+url.PathEscape(name)+"/rebuild", nil, nil,
		nil); err != nil {
		return err
	}
	return a.print(map[string]string{"rebuilds": name}, func() error {
		_, err := fmt.Fprintf(a.Out, "The index of %s is built anew: spindle find index says how far it is.\n", name)
		return err
	})
}
