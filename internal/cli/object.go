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
	"spindle/internal/core/fault"
)

func (a *app) objectCommand() *cli.Command {
	return &cli.Command{Name: "object", Usage: "put, get, list, show, annotate, restore, copy, rename and remove objects",
		Commands: []*cli.Command{
			a.objectPutCommand(),
			a.objectGetCommand(),
			a.objectListCommand(),
			a.objectTreeCommand(),
			a.objectShowCommand(),
			a.annotateCommand(), a.verifyCommand(), a.historyCommand(), a.restoreCommand(),
			a.objectCopyCommand(),
			a.objectFetchCommand(),
			a.objectRenameCommand(),
			a.objectRemoveCommand(),
		}}
}

func (a *app) objectPutCommand() *cli.Command {
	return &cli.Command{Name: "put", Usage: "put files, folders or standard input",
		ArgsUsage: "FILE|FOLDER|- ... BUCKET/KEY|BUCKET/PREFIX/",
		Description: "A target that ends with a slash, or is a bucket alone, is a prefix: files keep " +
			"their names beneath it, folders their inner paths. Large files are sent in parts, " +
			"several at a time. If the command is stopped, repeating it resumes. Files of a folder " +
			"that exist already, by size and digest, are not sent again, unless metadata, tags, a " +
			"type or a tier are named.\n\n" +
			examples("spindle object put ./FH-004217-recto.tif plates/2019/moorland/ --metadata taxon='Calluna vulgaris'",
				"spindle object put ./tray-07 germination/tray-07/ --parallel 8",
				"spindle object put ./FH-004217-recto.tif plates/2019/moorland/ --metadata-from ./FH-004217.yaml --tag state=checked", "tar c notes | spindle object put - field-notes/backup.tar"),
		Flags: []cli.Flag{parallelFlag(), &cli.StringSliceFlag{Name: "metadata", Usage: "`NAME=VALUE`, may be repeated"},
			&cli.StringFlag{Name: "tier", Usage: "tier to store it in; default: the bucket's"},
			&cli.StringFlag{Name: "metadata-from",
				Usage: "a `FILE` of name=value lines, or JSON or YAML by its ending; with a * in it, each file's own: '*.yaml' is the file's path with .yaml behind it"},
			&cli.StringFlag{Name: "multipart-above", Usage: "send files larger than `SIZE` in parts", Value: "16MiB"},
			&cli.StringFlag{Name: "part-size", Usage: "`SIZE` of parts, 5MiB to 5GiB; raised if 10,000 parts are " +
				"not enough",
				Value: "16MiB"},
			&cli.StringSliceFlag{Name: "tag", Usage: "`NAME=VALUE`, may be repeated; 10 at most"},
			&cli.StringFlag{Name: "content-type", Usage: "`TYPE`, for instance image/tiff; default: by the name's ending"},
			&cli.BoolFlag{Name: "if-absent", Usage: "refuse to overwrite an existing object"},
			&cli.BoolFlag{Name: "anew", Usage: "for a folder: also send files that are there already"}},
		Action: orThere(a.objectPut, a.objectPutThere)}
}

func (a *app) objectGetCommand() *cli.Command {
	return &cli.Command{Name: "get", Usage: "get an object, or all beneath a prefix",
		ArgsUsage: "BUCKET/KEY|BUCKET/PREFIX/ [FILE|FOLDER|-]",
		Description: "Every object is compared with its digest as it arrives. Existing files with the " +
			"right size and digest are left alone, so repeating the command resumes.\n\n" +
			examples("spindle object get plates/2019/moorland/FH-004217-recto.tif",
				"spindle object get germination/tray-07/ ./tray-07 --parallel 8",
				"spindle object get field-notes/2024/notes.txt - | less",
				"spindle object get plates/2019/ ./as-it-was --as-of 7d"),
		Flags: []cli.Flag{parallelFlag(), versionFlag(), asOfFlag(),
			&cli.BoolFlag{Name: "replace", Usage: "replace files that differ"}},
		Action: orThere(a.objectGet, a.objectGetThere)}
}

func (a *app) objectListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list what is beneath a prefix, folded at slashes",
		ArgsUsage: "BUCKET[/PREFIX]",
		Description: examples("spindle object list plates/2019/", "spindle object list germination --flat --limit 50",
			"spindle object list plates/2019/ --as-of '2026-11-20 14:00'", "spindle object list loans --versions"),
		Flags: []cli.Flag{asOfFlag(), &cli.BoolFlag{Name: "versions",
			Usage: "every version and delete marker of every key"},
			&cli.BoolFlag{Name: "flat", Usage: "every key, not folded"},
			&cli.IntFlag{Name: "limit", Usage: "maximum number of entries; 0 for all", Value: 1000,
				DefaultText: "1000; with --json all"},
			&cli.StringFlag{Name: "after", Usage: "start after this `KEY`"}},
		Action: orThere(a.objectList, a.objectListThere)}
}

func (a *app) objectTreeCommand() *cli.Command {
	return &cli.Command{Name: "tree", Usage: "show prefixes with their totals", ArgsUsage: "BUCKET[/PREFIX]",
		Description: examples("spindle object tree plates", "spindle object tree plates/2019/ --depth 3"),
		Flags:       []cli.Flag{asOfFlag(), &cli.IntFlag{Name: "depth", Usage: "how many levels", Value: 2}},
		Action:      a.objectTree}
}

func (a *app) objectShowCommand() *cli.Command {
	return &cli.Command{Name: "show", Usage: "show what is known of an object", ArgsUsage: "BUCKET/KEY",
		Description: examples("spindle object show plates/2019/moorland/FH-004217-recto.tif",
			"spindle object show loans/2026/FL-0366/specimens.csv --json"), Flags: []cli.Flag{versionFlag(), asOfFlag()},
		Action: orThere(a.objectShow, a.objectShowThere)}
}

func (a *app) objectCopyCommand() *cli.Command {
	return &cli.Command{Name: "copy", Usage: "copy an object, or all beneath a prefix, without moving bytes",
		ArgsUsage: "BUCKET/KEY BUCKET/KEY",
		Description: "From or to an endpoint, @ENDPOINT/BUCKET/KEY, the service moves the bytes and compares their digest.\n\n" +
			examples("spindle object copy plates/2019/ attic/plates-2019/",
				"spindle object copy @lowland-annex/plates/2019/ @old-mill/plates/2019/"),
		Flags: []cli.Flag{versionFlag(), &cli.BoolFlag{Name: "if-absent", Usage: "refuse to overwrite an existing object"},
			&cli.StringFlag{Name: "tier", Usage: "`TIER` of the copy, which moves its bytes; default: the source's"}},
		Action: orThere(func(ctx context.Context, c *cli.Command) error { return a.objectCopy(ctx, c, false) },
			a.objectCopyThere)}
}

func (a *app) objectFetchCommand() *cli.Command {
	return &cli.Command{Name: "fetch", Usage: "restore a version from a tier that is not read at once",
		ArgsUsage: "BUCKET/KEY",
		Description: "The copy is ready after the time that the tier takes, and stays for some days. " +
			"Repeat the command to keep it longer.\n\n" +
			examples("spindle object fetch plates/2019/moorland/FH-004217-recto.tif",
				"spindle object fetch plates/2019/moorland/FH-004217-recto.tif --days 14"),
		Flags: []cli.Flag{versionFlag(), &cli.IntFlag{Name: "days",
			Usage: "how long it stays; default: as the tier says"}},
		Action: a.objectFetch}
}

func (a *app) objectRenameCommand() *cli.Command {
	return &cli.Command{Name: "rename", Usage: "rename an object, or all beneath a prefix, without moving bytes",
		ArgsUsage: "BUCKET/KEY BUCKET/KEY",
		Description: "Both names show the history. Existing objects are overwritten only after you " +
			"confirm, or with --yes. The service renames a prefix: if the command is stopped, " +
			"repeating it resumes.\n\n" + examples("spindle object rename loans/draft.txt loans/2024/agreement.txt",
			"spindle object rename plates/incoming/ plates/2026/"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "for a prefix: only show what would be renamed"},
			yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error { return a.objectCopy(ctx, c, true) }}
}

func (a *app) objectRemoveCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "remove objects, or all beneath a prefix",
		ArgsUsage: "BUCKET/KEY|BUCKET/PREFIX/ ...",
		Description: examples("spindle object remove attic/old.txt", "spindle object remove attic/2019/ --rehearse",
			"spindle object remove loans/2026/FL-0366/specimens.csv --version 000008i5"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "version", Usage: "remove this version for good, by its `ID`"},
			&cli.BoolFlag{Name: "with-versions",
				Usage: "for a prefix: also remove previous versions and delete markers, for good"},
			&cli.BoolFlag{Name: "rehearse", Usage: "only show what would be removed"}, yesFlag()},
		Action: orThere(a.objectRemove, a.objectRemoveThere)}
}

func parallelFlag() cli.Flag {
	return &cli.IntFlag{Name: "parallel", Usage: "how many transfers at a time", Value: 4}
}

// split reads an address BUCKET/KEY or BUCKET.
func split(address string) (bucket, key string, err error) {
	if isLocal(address) {
		return "", "", wrongUsage("%q is a local path; an address is BUCKET/KEY", address)
	}
	if strings.HasPrefix(address, "@") {
		return "", "", fault.New(fault.Invalid, "address", "%q is at an endpoint, and this is done with what is here alone",
			address).In("address").Do("at an endpoint objects can be listed, shown, put, got, copied and removed")
	}
	bucket, key, _ = strings.Cut(address, "/")
	return bucket, key, nil
}

// oneAddress opens the service and gives the one address that the command names.
func (a *app) oneAddress(c *cli.Command) (p *desk, bucket, key string, err error) {
	in, err := args(c, 1, 1)
	if err != nil {
		return nil, "", "", err
	}
	if bucket, key, err = split(in[0]); err != nil {
		return nil, "", "", err
	}
	p, err = a.open(c)
	return p, bucket, key, err
}

func isLocal(s string) bool {
	return s == "-" || s == "." || s == ".." || strings.HasPrefix(s, "/") || strings.HasPrefix(s, "./") ||
		strings.HasPrefix(s, "../")
}

func (a *app) objectList(ctx context.Context, c *cli.Command) error {
	p, bucket, prefix, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	delimiter := "/"
	if c.Bool("flat") {
		delimiter = ""
	}
	after := c.String("after")
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	asOf, err := a.asOf(c)
	if err != nil {
		return err
	}
	if c.Bool("versions") {
		if asOf != "" {
			return wrongUsage("--versions lists all there is; --as-of shows one moment")
		}
		return a.listVersions(ctx, p, bucket, prefix, after, limit)
	}
	var rows [][]string
	var bytes int64
	n, last := 0, ""
	for {
		page, err := p.page(ctx, bucket, prefix, delimiter, after, asOf, min(1000, limit-n))
		if err != nil {
			return err
		}
		for _, e := range entries(page) {
			if n, bytes = n+1, bytes+e.bytes; !a.json {
				rows = append(rows, e.row)
			} else if err := a.print(e.is, nil); err != nil {
				return err
			}
		}
		last = page.Next
		if page.Next == "" || n >= limit {
			break
		}
		after = page.Next
	}
	if a.json {
		return a.cut(n, last)
	}
	if n == 0 {
		return a.nothingAsOf(ctx, p, bucket, prefix, asOf)
	}
	a.past(asOf)
	return a.listed(rows, bytes, last)
}

// listed shows what a listing holds, and where it goes on; "" for its end.
func (a *app) listed(rows [][]string, bytes int64, next string) error {
	if err := a.table([]column{{"SIZE", true}, {"CHANGED", false}, {"KEY", false}}, rows); err != nil {
		return err
	}
	if next != "" {
		return a.cut(len(rows), next)
	}
	a.note("%s, %s", things(int64(len(rows)), "entry", "entries"), size(bytes))
	return nil
}

// cut says beside a list, where somebody reads it, that more follows after a place; "" for none.
// A program is given all of a list unless it names a number itself.
func (a *app) cut(n int, after string) error {
	if after != "" && !a.json {
		a.note("%s shown, more follow: --after '%s', or a greater --limit", count(int64(n)), shown(after))
	}
	return nil
}

// entry is a line of a listing: an object, or a prefix with what is beneath it.
type entry struct {
	is    any
	bytes int64
	row   []string
}

// entries gives the objects and prefixes of a page in one order, as the keys have it.
func entries(page *api.ObjectPage) []entry {
	var out []entry
	prefixes := page.Prefixes
	until := func(key string) { // the prefixes before a key
		for len(prefixes) > 0 && (key == "" || prefixes[0] <= key) {
			e := entry{is: map[string]string{"prefix": prefixes[0]}, row: []string{"", "", shown(prefixes[0])}}
			if u, ok := page.Usage[prefixes[0]]; ok {
				e.bytes, e.row[0] = u.Bytes, size(u.Bytes)
			}
			out, prefixes = append(out, e), prefixes[1:]
		}
	}
	for _, o := range page.Objects {
		until(o.Key)
		out = append(out, entry{o, o.Size, []string{size(o.Size), when(o.Created), shown(o.Key)}})
	}
	until("")
	return out
}

// nothing says why a listing is empty.
func (a *app) nothing(ctx context.Context, p *desk, bucket, prefix string) error {
	b, err := p.bucket(ctx, bucket)
	if err != nil {
		return err
	}
	if prefix == "" && b.Usage.Previous > 0 {
		a.note("The bucket has no current objects, and keeps %s: list them with --versions, or list it --as-of a moment.",
			things(b.Usage.Previous, "previous version", "previous versions"))
		return nil
	}
	if prefix == "" {
		a.note("The bucket is empty. Put something in: spindle object put ./FILE %s/", bucket)
		return nil
	}
	a.note("Nothing lies beneath %s/%s.", bucket, shown(prefix))
	return exitOnly(ExitNotFound)
}

func (a *app) objectShow(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	asOf, err := a.asOf(c)
	if err != nil {
		return err
	}
	o, err := p.show(ctx, bucket, key, c.String("version"), asOf)
	if err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	return a.print(o, func() error { return a.printObject(bucket, o) })
}

func (a *app) printObject(bucket string, o *api.ObjectInfo) error {
	f := [][2]string{{"Object", shown(bucket + "/" + o.Key)}, {"Size", size(o.Size) + " (" + count(o.Size) + " bytes)"},
		{"Type", shown(o.ContentType)},
		{"Written", o.Created.Local().Format("2006-01-02 15:04:05") + " by " + o.CreatedBy}, {"Arrived", o.Arrived},
		{"Kept", kept(o)}, {"Tier", o.Tier}, {"ETag", o.ETag}}
	if o.Marker {
		return a.facts([][2]string{{"Object", shown(bucket + "/" + o.Key)}, {"Version", o.Version + ", a delete marker"},
			{"Deleted", o.Created.Local().Format("2006-01-02 15:04:05") + " by " + o.CreatedBy}})
	}
	if o.Version != "null" {
		f = slices.Insert(f, 1, [2]string{"Version", o.Version})
	}
	for _, d := range o.Digests {
		f = append(f, [2]string{d.Kind, d.Value})
	}
	f = append(f, [2]string{"Metadata", fmt.Sprintf("revision %d, %d of 2,048 bytes", o.Revision, o.MetadataBytes)})
	for _, name := range sortedKeys(o.Metadata) {
		f = append(f, [2]string{"  " + name, shown(o.Metadata[name])})
	}
	if says := lacksFact(o); says != "" {
		f = append(f, [2]string{"  lacks", shown(says)})
	}
	if len(o.Tags) > 0 {
		f = append(f, [2]string{"Tags", fmt.Sprintf("%d of 10", len(o.Tags))})
		for _, name := range sortedKeys(o.Tags) {
			f = append(f, [2]string{"  " + shown(name), shown(o.Tags[name])})
		}
	}
	if o.Of != nil {
		f = append(f, [2]string{"Replica of", shown(replicaSource(o.Of))})
	}
	for _, r := range o.Replicas {
		f = append(f, [2]string{"Copy by " + r.Rule, strings.TrimSuffix(r.State+", "+replicaSays(r, o.Size), ", ") + ", at " +
			shown(r.Target)})
	}
	return a.facts(f)
}

// orBeneath says how a deleted object is brought back, and shows what lies beneath a prefix that
// was asked for as an object.
func (a *app) orBeneath(ctx context.Context, p *desk, bucket, key string, err error) error {
	if fault.HasCode(err, "key-deleted") {
		f := fault.From(err)
		f.Remedy = fmt.Sprintf(
			"see its versions with spindle object history %s/%s; bring one back with spindle object restore and --version ID, or --as-of a time before it was deleted", bucket, shown(key))
		return a.withRemoval(ctx, p, bucket, key, f)
	}
	if fault.HasCode(err, "key-missing") {
		return a.withRemoval(ctx, p, bucket, key, err)
	}
	if !fault.HasCode(err, "key-is-prefix") || a.json {
		return err
	}
	prefix := strings.TrimSuffix(key, "/") + "/"
	page, lerr := p.page(ctx, bucket, prefix, "/", "", "", 12)
	if lerr != nil {
		return lerr
	}
	a.note("%s/%s is no object but a prefix. Beneath it:", bucket, shown(key))
	for _, f := range page.Prefixes {
		a.note("  %s", shown(f))
	}
	for _, o := range page.Objects {
		a.note("  %s  %s", shown(o.Key), size(o.Size))
	}
	if page.Next != "" {
		a.note("  and more")
	}
	a.note("  fix: spindle object list %s/%s, or get %s/%s for all of it", bucket, shown(prefix), bucket,
		shown(prefix))
	return exitOnly(ExitNotFound)
}

// withRemoval says of a key that is not there how its removal stands where it was copied to, and
// gives the error on.
func (a *app) withRemoval(ctx context.Context, p *desk, bucket, key string, is error) error {
	if a.json {
		return is
	}
	var past struct{ Chapters []api.Chapter }
	if err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/history"), url.Values{"key": {key}, "limit": {"1"}}, nil,
		&past); err == nil && len(past.Chapters) > 0 && len(past.Chapters[0].Went) > 0 {
		if w := past.Chapters[0].Went[0]; w.Key != "" {
			a.note("It was renamed on %s: see spindle object show %s", when(w.At), shown(w.Bucket+"/"+w.Key))
		}
	}
	var in api.ReplicasInfo
	if err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/replicas"), url.Values{"key": {key}}, nil,
		&in); err != nil {
		return is // the error is the answer; copies are for the bucket's account alone
	}
	for _, r := range in.Replicas {
		a.note("Its removal is %s by the rule %s, %s", r.State, r.Rule,
			strings.TrimPrefix(replicaSays(r, 0)+" at "+shown(r.Target), " "))
	}
	return is
}

// kept says how an object's bytes lie on the volume.
func kept(o *api.ObjectInfo) string {
	if o.Sealed {
		return o.Kept + ", encrypted"
	}
	return o.Kept
}

func (a *app) objectFetch(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	var r api.RestoredInfo
	if err := p.call(ctx, http.MethodPost, bucketCall(bucket, "/fetch"), nil,
		api.RestoreAsk{Key: key, Version: c.String("version"), Days: c.Int("days")}, &r); err != nil {
		return err
	}
	return a.print(r, func() error {
		says := "will be there at " + when(*r.Due)
		if r.Until != nil {
			says = "is there until " + when(*r.Until)
		}
		_, err := fmt.Fprintf(a.Out, "The restored copy of %s/%s %s.\n", bucket, shown(key), says)
		return err
	})
}
