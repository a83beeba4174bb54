package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Flags are made anew for each command: the parser keeps what was given in them.

func versionFlag() cli.Flag {
	return &cli.StringFlag{Name: "version", Usage: "a version by its `ID`, from the object's history"}
}

func asOfFlag() cli.Flag {
	return &cli.StringFlag{Name: "as-of",
		Usage: "the state at a `TIME`: '2026-11-20 14:00', RFC 3339, a date, or a time ago such as 36h or 7d"}
}

func versioningFlag() cli.Flag {
	return &cli.StringFlag{Name: "versioning", Usage: "`on`, off or paused: keep replaced and removed versions"}
}

func bucketTagFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "tag", Usage: "`NAME=VALUE`, may be repeated"}
}

// asOf reads the moment that a command names and gives it as the desk reads it.
func (a *app) asOf(c *cli.Command) (string, error) {
	s := c.String("as-of")
	if s == "" {
		return "", nil
	}
	t, err := object.ParseMoment(s, time.Now())
	if err != nil {
		return "", err
	}
	return t.Format(time.RFC3339Nano), nil
}

// past says that what follows is the past.
func (a *app) past(asOf string) {
	if t, err := time.Parse(time.RFC3339Nano, asOf); err == nil {
		a.note("As it stood on %s:", t.Local().Format("2006-01-02 at 15:04:05"))
	}
}

// nothingAsOf says why a listing is empty.
func (a *app) nothingAsOf(ctx context.Context, p *desk, bucket, prefix, asOf string) error {
	if asOf == "" {
		return a.nothing(ctx, p, bucket, prefix)
	}
	a.past(asOf)
	a.note("nothing was there.")
	return exitOnly(ExitNotFound)
}

// replaced says what becomes of an object that another takes the place of.
func replaced(versioning string) string {
	if versioning == "on" {
		return "Versioning is on: it becomes a previous version."
	}
	return "Versioning is " + versioning + ": it would be gone."
}

func (p *desk) prefixes(ctx context.Context, bucket string, limit int) ([]api.PrefixInfo, error) {
	var out struct{ Prefixes []api.PrefixInfo }
	err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/prefixes"), url.Values{"limit": {strconv.Itoa(limit)}}, nil,
		&out)
	return out.Prefixes, err
}

func (a *app) listVersions(ctx context.Context, p *desk, bucket, prefix, after string, limit int) error {
	var rows [][]string
	var next int64
	n := 0
	for {
		var page api.VersionPage
		q := url.Values{"prefix": {prefix}, "after": {after}, "afterVersion": {fmt.Sprint(next)},
			"limit": {fmt.Sprint(min(1000, limit-n))}}
		if err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/versions"), q, nil, &page); err != nil {
			return err
		}
		for _, v := range page.Versions {
			n++
			if a.json {
				if err := a.print(v, nil); err != nil {
					return err
				}
				continue
			}
			state, bytes := "previous", size(v.Size)
			switch {
			case v.Marker && v.Latest:
				state, bytes = "deleted", ""
			case v.Marker:
				state, bytes = "delete marker", ""
			case v.Latest:
				state = "current"
			}
			rows = append(rows, []string{v.Version, state, bytes, when(v.Created), v.By, shown(v.Key)})
		}
		if after, next = page.Next, page.NextVersion; after == "" || n >= limit {
			break
		}
	}
	if a.json {
		return a.cut(n, after)
	}
	if n == 0 {
		return a.nothing(ctx, p, bucket, prefix)
	}
	if err := a.table([]column{{"VERSION", false}, {"STATE", false}, {"SIZE", true}, {"WRITTEN", false}, {"BY", false},
		{"KEY", false}}, rows); err != nil {
		return err
	}
	if after != "" {
		a.note("%s shown, more follow: give a longer prefix, or a greater --limit", count(int64(n)))
	} else {
		a.note("%s", things(int64(n), "version", "versions"))
	}
	return nil
}

func (a *app) annotateCommand() *cli.Command {
	return &cli.Command{Name: "annotate", Usage: "change metadata and tags without another upload",
		ArgsUsage: "BUCKET/KEY",
		Description: "Each change creates the next revision of the version's metadata. With --if-revision the " +
			"change is made only if that is still the revision, so that you read, change and write safely.\n\n" +
			examples("spindle object annotate plates/2019/moorland/FH-004217-recto.tif --set taxon='Erica tetralix' --unset sheet", "spindle object annotate plates/2019/moorland/FH-004217-recto.tif --set licence='CC0 1.0' --if-revision 2", "spindle object annotate loans/2026/FL-0366/specimens.csv --tag state=returned"),
		Flags: []cli.Flag{versionFlag(), &cli.StringSliceFlag{Name: "set",
			Usage: "set the field `NAME=VALUE`, may be repeated"},
			&cli.StringSliceFlag{Name: "unset", Usage: "remove the field `NAME`"},
			&cli.StringSliceFlag{Name: "tag", Usage: "set the tag `NAME=VALUE`"},
			&cli.StringSliceFlag{Name: "untag", Usage: "remove the tag `NAME`"},
			&cli.StringFlag{Name: "metadata-from",
				Usage: "set the fields in a `FILE` of name=value lines, or JSON or YAML by its ending"},
			&cli.StringFlag{Name: "content-type", Usage: "the `TYPE` to serve it with"},
			&cli.IntFlag{Name: "if-revision", Usage: "only if the metadata is at revision `N`"}},
		Action: a.objectAnnotate}
}

func (a *app) objectAnnotate(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	set, err := pairs("set", c.StringSlice("set"))
	if err != nil {
		return err
	}
	if f := c.String("metadata-from"); f != "" {
		read, err := readFields(f)
		if err != nil {
			return err
		}
		set = object.Edit{Set: set}.Apply(object.Edit{Set: read}.Apply(nil, true), true)
	}
	tags, err := pairs("tag", c.StringSlice("tag"))
	if err != nil {
		return err
	}
	in := api.ObjectChange{Metadata: object.Edit{Set: set, Unset: c.StringSlice("unset")},
		Tags: object.Edit{Set: tags, Unset: c.StringSlice("untag")}}
	if err = readFlags(c, &in); err == nil {
		err = atRevision(c, &in)
	}
	if err != nil {
		return err
	}
	if in.ContentType == nil && len(set)+len(tags)+len(c.StringSlice("unset"))+len(c.StringSlice("untag")) == 0 {
		return wrongUsage("nothing to change was given").see(c)
	}
	var o api.ObjectInfo
	if err := p.call(ctx, http.MethodPatch, bucketCall(bucket, "/object"),
		url.Values{"key": {key}, "version": {c.String("version")}}, in, &o); err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	return a.print(o, func() error { return a.printObject(bucket, &o) })
}

func (a *app) historyCommand() *cli.Command {
	return &cli.Command{Name: "history",
		Usage: "show the history of a key: versions, deletions, metadata changes, renames", ArgsUsage: "BUCKET/KEY",
		Description: "Moves between tiers and permanent removals are in the bucket's journal: " +
			"spindle journal list BUCKET --prefix KEY.\n\n" +
			examples("spindle object history loans/2026/FL-0366/specimens.csv",
				"spindle object history plates/2019/moorland/FH-004217-recto.tif --follow-renames"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "follow-renames", Usage: "also under its earlier and later names"},
			&cli.IntFlag{Name: "limit", Usage: "maximum number of versions per name", Value: 100}},
		Action: a.objectHistory}
}

// event is a line of a history.
type event struct {
	Time     time.Time `json:"time"`
	Bucket   string    `json:"bucket"`
	Key      string    `json:"key"`
	Event    string    `json:"event"` // written, deleted, annotated, restored, renamed, copied, renamed away
	Version  string    `json:"version,omitempty"`
	Current  bool      `json:"current,omitempty"`
	Size     int64     `json:"size"`
	By       string    `json:"by"`
	Source   string    `json:"source,omitempty"`
	Says     string    `json:"says,omitempty"`
	Revision int       `json:"revision,omitempty"`
	order    int64
}

// events turns a chapter into lines, newest first.
func events(c api.Chapter) []event {
	var out []event
	for _, v := range c.Versions {
		e := event{Time: v.Created, Bucket: c.Bucket, Key: c.Key, Event: "written", Version: v.Version, Current: v.Latest,
			Size: v.Size, By: v.By, Source: v.Source, Revision: 1, order: v.Number}
		switch {
		case v.Marker:
			e.Event, e.Revision = "deleted", 0
		case v.Origin != nil:
			e.Event = v.Origin.How
			if e.Says = "from " + v.Origin.Bucket + "/" + v.Origin.Key; v.Origin.How == "restored" {
				e.Says = "from version " + v.Origin.Version
			}
		}
		for _, w := range c.Went {
			if v.Marker && w.At.Equal(v.Created) {
				e.Event, e.Says = "renamed away", "to "+w.Bucket+"/"+w.Key
			}
		}
		out = append(out, e)
		for i, r := range v.Revisions {
			after, tags := v.Metadata, v.Tags
			if i+1 < len(v.Revisions) {
				after, tags = v.Revisions[i+1].Before, v.Revisions[i+1].Tags
			}
			out = append(out, event{Time: r.At, Bucket: c.Bucket, Key: c.Key, Event: "annotated", Version: v.Version, By: r.By,
				Source: r.Source, Revision: r.Revision,
				Says: fmt.Sprintf("revision %d: %s", r.Revision, changedFields(r.Before, after, r.Tags, tags)), Size: v.Size,
				order: v.Number})
		}
	}
	for _, w := range c.Went {
		if c.Next > 0 && w.At.Before(c.Versions[len(c.Versions)-1].Created) {
			continue // it stands among the versions that are not here
		}
		if !slices.ContainsFunc(out, func(e event) bool { return e.Event == "renamed away" && e.Time.Equal(w.At) }) {
			out = append(out, event{Time: w.At, Bucket: c.Bucket, Key: c.Key, Event: "renamed away", By: w.By, Says: "to " +
				w.Bucket + "/" + w.Key})
		}
	}
	return out
}

// near shortens an address for a line about a key: beside it, its name will do.
func near(address, bucket, key string) string {
	folder := bucket + "/" + key[:strings.LastIndex(key, "/")+1]
	if name, ok := strings.CutPrefix(address, folder); ok && name != "" {
		return name
	}
	return strings.TrimPrefix(address, bucket+"/")
}

// changedFields names what a change of metadata and tags touched.
func changedFields(before, after map[string]string, tagsBefore, tagsAfter object.Tags) string {
	var names []string
	diff := func(kind string, before, after map[string]string) {
		for _, name := range sortedKeys(object.Edit{Set: after}.Apply(before, false)) {
			was, had := before[name]
			is, has := after[name]
			switch {
			case !has:
				names = append(names, "-"+kind+name)
			case !had:
				names = append(names, "+"+kind+name)
			case was != is:
				names = append(names, kind+name)
			}
		}
	}
	diff("", before, after)
	diff("tag ", tagsBefore, tagsAfter)
	if names == nil {
		return "headers"
	}
	return strings.Join(names, ", ")
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "restore an earlier version, or all beneath a prefix as it was",
		ArgsUsage: "BUCKET/KEY|BUCKET/PREFIX/|BUCKET",
		Description: "A copy of an earlier version becomes current; nothing is lost. A prefix or a whole bucket " +
			"is rehearsed first and then restored by the service: objects that existed then are restored, " +
			"others get a delete marker. You undo it the same way. If the command is stopped, repeating it " +
			"resumes.\n\n" +
			examples("spindle object restore loans/2026/FL-0366/specimens.csv --version 000008i5",
				"spindle object restore plates/2019/ --as-of '2026-11-20 14:00' --rehearse",
				"spindle object restore field-notes --as-of 36h"),
		Flags: []cli.Flag{versionFlag(), asOfFlag(), &cli.BoolFlag{Name: "rehearse",
			Usage: "for a prefix: only show what would be restored"}, yesFlag()},
		Action: a.objectRestore}
}

func (a *app) objectRestore(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	asOf, err := a.asOf(c)
	if err != nil {
		return err
	}
	version := c.String("version")
	if (version == "") == (asOf == "") {
		return wrongUsage("a restore needs --version ID or --as-of TIME").see(c)
	}
	if key == "" || strings.HasSuffix(key, "/") {
		if asOf == "" {
			return wrongUsage("--version is of one object; a prefix is restored --as-of a moment")
		}
		return a.restoreAll(ctx, c, p, bucket, key, asOf)
	}
	if c.Bool("rehearse") {
		return wrongUsage("--rehearse is for a prefix: of one object nothing is lost")
	}
	var o api.ObjectInfo
	if err := p.call(ctx, http.MethodPost, bucketCall(bucket, "/restore"), nil,
		api.RestoreVersionAsk{Key: key, Version: version, AsOf: asOf}, &o); err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "Restored %s, %s: it is version %s now, revision %d.\n", shown(bucket+"/"+o.Key),
			size(o.Size), o.Version, o.Revision)
		return err
	})
}

func (a *app) restoreAll(ctx context.Context, c *cli.Command, p *desk, bucket, prefix, asOf string) error {
	in := api.OrderIn{Kind: "restore", Bucket: bucket, Prefix: prefix, AsOf: asOf}
	var r api.Rehearsal
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders/rehearse", nil, in, &r); err != nil {
		return err
	}
	says := fmt.Sprintf("%s to bring back or set back, %s; %s to delete with a delete marker; %s unchanged.",
		things(r.Counts["restored"], "object", "objects"), size(r.Bytes), count(r.Counts["removed"]),
		count(r.Counts["unchanged"]))
	if c.Bool("rehearse") {
		return a.print(r, func() error {
			a.past(asOf)
			_, err := fmt.Fprintf(a.Out, "%s No bytes are moved.\n", says)
			return err
		})
	}
	if r.Counts["restored"]+r.Counts["removed"] == 0 {
		a.note("It stands as it stood then: nothing to do.")
		return a.print(r, func() error { return nil })
	}
	if err := a.confirm(c, says+" It can be undone the same way.",
		fmt.Sprint(r.Counts["restored"]+r.Counts["removed"])); err != nil {
		return err
	}
	o, err := a.follow(ctx, p, in, "restoring")
	if err != nil {
		return err
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out,
			"Restored %s, deleted %s, left %s as they were. To undo it: spindle object restore %s --as-of %s\n",
			things(o.Counts["restored"], "object", "objects"), count(o.Counts["removed"]), count(o.Counts["unchanged"]),
			shown(bucket+"/"+prefix), o.Began.Format("2006-01-02T15:04:05.000000Z"))
		return err
	})
}

func (a *app) renameAll(ctx context.Context, c *cli.Command, p *desk, bucket, prefix, toBucket, toPrefix string) error {
	if bucket == toBucket && strings.HasPrefix(toPrefix, prefix) {
		return wrongUsage("the target lies beneath the source")
	}
	in := api.OrderIn{Kind: "rename", Bucket: bucket, Prefix: prefix, ToBucket: toBucket, ToPrefix: toPrefix,
		Replace: c.Bool("yes")}
	var r api.Rehearsal
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders/rehearse", nil, in, &r); err != nil {
		return err
	}
	if r.Counts["renamed"] == 0 && !c.Bool("rehearse") {
		return a.nothing(ctx, p, bucket, prefix)
	}
	taken := ""
	if r.Taken > 0 {
		taken = fmt.Sprintf(" %s of the new keys are taken, the first is %s.", count(r.Taken), shown(toBucket+"/"+r.First))
	}
	if c.Bool("rehearse") {
		return a.print(r, func() error {
			_, err := fmt.Fprintf(a.Out, "Would rename %s, %s.%s No bytes are moved.\n",
				things(r.Counts["renamed"], "object", "objects"), size(r.Bytes), taken)
			return err
		})
	}
	if r.Taken > 0 && !in.Replace {
		if !a.Asks {
			return fault.New(fault.Precondition, "exists", "%s", strings.TrimSpace(taken)).In("target").
				Do("choose another prefix, or say --yes to replace what is there")
		}
		b, err := p.bucket(ctx, toBucket)
		if err != nil {
			return err
		}
		if err := a.confirm(c, strings.TrimSpace(taken)+" "+replaced(b.Versioning), "replace"); err != nil {
			return err
		}
		in.Replace = true
	}
	o, err := a.follow(ctx, p, in, "renaming")
	if err != nil {
		return err
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "Renamed %s, %s, from %s/%s to %s/%s; no bytes were moved.\n",
			things(o.Counts["renamed"], "object", "objects"), size(o.Bytes), bucket, shown(prefix), toBucket, shown(toPrefix))
		return err
	})
}

// follow gives an order and watches it to its end. Stopped, it stops the order,
// and the same command goes on.
func (a *app) follow(ctx context.Context, p *desk, in api.OrderIn, doing string) (o api.OrderInfo, err error) {
	if err := p.call(ctx, http.MethodPost, "/api/v1/orders", nil, in, &o); err != nil {
		return o, err
	}
	path := fmt.Sprintf("/api/v1/orders/%d", o.ID)
	bar := a.bar(doing, o.Total)
	for o.State == "running" {
		select {
		case <-ctx.Done():
			bar.stop()
			quick, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			if err := p.call(quick, http.MethodPost, path+"/stop", nil, nil, &o); err != nil &&
				!fault.HasCode(err, "order-state") {
				a.note("The service could not be told to stop; the work goes on there.")
				return o, err
			}
			a.note("Stopped after %s of %s; repeat the command to resume.", count(o.Done), count(o.Total))
			return o, exitOnly(ExitFailed)
		case <-time.After(150 * time.Millisecond):
		}
		if err := p.call(ctx, http.MethodGet, path, nil, nil, &o); err != nil && ctx.Err() == nil {
			bar.stop()
			a.note("The service goes on working; repeat the command to watch it.")
			return o, err
		}
		bar.at(o.Done)
	}
	bar.stop()
	if o.State != "done" {
		problem := o.Problem
		if problem == "" {
			problem = "somebody stopped it"
		}
		message, remedy, _ := strings.Cut(problem, ". Fix: ")
		return o, fault.New(fault.Conflict, "order-"+o.State, "%s after %s of %s: %s", o.State, count(o.Done), count(o.Total),
			message).In("order").Do("%s", strings.TrimPrefix(remedy+"; then repeat the command to resume", "; then "))
	}
	return o, nil
}

// removeVersion removes one version for good.
func (a *app) removeVersion(ctx context.Context, c *cli.Command, p *desk, address, id string) error {
	bucket, key, err := split(address)
	if err != nil {
		return err
	}
	o, err := p.show(ctx, bucket, key, id, "")
	if err != nil {
		return err
	}
	what := fmt.Sprintf("version %s of %s, %s, written %s", id, shown(address), size(o.Size), when(o.Created))
	if o.Marker {
		what = fmt.Sprintf("the delete marker %s of %s; what it hides comes back if it is the latest", id, shown(address))
	}
	var in api.RemoveIn
	in.Versions = append(in.Versions, struct {
		Key     string `json:"key"`
		Version string `json:"version"`
	}{key, id})
	if c.Bool("rehearse") {
		return a.print(o, func() error {
			_, err := fmt.Fprintf(a.Out, "Would remove %s, for good.\n", what)
			return err
		})
	}
	if err := a.confirm(c, fmt.Sprintf("This removes %s. It cannot be brought back.", what), id); err != nil {
		return err
	}
	q, err := p.remove(ctx, bucket, in)
	if err != nil {
		return err
	}
	return a.print(q, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s.\n", what)
		return err
	})
}
